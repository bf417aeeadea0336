// This file implements deciding one setting for one subject from its candidates.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// decide settles one setting. It takes the candidates by policy id, those with fate Detached set apart
// already, and writes each other's fate. ok is false when the setting does not appear.
func decide(d *setting.Definition, candidates []Candidate, x *estate.Exception, rulings map[preference]bool) (out Setting, ok bool) {
	out = Setting{ID: d.ID, Status: Set, Candidates: candidates}
	if len(candidates) == 1 && x == nil && candidates[0].Fate != Detached && (d.Combine == setting.Strictest || d.Combine == setting.Closest) {
		only := &candidates[0] // as most are: nothing to narrow down
		only.Fate = Won
		out.How, out.Value, out.From = How(d.Combine), only.Value, []string{string(only.Policy)}
		return out, true
	}
	left := make([]*Candidate, 0, len(candidates))
	for i := range candidates {
		if c := &candidates[i]; c.Fate != Detached {
			left = append(left, c)
		}
	}
	if x != nil {
		mark(left, Excepted)
		out.How, out.From = ByException, []string{string(x.ID)}
		if x.Unset {
			out.Status = Unset
		} else {
			out.Value = x.Value
		}
		return out, true
	}
	if len(left) == 0 {
		return out, false
	}
	switch d.Combine {
	case setting.Merge:
		if rowsClash(d, left) {
			return clash(out, left), true
		}
		mark(left, Won)
		out.How, out.Value = ByMerge, merged(left)
	case setting.Common:
		common, none := commonItems(left)
		if none {
			return clash(out, left), true
		}
		mark(left, Won)
		out.How, out.Value = ByCommon, common
	case setting.Strictest:
		left = keepLocked(left)
		best := slices.MaxFunc(left, func(a, b *Candidate) int { return compareRanks(d, a, b) })
		left = keep(left, Weaker, func(c *Candidate) bool { return compareRanks(d, c, best) == 0 })
		mark(left, Won)
		out.How, out.Value = ByStrictest, best.Value
	default: // closest
		left = keepLocked(left)
		inner := slices.MaxFunc(left, func(a, b *Candidate) int { return int(a.Level - b.Level) }).Level
		left = keep(left, Outer, func(c *Candidate) bool { return c.Level == inner })
		top := slices.MaxFunc(left, func(a, b *Candidate) int { return int(a.Priority - b.Priority) }).Priority
		left = keep(left, LowerPriority, func(c *Candidate) bool { return c.Priority == top })
		winner, how := left[0], ByClosest
		if slices.ContainsFunc(left, func(c *Candidate) bool { return !c.Value.Equal(winner.Value) }) {
			if winner, how = settle(left, rulings), ByRuling; winner == nil {
				return clash(out, left), true
			}
		}
		left = keep(left, RuledOut, func(c *Candidate) bool { return c.Value.Equal(winner.Value) })
		mark(left, Won)
		out.How, out.Value = how, winner.Value
	}
	out.From = policiesOf(left)
	return out, true
}

// keepLocked leaves only the locked candidates of the outermost level that has one, if any is locked.
func keepLocked(left []*Candidate) []*Candidate {
	outermost := Level(-1)
	for _, c := range left {
		if c.Locked && (outermost == noLevel || c.Level < outermost) {
			outermost = c.Level
		}
	}
	if outermost == noLevel {
		return left
	}
	return keep(left, LockedOut, func(c *Candidate) bool { return c.Locked && c.Level == outermost })
}

// settle gives a candidate of the one value that rulings prefer over every other, nil when there is not exactly one.
func settle(clashing []*Candidate, rulings map[preference]bool) *Candidate {
	var winner *Candidate
	for _, a := range clashing {
		if slices.ContainsFunc(clashing, func(b *Candidate) bool {
			return !b.Value.Equal(a.Value) && !rulings[preference{a.Policy, b.Policy}]
		}) {
			continue
		}
		if winner != nil && !winner.Value.Equal(a.Value) {
			return nil
		}
		winner = a
	}
	return winner
}

func clash(out Setting, left []*Candidate) Setting {
	mark(left, Clashing)
	out.Status, out.From = Conflict, policiesOf(left)
	return out
}

// keep gives the candidates that pass, and the others their fate.
func keep(left []*Candidate, fate Fate, passes func(*Candidate) bool) []*Candidate {
	kept := left[:0:0]
	for _, c := range left {
		if passes(c) {
			kept = append(kept, c)
		} else {
			c.Fate = fate
		}
	}
	return kept
}

func mark(left []*Candidate, fate Fate) {
	for _, c := range left {
		c.Fate = fate
	}
}

func compareRanks(d *setting.Definition, a, b *Candidate) int {
	ra, rb := d.Rank(a.Value), d.Rank(b.Value)
	switch {
	case ra < rb:
		return -1
	case ra > rb:
		return 1
	}
	return 0
}

func policiesOf(left []*Candidate) []string {
	ids := make([]string, len(left))
	for i, c := range left {
		ids[i] = string(c.Policy)
	}
	slices.Sort(ids)
	return ids
}

// merged gives all items or rows of all candidates, without repeats, sorted by bytes.
func merged(left []*Candidate) setting.Value {
	values := make([]setting.Value, len(left))
	for i, c := range left {
		values[i] = c.Value
	}
	return setting.Union(values)
}

// rowsClash tells whether two candidates' tables say different things under the same key.
func rowsClash(d *setting.Definition, left []*Candidate) bool {
	if d.Type != setting.TypeTable || len(d.Key) == 0 {
		return false
	}
	for i, a := range left {
		for _, b := range left[:i] {
			if d.Clashes(a.Value, b.Value) {
				return true
			}
		}
	}
	return false
}

// commonItems gives the items that every candidate has, sorted by bytes; none tells that there are
// none although no candidate's list is empty.
func commonItems(left []*Candidate) (items setting.Value, none bool) {
	count := map[string]int{}
	anyEmpty := false
	for _, c := range left {
		anyEmpty = anyEmpty || len(c.Value.Items()) == 0
		for _, item := range c.Value.Items() {
			count[item]++ // no item stands twice in one list
		}
	}
	var shared []string
	for item, n := range count {
		if n == len(left) {
			shared = append(shared, item)
		}
	}
	slices.Sort(shared)
	return setting.ListValue(shared), len(shared) == 0 && !anyEmpty
}
