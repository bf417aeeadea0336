// This file finds the entries that one subject has, of all settings at once, as bits.
//
// Explaining one laptop must not go through all entries of all settings: an estate has tens of
// thousands, and a laptop some hundreds. For each policy at each level a list says which ranked
// entries are its own. The lists of the policies that apply are set as bits in one row. Since
// entries are numbered in order of precedence, setting by setting, reading the bits from the left
// gives the candidates of each setting, already in order.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// rankedIndex says by policy and level which ranked entries are theirs. The ranked entries of all
// settings are numbered in one row, setting by setting in the order of ids.
type rankedIndex struct {
	first  []int32        // by place of the setting in that order: its first entry; in the end how many entries there are
	order  []decide.Order // by entry
	begin  []int32        // by number of the level match: where its entries begin in ranked; in the end how many there are
	ranked []int32
}

// indexRanked numbers the ranked entries of all settings, and gathers them by policy and level.
func (p *Plan) indexRanked() *rankedIndex {
	// first[i+1] - first[i] is how many ranked entries setting i has.
	m := &rankedIndex{first: make([]int32, 1, len(p.bySetting)+1)}
	for i, s := range p.bySetting {
		m.first = append(m.first, m.first[i]+int32(len(p.settings[s].Keys)))
	}
	m.order = make([]decide.Order, 0, m.first[len(p.bySetting)])
	for _, s := range p.bySetting {
		for i := range p.settings[s].Ranked {
			m.order = append(m.order, p.settings[s].Ranked[i].Order)
		}
	}
	m.begin, m.ranked = groupByKey(int(p.firstMatch[len(p.policies)]), func(do func(match, entry int32)) {
		// The number of the entry in the row of all entries; Keys has them in the same order.
		at := int32(0)
		for _, s := range p.bySetting {
			for _, key := range p.settings[s].Keys {
				policy, levelAt := decide.Unkey(key)
				do(p.firstMatch[policy]+int32(levelAt), at)
				at++
			}
		}
	})
	return m
}

// groupByKey puts values by key so that those of one key lie side by side, in the order in which
// they come: each gives them, the same ones each time. begin says where those of a key begin; in
// the end how many there are.
func groupByKey(keys int, each func(do func(key, value int32))) (begin, values []int32) {
	// A counting sort: sizes first, then sums of sizes, then each value at the next place of its
	// key.
	begin = make([]int32, keys+1)
	each(func(key, _ int32) { begin[key+1]++ })
	for i := range keys {
		begin[i+1] += begin[i]
	}
	values = make([]int32, begin[keys])
	next := slices.Clone(begin)
	each(func(key, value int32) {
		values[next[key]] = value
		next[key]++
	})
	return begin, values
}

// marked gives the ranked entries of all settings that a subject has, a bit for each.
func (s *subject) marked(m *rankedIndex) decide.Marked {
	n := len(m.ranked)/64 + 1
	s.scratchMarked = slices.Grow(s.scratchMarked[:0], n)[:n]
	row, first := s.scratchMarked, s.plan.firstMatch // plans that share an index of ranked entries number level matches alike
	clear(row)
	for at, applied := range s.applied {
		if applied.levelAt == intern.None {
			continue
		}
		of := first[at] + int32(applied.levelAt)
		for _, entry := range m.ranked[m.begin[of]:m.begin[of+1]] {
			row[entry>>6] |= 1 << (entry & 63)
		}
	}
	return row
}

// among gives, as candidates, the marked entries of a setting whose entries are those from first to
// end. They are put where in was.
func (s *subject) among(
	c *settingIndex,
	marked decide.Marked,
	order []decide.Order,
	first, end int32,
	in []decide.Candidate,
) []decide.Candidate {
	in = slices.Grow(in[:0], int(end-first))[:end-first]
	n := 0
	for at := marked.Next(first, end); at < end; at = marked.Next(at+1, end) {
		in[n] = s.candidate(c, order[at], at-first, n)
		n++
	}
	in = in[:n]
	s.detach(c, in)
	return in
}
