// This file puts the entries of a setting in order of precedence. The combine rule says what the
// order is by, and the order is made once for all laptops. When a policy is edited, its entries are
// taken out and put in again; all others keep their order, so that the new index is merged and not
// sorted.

package decide

import (
	"cmp"
	"math"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
)

// Source is the entry of an active policy for the setting of an index, with the levels at which the
// policy applies to somebody.
type Source struct {
	Policy   int // number
	ID       estate.PolicyID
	Priority int64
	Strength Strength
	Levels   []outcome.Level
	Entry    *estate.Entry
}

// Strength says which entries a policy's entries override, whatever their levels and priorities:
// those of every weaker kind. The zero Strength is the greatest.
type Strength uint8

const (
	Enforced   Strength = iota // an enforced policy
	Offered                    // a policy that people take: every enforced one overrides it
	OfBaseline                 // what a baseline wants: every policy overrides it
	strengths
)

// unranked is a ranked entry with all that belongs to it, while entries are put in order.
type unranked struct {
	Ranked
	Entry
	items []int32
}

// Clear takes all entries out.
func (ix *Index) Clear() {
	ix.Ranked, ix.Entries, ix.Keys, ix.items, ix.begin, ix.unequal = nil, nil, nil, nil, nil, false
}

// Rank puts entries in order of precedence. The index has them alone afterwards.
func (ix *Index) Rank(sources []Source) {
	var list []unranked
	for i := range sources {
		list = ix.unrank(&sources[i], list)
	}
	ix.order(list, 0)
}

// Rerank replaces the entries of some policies, named by number, by others. The entries of other
// policies keep their order.
func (ix *Index) Rerank(policies []int, sources []Source) {
	list := make([]unranked, 0, len(ix.Ranked)+len(policies))
	for i, r := range ix.Ranked {
		if !slices.Contains(policies, int(r.Policy)) {
			list = append(list, unranked{r, ix.Entries[i], ix.Items(int32(i))})
		}
	}
	stay := len(list)
	for i := range sources {
		list = ix.unrank(&sources[i], list)
	}
	ix.order(list, stay)
}

// unrank adds an entry once for each level of its policy: each may have another precedence.
func (ix *Index) unrank(s *Source, to []unranked) []unranked {
	u := unranked{
		Ranked{Policy: int32(s.Policy), Lock: s.Entry.Lock, Strength: s.Strength},
		Entry{Entry: s.Entry, PolicyID: s.ID, weight: ix.combiner.Weight(ix.Def, s.Priority, s.Entry.Value)},
		nil,
	}
	// Values of lists and tables are decided item by item, so they are numbered item by item.
	if ix.byItems {
		for _, item := range s.Entry.Value.Members() {
			u.items = append(u.items, ix.Outcomes.Item(item).Number)
		}
	} else {
		o := ix.Outcomes.Value(s.Entry.Value)
		u.Outcome, u.Class = o.Number, o.Class
	}
	for at, level := range s.Levels {
		u.LevelAt, u.Level = int16(at), level
		to = append(to, u)
	}
	return to
}

// order sorts entries by precedence and finds their zones and runs. The first of them, as many as
// stay, are in order already.
//
// Zones and runs are numbers that rise with the order. A new zone begins where a closer level beats
// what follows whatever its priority. A new run begins where something beats what follows at all.
// Locked entries have zones below 0, so that one comparison tells them apart.
func (ix *Index) order(list []unranked, stay int) {
	// The last two comparisons only make the order independent of how the estate lists its
	// policies. They say nothing about precedence.
	before := func(a, b *unranked) int {
		return cmp.Or(ix.compare(a, b), cmp.Compare(a.PolicyID, b.PolicyID), cmp.Compare(b.Level, a.Level))
	}
	sorted := make([]*unranked, len(list))
	for i := range list {
		sorted[i] = &list[i]
	}
	// After an edit, stay is nearly all of the list, which is sorted already: the few new ones are
	// inserted, which is linear for each.
	slices.SortFunc(sorted[stay:], before)
	for i := stay; stay > 0 && i < len(sorted); i++ { // few are new: each is put where it belongs
		one := sorted[i]
		at, _ := slices.BinarySearchFunc(sorted[:i], one, before)
		copy(sorted[at+1:i+1], sorted[at:i])
		sorted[at] = one
	}
	ix.Ranked, ix.Entries, ix.Keys = make([]Ranked, len(list)), make([]Entry, len(list)), make([]uint32, len(list))
	// The items of all entries lie in one list, so that they are read in order while a setting is
	// decided.
	ix.items, ix.begin = nil, nil
	if ix.byItems {
		ix.begin = make([]int32, len(list)+1)
		for i, s := range sorted {
			ix.items = append(ix.items, s.items...)
			ix.begin[i+1] = int32(len(ix.items))
		}
	}
	ix.unequal = slices.ContainsFunc(list, func(u unranked) bool { return u.Strength != Enforced })
	// Zones of locked entries begin far below 0 and rise from there; those of others begin at 0.
	for i, s := range sorted {
		if s.Zone, s.Run = 0, 0; s.Lock {
			s.Zone = math.MinInt32
		}
		if i > 0 {
			last := sorted[i-1]
			s.Zone, s.Run = last.Zone, last.Run
			switch {
			// The first entry that is not locked begins at zone 0.
			case last.Lock != s.Lock:
				s.Zone = 0
			// Another level is another zone if the rule goes by level. For locked entries it always
			// is: the outermost locked level wins.
			case last.Level != s.Level && (ix.combiner.ByLevel() || s.Lock):
				s.Zone++
			}
			if ix.compare(last, s) != 0 {
				s.Run++
			}
		}
		ix.Ranked[i], ix.Entries[i], ix.Keys[i] = s.Ranked, s.Entry, Key(int(s.Policy), int(s.LevelAt))
	}
}

// compare says which of two entries has precedence: below 0 for a, above 0 for b, 0 where neither
// beats the other. Locked entries come before others, the outermost level first; then, where the
// rule goes by level, the innermost level; then the greater weight.
func (ix *Index) compare(a, b *unranked) int {
	// Items are put together whatever their order, so no entry beats another.
	if ix.byItems {
		return 0
	}
	switch {
	case a.Lock && b.Lock:
		// Both are locked: the outermost level comes first, since a lock holds for everything below
		// it.
		if order := cmp.Compare(a.Level, b.Level); order != 0 {
			return order
		}
	case a.Lock:
		return -1
	case b.Lock:
		return 1
	}
	// For others it is the other way round: the level closest to the laptop comes first.
	if order := cmp.Compare(b.Level, a.Level); order != 0 && ix.combiner.ByLevel() {
		return order
	}
	return cmp.Compare(b.weight, a.weight)
}
