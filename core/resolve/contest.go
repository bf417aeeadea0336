// This file puts the entries of a setting in the order in which they are decided.

package resolve

import (
	"cmp"
	"math"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// contest is what is fixed of one setting before it is decided for anybody.
type contest struct {
	combine    setting.Combine // of the definition, as the next two; what is always looked at comes first, for the sake of speed
	user       bool            // user-side
	limited    bool            // not every laptop supports it
	area       string          // of the dictionary; empty: none
	slots      []slot          // in the order of decision
	exceptions []exception
	outcomes   *outcomes
	items      []int32             // of lists that are put together: what each slot brings, slot after slot
	begin      []int32             // by slot: where its items begin; in the end how many there are
	def        *setting.Definition // nil: no such setting
	support    *supportMemo
	brought    []brought // by slot
	keys       []uint32  // by slot: its policy and arm, side by side
	rulings    map[preference]bool
	forced     []forcing
}

// slot is an entry as it comes from one level. Of closest and strictest settings the locked ones come first, the outermost level before
// others; then the others. Within a level, and among all that are not locked under strictest, what is stronger comes first: the
// first slot that a laptop has decides.
type slot struct {
	policy int32
	arm    int16
	lock   bool
	level  Level
	order
	class int32 // the same for equal values
}

// order is how a slot stands to the others of its setting, and what it decides: most often no more is looked at.
type order struct {
	zone    int32 // slots of one zone beat each other by priority or rank alone; those of locked slots are below 0
	run     int32 // slots of one run beat each other by nothing
	outcome int32 // of the value
}

// brought is what a slot brings. It is apart from the slot since it is looked at less often.
type brought struct {
	*estate.Entry
	weight int64 // of closest the policy's priority, of strictest the value's rank
}

// placed is a slot with what it brings while slots are put in order.
type placed struct {
	slot
	brought
	items []int32
}

// itemsOf gives the items that the slot at a place brings.
func (c *contest) itemsOf(place int32) []int32 {
	if len(c.begin) == 0 {
		return nil
	}
	return c.items[c.begin[place]:c.begin[place+1]]
}

// contestAll makes the contests of all settings.
func (p *Plan) contestAll() {
	lists := make([][]placed, len(p.contests))
	for _, at := range p.byPolicy {
		for _, e := range p.policies[at].entries {
			lists[e.setting] = p.slotsOf(&p.contests[e.setting], at, e, lists[e.setting])
		}
	}
	for at := range p.contests {
		c := &p.contests[at]
		if c.def != nil {
			p.order(c, lists[at], 0)
		} else {
			c.slots, c.brought, c.keys, c.items, c.begin = nil, nil, nil, nil, nil
		}
	}
}

// contestAnew makes the contest of one setting anew where some policies' entries for it, or levels, altered.
func (p *Plan) contestAnew(at int, altered []int) {
	c := &p.contests[at]
	list := make([]placed, 0, len(c.slots)+len(altered))
	for i, s := range c.slots {
		if !slices.Contains(altered, int(s.policy)) {
			list = append(list, placed{s, c.brought[i], c.itemsOf(int32(i))})
		}
	}
	stay := len(list)
	for _, pol := range altered {
		entries := p.policies[pol].entries
		if i, found := slices.BinarySearchFunc(entries, at, func(e entry, s int) int { return cmp.Compare(e.setting, s) }); found {
			list = p.slotsOf(c, pol, entries[i], list)
		}
	}
	p.order(c, list, stay)
}

// slotsOf adds the slots of a policy's entry.
func (p *Plan) slotsOf(c *contest, policy int, e entry, to []placed) []placed {
	pol := &p.policies[policy]
	if pol.State != estate.Active {
		return to
	}
	s := placed{slot{policy: int32(policy), lock: e.Lock}, brought{Entry: e.Entry, weight: pol.Priority}, nil}
	switch c.def.Combine {
	case setting.Merge, setting.Common:
		for _, item := range e.Value.Members() {
			s.items = append(s.items, c.outcomes.item(item).number)
		}
	default:
		o := c.outcomes.value(e.Value)
		s.outcome, s.class = o.number, o.class
		if c.def.Combine == setting.Strictest {
			s.weight = c.def.Rank(e.Value)
		}
	}
	for arm, level := range pol.levels {
		s.arm, s.level = int16(arm), level
		to = append(to, s)
	}
	return to
}

// order sorts the slots of a contest and finds zones and runs. The first of them, as many as stay, are in order.
func (p *Plan) order(c *contest, list []placed, stay int) {
	by := c.def.Combine
	before := func(a, b *placed) int {
		if first := compareSlots(by, a, b); first != 0 {
			return first
		}
		return cmp.Or(cmp.Compare(p.policies[a.policy].ID, p.policies[b.policy].ID), cmp.Compare(b.level, a.level))
	}
	sorted := make([]*placed, len(list))
	for i := range list {
		sorted[i] = &list[i]
	}
	slices.SortFunc(sorted[stay:], before)
	for i := stay; stay > 0 && i < len(sorted); i++ { // few
		one := sorted[i]
		at, _ := slices.BinarySearchFunc(sorted[:i], one, before)
		copy(sorted[at+1:i+1], sorted[at:i])
		sorted[at] = one
	}
	c.slots, c.brought, c.keys = make([]slot, len(list)), make([]brought, len(list)), make([]uint32, len(list))
	c.items, c.begin = nil, nil
	if c.combine == setting.Merge || c.combine == setting.Common {
		c.begin = make([]int32, len(list)+1)
		for i, s := range sorted {
			c.items = append(c.items, s.items...)
			c.begin[i+1] = int32(len(c.items))
		}
	}
	for i, s := range sorted {
		if s.zone, s.run = 0, 0; s.lock {
			s.zone = math.MinInt32
		}
		if i > 0 {
			last := sorted[i-1]
			s.zone, s.run = last.zone, last.run
			switch {
			case last.lock != s.lock:
				s.zone = 0
			case last.level != s.level && (c.def.Combine == setting.Closest || s.lock):
				s.zone++
			}
			if compareSlots(by, last, s) != 0 {
				s.run++
			}
		}
		c.slots[i], c.brought[i], c.keys[i] = s.slot, s.brought, keyOf(int(s.policy), int(s.arm))
	}
}

// keyOf packs a policy and one of its arms, of which there are no more than a tree of units is deep, and two.
func keyOf(policy, arm int) uint32 { return uint32(policy)<<10 | uint32(arm) }

// armOf gives the policy and the arm of a key.
func armOf(key uint32) (policy, arm int) { return int(key >> 10), int(key & (1<<10 - 1)) }

// compareSlots says which of two slots decides before the other.
func compareSlots(by setting.Combine, a, b *placed) int {
	if by != setting.Closest && by != setting.Strictest {
		return 0
	}
	switch {
	case a.lock && b.lock:
		if order := cmp.Compare(a.level, b.level); order != 0 {
			return order
		}
	case a.lock:
		return -1
	case b.lock:
		return 1
	}
	if order := cmp.Compare(b.level, a.level); order != 0 && by == setting.Closest {
		return order
	}
	return cmp.Compare(b.weight, a.weight)
}
