// Package review tells somebody who writes a policy what they should know before it is kept: where else each setting is set and
// what becomes of it there, who does not support it, which values are wrong together, in this policy alone and with what
// else reaches its laptops, what something else forces, and whether the policy has more than one purpose.
//
// It reads a resolution and decides nothing by itself.
package review

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Relation says what another policy's entry is to the one that is looked at.
type Relation string

const (
	Repeats    Relation = "repeats"    // the same value for some of the same laptops
	Conflicts  Relation = "conflicts"  // a conflict on some of them
	Overrides  Relation = "overrides"  // the other one wins on some of them
	Overridden Relation = "overridden" // the other one gives way
	Adds       Relation = "adds"       // both count
	Apart      Relation = "apart"      // no laptop in common
)

// AlsoSet is another active policy that sets a setting.
type AlsoSet struct {
	Setting  setting.ID
	Policy   estate.PolicyID
	Value    setting.Value
	Locked   bool
	Devices  int // laptops to which it brings the setting
	Shared   int // of those, laptops that the policy that is looked at reaches too
	Relation Relation
	Fates    map[resolve.Fate]int // what becomes of the other policy's entry on the shared ones
}

// Lacking counts laptops that a policy reaches and that do not support a setting, by the first reason.
type Lacking map[setting.Unsupported]int

// Use is what a policy does in an estate.
type Use struct {
	Reach    resolve.Reach
	AlsoSet  []AlsoSet                           // of its settings: by setting, then those that share most laptops first
	Mine     map[setting.ID]map[resolve.Fate]int // what becomes of its own entries
	Lacking  map[setting.ID]Lacking              // of its settings, where some of its laptops do not support one
	NotKnown map[setting.ID]int                  // of its settings, on how many of its laptops nobody knows whether they support one; they count as supported
	Forced   map[setting.ID]int                  // its settings, on how many laptops something else forces another value than is decided
	Problems []resolve.ProblemFound              // that its entries are part of
}

// Look says what a policy does. ok is false when there is no such policy.
func Look(side impact.Side, id estate.PolicyID) (use *Use, ok bool) {
	policy := side.Plan.Policy(id)
	if policy == nil {
		return nil, false
	}
	use = &Use{
		Mine:     map[setting.ID]map[resolve.Fate]int{},
		Lacking:  map[setting.ID]Lacking{},
		NotKnown: map[setting.ID]int{},
		Forced:   map[setting.ID]int{},
	}
	use.Reach, _ = side.Plan.Reach(id)
	for _, e := range policy.Entries {
		standings := side.Plan.EntryFates(e.Setting, use.Reach.Gets)
		use.AlsoSet = append(use.AlsoSet, elsewhere(side, standings, e.Setting, id, &e.Value)...)
		if lacking := LackingOn(side, e.Setting, use.Reach.Gets); len(lacking) > 0 {
			use.Lacking[e.Setting] = lacking
		}
		if n := side.Plan.SupportUnknown(e.Setting).And(use.Reach.Gets).Len(); n > 0 {
			use.NotKnown[e.Setting] = n
		}
		for _, s := range standings {
			if s.Policy == id && len(s.Fates) > 0 {
				use.Mine[e.Setting] = s.Fates
			}
		}
		if n := side.Resolution.Forced(e.Setting).And(use.Reach.Gets).And(side.Plan.Applies(id)).Len(); n > 0 {
			use.Forced[e.Setting] = n
		}
	}
	slices.SortStableFunc(use.AlsoSet, func(a, b AlsoSet) int { return cmp.Compare(a.Setting, b.Setting) })
	for _, p := range side.Resolution.Problems() {
		if slices.Contains(p.From, string(id)) {
			use.Problems = append(use.Problems, p)
		}
	}
	return use, true
}

// ElsewhereOf lists the active policies other than one that set a setting, those that share most laptops with reached first. mine
// is the value beside which theirs are seen, nil when there is none.
func ElsewhereOf(side impact.Side, id setting.ID, except estate.PolicyID, mine *setting.Value, reached resolve.Devices) []AlsoSet {
	return elsewhere(side, side.Plan.EntryFates(id, reached), id, except, mine)
}

func elsewhere(side impact.Side, standings []resolve.EntryFates, id setting.ID, except estate.PolicyID, mine *setting.Value) []AlsoSet {
	at := map[estate.PolicyID]*AlsoSet{}
	policies := side.Plan.Snapshot().Policies
	for i := range policies {
		if p := &policies[i]; p.ID != except && p.State == estate.Active {
			if e := p.Entry(id); e != nil {
				at[p.ID] = &AlsoSet{Setting: id, Policy: p.ID, Value: e.Value, Locked: e.Lock, Fates: map[resolve.Fate]int{}}
			}
		}
	}
	if len(at) == 0 {
		return nil
	}
	for _, s := range standings {
		if other := at[s.Policy]; other != nil {
			other.Devices, other.Shared, other.Fates = s.Devices, s.Among, s.Fates
		}
	}
	out := make([]AlsoSet, 0, len(at))
	for _, a := range at {
		a.Relation = relation(side.Plan.Definition(id), a, mine)
		out = append(out, *a)
	}
	slices.SortFunc(out, func(a, b AlsoSet) int {
		return cmp.Or(cmp.Compare(b.Shared, a.Shared), cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Policy, b.Policy))
	})
	return out
}

func relation(d *setting.Definition, a *AlsoSet, mine *setting.Value) Relation {
	switch {
	case a.Shared == 0:
		return Apart
	case a.Fates[resolve.Clashing] > 0:
		return Conflicts
	case mine != nil && a.Value.Equal(*mine):
		return Repeats
	case d != nil && d.Combine.ByItems():
		return Adds
	case a.Fates[resolve.Won] > 0:
		return Overrides
	}
	return Overridden
}

// LackingOn counts, of some laptops, those that do not support a setting.
func LackingOn(side impact.Side, id setting.ID, devices resolve.Devices) Lacking {
	var out Lacking
	for why, who := range side.Plan.Lacking(id) {
		if n := who.And(devices).Len(); n > 0 {
			if out == nil {
				out = Lacking{}
			}
			out[why] = n
		}
	}
	return out
}
