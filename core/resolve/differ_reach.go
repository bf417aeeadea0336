// This file compares two plans in two more respects: on which laptops checks find something, and
// which laptops each policy reaches. differ.go compares settings.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// problems finds the laptops on which a check begins or ceases to find something.
func (d *Difference) problems(before, after *EstateResolution) {
	of := func(w *EstateResolution, id estate.CheckID) ([]bitset.Packed, int) {
		at, known := w.plan.checkAt.Number(id)
		if !known {
			return nil, intern.None
		}
		return w.problems[at], at
	}
	ids := map[estate.CheckID]bool{}
	for _, w := range []*EstateResolution{before, after} {
		for _, at := range w.plan.byCheck {
			ids[w.plan.checks[at].ID] = true
		}
	}
	for id := range ids {
		// A check that exists on one side only finds nothing on the other.
		a, atA := of(before, id)
		b, atB := of(after, id)
		if len(a) > 0 && len(a) == len(b) && &a[0] == &b[0] {
			continue
		}
		// The lists of rows differ in memory, though perhaps not in what they say: the sets decide.
		was, is := Devices{plan: before.plan, blocks: a}, Devices{plan: after.plan, blocks: b}
		if gained := is.Without(was); gained.Len() > 0 {
			d.ProblemsGained = append(d.ProblemsGained, after.problemsOf(atB, gained)...)
		}
		if cleared := was.Without(is); cleared.Len() > 0 {
			d.ProblemsCleared = append(d.ProblemsCleared, before.problemsOf(atA, cleared)...)
		}
	}
	order := func(a, b ProblemFound) int {
		return cmp.Or(cmp.Compare(a.Check, b.Check), slices.Compare(a.From, b.From))
	}
	slices.SortFunc(d.ProblemsGained, order)
	slices.SortFunc(d.ProblemsCleared, order)
}

// audiences finds the laptops that policies begin or cease to reach.
func (d *Difference) audiences(before, after *Plan) {
	for at := range max(len(before.policies), len(after.policies)) {
		// A policy that is on one side only reached nobody on the other.
		var a, b policy
		if at < len(before.policies) {
			a = before.policies[at]
		}
		if at < len(after.policies) {
			b = after.policies[at]
		}
		// The same list of levels: nothing about the policy was matched again.
		if intern.SameList(a.matches, b.matches) {
			continue
		}
		m := movement(&a, &b, before, after)
		if m.Gained.Len()+m.Dropped.Len() > 0 {
			d.Movements = append(d.Movements, m)
		}
	}
	slices.SortFunc(d.Movements, func(a, b Movement) int { return cmp.Compare(a.Policy, b.Policy) })
}

// movement compares whom a policy reached and reaches, in the blocks in which something came out
// otherwise.
func movement(was, is *policy, before, after *Plan) (m Movement) {
	blocks := max(before.Blocks(), after.Blocks())
	m.Gained, m.Dropped = Devices{plan: after}, Devices{plan: before}
	for _, pol := range []*policy{was, is} {
		if pol.Policy != nil {
			m.Policy = pol.ID
		}
	}
	// in gives the laptops of a level in a block, none where the policy or the block is not there.
	in := func(pol *policy, levelAt, block int) bitset.Packed {
		if levelAt < len(pol.matches) && block < len(pol.matches[levelAt]) {
			return pol.matches[levelAt][block]
		}
		return nil
	}
	var a, b, moved bitset.Set
	for block := range blocks {
		// A laptop that only changes its level is neither gained nor dropped: what counts is the
		// union of the levels.
		same := true
		for levelAt := range max(len(was.matches), len(is.matches)) {
			x, y := in(was, levelAt, block), in(is, levelAt, block)
			same = same && x.Equal(y)
		}
		if same {
			continue
		}
		a.Clear()
		b.Clear()
		for levelAt := range max(len(was.matches), len(is.matches)) {
			in(was, levelAt, block).OrInto(&a)
			in(is, levelAt, block).OrInto(&b)
		}
		if moved.SetAndNot(&b, &a) {
			m.Gained.add(block, &moved)
		}
		if moved.SetAndNot(&a, &b) {
			m.Dropped.add(block, &moved)
		}
	}
	return m
}
