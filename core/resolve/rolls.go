// This file numbers people and laptops, finds which of them altered, and codes their facts.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/rule"
)

// numbers gives the number of every object of a list; most stand where they stood.
func numbers[T any, K ~string](list, before []T, numbered []int32, at *places[K], id func(*T) K) []int32 {
	out := make([]int32, len(list))
	for i := range list {
		if i < len(before) && id(&before[i]) == id(&list[i]) {
			out[i] = numbered[i]
		} else {
			out[i] = int32(at.place(id(&list[i])))
		}
	}
	return out
}

// peopleAndDevices numbers people and devices so that those of a unit lie side by side, and devices beside those of the same owner.
func (b *builder) peopleAndDevices() {
	was, p := b.was, b.next
	personID, deviceID := func(x *estate.Person) estate.PersonID { return x.ID }, func(x *estate.Device) estate.DeviceID { return x.ID }
	people := compareBy(b.given, was.snapshot, estate.KindPerson, was.snapshot.People, p.snapshot.People, personID, samePerson)
	devices := compareBy(b.given, was.snapshot, estate.KindDevice, was.snapshot.Devices, p.snapshot.Devices, deviceID, sameDevice)
	if people.same && devices.same && len(b.movedUnits) == 0 && was.alive != nil {
		p.people, p.personAt, p.ofPerson = was.people, was.personAt, was.ofPerson
		p.devices, p.deviceAt, p.ofDevice, p.byDevice, p.rank, p.owner, p.alive = was.devices, was.deviceAt, was.ofDevice, was.byDevice, was.rank, was.owner, was.alive
		b.rows, b.systems = make([]rowset.Packed, p.blocks()), make([]rowset.Packed, p.blocks())
		return
	}
	order := p.unitOrder()
	unitOf := func(id estate.UnitID) int {
		if id == "" {
			return none
		}
		return p.unitAt.place(id)
	}
	place := func(unit int) int {
		if unit == none {
			return none
		}
		return order[unit]
	}
	slices.SortFunc(people.fresh, func(i, j int) int {
		x, y := &p.snapshot.People[i], &p.snapshot.People[j]
		return cmp.Or(cmp.Compare(place(unitOf(x.Unit)), place(unitOf(y.Unit))), cmp.Compare(x.ID, y.ID))
	})
	p.personAt = was.personAt.with(people.gone, idsAt(p.snapshot.People, people.fresh, personID))
	p.ofPerson = was.ofPerson
	if !people.same && !people.aligned {
		p.ofPerson = numbers(p.snapshot.People, was.snapshot.People, was.ofPerson, p.personAt, personID)
	}
	steady := people.same && p.unitAt == was.unitAt && p.root == was.root // units may have moved, and are the same ones
	b.moved = steady && devices.same && was != nothing
	if steady {
		p.people = was.people
	} else {
		p.people = make([]person, p.personAt.n)
		for i, at := range p.ofPerson {
			who := &p.snapshot.People[i]
			p.people[at] = person{Person: who, unit: unitOf(who.Unit)}
		}
	}
	b.touchedPeople, b.gonePeople = make([]bool, len(p.people)), people.gone
	for _, i := range append(people.altered, people.fresh...) {
		b.touchedPeople[p.ofPerson[i]] = true
	}
	var moved []bool // by unit
	if len(b.movedUnits) > 0 {
		moved = make([]bool, len(p.units))
		for unit := range b.movedUnits {
			moved[unit] = true
		}
		for at := range p.people {
			if unit := p.people[at].unit; unit != none && moved[unit] {
				b.touchedPeople[at] = true
			}
		}
	}

	b.peopleRows = setsOf(b.touchedPeople)

	made := func(x *estate.Device) device {
		d := device{Device: x, owner: none, home: unitOf(x.Unit)}
		if x.Owner != "" {
			d.owner = p.personAt.place(x.Owner)
		}
		if d.home == none && d.owner != none {
			d.home = p.people[d.owner].unit
		}
		if d.home == none {
			d.home = p.root
		}
		return d
	}
	fresh := make([]device, len(devices.fresh))
	for i, at := range devices.fresh {
		fresh[i] = made(&p.snapshot.Devices[at])
	}
	slices.SortFunc(fresh, func(x, y device) int {
		return cmp.Or(cmp.Compare(order[x.home], order[y.home]), cmp.Compare(x.owner, y.owner), cmp.Compare(x.ID, y.ID))
	})
	ids := make([]estate.DeviceID, len(fresh))
	for i := range fresh {
		ids[i] = fresh[i].ID
	}
	p.deviceAt = was.deviceAt.with(devices.gone, ids)
	p.ofDevice = was.ofDevice
	if !devices.same && !devices.aligned {
		p.ofDevice = numbers(p.snapshot.Devices, was.snapshot.Devices, was.ofDevice, p.deviceAt, deviceID)
	}
	p.devices = make([]device, p.deviceAt.n)
	p.owner = make([]int32, p.deviceAt.n)
	touched := make([]bool, p.deviceAt.n)
	if steady && was != nothing && len(devices.gone) == 0 { // where a device lives and whose it is stands, unless it altered itself
		copy(p.devices, was.devices)
		copy(p.owner, was.owner)
		for i, at := range p.ofDevice {
			p.devices[at].Device = &p.snapshot.Devices[i]
			if d := &p.devices[at]; moved != nil {
				touched[at] = d.owner != none && b.touchedPeople[d.owner] || moved[d.home]
			}
		}
		for _, i := range append(devices.altered, devices.fresh...) {
			at := p.ofDevice[i]
			p.devices[at] = made(&p.snapshot.Devices[i])
			p.owner[at] = int32(p.devices[at].owner)
		}
	} else {
		for i := range p.owner {
			p.owner[i] = none
		}
		for i, at := range p.ofDevice {
			d := made(&p.snapshot.Devices[i])
			p.devices[at], p.owner[at] = d, int32(d.owner)
			touched[at] = d.owner != none && b.touchedPeople[d.owner] || moved != nil && moved[d.home]
		}
	}
	for _, i := range append(devices.altered, devices.fresh...) {
		touched[p.ofDevice[i]] = true
	}
	for _, id := range devices.gone {
		if at, known := was.deviceAt.at(id); known {
			touched[at] = true
		}
	}
	if len(people.gone) > 0 { // an owner who is gone: the device is altered, unless it only lost a reference that never led anywhere
		for at := range min(len(p.devices), len(was.devices)) {
			if was.devices[at].owner != p.devices[at].owner {
				touched[at] = true
			}
		}
	}
	b.aliveAndTouched(touched)
	b.rankDevices(len(devices.gone)+len(devices.fresh) > 0)
}

// setsOf gives the places that are true, by block.
func setsOf(list []bool) []rowset.Packed {
	out := make([]rowset.Packed, blocksOf(len(list)))
	var rows rowset.Set
	for block := range out {
		rows.Clear()
		from := block << rowset.Shift
		for at := from; at < min(from+rowset.Rows, len(list)); at++ {
			if list[at] {
				rows.Add(at - from)
			}
		}
		out[block] = rows.Pack()
	}
	return out
}

// aliveAndTouched says block by block which laptops are there, and which are touched.
func (b *builder) aliveAndTouched(touched []bool) {
	was, p := b.was, b.next
	n := blocksOf(len(p.devices))
	p.alive, b.rows, b.systems = make([]rowset.Packed, n), make([]rowset.Packed, n), make([]rowset.Packed, n)
	var alive, rows, systems rowset.Set
	for block := range n {
		alive.Clear()
		rows.Clear()
		systems.Clear()
		from := block << rowset.Shift
		for at := from; at < min(from+rowset.Rows, len(p.devices)); at++ {
			is := &p.devices[at]
			if is.Device != nil {
				alive.Add(at - from)
			}
			if !touched[at] {
				continue
			}
			rows.Add(at - from)
			if at >= len(was.devices) || was.devices[at].Device == nil || is.Device == nil || was.devices[at].OS != is.OS || was.devices[at].OSVersion != is.OSVersion || was.devices[at].Edition != is.Edition {
				systems.Add(at - from)
			}
		}
		p.alive[block], b.rows[block], b.systems[block] = alive.Pack(), rows.Pack(), systems.Pack()
	}
}

func (b *builder) rankDevices(altered bool) {
	was, p := b.was, b.next
	if !altered {
		p.byDevice, p.rank = was.byDevice, was.rank
		return
	}
	p.byDevice = slices.Clone(p.ofDevice)
	slices.SortFunc(p.byDevice, func(x, y int32) int { return cmp.Compare(p.devices[x].ID, p.devices[y].ID) })
	p.rank = make([]int32, len(p.devices))
	for i, at := range p.byDevice {
		p.rank[at] = int32(i)
	}
}

// unitOrder numbers the units so that those below a unit follow it.
func (p *Plan) unitOrder() []int {
	all := sortedNumbers(len(p.units), func(i int) bool { return p.units[i].Unit != nil }, func(a, b int) int {
		x, y := p.units[a].path, p.units[b].path
		for i := range min(len(x), len(y)) {
			if x[i] != y[i] {
				return cmp.Compare(p.units[x[i]].ID, p.units[y[i]].ID)
			}
		}
		return cmp.Compare(len(x), len(y))
	})
	order := make([]int, len(p.units))
	for i, at := range all {
		order[at] = i
	}
	return order
}

// columns codes what the tests of rules look at.
func (b *builder) columns() {
	was, p := b.was, b.next
	needed := map[*column]bool{}
	for _, field := range []string{"os", "os_version", "edition", "unit"} { // platforms, support and units are looked up in any case
		needed[p.words.column(rule.Look{Variable: "device", Field: field})] = true
	}
	take := func(f *formula) {
		f.each(func(t *test) {
			for _, c := range t.columns {
				if c.look.Variable != "settings" {
					needed[c] = true
				}
			}
		})
	}
	for i := range p.groups {
		take(p.groups[i].formula)
	}
	for i := range p.policies {
		take(p.policies[i].when)
	}
	for _, at := range p.forced {
		for _, f := range p.contests[at].forced {
			take(f.formula)
		}
	}
	for i := range p.checks {
		take(p.checks[i].formula)
	}
	for c := range needed {
		for len(p.codes) <= c.number {
			p.codes = append(p.codes, nil)
		}
	}
	var wait sync.WaitGroup
	for c := range needed {
		wait.Go(func() {
			var before [][]uint32
			if c.number < len(was.codes) {
				before = was.codes[c.number]
			}
			p.codes[c.number] = b.coded(c, before)
		})
	}
	wait.Wait()
}

// coded gives a column's codes by block; blocks in which nothing is touched are as they were.
func (b *builder) coded(c *column, before [][]uint32) [][]uint32 {
	was, p := b.was, b.next
	var key []byte
	if c.look.Variable == "person" {
		moved := len(b.movedUnits) > 0 && (c.look.Field == "unit" || c.look.Field == "units")
		if len(p.people) > 0 && before != nil && len(was.people) == len(p.people) && &was.people[0] == &p.people[0] && !moved {
			return before
		}
		return blocksCoded(len(p.people), before, b.peopleRows, func(at int) (code uint32) {
			if p.people[at].Person == nil {
				return 0
			}
			code, key = c.code(p.personValue(&p.people[at], c.look.Field), key)
			return code
		})
	}
	if len(p.devices) > 0 && before != nil && len(was.devices) == len(p.devices) && &was.devices[0] == &p.devices[0] {
		return before
	}
	byUnit := map[int]uint32{}
	return blocksCoded(len(p.devices), before, b.rows, func(at int) (code uint32) {
		d := &p.devices[at]
		if d.Device == nil {
			return 0
		}
		if c.look.Field == "unit" || c.look.Field == "units" {
			code, known := byUnit[d.home]
			if !known {
				code, key = c.code(p.deviceValue(d, c.look.Field), key)
				byUnit[d.home] = code
			}
			return code
		}
		code, key = c.code(p.deviceValue(d, c.look.Field), key)
		return code
	})
}

// blocksCoded gives codes by block; of blocks that were coded before only what is touched is coded again.
func blocksCoded(n int, before [][]uint32, touched []rowset.Packed, code func(int) uint32) [][]uint32 {
	out := make([][]uint32, blocksOf(n))
	var rows rowset.Set
	for block := range out {
		from := block << rowset.Shift
		size := min(rowset.Rows, n-from)
		var codes []uint32
		if block < len(before) && len(before[block]) == size {
			codes = before[block]
			shared := true
			touched[block].Into(&rows)
			for i := range rows.All() {
				if is := code(from + i); is != codes[i] {
					if shared {
						codes, shared = slices.Clone(codes), false
					}
					codes[i] = is
				}
			}
		} else {
			codes = make([]uint32, size)
			for i := range size {
				codes[i] = code(from + i)
			}
		}
		out[block] = codes
	}
	return out
}
