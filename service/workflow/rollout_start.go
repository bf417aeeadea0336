// This file starts rollouts: a change that is published with a plan goes to its laptops in waves.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
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

// WaitsError says that a change cannot be published at once, since rollouts under way edit the same
// objects or bring what it names.
type WaitsError struct {
	Change string
	For    []Waiting
}

// Waiting is a rollout that another change waits for, and why.
type Waiting struct {
	Rollout string
	Title   string
	Objects []string // kind/id of what both edit; empty: the change names what the rollout brings
}

func (e *WaitsError) Error() string {
	w := e.For[0]
	if len(w.Objects) == 0 {
		return fmt.Sprintf("The change names what rollout %s (%s) brings. Publish it with a rollout plan to have it wait, or when "+
			"the rollout has finished.", w.Rollout, w.Title)
	}
	return fmt.Sprintf(
		"Rollout %s (%s) edits %s, too. Publish the change with a rollout plan to have it wait, or when the rollout has finished.",
		w.Rollout, w.Title, strings.Join(w.Objects, ", "),
	)
}

// chosenPlan gives the plan with which a change is published; nil: none, it goes to all laptops at once.
func chosenPlan(live *Live, in PublishInput) (*estate.RolloutPlan, error) {
	plans := live.Plan.Snapshot().RolloutPlans
	switch {
	case in.AtOnce:
		return nil, nil
	case in.Own != nil:
		return in.Own, nil
	case in.Plan != "":
		at := slices.IndexFunc(plans, func(p estate.RolloutPlan) bool { return string(p.ID) == in.Plan })
		if at < 0 {
			return nil, &NotFoundError{string(estate.KindRolloutPlan), in.Plan}
		}
		return &plans[at], nil
	}
	if at := slices.IndexFunc(plans, func(p estate.RolloutPlan) bool { return p.Default }); at >= 0 {
		return &plans[at], nil
	}
	return nil, nil
}

// waitsFor gives the rollouts that edits have to wait for: those under way that edit the same objects,
// and those that bring what the edits name.
func (s *liveEstate) waitsFor(ctx context.Context, live *Live, edits []store.Edit) ([]Waiting, error) {
	var out []Waiting
	titles := map[string]string{}
	s.moving.RLock()
	for _, m := range s.inOrder() {
		titles[m.row.ID] = m.row.Title
		if shared := sharedObjects(m.edits, edits); len(shared) > 0 {
			out = append(out, Waiting{m.row.ID, m.row.Title, shared})
		}
	}
	s.moving.RUnlock()
	if len(out) > 0 || len(live.rolling) == 0 {
		return out, nil
	}
	// What is named must be there on every laptop that the change reaches, whichever rollouts have
	// reached it.
	sound := func(r reached) (bool, error) {
		base := live.sameAgain()
		base.Side = impact.Side{Plan: live.planWith(r)}
		over, err := s.lay(ctx, base, edits, nil)
		return err == nil && len(over.faults) == 0, err
	}
	if ok, err := sound(0); ok || err != nil {
		return nil, err
	}
	for i, r := range live.rolling {
		ok, err := sound(live.all().without(i))
		if err != nil {
			return nil, err
		}
		if !ok {
			out = append(out, Waiting{r.id, titles[r.id], nil})
		}
	}
	if len(out) == 0 { // no single one: all of them
		for _, r := range live.rolling {
			out = append(out, Waiting{r.id, titles[r.id], nil})
		}
	}
	return out, nil
}

// inOrder lists the rollouts whose end is not written down, in the order of their publication. s.moving
// must be held.
func (s *liveEstate) inOrder() []*machine {
	out := make([]*machine, 0, len(s.machines))
	for _, m := range s.machines {
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b *machine) int { return int(a.row.Number - b.row.Number) })
	return out
}

// sharedObjects lists the objects that both lists edit.
func sharedObjects(a, b []store.Edit) (shared []string) {
	for _, x := range a {
		if slices.ContainsFunc(b, func(y store.Edit) bool { return x.Kind == y.Kind && x.ObjectID == y.ObjectID }) {
			shared = append(shared, x.Kind+"/"+x.ObjectID)
		}
	}
	return shared
}

// affectedBy gives the laptops whose settings differ between two estates, which both have them.
func affectedBy(report *impact.Report, before *resolve.Plan) resolve.Devices {
	sets := make([]resolve.Devices, len(report.Transitions))
	for i := range report.Transitions {
		sets[i] = report.Transitions[i].Devices
	}
	all := resolve.Devices{}.Or(sets...)
	there := func(yield func(estate.DeviceID) bool) {
		for id := range all.Each {
			if before.Device(id) != nil && !yield(id) {
				return
			}
		}
	}
	if report.Estate == 0 || len(sets) == 0 {
		return resolve.Devices{}
	}
	return before.Set(there)
}

// laptopsOf gives the laptops of a change as a rollout starts with them.
func (s *liveEstate) laptopsOf(ctx context.Context, devices resolve.Devices, plan *estate.RolloutPlan,
	after *resolve.Plan) ([]rollout.Laptop, error) {
	if devices.Len() == 0 {
		return nil, nil
	}
	known, err := s.store.In(ctx).Laptops()
	if err != nil {
		return nil, err
	}
	seen := make(map[string]store.Laptop, len(known))
	for _, l := range known {
		seen[l.Device] = l
	}
	matches := map[estate.WaveID]resolve.Devices{}
	for i := range plan.Waves {
		if w := &plan.Waves[i]; w.Kind == estate.ByAudience {
			matches[w.ID] = after.ReachOf(&estate.Policy{State: estate.Active, Audience: w.Who}).Gets
		}
	}
	var out []rollout.Laptop
	for id := range devices.Each {
		d := after.Device(id)
		if d == nil {
			continue
		}
		l := rollout.Laptop{
			ID: string(id), OS: string(d.OS), Unit: strings.Join(after.HomeUnits(id), "/"),
			Interval: time.Duration(seen[string(id)].Usual) * time.Second,
		}
		if at := seen[string(id)].LastSeen; at != nil {
			l.Heard = second(*at)
		}
		for i := range plan.Waves {
			if set, audience := matches[plan.Waves[i].ID]; audience && set.Has(id) {
				l.Matches = append(l.Matches, plan.Waves[i].ID)
			}
		}
		out = append(out, l)
	}
	return out, nil
}

// startRollout starts the rollout of a change that is worked out: the change is part of what will be
// live from now on, and its first wave opens. s.writing must be held.
func (s *ChangeService) startRollout(ctx context.Context, by Actor, p *prepared, plan estate.RolloutPlan) (store.Rollout, error) {
	if len(p.live.rolling) >= maxRolling {
		return store.Rollout{}, &StateError{p.change.ID, fmt.Sprintf("one of %d rollouts", maxRolling+1),
			fmt.Sprintf("at most %d under way", maxRolling)}
	}
	devices := affectedBy(p.draft.report, p.live.Plan)
	laptops, err := s.laptopsOf(ctx, devices, &plan, p.draft.after.Plan)
	if err != nil {
		return store.Rollout{}, err
	}
	at := second(s.now())
	machine := &machine{edits: p.edits, failedBefore: map[string][]setting.ID{}}
	var happened []rollout.Transition
	if machine.Rollout, happened, err = rollout.Start(p.change.ID, plan, laptops, at); err != nil {
		return store.Rollout{}, asFaults(err)
	}
	text, err := files.EncodeJSON(plan)
	if err != nil {
		return store.Rollout{}, err
	}
	row, err := s.store.In(ctx).Rollout(p.change.ID)
	if errors.Is(err, store.ErrNotFound) { // it did not wait for others
		row = store.Rollout{ID: p.change.ID, Title: p.change.Title, By: by.Name, PublishedAt: s.now()}
		if row.Number, err = s.store.In(ctx).NextRollout(); err != nil {
			return row, err
		}
	} else if err != nil {
		return row, err
	}
	row.Plan, row.StartedAt, row.Reason = string(text), &at, ""
	machine.row = row
	machine.waves = machine.waveRows()
	next := p.live.after(p.live.Revision, p.draft)
	next.rolling = append(slices.Clone(p.live.rolling), rolling{p.change.ID, p.edits, takingOut(p.live.Plan.Snapshot(), p.edits), machine})
	next.noteEdits(p.live, p.edits)
	s.moving.Lock()
	defer s.moving.Unlock()
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		c := p.change
		c.State, c.UpdatedAt = RollingOut, s.now()
		err := errors.Join(tx.SaveChange(c), tx.SaveRollout(row), tx.SaveWaves(machine.waves), tx.SaveRolloutLaptops(machine.laptopRows()))
		if err != nil {
			return err
		}
		return s.writeMoved(tx, machine, moved{by: by, action: p.action, note: planName(plan)}, happened)
	})
	if err != nil {
		return row, err
	}
	s.machines[row.ID] = machine
	s.mu.Lock()
	s.goLive(next, nil) // no laptop gets anything otherwise until a wave is open
	delete(s.drafts, p.change.ID)
	delete(s.laid, p.change.ID)
	s.mu.Unlock()
	s.log.Info("rollout started", "change", row.ID, "laptops", len(laptops), "by", by.Name)
	s.told(machine, happened)
	s.Notify(Event{Topic: "estate", ID: fmt.Sprint(next.Revision)})
	return machine.row, nil
}

// asFaults gives a wave that has no laptops as a fault of the plan, and other errors as they are.
func asFaults(err error) error {
	var empty *rollout.EmptyWaveError
	if !errors.As(err, &empty) {
		return err
	}
	return problem.Faults{{
		Code: problem.OutOfRange, Path: problem.Join("", "waves", empty.Place), Found: "no laptop for wave " + problem.Quote(string(empty.Wave)),
		Expected: "at least one laptop: " + empty.Why,
	}}
}

func planName(p estate.RolloutPlan) string {
	if p.Title != "" {
		return p.Title
	}
	return string(p.ID)
}

// noteEdits notes the versions that objects have once edits are published.
func (l *Live) noteEdits(before *Live, edits []store.Edit) {
	for _, e := range edits {
		key := objectKey{estate.Kind(e.Kind), e.ObjectID}
		version := before.Version(key.kind, key.id) + 1
		l.versions.drop(key)
		l.retired.drop(key)
		if e.Retire && key.kind != estate.KindPolicy { // a retired policy stays in the estate
			l.retired.put(key, version)
		} else {
			l.versions.put(key, version)
		}
	}
}

func (m *machine) waveRows() []store.RolloutWave {
	var out []store.RolloutWave
	for i, w := range m.Waves() {
		row := store.RolloutWave{Rollout: m.row.ID, Place: i, Wave: string(w.ID)}
		if !w.Opened.IsZero() {
			row.OpenedAt = &w.Opened
		}
		out = append(out, row)
	}
	return out
}

func (m *machine) laptopRows() []store.RolloutLaptop {
	var out []store.RolloutLaptop
	for l := range m.Each {
		row, _ := m.laptopRow(l.ID)
		out = append(out, row)
	}
	return out
}

// waitToStart keeps a change as published, to start when the rollouts that it waits for are over.
// s.writing must be held.
func (s *ChangeService) waitToStart(ctx context.Context, by Actor, p *prepared, plan estate.RolloutPlan,
	waits []Waiting) (store.Rollout, error) {
	text, err := files.EncodeJSON(plan)
	if err != nil {
		return store.Rollout{}, err
	}
	var ids []string
	for _, w := range waits {
		ids = append(ids, w.Rollout)
	}
	row := store.Rollout{
		ID: p.change.ID, Title: p.change.Title, Plan: string(text), By: by.Name, PublishedAt: s.now(), Progress: string(WaitsForOthers),
		Reason: strings.Join(ids, " "),
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if row.Number, err = tx.NextRollout(); err != nil {
			return err
		}
		c := p.change
		c.State, c.UpdatedAt = RollingOut, s.now()
		return errors.Join(tx.SaveChange(c), tx.SaveRollout(row), s.audit(tx, by, store.AuditRecord{
			Action: "rollout: wait", ChangeID: c.ID, After: "for " + strings.Join(ids, ", "),
		}))
	})
	s.Notify(Event{Topic: "rollout", ID: row.ID})
	return row, err
}

// alignRollouts takes laptops into the rollouts under way that their changes touch now, in the
// background.
func (s *liveEstate) alignRollouts() {
	if len(s.current().rolling) > 0 {
		s.background(func() {
			if err := s.align(s.ctx); err != nil && s.ctx.Err() == nil {
				s.log.Error("taking laptops into rollouts", "error", err)
			}
		})
	}
}
