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

// With gives the snapshot with the edits laid over it, each in the place of what it replaces. The receiver stays as it is.
// An edit whose Object is not of its Kind is a mistake of the caller and panics.
func (s *Snapshot) With(edits ...Edit) *Snapshot {
	out := *s
	for _, e := range edits {
		switch e.Kind {
		case KindUnit:
			out.Units = laid(out.Units, e, func(u *Unit) string { return string(u.ID) })
		case KindPerson:
			out.People = laid(out.People, e, func(p *Person) string { return string(p.ID) })
		case KindDevice:
			out.Devices = laid(out.Devices, e, func(d *Device) string { return string(d.ID) })
		case KindGroup:
			out.Groups = laid(out.Groups, e, func(g *Group) string { return string(g.ID) })
		case KindPolicy:
			out.Policies = laid(out.Policies, e, func(p *Policy) string { return string(p.ID) })
		case KindException:
			out.Exceptions = laid(out.Exceptions, e, func(x *Exception) string { return string(x.ID) })
		case KindRuling:
			out.Rulings = laid(out.Rulings, e, func(r *Ruling) string { return string(r.ID) })
		case KindSetting:
			out.Settings = laid(out.Settings, e, func(d *setting.Definition) string { return string(d.ID) })
		case KindCheck:
			out.Checks = laid(out.Checks, e, func(c *Check) string { return string(c.ID) })
		default:
			panic("estate: an edit of no known kind: " + string(e.Kind))
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

func laid[T any](list []T, e Edit, id func(*T) string) []T {
	at := -1
	for i := range list {
		if id(&list[i]) == e.ID {
			at = i
			break
		}
	}
	switch {
	case e.Object == nil && at < 0:
		return list
	case e.Object == nil:
		return slices.Delete(slices.Clone(list), at, at+1)
	case at < 0:
		return append(slices.Clip(list), e.Object.(T))
	}
	list = slices.Clone(list)
	list[at] = e.Object.(T)
	return list
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
