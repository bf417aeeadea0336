// Package review tells somebody who writes a policy what they should know before it is kept: where
// else each setting is set and what becomes of it there, who does not support it, which values are
// wrong together, in this policy alone and with what else reaches its laptops, what something else
// forces, and whether the policy has more than one purpose.
//
// It reads a resolution and decides nothing by itself.
package review

import (
	"cmp"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// Relation says what another policy's entry is to the one that is looked at.
type Relation string

const (
	Repeats    Relation = "repeats"    // the same value for some of the same laptops
	Conflicts  Relation = "conflicts"  // a conflict on some of them
	Overrides  Relation = "overrides"  // the other one wins on some of them
	Overridden Relation = "overridden" // the other one is overridden
	Adds       Relation = "adds"       // both count
	Neither    Relation = "neither"    // none of the two is in effect on any of them
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
	Fates    map[outcome.Fate]int // what becomes of the other policy's entry on the shared ones
	Beside   resolve.Beside       // what becomes of both on these; zero where the policy that is looked at does not set it
}

// Neither counts the shared laptops on which something else than the two entries is in effect, or
// nothing. It is never negative.
func (a AlsoSet) Neither() int {
	b := a.Beside
	return max(0, a.Shared-b.Both-b.Conflict-b.Over-b.Under)
}

// Lacking counts laptops that a policy reaches and that do not support a setting, by the first
// reason.
type Lacking map[setting.Unsupported]int

// Use is what a policy does in an estate.
type Use struct {
	Reach   *resolve.Reach
	AlsoSet []AlsoSet                           // of its settings: by setting, then those that share most laptops first
	Mine    map[setting.ID]map[outcome.Fate]int // what becomes of its own entries
	Lacking map[setting.ID]Lacking              // of its settings, where some of its laptops do not support one
	// of its settings, on how many of its laptops nobody knows whether they support one; they count
	// as supported
	NotKnown map[setting.ID]int
	Forced   map[setting.ID]int     // its settings, on how many laptops something else forces another value than is decided
	Problems []resolve.ProblemFound // that its entries are part of
}

// Look says what a policy does. ok is false when there is no such policy.
func Look(side impact.Side, id estate.PolicyID) (use *Use, ok bool) {
	policy := side.Plan.Policy(id)
	if policy == nil {
		return nil, false
	}
	use = &Use{Mine: map[setting.ID]map[outcome.Fate]int{}, Forced: map[setting.ID]int{}}
	use.Reach, _ = side.Plan.Reach(id)
	// What others do matters on the laptops that the policy reaches. Everything below is counted
	// among these.
	gets := use.Reach.Gets
	settings := settingsOf(policy)
	fates := side.Plan.FatesBySetting(settings, gets, id)
	use.Lacking, use.NotKnown = supportOn(side, settings, gets)
	applied := gets.And(side.Plan.Applies(id))
	// Fates of all settings are found in one pass over the laptops; here they are put together
	// setting by setting.
	for i, of := range settings {
		use.AlsoSet = append(use.AlsoSet, elsewhere(side, fates[i], entriesElsewhere(side.Plan, of, id), of, &policy.Entry(of).Value)...)
		for _, s := range fates[i] {
			if s.Policy == id && len(s.Fates) > 0 {
				use.Mine[of] = s.Fates
			}
		}
		// A forced value counts only on laptops to which the policy applies now: a draft that is
		// not active forces nothing.
		if n := side.Resolution.Forced(of).And(applied).Len(); n > 0 {
			use.Forced[of] = n
		}
	}
	use.Problems = side.Resolution.ProblemsFrom(id)
	return use, true
}

// supportOn says of some settings which of some laptops do not support one, and on how many nobody
// knows. Settings that all of them are known to support are left out.
func supportOn(side impact.Side, settings []setting.ID, devices resolve.Devices) (map[setting.ID]Lacking, map[setting.ID]int) {
	lacking, notKnown := make([]Lacking, len(settings)), make([]int, len(settings))
	// Each setting is counted on its own: they are shared out among threads.
	threads.Share(len(settings), func(mine iter.Seq[int]) {
		for i := range mine {
			lacking[i] = LackingOn(side, settings[i], devices)
			notKnown[i] = side.Plan.SupportUnknown(settings[i]).And(devices).Len()
		}
	})
	who, unknown := map[setting.ID]Lacking{}, map[setting.ID]int{}
	for i, id := range settings {
		if len(lacking[i]) > 0 {
			who[id] = lacking[i]
		}
		if notKnown[i] > 0 {
			unknown[id] = notKnown[i]
		}
	}
	return who, unknown
}

// ElsewhereOf lists the active policies other than one that set a setting, those that share most
// laptops with reached first. mine is the value beside which theirs are seen, nil when there is
// none.
func ElsewhereOf(side impact.Side, id setting.ID, except estate.PolicyID, mine *setting.Value, reached resolve.Devices) []AlsoSet {
	return elsewhere(side, side.Plan.EntryFates(id, reached, except), entriesElsewhere(side.Plan, id, except), id, mine)
}

// entriesElsewhere gives the active policies other than one that set a setting. Their laptops are
// not counted yet.
func entriesElsewhere(plan *resolve.Plan, id setting.ID, except estate.PolicyID) (out []AlsoSet) {
	for p, e := range plan.SetBy(id) {
		if p.ID != except && p.State == estate.Active {
			out = append(out, AlsoSet{Setting: id, Policy: p.ID, Value: e.Value, Locked: e.Lock, Fates: map[outcome.Fate]int{}})
		}
	}
	return out
}

// elsewhere adds to the policies that set a setting their laptops, and how they relate to a value.
func elsewhere(side impact.Side, fates []resolve.EntryFates, out []AlsoSet, id setting.ID, mine *setting.Value) []AlsoSet {
	at := make(map[estate.PolicyID]*AlsoSet, len(out))
	for i := range out {
		at[out[i].Policy] = &out[i]
	}
	// Policies that reach nobody have no fates and keep their zeros.
	for _, s := range fates {
		if other := at[s.Policy]; other != nil {
			other.Devices, other.Shared, other.Fates, other.Beside = s.Devices, s.Among, s.Fates, s.Beside
		}
	}
	for i := range out {
		out[i].Relation = relation(side.Plan.Definition(id), &out[i], mine)
	}
	slices.SortFunc(out, func(a, b AlsoSet) int {
		return cmp.Or(cmp.Compare(b.Shared, a.Shared), cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Policy, b.Policy))
	})
	return out
}

// relation says in one word how the entry of another policy relates to the one that is looked at;
// mine is the value of that one, nil where it has none.
func relation(d *setting.Definition, a *AlsoSet, mine *setting.Value) Relation {
	// From the strongest statement to the weakest: nothing in common, a conflict, the same value, a
	// merged value, who wins. Without a value beside which it is seen, what becomes of it counts.
	over, under, conflict := a.Beside.Over, a.Beside.Under, a.Beside.Conflict
	if mine == nil {
		over, conflict = a.Fates[outcome.Won], a.Fates[outcome.Clashing]
		under = a.Shared - over
	}
	switch {
	case a.Shared == 0:
		return Apart
	case conflict > 0:
		return Conflicts
	case mine != nil && a.Value.Equal(*mine):
		return Repeats
	case d != nil && d.Combine.ByItems():
		return Adds
	case over > 0:
		return Overrides
	case under > 0:
		return Overridden
	}
	return Neither
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
