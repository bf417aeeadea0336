// This file computes the outcomes of settings in a block: decided, forced and checked.
//
// Settings that were marked (find_redecided.go) are decided on the marked rows; all other rows keep
// their outcomes. A setting that came out otherwise is noted, since forced values and checks may
// read it. Where one block has much work and other threads have none left, they decide some of its
// settings.

package resolve

import (
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

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
