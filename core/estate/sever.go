// This file takes out references to what is not there.

package estate

import "slices"

// Loose is a reference to something that the estate does not have.
type Loose struct {
	Kind  Kind
	ID    string
	Field string // owner, users, unit, members
	Names string // what is not there
}

// Sever takes out the references of people, devices and groups that lead nowhere: an owner, a user, a unit or a listed member that
// a source has not brought, or that was removed. It gives the snapshot without them and what was taken out, by the order of the
// lists. The receiver stays as it is. Targets and nested groups are left: what a policy names is not taken away under it.
// Only objects for which of is true are looked at, and their units only where units is true of them; nil stands for all.
func (s *Snapshot) Sever(of, unitsOf func(Kind, string) bool) (*Snapshot, []Loose) {
	if of == nil {
		of = func(Kind, string) bool { return true }
	}
	if unitsOf == nil {
		unitsOf = of
	}
	units, people, devices := make(map[UnitID]bool, len(s.Units)), make(map[PersonID]bool, len(s.People)), make(map[string]bool, len(s.Devices))
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
	owned := struct{ people, devices, groups bool }{} // lists that are copies already
	for i := range s.People {
		if p := &s.People[i]; p.Unit != "" && !units[p.Unit] && unitsOf(KindPerson, string(p.ID)) {
			loose = append(loose, Loose{KindPerson, string(p.ID), "unit", string(p.Unit)})
			own(&out.People, &owned.people)
			out.People[i].Unit = ""
		}
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		noUnit, noOwner := d.Unit != "" && !units[d.Unit], d.Owner != "" && !people[d.Owner]
		noUser := slices.ContainsFunc(d.Users, func(u PersonID) bool { return !people[u] })
		if !noUnit && !noOwner && !noUser {
			continue
		}
		noUnit = noUnit && unitsOf(KindDevice, string(d.ID))
		if may := of(KindDevice, string(d.ID)); !may {
			noOwner, noUser = false, false
		}
		own(&out.Devices, &owned.devices)
		if noUnit {
			loose = append(loose, Loose{KindDevice, string(d.ID), "unit", string(d.Unit)})
			out.Devices[i].Unit = ""
		}
		if noOwner {
			loose = append(loose, Loose{KindDevice, string(d.ID), "owner", string(d.Owner)})
			out.Devices[i].Owner = ""
		}
		if noUser {
			var kept []PersonID
			for _, u := range d.Users {
				if people[u] {
					kept = append(kept, u)
				} else {
					loose = append(loose, Loose{KindDevice, string(d.ID), "users", string(u)})
				}
			}
			out.Devices[i].Users = kept
		}
	}
	for i := range s.Groups {
		g := &s.Groups[i]
		there := func(id string) bool { return people[PersonID(id)] }
		if g.Of == OfDevices {
			there = func(id string) bool { return devices[id] }
		}
		if !slices.ContainsFunc(g.Members, func(id string) bool { return !there(id) }) || !of(KindGroup, string(g.ID)) {
			continue
		}
		own(&out.Groups, &owned.groups)
		var kept []string
		for _, id := range g.Members {
			if there(id) {
				kept = append(kept, id)
			} else {
				loose = append(loose, Loose{KindGroup, string(g.ID), "members", id})
			}
		}
		out.Groups[i].Members = kept
	}
	for _, altered := range []struct {
		kind   Kind
		owned  bool
		of     any
		places []int
	}{{KindPerson, owned.people, first(s.People), placesOf(loose, KindPerson, s.People, func(p *Person) string { return string(p.ID) })}, {KindDevice, owned.devices, first(s.Devices), placesOf(loose, KindDevice, s.Devices, func(d *Device) string { return string(d.ID) })}} {
		if altered.owned {
			out.left(altered.kind, altered.of, altered.places)
		}
	}
	return &out, loose
}

func first[T any](list []T) any {
	if len(list) == 0 {
		return nil
	}
	return &list[0]
}

// placesOf gives the places of the objects whose references were taken out.
func placesOf[T any](loose []Loose, kind Kind, list []T, id func(*T) string) []int {
	named := map[string]bool{}
	for _, l := range loose {
		if l.Kind == kind {
			named[l.ID] = true
		}
	}
	places := []int{}
	if len(named) == 0 {
		return places
	}
	for i := range list {
		if named[id(&list[i])] {
			places = append(places, i)
		}
	}
	return places
}

// own makes a list a copy before it is altered for the first time.
func own[T any](list *[]T, owned *bool) {
	if !*owned {
		*list, *owned = slices.Clone(*list), true
	}
}

// SeverEdit takes the references of an edited person, device or group out that lead nowhere, as Sever does of a whole snapshot.
func SeverEdit(e Edit, there func(Kind, string) bool) Edit {
	switch o := e.Object.(type) {
	case Person:
		if o.Unit != "" && !there(KindUnit, string(o.Unit)) {
			o.Unit = ""
		}
		e.Object = o
	case Device:
		if o.Unit != "" && !there(KindUnit, string(o.Unit)) {
			o.Unit = ""
		}
		if o.Owner != "" && !there(KindPerson, string(o.Owner)) {
			o.Owner = ""
		}
		o.Users = slices.DeleteFunc(slices.Clone(o.Users), func(u PersonID) bool { return !there(KindPerson, string(u)) })
		e.Object = o
	case Group:
		of := KindPerson
		if o.Of == OfDevices {
			of = KindDevice
		}
		if slices.ContainsFunc(o.Members, func(id string) bool { return !there(of, id) }) {
			o.Members = slices.DeleteFunc(slices.Clone(o.Members), func(id string) bool { return !there(of, id) })
		}
		e.Object = o
	}
	return e
}
