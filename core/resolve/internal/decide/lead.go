package decide

import "math/bits"

// Marked is the ranked entries of many settings that one laptop has, a bit for each. Entries of all settings are numbered in one row.
type Marked []uint64

// Next gives the first marked number from at on, end where there is none before it.
func (m Marked) Next(at, end int32) int32 {
	if at >= end {
		return end
	}
	word := m[at>>6] >> (at & 63) << (at & 63)
	for word == 0 {
		if at = at&^63 + 64; at >= end {
			return end
		}
		word = m[at>>6]
	}
	return min(at&^63+int32(bits.TrailingZeros64(word)), end)
}

// Lead is what the first candidate of one laptop decides for a setting: the others are beaten, and the fate of each is known by where it
// stands. It is the same as Decide gives, without sets.
type Lead struct {
	Outcome int32
	Fates   []Fate  // of the candidates, in order of precedence
	Ranks   []int32 // of the candidates
	Some    bool    // there is a candidate
}

// DecideByLead decides a setting for one laptop by its first candidate. The laptop's candidates are those of marked from number first on
// to the end of order, which has the orders of all entries by number. Fates and ranks are appended to those given. ok is false where more
// is to be looked at: rules that put values together, and candidates of one run with different values; nothing is decided then.
func (ix *Index) DecideByLead(marked Marked, order []Order, first int32, fates []Fate, ranks []int32) (lead Lead, ok bool) {
	by, ok := ix.combiner.(interface{ precedence() precedence })
	if !ok {
		return Lead{}, false
	}
	end := int32(len(order))
	next := marked.Next(first, end)
	if next == end {
		return Lead{Fates: fates, Ranks: ranks}, true
	}
	is, rule := Won, by.precedence()
	leader := &order[next]
	beyond := rule.beyond
	if leader.Zone < 0 {
		beyond = LockedOut
	}
	for ; next < end; next = marked.Next(next+1, end) {
		if is != beyond {
			switch here := &order[next]; {
			case here.Zone != leader.Zone:
				is = beyond
			case here.Run != leader.Run:
				is = rule.inZone
			case rule.ties && here.Outcome != leader.Outcome:
				return Lead{}, false
			}
		}
		fates, ranks = append(fates, is), append(ranks, next-first)
	}
	return Lead{Outcome: leader.Outcome, Fates: fates, Ranks: ranks, Some: true}, true
}
