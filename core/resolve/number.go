// This file gives numbers to people and laptops, finds which of them differ from the plan before,
// and codes their facts.
//
// A laptop keeps its number as long as it is in the estate, so that sets of laptops of two plans
// can be compared row by row. A plan that is made of another compares the lists of the two
// snapshots, by pointer first: an object that was not edited is the same pointer. It gives numbers
// to those that are new, frees those of objects that are gone, and notes the rows that must be
// computed again: rows (anything about the laptop differs), systems (platform, version or edition)
// and rehomed (the path of its unit).

package resolve

import (
	"cmp"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// numbers gives the number of every object of a list; most are at the same place as before.
func numbers[T any, K ~string](list, before []*T, numbered []int32, at *intern.IDTable[K], id func(*T) K) []int32 {
	// Lists of snapshots that follow one another are nearly the same: the number at the same place
	// is right if the id there is the same.
	out := make([]int32, len(list))
	for i, is := range list {
		if i < len(before) && (before[i] == is || id(before[i]) == id(is)) {
			out[i] = numbered[i]
		} else {
			out[i] = int32(at.NumberOf(id(is)))
		}
	}
	return out
}

// takeIn calls take for the indices of a list. If unmoved, objects that are the same as before at
// the same index are skipped.
func takeIn[T any](list, before []*T, unmoved bool, take func(i int)) {
	// unmoved says that objects are at the places where they were, so that equal pointers mean
	// equal numbers.
	if unmoved && intern.SameList(list, before) {
		return
	}
	for i := range list {
		if !unmoved || i >= len(before) || before[i] != list[i] {
			take(i)
		}
	}
}

// peopleAndDevices numbers people and devices, ordered by unit, and devices by owner within the
// unit.
//
// The order by unit keeps laptops of one unit in the same blocks, so that most sets of laptops are
// runs of rows, which take little memory and time. Laptops that are added later get free numbers,
// wherever these are.
func (b *builder) peopleAndDevices() {
	was, p := b.was, b.next
	people := intern.CompareKept(was.snapshot.People, p.snapshot.People, personID, samePerson)
	devices := intern.CompareKept(was.snapshot.Devices, p.snapshot.Devices, deviceID, sameDevice)
	// Most edits are of policies: then everything about people and laptops is shared.
	if people.Same && devices.Same && b.movedUnits == nil && was.Alive != nil {
		p.People, p.PersonAt, p.ofPerson = was.People, was.PersonAt, was.ofPerson
		p.Devices, p.DeviceAt, p.ofDevice, p.byDevice, p.rank = was.Devices, was.DeviceAt, was.ofDevice, was.byDevice, was.rank
		p.Owner, p.Alive, p.fields = was.Owner, was.Alive, was.fields
		b.rows, b.systems = make([]bitset.Packed, p.Blocks()), make([]bitset.Packed, p.Blocks())
		return
	}
	var order []int
	// The order of units matters for new objects alone.
	if len(people.Fresh)+len(devices.Fresh) > 0 {
		order = p.unitOrder()
	}
	unitsStand := p.UnitAt == was.UnitAt && p.Root == was.Root // the same units with the same numbers, though they may have moved
	// Only paths of units differ: then laptops are found by the codes of their units instead of one
	// by one.
	b.moved = b.movedUnits != nil && people.Same && devices.Same && unitsStand && was != nothing
	// People come first: the home of a laptop may be that of its owner.
	b.numberPeople(people, order, unitsStand)
	homesStand := unitsStand && p.PersonAt == was.PersonAt
	b.numberDevices(devices, order, homesStand)
}

// personID and deviceID give the ids by which lists of people and devices are compared.
func personID(x *estate.Person) estate.PersonID { return x.ID }
func deviceID(x *estate.Device) estate.DeviceID { return x.ID }

// unitOf gives the number of the unit that an object names, intern.None if it names none.
func (p *Plan) unitOf(id estate.UnitID) int {
	if id == "" {
		return intern.None
	}
	return p.UnitAt.NumberOf(id)
}

// numberPeople numbers the people. unmoved says that units have the same numbers as before.
func (b *builder) numberPeople(d intern.Differences[estate.PersonID], order []int, unmoved bool) {
	was, p := b.was, b.next
	b.arrived = b.arrived || len(d.Fresh) > 0
	// Sorted by the place of their units, which is looked up once for each: there may be a million
	// people.
	places := make(map[int]int, len(d.Fresh))
	for _, i := range d.Fresh {
		places[i] = intern.None
		if unit := p.unitOf(p.snapshot.People[i].Unit); unit != intern.None {
			places[i] = order[unit]
		}
	}
	slices.SortFunc(d.Fresh, func(i, j int) int {
		return cmp.Or(cmp.Compare(places[i], places[j]), cmp.Compare(p.snapshot.People[i].ID, p.snapshot.People[j].ID))
	})
	// New people are numbered in the sorted order.
	p.PersonAt = was.PersonAt.With(d.Gone, intern.KeptAt(p.snapshot.People, d.Fresh, personID))
	if p.ofPerson = was.ofPerson; !d.Same && !d.Aligned {
		p.ofPerson = numbers(p.snapshot.People, was.snapshot.People, was.ofPerson, p.PersonAt, personID)
	}
	list := intern.EditList(was.People, int(p.PersonAt.N), match.Person{})
	// Numbers of people who are gone become free.
	for _, id := range d.Gone {
		list.Put(was.PersonAt.NumberOf(id), match.Person{})
	}
	take := func(i int) {
		who := p.snapshot.People[i]
		list.Put(int(p.ofPerson[i]), match.Person{Person: who, UnitAt: p.unitOf(who.Unit)})
	}
	takeIn(p.snapshot.People, was.snapshot.People, unmoved && (d.Same || d.Aligned), take)
	p.People = list.List
	b.touchedPeople, b.gonePeople = make(intern.DeviceSet, intern.BlocksOf(p.People.Len())), d.Gone
	for _, i := range append(d.Altered, d.Fresh...) {
		b.touchedPeople.Add(int(p.ofPerson[i]))
	}
	// People in units that moved read another path in conditions.
	if b.movedUnits != nil {
		threads.Share(len(p.People), func(mine iter.Seq[int]) {
			for block := range mine {
				for row := range p.People[block] {
					if who := &p.People[block][row]; who.UnitAt != intern.None && who.Person != nil && b.movedUnits[who.UnitAt] {
						b.touchedPeople[block].Add(row)
					}
				}
			}
		})
	}
	b.peopleRows = packAll(slices.Clone(b.touchedPeople))
}

// homed finds a device's owner and home unit.
//
// A laptop's home unit is its own unit; else its owner's; else the organisation (resolution.md,
// section 2).
func (p *Plan) homed(x *estate.Device) match.Device {
	d := match.Device{Device: x, OwnerAt: intern.None, HomeAt: p.unitOf(x.Unit)}
	if x.Owner != "" {
		d.OwnerAt = p.PersonAt.NumberOf(x.Owner)
	}
	if d.HomeAt == intern.None && d.OwnerAt != intern.None {
		d.HomeAt = p.People.At(d.OwnerAt).UnitAt
	}
	if d.HomeAt == intern.None {
		d.HomeAt = p.Root
	}
	return d
}

// numberDevices numbers the devices. unmoved says that units and people have the same numbers as
// before, so that a device that did not alter, and whose owner did not alter, has the same home
// unit and owner.
func (b *builder) numberDevices(d intern.Differences[estate.DeviceID], order []int, unmoved bool) {
	was, p := b.was, b.next
	b.arrived = b.arrived || len(d.Fresh) > 0
	fresh := make([]match.Device, len(d.Fresh))
	for i, at := range d.Fresh {
		// Only new laptops are sorted. Their numbers then follow the order of units, and of owners
		// within a unit.
		fresh[i] = p.homed(p.snapshot.Devices[at])
	}
	slices.SortFunc(fresh, func(x, y match.Device) int {
		return cmp.Or(cmp.Compare(order[x.HomeAt], order[y.HomeAt]), cmp.Compare(x.OwnerAt, y.OwnerAt), cmp.Compare(x.ID, y.ID))
	})
	ids := make([]estate.DeviceID, len(fresh))
	for i := range fresh {
		ids[i] = fresh[i].ID
	}
	p.DeviceAt = was.DeviceAt.With(d.Gone, ids)
	if p.ofDevice = was.ofDevice; !d.Same && !d.Aligned {
		p.ofDevice = numbers(p.snapshot.Devices, was.snapshot.Devices, was.ofDevice, p.DeviceAt, deviceID)
	}
	// Numbers reach to n; some of them may be free.
	n := int(p.DeviceAt.N)
	list := intern.EditList(was.Devices, n, match.Device{})
	owner := intern.EditList(was.Owner, n, int32(intern.None))
	touched := make(intern.DeviceSet, intern.BlocksOf(n))
	var rehomed intern.DeviceSet
	if b.movedUnits != nil {
		rehomed = make(intern.DeviceSet, intern.BlocksOf(n))
	}
	// What did not alter shares its block: put copies a block only where something differs in it.
	// Lists are copied block by block, and only blocks in which something is put.
	put := func(at int, is match.Device) {
		if *list.At(at) != is {
			list.Put(at, is)
		}
		if *owner.At(at) != int32(is.OwnerAt) {
			owner.Put(at, int32(is.OwnerAt))
		}
	}
	for _, id := range d.Gone {
		at := was.DeviceAt.NumberOf(id)
		touched.Add(at)
		put(at, match.Device{OwnerAt: intern.None})
	}
	take := func(i int) { put(int(p.ofDevice[i]), p.homed(p.snapshot.Devices[i])) }
	// Laptops whose owner or home unit may have another number are put again, even if they did not
	// alter themselves.
	takeIn(p.snapshot.Devices, was.snapshot.Devices, unmoved && (d.Same || d.Aligned), take)
	for _, i := range append(d.Altered, d.Fresh...) {
		touched.Add(int(p.ofDevice[i]))
	}
	if b.moved {
		b.touchMoved(touched, rehomed)
		// Other laptops follow their owners and their units: those whose owner altered, whose unit
		// moved, or whose owner is gone.
	} else if b.touchedPeople.Any() || b.movedUnits != nil || len(b.gonePeople) > 0 {
		for at := range n {
			is := list.At(at)
			if is.Device == nil {
				continue
			}
			moved := b.movedUnits != nil && b.movedUnits[is.HomeAt]
			if moved {
				rehomed.Add(at)
			}
			if is.OwnerAt != intern.None && b.touchedPeople.Has(is.OwnerAt) {
				touched.Add(at)
				put(at, p.homed(is.Device))
			} else if moved {
				touched.Add(at)
				// not where the lost reference named nobody before
			} else if len(b.gonePeople) > 0 && at < was.Devices.Len() && was.Devices.At(at).OwnerAt != is.OwnerAt {
				touched.Add(at)
			}
		}
	}
	p.Devices, p.Owner = list.List, owner.List
	b.aliveAndTouched(touched)
	b.rehomed = packAll(rehomed)
	b.rankDevices(d.Gone, fresh)
}

// touchMoved marks laptops as touched whose unit moved, or whose owner's unit moved, and that did
// not alter otherwise.
func (b *builder) touchMoved(touched, rehomed intern.DeviceSet) {
	// Laptops are found by the code of their home unit, which is kept by row: no laptop is visited
	// through its pointers.
	moved := b.next.unitCodes(func(at int) bool { return b.movedUnits[at] })
	homes := b.was.homes()
	threads.Share(len(homes), func(mine iter.Seq[int]) {
		for block := range mine {
			owners := b.was.Owner[block]
			for row, code := range homes[block] {
				if moved[code] {
					rehomed[block].Add(row)
					touched[block].Add(row)
				} else if owner := int(owners[row]); owner != intern.None && b.touchedPeople.Has(owner) {
					touched[block].Add(row)
				}
			}
		}
	})
}

// homes gives, by block, the codes of the laptops' home units.
func (p *Plan) homes() [][]uint32 { return p.Codes[p.Gen.Column(match.DeviceLook("unit")).Number] }

// unitCodes tells, by the code of a home unit, whether something holds for the unit.
func (p *Plan) unitCodes(so func(at int) bool) []bool {
	units := p.Gen.Column(match.DeviceLook("unit"))
	var codes []uint32
	for at := range p.Units {
		// Codes are gathered first, since a unit that no laptop ever named gets its code here.
		if p.Units[at].Unit != nil && so(at) {
			code, _ := units.Code(setting.TextValue(string(p.Units[at].ID)), nil)
			codes = append(codes, code)
		}
	}
	out := make([]bool, len(units.Known()))
	for _, code := range codes {
		out[code] = true
	}
	return out
}

// aliveAndTouched gives, by block, which rows hold a laptop, and which of them are touched.
//
// It also notes the laptops whose platform, version or edition differs, since support of settings
// depends on these.
func (b *builder) aliveAndTouched(touched intern.DeviceSet) {
	was, p := b.was, b.next
	p.Alive, b.rows, b.systems = make(
		[]bitset.Packed,
		len(touched),
	), make(
		[]bitset.Packed,
		len(touched),
	), make(
		[]bitset.Packed,
		len(touched),
	)
	// Blocks are shared with the plan before, and replaced below where something in them was
	// touched.
	copy(p.Alive, was.Alive)
	var alive, systems bitset.Set
	for block := range touched {
		// A block without touched rows shares its set of rows with the plan before.
		if touched[block].Empty() {
			continue
		}
		p.Alive[block].Into(&alive)
		systems.Clear()
		for row := range touched[block].All() {
			at := block<<bitset.Shift + row
			is, before := p.Devices.At(at).Device, (*estate.Device)(nil)
			if at < was.Devices.Len() {
				before = was.Devices.At(at).Device
			}
			if is != nil {
				alive.Add(row)
			} else {
				alive.Remove(row)
			}
			// A laptop that is new or gone has no platform to compare.
			if is == nil || before == nil || before.OS != is.OS || before.OSVersion != is.OSVersion || before.Edition != is.Edition {
				systems.Add(row)
			}
		}
		p.Alive[block], b.rows[block], b.systems[block] = alive.Pack(), touched[block].Pack(), systems.Pack()
	}
}

// rankDevices orders the devices by id. Devices that are new are merged into the order before.
//
// byDevice lists the numbers by id; rank says where in that list a number stands. Lists of laptops
// are sorted by rank, which is faster than comparing ids.
func (b *builder) rankDevices(gone []estate.DeviceID, fresh []match.Device) {
	was, p := b.was, b.next
	if len(gone)+len(fresh) == 0 {
		p.byDevice, p.rank = was.byDevice, was.rank
		return
	}
	slices.SortFunc(fresh, func(x, y match.Device) int { return cmp.Compare(x.ID, y.ID) })
	// Both lists are in the order of ids: the new ones are merged in.
	left := was.byDevice
	if len(gone) > 0 {
		left = slices.DeleteFunc(slices.Clone(left), func(at int32) bool { return p.Devices.At(int(at)).Device == nil })
	}
	p.byDevice = make([]int32, 0, len(left)+len(fresh))
	for i := range fresh {
		before, _ := slices.BinarySearchFunc(
			left,
			fresh[i].ID,
			func(at int32, id estate.DeviceID) int { return cmp.Compare(p.Devices.At(int(at)).ID, id) },
		)
		p.byDevice = append(append(p.byDevice, left[:before]...), int32(p.DeviceAt.NumberOf(fresh[i].ID)))
		left = left[before:]
	}
	p.byDevice = append(p.byDevice, left...)
	// Free numbers keep the rank 0. Nobody asks for it.
	p.rank = make([]int32, p.Devices.Len())
	for i, at := range p.byDevice {
		p.rank[at] = int32(i)
	}
}

// unitOrder orders the units so that a unit is followed by the units below it: they are compared by
// their paths, id by id from the root. It gives for each unit its place in the order.
func (p *Plan) unitOrder() []int {
	all := sortedNumbers(len(p.Units), func(i int) bool { return p.Units[i].Unit != nil }, func(a, b int) int {
		x, y := p.Units[a].Path, p.Units[b].Path
		for i := range min(len(x), len(y)) {
			if x[i] != y[i] {
				return cmp.Compare(p.Units[x[i]].ID, p.Units[y[i]].ID)
			}
		}
		return cmp.Compare(len(x), len(y))
	})
	order := make([]int, len(p.Units))
	for i, at := range all {
		order[at] = i
	}
	return order
}
