// This file takes out references to what is not there.
//
// A source of people or devices may deliver a laptop whose owner it does not deliver. Validation
// would refuse the whole estate for that. Instead the reference is taken out, and is reported, so
// that somebody can look at the source.

package estate

import "slices"

// Loose is a reference to something that the estate does not have.
type Loose struct {
	Kind  Kind
	ID    string
	Field string // owner, users, unit, members
	Names string // what is not there
}

// Sever takes out the references of people, devices and groups that lead nowhere: an owner, a user,
// a unit or a listed member that a source has not brought, or that was removed. It gives the
// snapshot without them and what was taken out, by the order of the lists. The receiver stays as it
// is. Targets and nested groups are left: what a policy names is not taken away under it. Only
// objects for which of is true are looked at, and their units only where units is true of them; nil
// means all.
func (s *Snapshot) Sever(of, unitsOf func(Kind, string) bool) (*Snapshot, []Loose) {
	if of == nil {
		of = func(Kind, string) bool { return true }
	}
	if unitsOf == nil {
		unitsOf = of
	}
	// Three sets of ids answer whether something is there.
	units, people := make(map[UnitID]bool, len(s.Units)), make(map[PersonID]bool, len(s.People))
	devices := make(map[string]bool, len(s.Devices))
	for i := range s.Units {
		units[s.Units[i].ID] = true
	}
	for i := range s.People {
		people[s.People[i].ID] = true
	}
	for i := range s.Devices {
		devices[string(s.Devices[i].ID)] = true
	}
	out := *s
	var loose []Loose
	// Lists are copied when the first object in them alters. Most readings alter none.
	owned := struct{ people, devices, groups bool }{} // lists that are copies already
	// unitOf says which units count as there for one object: all of them, if its unit is not to be
	// looked at.
	unitOf := func(kind Kind, id string) func(UnitID) bool {
		return func(u UnitID) bool { return units[u] || !unitsOf(kind, id) }
	}
	for i := range s.People {
		p := s.People[i]
		if is, found := severPerson(*p, unitOf(KindPerson, string(p.ID))); len(found) > 0 {
			own(&out.People, &owned.people)
			out.People[i], loose = &is, append(loose, found...)
		}
	}
	for i := range s.Devices {
		d := s.Devices[i]
		person := func(id PersonID) bool { return people[id] || !of(KindDevice, string(d.ID)) }
		if is, found := severDevice(*d, unitOf(KindDevice, string(d.ID)), person); len(found) > 0 {
			own(&out.Devices, &owned.devices)
			out.Devices[i], loose = &is, append(loose, found...)
		}
	}
	for i := range s.Groups {
		g := &s.Groups[i]
		there := func(id string) bool { return people[PersonID(id)] }
		if g.Of == OfDevices {
			there = func(id string) bool { return devices[id] }
		}
		if is, found := severGroup(*g, there); len(found) > 0 && of(KindGroup, string(g.ID)) {
			own(&out.Groups, &owned.groups)
			out.Groups[i], loose = is, append(loose, found...)
		}
	}
	return &out, loose
}

// own makes a list a copy before it is altered for the first time.
func own[T any](list *[]T, owned *bool) {
	if !*owned {
		*list, *owned = slices.Clone(*list), true
	}
}

// SeverEdit takes the references of an edited person, device or group out that lead nowhere, as
// Sever does of a whole snapshot, and says what was taken out.
func SeverEdit(e Edit, there func(Kind, string) bool) (Edit, []Loose) {
	unit := func(id UnitID) bool { return there(KindUnit, string(id)) }
	var loose []Loose
	switch o := e.Object.(type) {
	case Person:
		e.Object, loose = severed(severPerson(o, unit))
	case Device:
		e.Object, loose = severed(severDevice(o, unit, func(id PersonID) bool { return there(KindPerson, string(id)) }))
	case Group:
		of := KindPerson
		if o.Of == OfDevices {
			of = KindDevice
		}
		e.Object, loose = severed(severGroup(o, func(id string) bool { return there(of, id) }))
	}
	return e, loose
}

// severed gives an object of any kind, for an edit.
func severed[T any](object T, loose []Loose) (any, []Loose) { return object, loose }

// severPerson takes out a unit that is not there.
func severPerson(p Person, unit func(UnitID) bool) (Person, []Loose) {
	if p.Unit == "" || unit(p.Unit) {
		return p, nil
	}
	loose := []Loose{{KindPerson, string(p.ID), "unit", string(p.Unit)}}
	// p is a copy.
	p.Unit = ""
	return p, loose
}

// severDevice takes out a unit, an owner and users that are not there.
func severDevice(d Device, unit func(UnitID) bool, person func(PersonID) bool) (Device, []Loose) {
	var loose []Loose
	if d.Unit != "" && !unit(d.Unit) {
		loose = append(loose, Loose{KindDevice, string(d.ID), "unit", string(d.Unit)})
		d.Unit = ""
	}
	if d.Owner != "" && !person(d.Owner) {
		loose = append(loose, Loose{KindDevice, string(d.ID), "owner", string(d.Owner)})
		d.Owner = ""
	}
	var users []Loose
	d.Users, users = thereOf(d.Users, KindDevice, string(d.ID), "users", person)
	return d, append(loose, users...)
}

// severGroup takes out listed members that are not there.
func severGroup(g Group, there func(string) bool) (out Group, loose []Loose) {
	g.Members, loose = thereOf(g.Members, KindGroup, string(g.ID), "members", there)
	return g, loose
}

// thereOf gives those of a list that are there, and the others as loose references of a field. A
// list of which all are there is given as it is.
func thereOf[K ~string](list []K, kind Kind, id, field string, there func(K) bool) (kept []K, loose []Loose) {
	if !slices.ContainsFunc(list, func(one K) bool { return !there(one) }) {
		return list, nil
	}
	for _, one := range list {
		if there(one) {
			kept = append(kept, one)
		} else {
			loose = append(loose, Loose{kind, id, field, string(one)})
		}
	}
	return kept, loose
}
