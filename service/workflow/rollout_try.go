// This file foresees rollouts: what a change shares with those under way, and how a plan would go on this
// estate.

package workflow

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
)

// Meeting is a rollout under way that touches what a change touches, too.
type Meeting struct {
	Rollout, Title, Progress string
	Settings                 []setting.ID // that both alter
	Laptops                  resolve.Devices
	Objects                  []string // that both edit: the change waits for the rollout
}

// Meetings says which rollouts under way touch the same settings, objects or laptops as a change.
func (s *ChangeService) Meetings(ctx context.Context, by Actor, change string) ([]Meeting, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	c, edits, err := s.change(ctx, change)
	if err != nil || c.State != Open && c.State != InReview || len(edits) == 0 {
		return nil, err
	}
	d, err := s.draft(ctx, change)
	if err != nil || len(d.faults) > 0 {
		return nil, err
	}
	live := d.live
	mine := alteredSettings(s.seenBy(by, d).report)
	seen, _ := s.seenEdits(ctx, by, change, edits)
	var under, out []Meeting
	s.moving.RLock()
	for _, m := range s.inOrder() {
		under = append(under, Meeting{Rollout: m.row.ID, Title: m.row.Title, Progress: m.row.Progress, Objects: sharedObjects(m.edits, seen)})
	}
	s.moving.RUnlock()
	for _, meets := range under {
		if place := live.place(meets.Rollout); place >= 0 {
			its := impact.Compare(live.sideWith(live.earlier(place)), live.sideWith(live.earlier(place).with(place)))
			for id := range alteredSettings(its) {
				if mine[id] {
					meets.Settings = append(meets.Settings, id)
				}
			}
			slices.Sort(meets.Settings)
			meets.Laptops = its.Devices.And(d.report.Devices)
		}
		if len(meets.Settings) > 0 || meets.Laptops.Len() > 0 || len(meets.Objects) > 0 {
			out = append(out, meets)
		}
	}
	return out, nil
}

// PlanOutcome is how a rollout by a plan would go.
type PlanOutcome struct {
	*rollout.Simulation
	Waves   []PlanWave
	Laptops int
	NoHabit int // laptops of which the usual interval is not known
	Started time.Time
	Faults  problem.Faults // with any, the rest is empty
}

// PlanWave is a wave of a plan on this estate.
type PlanWave struct {
	ID        estate.WaveID
	Devices   resolve.Devices
	Platforms map[setting.Platform]int
	Opened    time.Time
}

// simulated is how long a plan is played.
const simulated = 365 * 24 * time.Hour

// TryPlan plays a rollout of a change by a plan, from now on; an empty change stands for one that touches
// every laptop. A share of the laptops refuses it.
func (s *RolloutService) TryPlan(ctx context.Context, by Actor, plan estate.RolloutPlan, change string,
	failing estate.Percent) (*PlanOutcome, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	v, err := s.changes.ViewOf(ctx, by, change)
	if err != nil {
		return nil, err
	}
	devices, after := v.Plan.All(), v.Plan
	if change != "" {
		report := impact.Compare(v.Live.Side, v.Side)
		devices = affectedBy(report, v.Live.Plan)
	}
	laptops, err := s.laptopsOf(ctx, devices, &plan, after)
	if err != nil {
		return nil, err
	}
	out := &PlanOutcome{Started: second(s.now()), Laptops: len(laptops)}
	for i := range laptops {
		if laptops[i].Interval == 0 {
			out.NoHabit++
		}
		if laptops[i].Heard.IsZero() { // it never checked in: it is played as if it did
			laptops[i].Heard = out.Started
		}
	}
	played, err := rollout.Simulate(change, plan, laptops, out.Started, failing, simulated)
	if errors.As(asFaults(err), &out.Faults) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Simulation = played
	r, _, err := rollout.Start(change, plan, laptops, out.Started)
	if err != nil {
		return nil, err
	}
	members := map[estate.WaveID][]estate.DeviceID{}
	for m := range r.Each {
		members[m.Wave] = append(members[m.Wave], estate.DeviceID(m.ID))
	}
	for _, w := range played.Waves {
		wave := PlanWave{ID: w.ID, Devices: after.Set(slices.Values(members[w.ID])), Platforms: map[setting.Platform]int{}, Opened: w.Opened}
		for _, id := range members[w.ID] {
			wave.Platforms[after.Device(id).OS]++
		}
		out.Waves = append(out.Waves, wave)
	}
	return out, nil
}

// CheckPlan gives faults where a plan does not fit this estate: its targets name nothing.
func (s *RolloutService) CheckPlan(_ context.Context, by Actor, plan estate.RolloutPlan) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	live := s.seenLive(by)
	edit := estate.Edit{Kind: estate.KindRolloutPlan, ID: string(plan.ID), Object: plan}
	next := live.Plan.Snapshot().With(edit)
	faults, _ := next.ValidateEdits([]estate.Edit{edit}, live.there([]estate.Edit{edit}))
	at := slices.IndexFunc(next.RolloutPlans, func(p estate.RolloutPlan) bool { return p.ID == plan.ID })
	prefix := problem.Join("", string(estate.KindRolloutPlan), at)
	var out problem.Faults
	for _, f := range faults {
		// Whether it is the default does not matter to one rollout.
		if rest, own := strings.CutPrefix(f.Path, prefix); own && !strings.HasSuffix(rest, "/default") {
			f.Path = rest
			out = append(out, f)
		}
	}
	if out == nil {
		return nil
	}
	return out
}
