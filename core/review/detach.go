// This file says what detaching costs: what no longer arrives, today's values to start from, and
// what was missed since.
//
// Detaching a place stops settings from arriving there from above. Whoever does it sees beforehand
// which entries get lost and which values are in effect today because of them, and can take these
// over as a policy of the place. Later, when the place is looked at again, entries that came
// meanwhile are listed.

package review

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Detaching is what a place would no longer get.
type Detaching struct {
	Devices  int               // laptops of the place
	Touched  int               // of those, laptops that lose something
	Dropped  []resolve.Dropped // entries that would no longer arrive, that do today
	Policies int
	Today    []TodayValue // the values that are in effect there today because of them
}

// TodayValue is a setting's value at a place today, as far as it comes from outside.
type TodayValue struct {
	Setting setting.ID
	Value   setting.Value // the one that most laptops have
	Devices int           // that have it
	Others  int           // that have another one
}

// Detach says what a place would lose by detaching: before is what is live, after the same with the
// place detached.
func Detach(before, after impact.Side, place estate.Target) Detaching {
	var out Detaching
	devices := before.Plan.Matching(place)
	out.Devices = devices.Len()
	// What is detached already is no loss of this step.
	already := map[[2]string]bool{}
	for _, d := range before.Plan.Dropped(place) {
		already[[2]string{string(d.Policy), string(d.Setting)}] = true
	}
	policies := map[estate.PolicyID]bool{}
	lost := map[setting.ID]map[estate.PolicyID]bool{}
	for _, d := range after.Plan.Dropped(place) {
		if already[[2]string{string(d.Policy), string(d.Setting)}] {
			continue
		}
		out.Dropped = append(out.Dropped, d)
		policies[d.Policy] = true
		if lost[d.Setting] == nil {
			lost[d.Setting] = map[estate.PolicyID]bool{}
		}
		lost[d.Setting][d.Policy] = true
	}
	out.Policies = len(policies)
	var touched resolve.Devices
	// For each setting: who loses it, and what value is in effect there today because of the
	// policies that no longer arrive.
	for id, policies := range lost {
		var gets resolve.Devices
		// Laptops of the place to which one of the lost policies brings the setting.
		for policy := range policies {
			gets = gets.Or(before.Plan.Applies(policy))
		}
		for _, h := range before.Resolution.States(id, gets.And(devices)) {
			if h.Status == outcome.Set {
				touched = touched.Or(h.Devices)
			}
		}
		// The value counts as lost where one of those policies had won.
		var won resolve.Devices
		for policy, where := range before.Plan.Winners(id, devices) {
			if policies[policy] {
				won = won.Or(where)
			}
		}
		var best *resolve.StateDevices
		all := 0
		states := before.Resolution.States(id, won)
		// The most frequent value is offered to start from. The others are counted.
		for i := range states { // the most frequent first
			if states[i].Status != outcome.Set {
				continue
			}
			if best == nil {
				best = &states[i]
			}
			all += states[i].Devices.Len()
		}
		if best != nil {
			n := best.Devices.Len()
			out.Today = append(out.Today, TodayValue{id, best.Value, n, all - n})
		}
	}
	out.Touched = touched.Len()
	slices.SortFunc(out.Today, func(a, b TodayValue) int { return cmp.Compare(a.Setting, b.Setting) })
	return out
}

// Missed is an entry that does not arrive at a place that is detached, and that came or altered
// since it does.
type Missed struct {
	resolve.Dropped
	Was *setting.Value // as it was then; nil: it was not there
}

// MissedSince lists what a place missed: then looks a policy up as it was when the place was
// detached, nil where there was none. An entry that is as it was then was given up on purpose. What
// came or altered later was not.
func MissedSince(plan *resolve.Plan, place estate.Target, then func(estate.PolicyID) *estate.Policy) []Missed {
	var out []Missed
	for _, d := range plan.Dropped(place) {
		m := Missed{Dropped: d}
		// An entry of a policy that was no active one did not arrive anywhere then.
		if was := then(d.Policy); was != nil && was.State == estate.Active {
			if e := was.Entry(d.Setting); e != nil {
				if e.Value.Equal(d.Value) {
					continue
				}
				m.Was = &e.Value
			}
		}
		out = append(out, m)
	}
	return out
}
