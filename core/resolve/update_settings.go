// This file computes the outcomes of settings in a block: decided, forced and checked.

package resolve

import (
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// redecide marks rows for which a setting must be decided again.
func (h *blockUpdater) redecide(setting int, rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	// The first rows for a setting: it is put on the list.
	if h.masks.Known(setting, h.Epoch) == nil {
		h.redecided = append(h.redecided, setting)
	}
	h.masks.Of(setting, h.Epoch, &h.Arena).Or(rows)
}

// redecideAll marks rows for which every setting must be decided again that has, or had, anything
// to decide. A setting that had an outcome and has no entries any more is decided again as well, so
// that the outcome goes.
func (h *blockUpdater) redecideAll(rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	for _, at := range h.next.bySetting {
		if c := &h.next.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 || h.after.final[at] != nil {
			h.redecide(at, rows)
		}
	}
}

// findRedecided finds which settings must be decided again, and on which rows.
func (h *blockUpdater) findRedecided() {
	p := h.next
	if h.full {
		for _, at := range p.bySetting {
			// Settings without entries and exceptions do not appear anywhere.
			if c := &p.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 {
				h.redecide(at, h.wide)
			}
		}
		return
	}
	mark := h.Mark()
	defer h.Release(mark)
	rows := h.Temp()
	// Entries that altered: decided on the laptops of their policies, before and after.
	for at, policies := range h.edited {
		h.reachedBy(policies, rows)
		h.redecide(at, rows)
	}
	// Settings that altered themselves: decided on all laptops.
	for at := range h.settings {
		h.redecide(at, h.wide)
	}
	// Touched laptops. What their groups and audiences altered is marked already; here is what else
	// depends on the laptop.
	if !h.touched.Empty() {
		// Levels that moved with a unit.
		for at, policies := range h.levels {
			h.hadBefore(policies, rows)
			rows.And(h.touched)
			h.redecide(at, rows)
		}
		// Support depends on platform, version and edition, and on facts where a definition says
		// so.
		systems := h.Temp()
		h.systems[h.Block].Into(systems)
		for _, at := range h.limitedSettings {
			if len(p.settings[at].support.Needs) > 0 { // its condition may read any fact
				h.redecide(at, h.touched)
			} else {
				h.redecide(at, systems)
			}
		}
		// Laptops that left lose all outcomes.
		gone := h.Temp()
		if gone.SetAndNot(h.touched, h.alive) {
			h.redecideAll(gone)
		}
		if h.anyDetached {
			h.redecideAll(h.touched)
		}
	}
	// Exceptions for a group follow its members. A touched laptop can be named by an exception, or
	// be in a unit that is.
	for _, at := range p.excepted {
		h.redecide(at, h.touched)
		for i := range p.settings[at].exempt {
			if t := &p.settings[at].exempt[i]; t.Kind == estate.ToGroup {
				h.redecide(at, h.groupsAltered.Known(t.At, h.Epoch))
			}
		}
	}
	// Whoever enters or leaves a group that detaches something inherits differently.
	for _, of := range []*Plan{h.was, p} {
		for _, g := range of.DetachingGroups {
			h.redecideAll(h.groupsAltered.Known(g, h.Epoch))
		}
	}
	// Whoever is in a place that detaches other things than before, too.
	if h.recomputation.redetached != nil {
		apart := h.Temp()
		apart.SetAnd(&h.recomputation.redetached[h.Block], h.alive)
		h.redecideAll(apart)
	}
}

// reachedBy gives the laptops that some policies reach, before or after.
func (h *blockUpdater) reachedBy(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, pol := range policies {
		for _, of := range []*Plan{h.was, h.next} {
			// A policy can be missing in one of the two plans.
			if pol < len(of.policies) && of.policies[pol].Policy != nil {
				for levelAt, packed := range of.policies[pol].matches {
					if of == h.next {
						// Matches of this block are not in the plan yet; the worker has them.
						if a := h.match(pol, levelAt); a.all != nil {
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

// hadBefore gives the laptops that had some policies at levels that these policies no longer have.
// Laptops at other levels are known.
func (h *blockUpdater) hadBefore(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, at := range policies {
		for levelAt, level := range h.was.policies[at].audience.Levels {
			if !slices.Contains(h.next.policies[at].audience.Levels, level) && h.Block < len(h.was.Alive) {
				h.was.policies[at].matches[levelAt][h.Block].OrInto(rows)
			}
		}
	}
}

// updateSettings decides the marked settings, then applies forced values, then runs checks. Each
// phase reads the results of the one before: a forced value depends on decided values of other
// settings, and a check reads values after forcing.
func (h *blockUpdater) updateSettings() {
	// cells gives conditions the values before forcing, which conditions of forced values must see.
	p := h.next
	h.findRedecided()
	cells := &blockSettings{blockUpdater: h, decided: true}
	if !h.full {
		// Rows outside of these are not decided, so their matches need not be unpacked. Matches of
		// policies are loaded for these rows alone.
		h.loading = h.Keep()
		for _, at := range h.redecided {
			h.loading.Or(h.masks.Known(at, h.Epoch))
		}
	}
	h.decideSettings()
	h.Stage = cells
	for _, at := range p.forced {
		h.forceSetting(at, cells)
	}
	// Checks read the values after forcing.
	h.Stage = &blockSettings{blockUpdater: h}
	for _, at := range p.byCheck {
		h.runCheck(at)
	}
	h.Stage, h.Scope = nil, nil
}

// outcomesOf gives the outcome of a setting in the block, before or after forcing.
func (h *blockUpdater) outcomesOf(at int, decided bool) bitset.Parts {
	// A setting without forced values has one list: what is decided is final.
	list := h.after.final
	what := finalTable
	if decided && len(h.next.settings[at].forced) > 0 {
		list, what = h.after.decided, decidedTable
	}
	// What was decided in this run is in a patch, not in the list, until the run ends.
	if at < len(h.outcomes[what]) && h.outcomes[what][at].epoch == h.Epoch { // not in the list yet
		return h.outcomes[what][at].parts
	}
	if at >= len(list) || list[at] == nil {
		return nil
	}
	return list[at][h.Block]
}

// setOutcomes stores the outcome of a setting in the block.
func (h *blockUpdater) setOutcomes(at int, decided bool, is bitset.Parts) {
	what, list := finalTable, h.after.final
	if decided {
		what, list = decidedTable, h.after.decided
	}
	// In a first run nobody reads the list yet.
	if h.full {
		list[at][h.Block] = is
		return
	}
	for len(h.outcomes[what]) <= at {
		h.outcomes[what] = append(h.outcomes[what], datedParts{})
	}
	h.outcomes[what][at] = datedParts{h.Epoch, is}
	h.patches = append(h.patches, engine.Patch{Table: what, At: at, Part: 0, Block: h.Block, Words: is})
}

// datedParts is outcomes of a setting in the block that was current at an epoch. Others are out of
// date.
type datedParts struct {
	epoch int32
	parts bitset.Parts
}

// decideSettings decides the marked settings. Threads that have no block left help. An edit of one
// policy for everybody leaves few blocks and many settings: then the settings of a block are shared
// out among threads.
func (h *blockUpdater) decideSettings() {
	const worth = 32 // settings left, from which on another thread helps
	for i, at := range h.redecided {
		if len(h.redecided)-i >= worth && !h.full && h.idle.Threads() > 0 {
			h.decideShared(h.redecided[i:])
			return
		}
		if is, altered := h.decideSetting(at, h.masks.Known(at, h.Epoch)); altered {
			h.noteOutcomes(at, is)
		}
	}
}

// decideShared decides settings on this thread and on idle ones.
func (h *blockUpdater) decideShared(settings []int) {
	// Each helper has a worker of its own, loaded with the same block. Matches and groups are
	// shared, since they are only read.
	helpers := []*blockUpdater{h}
	for range h.idle.Threads() {
		helpers = append(helpers, h.beside())
	}
	cells, altered := make([]bitset.Parts, len(settings)), make([]bool, len(settings))
	threads.Among(helpers, len(settings), func(by *blockUpdater, mine iter.Seq[int]) {
		for i := range mine {
			cells[i], altered[i] = by.decideSetting(settings[i], h.masks.Known(settings[i], h.Epoch))
		}
	})
	// Results are noted by this thread alone, in the order of the settings.
	for i, at := range settings {
		if altered[i] {
			h.noteOutcomes(at, cells[i])
		}
	}
	for _, by := range helpers[1:] {
		by.done()
	}
}

// beside gives another updater for the same block, for a thread that helps. Its worker must be
// returned.
func (h *blockUpdater) beside() *blockUpdater {
	by := &blockUpdater{worker: h.next.worker(h.Subjects), recomputation: h.recomputation, alive: h.alive}
	by.load(h.Block, &h.Dom)
	by.loading = h.loading
	by.matches = slices.Grow(by.matches[:0], len(h.matches))[:len(h.matches)]
	for i := range h.matches {
		by.matches[i] = levelMatch{}
		if a := &h.matches[i]; a.epoch == h.Epoch {
			by.matches[i] = levelMatch{epoch: by.Epoch, all: a.all}
		}
	}
	by.ShareGroups(&h.Matcher)
	return by
}

// decideSetting decides a setting again on the rows of mask. It gives the outcome in the block, and
// whether it differs from before.
func (h *blockUpdater) decideSetting(at int, mask *bitset.Set) (is bitset.Parts, altered bool) {
	c := &h.next.settings[at]
	mark := h.Mark()
	h.Out.Reset()
	// A definition that is gone decides nothing: its outcome becomes empty.
	if c.Def != nil {
		dom := h.Temp()
		if dom.SetAnd(mask, h.alive) {
			h.decide(c, h.candidates(c, dom), dom)
		}
	}
	h.Release(mark)
	is, altered = h.mergeOutcomes(h.outcomesOf(at, true), mask)
	// An altered definition is noted even if the outcome is the same, since its values may be shown
	// differently.
	return is, altered || h.settings[at]
}

// noteOutcomes stores an outcome that was decided again, and collects its patch.
func (h *blockUpdater) noteOutcomes(at int, is bitset.Parts) {
	mask, forced := h.masks.Known(at, h.Epoch), len(h.next.settings[at].forced) > 0
	h.setOutcomes(at, forced, is)
	h.altered.Of(at, h.Epoch, &h.Arena).Or(mask)
	// Without forced values, what is decided is final, and checks may read it.
	if !forced {
		h.final.Of(at, h.Epoch, &h.Arena).Or(mask)
	}
}

// mergeOutcomes gives an outcome in which the rows of mask are as decided, and all others as
// before. altered is false if nothing differs.
func (h *blockUpdater) mergeOutcomes(was bitset.Parts, mask *bitset.Set) (is bitset.Parts, altered bool) {
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

// at gives the outcome of a row with its value, nil where the setting does not appear. numbers is a
// buffer.
func (c *settingIndex) at(cell bitset.Parts, row int, numbers *[]int32) (*intern.Outcome, setting.Value) {
	// A row has one outcome, and besides it the items where the value is put together.
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
