// This file decides settings of one laptop by its first candidate. Where the order of precedence
// alone decides, the first candidate wins and its place tells what became of the others, so that no
// set has to be made. It gives the same answers as Decide, which a test compares.

package decide

import (
	"math/bits"

	"zenithridge.example/zridge/core/outcome"
)

// Marked is the ranked entries of many settings that one laptop has, a bit for each. Entries of all
// settings are numbered in one row.
type Marked []uint64

// Next gives the first marked number from at on, end where there is none before it.
func (m Marked) Next(at, end int32) int32 {
	if at >= end {
		return end
	}
	// The bits below at are cleared, then the first word that is not empty has the answer.
	word := m[at>>6] >> (at & 63) << (at & 63)
	for word == 0 {
		if at = at&^63 + 64; at >= end {
			return end
		}
		word = m[at>>6]
	}
	return min(at&^63+int32(bits.TrailingZeros64(word)), end)
}

// DecideByLead decides a setting for one laptop by its first candidate: the others are beaten, and
// the fate of each is known by where it stands. What comes out is the same as Decide gives, without
// sets. The laptop's candidates are those of marked from number first on to the end of order, which
// has the orders of all entries by number.
//
// The candidates' fates and ranks, in order of precedence, are appended to those given; none are
// where there is no candidate. ok is false where more is to be looked at: rules that put values
// together, and candidates of one run with different values. Nothing is decided then.
func (ix *Index) DecideByLead(
	marked Marked,
	order []Order,
	first int32,
	fates []outcome.Fate,
	ranks []int32,
) (number int32, _ []outcome.Fate, _ []int32, ok bool) {
	rule := ix.precedence
	if rule == nil || ix.unequal { // strength counts before the order of precedence
		return 0, fates, ranks, false
	}
	end := int32(len(order))
	next := marked.Next(first, end)
	if next == end {
		return 0, fates, ranks, true
	}
	// All candidates behind the leader are beaten. By what depends on where they stand: in the same
	// run they win with it, in the same zone they are beaten within the zone, further on by the
	// level, or by the lock of the leader.
	is, leader, beyond := outcome.Won, &order[next], rule.beyond
	if leader.Zone < 0 {
		beyond = outcome.LockedOut
	}
	before := len(fates)
	for ; next < end; next = marked.Next(next+1, end) {
		// Once one stands beyond the zone, so do all that follow: zones only rise.
		if is != beyond {
			switch here := &order[next]; {
			case here.Zone != leader.Zone:
				is = beyond
			case here.Run != leader.Run:
				is = rule.inZone
			// Different values in the leader's run: Decide has to ask the rulings. What was
			// appended is taken back.
			case rule.ties && here.Outcome != leader.Outcome:
				return 0, fates[:before], ranks[:len(ranks)-len(fates)+before], false
			}
		}
		fates, ranks = append(fates, is), append(ranks, next-first)
	}
	return leader.Outcome, fates, ranks, true
}
