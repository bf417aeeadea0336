// This file takes what laptops say at their check-ins to the rollouts that they are in.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// CheckedIn is what a check-in of a laptop came to: its deliveries before it and after it, by setting.
type CheckedIn struct {
	Device        string
	Before, After map[setting.ID]rollout.Delivery
}

// RolloutService has the use cases of rollouts.
type RolloutService struct {
	*liveEstate
	changes *ChangeService
}

// inRollouts gives the rollouts under way that a laptop is in, in the order of their publication.
// s.moving must be held.
func (s *liveEstate) inRollouts(device string) []*machine {
	return slices.DeleteFunc(s.inOrder(), func(m *machine) bool { return !m.Has(device) })
}

// Heard notes for the rollouts that a laptop checked in and said nothing new. One that is due may have all
// that is wanted without having been sent anything.
func (s *RolloutService) Heard(ctx context.Context, device string) error {
	s.moving.RLock()
	in := s.inRollouts(device)
	due := slices.ContainsFunc(in, func(m *machine) bool {
		is, _ := m.Member(device)
		return m.Given(device) && (is.State == rollout.Due || is.State == rollout.Silent)
	})
	s.moving.RUnlock()
	switch {
	case len(in) == 0:
		return nil
	case due:
		known, err := s.store.In(ctx).Deliveries(device)
		if err != nil {
			return err
		}
		return s.Reported(ctx, CheckedIn{Device: device, Before: known, After: known}, func(*store.Store) error { return nil })
	}
	s.moving.Lock()
	defer s.moving.Unlock()
	var errs []error
	for _, m := range in {
		_, err := s.move(ctx, m, moved{
			by: Actor{Name: device, Via: "device"}, do: func(at time.Time) []rollout.Transition { return m.Tell(at, device, rollout.Heard) },
		})
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Reported takes what a check-in came to to the rollouts that the laptop is in, in one transaction with
// what write writes.
func (s *RolloutService) Reported(ctx context.Context, c CheckedIn, write func(tx *store.Store) error) error {
	s.moving.RLock()
	in := s.inRollouts(c.Device)
	s.moving.RUnlock()
	if len(in) == 0 {
		return s.store.Transaction(ctx, write)
	}
	s.moving.Lock()
	defer s.moving.Unlock()
	live := s.Live()
	happened := make([][]rollout.Transition, len(in))
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := write(tx); err != nil {
			return err
		}
		for i, m := range in {
			v, err := s.judge(live, m, c)
			if err != nil {
				return err
			}
			told := moved{
				by: Actor{Name: c.Device, Via: "device"}, reasons: map[string]string{c.Device: v.reason}, before: v.before,
				do: func(at time.Time) []rollout.Transition { return m.Tell(at, c.Device, v.report) },
			}
			if happened[i], err = s.moveWithin(tx, m, told); err != nil {
				return err
			}
		}
		return nil
	})
	for i, m := range in {
		if err != nil {
			s.reread(m)
		} else {
			s.told(m, happened[i])
		}
	}
	return err
}

// verdict is what a check-in means for one rollout.
type verdict struct {
	report rollout.Report
	reason string                  // with ReportRefused
	before map[string][]setting.ID // settings that failed before the change was sent, where that was not known
}

// judge says what a check-in means for a rollout. s.moving must be held.
func (s *RolloutService) judge(live *Live, m *machine, c CheckedIn) (verdict, error) {
	is, _ := m.Member(c.Device)
	if is.State == rollout.Waiting || is.State == rollout.Excused {
		return verdict{report: rollout.Heard}, nil
	}
	if p, _ := m.Progress(); p == rollout.TakingBack {
		return verdict{report: m.returned(is, c)}, nil
	}
	place := live.place(m.row.ID)
	if place < 0 {
		return verdict{report: rollout.Heard}, nil
	}
	r := s.reachedBy(live, c.Device)
	with, err := live.planWith(r.with(place)).Reasons(estate.DeviceID(c.Device), "")
	if err != nil {
		return verdict{}, err
	}
	without, err := live.planWith(r.without(place)).Reasons(estate.DeviceID(c.Device), "")
	if err != nil {
		return verdict{}, err
	}
	before, looked := m.failedBefore[c.Device]
	out := verdict{report: rollout.ReportTaken}
	if !looked {
		for id := range altering(without, with) {
			if d := c.Before[id]; d.Status == rollout.Failed {
				before = append(before, id)
			}
		}
		out.before = map[string][]setting.ID{c.Device: before}
	}
	for id, wanted := range altering(without, with) {
		switch d := c.After[id]; {
		case wanted.Status == outcome.Conflict || wanted.Status == outcome.Unsupported: // nothing is sent
		case d.Reported.Equal(wanted.Value) && d.Status != rollout.Failed:
		case d.Status == rollout.Failed && d.Wanted.Equal(wanted.Value) && !slices.Contains(before, id):
			out.report = rollout.ReportRefused
			if out.reason == "" {
				out.reason = s.reasonIn(live, id, d)
			}
		case out.report == rollout.ReportTaken:
			out.report = rollout.Heard // not yet
		}
	}
	return out, nil
}

// reasonIn gives a laptop's reason for refusing a setting, with the setting's title.
func (s *RolloutService) reasonIn(live *Live, id setting.ID, d rollout.Delivery) string {
	title := string(id)
	if def := live.Plan.Definition(id); def != nil && def.Title != "" {
		title = def.Title
	}
	return fmt.Sprintf("%s: %s", title, d.Reason)
}

// altering gives the settings that differ on a laptop between two estates, and what they are in the
// second; the zero State where they do not appear.
func altering(without, with *resolve.Reasons) func(yield func(setting.ID, outcome.State) bool) {
	return func(yield func(setting.ID, outcome.State) bool) {
		for s := range with.Outcomes {
			if is := stateOf(s, true); !is.Equal(stateIn(without, s.ID)) && !yield(s.ID, is) {
				return
			}
		}
		for s := range without.Outcomes {
			if _, appears := with.Outcome(s.ID); !appears && !yield(s.ID, outcome.State{}) {
				return
			}
		}
	}
}

// stateIn gives what a setting is among reasons; the zero State where it does not appear.
func stateIn(r *resolve.Reasons, id setting.ID) outcome.State { return stateOf(r.Outcome(id)) }

func stateOf(s outcome.Setting, appears bool) outcome.State {
	switch {
	case !appears:
		return outcome.State{}
	case s.Status != outcome.Set:
		return outcome.State{Status: s.Status}
	}
	return outcome.State{Status: s.Status, Value: s.Value}
}

// returned says what a check-in means for a rollout that is taken back: the laptop has what it had before
// once nothing of what the change altered is on its way.
func (m *machine) returned(is rollout.Member, c CheckedIn) rollout.Report {
	settled := true
	for id := range m.altered {
		if d, known := c.After[id]; known && (d.Status == rollout.Pending || d.Status == rollout.Failed) {
			settled = false
		}
	}
	has := is.State == rollout.Taken || is.State == rollout.Refused || is.State == rollout.Lost
	switch {
	case settled && has:
		return rollout.ReportUndone
	case !settled && !has: // it was on its way
		return rollout.ReportTaken
	}
	return rollout.Heard
}
