// This file bounds what is read by the units for which somebody holds the right to read
// (access.md, section 1).
//
// Whoever may read for some units alone sees an estate that has nothing else:
//
//	laptops     whose home is one of the units, or below
//	people      of these units, and who own or use such a laptop
//	units       these and those below, the units above them, whose policies they inherit, and those of the people seen
//	policies    that reach such a laptop, or are bound to one of the units
//	groups      with such members alone; groups whose members are all elsewhere are not seen
//	exceptions  for what is seen; rulings between policies that are seen
//
// The estate is cut down once for each set of units and compiled: every question is then asked of
// it as of the whole one. What a laptop gets is the same in both, since all that reaches the laptop
// is there.

package workflow

import (
	"context"
	"slices"
	"strings"
	"sync"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// boundedKept is how many bounded estates are kept. Each is as large as the units that it is of.
const boundedKept = 16

// boundedEstates are the estates of those who may read for some units alone.
type boundedEstates struct {
	mu sync.Mutex // held while one is made: whoever asks for the same waits for it
	by map[string]boundedEstate
}

type boundedEstate struct {
	of *Live // what it was cut out of
	is *Live
}

// LiveFor gives what is live, as far as somebody may read it.
func (s *liveEstate) LiveFor(_ context.Context, by Actor) (*Live, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.seenLive(by), nil
}

// seenLive is LiveFor for somebody who may read.
func (s *liveEstate) seenLive(by Actor) *Live { return s.boundedLive(s.Live(), by) }

// boundedLive gives of what is live what somebody may read.
func (s *liveEstate) boundedLive(live *Live, by Actor) *Live {
	units := by.Held.UnitsWith(access.Read)
	if by.Held.Everywhere.Has(access.Read) {
		return live
	}
	key := strings.Join(units, " ")
	s.bounded.mu.Lock()
	defer s.bounded.mu.Unlock()
	known := s.bounded.by[key]
	if known.of == live {
		return known.is
	}
	var snapshot *estate.Snapshot
	if known.is != nil {
		snapshot = boundedSnapshot(live.Side, units, known.of.Plan.Snapshot(), known.is.Plan.Snapshot())
	} else {
		snapshot = boundedSnapshot(live.Side, units, nil, nil)
	}
	is := &Live{Revision: live.Revision, Turn: live.Turn, versions: live.versions, retired: live.retired, imported: live.imported,
		told: live.told}
	if known.is != nil {
		is.Side = known.is.Side.With(snapshot)
	} else {
		is.Side = impact.Resolve(snapshot)
	}
	if len(s.bounded.by) >= boundedKept || s.bounded.by == nil {
		s.bounded.by = map[string]boundedEstate{}
	}
	s.bounded.by[key] = boundedEstate{live, is}
	return is
}

// seenBy gives of a draft what somebody may read: what it does to laptops that they see.
func (s *liveEstate) seenBy(by Actor, d *draft) *draft {
	if by.Held.Everywhere.Has(access.Read) || len(d.faults) > 0 {
		return d
	}
	out := *d
	out.live, out.snapshot = s.seenSnapshot(by, d)
	out.after = out.live.Side.With(out.snapshot)
	out.report = impact.Compare(out.live.Side, out.after)
	return &out
}

// seenSnapshot gives what is live, and what becomes of it with a draft without faults, for somebody
// who may not read everywhere.
func (s *liveEstate) seenSnapshot(by Actor, d *draft) (live *Live, becomes *estate.Snapshot) {
	live = s.boundedLive(d.live, by)
	return live, boundedSnapshot(d.after, by.Held.UnitsWith(access.Read), d.live.Plan.Snapshot(), live.Plan.Snapshot())
}

// sees tells whether somebody sees an object of what is live.
func (s *liveEstate) sees(by Actor, kind estate.Kind, id string) bool {
	return by.Held.Everywhere.Has(access.Read) || s.seenLive(by).Plan.Snapshot().Object(kind, id) != nil
}

// SeesEvent tells whether somebody may know of an event: those of a laptop are for whoever sees it.
func (s *liveEstate) SeesEvent(_ context.Context, by Actor, e Event) (bool, error) {
	if err := by.Need(access.Read); err != nil {
		return false, err
	}
	return e.Topic != "device" || e.ID == "" || s.sees(by, estate.KindDevice, e.ID), nil
}

// seenBody gives an object in the estate format without the members of groups, and the targets of
// policies, that somebody does not see. body may be empty.
func (s *liveEstate) seenBody(by Actor, kind estate.Kind, body string) (string, error) {
	if by.Held.Everywhere.Has(access.Read) || body == "" || kind != estate.KindGroup && kind != estate.KindPolicy {
		return body, nil
	}
	object, _, err := files.DecodeJSON(kind, []byte(body))
	if err != nil {
		return "", err
	}
	there := namedIn(s.seenLive(by).Plan.Snapshot())
	switch o := object.(type) {
	case estate.Group:
		member := estate.Target{Kind: estate.ToPerson}
		if o.Of == estate.OfDevices {
			member.Kind = estate.ToDevice
		}
		o.Members = slices.DeleteFunc(o.Members, func(id string) bool {
			member.ID = id
			return !there(&member)
		})
		object = o
	case estate.Policy:
		o.Audience.Include, o.Audience.Exclude = kept(o.Audience.Include, there), kept(o.Audience.Exclude, there)
		object = o
	}
	text, err := files.EncodeJSON(object)
	return string(text), err
}

// seesPolicies tells whether somebody sees all of some policies.
func (s *liveEstate) seesPolicies(by Actor, ids []string) bool {
	if by.Held.Everywhere.Has(access.Read) {
		return true
	}
	plan := s.seenLive(by).Plan
	return !slices.ContainsFunc(ids, func(id string) bool { return plan.Policy(estate.PolicyID(id)) == nil })
}

// seesTarget tells whether somebody sees anybody whom a target is for.
func (s *liveEstate) seesTarget(by Actor, t estate.Target) bool {
	return by.Held.Everywhere.Has(access.Read) || s.seenLive(by).Plan.Matching(t).Len() > 0
}

// seenEdits gives the edits of a change that somebody sees, and counts the others: those of objects
// that they see as they are live or as they become.
func (s *ChangeService) seenEdits(ctx context.Context, by Actor, change string, edits []store.Edit) (seen []store.Edit, hidden int) {
	if by.Held.Everywhere.Has(access.Read) {
		return edits, 0
	}
	live := s.seenLive(by).Plan.Snapshot()
	becomes := live
	if d, err := s.draft(ctx, change); err == nil && len(d.faults) == 0 {
		_, becomes = s.seenSnapshot(by, d)
	}
	for _, e := range edits {
		kind := estate.Kind(e.Kind)
		body, err := s.seenBody(by, kind, e.Body)
		if err == nil && (live.Object(kind, e.ObjectID) != nil || becomes.Object(kind, e.ObjectID) != nil) {
			e.Body = body
			seen = append(seen, e)
		} else {
			hidden++
		}
	}
	return seen, hidden
}

// boundedSnapshot cuts out of an estate what concerns some units. known is what was cut out of an
// estate before, for the same units, or nil: where units, people, laptops and groups are the same as
// in of, its lists are taken over.
func boundedSnapshot(side impact.Side, units []string, of, known *estate.Snapshot) *estate.Snapshot {
	plan, all := side.Plan, side.Plan.Snapshot()
	within := map[estate.UnitID]bool{}
	paths := plan.UnitPaths()
	for unit, path := range paths {
		within[unit] = slices.ContainsFunc(path, func(above string) bool { return slices.Contains(units, above) })
	}
	var laptops resolve.Devices
	for _, u := range units {
		laptops = laptops.Or(plan.Matching(estate.Target{Kind: estate.ToUnit, ID: u}))
	}
	var out *estate.Snapshot
	if known != nil && sameList(of.Units, all.Units) && sameList(of.People, all.People) && sameList(of.Devices, all.Devices) &&
		sameList(of.Groups, all.Groups) {
		bounded := *known
		bounded.Day, bounded.Settings, bounded.Checks, bounded.Policies, bounded.Exceptions = all.Day, all.Settings, all.Checks,
			all.Policies, all.Exceptions
		bounded.Baselines = all.Baselines
		out = &bounded
	} else {
		out = boundedPlaces(plan, laptops, units, within, paths)
	}
	out.Policies = kept(out.Policies, func(p *estate.Policy) bool {
		if within[p.Within] {
			return true
		}
		gets := plan.Applies(p.ID)
		if p.State != estate.Active { // whom it would reach
			reach, _ := plan.Reach(p.ID)
			gets = reach.Gets
		}
		return gets.And(laptops).Len() > 0
	})
	policies := map[estate.PolicyID]bool{}
	for i := range out.Policies {
		policies[out.Policies[i].ID] = true
	}
	out.Rulings = kept(all.Rulings, func(r *estate.Ruling) bool { return policies[r.Prefer] && policies[r.Over] })
	out.Exceptions = kept(out.Exceptions, func(x *estate.Exception) bool { return plan.Matching(x.Target).And(laptops).Len() > 0 })
	out.Baselines = kept(out.Baselines, func(b *estate.Baseline) bool { return plan.ReachOf(b.AsPolicy()).Gets.And(laptops).Len() > 0 })
	dropLoose(out)
	return out
}

func sameList[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// boundedPlaces cuts out the laptops of some units, the people, units and groups that concern them.
func boundedPlaces(plan *resolve.Plan, laptops resolve.Devices, units []string, within map[estate.UnitID]bool,
	paths map[estate.UnitID][]string) *estate.Snapshot {
	all := plan.Snapshot()
	above := map[string]bool{}
	for _, u := range units {
		for _, on := range paths[estate.UnitID(u)] {
			above[on] = true
		}
	}
	var devices []*estate.Device
	linked := map[estate.PersonID]bool{}
	for _, d := range all.Devices {
		if laptops.Has(d.ID) {
			devices = append(devices, d)
			linked[d.Owner] = true
			for _, user := range d.Users {
				linked[user] = true
			}
		}
	}
	var people []*estate.Person
	there := map[string]bool{}
	for _, p := range all.People {
		if linked[p.ID] || within[p.Unit] {
			people = append(people, p)
			there[string(p.ID)] = true
			for _, on := range paths[p.Unit] { // conditions can read the units of an owner
				above[on] = true
			}
		}
	}
	out := all.Only(devices, people).Indexed(&estate.Snapshot{})
	out.Units = kept(all.Units, func(u *estate.Unit) bool { return above[string(u.ID)] || within[u.ID] })
	out.Groups = kept(out.Groups, func(g *estate.Group) bool {
		if plan.Matching(estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}).And(laptops).Len() > 0 {
			return true
		}
		// A group that nobody at all is in is seen: somebody may be writing it. Of people, members without
		// a laptop count, too.
		return plan.GroupSize(g.ID) == 0 || g.Of == estate.OfPeople && slices.ContainsFunc(plan.GroupMembers(g.ID),
			func(id string) bool { return there[id] })
	})
	groups := map[estate.GroupID]bool{}
	for i := range out.Groups {
		groups[out.Groups[i].ID] = true
	}
	for i := range out.Groups {
		out.Groups[i].Groups = kept(out.Groups[i].Groups, func(id *estate.GroupID) bool { return groups[*id] })
	}
	return out
}

// dropLoose takes targets out of audiences that name what is not there. They match nobody who is.
func dropLoose(s *estate.Snapshot) {
	there := namedIn(s)
	s.Policies = slices.Clone(s.Policies) // they may be those of the whole estate
	for i := range s.Policies {
		a := &s.Policies[i].Audience
		a.Include, a.Exclude = kept(a.Include, there), kept(a.Exclude, there)
	}
	s.Baselines = slices.Clone(s.Baselines)
	for i := range s.Baselines {
		a := &s.Baselines[i].Audience
		a.Include, a.Exclude = kept(a.Include, there), kept(a.Exclude, there)
	}
}

// namedIn tells whether what a target names is in an estate.
func namedIn(s *estate.Snapshot) func(*estate.Target) bool {
	units, groups := map[string]bool{}, map[string]bool{}
	for i := range s.Units {
		units[string(s.Units[i].ID)] = true
	}
	for i := range s.Groups {
		groups[string(s.Groups[i].ID)] = true
	}
	return func(t *estate.Target) bool {
		switch t.Kind {
		case estate.ToUnit:
			return units[t.ID]
		case estate.ToGroup:
			return groups[t.ID]
		case estate.ToDevice:
			return s.Device(estate.DeviceID(t.ID)) != nil
		case estate.ToPerson:
			return s.Person(estate.PersonID(t.ID)) != nil
		}
		return true
	}
}

// kept gives the objects of a list that stay; the list itself where all of them do.
func kept[T any](list []T, stays func(*T) bool) []T {
	if !slices.ContainsFunc(list, func(one T) bool { return !stays(&one) }) {
		return list
	}
	out := make([]T, 0, len(list))
	for i := range list {
		if stays(&list[i]) {
			out = append(out, list[i])
		}
	}
	return out
}
