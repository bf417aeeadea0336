// This file moves laptops and people to other units, and units below others.

package workflow

import (
	"context"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// putAll puts many edits into a change at once, if the estate is still well-formed with all of
// them. An edit that is there already for one of the objects is replaced. made gets the estate with
// the change in it.
func (s *AudienceService) putAll(
	ctx context.Context,
	by Actor,
	change, action string,
	made func(s *estate.Snapshot) ([]EditInput, error),
) (int, error) {
	n := 0
	err := s.changes.alter(ctx, by, change, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		record := store.AuditRecord{Action: action}
		edits, err := tx.Edits(change)
		if err != nil {
			return record, err
		}
		live := s.Live()
		before, err := s.changes.wellFormed(ctx, live, edits, change)
		if err != nil {
			return record, err
		}
		inputs, err := made(before)
		if err != nil {
			return record, err
		}
		at := make(map[objectKey]int, len(edits))
		for i, e := range edits {
			at[objectKey{estate.Kind(e.Kind), e.ObjectID}] = i
		}
		next := make([]store.Edit, 0, len(inputs))
		for _, in := range inputs {
			if err := reasoned(live, in); err != nil {
				return record, err
			}
			body, err := s.changes.canonical(ctx, in, s.changes.definitionsWith(live, edits))
			if err != nil {
				return record, err
			}
			e := store.Edit{
				ChangeID:    change,
				Kind:        string(in.Kind),
				ObjectID:    in.ID,
				Retire:      in.Retire,
				Body:        body,
				BaseVersion: live.Version(in.Kind, in.ID),
				Version:     1,
				By:          by.Name,
				At:          s.now(),
			}
			i, there := at[objectKey{in.Kind, in.ID}]
			if there {
				e.BaseVersion, e.Version = edits[i].BaseVersion, edits[i].Version+1
			}
			if err := s.keepLocal(ctx, live, &e); err != nil {
				return record, err
			}
			if there {
				edits[i] = e
			} else {
				edits = append(edits, e)
			}
			next = append(next, e)
		}
		after, err := s.changes.wellFormed(ctx, live, edits, change)
		if err != nil {
			return record, err
		}
		if err := s.checkScope(by, access.Write, live, after, next...); err != nil {
			return record, err
		}
		n = len(next)
		record.After = fmt.Sprintf("%d edits", n)
		return record, tx.SaveEdits(next...)
	})
	return n, err
}

func inputOf(kind estate.Kind, object any) (EditInput, error) {
	body, err := files.EncodeJSON(object)
	return EditInput{Kind: kind, ID: files.ObjectID(object), Body: body}, err
}

// MaxMoved bounds how many laptops are moved with one call.
const MaxMoved = 20_000

// Move puts edits into a change that give laptops another unit of their own; with an empty unit
// they follow their owners again.
func (s *AudienceService) Move(ctx context.Context, by Actor, change string, devices []string, unit string) (int, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return 0, err
	}
	if len(devices) == 0 || len(devices) > MaxMoved {
		return 0, problem.Faults{
			{Code: problem.OutOfRange, Path: "/devices", Found: fmt.Sprint(len(devices)), Expected: fmt.Sprintf("1 to %d laptops", MaxMoved)},
		}
	}
	return s.putAll(ctx, by, change, "move devices", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		snapshot = snapshot.Indexed(snapshot)
		var inputs []EditInput
		var faults problem.Faults
		for i, id := range devices {
			d := snapshot.Device(estate.DeviceID(id))
			if d == nil {
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.UnknownReference,
						Path:     problem.Join("/devices", i),
						Found:    problem.Quote(id),
						Expected: "the id of a device of this estate",
					},
				)
				continue
			}
			if string(d.Unit) == unit {
				continue
			}
			moved := *d
			moved.Unit = estate.UnitID(unit)
			in, err := inputOf(estate.KindDevice, moved)
			if err != nil {
				return nil, err
			}
			inputs = append(inputs, in)
		}
		if faults != nil {
			return nil, faults
		}
		return inputs, nil
	})
}

// MoveUnit puts an edit into a change that puts a unit, with all below it, below another.
func (s *AudienceService) MoveUnit(ctx context.Context, by Actor, change, unit, parent string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	_, err := s.putAll(ctx, by, change, "move unit", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		at := slices.IndexFunc(snapshot.Units, func(u estate.Unit) bool { return string(u.ID) == unit })
		if at < 0 {
			return nil, &NotFoundError{"unit", unit}
		}
		moved := snapshot.Units[at]
		if moved.Parent == "" {
			return nil, problem.Faults{{Code: problem.ManyRoots, Path: "/unit", Found: "the organisation itself", Expected: "a unit below it"}}
		}
		moved.Parent = estate.UnitID(parent)
		in, err := inputOf(estate.KindUnit, moved)
		return []EditInput{in}, err
	})
	return err
}
