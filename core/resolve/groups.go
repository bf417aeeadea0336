// This file takes in groups: whom they list, and in which order they are worked out.

package resolve

import (
	"slices"
	"sync"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
)

func (b *builder) groupsOf() {
	was, p := b.was, b.next
	groupID := func(g *estate.Group) estate.GroupID { return g.ID }
	d := intern.Compare(was.snapshot.Groups, p.snapshot.Groups, groupID, sameGroup)
	if d.Same {
		p.groups, p.groupAt, p.ofGroup, p.groupOrder, p.detaching = was.groups, was.groupAt, was.ofGroup, was.groupOrder, was.detaching
	} else {
		p.groupAt = was.groupAt.With(d.Gone, intern.IdsAt(p.snapshot.Groups, d.Fresh, groupID))
		p.groups = make([]group, p.groupAt.N)
		p.ofGroup = make([]int32, len(p.snapshot.Groups))
		for i := range p.snapshot.Groups {
			g := &p.snapshot.Groups[i]
			at := p.groupAt.NumberOf(g.ID)
			p.ofGroup[i] = int32(at)
			if at < len(was.groups) {
				p.groups[at] = was.groups[at]
			}
			p.groups[at].Group = g
		}
		lister := b.lister()
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			g := &p.snapshot.Groups[i]
			at := p.groupAt.NumberOf(g.ID)
			before, known := was.groupAt.Number(g.ID)
			is := &p.groups[at]
			if !known {
				*is = group{Group: g}
			}
			if !known || !sameDetached(was.groups[before].Detach, g.Detach) {
				b.detached = append(b.detached, p.target(estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}))
			}
			is.formula = p.gen.Formula(g.Rule)
			if !known || !sameMembers(was.groups[before].Group, g) {
				is.people, is.listed = lister.list(g)
				b.listedAnew[at] = true
			}
			if !known || was.groups[before].Of != g.Of || !sameMembers(was.groups[before].Group, g) || !sameRule(was.groups[before].Rule, g.Rule) || !slices.Equal(was.groups[before].Groups, g.Groups) {
				b.changes.groups[at] = true
			}
		}
		for at := range p.groups {
			if g := &p.groups[at]; g.Group != nil {
				g.nested = make([]int, 0, len(g.Groups))
				for _, id := range g.Groups {
					if member, known := p.groupAt.Number(id); known {
						g.nested = append(g.nested, member)
					}
				}
			}
		}
		p.groupOrder = p.orderGroups()
		p.detaching = nil
		for at := range p.groups {
			if p.groups[at].Group != nil && len(p.groups[at].Detach) > 0 {
				p.detaching = append(p.detaching, at)
			}
		}
	}
	b.unlist(b.gonePeople)
	b.relist()
	if p.blocks() <= was.blocks() && d.Same {
		return
	}
	p.ownGroups(was)
	for i := range p.groups {
		p.groups[i].rows, p.groups[i].listed = padded(p.groups[i].rows, p.blocks()), padded(p.groups[i].listed, p.blocks())
	}
}

// ownGroups makes the groups a plan's own before any is altered, where they are another plan's too.
func (p *Plan) ownGroups(was *Plan) {
	if len(p.groups) > 0 && len(was.groups) > 0 && &p.groups[0] == &was.groups[0] {
		p.groups = slices.Clone(p.groups)
	}
}

// padded gives a list with at least n blocks; a longer one is a copy.
func padded[T any](list []T, n int) []T {
	if len(list) >= n {
		return list
	}
	return append(slices.Clip(list), make([]T, n-len(list))...)
}

// orderGroups puts every group after those that it has as members.
func (p *Plan) orderGroups() []int {
	order := make([]int, 0, len(p.groups))
	seen := make([]bool, len(p.groups))
	var visit func(at int)
	visit = func(at int) {
		if seen[at] || p.groups[at].Group == nil {
			return
		}
		seen[at] = true
		for _, member := range p.groups[at].nested {
			visit(member)
		}
		order = append(order, at)
	}
	for at := range p.groups {
		visit(at)
	}
	return order
}

// lister makes sets of listed members.
type lister struct {
	p       *Plan
	devices []bitset.Set
	people  []bitset.Set
	owned   func() (first, next []int32) // by person: the first device, and by device: the next one of the same owner
}

func (b *builder) lister() *lister {
	p := b.next
	return &lister{p: p, devices: make([]bitset.Set, p.blocks()), people: make([]bitset.Set, intern.BlocksOf(p.people.Len())), owned: sync.OnceValues(p.owned)}
}

// owned chains the devices of each person.
func (p *Plan) owned() (first, next []int32) {
	first, next = make([]int32, p.people.Len()), make([]int32, p.devices.Len())
	for i := range first {
		first[i] = intern.None
	}
	for at := p.devices.Len() - 1; at >= 0; at-- {
		if o := *p.owner.At(at); o != intern.None {
			next[at], first[o] = first[o], int32(at)
		}
	}
	return first, next
}

// list gives the people and the laptops that a group lists.
func (l *lister) list(g *estate.Group) (people, laptops []bitset.Packed) {
	if g.Of == estate.OfPeople {
		first, next := l.owned()
		for _, id := range g.Members {
			at, known := l.p.personAt.Number(estate.PersonID(id))
			if !known {
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
			if at, known := l.p.deviceAt.Number(estate.DeviceID(id)); known {
				l.devices[at>>bitset.Shift].Add(at & (bitset.Rows - 1))
			}
		}
	}
	return people, packAll(l.devices)
}

// packAll packs sets and makes them empty.
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

// unlist takes people who are gone out of the groups that still list them: their numbers may be given again.
func (b *builder) unlist(gone []estate.PersonID) {
	for _, id := range gone {
		who, known := b.was.personAt.Number(id)
		if !known {
			continue
		}
		b.next.ownGroups(b.was)
		for at := range b.next.groups {
			g := &b.next.groups[at]
			block, row := who>>bitset.Shift, who&(bitset.Rows-1)
			if block >= len(g.people) || !g.people[block].Has(row) {
				continue
			}
			var rows bitset.Set
			g.people[block].Into(&rows)
			rows.Remove(row)
			g.people = slices.Clone(g.people)
			g.people[block] = rows.Pack()
		}
	}
}

// stays tells whether a number stands for the same laptop with the same owner as before.
func (b *builder) stays(dev int) bool {
	if dev >= b.was.devices.Len() {
		return false
	}
	was, is := b.was.devices.At(dev), b.next.devices.At(dev)
	if was.Device == nil || is.Device == nil {
		return was.Device == is.Device
	}
	return was.ID == is.ID && was.Owner == is.Owner && was.owner == is.owner
}

// relist brings the listed laptops of groups of people up to date where laptops have another owner, and those of all groups where laptops came.
func (b *builder) relist() {
	p := b.next
	var rows, listed bitset.Set
	for block := range b.rows {
		if b.rows[block] == nil || b.was == nothing {
			continue
		}
		b.rows[block].Into(&rows)
		for row := range rows.All() { // whoever stays, with the owner that was, stays listed as before
			if b.stays(block<<bitset.Shift + row) {
				rows.Remove(row)
			}
		}
		if rows.Empty() {
			continue
		}
		p.ownGroups(b.was)
		for at := range p.groups {
			g := &p.groups[at]
			if g.Group == nil || b.listedAnew[at] {
				continue
			}
			var now bitset.Packed
			if block < len(g.listed) {
				now = g.listed[block]
			}
			altered := false
			for row := range rows.All() {
				dev := block<<bitset.Shift + row
				o := *p.owner.At(dev)
				is := o != intern.None && int(o)>>bitset.Shift < len(g.people) && g.people[o>>bitset.Shift].Has(int(o)&(bitset.Rows-1))
				if g.Of == estate.OfDevices { // a number that is free lists nobody
					is = now.Has(row) && p.devices.At(dev).Device != nil
				}
				if is == now.Has(row) {
					continue
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
				g.listed = slices.Clone(g.listed)
				for len(g.listed) <= block {
					g.listed = append(g.listed, nil)
				}
				g.listed[block] = listed.Pack()
			}
		}
	}
}
