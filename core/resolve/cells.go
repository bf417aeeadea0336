// This file works out what settings come out as in a block: decided, forced and checked.

package resolve

import (
	"iter"
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// again notes that a setting is to be decided again on some rows.
func (h *hand) again(setting int, rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	if h.known(h.masks, setting) == nil {
		h.masked = append(h.masked, setting)
	}
	h.made(&h.masks, setting).Or(rows)
}

func (h *hand) everySetting(rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	for _, at := range h.next.bySetting {
		if c := &h.next.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 || h.after.final[at] != nil {
			h.again(at, rows)
		}
	}
}

// whatToDecide finds out which settings are to be decided again for whom.
func (h *hand) whatToDecide() {
	p := h.next
	if h.full {
		for _, at := range p.bySetting {
			if c := &p.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 {
				h.again(at, h.wide)
			}
		}
		return
	}
	mark := h.Mark()
	defer h.Release(mark)
	rows := h.Temp()
	for at, policies := range h.edited {
		h.reachedBy(policies, rows)
		h.again(at, rows)
	}
	for at := range h.settings {
		h.again(at, h.wide)
	}
	if !h.touched.Empty() {
		for at, policies := range h.levels {
			h.had(policies, rows)
			rows.And(h.touched)
			h.again(at, rows)
		}
		systems := h.Temp()
		h.systems[h.Block].Into(systems)
		for _, at := range h.limited {
			if len(p.settings[at].support.Needs) > 0 { // any fact may matter
				h.again(at, h.touched)
			} else {
				h.again(at, systems)
			}
		}
		gone := h.Temp()
		if gone.SetAndNot(h.touched, h.alive) {
			h.everySetting(gone)
		}
		if h.away {
			h.everySetting(h.touched)
		}
	}
	for _, at := range p.excepted {
		h.again(at, h.touched)
		for i := range p.settings[at].exempt {
			if t := &p.settings[at].exempt[i]; t.Kind == estate.ToGroup {
				h.again(at, h.known(h.groupsAltered, t.At))
			}
		}
	}
	for _, of := range []*Plan{h.was, p} {
		for _, g := range of.DetachingGroups {
			h.everySetting(h.known(h.groupsAltered, g))
		}
	}
	if h.pass.apart != nil {
		apart := h.Temp()
		apart.SetAnd(&h.pass.apart[h.Block], h.alive)
		h.everySetting(apart)
	}
}

// reachedBy gives the laptops that some policies reach, before or after.
func (h *hand) reachedBy(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, pol := range policies {
		for _, of := range []*Plan{h.was, h.next} {
			if pol < len(of.policies) && of.policies[pol].Policy != nil {
				for arm, packed := range of.policies[pol].arms {
					if of == h.next {
						if a := h.arm(pol, arm); a.all != nil {
							rows.Or(a.all)
						}
					} else if h.Block < len(packed) {
						packed[h.Block].OrInto(rows)
					}
				}
			}
		}
	}
}

// had gives the laptops that had some policies at levels at which these have no targets any more: who came to others is known.
func (h *hand) had(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, at := range policies {
		for arm, level := range h.was.policies[at].audience.Levels {
			if !slices.Contains(h.next.policies[at].audience.Levels, level) && h.Block < len(h.was.Alive) {
				h.was.policies[at].arms[arm][h.Block].OrInto(rows)
			}
		}
	}
}

func (h *hand) workSettings() {
	p := h.next
	h.whatToDecide()
	cells := &blockStage{hand: h, decided: true}
	if !h.full {
		h.arming = h.Keep()
		for _, at := range h.masked {
			h.arming.Or(h.masks[at].Set)
		}
	}
	h.decideCells()
	h.Stage = cells
	for _, at := range p.forced {
		h.forceCell(at, cells)
	}
	h.Stage = &blockStage{hand: h}
	for _, at := range p.byCheck {
		h.runCheck(at)
	}
	h.Stage, h.Scope = nil, nil
}

// cellOf gives how a setting came out in the block, before forcing or after.
func (h *hand) cellOf(at int, decided bool) bitset.Parts {
	list := h.after.final
	what := putFinal
	if decided && len(h.next.settings[at].forced) > 0 {
		list, what = h.after.decided, putDecided
	}
	if at < len(h.cells[what]) && h.cells[what][at].epoch == h.Epoch { // not in the list yet
		return h.cells[what][at].parts
	}
	if at >= len(list) || list[at] == nil {
		return nil
	}
	return list[at][h.Block]
}

// putCell keeps how a setting came out in the block.
func (h *hand) putCell(at int, decided bool, is bitset.Parts) {
	what, list := putFinal, h.after.final
	if decided {
		what, list = putDecided, h.after.decided
	}
	if h.full {
		list[at][h.Block] = is
		return
	}
	for len(h.cells[what]) <= at {
		h.cells[what] = append(h.cells[what], madeParts{})
	}
	h.cells[what][at] = madeParts{h.Epoch, is}
	h.puts = append(h.puts, put{what, at, 0, h.Block, is})
}

type madeParts struct {
	epoch int32
	parts bitset.Parts
}

// decideCells decides the settings that are to be decided again, together with threads that have no block of their own any more.
func (h *hand) decideCells() {
	const worth = 32 // settings for which a thread is called
	for i, at := range h.masked {
		if len(h.masked)-i >= worth && !h.full && h.idle.Load() > 0 {
			h.decideTogether(h.masked[i:])
			return
		}
		if is, altered := h.decideCell(at, h.masks[at].Set); altered {
			h.noteCell(at, is)
		}
	}
}

// decideTogether decides settings on this thread and on those that are idle.
func (h *hand) decideTogether(settings []int) {
	hands := []*hand{h}
	for range h.idle.Load() {
		hands = append(hands, h.beside())
	}
	cells, altered := make([]bitset.Parts, len(settings)), make([]bool, len(settings))
	threads.Among(hands, len(settings), func(by *hand, mine iter.Seq[int]) {
		for i := range mine {
			cells[i], altered[i] = by.decideCell(settings[i], h.masks[settings[i]].Set)
		}
	})
	for i, at := range settings {
		if altered[i] {
			h.noteCell(at, cells[i])
		}
	}
	for _, by := range hands[1:] {
		by.done()
	}
}

// beside gives another hand for the same block that decides what this one does. Its worker is to be given back.
func (h *hand) beside() *hand {
	by := &hand{worker: h.next.worker(h.Subjects), pass: h.pass, alive: h.alive}
	by.load(h.Block, &h.Dom)
	by.arming = h.arming
	by.arms = slices.Grow(by.arms[:0], len(h.arms))[:len(h.arms)]
	for i := range h.arms {
		by.arms[i] = armSets{}
		if a := &h.arms[i]; a.epoch == h.Epoch {
			by.arms[i] = armSets{epoch: by.Epoch, all: a.all}
		}
	}
	by.ShareGroups(&h.Matcher)
	return by
}

// decideCell decides a setting again on the rows of mask. It gives the cell, and tells whether it is another than before.
func (h *hand) decideCell(at int, mask *bitset.Set) (is bitset.Parts, altered bool) {
	c := &h.next.settings[at]
	mark := h.Mark()
	h.Out.Reset()
	if c.Def != nil {
		dom := h.Temp()
		if dom.SetAnd(mask, h.alive) {
			h.decide(c, h.candidates(c, dom), dom)
		}
	}
	h.Release(mark)
	is, altered = h.patched(h.cellOf(at, true), mask)
	return is, altered || h.settings[at]
}

// noteCell keeps a cell that was decided again.
func (h *hand) noteCell(at int, is bitset.Parts) {
	mask, forced := h.masks[at].Set, len(h.next.settings[at].forced) > 0
	h.putCell(at, forced, is)
	h.made(&h.altered, at).Or(mask)
	if !forced {
		h.made(&h.final, at).Or(mask)
	}
}

// patched gives a cell in which the rows of mask are as was emitted. altered is false where they were so before.
func (h *hand) patched(was bitset.Parts, mask *bitset.Set) (is bitset.Parts, altered bool) {
	numbers, sets := h.Out.Lists()
	for i := 1; i < len(numbers); i++ { // few, and nearly in order
		for j := i; j > 0 && numbers[j] < numbers[j-1]; j-- {
			numbers[j], numbers[j-1] = numbers[j-1], numbers[j]
			sets[j], sets[j-1] = sets[j-1], sets[j]
		}
	}
	if h.full {
		return bitset.PackParts(numbers, sets), true
	}
	return was.Patch(mask, numbers, sets)
}

// forceCell gives a setting its forced values where it, or what they look at, came out otherwise. Every rule sees the values before
// any forcing.
func (h *hand) forceCell(at int, stage *blockStage) {
	c := &h.next.settings[at]
	mask := h.Keep()
	add := func(rows *bitset.Set) {
		if rows != nil {
			mask.Or(rows)
		}
	}
	add(h.known(h.altered, at))
	for i := range c.forced {
		f := &c.forced[i]
		for _, l := range f.looks {
			add(h.known(h.altered, l))
		}
		if f.subjects {
			mask.Or(h.touched)
		}
		if f.whole {
			for _, l := range h.next.bySetting {
				add(h.known(h.altered, l))
			}
		}
	}
	if mask.Empty() {
		return
	}
	decided := h.cellOf(at, true)
	mark := h.Mark()
	defer h.Release(mark)
	open, here, forced := h.Temp(), h.Temp(), h.Temp()
	open.Clear()
	forced.Clear()
	decided.Each(here, func(number int32) {
		if o := c.Outcomes.Of(number); o.Status == Set && !intern.IsItem(number) {
			open.Or(here)
		}
	})
	open.And(mask)
	type moved struct {
		number int32
		rows   *bitset.Set
	}
	var moves []moved
	h.Scope = h.Temp()
	h.Scope.SetAnd(mask, h.alive)
	for i := range c.forced {
		is, _ := h.Truth(c.forced[i].formula)
		to := h.Temp()
		if !to.SetAnd(is, open) {
			continue
		}
		open.AndNot(to)
		same, _ := c.Outcomes.Column.Code(c.forced[i].Value, nil)
		equal := h.Temp()
		equal.Clear()
		stage.partOf(at, to, func(code uint32, rows *bitset.Set) {
			if code == same {
				equal.Or(rows)
			}
		})
		to.AndNot(equal)
		forced.Or(to)
		moves = append(moves, moved{c.forced[i].outcome.Number, to})
	}
	h.Scope = nil
	h.Out.Reset()
	decided.Each(here, func(number int32) {
		here.And(mask)
		here.AndNot(forced)
		h.Out.Add(number, here)
	})
	for _, m := range moves {
		h.Out.Add(m.number, m.rows)
	}
	if is, altered := h.patched(h.cellOf(at, false), mask); altered {
		h.putCell(at, false, is)
		h.made(&h.final, at).Or(mask)
	}
}

// runCheck runs a check where something that it looks at came out otherwise.
func (h *hand) runCheck(at int) {
	c := &h.next.checks[at]
	mask := h.Keep()
	if h.full || h.checks[at] {
		mask.Copy(h.wide)
	} else {
		mask.Or(h.touched)
		if !c.subjects {
			mask.AndNot(h.stayed) // who came or is gone
		}
		looks := c.looks
		if c.whole {
			looks = h.next.bySetting
		}
		for _, l := range looks {
			if rows := h.known(h.final, l); rows != nil {
				mask.Or(rows)
			}
		}
	}
	if mask.Empty() {
		return
	}
	mark := h.Mark()
	defer h.Release(mark)
	h.Scope = h.Temp()
	h.Scope.SetAnd(mask, h.alive)
	is, _ := h.Truth(c.formula)
	h.Scope = nil
	found := h.Temp()
	found.SetAnd(is, mask)
	found.And(h.alive)
	if h.full {
		h.after.problems[at][h.Block] = found.Pack()
		return
	}
	set, altered := h.patch(h.after.problems[at][h.Block], mask, found, nil)
	if altered {
		h.puts = append(h.puts, put{putProblem, at, 0, h.Block, set.Pack()})
	}
}

// blockStage is the settings as they came out in the block that is worked on.
type blockStage struct {
	*hand
	decided bool // before forcing
}

// Part gives rows by the code of what they have in a setting.
func (s *blockStage) Part(id string, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	at, known := s.next.SettingAt.Number(setting.ID(id))
	if !known {
		yield(0, within)
		return
	}
	s.partOf(at, within, yield)
}

func (s *blockStage) partOf(at int, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	s.worker.partCell(&s.next.settings[at], s.cellOf(at, s.decided), within, func(_ *intern.Outcome, _ setting.Value, code uint32, rows *bitset.Set) { yield(code, rows) })
}

// Settings goes through the cells once for many rows: one by one they would be looked up again and again.
func (s *blockStage) Settings(of *bitset.Set, yield func(row int, all map[string]any)) {
	const atOnce = 512
	left := s.Keep()
	left.Copy(of)
	some, here := s.Keep(), s.Keep()
	for !left.Empty() {
		some.Clear()
		all := map[int]map[string]any{}
		for row := range left.All() {
			if len(all) == atOnce {
				break
			}
			some.Add(row)
			all[row] = map[string]any{}
		}
		left.AndNot(some)
		for _, at := range s.next.bySetting {
			c := &s.next.settings[at]
			s.worker.partCell(c, s.cellOf(at, s.decided), some, func(o *intern.Outcome, v setting.Value, _ uint32, rows *bitset.Set) {
				if o == nil || o.Status != Set {
					return
				}
				value := v.Any()
				here.Copy(rows)
				for row := range here.All() {
					all[row][string(c.Def.ID)] = value
				}
			})
		}
		for row := range some.All() {
			yield(row, all[row])
		}
	}
}

// at gives how a row came out, with its value; nil where the setting does not appear. numbers is room to work in.
func (c *settingIndex) at(cell bitset.Parts, row int, numbers *[]int32) (*intern.Outcome, setting.Value) {
	*numbers = cell.At(row, (*numbers)[:0])
	var is *intern.Outcome
	var items []*setting.Value
	for _, n := range *numbers {
		if o := c.Outcomes.Of(n); intern.IsItem(n) {
			items = append(items, &o.Value)
		} else {
			is = o
		}
	}
	if is == nil {
		return nil, setting.Value{}
	}
	if is.Number == intern.FromItems {
		return is, setting.Union(items)
	}
	return is, is.Value
}
