// This file gives rollouts as they were at a moment, from what happened in them.

package workflow

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// RolloutsAt lists the rollouts that were published by a moment as they were then: those under way first,
// then the newest. Laptops that have left a rollout since are not counted, and those that joined it are.
func (s *RolloutService) RolloutsAt(ctx context.Context, by Actor, at time.Time) ([]RolloutView, error) {
	if err := needEverywhere(by); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Rollouts(true)
	if err != nil {
		return nil, err
	}
	var out []RolloutView
	for _, row := range slices.Backward(rows) {
		if row.PublishedAt.After(at) {
			continue
		}
		v, err := s.viewAt(ctx, row, at)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	slices.SortStableFunc(out, underFirst)
	return out, nil
}

// underFirst orders rollouts: those under way first.
func underFirst(a, b RolloutView) int {
	switch {
	case a.Under() == b.Under():
		return 0
	case a.Under():
		return -1
	}
	return 1
}

// RolloutAt gives one rollout as it was at a moment, with its laptops' reasons.
func (s *RolloutService) RolloutAt(ctx context.Context, by Actor, id string, at time.Time) (RolloutView, error) {
	if err := needEverywhere(by); err != nil {
		return RolloutView{}, err
	}
	row, err := s.store.In(ctx).Rollout(id)
	if err != nil {
		return RolloutView{}, notFound(err, "rollout", id)
	}
	if row.PublishedAt.After(at) {
		return RolloutView{}, &NotFoundError{"rollout at that moment", id}
	}
	return s.viewAt(ctx, row, at)
}

// viewAt gives a rollout as it was at a moment.
func (s *RolloutService) viewAt(ctx context.Context, row store.Rollout, at time.Time) (RolloutView, error) {
	v := RolloutView{Rollout: then(row, at), Counts: map[string]int{}}
	var err error
	if v.Plan, err = files.DecodePlan([]byte(row.Plan)); err != nil {
		return v, err
	}
	if v.StartedAt == nil {
		if row.StartedAt == nil {
			v.Waits = strings.Fields(row.Reason)
		}
		return v, nil
	}
	events, err := s.store.In(ctx).EventsOfRollout(row.ID, at)
	if err != nil {
		return v, err
	}
	opened := map[string]time.Time{}
	for _, e := range events {
		switch e.What {
		case "state":
			v.Progress, v.Reason = e.To, e.Reason
		case "opened":
			opened[e.Wave] = e.At
		}
	}
	waves, err := s.store.In(ctx).Waves(row.ID)
	if err != nil {
		return v, err
	}
	laptops, err := s.store.In(ctx).StatesAt(row.ID, at)
	if err != nil {
		return v, err
	}
	for _, w := range waves {
		is := WaveView{Counts: map[string]int{}, Opened: opened[w.Wave], HalfTaken: cameBy(w.HalfAt, at), MostTaken: cameBy(w.MostAt, at)}
		is.Wave, _ = v.Plan.Wave(estate.WaveID(w.Wave))
		v.Waves = append(v.Waves, is)
	}
	reasons := map[string]int{}
	for _, l := range laptops {
		place := slices.IndexFunc(waves, func(w store.RolloutWave) bool { return w.Wave == l.Wave })
		if place < 0 {
			continue
		}
		state := l.State
		if state == "" { // nothing has happened to it: it went with its wave
			state = rollout.Waiting.String()
			if !v.Waves[place].Opened.IsZero() {
				state = rollout.Due.String()
			}
		}
		v.Waves[place].Counts[state]++
		v.Counts[state]++
		if state == rollout.Refused.String() {
			reasons[l.Reason]++
		}
	}
	for reason, n := range reasons {
		v.Reasons = append(v.Reasons, store.ReasonCount{Reason: reason, Laptops: n})
	}
	slices.SortFunc(v.Reasons, func(a, b store.ReasonCount) int {
		return cmp.Or(cmp.Compare(b.Laptops, a.Laptops), cmp.Compare(a.Reason, b.Reason))
	})
	return v, nil
}

// then gives what is stored of a rollout without what came after a moment.
func then(row store.Rollout, at time.Time) store.Rollout {
	if row.StartedAt = cameBy(row.StartedAt, at); row.StartedAt == nil {
		row.Progress = string(WaitsForOthers)
	} else {
		row.Progress = string(rollout.Running)
	}
	if row.EndedAt = cameBy(row.EndedAt, at); row.EndedAt == nil {
		row.Revision, row.Concluded = 0, false
	}
	row.Reason, row.SeenFailed, row.SeenLost = "", 0, 0
	return row
}

// cameBy gives a time that had come by a moment; nil where it had not.
func cameBy(is *time.Time, at time.Time) *time.Time {
	if is == nil || is.After(at) {
		return nil
	}
	return is
}
