// This file lays edits over a snapshot.

package estate

import (
	"cmp"
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
			out.People = laid(out.People, list, func(p *Person) string { return string(p.ID) })
		case KindDevice:
			out.Devices = laid(out.Devices, list, func(d *Device) string { return string(d.ID) })
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

// On gives the snapshot as it is judged on another day.
func (s *Snapshot) On(day Date) *Snapshot {
	out := *s
	out.Day = day
	return &out
}

// laid lays the edits of one kind over its list, with one look through the list for all of them.
func laid[T any](list []T, edits []Edit, id func(*T) string) []T {
	list = slices.Clone(list)
	at := make(map[string]int, len(list)+len(edits))
	for i := range list {
		at[id(&list[i])] = i
	}
	gone := map[int]bool{}
	for _, e := range edits {
		i, there := at[e.ID]
		switch {
		case e.Object == nil && there:
			gone[i] = true
			delete(at, e.ID)
		case e.Object == nil:
		case there:
			list[i] = e.Object.(T)
		default:
			at[e.ID] = len(list)
			list = append(list, e.Object.(T))
		}
	}
	if len(gone) == 0 {
		return list
	}
	kept := list[:0]
	for i := range list {
		if !gone[i] {
			kept = append(kept, list[i])
		}
	}
	return kept
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
