// This file resolves the whole estate and answers what its laptops have in common: clashes and reach.

package resolve

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Whole is the resolution of every laptop for its owner, by device id.
type Whole struct {
	Results []*Result
}

// Estate resolves every laptop. The order of the snapshot's lists does not matter to the outcome.
func (p *Plan) Estate() *Whole {
	w := &Whole{Results: make([]*Result, len(p.devices))}
	p.each(func() func(dev int) {
		alike := &likeness{}
		return func(dev int) { w.Results[dev] = p.effective(dev, p.devices[dev].owner, alike) }
	})
	return w
}

// each calls what start gives for every device place, on as many threads as there are; start is called once a thread.
func (p *Plan) each(start func() func(dev int)) {
	threads := runtime.GOMAXPROCS(0)
	var wait sync.WaitGroup
	for t := range threads {
		wait.Go(func() {
			f := start()
			for dev := t; dev < len(p.devices); dev += threads {
				f(dev)
			}
		})
	}
	wait.Wait()
}

// ConflictFound is one setting that policies disagree about, with the laptops that it touches.
type ConflictFound struct {
	Setting  setting.ID
	Policies []string          // sorted
	Devices  []estate.DeviceID // sorted
	Values   []Candidate       // the clashing candidates as they stand on the first of the devices
}

// Conflicts lists every conflict by (setting, clashing policies).
func (w *Whole) Conflicts() []ConflictFound {
	at := map[string]*ConflictFound{}
	for _, r := range w.Results {
		for i := range r.Settings {
			s := &r.Settings[i]
			if s.Status != Conflict {
				continue
			}
			key := string(s.ID) + "\x00" + strings.Join(s.From, "\x00")
			c := at[key]
			if c == nil {
				c = &ConflictFound{Setting: s.ID, Policies: s.From}
				for _, candidate := range s.Candidates {
					if candidate.Fate == Clashing {
						c.Values = append(c.Values, candidate)
					}
				}
				at[key] = c
			}
			c.Devices = append(c.Devices, r.Device)
		}
	}
	return sortedBy(at, func(a, b *ConflictFound) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), slices.Compare(a.Policies, b.Policies))
	})
}

// ProblemFound is a check that finds laptops wrong, with the laptops.
type ProblemFound struct {
	Problem
	Devices []estate.DeviceID // sorted
}

// Problems lists every problem by (check, what it comes from).
func (w *Whole) Problems() []ProblemFound {
	at := map[string]*ProblemFound{}
	for _, r := range w.Results {
		for _, found := range r.Problems {
			key := string(found.Check) + "\x00" + strings.Join(found.From, "\x00")
			if at[key] == nil {
				at[key] = &ProblemFound{Problem: found}
			}
			at[key].Devices = append(at[key].Devices, r.Device)
		}
	}
	return sortedBy(at, func(a, b *ProblemFound) int {
		return cmp.Or(cmp.Compare(a.Check, b.Check), slices.Compare(a.From, b.From))
	})
}

func sortedBy[K comparable, T any](at map[K]*T, compare func(a, b *T) int) []T {
	out := make([]T, 0, len(at))
	for _, v := range at {
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b T) int { return compare(&a, &b) })
	return out
}

// Reach says whom an audience reaches among all laptops and their owners.
type Reach struct {
	Gets        []estate.DeviceID
	Excluded    []estate.DeviceID // left out by name
	Condition   []estate.DeviceID // included, but the condition is not true
	Platform    []estate.DeviceID // on another platform
	NotIncluded []estate.DeviceID
	Unsupported []estate.DeviceID // among Gets: supports none of the policy's settings
	People      int               // owners among Gets
}

// Reach tests one policy of the plan as if it were active. ok is false when the plan has no such policy.
func (p *Plan) Reach(id estate.PolicyID) (r Reach, ok bool) {
	at, ok := slices.BinarySearchFunc(p.policies, id, func(a policy, id estate.PolicyID) int { return cmp.Compare(a.ID, id) })
	if !ok {
		return r, false
	}
	return p.Audience(p.policies[at].Policy).Reach, true
}

func (p *Plan) supportsNone(dev int, pol *policy) bool {
	d := &p.devices[dev]
	for _, e := range pol.entries {
		if p.definitions[e.setting].SupportOn(d.OS, d.OSVersion, d.Edition) == setting.Supported {
			return false
		}
	}
	return len(pol.entries) > 0
}

// GroupMembers lists who is in a group, sorted: device ids or person ids, by what it is a group of.
func (p *Plan) GroupMembers(id estate.GroupID) []string {
	at, known := p.groupAt[id]
	if !known {
		return nil
	}
	var members []string
	if p.groups[at].Of == estate.OfDevices {
		for i := range p.devices {
			if p.devices[i].groups.has(at) {
				members = append(members, string(p.devices[i].ID))
			}
		}
		return members
	}
	for i := range p.people {
		if p.people[i].groups.has(at) {
			members = append(members, string(p.people[i].ID))
		}
	}
	slices.Sort(members)
	return members
}

// GroupFailures counts the devices or people that the group's rule failed on.
func (p *Plan) GroupFailures(id estate.GroupID) int {
	if at, known := p.groupAt[id]; known {
		return p.failures[at]
	}
	return 0
}

// HomeUnits lists the ids of the units from the root down to a device's home unit.
func (p *Plan) HomeUnits(id estate.DeviceID) []string {
	dev, known := p.deviceAt[id]
	if !known {
		return nil
	}
	_, names := p.unitNames(p.devices[dev].home)
	return names
}

// HomeUnit gives a device's home unit; empty where there is no such device.
func (p *Plan) HomeUnit(id estate.DeviceID) estate.UnitID {
	dev, known := p.deviceAt[id]
	if !known {
		return ""
	}
	return p.units[p.devices[dev].home].ID
}

// GroupsOf lists the groups that a device is in, directly or through its owner, in the order of the snapshot.
func (p *Plan) GroupsOf(id estate.DeviceID) (in []estate.GroupID) {
	dev, known := p.deviceAt[id]
	if !known {
		return nil
	}
	s := subject{device: dev, person: p.devices[dev].owner}
	for g := range p.groups {
		if p.inGroup(&s, g) {
			in = append(in, p.groups[g].ID)
		}
	}
	return in
}

// GroupsOfPerson lists the groups that a person is in, in the order of the snapshot.
func (p *Plan) GroupsOfPerson(id estate.PersonID) (in []estate.GroupID) {
	at, known := p.personAt[id]
	if !known {
		return nil
	}
	for g := range p.groups {
		if p.people[at].groups.has(g) {
			in = append(in, p.groups[g].ID)
		}
	}
	return in
}

// UnitPaths gives by unit the ids of the units from the root down to it.
func (p *Plan) UnitPaths() map[estate.UnitID][]string {
	out := make(map[estate.UnitID][]string, len(p.units))
	for i := range p.units {
		_, out[p.units[i].ID] = p.unitNames(i)
	}
	return out
}
