// This file bounds what is written by the units for which somebody holds a right (access.md,
// section 1).
//
// Whoever holds a right for some units alone may write objects that concern these units alone:
//
//	policies          bound to one of the units (within), before and after
//	units             below one of the units, but not what they detach: that would take them out of policies of others
//	people, laptops   whose unit is one of the units, or below, before and after
//	exceptions        for a unit, or for people or laptops, of the units
//	rulings           between policies that are bound to the units
//	groups            that no policy outside of the units uses
//
// Definitions of settings and checks concern everybody.

package workflow

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// NeedSomewhere gives an access.DeniedError unless a right is held everywhere or for some unit.
// Whoever asks it must look, for each object, whether the right is held there.
func (a Actor) NeedSomewhere(r access.Right) error {
	if !a.Held.Anywhere().Has(r) {
		return &access.DeniedError{Right: r}
	}
	return nil
}

// scope is the bounds of an actor with one right, in an estate.
type scope struct {
	by    Actor
	right access.Right
	live  *Live
	view  *estate.Snapshot // with the edits that are judged
}

// checkScope refuses edits that concern more than the units for which an actor holds a right. after
// is the estate with all edits of the change.
func (s *liveEstate) checkScope(by Actor, right access.Right, live *Live, after *estate.Snapshot, edits ...store.Edit) error {
	if by.Held.Everywhere.Has(right) {
		return nil
	}
	in := scope{by, right, live, after}
	for _, e := range edits {
		ok, err := in.has(e)
		if err != nil {
			return err
		}
		if !ok {
			return in.outside(e.Kind + "/" + e.ObjectID)
		}
	}
	return nil
}

func (in *scope) outside(what string) error {
	return &access.OutsideError{Right: in.right, Units: in.by.Held.UnitsWith(in.right), What: what}
}

// has tells whether an edit concerns the units alone, both as the object is and as it becomes.
func (in *scope) has(e store.Edit) (bool, error) {
	kind := estate.Kind(e.Kind)
	if is := in.live.Plan.Snapshot().Object(kind, e.ObjectID); is != nil && !in.object(is) {
		return false, nil
	}
	if e.Retire {
		return true, nil
	}
	becomes, _, err := files.DecodeJSON(kind, []byte(e.Body))
	return err == nil && in.object(becomes) && slices.Equal(detachedBy(in.live.Plan.Snapshot().Object(kind, e.ObjectID)),
		detachedBy(becomes)), err
}

// detachedBy gives what a unit or a group detaches.
func detachedBy(object any) []estate.Detachment {
	switch x := object.(type) {
	case estate.Unit:
		return x.Detach
	case estate.Group:
		return x.Detach
	}
	return nil
}

// unit tells whether a unit is one of the units, or below one.
func (in *scope) unit(id estate.UnitID) bool {
	return id != "" && in.by.Held.For(in.right, in.pathOf(id))
}

// pathOf gives the units from the organisation down to one, as they are with the edits; where a
// unit is not there, as they are live.
func (in *scope) pathOf(id estate.UnitID) []string {
	var path []string
	for at := id; at != "" && len(path) < 1000; {
		path = append(path, string(at))
		u, _ := in.find(estate.KindUnit, string(at)).(estate.Unit)
		at = u.Parent
	}
	slices.Reverse(path)
	return path
}

// find gives an object with the edits, else as it is live; nil where it is in neither.
func (in *scope) find(kind estate.Kind, id string) any {
	if in.view != nil {
		if is := in.view.Object(kind, id); is != nil {
			return is
		}
	}
	return in.live.Plan.Snapshot().Object(kind, id)
}

// object tells whether an object concerns the units alone.
func (in *scope) object(object any) bool {
	switch x := object.(type) {
	case estate.Policy:
		return in.unit(x.Within)
	case estate.Unit:
		return in.unit(x.Parent)
	case estate.Person:
		return in.unit(x.Unit)
	case estate.Device:
		return in.unit(in.homeOf(x))
	case estate.Exception:
		return in.target(x.Target)
	case estate.Ruling:
		for _, id := range []estate.PolicyID{x.Prefer, x.Over} {
			if p, ok := in.find(estate.KindPolicy, string(id)).(estate.Policy); !ok || !in.unit(p.Within) {
				return false
			}
		}
		return true
	case estate.Group:
		return in.group(x.ID)
	}
	return false
}

// homeOf gives the unit of a laptop, else of its owner.
func (in *scope) homeOf(d estate.Device) estate.UnitID {
	if d.Unit != "" {
		return d.Unit
	}
	owner, _ := in.find(estate.KindPerson, string(d.Owner)).(estate.Person)
	return owner.Unit
}

// target tells whether everybody that a target names is of the units. A group is not: its members
// can alter.
func (in *scope) target(t estate.Target) bool {
	switch t.Kind {
	case estate.ToUnit:
		return in.unit(estate.UnitID(t.ID))
	case estate.ToDevice:
		d, ok := in.find(estate.KindDevice, t.ID).(estate.Device)
		return ok && in.unit(in.homeOf(d))
	case estate.ToPerson:
		who, ok := in.find(estate.KindPerson, t.ID).(estate.Person)
		return ok && in.unit(who.Unit)
	}
	return false
}

// group tells whether a group is used by policies of the units alone, in the live estate and with
// the edits.
func (in *scope) group(id estate.GroupID) bool {
	named := estate.Target{Kind: estate.ToGroup, ID: string(id)}
	for _, s := range []*estate.Snapshot{in.live.Plan.Snapshot(), in.view} {
		if s == nil {
			continue
		}
		for i := range s.Policies {
			p := &s.Policies[i]
			uses := slices.Contains(p.Audience.Include, named) || slices.Contains(p.Audience.Exclude, named)
			if uses && p.State != estate.Retired && !in.unit(p.Within) {
				return false
			}
		}
		for i := range s.Exceptions {
			if s.Exceptions[i].Target == named {
				return false
			}
		}
		for i := range s.Groups {
			g := &s.Groups[i]
			if g.ID == id && len(g.Detach) > 0 || slices.Contains(g.Groups, id) && !in.group(g.ID) {
				return false
			}
		}
	}
	return true
}

// boundTo gives a policy that is written by somebody with a right for one unit alone the bound of
// that unit. A policy that says which unit bounds it, and every other object, stays as it is.
func (s *ChangeService) boundTo(by Actor, in EditInput) (EditInput, error) {
	units := by.Held.UnitsWith(access.Write)
	if in.Kind != estate.KindPolicy || in.Retire || len(units) != 1 || by.Held.Everywhere.Has(access.Write) {
		return in, nil
	}
	object, err := decoded(in)
	if err != nil {
		return in, err
	}
	p, ok := object.(estate.Policy)
	if !ok || p.Within != "" {
		return in, nil
	}
	p.Within = estate.UnitID(units[0])
	in.Body, err = files.EncodeJSON(p)
	return in, err
}

// mayAlter refuses to alter a change that has edits outside of the units of whoever alters it.
func (s *ChangeService) mayAlter(ctx context.Context, tx *store.Store, by Actor, change string) error {
	if by.Held.Everywhere.Has(access.Write) {
		return nil
	}
	edits, err := tx.In(ctx).Edits(change)
	if err != nil {
		return err
	}
	live := s.Live()
	after, err := s.wellFormed(ctx, live, edits, change)
	if err != nil {
		after = nil // it has faults, which whoever alters it may be about to correct
	}
	return s.checkScope(by, access.Write, live, after, edits...)
}

// Permits tells whether somebody with some rights may do something to an object of the live estate.
func (s *liveEstate) Permits(ctx context.Context, by Actor, held access.Held, right access.Right, kind estate.Kind,
	id string) (bool, error) {
	if err := by.Need(access.Accounts); err != nil {
		return false, err
	}
	live := s.Live()
	object := live.Plan.Snapshot().Object(kind, id)
	if object == nil {
		return false, &NotFoundError{string(kind), id}
	}
	if held.Everywhere.Has(right) {
		return true, nil
	}
	if right == access.Read {
		return held.Anywhere().Has(right) && s.sees(Actor{Held: held}, kind, id), nil
	}
	in := scope{Actor{Held: held}, right, live, nil}
	return in.object(object), nil
}

// mayTouch refuses a laptop that is in none of the units for which an actor holds a right.
func (s *liveEstate) mayTouch(by Actor, right access.Right, live *Live, id estate.DeviceID) error {
	if by.Held.For(right, live.Plan.HomeUnits(id)) {
		return nil
	}
	return &access.OutsideError{Right: right, Units: by.Held.UnitsWith(right), What: "devices/" + string(id)}
}
