// This file shows rollouts, and does what people ask for.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// WaveView is a wave of a rollout with how far its laptops are.
type WaveView struct {
	estate.Wave
	Opened   time.Time // zero: not yet
	Counts   map[string]int
	Forecast rollout.Forecast

	HalfTaken, MostTaken *time.Time // when half of its laptops, and 95 of 100, had taken it
}

// RolloutView is a rollout as people look at it.
type RolloutView struct {
	store.Rollout
	Plan     estate.RolloutPlan
	Waves    []WaveView
	Counts   map[string]int // laptops by state
	Next     time.Time      // when time alone brings something; zero: it does not, as far as is known
	Ready    bool           // the next wave waits for a person
	Passed   bool           // the gate of the last open wave, time aside
	GateFrom time.Time      // from when on that wave has been open for long enough
	Reasons  []store.ReasonCount
	Waits    []string // rollouts that it waits for
}

// Under tells whether a rollout is under way.
func (v *RolloutView) Under() bool { return !v.Concluded && v.EndedAt == nil }

// Total counts the laptops of a rollout.
func (v *RolloutView) Total() (n int) {
	for _, c := range v.Counts {
		n += c
	}
	return n
}

// Rollouts lists rollouts, those under way first, then the newest.
func (s *RolloutService) Rollouts(ctx context.Context, by Actor) ([]RolloutView, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Rollouts(true)
	if err != nil {
		return nil, err
	}
	out := make([]RolloutView, 0, len(rows))
	for _, row := range slices.Backward(rows) {
		v, err := s.viewOf(ctx, by, row)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	slices.SortStableFunc(out, underFirst)
	return out, nil
}

// Rollout gives one rollout with its laptops' reasons.
func (s *RolloutService) Rollout(ctx context.Context, by Actor, id string) (RolloutView, error) {
	if err := by.Need(access.Read); err != nil {
		return RolloutView{}, err
	}
	row, err := s.store.In(ctx).Rollout(id)
	if err != nil {
		return RolloutView{}, notFound(err, "rollout", id)
	}
	v, err := s.viewOf(ctx, by, row)
	if err != nil {
		return v, err
	}
	v.Reasons, err = s.store.In(ctx).FailureReasons(id, uint8(rollout.Refused))
	return v, err
}

// viewOf gives a rollout as it is now. Whoever does not read everywhere is not told whom waves are for.
func (s *RolloutService) viewOf(ctx context.Context, by Actor, row store.Rollout) (RolloutView, error) {
	v := RolloutView{Rollout: row, Counts: map[string]int{}}
	var err error
	if v.Plan, err = files.DecodePlan([]byte(row.Plan)); err != nil {
		return v, err
	}
	if !by.Held.Everywhere.Has(access.Read) {
		for i := range v.Plan.Waves {
			v.Plan.Waves[i].Who = estate.Audience{}
		}
	}
	if row.StartedAt == nil {
		v.Waits = strings.Fields(row.Reason)
		return v, nil
	}
	s.moving.RLock()
	defer s.moving.RUnlock()
	m := s.machines[row.ID]
	if m == nil {
		return v, s.countStored(ctx, &v)
	}
	v.Rollout = m.row
	for i, w := range m.Waves() {
		is := WaveView{Opened: w.Opened, Counts: map[string]int{}, Forecast: m.Forecast(i), HalfTaken: m.waves[i].HalfAt,
			MostTaken: m.waves[i].MostAt}
		is.Wave, _ = v.Plan.Wave(w.ID)
		for state, n := range w.Counts {
			if n > 0 {
				is.Counts[rollout.State(state).String()] = n
				v.Counts[rollout.State(state).String()] += n
			}
		}
		v.Waves = append(v.Waves, is)
	}
	if at, known := m.Next(); known {
		v.Next = at
	}
	v.GateFrom, v.Passed = m.Gate()
	if w, more := m.NextWave(); more && w.ByHand && v.Passed && m.row.Progress == string(rollout.Running) {
		v.Ready = !v.GateFrom.After(s.now())
	}
	return v, nil
}

// countStored counts the laptops of a rollout that is over as they are stored.
func (s *RolloutService) countStored(ctx context.Context, v *RolloutView) error {
	waves, err := s.store.In(ctx).Waves(v.ID)
	if err != nil {
		return err
	}
	counts, err := s.store.In(ctx).WaveCounts(v.ID)
	if err != nil {
		return err
	}
	for _, w := range waves {
		is := WaveView{Counts: map[string]int{}, HalfTaken: w.HalfAt, MostTaken: w.MostAt}
		is.Wave, _ = v.Plan.Wave(estate.WaveID(w.Wave))
		if w.OpenedAt != nil {
			is.Opened = *w.OpenedAt
		}
		for _, c := range counts {
			if c.Wave == w.Wave {
				is.Counts[rollout.State(c.State).String()] = c.Laptops
				v.Counts[rollout.State(c.State).String()] += c.Laptops
			}
		}
		v.Waves = append(v.Waves, is)
	}
	return nil
}

// RolloutPoint is how many laptops have taken the change, and how many failed, at a moment.
type RolloutPoint struct {
	At            time.Time
	Taken, Failed int
}

// rolloutPoints is how many points the course of a rollout has at most.
const rolloutPoints = 200

// RolloutCourse gives the course of a rollout so far.
func (s *RolloutService) RolloutCourse(ctx context.Context, by Actor, id string) ([]RolloutPoint, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	steps, err := s.store.In(ctx).StateSteps(id)
	if err != nil {
		return nil, err
	}
	var out []RolloutPoint
	counts := map[string]int{}
	for i, step := range steps {
		counts[step.From] -= step.Laptops
		counts[step.To] += step.Laptops
		if i+1 < len(steps) && steps[i+1].Minute == step.Minute {
			continue
		}
		at, err := time.Parse("2006-01-02 15:04", step.Minute)
		if err != nil {
			return nil, err
		}
		// Lost laptops took it: they are not heard any more.
		out = append(out, RolloutPoint{at, counts[rollout.Taken.String()] + counts[rollout.Lost.String()], counts[rollout.Refused.String()]})
	}
	if len(out) > rolloutPoints {
		thin := make([]RolloutPoint, rolloutPoints)
		for i := range thin {
			thin[i] = out[i*(len(out)-1)/(rolloutPoints-1)]
		}
		out = thin
	}
	return out, nil
}

// RolloutLaptops lists the laptops of a rollout by id, of one wave and in one state where these are named.
func (s *RolloutService) RolloutLaptops(ctx context.Context, by Actor, id, wave, state string) ([]store.RolloutLaptop, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if _, err := s.store.In(ctx).Rollout(id); err != nil {
		return nil, notFound(err, "rollout", id)
	}
	rows, err := s.store.In(ctx).RolloutLaptops(id)
	if err != nil {
		return nil, err
	}
	seen := s.seenLive(by)
	return slices.DeleteFunc(rows, func(l store.RolloutLaptop) bool {
		return wave != "" && l.Wave != wave || state != "" && rollout.State(l.State).String() != state ||
			!by.Held.Everywhere.Has(access.Read) && seen.Plan.Device(estate.DeviceID(l.Device)) == nil
	}), nil
}

// RolloutEvents lists what happened in a rollout, the newest first.
func (s *RolloutService) RolloutEvents(ctx context.Context, by Actor, id string, below int64, laptops bool,
	most int) ([]store.RolloutEvent, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if _, err := s.store.In(ctx).Rollout(id); err != nil {
		return nil, notFound(err, "rollout", id)
	}
	return s.store.In(ctx).RolloutEvents(id, below, laptops, most)
}

// RefusedActError says that a rollout is not in a state in which something can be done.
type RefusedActError struct {
	Rollout, Progress string
	Act               rollout.Act
}

func (e *RefusedActError) Error() string {
	return fmt.Sprintf("rollout %s is %s: %s is not possible", e.Rollout, e.Progress, e.Act)
}

// ActInput is what somebody does with a rollout.
type ActInput struct {
	Act    rollout.Act
	Device string // with rollout.Excuse
	Note   string // why
}

// Act does something with a rollout.
func (s *RolloutService) Act(ctx context.Context, by Actor, id string, in ActInput) (RolloutView, error) {
	if err := by.NeedSomewhere(access.OperateRollouts); err != nil {
		return RolloutView{}, err
	}
	if len(in.Note) > maxComment {
		return RolloutView{}, tooLongComment("/note", in.Note)
	}
	if in.Act == rollout.Excuse && strings.TrimSpace(in.Note) == "" {
		return RolloutView{}, problem.Faults{{Code: problem.MissingField, Path: "/note", Found: "nothing",
			Expected: "the reason why the laptop need not take the change"}}
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	row, err := s.store.In(ctx).Rollout(id)
	if err != nil {
		return RolloutView{}, notFound(err, "rollout", id)
	}
	edits, err := s.store.In(ctx).Edits(id)
	if err != nil {
		return RolloutView{}, err
	}
	live := s.Live()
	if err := s.checkScope(by, access.OperateRollouts, live, live.Plan.Snapshot(), edits...); err != nil {
		return RolloutView{}, err
	}
	switch {
	case row.StartedAt == nil && in.Act == rollout.TakeBack:
		err = s.withdraw(ctx, by, row)
		return RolloutView{Rollout: row}, err
	case row.StartedAt == nil:
		return RolloutView{}, &RefusedActError{id, row.Progress, in.Act}
	}
	if err := s.actOn(ctx, by, id, in); err != nil {
		return RolloutView{}, err
	}
	if row, err = s.store.In(ctx).Rollout(id); err != nil {
		return RolloutView{}, err
	}
	return s.viewOf(ctx, by, row)
}

// actOn does something with a rollout that has started. s.writing must be held.
func (s *RolloutService) actOn(ctx context.Context, by Actor, id string, in ActInput) error {
	s.moving.Lock()
	defer s.moving.Unlock()
	m := s.machines[id]
	if m == nil {
		row, err := s.store.In(ctx).Rollout(id)
		return errors.Join(err, &RefusedActError{id, row.Progress, in.Act})
	}
	if in.Act == rollout.Excuse && !m.Has(in.Device) {
		return &NotFoundError{"laptop in the rollout", in.Device}
	}
	before := m.row.Progress
	how := moved{by: by, act: in.Act, note: in.Note, do: func(at time.Time) []rollout.Transition { return m.Do(at, in.Act, in.Device) }}
	how.action = "rollout: " + string(in.Act)
	if in.Act == rollout.Excuse {
		how.reasons = map[string]string{in.Device: in.Note}
	}
	refused, err := s.move(ctx, m, how)
	if err != nil {
		return err
	}
	if refused {
		return &RefusedActError{id, before, in.Act}
	}
	if in.Act == rollout.TakeBack {
		if live := s.Live(); live.place(id) >= 0 {
			next := s.takeOut(m, live, live.place(id))
			s.mu.Lock()
			s.goLive(next, nil) // laptops that got the change were told (flip)
			clear(s.drafts)
			clear(s.laid)
			s.mu.Unlock()
			s.Notify(Event{Topic: "estate", ID: fmt.Sprint(next.Revision)})
		}
	}
	return nil
}

// withdraw opens a change again that waits for others. s.writing must be held.
func (s *RolloutService) withdraw(ctx context.Context, by Actor, row store.Rollout) error {
	c, err := s.store.In(ctx).Change(row.ID)
	if err != nil {
		return err
	}
	c.State, c.UpdatedAt, c.Looked = Open, s.now(), ""
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.RemoveRollout(row.ID), tx.SaveChange(c),
			s.audit(tx, by, store.AuditRecord{Action: "rollout: withdraw", ChangeID: row.ID}))
	})
	s.Notify(Event{Topic: "rollout", ID: row.ID})
	return err
}

// Coming is a rollout that a laptop is in.
type Coming struct {
	Rollout  string
	Title    string
	Progress string
	Wave     string
	State    string
	Reason   string
	Gets     bool      // it gets the change now
	Expected time.Time // when it usually checks in next; zero: not known
	Settings []ComingSetting
}

// ComingSetting is a setting that a rollout alters on a laptop.
type ComingSetting struct {
	Setting  setting.ID
	From, To outcome.State // without the change, and with it
}

// ComingTo lists the rollouts under way that a laptop is in, with what they alter on it.
func (s *RolloutService) ComingTo(ctx context.Context, by Actor, device string) ([]Coming, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.Live()
	if s.seenLive(by).Plan.Device(estate.DeviceID(device)) == nil {
		return nil, &NotFoundError{"device", device}
	}
	s.moving.RLock()
	defer s.moving.RUnlock()
	var out []Coming
	for _, m := range s.inRollouts(device) {
		is, _ := m.Member(device)
		c := Coming{
			Rollout: m.row.ID, Title: m.row.Title, Progress: m.row.Progress, Wave: string(is.Wave), State: is.State.String(), Gets: m.Given(device),
		}
		if is.Interval > 0 {
			c.Expected = is.Heard.Add(is.Interval)
		}
		if place := live.place(m.row.ID); place >= 0 {
			r := s.reachedBy(live, device)
			with, err := live.planWith(r.with(place)).Reasons(estate.DeviceID(device), "")
			if err != nil {
				return nil, err
			}
			without, err := live.planWith(r.without(place)).Reasons(estate.DeviceID(device), "")
			if err != nil {
				return nil, err
			}
			for id, to := range altering(without, with) {
				c.Settings = append(c.Settings, ComingSetting{id, stateIn(without, id), to})
			}
		}
		slices.SortFunc(c.Settings, func(a, b ComingSetting) int { return strings.Compare(string(a.Setting), string(b.Setting)) })
		out = append(out, c)
	}
	return out, nil
}

// PlanNow gives the plan by which a laptop gets its settings now, as far as somebody may read it: with
// the rollouts that have reached it. With a change it is the plan of the view.
func (s *RolloutService) PlanNow(_ context.Context, by Actor, v View, change, device string) (*resolve.Plan, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if change != "" {
		return v.Plan, nil
	}
	return s.PlanFor(v.Live, device), nil
}
