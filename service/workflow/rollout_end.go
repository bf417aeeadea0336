// This file ends rollouts: a change that has finished becomes part of the live estate, one that is taken
// back does not, and what waited for either of them starts.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// conclude writes down what the end of rollouts means for the live estate, and starts what waited.
func (s *RolloutService) conclude(ctx context.Context) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	s.moving.RLock()
	over := slices.DeleteFunc(s.inOrder(), func(m *machine) bool {
		p, _ := m.Progress()
		return p != rollout.Finished && p != rollout.TakenBack
	})
	s.moving.RUnlock()
	var errs []error
	for _, m := range over {
		switch p, _ := m.Progress(); p { // it stays as it is
		case rollout.Finished:
			errs = append(errs, s.finished(ctx, m))
		case rollout.TakenBack:
			errs = append(errs, s.takenBack(ctx, m))
		}
	}
	return errors.Join(append(errs, s.startWaiting(ctx))...)
}

// finished makes the change of a rollout part of the live estate, with a revision of its own. What will
// be live stays as it is. s.writing must be held.
func (s *RolloutService) finished(ctx context.Context, m *machine) error {
	c, err := s.store.In(ctx).Change(m.row.ID)
	if err != nil {
		return err
	}
	live := s.Live()
	place := live.place(m.row.ID)
	if place < 0 {
		return fmt.Errorf("rollout %s has finished and is no part of what will be live", m.row.ID)
	}
	before, after := live.sideWith(0), live.sideWith(reached(0).with(place))
	report := impact.Compare(before, after)
	by := Actor{Name: m.row.By, Via: "rollout"}
	published := store.Publication{ChangeID: c.ID, Title: c.Title, By: m.row.By, At: s.now(), Edits: len(m.edits)}
	events := conflictEvents(before, after, report, published)
	s.moving.Lock()
	defer s.moving.Unlock()
	next := live.sameAgain()
	next.generations = &generations{}
	next.rolling = slices.Delete(slices.Clone(live.rolling), place, place+1)
	row := m.row
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if published.Revision, err = addPublication(tx, published, events); err != nil {
			return err
		}
		next.Revision = published.Revision
		// Versions count on from what the store has: what will be live has them one higher already.
		was := live.after(live.Revision, &draft{after: live.Side})
		was.unnoteEdits(live.rolling[place])
		becomes := was.after(published.Revision, &draft{after: live.Side})
		if err := s.changes.publishEdits(tx, by, was, becomes, published, m.edits); err != nil {
			return err
		}
		next.versions, next.retired = becomes.versions, becomes.retired
		c.State, c.Revision, c.UpdatedAt = Published, published.Revision, published.At
		row.Revision, row.Concluded = published.Revision, true
		return errors.Join(tx.SaveChange(c), tx.SaveRollout(row), s.audit(tx, by, store.AuditRecord{
			Action: "publish", ChangeID: c.ID, After: fmt.Sprintf("revision %d, %d edits", published.Revision, len(m.edits)),
		}))
	})
	if err != nil {
		return err
	}
	delete(s.machines, m.row.ID)
	s.mu.Lock()
	s.goLive(next, report) // laptops that were excused get it now
	s.mu.Unlock()
	s.log.Info("rollout finished", "change", c.ID, "revision", published.Revision)
	s.Notify(Event{Topic: "estate", ID: fmt.Sprint(published.Revision)})
	s.Notify(Event{Topic: "rollout", ID: c.ID})
	return nil
}

// unnoteEdits takes back what noteEdits noted of a rollout.
func (l *Live) unnoteEdits(r rolling) {
	for i, e := range r.edits {
		key := objectKey{estate.Kind(e.Kind), e.ObjectID}
		version := l.Version(key.kind, key.id) - 1
		l.versions.drop(key)
		l.retired.drop(key)
		switch {
		case version == 0:
		case r.back[i].Object == nil: // it was retired before
			l.retired.put(key, version)
		default:
			l.versions.put(key, version)
		}
	}
}

// takeOut takes the change of a rollout out of what will be live, as soon as it is taken back. s.writing
// and s.moving must be held.
func (s *RolloutService) takeOut(m *machine, live *Live, place int) *Live {
	without := live.all().without(place)
	m.altered = alteredSettings(impact.Compare(live.sideWith(without), live.Side))
	next := live.after(live.Revision, &draft{after: live.sideWith(without)})
	next.rolling = slices.Delete(slices.Clone(live.rolling), place, place+1)
	next.unnoteEdits(live.rolling[place])
	return next
}

// alteredSettings gives the settings that alter on some laptop.
func alteredSettings(report *impact.Report) map[setting.ID]bool {
	out := map[setting.ID]bool{}
	for i := range report.Transitions {
		out[report.Transitions[i].Setting] = true
	}
	return out
}

// takenBack writes down that no laptop has the change of a rollout any more. s.writing must be held.
func (s *RolloutService) takenBack(ctx context.Context, m *machine) error {
	c, err := s.store.In(ctx).Change(m.row.ID)
	if err != nil {
		return err
	}
	s.moving.Lock()
	defer s.moving.Unlock()
	row := m.row
	row.Concluded = true
	c.State, c.UpdatedAt = ChangeTakenBack, s.now()
	if err := s.store.Transaction(ctx, func(tx *store.Store) error { return errors.Join(tx.SaveChange(c), tx.SaveRollout(row)) }); err != nil {
		return err
	}
	delete(s.machines, m.row.ID)
	s.log.Info("rollout taken back", "change", c.ID)
	s.Notify(Event{Topic: "rollout", ID: c.ID})
	return nil
}

// startWaiting starts the rollouts that waited for others and need not any more, in the order of their
// publication. One that no longer fits is given back to its author. s.writing must be held.
func (s *RolloutService) startWaiting(ctx context.Context) error {
	rows, err := s.store.In(ctx).Rollouts(false)
	if err != nil {
		return err
	}
	var errs []error
	for _, row := range rows {
		if row.StartedAt == nil {
			errs = append(errs, s.tryWaiting(ctx, row))
		}
	}
	return errors.Join(errs...)
}

func (s *RolloutService) tryWaiting(ctx context.Context, row store.Rollout) error {
	c, edits, err := s.changes.change(ctx, row.ID)
	if err != nil {
		return err
	}
	waits, err := s.waitsFor(ctx, s.Live(), edits)
	if err != nil || len(waits) > 0 {
		return err
	}
	by := Actor{Name: row.By, Via: "rollout"}
	p, err := s.changes.prepare(ctx, c, edits)
	if err == nil {
		plan, failed := files.DecodePlan([]byte(row.Plan))
		if failed != nil {
			return failed
		}
		p.action = "rollout: start"
		if _, err = s.changes.startRollout(ctx, by, p, plan); err == nil {
			return nil
		}
	}
	var overtaken *OvertakenError
	var faults problem.Faults
	if !errors.As(err, &overtaken) && !errors.As(err, &faults) {
		return err
	}
	c.State, c.UpdatedAt = Open, s.now()
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.RemoveRollout(row.ID), tx.SaveChange(c), tx.VoidApprovals(c.ID), s.audit(tx, bySystem, store.AuditRecord{
			Action: "rollout: cannot start", ChangeID: c.ID, After: err.Error(),
		}))
	})
	s.Notify(Event{Topic: "change", ID: c.ID})
	return err
}

// align takes laptops into rollouts that their changes touch since the estate altered, and lets those
// go that left the estate.
func (s *liveEstate) align(ctx context.Context) error {
	live := s.Live()
	var errs []error
	for place, r := range live.rolling {
		before, after := live.sideWith(live.earlier(place)), live.sideWith(live.earlier(place).with(place))
		devices := affectedBy(impact.Compare(before, after), before.Plan)
		errs = append(errs, s.alignOne(ctx, live, r.id, devices, after.Plan))
	}
	return errors.Join(errs...)
}

// alignDevices takes those of some laptops into the rollouts under way that their changes touch now. It costs
// what these laptops cost.
func (s *liveEstate) alignDevices(ctx context.Context, devices []estate.DeviceID) error {
	live := s.Live()
	for place, r := range live.rolling {
		before, after := live.planWith(live.earlier(place)), live.planWith(live.earlier(place).with(place))
		var touched []estate.DeviceID
		for _, id := range devices {
			without, err := before.Reasons(id, "")
			if err != nil {
				continue // it left, or a change brings it
			}
			with, err := after.Reasons(id, "")
			if err != nil {
				continue
			}
			for range altering(without, with) {
				touched = append(touched, id)
				break
			}
		}
		if err := s.alignOne(ctx, live, r.id, after.Set(slices.Values(touched)), after); err != nil {
			return err
		}
	}
	return nil
}

func (s *liveEstate) alignOne(ctx context.Context, live *Live, id string, devices resolve.Devices, after *resolve.Plan) error {
	s.moving.Lock()
	defer s.moving.Unlock()
	m := s.machines[id]
	if m == nil {
		return nil
	}
	saved := m.Progressed()
	var left []string
	for l := range m.Each {
		if live.Plan.Device(estate.DeviceID(l.ID)) == nil {
			left = append(left, l.ID)
		}
	}
	joining, err := s.laptopsOf(ctx, devices.Without(after.Set(m.ids())), &saved.Plan, after)
	if err != nil || len(joining)+len(left) == 0 {
		return err
	}
	var happened []rollout.Transition
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.RemoveRolloutLaptops(id, left); err != nil {
			return err
		}
		alter := moved{by: bySystem, do: func(at time.Time) []rollout.Transition { return m.Alter(at, joining, left) }}
		if happened, err = s.moveWithin(tx, m, alter); err != nil {
			return err
		}
		var rows []store.RolloutLaptop
		for _, l := range joining {
			if row, known := m.laptopRow(l.ID); known {
				rows = append(rows, row)
			}
		}
		return tx.SaveRolloutLaptops(rows)
	})
	if err != nil {
		s.reread(m)
		return err
	}
	s.told(m, happened)
	return nil
}

// ids gives the laptops of a rollout.
func (m *machine) ids() func(yield func(estate.DeviceID) bool) {
	return func(yield func(estate.DeviceID) bool) {
		for l := range m.Each {
			if !yield(estate.DeviceID(l.ID)) {
				return
			}
		}
	}
}
