// This file records how a setting is decided for many laptops.
//
// It is the Observer for sets: the decider tells it which candidates met which fate on which rows,
// and it keeps these sets for whoever counts them. Where nobody asks for reasons, the decider runs
// without it.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
)

// observed is the fates of a setting's candidates in one block. Its sets belong to the worker's
// arena.
type observed struct {
	w         *worker
	in        []decide.Candidate
	became    []fateSets // by candidate
	exempting map[*estate.Exception]*bitset.Set
}

// fateSets is laptops by fate; nil: none.
type fateSets [outcome.Fates]*bitset.Set

// Fate records what became of a candidate on some rows. A set is made when the first laptop meets
// the fate: most candidates meet one or two.
func (s *observed) Fate(of *decide.Candidate, is outcome.Fate, rows *bitset.Set) {
	at := &s.became[of.At][is]
	if *at == nil {
		*at = s.w.Aside()
	}
	(*at).Or(rows)
}

// Fates records the same fate of several candidates, each on those of the rows that have it.
func (s *observed) Fates(of []decide.Candidate, is outcome.Fate, rows *bitset.Set) {
	// Of several candidates each is told on the laptops that have it.
	mark := s.w.Mark()
	on := s.w.Temp()
	for i := range of {
		if on.SetAnd(of[i].Live, rows) {
			s.Fate(&of[i], is, on)
		}
	}
	s.w.Release(mark)
}

// By records on which rows an exception decided. By what else a value was decided is not asked
// here.
func (s *observed) By(_ outcome.How, x *estate.Exception, rows *bitset.Set) {
	// Rules are the same for all laptops of a setting. Only exceptions are recorded.
	if x == nil {
		return
	}
	if s.exempting[x] == nil {
		s.exempting[x] = s.w.Aside()
	}
	s.exempting[x].Or(rows)
}

// observe decides a setting for the laptops of dom and records the fates of its candidates. The
// outcome is emitted.
func (w *worker) observe(c *settingIndex, dom *bitset.Set) *observed {
	// The list of candidates is the worker's buffer, so it is copied.
	in := slices.Clone(w.candidates(c, dom))
	s := &observed{w: w, in: in, became: make([]fateSets, len(in)), exempting: map[*estate.Exception]*bitset.Set{}}
	w.Out.Reset()
	w.Observer = s
	w.decide(c, in, dom)
	w.Observer = nil
	return s
}

// reachedBy gives the laptops, among some, to which a candidate applies and that support the
// setting.
func (w *worker) reachedBy(c *settingIndex, one *decide.Candidate, among *bitset.Set) *bitset.Set {
	rows := w.Aside()
	rows.Copy(one.Live)
	if one.Detached != nil {
		rows.Or(one.Detached)
	}
	rows.And(among)
	w.supported(c, rows)
	return rows
}
