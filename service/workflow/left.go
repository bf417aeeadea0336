// This file has what has left a source: listed, and removed by a person.

package workflow

import (
	"context"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// LeftObject is something that its source no longer has.
type LeftObject struct {
	Source string
	Kind   estate.Kind
	ID     string
	Title  string
	Since  time.Time
	Due    *time.Time // when it is removed by itself; nil: only by a person
}

// Left lists what has left and is still here, the longest ago first; of one source or of all with
// an empty id.
func (s *SourceService) Left(ctx context.Context, by Actor, source string) ([]LeftObject, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	records, err := s.store.In(ctx).LeftRecords(source)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		return nil, err
	}
	after := map[string]int{}
	for _, row := range rows {
		if u, err := readSetUp(row.Setup); err == nil && u != nil {
			after[row.ID] = u.RemoveAfter
		}
	}
	titles := s.titlesOfObjects()
	out := make([]LeftObject, len(records))
	for i, r := range records {
		out[i] = LeftObject{
			Source: r.Source,
			Kind:   estate.Kind(r.Kind),
			ID:     r.ObjectID,
			Title:  titles(estate.Kind(r.Kind), r.ObjectID),
			Since:  *r.LeftAt,
		}
		if days := after[r.Source]; days > 0 {
			due := r.LeftAt.AddDate(0, 0, days)
			out[i].Due = &due
		}
	}
	return out, nil
}

// titlesOfObjects looks titles of people, units, groups and devices up.
func (s *SourceService) titlesOfObjects() func(estate.Kind, string) string {
	snapshot := s.Live().Plan.Snapshot()
	byKind := map[estate.Kind]map[string]string{}
	return func(kind estate.Kind, id string) string {
		if byKind[kind] == nil {
			m := map[string]string{}
			switch kind {
			case estate.KindPerson:
				for i := range snapshot.People {
					m[string(snapshot.People[i].ID)] = snapshot.People[i].Name
				}
			case estate.KindUnit:
				for i := range snapshot.Units {
					m[string(snapshot.Units[i].ID)] = snapshot.Units[i].Title
				}
			case estate.KindGroup:
				for i := range snapshot.Groups {
					m[string(snapshot.Groups[i].ID)] = snapshot.Groups[i].Title
				}
			case estate.KindDevice:
				for i := range snapshot.Devices {
					m[string(snapshot.Devices[i].ID)] = snapshot.Devices[i].Serial
				}
			}
			byKind[kind] = m
		}
		return byKind[kind][id]
	}
}

// Remove takes away what has left its source; with look true it only says what that would do.
// Nothing is removed that a policy, an exception or another object still names: the faults say
// which.
func (s *SourceService) Remove(ctx context.Context, by Actor, source string, objects []store.SourceRecord, look bool) (*Preview, error) {
	if err := by.Need(access.Sources); err != nil {
		return nil, err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	records := make([]store.SourceRecord, 0, len(objects))
	gone := make([]objectKey, 0, len(objects))
	for _, o := range objects {
		r, err := s.store.In(ctx).RecordOf(o.Kind, o.ObjectID)
		if err != nil || r.Source != source {
			return nil, &NotFoundError{o.Kind, o.ObjectID}
		}
		if r.LeftAt == nil {
			return nil, problem.Faults{
				{
					Code:     problem.InUse,
					Path:     problem.Join("", o.Kind, o.ObjectID),
					Found:    "what its source still has",
					Expected: "something that has left",
				},
			}
		}
		records = append(records, r)
		gone = append(gone, objectKey{estate.Kind(r.Kind), r.ObjectID})
	}
	o, err := s.preview(ctx, s.Live(), nil, gone)
	if err != nil {
		return o, err
	}
	if len(o.Named) > 0 {
		for i := range o.Named {
			o.Named[i].Code, o.Named[i].Expected = problem.InUse, "nothing that names it: take it out there first"
		}
		return o, o.Named
	}
	if look {
		return o, nil
	}
	_, err = s.adopt(ctx, by, fmt.Sprintf("Removed what left: %d", len(records)), o, gone, len(records), func(tx *store.Store, _ *Live) error {
		events := make([]store.SourceEvent, len(records))
		audits := make([]store.AuditRecord, len(records))
		for i, r := range records {
			if err := tx.DropRecord(r.Source, r.Kind, r.Key); err != nil {
				return err
			}
			events[i] = store.SourceEvent{Kind: r.Kind, ObjectID: r.ObjectID, Source: source, At: s.now(), What: "removed"}
			audits[i] = store.AuditRecord{Action: "remove what left", Kind: r.Kind, ObjectID: r.ObjectID, Before: r.Brought}
		}
		if err := tx.AddEvents(events); err != nil {
			return err
		}
		return s.audit(tx, by, audits...)
	})
	s.Notify(Event{Topic: "source", ID: source})
	return o, err
}
