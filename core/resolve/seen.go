// This file watches how a setting is decided for many laptops.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
)

// seen is what became of a setting's contestants in one block. Its sets are put aside.
type seen struct {
	w         *worker
	in        []contestant
	became    []fateSets // by contestant
	exempting map[*estate.Exception]*rowset.Set
}

// fateSets is laptops by fate; nil: none.
type fateSets [len(fateWords)]*rowset.Set

func (s *seen) fate(of *contestant, is Fate, rows *rowset.Set) {
	at := &s.became[of.at][is]
	if *at == nil {
		*at = s.w.aside()
	}
	(*at).Or(rows)
}

func (s *seen) fates(of []contestant, is Fate, rows *rowset.Set) {
	mark := s.w.mark()
	on := s.w.temp()
	for i := range of {
		if on.SetAnd(of[i].live, rows) {
			s.fate(&of[i], is, on)
		}
	}
	s.w.release(mark)
}

func (s *seen) by(_ How, x *estate.Exception, rows *rowset.Set) {
	if x == nil {
		return
	}
	if s.exempting[x] == nil {
		s.exempting[x] = s.w.aside()
	}
	s.exempting[x].Or(rows)
}

// watch decides a setting for the laptops of dom, and says what became of whom. What it comes out as is emitted.
func (w *worker) watch(c *contest, dom *rowset.Set) *seen {
	in := slices.Clone(w.contestants(c, dom))
	s := &seen{w: w, in: in, became: make([]fateSets, len(in)), exempting: map[*estate.Exception]*rowset.Set{}}
	w.emitted, w.witness = 0, s
	w.decide(c, in, dom)
	w.witness = nil
	return s
}

// reached gives the laptops among some that a contestant comes to, and that support the setting. The set is put aside.
func (w *worker) reached(c *contest, one *contestant, among *rowset.Set) *rowset.Set {
	rows := w.aside()
	rows.Copy(one.live)
	if one.detached != nil {
		rows.Or(one.detached)
	}
	rows.And(among)
	w.supported(c, rows)
	return rows
}
