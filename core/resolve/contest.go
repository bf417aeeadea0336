// This file puts the entries of a setting in the order in which they are decided.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// contest is what is fixed of one setting before it is decided for anybody.
type contest struct {
	def        *setting.Definition // nil: no such setting
	combine    setting.Combine     // of the definition, as what follows: beside each other for the sake of speed
	user       bool                // user-side
	limited    bool                // not every laptop supports it
	support    *supportMemo
	outcomes   *outcomes
	slots      []slot   // in the order of decision
	keys       []uint32 // by slot: its policy and arm, side by side
	exceptions []exception
	rulings    map[preference]bool
	forced     []forcing
}

// slot is an entry as it comes from one level. Of closest and strictest settings the locked ones come first, the outermost level before
// others; then the others. Within a level, and among all that are not locked under strictest, what is stronger comes first: the
// first slot that a laptop has decides.
type slot struct {
	policy, arm int
	id          estate.PolicyID
	*estate.Entry
	level    Level
	priority int64
	rank     int64 // of strictest
	zone     int32 // slots of one zone beat each other by priority or rank alone
	run      int32 // slots of one run beat each other by nothing
	outcome  int32 // of the value
	class    int32 // the same for equal values
	items    []int32
}

// contestAll makes the contests of all settings.
func (p *Plan) contestAll() {
	for at := range p.contests {
		p.contests[at].slots = nil
	}
	for _, at := range p.byPolicy {
		for _, e := range p.policies[at].entries {
			c := &p.contests[e.setting]
			c.slots = p.slotsOf(c, at, e, c.slots)
		}
	}
	for at := range p.contests {
		if p.contests[at].def != nil {
			p.order(&p.contests[at])
		}
	}
}

// contestAnew makes the contest of one setting anew where some policies' entries for it, or levels, altered.
func (p *Plan) contestAnew(at int, altered []int) {
	c := &p.contests[at]
	slots := make([]slot, 0, len(c.slots)+len(altered))
	for _, s := range c.slots {
		if !slices.Contains(altered, s.policy) {
			slots = append(slots, s)
		}
	}
	for _, pol := range altered {
		entries := p.policies[pol].entries
		if i, found := slices.BinarySearchFunc(entries, at, func(e entry, s int) int { return cmp.Compare(e.setting, s) }); found {
			slots = p.slotsOf(c, pol, entries[i], slots)
		}
	}
	c.slots = slots
	p.order(c)
}

// slotsOf adds the slots of a policy's entry.
func (p *Plan) slotsOf(c *contest, policy int, e entry, to []slot) []slot {
	pol := &p.policies[policy]
	if pol.State != estate.Active {
		return to
	}
	s := slot{policy: policy, id: pol.ID, Entry: e.Entry, priority: pol.Priority}
	switch c.def.Combine {
	case setting.Merge, setting.Common:
		for _, item := range e.Value.Members() {
			s.items = append(s.items, c.outcomes.item(item).number)
		}
	default:
		o := c.outcomes.value(e.Value)
		s.outcome, s.class = o.number, o.class
		if c.def.Combine == setting.Strictest {
			s.rank = c.def.Rank(e.Value)
		}
	}
	for arm, level := range pol.levels {
		s.arm, s.level = arm, level
		to = append(to, s)
	}
	return to
}

// order sorts the slots and finds zones and runs.
func (p *Plan) order(c *contest) {
	before := p.compareSlots(c.def.Combine)
	slices.SortFunc(c.slots, func(a, b slot) int {
		return cmp.Or(before(&a, &b), cmp.Compare(a.id, b.id), cmp.Compare(b.level, a.level))
	})
	for i := range c.slots {
		s := &c.slots[i]
		s.zone, s.run = 0, 0
		if i == 0 {
			continue
		}
		last := &c.slots[i-1]
		s.zone, s.run = last.zone, last.run
		if last.Lock != s.Lock || last.level != s.level && (c.def.Combine == setting.Closest || s.Lock) {
			s.zone++
		}
		if before(last, s) != 0 {
			s.run++
		}
	}
	c.keys = make([]uint32, len(c.slots))
	for i := range c.slots {
		c.keys[i] = keyOf(c.slots[i].policy, c.slots[i].arm)
	}
}

// keyOf packs a policy and one of its arms, of which there are no more than a tree of units is deep, and two.
func keyOf(policy, arm int) uint32 { return uint32(policy)<<10 | uint32(arm) }

// compareSlots says which of two slots decides before the other.
func (p *Plan) compareSlots(by setting.Combine) func(a, b *slot) int {
	locks := func(a, b *slot) int {
		switch {
		case a.Lock && b.Lock:
			return cmp.Compare(a.level, b.level)
		case a.Lock:
			return -1
		case b.Lock:
			return 1
		}
		return 0
	}
	switch by {
	case setting.Closest:
		return func(a, b *slot) int {
			return cmp.Or(locks(a, b), cmp.Compare(b.level, a.level), cmp.Compare(b.priority, a.priority))
		}
	case setting.Strictest:
		return func(a, b *slot) int { return cmp.Or(locks(a, b), cmp.Compare(b.rank, a.rank)) }
	}
	return func(a, b *slot) int { return 0 }
}
