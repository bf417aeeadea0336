// This file recomputes what an altered snapshot affects, block by block: groups, audiences, outcomes of settings, forced values, checks.
// Blocks are computed in parallel. Each worker collects patches; when all blocks are done, the patches are written into the plan.

package resolve

import (
	"cmp"
	"iter"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/resolve/internal/match"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/threads"
)

// recomputation is one run over the blocks of a plan, with what all workers share. It is not used after the run.
type recomputation struct {
	was, next *Plan
	*changes
	full            bool // everything is computed, for all laptops
	members         bool // groups and audiences are computed too, not only the outcomes of settings
	after           *EstateResolution
	anyDetached     bool             // some place detaches something, before or after
	limitedSettings []int            // settings that not every laptop supports
	redetached      intern.DeviceSet // laptops in places that detach other kinds or areas than before; nil: none

	idle atomic.Int32 // threads that have no block

	affectedGroups, affectedPolicies affected
	movedGroups, movedPolicies       []concern // affected by moved units alone
}

// affected is the groups, or the policies, to compute again, by number. Groups come after the groups that are their members.
type affected struct {
	steady  []int // computed for the touched laptops only
	altered []int // altered themselves, or name altered groups: computed for all laptops
}

// blockPatch is a new result for one group, policy, setting or check in one block.
type blockPatch struct {
	what    patchKind
	at      int
	levelAt int
	block   int
	packed  []uint64
}

type patchKind uint8

const (
	patchGroup patchKind = iota
	patchMatch
	patchDecided
	patchFinal
	patchProblem
)

// blockUpdater computes one block after the other, for one thread. It reads the plan before and collects patches.
type blockUpdater struct {
	*worker
	*recomputation
	patches []blockPatch

	alive, touched, wide *bitset.Set
	rehomed              *bitset.Set
	stayed               *bitset.Set // rows that hold the same laptop before and after
	redecided            []int
}

// updaterScratch is the buffers of a blockUpdater, which are used again for the next block.
type updaterScratch struct {
	groupsAltered []bitset.Dated
	masks         []bitset.Dated             // by setting: rows to decide again
	altered       []bitset.Dated             // by setting: rows whose outcome may differ from before
	final         []bitset.Dated             // by setting: the same, after forcing
	outcomes      [patchProblem][]datedParts // the new results of this block
}

// recompute computes the blocks of a plan that was made of another one. Only blocks with affected rows are computed.
func (p *Plan) recompute(was *Plan, c *changes) {
	was.resolving.Lock()
	before := was.resolution
	was.resolving.Unlock()
	k := &recomputation{was: was, next: p, changes: c, full: was == nothing, members: true}
	if before != nil {
		k.after = before.on(p)
	}
	k.run()
	if k.after != nil {
		k.after.before = nil
		p.resolution = k.after
	}
}

// Estate resolves every laptop for its owner. It is computed once for each plan; a plan made With another snapshot starts from it.
func (p *Plan) Estate() *EstateResolution {
	p.resolving.Lock()
	defer p.resolving.Unlock()
	if p.resolution == nil {
		p.resolution = (&EstateResolution{}).on(p)
		k := &recomputation{
			was:     p,
			next:    p,
			changes: &changes{rows: make([]bitset.Packed, p.Blocks()), systems: make([]bitset.Packed, p.Blocks())},
			full:    true,
			after:   p.resolution,
		}
		k.run()
		p.resolution.before = nil
		p.Gen.Began()
	}
	return p.resolution
}

func (k *recomputation) run() {
	p := k.next
	k.anyDetached = p.AnyDetached() || k.was.AnyDetached()
	for at := range p.settings {
		if def := p.settings[at].Def; def != nil && len(def.Supports) > 0 {
			k.limitedSettings = append(k.limitedSettings, at)
		}
	}
	k.findAffected()
	if k.moved {
		k.findMovedAffected()
	}
	wide := k.full || len(k.changes.groups)+len(k.changes.policies)+len(k.edited)+len(k.settings)+len(k.checks) > 0
	k.redetached = k.findRedetached()
	var blocks []int
	for b := range p.Blocks() {
		if wide || k.rows[b] != nil || k.isRedetached(b) {
			blocks = append(blocks, b)
		}
	}
	if len(blocks) == 0 {
		return
	}
	slices.SortStableFunc(
		blocks,
		func(a, b int) int { return cmp.Compare(k.rows[b].Len(), k.rows[a].Len()) },
	) // what takes longest begins first
	k.idle.Store(int32(max(0, runtime.GOMAXPROCS(0)-len(blocks))))
	var guard sync.Mutex
	var patches [][]blockPatch
	threads.Share(len(blocks), func(mine iter.Seq[int]) {
		h := &blockUpdater{worker: p.worker(p.Laptops()), recomputation: k}
		defer h.done()
		for i := range mine {
			h.update(blocks[i], wide || k.isRedetached(blocks[i]))
		}
		k.idle.Add(1)
		for _, list := range h.outcomes {
			clear(list)
		}
		guard.Lock()
		defer guard.Unlock()
		patches = append(patches, h.patches)
	})
	ofGroup := func(one blockPatch) bool { return one.what == patchGroup }
	if slices.ContainsFunc(patches, func(some []blockPatch) bool { return slices.ContainsFunc(some, ofGroup) }) {
		p.ownGroups(k.was)
	}
	threads.Share(len(patches), func(mine iter.Seq[int]) { // each thread applies the patches whose number is its own, since patches of several blocks go into one list
		for i := range mine {
			for _, some := range patches {
				k.apply(some, func(at int) bool { return at%len(patches) == i })
			}
		}
	})
}

// findAffected finds which groups and policies must be computed again, and for which laptops.
func (k *recomputation) findAffected() {
	p := k.next
	groups, policies := make([]bool, len(p.Groups)), make([]bool, len(p.policies))
	for _, g := range p.GroupOrder {
		groups[g] = k.full || k.changes.groups[g] || slices.ContainsFunc(p.Groups[g].Nested, func(member int) bool { return groups[member] })
		if !groups[g] {
			k.affectedGroups.steady = append(k.affectedGroups.steady, g)
			continue
		}
		k.affectedGroups.altered = append(k.affectedGroups.altered, g)
		if !k.full {
			for _, at := range p.naming()[g] {
				policies[at] = true
			}
		}
	}
	for at := range p.policies {
		if k.full || policies[at] || k.changes.policies[at] {
			k.affectedPolicies.altered = append(k.affectedPolicies.altered, at)
		} else {
			k.affectedPolicies.steady = append(k.affectedPolicies.steady, at)
		}
	}
}

// naming gives, by number of the group, the policies that name it.
func naming(policies []policy, groups int) [][]int {
	out := make([][]int, groups)
	for at := range policies {
		pol := &policies[at]
		add := func(t *match.Target) {
			if t.Kind == estate.ToGroup && !slices.Contains(out[t.At], at) {
				out[t.At] = append(out[t.At], at)
			}
		}
		for _, list := range pol.audience.Include {
			for i := range list {
				add(&list[i])
			}
		}
		for i := range pol.audience.Exclude {
			add(&pol.audience.Exclude[i])
		}
	}
	return out
}

// apply writes patches into the plan, those whose number is one of mine. A list that is shared with the plan before is copied first.
func (k *recomputation) apply(patches []blockPatch, mine func(at int) bool) {
	for _, one := range patches {
		if !mine(one.at) {
			continue
		}
		switch one.what {
		case patchGroup:
			k.next.Groups[one.at].Rows = ownBlock(k.next.Groups[one.at].Rows, k.groupRows(one.at), one.block, bitset.Packed(one.packed))
		case patchMatch:
			pol := &k.next.policies[one.at]
			if one.at < len(k.was.policies) && len(k.was.policies[one.at].matches) > 0 && len(pol.matches) > 0 &&
				&k.was.policies[one.at].matches[0] == &pol.matches[0] {
				pol.matches = slices.Clone(pol.matches)
			}
			var shared []bitset.Packed
			if one.at < len(k.was.policies) && one.levelAt < len(k.was.policies[one.at].matches) {
				shared = k.was.policies[one.at].matches[one.levelAt]
			}
			pol.matches[one.levelAt] = ownBlock(pol.matches[one.levelAt], shared, one.block, bitset.Packed(one.packed))
		case patchDecided:
			k.after.decided[one.at] = ownBlock(k.after.decided[one.at], partsOf(k.after.before.decided, one.at), one.block, bitset.Parts(one.packed))
		case patchFinal:
			k.after.final[one.at] = ownBlock(k.after.final[one.at], partsOf(k.after.before.final, one.at), one.block, bitset.Parts(one.packed))
		case patchProblem:
			var shared []bitset.Packed
			if one.at < len(k.after.before.problems) {
				shared = k.after.before.problems[one.at]
			}
			k.after.problems[one.at] = ownBlock(k.after.problems[one.at], shared, one.block, bitset.Packed(one.packed))
		}
	}
}

func (k *recomputation) groupRows(at int) []bitset.Packed {
	if at < len(k.was.Groups) {
		return k.was.Groups[at].Rows
	}
	return nil
}

func partsOf(list [][]bitset.Parts, at int) []bitset.Parts {
	if at < len(list) {
		return list[at]
	}
	return nil
}

// ownBlock sets one block of a list, in a copy where the list is the shared one.
func ownBlock[T any](list, shared []T, block int, is T) []T {
	if len(list) > 0 && len(shared) > 0 && &list[0] == &shared[0] {
		list = slices.Clone(list)
	}
	list[block] = is
	return list
}

// setOf gives the set of a number in a list of sets, which is empty if it was last used for another block.
func (h *blockUpdater) setOf(list *[]bitset.Dated, at int) *bitset.Set {
	for len(*list) <= at {
		*list = append(*list, bitset.Dated{})
	}
	m := &(*list)[at]
	if m.Epoch != h.Epoch {
		*m = bitset.Dated{Epoch: h.Epoch, Set: h.Keep()}
	}
	return m.Set
}

func (h *blockUpdater) knownSet(list []bitset.Dated, at int) *bitset.Set {
	if at < len(list) && list[at].Epoch == h.Epoch {
		return list[at].Set
	}
	return nil
}

func (h *blockUpdater) update(block int, wide bool) {
	p := h.next
	var alive, touched bitset.Set
	p.Alive[block].Into(&alive)
	h.rows[block].Into(&touched)
	narrow := !h.full && (!wide || !touched.Empty())
	if narrow {
		var dom bitset.Set
		dom.SetAnd(&alive, &touched)
		h.load(block, &dom)
	} else {
		h.load(block, &alive)
	}
	h.alive, h.touched, h.wide, h.stayed, h.rehomed = &alive, &touched, h.Keep(), h.Keep(), h.Keep()
	if h.moved {
		h.changes.rehomed[block].Into(h.rehomed)
	}
	if block < len(h.was.Alive) {
		h.was.Alive[block].Into(h.stayed)
		h.stayed.And(&alive)
	}
	h.wide.Copy(&alive)
	h.wide.Or(&touched)
	h.redecided = h.redecided[:0]
	if h.members && narrow { // what did not alter itself is computed for the touched laptops only
		h.updateGroups(h.affectedGroups.steady)
		h.updatePolicies(h.affectedPolicies.steady)
	}
	if wide {
		if narrow {
			h.Widen(&alive)
		}
		if h.members {
			h.updateGroups(h.affectedGroups.altered)
			h.updatePolicies(h.affectedPolicies.altered)
		}
	}
	if h.after != nil {
		h.updateSettings()
	}
}

// patch gives a set in which the rows of mask are as in is, and all others as before. ok is false if nothing differs.
func (h *blockUpdater) patch(was bitset.Packed, mask, is *bitset.Set, differs *bitset.Set) (out *bitset.Set, ok bool) {
	if mask.Len() <= match.FewRows {
		same := true
		for row := range mask.All() {
			same = same && was.Has(row) == is.Has(row)
		}
		if same {
			return nil, false
		}
	}
	mark := h.Mark()
	defer h.Release(mark)
	old, before, now := h.Temp(), h.Temp(), h.Temp()
	was.Into(old)
	before.SetAnd(old, mask)
	now.SetAnd(is, mask)
	if before.Equal(now) {
		return nil, false
	}
	out = h.Keep()
	out.SetAndNot(old, mask)
	out.Or(now)
	if differs != nil {
		old.SetAndNot(now, before)
		differs.Or(old)
		old.SetAndNot(before, now)
		differs.Or(old)
	}
	return out, true
}

func (h *blockUpdater) updateGroups(list []int) {
	p := h.next
	var owners *bitset.Set
	for _, g := range list {
		mark := h.Mark()
		is := &p.Groups[g]
		mask := h.wide
		if !h.full && !h.changes.groups[g] {
			mask = h.Temp()
			mask.Copy(h.affectedBy(h.movedGroups, g))
			for _, member := range is.Nested {
				if differs := h.knownSet(h.groupsAltered, member); differs != nil {
					mask.Or(differs)
				}
			}
		}
		if mask.Empty() {
			h.Release(mark)
			continue
		}
		rows := h.Temp()
		is.Listed[h.Block].Into(rows)
		if is.Formula != nil {
			holds, _ := h.Truth(is.Formula)
			if is.Of == estate.OfPeople {
				if owners == nil {
					owners = h.Keep()
					for row := range h.Dom.All() {
						if h.PersonAt(row) != intern.None {
							owners.Add(row)
						}
					}
				}
				here := h.Temp()
				here.SetAnd(holds, owners)
				rows.Or(here)
			} else {
				rows.Or(holds)
			}
		}
		for _, member := range is.Nested {
			if set := h.Group(member); set != nil {
				rows.Or(set)
			}
		}
		rows.And(h.alive)
		if h.full {
			set := h.Keep()
			set.SetAnd(rows, mask)
			h.SetGroup(g, nil)
			if !set.Empty() {
				h.SetGroup(g, set)
				is.Rows[h.Block] = set.Pack()
			}
			h.Release(mark)
			continue
		}
		if set, altered := h.patch(is.Rows[h.Block], mask, rows, h.setOf(&h.groupsAltered, g)); altered {
			h.SetGroup(g, set)
			h.patches = append(h.patches, blockPatch{patchGroup, g, 0, h.Block, set.Pack()})
		}
		h.Release(mark)
	}
}

func (h *blockUpdater) updatePolicies(list []int) {
	for _, at := range list {
		h.updatePolicy(at)
	}
}

func (h *blockUpdater) updatePolicy(at int) {
	pol := &h.next.policies[at]
	if pol.Policy == nil || pol.State != estate.Active {
		return
	}
	mark := h.Mark()
	defer h.Release(mark)
	mask := h.wide
	if !h.full && !h.changes.policies[at] {
		mask = h.Temp()
		mask.Copy(h.affectedBy(h.movedPolicies, at))
		add := func(t *match.Target) {
			if t.Kind == estate.ToGroup {
				if differs := h.knownSet(h.groupsAltered, t.At); differs != nil {
					mask.Or(differs)
				}
			}
		}
		for _, list := range pol.audience.Include {
			for i := range list {
				add(&list[i])
			}
		}
		for i := range pol.audience.Exclude {
			add(&pol.audience.Exclude[i])
		}
		if mask.Empty() {
			return
		}
	}
	if h.full {
		for levelAt := range pol.audience.Levels {
			*h.matchBuffer(at, levelAt) = levelMatch{epoch: h.Epoch}
		}
		h.Match(&pol.audience, nil, func(levelAt int, rows *bitset.Set) {
			all := h.Keep()
			all.Copy(rows)
			h.matchBuffer(at, levelAt).all = all
			pol.matches[levelAt][h.Block] = all.Pack()
		})
		return
	}
	news := make([]*bitset.Set, len(pol.audience.Levels))
	for levelAt := range news {
		news[levelAt] = h.Keep()
	}
	h.Match(&pol.audience, nil, func(levelAt int, rows *bitset.Set) { news[levelAt].Copy(rows) })
	differs := h.Keep()
	for levelAt := range news {
		if set, altered := h.patch(pol.matches[levelAt][h.Block], mask, news[levelAt], differs); altered {
			*h.matchBuffer(at, levelAt) = levelMatch{epoch: h.Epoch}
			if !set.Empty() {
				h.matchBuffer(at, levelAt).all = set
			}
			h.patches = append(h.patches, blockPatch{patchMatch, at, levelAt, h.Block, set.Pack()})
		}
	}
	if !differs.Empty() && h.after != nil {
		for i := range pol.entries {
			h.redecide(pol.entries[i].setting, differs)
		}
	}
}
