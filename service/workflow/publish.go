// This file publishes changes: whole or not at all, in one transaction of the store.

package workflow

import (
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/files"
	"zenithridge.example/zridge/service/store"
)

// Publish makes a change live. expected is the version of the change that was looked at; -1 publishes whatever it is.
// It is refused when another change has published one of its objects since its edit began, and when the
// estate would not be well-formed.
func (s *Service) Publish(by Actor, id string, expected int64) (store.Publication, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	live := s.Live()
	var published store.Publication
	var next *Live
	err := s.store.Transaction(func(tx *store.Store) error {
		c, err := open(tx, id)
		if err != nil {
			return err
		}
		if expected >= 0 && expected != c.Version {
			return &StaleError{What: "change " + id, Version: c.Version, By: "somebody", At: c.UpdatedAt}
		}
		edits, err := tx.Edits(id)
		if err != nil {
			return err
		}
		if len(edits) == 0 {
			return problem.Faults{{Code: problem.MissingField, Path: "/edits", Found: "a change without edits", Expected: "at least one edit"}}
		}
		if err := s.overtaken(tx, live, edits); err != nil {
			return err
		}
		d := s.compare(live, edits)
		if len(d.faults) > 0 {
			return d.faults
		}
		published = store.Publication{ChangeID: id, Title: c.Title, By: by.Name, At: s.now(), Edits: len(edits)}
		if published.Revision, err = tx.AddPublication(published); err != nil {
			return err
		}
		next = live.after(published.Revision, d)
		for _, e := range edits {
			if err := s.publishEdit(tx, by, live, next, published, e); err != nil {
				return err
			}
		}
		c.State, c.Revision, c.UpdatedAt = Published, published.Revision, published.At
		if err := tx.SaveChange(c); err != nil {
			return err
		}
		if err := s.expect(tx, d.report, d.after.Whole, published.At); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "publish", ChangeID: id, After: fmt.Sprintf("revision %d, %d edits", published.Revision, len(edits))})
	})
	if err != nil {
		return published, err
	}
	s.mu.Lock()
	s.live = next
	delete(s.drafts, id)
	s.board = nil
	s.mu.Unlock()
	s.log.Info("published", "change", id, "revision", published.Revision, "edits", published.Edits, "by", by.Name)
	s.Notify(Event{"estate", fmt.Sprint(published.Revision)})
	return published, nil
}

// overtaken finds edits that began with another version than is live.
func (s *Service) overtaken(tx *store.Store, live *Live, edits []store.Edit) error {
	var found []Overtaken
	for _, e := range edits {
		is := live.Version(estate.Kind(e.Kind), e.ObjectID)
		if is == e.BaseVersion {
			continue
		}
		o := Overtaken{Kind: e.Kind, ID: e.ObjectID, Base: e.BaseVersion, Live: is}
		versions, err := tx.Versions(e.Kind, e.ObjectID)
		if err != nil {
			return err
		}
		if len(versions) > 0 {
			o.By, o.At, o.Revision = versions[0].By, versions[0].At, versions[0].Revision
			if p, err := tx.Publications(versions[0].Revision+1, 1); err == nil && len(p) == 1 {
				o.Change = p[0].ChangeID
			}
		}
		found = append(found, o)
	}
	if found != nil {
		return &OvertakenError{found}
	}
	return nil
}

// after is what is live once a draft is published.
func (l *Live) after(revision int64, d *draft) *Live {
	next := &Live{Revision: revision, Side: d.after, versions: make(map[objectKey]int64, len(l.versions)+8), retired: make(map[objectKey]int64, len(l.retired))}
	for k, v := range l.versions {
		next.versions[k] = v
	}
	for k, v := range l.retired {
		next.retired[k] = v
	}
	return next
}

func (s *Service) publishEdit(tx *store.Store, by Actor, live, next *Live, p store.Publication, e store.Edit) error {
	key := objectKey{estate.Kind(e.Kind), e.ObjectID}
	version := live.Version(key.kind, key.id) + 1
	v := store.ObjectVersion{Kind: e.Kind, ID: e.ObjectID, Version: version, Retired: e.Retire, Body: e.Body, Revision: p.Revision, By: by.Name, At: p.At}
	before := ""
	if was, err := tx.Object(e.Kind, e.ObjectID); err == nil && !was.Retired {
		before = was.Body
	}
	action := "publish: create"
	switch {
	case e.Retire:
		action = "publish: retire"
		if v.Body = before; key.kind == estate.KindPolicy { // a retired policy stays in the estate, and reaches nobody
			v.Retired = false
			for _, pol := range next.Plan.Snapshot().Policies {
				if string(pol.ID) == e.ObjectID {
					body, err := files.EncodeJSON(pol)
					if err != nil {
						return err
					}
					v.Body = string(body)
				}
			}
		}
	case before != "":
		action = "publish: alter"
	}
	delete(next.versions, key)
	delete(next.retired, key)
	if v.Retired {
		next.retired[key] = version
	} else {
		next.versions[key] = version
	}
	if err := tx.PutVersion(v); err != nil {
		return err
	}
	after := v.Body
	if v.Retired {
		after = ""
	}
	return s.audit(tx, by, store.AuditRecord{Action: action, Kind: e.Kind, ObjectID: e.ObjectID, ChangeID: p.ChangeID, Before: before, After: after})
}

// expect notes what is wanted from now on of every laptop that the publication touches.
func (s *Service) expect(tx *store.Store, report *impact.Report, whole *resolve.Whole, at time.Time) error {
	for _, r := range whole.Results {
		if _, touched := slices.BinarySearch(report.Devices, r.Device); !touched {
			continue
		}
		known, err := tx.Deliveries(string(r.Device))
		if err != nil {
			return err
		}
		if _, altered := Wanted(r, known, at); len(altered) > 0 {
			if err := tx.SaveDeliveries(string(r.Device), altered); err != nil {
				return err
			}
		}
	}
	return nil
}

// Wanted brings a laptop's deliveries up to date with what was resolved for it: all of them by setting, and those
// that altered.
func Wanted(r *resolve.Result, known map[setting.ID]rollout.Delivery, at time.Time) (all map[setting.ID]rollout.Delivery, altered []rollout.Delivery) {
	all = make(map[setting.ID]rollout.Delivery, len(r.Settings))
	take := func(id setting.ID, decided *resolve.Setting) {
		was, had := known[id]
		was.Setting = id
		is := was.Want(decided, at)
		if is.Gone() && !had {
			return
		}
		all[id] = is
		if !had || is.Status != was.Status || !is.Wanted.Equal(was.Wanted) || is.Reason != was.Reason {
			altered = append(altered, is)
		}
	}
	for i := range r.Settings {
		take(r.Settings[i].ID, &r.Settings[i])
	}
	for id := range known {
		if r.Setting(id) == nil {
			take(id, nil)
		}
	}
	slices.SortFunc(altered, func(a, b rollout.Delivery) int {
		switch {
		case a.Setting < b.Setting:
			return -1
		case a.Setting > b.Setting:
			return 1
		}
		return 0
	})
	return all, altered
}
