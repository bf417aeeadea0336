// This file finds audiences and exclusions that lose laptops when what they are made of alters, as
// when a directory renames the titles that a group's rule asks for.

package review

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
)

// Shrinkage is an audience, or one of its exclusions, that has fewer laptops than before.
type Shrinkage struct {
	Policy    estate.PolicyID
	Exclusion estate.Target // the target that the policy leaves out; zero: it is about the audience
	Before    int           // laptops
	After     int
}

// Shrinkages lists the audiences and exclusions of active policies that would have no laptops left,
// or would lose more than most percent of them; those that lose all first, then by policy. Policies
// that are edited or retired themselves are left out: there, somebody meant it.
func Shrinkages(before, after impact.Side, most int) []Shrinkage {
	var out []Shrinkage
	add := func(policy estate.PolicyID, exclusion estate.Target, was, is int) {
		if is < was && (is == 0 || (was-is)*100 > most*was) {
			out = append(out, Shrinkage{policy, exclusion, was, is})
		}
	}
	// Several policies may leave out the same group: its laptops are counted once.
	counted := map[estate.Target][2]int{}
	snapshot := after.Plan.Snapshot()
	for i := range snapshot.Policies {
		p := &snapshot.Policies[i]
		if was := before.Plan.Policy(p.ID); was == nil || p.State != estate.Active || was.State != estate.Active || !sameTargets(was, p) {
			continue
		}
		add(p.ID, estate.Target{}, before.Plan.Applies(p.ID).Len(), after.Plan.Applies(p.ID).Len())
		for _, t := range p.Audience.Exclude {
			n, known := counted[t]
			if !known {
				n = [2]int{before.Plan.Matching(t).Len(), after.Plan.Matching(t).Len()}
				counted[t] = n
			}
			add(p.ID, t, n[0], n[1])
		}
	}
	slices.SortFunc(out, func(a, b Shrinkage) int {
		return cmp.Or(
			cmp.Compare(min(a.After, 1), min(b.After, 1)),
			cmp.Compare(a.Policy, b.Policy),
			cmp.Compare(a.Exclusion.String(), b.Exclusion.String()),
		)
	})
	return out
}

// sameTargets tells whether two policies name the same targets.
func sameTargets(a, b *estate.Policy) bool {
	return slices.Equal(a.Audience.Include, b.Audience.Include) && slices.Equal(a.Audience.Exclude, b.Audience.Exclude)
}

// sameReach tells whether two policies say the same of whom they are for, and reach the same
// laptops.
func sameReach(a, b *estate.Policy) bool {
	return sameTargets(a, b) && a.Audience.When.Source() == b.Audience.When.Source() && a.State == b.State && a.Within == b.Within &&
		a.Offered == b.Offered &&
		slices.Equal(a.Platforms, b.Platforms)
}
