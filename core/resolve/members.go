// This file says who is in which group and unit, and who would be.
//
// A group's members are its listed members, the members of the groups in it, and whoever its rule
// holds for. They are computed once, when the plan is made (see groups.go and recompute.go); what
// is here only reads them. A laptop counts as a member of a group of people through its owner.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/rule"
)

// GroupTrial is who a group would have. Members are counted once: Listed, Nested and ByRule add up
// to all of them.
type GroupTrial struct {
	Members  []string // sorted
	Listed   int
	Nested   int               // through member groups, listed ones not counted again
	ByRule   int               // by the rule alone
	Failures map[string]string // on whom the rule fails: the error, by id
}

// TryGroup says who a group would have, whether or not it is in the plan: a group that is being
// written. Member groups count as they are in the plan. Members that are not there are left out.
func (p *Plan) TryGroup(g *estate.Group) *GroupTrial {
	out := &GroupTrial{Failures: map[string]string{}}
	// People or laptops, by what the group is of: place looks up a listed id, name gives the id of
	// a row.
	r, n := p.Laptops(), p.Devices.Len()
	place := func(id string) int { return p.DeviceAt.NumberOf(estate.DeviceID(id)) }
	name := func(at int) string { return string(p.Devices.At(at).ID) }
	if g.Of == estate.OfPeople {
		r, n = p.Persons(), p.People.Len()
		place = func(id string) int { return p.PersonAt.NumberOf(estate.PersonID(id)) }
		name = func(at int) string { return string(p.People.At(at).ID) }
	}
	// Listed members, as one set of rows for each block of the plan. An id that is not there has no
	// row.
	listed := make([]bitset.Set, intern.BlocksOf(n))
	for _, id := range g.Members {
		if at := place(id); at != intern.None {
			listed[at>>bitset.Shift].Add(at & (bitset.Rows - 1))
		}
	}
	formula := p.Gen.Formula(g.Rule)
	p.eachBlock(r, func(w *worker) {
		// The number of the block's first row: rows are counted within their block.
		from := w.Block << bitset.Shift
		mark := w.Mark()
		defer w.Release(mark)
		// In the order of the counts: listed, then nested, then by rule. Whoever is counted once is
		// not counted again.
		all, here := &listed[w.Block], w.Temp()
		out.Listed += all.Len()
		nested := w.Temp()
		nested.Clear()
		// Members of member groups as the plan has them. A group that lists itself adds nothing
		// new.
		for _, id := range g.Groups {
			if at, known := p.GroupAt.Number(id); known {
				if rows := w.Group(at); rows != nil {
					nested.Or(rows)
				}
			}
		}
		nested.AndNot(all)
		out.Nested += nested.Len()
		all.Or(nested)
		if formula != nil {
			is, failed := w.Truth(formula)
			here.SetAndNot(is, all)
			out.ByRule += here.Len()
			all.Or(here)
			// Whoever the rule fails on is not a member through it. The texts of the errors are
			// found for these rows only.
			if !failed.Empty() {
				w.Errors(formula, g.Rule, failed, func(text string, rows *bitset.Set) {
					for row := range rows.All() {
						out.Failures[name(from+row)] = text
					}
				})
			}
		}
		for row := range all.All() {
			out.Members = append(out.Members, name(from+row))
		}
	})
	slices.Sort(out.Members)
	return out
}

// groupDevices gives the laptops that are in a group, by themselves or through their owners.
func (p *Plan) groupDevices(id estate.GroupID) Devices {
	at, known := p.GroupAt.Number(id)
	if !known {
		return Devices{}
	}
	return Devices{plan: p, blocks: p.Groups[at].Rows}
}

// GroupMembers lists who is in a group, sorted: device ids or person ids, by what it is a group of.
// It is nil where there is no such group.
func (p *Plan) GroupMembers(id estate.GroupID) []string {
	at, known := p.GroupAt.Number(id)
	if !known {
		return nil
	}
	var members []string
	if p.Groups[at].Of == estate.OfDevices {
		for _, id := range p.groupDevices(id).IDs() {
			members = append(members, string(id))
		}
		return members
	}
	var rows bitset.Set
	// Numbers of people are not in the order of their ids, so the list is sorted in the end.
	for b, packed := range p.Persons().Groups[at] {
		packed.Into(&rows)
		for row := range rows.All() {
			members = append(members, string(p.People.At(b<<bitset.Shift+row).ID))
		}
	}
	slices.Sort(members)
	return members
}

// GroupSize counts who is in a group: people for a group of people, devices for a group of devices.
func (p *Plan) GroupSize(id estate.GroupID) (n int) {
	at, known := p.GroupAt.Number(id)
	if !known {
		return 0
	}
	if p.Groups[at].Of == estate.OfDevices {
		return p.groupDevices(id).Len()
	}
	for _, packed := range p.Persons().Groups[at] {
		n += packed.Len()
	}
	return n
}

// GroupFailures counts the devices or people that the group's rule fails on.
func (p *Plan) GroupFailures(id estate.GroupID) int {
	if at, known := p.GroupAt.Number(id); known {
		return p.failures()[at]
	}
	return 0
}

// countFailures counts by number of the group on whom its rule fails: with an error, which is not
// the same as being false. Whoever it fails on is not a member through the rule.
func (p *Plan) countFailures() []int {
	out := make([]int, len(p.Groups))
	// Errors of rules are counted in one pass over laptops and one over people: a rule reads either
	// the facts of laptops or those of people. A group with a number that is free has no Group.
	count := func(r *match.Subjects, of estate.GroupOf) {
		p.eachBlock(r, func(w *worker) {
			for at := range p.Groups {
				if g := &p.Groups[at]; g.Group != nil && g.Of == of && g.Formula != nil {
					mark := w.Mark()
					_, failed := w.Truth(g.Formula)
					out[at] += failed.Len()
					w.Release(mark)
				}
			}
		})
	}
	count(p.Laptops(), estate.OfDevices)
	count(p.Everybody(), estate.OfPeople)
	return out
}

// HomeUnits lists the ids of the units from the root down to a device's home unit.
func (p *Plan) HomeUnits(id estate.DeviceID) []string {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return nil
	}
	return p.PathIDs(p.Devices.At(dev).HomeAt)
}

// HomeUnit gives a device's home unit; empty where there is no such device.
func (p *Plan) HomeUnit(id estate.DeviceID) estate.UnitID {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return ""
	}
	return p.Units[p.Devices.At(dev).HomeAt].ID
}

// GroupsOf lists the groups that a device is in, directly or through its owner, in the order of the
// snapshot.
func (p *Plan) GroupsOf(id estate.DeviceID) (in []estate.GroupID) {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return nil
	}
	for i, at := range p.ofGroup {
		if p.Groups[at].Rows[dev>>bitset.Shift].Has(dev & (bitset.Rows - 1)) {
			in = append(in, p.snapshot.Groups[i].ID)
		}
	}
	return in
}

// GroupsOfPerson lists the groups that a person is in, in the order of the snapshot.
func (p *Plan) GroupsOfPerson(id estate.PersonID) (in []estate.GroupID) {
	who, known := p.PersonAt.Number(id)
	if !known {
		return nil
	}
	for i, at := range p.ofGroup {
		if p.PersonIn(who, int(at)) {
			in = append(in, p.snapshot.Groups[i].ID)
		}
	}
	return in
}

// GroupLists is the groups that everybody is in, for asking about many.
type GroupLists[K ~string] struct {
	groups []estate.Group
	at     *intern.IDTable[K]
	begin  []int32 // by number: where the groups of a laptop, or a person, begin in in; in the end how many there are
	in     []int32 // places of groups in the snapshot
}

// GroupsOfDevices lists for every device what GroupsOf does for one.
func (p *Plan) GroupsOfDevices() *GroupLists[estate.DeviceID] {
	return groupLists(p, p.DeviceAt, p.Devices.Len(), func(group int) []bitset.Packed { return p.Groups[group].Rows })
}

// GroupsOfPeople lists for every person what GroupsOfPerson does for one.
func (p *Plan) GroupsOfPeople() *GroupLists[estate.PersonID] {
	return groupLists(p, p.PersonAt, p.People.Len(), func(group int) []bitset.Packed { return p.Persons().Groups[group] })
}

// groupLists turns the rows of each group round into the groups of each row. It goes through every
// group once, which is much faster than asking for the groups of each laptop.
func groupLists[K ~string](p *Plan, at *intern.IDTable[K], n int, rows func(group int) []bitset.Packed) *GroupLists[K] {
	l := &GroupLists[K]{groups: p.snapshot.Groups, at: at}
	// groupByKey calls the function twice: once to count how many groups each row has, once to
	// enter them.
	l.begin, l.in = groupByKey(n, func(do func(number, group int32)) {
		for i, group := range p.ofGroup {
			Devices{blocks: rows(int(group))}.each(func(number int) { do(int32(number), int32(i)) })
		}
	})
	return l
}

// Of lists the groups that one is in, in the order of the snapshot.
func (l *GroupLists[K]) Of(id K) []estate.GroupID {
	// begin has one more number than there are objects, so that the groups of each are a slice of
	// in.
	number, known := l.at.Number(id)
	if !known {
		return nil
	}
	in := l.in[l.begin[number]:l.begin[number+1]]
	out := make([]estate.GroupID, len(in))
	for i, group := range in {
		out[i] = l.groups[group].ID
	}
	return out
}

// Sizes counts who is in each group that has somebody, and who is in some group.
func (l *GroupLists[K]) Sizes() (sizes map[estate.GroupID]int, some int) {
	counts := make([]int, len(l.groups))
	for _, group := range l.in {
		counts[group]++
	}
	// Somebody is in a group if the groups of the next one begin further on.
	for i := range l.begin[1:] {
		if l.begin[i] < l.begin[i+1] {
			some++
		}
	}
	sizes = map[estate.GroupID]int{}
	for group, n := range counts {
		if n > 0 {
			sizes[l.groups[group].ID] = n
		}
	}
	return sizes, some
}

// UnitPaths gives by unit the ids of the units from the root down to it.
func (p *Plan) UnitPaths() map[estate.UnitID][]string {
	out := make(map[estate.UnitID][]string, len(p.Units))
	for i := range p.Units {
		if p.Units[i].Unit != nil {
			out[p.Units[i].ID] = p.PathIDs(i)
		}
	}
	return out
}

// Membership says why a device, or its owner, is in a group. More than one reason can hold: a
// listed member may also be one by the rule.
type Membership struct {
	Group  estate.GroupID
	Owner  bool // the owner is in it, and the device through the owner
	Listed bool
	Via    []estate.GroupID // member groups that it is in, sorted
	Rule   []rule.Part      // where the rule holds: its parts, as they are on the device or person
}

// Memberships says of every group that a device is in why it is in it.
func (p *Plan) Memberships(id estate.DeviceID) []Membership {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return nil
	}
	var out []Membership
	for _, g := range p.GroupsOf(id) {
		at, _ := p.GroupAt.Number(g)
		// An owner's groups are told with what the owner is, not with what the laptop is.
		if owner := p.Devices.At(dev).OwnerAt; p.Groups[at].Of == estate.OfPeople {
			out = append(out, p.membership(at, string(p.People.At(owner).ID), intern.None, owner, true))
		} else {
			out = append(out, p.membership(at, string(id), dev, intern.None, false))
		}
	}
	return out
}

// PersonMemberships says of every group that a person is in why.
func (p *Plan) PersonMemberships(id estate.PersonID) (out []Membership) {
	who, known := p.PersonAt.Number(id)
	if !known {
		return nil
	}
	for _, g := range p.GroupsOfPerson(id) {
		at, _ := p.GroupAt.Number(g)
		out = append(out, p.membership(at, string(id), intern.None, who, false))
	}
	return out
}

// membership says why somebody or something is in a group. Of dev and who the one that the group is
// of is given; the other is intern.None.
func (p *Plan) membership(at int, id string, dev, who int, owner bool) Membership {
	g := &p.Groups[at]
	// Listed is looked up in the list itself, since the sets of the plan do not tell a listed
	// member from another.
	m := Membership{Group: g.ID, Owner: owner, Listed: slices.Contains(g.Members, id)}
	for _, member := range g.Nested {
		if p.InGroup(dev, who, member) {
			m.Via = append(m.Via, p.Groups[member].ID)
		}
	}
	slices.Sort(m.Via)
	if g.Rule != nil {
		// The rule is evaluated again for this one row, to tell which parts of it hold. It held
		// when the plan was made, and nothing has altered since.
		seen := map[string]any{"device": p.DeviceVariables(dev)}
		if g.Of == estate.OfPeople {
			seen = map[string]any{"person": p.PersonVariables(who)}
		}
		if holds, err := g.Rule.Holds(seen); err == nil && holds {
			m.Rule = g.Rule.Parts(seen)
		}
	}
	return m
}

// IsRoot tells whether a unit is the organisation: the one without a parent.
func (p *Plan) IsRoot(id estate.UnitID) bool {
	at, known := p.UnitAt.Number(id)
	return known && at == p.Root
}
