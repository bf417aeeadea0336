// This file has the use cases of the edits of a change: put one in, take one out, let one replace
// what overtook it.

package workflow

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// EditInput is an edit to be put into a change.
type EditInput struct {
	Kind   estate.Kind
	ID     string
	Body   []byte // JSON in the estate format; empty: retire
	Retire bool
	// Expected is the version of the edit that is altered: 0 when there is none yet, -1 when none
	// was named.
	Expected int64
}

// editable are the kinds that people edit in changes. What a source imported can be edited too: the
// fields that differ are kept from it.
var editable = map[estate.Kind]bool{
	estate.KindPolicy:       true,
	estate.KindGroup:        true,
	estate.KindRuling:       true,
	estate.KindException:    true,
	estate.KindSetting:      true,
	estate.KindCheck:        true,
	estate.KindUnit:         true,
	estate.KindDevice:       true,
	estate.KindPerson:       true,
	estate.KindRolloutPlan:  true,
	estate.KindApprovalRule: true,
	estate.KindBaseline:     true,
}

// PutEdit puts an edit into an open change, if the estate is still well-formed with it.
func (s *ChangeService) PutEdit(ctx context.Context, by Actor, change string, in EditInput) (store.Edit, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return store.Edit{}, err
	}
	if !editable[in.Kind] {
		return store.Edit{}, &NotFoundError{"editable kind of object", string(in.Kind)}
	}
	in, err := s.boundTo(by, in)
	if err != nil {
		return store.Edit{}, err
	}
	object, err := decoded(in)
	if err != nil { // before the change is looked at: a body that is no object is the caller's fault in any case
		return store.Edit{}, err
	}
	if err := approvedByAnother(by, in); err != nil {
		return store.Edit{}, err
	}
	var saved store.Edit
	var over *laid
	err = s.alter(ctx, by, change, func(tx *store.Store, c *store.Change) (store.AuditRecord, error) {
		edits, err := tx.Edits(change)
		if err != nil {
			return store.AuditRecord{}, err
		}
		live := s.Live()
		if err := reasoned(live, in); err != nil {
			return store.AuditRecord{}, err
		}
		if err := live.toldOtherwise(object); err != nil {
			return store.AuditRecord{}, err
		}
		body, err := s.canonical(ctx, in, s.definitionsWith(live, edits))
		if err != nil {
			return store.AuditRecord{}, err
		}
		now := s.now()
		next := store.Edit{
			ChangeID:    change,
			Kind:        string(in.Kind),
			ObjectID:    in.ID,
			Retire:      in.Retire,
			Body:        body,
			BaseVersion: live.Version(in.Kind, in.ID),
			Version:     1,
			By:          by.Name,
			At:          now,
		}
		before := ""
		at := -1
		for i, e := range edits {
			if e.Kind == next.Kind && e.ObjectID == next.ObjectID {
				at, before = i, e.Body
				if err := staleEdit(e, in.Expected); err != nil {
					return store.AuditRecord{}, err
				}
				next.BaseVersion, next.Version = e.BaseVersion, e.Version+1
			}
		}
		switch {
		case at < 0 && in.Expected > 0:
			return store.AuditRecord{}, &StaleError{What: "the edit of " + in.ID, By: "somebody who took it out " +
				"of the change", At: c.UpdatedAt}
		case at < 0:
			edits = append(edits, next)
		default:
			edits[at] = next
		}
		if err := s.keepLocal(ctx, live, &next); err != nil {
			return store.AuditRecord{}, err
		}
		if at >= 0 {
			edits[at] = next
		} else {
			edits[len(edits)-1] = next
		}
		if in.Retire && live.versions.of(objectKey{in.Kind, in.ID}) == 0 {
			return store.AuditRecord{}, &NotFoundError{string(in.Kind), in.ID}
		}
		if over, err = s.lay(ctx, live, edits, s.knownLaid(change)); err != nil {
			return store.AuditRecord{}, err
		}
		over.version = c.Version + 1
		faults := over.faults
		if in.Retire {
			faults = inUse(in, faults)
		}
		if len(faults) > 0 {
			return store.AuditRecord{}, faults
		}
		if err := s.checkScope(by, access.Write, live, over.snapshot, next); err != nil {
			return store.AuditRecord{}, err
		}
		saved = next
		action := "edit"
		if in.Retire {
			action = "edit: retire"
		}
		return store.AuditRecord{Action: action, Kind: next.Kind, ObjectID: next.ObjectID, Before: before, After: body}, tx.SaveEdits(next)
	})
	if err == nil {
		s.keepLaid(change, over)
	}
	return saved, err
}

func staleEdit(e store.Edit, expected int64) error {
	switch expected {
	case e.Version:
		return nil
	case -1:
		return &NeedVersionError{"the edit of " + e.ObjectID}
	}
	return &StaleError{"the edit of " + e.ObjectID, e.Version, e.By, e.At}
}

// decoded reads the body of an edit by itself; nil where it retires.
func decoded(in EditInput) (any, error) {
	if in.Retire {
		return nil, nil
	}
	object, id, err := files.DecodeJSON(in.Kind, in.Body)
	if err != nil {
		return nil, err
	}
	if id != in.ID {
		return nil, problem.Faults{
			{Code: problem.BadID, Path: "/id", Found: problem.Quote(id), Expected: "the id in the address, " + problem.Quote(in.ID)},
		}
	}
	return object, nil
}

// reasoned gives faults where an edit decides something without a reason: a ruling, or that a unit or
// group detaches something. What is live without one, since it was imported so, may stay.
// Exceptions cannot be without a reason at all.
func reasoned(live *Live, in EditInput) error {
	object, err := decoded(in)
	if err != nil || object == nil {
		return err
	}
	missing := func(path, what string) error {
		return problem.Faults{{Code: problem.MissingField, Path: path, Found: "nothing", Expected: "the reason why " + what + ", as text"}}
	}
	var detach, before []estate.Detachment
	switch is := object.(type) {
	case estate.Ruling:
		was, _ := live.Plan.Snapshot().Object(in.Kind, in.ID).(estate.Ruling)
		if strings.TrimSpace(is.Reason) == "" && is != was {
			return missing("/reason", fmt.Sprintf("%s is preferred over %s", is.Prefer, is.Over))
		}
	case estate.Unit:
		was, _ := live.Plan.Snapshot().Object(in.Kind, in.ID).(estate.Unit)
		detach, before = is.Detach, was.Detach
	case estate.Group:
		was, _ := live.Plan.Snapshot().Object(in.Kind, in.ID).(estate.Group)
		detach, before = is.Detach, was.Detach
	}
	for i, d := range detach {
		if strings.TrimSpace(d.Reason) == "" && !slices.Contains(before, d) {
			return missing(fmt.Sprintf("/detach/%d/reason", i), fmt.Sprintf("%s is detached", d))
		}
	}
	return nil
}

// canonical checks an edit by itself and gives its body as it is stored, with the files that it
// names as they are kept. A retired policy is kept as such.
func (s *ChangeService) canonical(ctx context.Context, in EditInput, definition func(setting.ID) *setting.Definition) (string, error) {
	object, err := decoded(in)
	if err != nil || object == nil {
		return "", err
	}
	object, faults := s.files.addStoredFiles(ctx, object, definition)
	if len(faults) > 0 {
		return "", faults
	}
	body, err := files.EncodeJSON(object)
	return string(body), err
}

// definitionsWith looks settings up as they will be with the edits of a change.
func (s *ChangeService) definitionsWith(live *Live, edits []store.Edit) func(setting.ID) *setting.Definition {
	return func(id setting.ID) *setting.Definition {
		for _, e := range edits {
			if e.Kind == string(estate.KindSetting) && e.ObjectID == string(id) && !e.Retire {
				if object, _, err := files.DecodeJSON(estate.KindSetting, []byte(e.Body)); err == nil {
					d := object.(setting.Definition)
					return &d
				}
			}
		}
		return live.Plan.Definition(id)
	}
}

// inUse says, in the place of unknown references, who still uses an object that is retired.
func inUse(in EditInput, faults problem.Faults) problem.Faults {
	var users []string
	for _, f := range faults {
		if keys := problem.Split(f.Path); f.Code == problem.UnknownReference && len(keys) >= 2 && f.Found == problem.Quote(in.ID) {
			users = append(users, keys[0]+"/"+keys[1])
		}
	}
	if len(users) == 0 {
		return faults
	}
	slices.Sort(users)
	users = slices.Compact(users)
	return problem.Faults{
		{
			Code:     problem.InUse,
			Path:     problem.Join("", string(in.Kind), in.ID),
			Found:    "used by " + strings.Join(users, ", "),
			Expected: "nobody who uses it: take it out there first, in this change or before",
		},
	}
}

// DropEdit takes an edit out of a change.
func (s *ChangeService) DropEdit(ctx context.Context, by Actor, change string, kind estate.Kind, id string, expected int64) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	return s.alter(ctx, by, change, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		e, err := tx.Edit(change, string(kind), id)
		if err != nil {
			return store.AuditRecord{}, notFound(err, "edit", id)
		}
		if expected >= 0 {
			if err := staleEdit(e, expected); err != nil {
				return store.AuditRecord{}, err
			}
		}
		return store.AuditRecord{Action: "drop edit", Kind: e.Kind, ObjectID: id, Before: e.Body}, tx.DropEdit(change, string(kind), id)
	})
}

// Rebase says that an edit, as it is, is meant to replace what is live now: somebody looked at what
// overtook it.
func (s *ChangeService) Rebase(ctx context.Context, by Actor, change string, kind estate.Kind, id string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	return s.alter(ctx, by, change, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		e, err := tx.Edit(change, string(kind), id)
		if err != nil {
			return store.AuditRecord{}, notFound(err, "edit", id)
		}
		e.BaseVersion = s.Live().Version(kind, id)
		e.Version++
		e.By, e.At = by.Name, s.now()
		return store.AuditRecord{
			Action:   "rebase edit",
			Kind:     e.Kind,
			ObjectID: id,
			After:    fmt.Sprintf("version %d", e.BaseVersion),
		}, tx.SaveEdits(e)
	})
}
