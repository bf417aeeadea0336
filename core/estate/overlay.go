// This file lays edits over a snapshot.
//
// A change is a list of edits, each a whole object or its removal. What the estate would be with
// the change is the snapshot with the edits laid over it: that is all there is to a what-if. The
// copy shares every list that has no edit, and people and devices that were not edited by pointer,
// which is how the core finds out what differs.

package estate

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/ids"
	"zenithridge.example/zridge/core/setting"
)

// Kind is a kind of object: the name of its list in the estate format.
type Kind string

const (
	KindUnit         Kind = "units"
	KindPerson       Kind = "people"
	KindDevice       Kind = "devices"
	KindGroup        Kind = "groups"
	KindPolicy       Kind = "policies"
	KindException    Kind = "exceptions"
	KindRuling       Kind = "rulings"
	KindSetting      Kind = "settings"
	KindCheck        Kind = "checks"
	KindRolloutPlan  Kind = "rollout_plans"
	KindApprovalRule Kind = "approval_rules"
	KindBaseline     Kind = "baselines"
)

// Kinds lists every Kind, in the order of the format.
var Kinds = []Kind{
	KindUnit, KindPerson, KindDevice, KindGroup, KindPolicy, KindException, KindRuling, KindSetting, KindCheck, KindRolloutPlan,
	KindApprovalRule,
	KindBaseline,
}

// Edit puts one object in place of the one with its id, or adds it; with no Object it takes the one
// with that id away.
type Edit struct {
	Kind   Kind
	ID     string
	Object any // a Unit, Person, Device … by Kind; nil: retire
}

// With gives the snapshot with the edits laid over it, in their order, each in the place of what it
// replaces. The receiver stays as it is. An edit whose Object is not of its Kind is a mistake of
// the caller and panics.
func (s *Snapshot) With(edits ...Edit) *Snapshot {
	// Edits are sorted by kind. Within a kind they keep their order, so a later edit of an object
	// replaces an earlier one.
	byKind := map[Kind][]Edit{}
	for _, e := range edits {
		byKind[e.Kind] = append(byKind[e.Kind], e)
	}
	// A shallow copy: lists without edits are shared with s.
	out := *s
	for kind, list := range byKind {
		switch kind {
		case KindUnit:
			out.Units = laid(out.Units, list, value[Unit], func(u *Unit) string { return string(u.ID) })
		case KindPerson:
			out.People, out.personAt = laidAt(s.People, s.personAt, list, personID)
		case KindDevice:
			out.Devices, out.deviceAt = laidAt(s.Devices, s.deviceAt, list, deviceID)
		case KindGroup:
			out.Groups = laid(out.Groups, list, value[Group], func(g *Group) string { return string(g.ID) })
		case KindPolicy:
			out.Policies = laid(out.Policies, list, value[Policy], func(p *Policy) string { return string(p.ID) })
		case KindException:
			out.Exceptions = laid(out.Exceptions, list, value[Exception], func(x *Exception) string { return string(x.ID) })
		case KindRuling:
			out.Rulings = laid(out.Rulings, list, value[Ruling], func(r *Ruling) string { return string(r.ID) })
		case KindSetting:
			out.Settings = laid(out.Settings, list, value[setting.Definition], func(d *setting.Definition) string { return string(d.ID) })
		case KindCheck:
			out.Checks = laid(out.Checks, list, value[Check], func(c *Check) string { return string(c.ID) })
		case KindRolloutPlan:
			out.RolloutPlans = laid(out.RolloutPlans, list, value[RolloutPlan], func(p *RolloutPlan) string { return string(p.ID) })
		case KindApprovalRule:
			out.ApprovalRules = laid(out.ApprovalRules, list, value[ApprovalRule], func(r *ApprovalRule) string { return string(r.ID) })
		case KindBaseline:
			out.Baselines = laid(out.Baselines, list, value[Baseline], func(b *Baseline) string { return string(b.ID) })
		default:
			panic("estate: an edit of no known kind: " + string(kind))
		}
	}
	return &out
}

// personID and deviceID give ids as texts, for what works on both lists.
func personID(p *Person) string { return string(p.ID) }
func deviceID(d *Device) string { return string(d.ID) }

// Indexed gives the snapshot with what finds people and devices by their ids, which those that come
// of it by With have too. What it has in common with another one is taken from there.
func (s *Snapshot) Indexed(other *Snapshot) *Snapshot {
	out := *s
	// The very same list has the same places.
	if out.personAt == nil && same(s.People, other.People) {
		out.personAt = other.personAt
	}
	if out.deviceAt == nil && same(s.Devices, other.Devices) {
		out.deviceAt = other.deviceAt
	}
	out.personAt, out.deviceAt = indexed(s.People, out.personAt, personID), indexed(s.Devices, out.deviceAt, deviceID)
	return &out
}

// same tells whether two lists are the very same.
func same[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// indexed gives the index of a list: the one that is there, if it is as long, else a new one.
func indexed[T any](list []*T, at *ids.Index, id func(*T) string) *ids.Index {
	if at.Len() == len(list) {
		return at
	}
	return ids.Of(len(list), func(place int) string { return id(list[place]) })
}

// Device gives a device by its id, nil when there is none.
func (s *Snapshot) Device(is DeviceID) *Device {
	return found(s.Devices, s.deviceAt, string(is), deviceID)
}

// Person gives a person by its id, nil when there is none.
func (s *Snapshot) Person(is PersonID) *Person {
	return found(s.People, s.personAt, string(is), personID)
}

// found gives an object by its id, nil when there is none.
func found[T any](list []*T, at *ids.Index, is string, id func(*T) string) *T {
	if place := placeOf(list, at, is, id); place >= 0 {
		return list[place]
	}
	return nil
}

// placeOf finds an object's place, -1 when it is not there.
func placeOf[T any](list []*T, at *ids.Index, is string, id func(*T) string) int {
	// No index, or one of another list: looking through the list is right, if slow.
	if at.Len() != len(list) {
		return slices.IndexFunc(list, func(one *T) bool { return id(one) == is })
	}
	if place, known := ids.Find(at, is, func(place int) string { return id(list[place]) }); known {
		return place
	}
	return -1
}

// On gives the snapshot as it is judged on another day.
func (s *Snapshot) On(day Date) *Snapshot {
	out := *s
	out.Day = day
	return &out
}

// laidAt lays edits over a list of people or devices, and gives the index of the outcome: of a
// longer list it is made longer, and where something is gone there is none.
func laidAt[T any](list []*T, at *ids.Index, edits []Edit, id func(*T) string) ([]*T, *ids.Index) {
	// Making an index costs one pass; looking through the list would cost one for each edit.
	if at.Len() != len(list) && len(edits) > 1 {
		at = indexed(list, at, id) // rather than looking through the list for each
	}
	pointer := func(o any) *T { object := o.(T); return &object }
	places := make(map[string]int, len(edits))
	for _, e := range edits {
		if place := placeOf(list, at, e.ID, id); place >= 0 {
			places[e.ID] = place
		}
	}
	out, whole := lay(list, edits, places, pointer)
	// Something is gone, so places after it moved.
	switch {
	case !whole:
		return out, nil
	case len(out) > len(list) && at.Len() == len(list):
		return out, ids.With(at, len(out), func(place int) string { return id(out[place]) })
	}
	return out, at
}

// laid lays the edits of one kind over its list. One pass finds the places of all objects that are
// edited.
func laid[T any](list []T, edits []Edit, object func(any) T, id func(*T) string) []T {
	wanted := make(map[string]bool, len(edits))
	for _, e := range edits {
		wanted[e.ID] = true
	}
	places := make(map[string]int, len(edits))
	for i := range list {
		if name := id(&list[i]); wanted[name] {
			places[name] = i
		}
	}
	out, _ := lay(list, edits, places, object)
	return out
}

// value gives an edit's object as what it is, for lists of values.
func value[T any](o any) T { return o.(T) }

// lay lays edits over a copy of a list in which what they are of has places. whole tells that
// nothing is gone.
func lay[T any](list []T, edits []Edit, places map[string]int, object func(any) T) (out []T, whole bool) {
	// The list is copied even for one edit: snapshots are immutable.
	out = slices.Clone(list)
	gone := map[int]bool{}
	for _, e := range edits {
		i, there := places[e.ID]
		switch {
		case e.Object == nil && there:
			gone[i] = true
			delete(places, e.ID)
		case e.Object == nil:
		case there:
			out[i] = object(e.Object)
		default:
			// A new object that is edited again in the same list is found at its place.
			places[e.ID] = len(out)
			out = append(out, object(e.Object))
		}
	}
	if len(gone) == 0 {
		return out, true
	}
	// What is kept is moved forward in the same memory, which nobody else has yet.
	kept := out[:0]
	for i := range out {
		if !gone[i] {
			kept = append(kept, out[i])
		}
	}
	return kept, false
}

// Sort orders every list by id, and within objects what has no order of its own: the form in which
// estates are exported.
func (s *Snapshot) Sort() {
	// Indices are of places, which sorting alters.
	s.personAt, s.deviceAt = nil, nil
	slices.SortFunc(s.Units, func(a, b Unit) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.People, func(a, b *Person) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Devices, func(a, b *Device) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Groups, func(a, b Group) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Policies, func(a, b Policy) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Exceptions, func(a, b Exception) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Rulings, func(a, b Ruling) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Settings, func(a, b setting.Definition) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Checks, func(a, b Check) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.RolloutPlans, func(a, b RolloutPlan) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.Baselines, func(a, b Baseline) int { return cmp.Compare(a.ID, b.ID) })
	slices.SortFunc(s.ApprovalRules, func(a, b ApprovalRule) int { return cmp.Compare(a.ID, b.ID) })
}
