// This file recomputes what an altered snapshot affects, block by block: groups, audiences,
// outcomes of settings, forced values, checks. Blocks are computed in parallel. Each worker
// collects patches; when all blocks are done, the patches are written into the plan.
//
// What must be computed is known before the blocks are shared out: groups and policies that altered
// themselves (computed for all laptops), and rows of laptops that altered (computed for
// everything). While a block is computed, differences are carried on: a row that entered a group is
// matched again by the policies that name the group, and where a policy begins to apply, its
// settings are decided again. A result that is the same as before makes no patch, and what depends
// on it is left alone.
//
// A first run (full) has nothing before it, and computes all blocks for all laptops.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
)

// recomputation is one run over the blocks of a plan, with what all workers share. It is not used
// after the run.
type recomputation struct {
	was, next *Plan
	*changes
	full            bool // everything is computed, for all laptops
	members         bool // groups and audiences are computed too, not only the outcomes of settings
	after           *EstateResolution
	anyDetached     bool             // some place detaches something, before or after
	limitedSettings []int            // settings that not every laptop supports
	redetached      intern.DeviceSet // laptops in places that detach other kinds or areas than before; nil: none

	idle engine.Idle // threads that have no block

	affectedGroups, affectedPolicies affected
	movedGroups, movedPolicies       []concern // affected by moved units alone
}

// affected is the groups, or the policies, to compute again, by number. Groups come after the
// groups that are their members.
type affected struct {
	steady  []int // computed for the touched laptops only
	altered []int // altered themselves, or name altered groups: computed for all laptops
}

// The tables that a recomputation writes, as engine.Patch names them.
const (
	groupTable   = iota // the laptops of each group
	matchTable          // the laptops of each policy; Part is the place of the level
	decidedTable        // what each setting comes out as, before forcing
	finalTable          // the same after forcing
	problemTable        // the laptops on which each check fails
)

// blockUpdater computes one block after the other, for one thread. It reads the plan before and
// collects patches.
type blockUpdater struct {
	*worker
	*recomputation
	wideBlocks bool // something altered that concerns every laptop
	patches    []engine.Patch

	alive, touched, wide *bitset.Set
	rehomed              *bitset.Set
	stayed               *bitset.Set // rows that hold the same laptop before and after
	redecided            []int
}

// updaterScratch is the buffers of a blockUpdater, which are used again for the next block.
type updaterScratch struct {
	groupsAltered engine.RowSets             // by group: rows that entered or left it
	masks         engine.RowSets             // by setting: rows to decide again
	altered       engine.RowSets             // by setting: rows whose outcome may differ from before
	final         engine.RowSets             // by setting: the same, after forcing
	outcomes      [problemTable][]datedParts // the new results of this block, by table and setting
}

// recompute computes the blocks of a plan that was made of another one. Only blocks with affected
// rows are computed.
func (p *Plan) recompute(was *Plan, c *changes) {
	// The resolution of the plan before may be missing: nobody asked for it. Then groups and
	// audiences are computed, and settings later.
	was.resolving.Lock()
	before := was.resolution
	was.resolving.Unlock()
	// full: nothing can be taken over. This is so for the first plan, and for the first resolution
	// of a plan.
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

// Estate resolves every laptop for its owner. It is computed once for each plan; a plan made With
// another snapshot starts from it. Others who ask wait until the first one is done, and get the
// same resolution.
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

// run computes what differs, block by block, and writes it into the plan. See package engine for
// the three steps.
func (k *recomputation) run() {
	p := k.next
	// What many blocks need is found once, before the blocks are shared out.
	k.anyDetached = p.AnyDetached() || k.was.AnyDetached()
	// Support is looked at only for these, since all laptops support the others.
	for at := range p.settings {
		if def := p.settings[at].Def; def != nil && len(def.Supports) > 0 {
			k.limitedSettings = append(k.limitedSettings, at)
		}
	}

	k.findAffected()
	if k.moved {
		k.findMovedAffected()
	}
	// An edit is wide if it can concern any laptop. Otherwise only blocks with touched laptops are
	// computed: moving ten people among 100,000 computes at most ten blocks.
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
	// Blocks with more touched laptops take longer.
	weight := func(block int) int { return k.rows[block].Len() }
	begin := func() *blockUpdater {
		return &blockUpdater{worker: p.worker(p.Laptops()), recomputation: k, wideBlocks: wide}
	}
	// The last thing that a thread does is to give its worker back, without references to this run.
	patches := engine.Run(blocks, weight, &k.idle, begin, func(h *blockUpdater) {
		for _, list := range h.outcomes {
			clear(list)
		}
		h.done()
	})
	// The list of groups is shared with the plan before as long as no group differs.
	if engine.Any(patches, groupTable) {
		p.ownGroups(k.was)
	}
	engine.Apply(patches, k.apply)
}

// findAffected finds which groups and policies must be computed again, and for which laptops.
func (k *recomputation) findAffected() {
	p := k.next
	groups, policies := make([]bool, len(p.Groups)), make([]bool, len(p.policies))
	// Groups come after their member groups, so an altered member is found before the group that
	// has it.
	for _, g := range p.GroupOrder {
		groups[g] = k.full || k.changes.groups[g] || slices.ContainsFunc(p.Groups[g].Nested, func(member int) bool { return groups[member] })
		if !groups[g] {
			k.affectedGroups.steady = append(k.affectedGroups.steady, g)
			continue
		}
		k.affectedGroups.altered = append(k.affectedGroups.altered, g)
		// A policy that names an altered group may reach others.
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

// naming gives, by number of the group, the policies that name it in an include or an exclude.
// Groups inside of groups are not followed: findAffected does that.
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

// apply writes one patch into the plan, or into its resolution.
func (k *recomputation) apply(p engine.Patch) {
	switch p.Table {
	case groupTable:
		// SetBlock copies the list if it is still the one of the plan before, and then writes the
		// block.
		var shared []bitset.Packed
		if p.At < len(k.was.Groups) {
			shared = k.was.Groups[p.At].Rows
		}
		g := &k.next.Groups[p.At]
		g.Rows = engine.SetBlock(g.Rows, shared, p.Block, bitset.Packed(p.Words))
	case matchTable:
		pol := &k.next.policies[p.At]
		var before [][]bitset.Packed
		if p.At < len(k.was.policies) {
			before = k.was.policies[p.At].matches
		}
		// Lists of levels and lists of blocks are both shared with the plan before; both are copied
		// before the first write.
		if len(before) > 0 && len(pol.matches) > 0 && &before[0] == &pol.matches[0] {
			pol.matches = slices.Clone(pol.matches) // the list of levels is shared, too
		}
		pol.matches[p.Part] = engine.SetBlock(pol.matches[p.Part], engine.ListAt(before, p.Part), p.Block, bitset.Packed(p.Words))
	case decidedTable:
		setOutcome(k.after.decided, k.after.before.decided, p)
	case finalTable:
		setOutcome(k.after.final, k.after.before.final, p)
	case problemTable:
		list := k.after.problems
		list[p.At] = engine.SetBlock(list[p.At], engine.ListAt(k.after.before.problems, p.At), p.Block, bitset.Packed(p.Words))
	}
}

// setOutcome writes a patch into a table of outcomes by setting.
func setOutcome(table, before [][]bitset.Parts, p engine.Patch) {
	table[p.At] = engine.SetBlock(table[p.At], engine.ListAt(before, p.At), p.Block, bitset.Parts(p.Words))
}

// Patches gives the results that differ from before, of all blocks that were updated.
func (h *blockUpdater) Patches() []engine.Patch { return h.patches }

// Update computes a block.
func (h *blockUpdater) Update(block int) {
	p := h.next
	wide := h.wideBlocks || h.isRedetached(block)
	var alive, touched bitset.Set
	p.Alive[block].Into(&alive)
	h.rows[block].Into(&touched)
	// A block is computed in up to two passes. The narrow pass looks at touched laptops only, and
	// computes everything for them. The wide pass looks at all laptops of the block, and computes
	// only the groups and policies that altered themselves.
	narrow := !h.full && (!wide || !touched.Empty())
	if narrow {
		var dom bitset.Set
		dom.SetAnd(&alive, &touched)
		h.load(block, &dom)
	} else {
		h.load(block, &alive)
	}
	// wide holds all laptops of the block, before and after: those that left must lose their
	// outcomes. The sets of a block are kept in the arena until the next Load.
	h.alive, h.touched, h.wide, h.stayed, h.rehomed = &alive, &touched, h.Keep(), h.Keep(), h.Keep()
	if h.moved {
		h.changes.rehomed[block].Into(h.rehomed)
	}
	// A row may have been free before, be free now, or hold another laptop. stayed has those that
	// were and are in use.
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
	// The second pass needs the rows of the whole block.
	if wide {
		if narrow {
			h.Widen(&alive)
		}
		if h.members {
			h.updateGroups(h.affectedGroups.altered)
			h.updatePolicies(h.affectedPolicies.altered)
		}
	}
	// Without a resolution there are no outcomes to bring up to date.
	if h.after != nil {
		h.updateSettings()
	}
}

// updateGroups computes the members of groups in the block, for the rows that are looked at.
func (h *blockUpdater) updateGroups(list []int) {
	p := h.next
	var owners *bitset.Set
	for _, g := range list {
		mark := h.Mark()
		is := &p.Groups[g]
		// mask holds the rows to compute. For a group that did not alter itself, these are the
		// touched laptops and those that entered or left one of its member groups.
		mask := h.wide
		if !h.full && !h.changes.groups[g] {
			mask = h.Temp()
			mask.Copy(h.affectedBy(h.movedGroups, g))
			for _, member := range is.Nested {
				if differs := h.groupsAltered.Known(member, h.Epoch); differs != nil {
					mask.Or(differs)
				}
			}
		}
		if mask.Empty() {
			h.Release(mark)
			continue
		}
		// In the group are: those that are listed, those for whom the rule holds, and those in
		// member groups.
		rows := h.Temp()
		is.Listed[h.Block].Into(rows)
		// A rule over people counts for laptops that have an owner; a laptop without one has no
		// attributes, and is in no such group.
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
		// Rules were asked on all rows that are looked at. Laptops that left are in no group.
		rows.And(h.alive)
		// In a first run nobody else reads the plan, so results are written at once, without
		// patches.
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
		// Rows that entered or left are noted for whoever depends on the group: groups around it,
		// policies, exceptions.
		if set, altered := engine.Merge(&h.Arena, is.Rows[h.Block], mask, rows, h.groupsAltered.Of(g, h.Epoch, &h.Arena)); altered {
			h.SetGroup(g, set)
			h.patches = append(h.patches, engine.Patch{Table: groupTable, At: g, Part: 0, Block: h.Block, Words: set.Pack()})
		}
		h.Release(mark)
	}
}

// updatePolicies matches some policies in the block.
func (h *blockUpdater) updatePolicies(list []int) {
	for _, at := range list {
		h.updatePolicy(at)
	}
}

// updatePolicy matches one policy in the block, for the rows that are looked at. Where the result
// differs, the settings of the policy are marked to be decided again.
func (h *blockUpdater) updatePolicy(at int) {
	// Policies that are not active match nobody, and have no lists to fill.
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
		// Targets that name a group follow its members.
		add := func(t *match.Target) {
			if t.Kind == estate.ToGroup {
				if differs := h.groupsAltered.Known(t.At, h.Epoch); differs != nil {
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
	// As for groups: a first run writes at once.
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
	// All levels are matched before any is compared: a laptop that leaves one level may enter
	// another. news holds the new result by level. It is compared with the old one where mask says
	// that it may differ.
	news := make([]*bitset.Set, len(pol.audience.Levels))
	for levelAt := range news {
		news[levelAt] = h.Keep()
	}
	h.Match(&pol.audience, nil, func(levelAt int, rows *bitset.Set) { news[levelAt].Copy(rows) })
	differs := h.Keep()
	for levelAt := range news {
		if set, altered := engine.Merge(&h.Arena, pol.matches[levelAt][h.Block], mask, news[levelAt], differs); altered {
			*h.matchBuffer(at, levelAt) = levelMatch{epoch: h.Epoch}
			if !set.Empty() {
				h.matchBuffer(at, levelAt).all = set
			}
			h.patches = append(h.patches, engine.Patch{Table: matchTable, At: at, Part: levelAt, Block: h.Block, Words: set.Pack()})
		}
	}
	// Where the policy begins or ceases to apply, each setting that it has an entry for is decided
	// again.
	if !differs.Empty() && h.after != nil {
		for i := range pol.entries {
			h.redecide(pol.entries[i].setting, differs)
		}
	}
}
