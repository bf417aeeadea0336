// This file applies forced values and runs checks in a block, and lets their conditions read
// settings.
//
// Both come after all settings of the block are decided. A forced value replaces the value of a
// setting where a condition holds, for example "off" where another setting makes it meaningless.
// Its condition sees the decided values, never forced ones, so that no order among forced values
// matters. A check finds combinations that are wrong; its condition sees the values after forcing.
//
// Each is evaluated only on rows where something that its condition reads differs from before.

package resolve

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// forceSetting applies the forced values of a setting on rows where the setting, or one that a
// condition reads, differs from before. Each condition sees the decided values, before any forcing,
// so that the order of settings makes no difference.
func (h *blockUpdater) forceSetting(at int, stage *blockSettings) {
	// mask collects the rows on which the forced value may differ: where the decided value does, or
	// what a condition reads.
	c := &h.next.settings[at]
	mask := h.Keep()
	add := func(rows *bitset.Set) {
		if rows != nil {
			mask.Or(rows)
		}
	}
	add(h.altered.Known(at, h.Epoch))
	// A condition that reads settings is asked where one of those differs; one that reads the
	// laptop, where the laptop does.
	for i := range c.forced {
		f := &c.forced[i]
		for _, l := range f.looks {
			add(h.altered.Known(l, h.Epoch))
		}
		if f.subjects {
			mask.Or(h.touched)
		}
		// A condition that reads settings by computed names may depend on any of them.
		if f.whole {
			for _, l := range h.next.bySetting {
				add(h.altered.Known(l, h.Epoch))
			}
		}
	}
	if mask.Empty() {
		return
	}
	decided := h.outcomesOf(at, true)
	mark := h.Mark()
	defer h.Release(mark)
	// open holds the rows that have a value, which a forced value can replace. Rows without a
	// value, or with a conflict, are left alone.
	open, here, forced := h.Temp(), h.Temp(), h.Temp()
	open.Clear()
	forced.Clear()
	decided.Each(here, func(number int32) {
		if o := c.Outcomes.Of(number); o.Status == outcome.Set && !intern.IsItem(number) {
			open.Or(here)
		}
	})
	// Nothing is forced where nothing was decided.
	open.And(mask)
	type moved struct {
		number int32
		rows   *bitset.Set
	}
	var moves []moved
	h.Scope = h.Temp()
	h.Scope.SetAnd(mask, h.alive)
	// Of several forced values the first whose condition is true counts. A row that it matches is
	// taken out of open, even if the row has that value already.
	for i := range c.forced {
		is, _ := h.Truth(c.forced[i].formula)
		to := h.Temp()
		if !to.SetAnd(is, open) {
			continue
		}
		open.AndNot(to)
		// Where the decided value equals the forced one, nothing is forced: the value keeps the
		// policy that it comes from.
		// Equal values have the same code in the column of the setting, however they came about.
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
	// The outcome after forcing: what was decided, except on rows with a forced value.
	h.Out.Reset()
	decided.Each(here, func(number int32) {
		here.And(mask)
		here.AndNot(forced)
		h.Out.Add(number, here)
	})
	// Rows with a forced value get its number instead.
	for _, m := range moves {
		h.Out.Add(m.number, m.rows)
	}
	if is, altered := h.mergeOutcomes(h.outcomesOf(at, false), mask); altered {
		h.setOutcomes(at, false, is)
		// Checks that read this setting are run again on these rows.
		h.final.Of(at, h.Epoch, &h.Arena).Or(mask)
	}
}

// runCheck evaluates a check on rows where a setting that it reads differs from before.
func (h *blockUpdater) runCheck(at int) {
	// A check is run again where a setting that it reads differs. If it reads the laptop as well,
	// where the laptop was touched.
	c := &h.next.checks[at]
	mask := h.Keep()
	if h.full || h.checks[at] {
		mask.Copy(h.wide)
	} else {
		mask.Or(h.touched)
		if !c.subjects {
			// The laptop is the same one as before, and the check does not read it.
			mask.AndNot(h.stayed) // rows whose laptop is new or gone
		}
		looks := c.looks
		if c.whole {
			looks = h.next.bySetting
		}
		for _, l := range looks {
			if rows := h.final.Known(l, h.Epoch); rows != nil {
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
	// Conditions are asked on these rows only; settings of other rows need not be split.
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
	set, altered := engine.Merge(&h.Arena, h.after.problems[at][h.Block], mask, found, nil)
	if altered {
		h.patches = append(h.patches, engine.Patch{Table: problemTable, At: at, Part: 0, Block: h.Block, Words: set.Pack()})
	}
}

// blockSettings gives the values of settings in the current block to conditions.
type blockSettings struct {
	*blockUpdater
	decided bool // before forcing
}

// Part splits rows by the code of their value of a setting.
func (s *blockSettings) Part(id string, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	at, known := s.next.settingAt.Number(setting.ID(id))
	if !known {
		yield(0, within)
		return
	}
	s.partOf(at, within, yield)
}

// partOf splits rows by the code of their value in a setting; 0 where it is not set.
func (s *blockSettings) partOf(at int, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	s.worker.splitByOutcome(
		&s.next.settings[at],
		s.outcomesOf(at, s.decided),
		within,
		func(_ *intern.Outcome, _ setting.Value, code uint32, rows *bitset.Set) { yield(code, rows) },
	)
}

// Settings reads the outcomes once for many rows, which is faster than a lookup for each row.
func (s *blockSettings) Settings(of *bitset.Set, yield func(row int, all map[string]any)) {
	// Rows are taken in portions, so that the maps of a portion fit into the cache.
	const atOnce = 512
	// left holds the rows that are still to be given.
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
			s.worker.splitByOutcome(c, s.outcomesOf(at, s.decided), some, func(o *intern.Outcome, v setting.Value, _ uint32, rows *bitset.Set) {
				// Conditions see settings that are set. Conflicts, and settings that are left
				// unset, are absent from the map.
				if o == nil || o.Status != outcome.Set {
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
