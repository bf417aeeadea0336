// This file builds groups: listed members, and the order in which groups are computed.
//
// A plan that is made of another takes over whatever did not alter. groupsOf compares the two lists
// of groups and notes in b.changes.groups which groups must be computed for all laptops. Three more
// methods correct the sets of listed members where people and laptops came, went or changed hands:
// unlist, relist and listArrived. Rules and nested groups are evaluated later, by recompute.

package resolve

import (
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
)

// groupsOf numbers the groups, looks up their listed members, and notes the groups that must be
// computed for all laptops.
func (b *builder) groupsOf() {
	was, p := b.was, b.next
	groupID := func(g *estate.Group) estate.GroupID { return g.ID }
	// The same list of groups: everything is shared, and only laptops that altered are looked at
	// below.
	d := intern.Compare(was.snapshot.Groups, p.snapshot.Groups, groupID, sameGroup)
	if d.Same {
		p.Groups, p.GroupAt, p.ofGroup = was.Groups, was.GroupAt, was.ofGroup
		p.GroupOrder, p.DetachingGroups = was.GroupOrder, was.DetachingGroups
	} else {
		// Groups keep their numbers from plan to plan. A number of a group that is gone may be
		// given to a new one.
		p.GroupAt = was.GroupAt.With(d.Gone, intern.IDsAt(p.snapshot.Groups, d.Fresh, groupID))
		p.Groups = make([]match.Group, p.GroupAt.N)
		p.ofGroup = make([]int32, len(p.snapshot.Groups))
		for i := range p.snapshot.Groups {
			g := &p.snapshot.Groups[i]
			at := p.GroupAt.NumberOf(g.ID)
			p.ofGroup[i] = int32(at)
			// What was known of a group under its number is taken over, and corrected below if the
			// group altered.
			if at < len(was.Groups) {
				p.Groups[at] = was.Groups[at]
			}
			p.Groups[at].Group = g
		}
		// Lists of members are looked up only where they differ. Rules and nesting are noted as
		// changes, and evaluated by recompute.
		lister := b.lister()
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			g := &p.snapshot.Groups[i]
			at := p.GroupAt.NumberOf(g.ID)
			before, known := was.GroupAt.Number(g.ID)
			is := &p.Groups[at]
			if !known {
				*is = match.Group{Group: g}
			}
			// Laptops of a group that begins or ceases to detach something inherit other settings,
			// although no membership alters.
			if !known || !sameDetached(was.Groups[before].Detach, g.Detach) {
				b.detached = append(b.detached, p.Target(estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}))
			}
			is.Formula = p.Gen.Formula(g.Rule)
			if !known || !sameMembers(was.Groups[before].Group, g) {
				is.People, is.Listed, is.Absent = lister.list(g)
				b.listedAnew[at] = true
			}
			// A change of title, or of what is detached, leaves the members as they are.
			if !known || was.Groups[before].Of != g.Of || !sameMembers(was.Groups[before].Group, g) || !sameRule(was.Groups[before].Rule, g.Rule) ||
				!slices.Equal(was.Groups[before].Groups, g.Groups) {
				b.changes.groups[at] = true
			}
		}
		// Whoever was in a group that is gone, and detached something, inherits it again.
		for _, id := range d.Gone {
			if at := was.GroupAt.NumberOf(id); len(was.Groups[at].Detach) > 0 {
				b.detached = append(b.detached, match.Target{Target: estate.Target{Kind: estate.ToGroup, ID: string(id)}, At: at,
					Level: outcome.GroupLevel})
			}
		}
		// Nested groups are looked up by id again, since a member group may be new or gone.
		for at := range p.Groups {
			if g := &p.Groups[at]; g.Group != nil {
				g.Nested = make([]int, 0, len(g.Groups))
				for _, id := range g.Groups {
					if member, known := p.GroupAt.Number(id); known {
						g.Nested = append(g.Nested, member)
					}
				}
			}
		}
		p.GroupOrder = p.orderGroups()
		p.DetachingGroups = nil
		// Groups that detach something are few. Matching goes through this list for each entry that
		// can be detached.
		for at := range p.Groups {
			if p.Groups[at].Group != nil && len(p.Groups[at].Detach) > 0 {
				p.DetachingGroups = append(p.DetachingGroups, at)
			}
		}
	}
	b.unlist(b.gonePeople)
	b.relist()
	b.listArrived()
	if p.Blocks() <= was.Blocks() && d.Same {
		return
	}
	p.ownGroups(was)
	for i := range p.Groups {
		g := &p.Groups[i]
		// Blocks that are new have no members yet. recompute fills them.
		g.Rows, g.Listed = engine.PadBlocks(g.Rows, p.Blocks()), engine.PadBlocks(g.Listed, p.Blocks())
	}
}

// ownGroups copies the list of groups if it is shared with the plan before. It is called before a
// group is altered.
func (p *Plan) ownGroups(was *Plan) {
	if len(p.Groups) > 0 && len(was.Groups) > 0 && &p.Groups[0] == &was.Groups[0] {
		p.Groups = slices.Clone(p.Groups)
	}
}

// orderGroups orders groups so that each follows the groups that are its members.
func (p *Plan) orderGroups() []int {
	// Depth first: a group is added after all of its members. Groups in a cycle are added once;
	// Validate refuses them.
	order := make([]int, 0, len(p.Groups))
	seen := make([]bool, len(p.Groups))
	var visit func(at int)
	visit = func(at int) {
		if seen[at] || p.Groups[at].Group == nil {
			return
		}
		seen[at] = true
		for _, member := range p.Groups[at].Nested {
			visit(member)
		}
		order = append(order, at)
	}
	for at := range p.Groups {
		visit(at)
	}
	return order
}

// lister builds the sets of listed members, one group after the other. Its sets are as long as the
// estate and are cleared after each group, so that many groups need no more memory than one.
type lister struct {
	p       *Plan
	devices []bitset.Set
	people  []bitset.Set
	owned   func() (first, next []int32) // first: by person, the first device; next: by device, the next one of the same owner
}

// lister gives a lister for the new plan.
func (b *builder) lister() *lister {
	p := b.next
	return &lister{
		p:       p,
		devices: make([]bitset.Set, p.Blocks()),
		people:  make([]bitset.Set, intern.BlocksOf(p.People.Len())),
		owned:   sync.OnceValues(p.owned),
	}
}

// owned links the devices of each person to a chain. Two lists of numbers instead of a list for
// each person: a million people have no list of their own.
func (p *Plan) owned() (first, next []int32) {
	first, next = make([]int32, p.People.Len()), make([]int32, p.Devices.Len())
	// The first device of each person. From there next leads to the others, and ends at none.
	for i := range first {
		first[i] = intern.None
	}
	// From the last device to the first, so that a chain is in rising order: each device goes to
	// the front of its owner's chain.
	for at := p.Devices.Len() - 1; at >= 0; at-- {
		if o := *p.Owner.At(at); o != intern.None {
			next[at], first[o] = first[o], int32(at)
		}
	}
	return first, next
}

// list gives the people and the laptops that a group lists, by block. A group of devices has no
// people. absent tells whether it lists some that are not there: the list is looked up again when
// somebody or something arrives.
func (l *lister) list(g *estate.Group) (people, laptops []bitset.Packed, absent bool) {
	if g.Of == estate.OfPeople {
		// A listed person brings every laptop that they own.
		// The chains are made when the first group of people is listed, and serve all that follow.
		first, next := l.owned()
		for _, id := range g.Members {
			at, known := l.p.PersonAt.Number(estate.PersonID(id))
			if !known {
				absent = true
				continue
			}
			l.people[at>>bitset.Shift].Add(at & (bitset.Rows - 1))
			for dev := first[at]; dev != intern.None; dev = next[dev] {
				l.devices[dev>>bitset.Shift].Add(int(dev) & (bitset.Rows - 1))
			}
		}
		people = packAll(l.people)
	} else {
		for _, id := range g.Members {
			if at, known := l.p.DeviceAt.Number(estate.DeviceID(id)); known {
				l.devices[at>>bitset.Shift].Add(at & (bitset.Rows - 1))
			} else {
				absent = true
			}
		}
	}
	return people, packAll(l.devices), absent
}

// packAll packs the sets of each block and clears them for the next group. An empty set is nil.
func packAll(sets []bitset.Set) []bitset.Packed {
	out := make([]bitset.Packed, len(sets))
	for i := range sets {
		if !sets[i].Empty() {
			out[i] = sets[i].Pack()
			sets[i].Clear()
		}
	}
	return out
}

// unlist removes people who are gone from the groups that list them. Their numbers may be used
// again, and whoever gets one must not become a member.
func (b *builder) unlist(gone []estate.PersonID) {
	for _, id := range gone {
		who, known := b.was.PersonAt.Number(id)
		// People who were never numbered are in no list.
		if !known {
			continue
		}
		b.next.ownGroups(b.was)
		for at := range b.next.Groups {
			g := &b.next.Groups[at]
			block, row := who>>bitset.Shift, who&(bitset.Rows-1)
			if block >= len(g.People) || !g.People[block].Has(row) {
				continue
			}
			var rows bitset.Set
			g.People[block].Into(&rows)
			rows.Remove(row)
			// The list is shared with the plan before and is copied before one of its blocks is
			// replaced. Absent: the group still lists the id, which may come back.
			g.People = slices.Clone(g.People)
			g.People[block] = rows.Pack()
			g.Absent = true
		}
	}
}

// listArrived lists groups anew that listed somebody or something that was not there, if people or
// laptops came. The estate that a source gives may name a laptop before it has it, and one that was
// removed may come back.
func (b *builder) listArrived() {
	if !b.arrived || b.was == nothing {
		return
	}
	lister := b.lister()
	for at := range b.next.Groups {
		if g := &b.next.Groups[at]; g.Group == nil || !g.Absent || b.listedAnew[at] {
			continue
		}
		b.next.ownGroups(b.was)
		g := &b.next.Groups[at]
		g.People, g.Listed, g.Absent = lister.list(g.Group)
	}
}

// sameDevice tells whether a number is the laptop that it was before, whoever owns it. A number
// that got free may have been given to another laptop.
func (b *builder) sameDevice(dev int) bool {
	if dev >= b.was.Devices.Len() {
		return false
	}
	was, is := b.was.Devices.At(dev), b.next.Devices.At(dev)
	return was.Device != nil && is.Device != nil && was.ID == is.ID
}

// stays tells whether a number is the same laptop with the same owner as before.
func (b *builder) stays(dev int) bool {
	if dev >= b.was.Devices.Len() {
		return false
	}
	was, is := b.was.Devices.At(dev), b.next.Devices.At(dev)
	// A free number was and is nobody.
	if was.Device == nil && is.Device == nil {
		return true
	}
	return b.sameDevice(dev) && was.Owner == is.Owner && was.OwnerAt == is.OwnerAt
}

// relist updates the listed laptops of groups of people if laptops have another owner, and of all
// groups if laptops are new or gone. It goes through the touched rows of each block and not through
// the lists of members, which may have 100,000 ids.
func (b *builder) relist() {
	p := b.next
	var rows, listed bitset.Set
	for block := range b.rows {
		if b.rows[block] == nil || b.was == nothing {
			continue
		}
		// Only laptops that are new, gone or have another owner can enter or leave by listing.
		b.rows[block].Into(&rows)
		for row := range rows.All() { // laptops that stay with their owner stay listed as before
			if b.stays(block<<bitset.Shift + row) {
				rows.Remove(row)
			}
		}
		if rows.Empty() {
			continue
		}
		p.ownGroups(b.was)
		for at := range p.Groups {
			g := &p.Groups[at]
			if g.Group == nil || b.listedAnew[at] {
				continue
			}
			// now: the listed laptops of this block before. It is opened into listed at the first
			// row that differs, and packed again once at the end.
			var now bitset.Packed
			if block < len(g.Listed) {
				now = g.Listed[block]
			}
			altered := false
			for row := range rows.All() {
				dev := block<<bitset.Shift + row
				o := *p.Owner.At(dev)
				// Of a group of people, the laptop is listed if its owner is.
				is := o != intern.None && int(o)>>bitset.Shift < len(g.People) && g.People[o>>bitset.Shift].Has(int(o)&(bitset.Rows-1))
				if g.Of == estate.OfDevices { // a free number is in no list, nor is another laptop that got the number
					is = now.Has(row) && b.sameDevice(dev)
				}
				if is == now.Has(row) {
					continue
				}
				if g.Of == estate.OfDevices {
					g.Absent = true
				}
				if !altered {
					altered = true
					now.Into(&listed)
				}
				if is {
					listed.Add(row)
				} else {
					listed.Remove(row)
				}
			}
			if altered {
				g.Listed = slices.Clone(g.Listed)
				// The block may be new in this plan.
				for len(g.Listed) <= block {
					g.Listed = append(g.Listed, nil)
				}
				g.Listed[block] = listed.Pack()
			}
		}
	}
}
