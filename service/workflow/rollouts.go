// This file runs rollouts: it holds the state machine of each rollout that is under way, writes down
// what happens in them, and works out which laptops get something else by it.
//
// Everything that happens to a rollout goes through move: it is done to the state machine and written
// in one transaction, and the machine is read again from the store where writing failed.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// WaitsForOthers is the progress of a rollout that has not started since another one edits the same
// objects.
const WaitsForOthers rollout.Progress = "waiting"

// bySystem is who does what time brings.
var bySystem = Actor{Name: "service", Via: "service"}

// machine is a rollout that is under way, or whose end is not written down yet.
type machine struct {
	*rollout.Rollout
	row   store.Rollout
	edits []store.Edit
	waves []store.RolloutWave // in order

	failedBefore map[string][]setting.ID // by laptop: what failed before its wave opened; none: not looked at
	altered      map[setting.ID]bool     // while it is taken back: settings that the change altered
}

// readMachine reads a rollout from the store.
func (s *liveEstate) readMachine(tx *store.Store, row store.Rollout) (*machine, error) {
	m := &machine{row: row, failedBefore: map[string][]setting.ID{}}
	plan, err := files.DecodePlan([]byte(row.Plan))
	if err != nil {
		return nil, fmt.Errorf("the plan of rollout %s: %w", row.ID, err)
	}
	if m.edits, err = tx.Edits(row.ID); err != nil {
		return nil, err
	}
	if m.waves, err = tx.Waves(row.ID); err != nil {
		return nil, err
	}
	laptops, err := tx.RolloutLaptops(row.ID)
	if err != nil {
		return nil, err
	}
	seen, err := tx.Laptops()
	if err != nil {
		return nil, err
	}
	heard := make(map[string]time.Time, len(seen))
	for _, l := range seen {
		if l.LastSeen != nil {
			heard[l.Device] = *l.LastSeen
		}
	}
	saved := rollout.Saved{
		Plan: plan, Progress: rollout.Progress(row.Progress), Reason: rollout.StopReason(row.Reason),
		SeenFailed: row.SeenFailed, SeenLost: row.SeenLost, Now: *row.Now, Laptops: make([]rollout.Member, len(laptops)),
	}
	for _, w := range m.waves {
		wave, known := plan.Wave(estate.WaveID(w.Wave))
		if !known {
			return nil, fmt.Errorf("rollout %s: its plan has no wave %s", row.ID, w.Wave)
		}
		is := rollout.SavedWave{Wave: wave}
		if w.OpenedAt != nil {
			is.Opened = w.OpenedAt.UTC()
		}
		saved.Waves = append(saved.Waves, is)
	}
	for i, l := range laptops {
		at := l.Heard
		if last := heard[l.Device].Truncate(time.Second); last.After(at) {
			at = last // heard since its state was written
		}
		saved.Laptops[i] = rollout.Member{
			ID: l.Device, Wave: estate.WaveID(l.Wave), State: rollout.State(l.State), Heard: at, Interval: time.Duration(l.Interval) * time.Second,
		}
		if l.FailedBefore != "" {
			var before []setting.ID
			if err := json.Unmarshal([]byte(l.FailedBefore), &before); err != nil {
				return nil, err
			}
			m.failedBefore[l.Device] = before
		}
	}
	m.Rollout = rollout.Restore(saved)
	return m, nil
}

// place gives where a rollout is among those under way, -1 where it is no part of what will be live.
func (l *Live) place(id string) int {
	return slices.IndexFunc(l.rolling, func(r rolling) bool { return r.id == id })
}

// reachedBy gives the rollouts whose change a laptop gets now. s.moving must be held, at least for
// reading.
func (s *liveEstate) reachedBy(live *Live, device string) (r reached) {
	for i := range live.rolling {
		if live.rolling[i].machine.Given(device) {
			r = r.with(i)
		}
	}
	return r
}

// reachedByEach gives the same for many laptops, which are sorted by id.
func (s *liveEstate) reachedByEach(live *Live, devices []string) []reached {
	out := make([]reached, len(devices))
	for place := range live.rolling {
		for i, given := range live.rolling[place].machine.GivenAmong(devices) {
			if given {
				out[i] = out[i].with(place)
			}
		}
	}
	return out
}

// PlanFor gives the plan by which a laptop gets its settings now: the live estate with the changes of
// the rollouts that have reached it.
func (s *liveEstate) PlanFor(live *Live, device string) *resolve.Plan {
	if len(live.rolling) == 0 {
		return live.Plan
	}
	s.moving.RLock()
	r := s.reachedBy(live, device)
	s.moving.RUnlock()
	plan := live.planWith(r)
	if plan.Device(estate.DeviceID(device)) == nil { // a change that is rolled out brings the laptop itself
		return live.Plan
	}
	return plan
}

// RevisionFor names what a laptop gets now: the revision of the live estate, and the rollouts that have
// reached the laptop.
func (s *liveEstate) RevisionFor(live *Live, device string) string {
	text := fmt.Sprint(live.Revision)
	s.moving.RLock()
	defer s.moving.RUnlock()
	r := s.reachedBy(live, device)
	for i := range live.rolling {
		if r.has(i) {
			text += "+" + live.rolling[i].id
		}
	}
	return text
}

// second cuts a time to whole seconds, in which rollouts count.
func second(at time.Time) time.Time { return at.UTC().Truncate(time.Second) }

// moved is what somebody or something does to a rollout.
type moved struct {
	by      Actor
	action  string            // of the audit record; empty: none but for what happens
	act     rollout.Act       // what somebody does; empty: something else happens
	note    string            // why somebody does it
	reasons map[string]string // by laptop: why it failed
	before  map[string][]setting.ID
	do      func(at time.Time) []rollout.Transition
}

// move does something to a rollout and writes down what happened. It tells whether the rollout refused
// what somebody asked for. s.moving must be held.
func (s *liveEstate) move(ctx context.Context, m *machine, how moved) (refused bool, err error) {
	happened := s.act(m, how)
	if !how.told(happened) {
		return false, nil
	}
	if err := s.store.Transaction(ctx, func(tx *store.Store) error { return s.writeMoved(tx, m, how, happened) }); err != nil {
		s.reread(m)
		return false, err
	}
	s.told(m, happened)
	return slices.ContainsFunc(happened, func(t rollout.Transition) bool { return t.Refused != "" }), nil
}

// moveWithin is move in a transaction of the caller, who tells afterwards (told), or reads the machine
// again where the transaction failed (reread).
func (s *liveEstate) moveWithin(tx *store.Store, m *machine, how moved) ([]rollout.Transition, error) {
	happened := s.act(m, how)
	if !how.told(happened) {
		return nil, nil
	}
	return happened, s.writeMoved(tx, m, how, happened)
}

// act does something to the state machine.
func (s *liveEstate) act(m *machine, how moved) []rollout.Transition {
	at := second(s.now())
	if m.row.Now != nil && at.Before(*m.row.Now) {
		at = *m.row.Now // a clock that was put back
	}
	happened := how.do(at)
	for device, before := range how.before {
		m.failedBefore[device] = before
	}
	return happened
}

// told tells whether there is anything to write down.
func (how *moved) told(happened []rollout.Transition) bool {
	return len(happened) > 0 || how.action != "" || len(how.before) > 0
}

// reread puts the machine back to what is stored, after a transaction failed.
func (s *liveEstate) reread(m *machine) {
	var again *machine
	row, err := s.store.In(s.ctx).Rollout(m.row.ID)
	if err == nil {
		again, err = s.readMachine(s.store.In(s.ctx), row)
	}
	if err != nil {
		s.log.Error("reading a rollout again", "rollout", m.row.ID, "error", err)
		return
	}
	again.altered = m.altered
	*m = *again
}

// writeMoved writes down what happened in a rollout.
func (s *liveEstate) writeMoved(tx *store.Store, m *machine, how moved, happened []rollout.Transition) error {
	id := m.row.ID
	by := how.by
	if by.Via == "device" { // a laptop reports; what comes of it for the rollout is the service's doing
		by = bySystem
	}
	var events []store.RolloutEvent
	var records []store.AuditRecord
	touched := map[string]time.Time{} // laptops whose state altered, by when
	refused := slices.ContainsFunc(happened, func(t rollout.Transition) bool { return t.Refused != "" })
	if how.action != "" && !refused {
		records = append(records, store.AuditRecord{Action: how.action, ChangeID: id, After: how.note})
	}
	for _, t := range happened {
		e := store.RolloutEvent{Rollout: id, At: t.At}
		switch {
		case t.Refused != "":
			continue
		case t.Progress != "":
			e.What, e.To, e.Reason, e.By = "state", string(t.Progress), cmp.Or(string(t.Reason), how.note), by.Name
			records = append(records, store.AuditRecord{Action: "rollout: " + string(t.Progress), ChangeID: id, After: string(t.Reason)})
			if t.Progress == rollout.Finished || t.Progress == rollout.TakenBack {
				m.row.EndedAt = &t.At
			}
		case t.Opened != "":
			e.What, e.Wave, e.Laptops, e.By = "opened", string(t.Opened), len(t.Laptops), by.Name
			if how.act == rollout.Go { // else the note is of what opened it
				e.Reason = how.note
			}
			if err := tx.OpenWave(id, string(t.Opened), t.At, uint8(rollout.Waiting), uint8(rollout.Due)); err != nil {
				return err
			}
			records = append(records, store.AuditRecord{
				Action: "rollout: open wave", ChangeID: id, After: fmt.Sprintf("%s, %d laptops", t.Opened, len(t.Laptops)),
			})
		default:
			e.What, e.Device, e.From, e.To, e.Reason = "laptop", t.Device, t.From.String(), t.To.String(), how.reasons[t.Device]
			touched[t.Device] = t.At
		}
		events = append(events, e)
	}
	for device := range how.before {
		if _, known := touched[device]; !known {
			touched[device] = time.Time{}
		}
	}
	rows := make([]store.RolloutLaptop, 0, len(touched))
	for _, device := range slices.Sorted(maps.Keys(touched)) {
		if row, known := m.laptopRow(device); known {
			row.Reason = how.reasons[device]
			if at := touched[device]; !at.IsZero() {
				row.Since = &at
			}
			rows = append(rows, row)
		}
	}
	if err := m.noteReached(tx, happened); err != nil {
		return err
	}
	saved := m.Progressed()
	m.row.Progress, m.row.Reason = string(saved.Progress), string(saved.Reason)
	m.row.SeenFailed, m.row.SeenLost, m.row.Now = saved.SeenFailed, saved.SeenLost, &saved.Now
	return errors.Join(
		s.tellOfRollout(tx, m, happened), tx.SaveRolloutLaptops(rows), tx.AddRolloutEvents(events), tx.SaveRollout(m.row),
		s.audit(tx, by, records...),
	)
}

// noteReached notes when half of the laptops of a wave, and 95 of 100, had taken the change.
func (m *machine) noteReached(tx *store.Store, happened []rollout.Transition) error {
	if !slices.ContainsFunc(happened, func(t rollout.Transition) bool { return t.To == rollout.Taken }) {
		return nil
	}
	at := happened[len(happened)-1].At
	for i, w := range m.Waves() {
		n := 0
		for _, count := range w.Counts {
			n += count
		}
		row := m.waves[i]
		if row.HalfAt == nil && 2*w.Counts[rollout.Taken] >= n {
			row.HalfAt = &at
		}
		if row.MostAt == nil && 100*w.Counts[rollout.Taken] >= 95*n {
			row.MostAt = &at
		}
		if row.HalfAt == m.waves[i].HalfAt && row.MostAt == m.waves[i].MostAt {
			continue
		}
		if err := tx.ReachWave(row); err != nil {
			return err
		}
		m.waves[i] = row
	}
	return nil
}

// laptopRow gives a laptop of a rollout as it is stored.
func (m *machine) laptopRow(device string) (store.RolloutLaptop, bool) {
	is, known := m.Member(device)
	if !known {
		return store.RolloutLaptop{}, false
	}
	row := store.RolloutLaptop{
		Rollout: m.row.ID, Device: device, Wave: string(is.Wave), State: uint8(is.State), Heard: is.Heard,
		Interval: int64(is.Interval / time.Second),
	}
	if before, looked := m.failedBefore[device]; looked {
		text, _ := json.Marshal(append([]setting.ID{}, before...)) // ids always have a JSON form
		row.FailedBefore = string(text)
	}
	return row, true
}

// told lets laptops and watchers know what happened in a rollout. s.moving must be held.
func (s *liveEstate) told(m *machine, happened []rollout.Transition) {
	if len(happened) == 0 {
		return
	}
	// Who gets the change alters as a whole with a wave or the rollout's state, else with one laptop.
	var turned []string
	if slices.ContainsFunc(happened, func(t rollout.Transition) bool { return t.Progress != "" || t.Opened != "" }) {
		turned = m.Turned()
	} else {
		for _, t := range happened {
			turned = append(turned, m.TurnedAmong(t.Device)...)
		}
		slices.Sort(turned)
	}
	s.flip(m, turned)
	if p, _ := m.Progress(); p == rollout.Finished || p == rollout.TakenBack {
		s.wakeRollouts()
	}
	for _, t := range happened {
		if t.Opened != "" && s.onDue != nil {
			s.background(func() { s.onDue(s.ctx, t.Laptops) })
		}
	}
	s.Notify(Event{Topic: "rollout", ID: m.row.ID})
}

// OnDue says who is told, in the background, which laptops are due when a wave opens. It is called before
// rollouts go on.
func (s *liveEstate) OnDue(f func(ctx context.Context, devices []string)) { s.onDue = f }

// flip notes that some laptops, by id, get the change of a rollout from now on, or no longer.
// s.moving must be held.
func (s *liveEstate) flip(m *machine, flipped []string) {
	live := s.current()
	place := live.place(m.row.ID)
	if len(flipped) == 0 || place < 0 {
		return
	}
	type pair struct{ from, to reached }
	groups := map[pair][]estate.DeviceID{}
	for i, to := range s.reachedByEach(live, flipped) {
		p := pair{to.with(place), to}
		if to.has(place) {
			p.from = to.without(place)
		}
		groups[p] = append(groups[p], estate.DeviceID(flipped[i]))
	}
	t := turn{number: live.Turn, at: s.now()}
	all := live.Plan.Set(slices.Values([]estate.DeviceID(nil)))
	for p, ids := range groups {
		of := live.Plan.Set(slices.Values(ids))
		all = all.Or(of)
		report := impact.Compare(live.sideWith(p.from), live.sideWith(p.to))
		for i := range report.Transitions {
			a := *report.Transitions[i].Alteration
			if a.Devices = a.Devices.And(of); a.Devices.Len() > 0 {
				a.Devices = a.Devices.Bare()
				t.altered = append(t.altered, a)
			}
		}
	}
	t.devices = all.Bare()
	s.mu.Lock()
	defer s.mu.Unlock()
	// What is live stays: only its number rises.
	next := s.live.sameAgain()
	t.number = s.live.Turn
	s.addTurn(t)
	next.Turn = t.number + 1
	s.live = next
	if s.board != nil {
		s.board.at = time.Time{}
	}
}

// wakeRollouts has Tick called soon.
func (s *liveEstate) wakeRollouts() {
	select {
	case s.rolloutsWake <- struct{}{}:
	default: // it will be
	}
}

// tickEvery is how often rollouts are looked at. Things happen at their exact moments all the same: the
// state machine is told the time and brings what lies before it.
const tickEvery = 250 * time.Millisecond

// RunRollouts lets time go on in the rollouts until the context ends.
func (s *RolloutService) RunRollouts(ctx context.Context) {
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-s.rolloutsWake:
		}
		if err := s.Tick(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("letting rollouts go on", "error", err)
		}
	}
}

// Tick brings what time brings to the rollouts, ends those that are over, and starts those that waited
// for them.
func (s *RolloutService) Tick(ctx context.Context) error {
	now := second(s.now())
	var ended bool
	s.moving.RLock()
	var due, waiting []*machine
	for _, m := range s.machines {
		if at, known := m.Next(); known && !at.After(now) {
			due = append(due, m)
		}
		if w, more := m.NextWave(); more && w.ByHand && m.row.ReadyTold != string(w.ID) {
			waiting = append(waiting, m)
		}
		p, _ := m.Progress()
		ended = ended || p == rollout.Finished || p == rollout.TakenBack
	}
	s.moving.RUnlock()
	var errs []error
	for _, m := range due {
		errs = append(errs, s.advance(ctx, m))
	}
	for _, m := range waiting {
		s.moving.Lock()
		errs = append(errs, s.tellReady(ctx, m, now))
		s.moving.Unlock()
	}
	if ended || len(due) > 0 {
		errs = append(errs, s.conclude(ctx))
	}
	return errors.Join(errs...)
}

// advance lets time go on in one rollout.
func (s *liveEstate) advance(ctx context.Context, m *machine) error {
	s.moving.Lock()
	defer s.moving.Unlock()
	_, err := s.move(ctx, m, moved{by: bySystem, do: func(at time.Time) []rollout.Transition { return m.Advance(at) }})
	return err
}
