// This file tells how laptops stand to baselines, as they were measured last.

package workflow

import (
	"cmp"
	"context"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/baseline"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// BaselineRow is a baseline with how its laptops stand.
type BaselineRow struct {
	Baseline *estate.Baseline
	Count    baseline.Count
	Below    bool // its line
}

// Baselines lists the baselines by id.
func (s *BaselineService) Baselines(ctx context.Context, by Actor) ([]BaselineRow, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	counts, err := s.seenCounts(ctx, by)
	if err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	list := live.Plan.Snapshot().Baselines
	out := make([]BaselineRow, len(list))
	for i := range list {
		out[i].Baseline = &list[i]
		for _, c := range counts {
			if c.Baseline == string(list[i].ID) {
				addCount(&out[i].Count, c)
			}
		}
		out[i].Below = out[i].Count.Share() < list[i].AlertBelow
	}
	slices.SortFunc(out, func(a, b BaselineRow) int { return cmp.Compare(a.Baseline.ID, b.Baseline.ID) })
	return out, nil
}

// seenCounts counts states of the laptops that somebody sees.
func (s *BaselineService) seenCounts(ctx context.Context, by Actor) ([]store.BaselineCount, error) {
	if by.Held.Everywhere.Has(access.Read) {
		return s.store.In(ctx).BaselineCounts()
	}
	states, err := s.store.In(ctx).BaselineStates("", "")
	live := s.seenLive(by)
	var out []store.BaselineCount
	for i := range states {
		if live.Plan.Device(estate.DeviceID(states[i].Device)) != nil {
			out = append(out, store.BaselineCount{Baseline: states[i].Baseline, Unit: states[i].Unit, State: string(states[i].State), Count: 1})
		}
	}
	return out, err
}

// UnitCompliance is how the laptops of a unit, with what is below it, stand.
type UnitCompliance struct {
	Unit  estate.UnitID
	Count baseline.Count
}

// ItemCompliance is how laptops stand to an item of a baseline.
type ItemCompliance struct {
	Item     estate.BaselineItem
	Verdicts map[baseline.Verdict]int
	Policies []estate.PolicyID // that want another value on some laptop
}

// Compliance is how laptops stand to a baseline.
type Compliance struct {
	BaselineRow
	Units []UnitCompliance // in the order of the tree
	Items []ItemCompliance // the worst first
	Days  []store.BaselineDay
}

// Compliance tells how laptops stand to a baseline: those of a unit, with what is below it, where one is named.
func (s *BaselineService) Compliance(ctx context.Context, by Actor, id string, unit estate.UnitID) (*Compliance, error) {
	states, live, err := s.statesOf(ctx, by, id, unit)
	if err != nil {
		return nil, err
	}
	b := live.Plan.Snapshot().Object(estate.KindBaseline, id).(estate.Baseline)
	out := &Compliance{BaselineRow: BaselineRow{Baseline: &b}}
	var counts []store.BaselineCount
	failing := map[setting.ID]map[baseline.Verdict]int{}
	overridden := map[setting.ID]bool{}
	for i := range states {
		st := &states[i]
		counts = append(counts, store.BaselineCount{Baseline: id, Unit: st.Unit, State: string(st.State), Count: 1})
		out.Count.Add(st.State)
		for _, f := range st.Failing {
			if failing[f.Setting] == nil {
				failing[f.Setting] = map[baseline.Verdict]int{}
			}
			failing[f.Setting][f.Verdict]++
			overridden[f.Setting] = overridden[f.Setting] || f.Verdict == baseline.Overridden
		}
	}
	out.Below = out.Count.Share() < b.AlertBelow
	units := byUnit(live, counts)[id]
	paths := live.Plan.UnitPaths()
	for unit, c := range units {
		if live.Plan.Unit(estate.UnitID(unit)) != nil {
			out.Units = append(out.Units, UnitCompliance{estate.UnitID(unit), c})
		}
	}
	slices.SortFunc(out.Units, func(a, b UnitCompliance) int { return slices.Compare(paths[a.Unit], paths[b.Unit]) })
	for _, item := range b.Items {
		c := ItemCompliance{Item: item, Verdicts: failing[item.Setting]}
		if c.Verdicts == nil {
			c.Verdicts = map[baseline.Verdict]int{}
		}
		bad := 0
		for _, n := range c.Verdicts {
			bad += n
		}
		c.Verdicts[baseline.Complies] = len(states) - bad
		if overridden[item.Setting] {
			c.Policies = s.against(live, &b, item)
		}
		out.Items = append(out.Items, c)
	}
	slices.SortStableFunc(out.Items, func(a, b ItemCompliance) int {
		return cmp.Or(
			cmp.Compare(b.Verdicts[baseline.Overridden]+b.Verdicts[baseline.Differs], a.Verdicts[baseline.Overridden]+a.Verdicts[baseline.Differs]),
			cmp.Compare(slices.Index(estate.Severities, a.Item.Severity), slices.Index(estate.Severities, b.Item.Severity)),
			cmp.Compare(a.Item.Setting, b.Item.Setting),
		)
	})
	at := string(unit)
	if at == "" {
		at = s.rootOf(live)
	}
	out.Days, err = s.store.In(ctx).BaselineDays(id, at)
	return out, err
}

// rootOf gives the unit above all others; empty where there is none.
func (s *BaselineService) rootOf(live *Live) string {
	for _, u := range live.Plan.Snapshot().Units {
		if u.Parent == "" {
			return string(u.ID)
		}
	}
	return ""
}

// against lists the policies that want on some of the baseline's laptops what does not comply with an item.
func (s *BaselineService) against(live *Live, b *estate.Baseline, item estate.BaselineItem) (out []estate.PolicyID) {
	gets := live.Plan.ReachOf(b.AsPolicy()).Gets
	d := live.Plan.Definition(item.Setting)
	for policy, on := range live.Plan.Winners(item.Setting, gets) {
		p := live.Plan.Policy(policy)
		if p == nil || on.Len() == 0 {
			continue
		}
		if e := p.Entry(item.Setting); p.Baseline == "" && e != nil && d != nil && !baseline.Meets(d, item.Value, e.Value) {
			out = append(out, policy)
		}
	}
	slices.Sort(out)
	return out
}

// statesOf gives how the laptops that somebody sees stand to a baseline.
func (s *BaselineService) statesOf(ctx context.Context, by Actor, id string, unit estate.UnitID) ([]store.BaselineState, *Live, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, nil, err
	}
	live := s.seenLive(by)
	if live.Plan.Snapshot().Object(estate.KindBaseline, id) == nil {
		return nil, nil, &NotFoundError{string(estate.KindBaseline), id}
	}
	if unit != "" && live.Plan.Unit(unit) == nil {
		return nil, nil, &NotFoundError{string(estate.KindUnit), string(unit)}
	}
	states, err := s.store.In(ctx).BaselineStates(id, "")
	paths := live.Plan.UnitPaths()
	states = slices.DeleteFunc(states, func(st store.BaselineState) bool {
		path := paths[estate.UnitID(st.Unit)]
		return live.Plan.Device(estate.DeviceID(st.Device)) == nil || unit != "" && !slices.Contains(path, string(unit))
	})
	return states, live, err
}

// ComplianceFilter says which laptops are meant. The zero ComplianceFilter means all.
type ComplianceFilter struct {
	Unit    estate.UnitID
	State   baseline.State
	Setting setting.ID // that is not as the baseline wants it
}

// CompliantLaptops lists how laptops stand to a baseline, by id.
func (s *BaselineService) CompliantLaptops(ctx context.Context, by Actor, id string, f ComplianceFilter) ([]store.BaselineState, error) {
	states, _, err := s.statesOf(ctx, by, id, f.Unit)
	return slices.DeleteFunc(states, func(st store.BaselineState) bool {
		return f.State != "" && st.State != f.State ||
			f.Setting != "" && !slices.ContainsFunc(st.Failing, func(x baseline.Failing) bool { return x.Setting == f.Setting })
	}), err
}

// BaselinesOf tells how a laptop stands to the baselines that it is in.
func (s *BaselineService) BaselinesOf(ctx context.Context, device string) ([]store.BaselineState, error) {
	return s.store.In(ctx).BaselineStates("", device)
}

// CaptureBaseline gives items of a baseline: what a laptop has in force, or what a policy sets.
func (s *ChangeService) CaptureBaseline(ctx context.Context, by Actor, device estate.DeviceID,
	policy estate.PolicyID) ([]estate.BaselineItem, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	var out []estate.BaselineItem
	add := func(id setting.ID, v setting.Value, area string) {
		out = append(out, estate.BaselineItem{Setting: id, Value: v, Severity: estate.Medium, Category: area, OnDrift: estate.Report})
	}
	live := s.seenLive(by)
	if policy != "" {
		p := live.Plan.Policy(policy)
		if p == nil {
			return nil, &NotFoundError{"policy", string(policy)}
		}
		for _, e := range p.Entries {
			if d := live.Plan.Definition(e.Setting); d != nil && !e.Value.IsNothing() {
				add(e.Setting, e.Value, d.Area)
			}
		}
		return out, nil
	}
	if live.Plan.Device(device) == nil {
		return nil, &NotFoundError{"device", string(device)}
	}
	captured, err := s.Capture(ctx, by, device)
	for _, c := range captured {
		add(c.Definition.ID, c.Reported, c.Definition.Area)
	}
	return out, err
}
