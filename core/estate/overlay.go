// This file lays edits over a snapshot.

package estate

import (
	"cmp"
	"maps"
	"slices"

	"zenithridge.example/zridge/core/setting"
)

// Kind is a kind of object: the name of its list in the estate format.
type Kind string

const (
	KindUnit      Kind = "units"
	KindPerson    Kind = "people"
	KindDevice    Kind = "devices"
	KindGroup     Kind = "groups"
	KindPolicy    Kind = "policies"
	KindException Kind = "exceptions"
	KindRuling    Kind = "rulings"
	KindSetting   Kind = "settings"
	KindCheck     Kind = "checks"
)

// Kinds lists every Kind, in the order of the format.
var Kinds = []Kind{KindUnit, KindPerson, KindDevice, KindGroup, KindPolicy, KindException, KindRuling, KindSetting, KindCheck}

// Edit puts one object in place of the one with its id, or adds it; with no Object it takes the one with that id away.
type Edit struct {
	Kind   Kind
	ID     string
	Object any // a Unit, Person, Device … by Kind; nil: retire
}

// With gives the snapshot with the edits laid over it, in their order, each in the place of what it replaces. The receiver stays as it is.
// An edit whose Object is not of its Kind is a mistake of the caller and panics.
func (s *Snapshot) With(edits ...Edit) *Snapshot {
	byKind := map[Kind][]Edit{}
	for _, e := range edits {
		byKind[e.Kind] = append(byKind[e.Kind], e)
	}
	out := *s
	for kind, list := range byKind {
		switch kind {
		case KindUnit:
			out.Units = laid(out.Units, list, func(u *Unit) string { return string(u.ID) })
		case KindPerson:
			var places []int
			out.People, places = laidAt(s.People, list, func(p *Person) string { return string(p.ID) })
			if len(s.People) > 0 {
				out.left(kind, &s.People[0], places)
			}
		case KindDevice:
			var places []int
			out.Devices, places = laidAt(s.Devices, list, func(d *Device) string { return string(d.ID) })
			if len(s.Devices) > 0 {
				out.left(kind, &s.Devices[0], places)
			}
		case KindGroup:
			out.Groups = laid(out.Groups, list, func(g *Group) string { return string(g.ID) })
		case KindPolicy:
			out.Policies = laid(out.Policies, list, func(p *Policy) string { return string(p.ID) })
		case KindException:
			out.Exceptions = laid(out.Exceptions, list, func(x *Exception) string { return string(x.ID) })
		case KindRuling:
			out.Rulings = laid(out.Rulings, list, func(r *Ruling) string { return string(r.ID) })
		case KindSetting:
			out.Settings = laid(out.Settings, list, func(d *setting.Definition) string { return string(d.ID) })
		case KindCheck:
			out.Checks = laid(out.Checks, list, func(c *Check) string { return string(c.ID) })
		default:
			panic("estate: an edit of no known kind: " + string(kind))
		}
	}
	return &out
}

// trail says how a list came about: as a copy of another, with some places altered.
type trail struct {
	of     any // a pointer to the first of the other list
	places []int
}

// AlteredSince gives the places at which a list of the snapshot may differ from that of another, where the one is known to have come
// of the other with nothing added, removed or moved.
func (s *Snapshot) AlteredSince(was *Snapshot, kind Kind) (places []int, known bool) {
	t, known := s.trails[kind]
	if !known {
		return nil, false
	}
	switch kind {
	case KindDevice:
		return t.places, len(was.Devices) == len(s.Devices) && len(was.Devices) > 0 && t.of == any(&was.Devices[0])
	case KindPerson:
		return t.places, len(was.People) == len(s.People) && len(was.People) > 0 && t.of == any(&was.People[0])
	}
	return nil, false
}

// Settled gives the snapshot without the memory of what it came of.
func (s *Snapshot) Settled() *Snapshot {
	out := *s
	out.trails = nil
	return &out
}

// left notes that a list came of another with places altered; with none it is not known how.
func (s *Snapshot) left(kind Kind, of any, places []int) {
	trails := maps.Clone(s.trails)
	if trails == nil {
		trails = map[Kind]trail{}
	}
	before, known := trails[kind]
	switch {
	case places == nil:
		delete(trails, kind)
	case known:
		trails[kind] = trail{before.of, append(slices.Clone(before.places), places...)}
	default:
		trails[kind] = trail{of, places}
	}
	s.trails = trails
}

// On gives the snapshot as it is judged on another day.
func (s *Snapshot) On(day Date) *Snapshot {
	out := *s
	out.Day = day
	return &out
}

// laid lays the edits of one kind over its list.
func laid[T any](list []T, edits []Edit, id func(*T) string) []T {
	list, _ = laidAt(list, edits, id)
	return list
}

// laidAt lays the edits of one kind over its list, with one look through the list for all of them. It gives the places that were
// altered, nil where something came or went.
func laidAt[T any](list []T, edits []Edit, id func(*T) string) (_ []T, places []int) {
	list = slices.Clone(list)
	wanted := make(map[string]bool, len(edits))
	for _, e := range edits {
		wanted[e.ID] = true
	}
	at := make(map[string]int, len(edits))
	if len(edits) == 1 {
		only := edits[0].ID
		if i := slices.IndexFunc(list, func(one T) bool { return id(&one) == only }); i >= 0 {
			at[only] = i
		}
	} else {
		for i := range list {
			if name := id(&list[i]); wanted[name] {
				at[name] = i
			}
		}
	}
	gone := map[int]bool{}
	places = []int{}
	length := len(list)
	for _, e := range edits {
		i, there := at[e.ID]
		switch {
		case e.Object == nil && there:
			gone[i] = true
			delete(at, e.ID)
		case e.Object == nil:
		case there:
			list[i] = e.Object.(T)
			places = append(places, i)
		default:
			at[e.ID] = len(list)
			list = append(list, e.Object.(T))
		}
	}
	if len(gone) == 0 && len(list) == length {
		return list, places
	}
	if len(gone) == 0 {
		return list, nil
	}
	kept := list[:0]
	for i := range list {
		if !gone[i] {
			kept = append(kept, list[i])
		}
	}
	return kept, nil
}

// Sort orders every list by id, and within objects what has no order of its own: the form in which estates are exported.
func (s *Snapshot) Sort() {
	slices.SortFunc(s.Units, func(a, b Unit) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.People, func(a, b Person) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Devices, func(a, b Device) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Groups, func(a, b Group) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Policies, func(a, b Policy) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Exceptions, func(a, b Exception) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Rulings, func(a, b Ruling) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Settings, func(a, b setting.Definition) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Checks, func(a, b Check) int { return cmp.Compare(a.ID, b.ID) })
}
