// This file is the part of the oracle that says who gets what.

package resolve_test

import (
	"slices"
	"sort"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

type oracle struct{ *estate.Snapshot }

func (o oracle) person(id estate.PersonID) *estate.Person {
	for i := range o.People {
		if o.People[i].ID == id {
			return o.People[i]
		}
	}
	return nil
}

func (o oracle) definition(id setting.ID) *setting.Definition {
	for i := range o.Settings {
		if o.Settings[i].ID == id {
			return &o.Settings[i]
		}
	}
	return nil
}

// path lists the units from a unit up to the root and turns the list round.
func (o oracle) path(id estate.UnitID) (path []string) {
	for id != "" {
		path = append([]string{string(id)}, path...)
		for _, u := range o.Units {
			if u.ID == id {
				id = u.Parent
				break
			}
		}
	}
	return path
}

func (o oracle) home(d *estate.Device) []string {
	if d.Unit != "" {
		return o.path(d.Unit)
	}
	if p := o.person(d.Owner); p != nil && p.Unit != "" {
		return o.path(p.Unit)
	}
	for _, u := range o.Units {
		if u.Parent == "" {
			return []string{string(u.ID)}
		}
	}
	return nil
}

func (o oracle) deviceMap(d *estate.Device) map[string]any {
	m := map[string]any{"id": string(d.ID), "os": string(d.OS), "os_version": d.OSVersion, "tags": append([]string{}, d.Tags...)}
	for k, v := range map[string]string{"serial": d.Serial, "edition": d.Edition, "model": d.Model} {
		if v != "" {
			m[k] = v
		}
	}
	path := o.home(d)
	m["unit"], m["units"] = path[len(path)-1], path
	for k, v := range d.Facts {
		m[k] = v.Any()
	}
	return m
}

func (o oracle) personMap(p *estate.Person) map[string]any {
	m := map[string]any{}
	if p == nil {
		return m
	}
	m["id"] = string(p.ID)
	for k, v := range map[string]string{"name": p.Name, "mail": p.Mail} {
		if v != "" {
			m[k] = v
		}
	}
	if p.Unit != "" {
		m["unit"], m["units"] = string(p.Unit), o.path(p.Unit)
	}
	for k, v := range p.Attributes {
		m[k] = v.Any()
	}
	return m
}

func (o oracle) inGroup(id estate.GroupID, d *estate.Device, p *estate.Person) bool {
	for _, g := range o.Groups {
		if g.ID != id {
			continue
		}
		if g.Of == estate.OfPeople && p == nil {
			return false
		}
		name, vars := string(d.ID), map[string]any{"device": o.deviceMap(d)}
		if g.Of == estate.OfPeople {
			name, vars = string(p.ID), map[string]any{"person": o.personMap(p)}
		}
		if slices.Contains(g.Members, name) {
			return true
		}
		if g.Rule != nil {
			if is, err := g.Rule.Holds(vars); err == nil && is {
				return true
			}
		}
		for _, sub := range g.Groups {
			if o.inGroup(sub, d, p) {
				return true
			}
		}
	}
	return false
}

// level gives a target's level for a pair, -1 when it does not match. Levels are depths, then 100
// for group, 101 for individual.
func (o oracle) level(t estate.Target, d *estate.Device, p *estate.Person) int {
	switch t.Kind {
	case estate.ToEveryone:
		return 0
	case estate.ToUnit:
		return slices.Index(o.home(d), t.ID)
	case estate.ToGroup:
		if o.inGroup(estate.GroupID(t.ID), d, p) {
			return 100
		}
	case estate.ToDevice:
		if string(d.ID) == t.ID {
			return 101
		}
	case estate.ToPerson:
		if p != nil && string(p.ID) == t.ID {
			return 101
		}
	}
	return -1
}

func (o oracle) applies(pol *estate.Policy, d *estate.Device, p *estate.Person) (level int, reason outcome.Reason, targets []string) {
	if pol.State != estate.Active {
		return -1, outcome.NotActive, nil
	}
	if len(pol.Platforms) > 0 && !slices.Contains(pol.Platforms, d.OS) {
		return -1, outcome.OnPlatform, nil
	}
	if pol.Within != "" && !slices.Contains(o.home(d), string(pol.Within)) {
		return -1, outcome.Outside, nil
	}
	level = -1
	for _, t := range pol.Audience.Include {
		level = max(level, o.level(t, d, p))
	}
	if level < 0 {
		return -1, outcome.NotIncluded, nil
	}
	for _, t := range pol.Audience.Exclude {
		if o.level(t, d, p) >= 0 {
			targets = append(targets, t.String())
		}
	}
	if len(targets) > 0 {
		sort.Strings(targets)
		return -1, outcome.Excluded, targets
	}
	if pol.Audience.When != nil {
		is, err := pol.Audience.When.Holds(map[string]any{"device": o.deviceMap(d), "person": o.personMap(p)})
		if err != nil || !is {
			return -1, outcome.OnCondition, nil
		}
	}
	if pol.Offered && !slices.Contains(d.Taken, pol.ID) {
		return -1, outcome.NotTaken, nil
	}
	return level, "", nil
}

func (o oracle) detachLevel(kind setting.PolicyKind, area string, d *estate.Device, p *estate.Person) int {
	level := -1
	names := func(list []estate.Detachment) bool {
		for _, one := range list {
			if one.Kind == kind || area != "" && one.Area == area {
				return true
			}
		}
		return false
	}
	for depth, id := range o.home(d) {
		for _, u := range o.Units {
			if string(u.ID) == id && names(u.Detach) {
				level = depth
			}
		}
	}
	for _, g := range o.Groups {
		if names(g.Detach) && o.inGroup(g.ID, d, p) {
			level = 100
		}
	}
	return level
}
