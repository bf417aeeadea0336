// This file answers who gets something: the reach of an audience, who a group would have, and why somebody is in one.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// TargetCount is how many laptops a target accounts for.
type TargetCount struct {
	Target  estate.Target
	Devices int
}

// AudienceReach is the reach of an audience, with what each of its targets does.
type AudienceReach struct {
	Reach
	ByInclude []TargetCount     // laptops on its platforms that each include matches
	ByExclude []TargetCount     // of those that are included, how many each exclude takes out
	Errors    map[string]int    // laptops on which the condition fails, by the error
	Owners    []estate.PersonID // of Gets, sorted
	Missing   []estate.Target   // targets that name nothing; the rest is as if they were not there
}

// Audience tests a policy as if it were active, whether or not it is in the plan.
func (p *Plan) Audience(pol *estate.Policy) *AudienceReach {
	out := &AudienceReach{Errors: map[string]int{}}
	tried := policy{Policy: pol}
	active := *pol
	active.State = estate.Active
	tried.Policy = &active
	places := func(targets []estate.Target) (list []target) {
		for _, t := range targets {
			if p.has(t) {
				list = append(list, p.target(t))
			} else {
				out.Missing = append(out.Missing, t)
			}
		}
		return list
	}
	tried.include, tried.exclude = places(pol.Audience.Include), places(pol.Audience.Exclude)
	for j := range pol.Entries {
		if at, known := p.settingAt[pol.Entries[j].Setting]; known {
			tried.entries = append(tried.entries, entry{setting: at, Entry: &pol.Entries[j]})
		}
	}
	in, not := make([]int, len(tried.include)), map[estate.Target]int{}
	owners := map[int]bool{}
	for dev := range p.devices {
		name := p.devices[dev].ID
		s := p.subject(dev, p.devices[dev].owner)
		if len(active.Platforms) == 0 || slices.Contains(active.Platforms, p.devices[dev].OS) {
			for i := range tried.include {
				if p.matches(s, &tried.include[i]) {
					in[i]++
				}
			}
		}
		_, why := p.apply(s, &tried)
		switch {
		case why == nil:
			out.Gets = append(out.Gets, name)
			if o := p.devices[dev].owner; o != none {
				owners[o] = true
			}
			if p.supportsNone(dev, &tried) {
				out.Unsupported = append(out.Unsupported, name)
			}
		case why.Reason == OnPlatform:
			out.Platform = append(out.Platform, name)
		case why.Reason == Excluded:
			out.Excluded = append(out.Excluded, name)
			for _, t := range why.Targets {
				not[t]++
			}
		case why.Reason == OnCondition:
			out.Condition = append(out.Condition, name)
			if why.Error != "" {
				out.Errors[why.Error]++
			}
		default:
			out.NotIncluded = append(out.NotIncluded, name)
		}
	}
	for i := range tried.include {
		out.ByInclude = append(out.ByInclude, TargetCount{tried.include[i].Target, in[i]})
	}
	for i := range tried.exclude {
		out.ByExclude = append(out.ByExclude, TargetCount{tried.exclude[i].Target, not[tried.exclude[i].Target]})
	}
	for o := range owners {
		out.Owners = append(out.Owners, p.people[o].ID)
	}
	slices.Sort(out.Owners)
	out.People = len(owners)
	return out
}

// has tells whether a target names something of the plan.
func (p *Plan) has(t estate.Target) (there bool) {
	switch t.Kind {
	case estate.ToEveryone:
		there = true
	case estate.ToUnit:
		_, there = p.unitAt[estate.UnitID(t.ID)]
	case estate.ToGroup:
		_, there = p.groupAt[estate.GroupID(t.ID)]
	case estate.ToDevice:
		_, there = p.deviceAt[estate.DeviceID(t.ID)]
	case estate.ToPerson:
		_, there = p.personAt[estate.PersonID(t.ID)]
	}
	return there
}

// Matching lists the devices that a target matches with their owners, by id.
func (p *Plan) Matching(t estate.Target) (devices []estate.DeviceID) {
	if !p.has(t) {
		return nil
	}
	at := p.target(t)
	for dev := range p.devices {
		if p.matches(&subject{device: dev, person: p.devices[dev].owner}, &at) {
			devices = append(devices, p.devices[dev].ID)
		}
	}
	return devices
}

// RuleFailure is a device or person on which a rule fails.
type RuleFailure struct {
	ID    string
	Error string
}

// GroupTrial is who a group would have.
type GroupTrial struct {
	Members  []string // sorted
	Listed   int
	Nested   int // through member groups, listed ones not counted again
	ByRule   int // by the rule alone
	Failures []RuleFailure
}

// TryGroup says who a group would have, whether or not it is in the plan. Member groups count as they are in the plan.
func (p *Plan) TryGroup(g *estate.Group) *GroupTrial {
	out := &GroupTrial{}
	nested := map[string]bool{}
	for _, id := range g.Groups {
		for _, m := range p.GroupMembers(id) {
			nested[m] = true
		}
	}
	listed := make(map[string]bool, len(g.Members))
	for _, m := range g.Members {
		listed[m] = true
	}
	n, name, variables := len(p.devices), func(i int) string { return string(p.devices[i].ID) }, func(i int) map[string]any { return map[string]any{"device": p.deviceVariables(i)} }
	if g.Of == estate.OfPeople {
		n, name, variables = len(p.people), func(i int) string { return string(p.people[i].ID) }, func(i int) map[string]any { return map[string]any{"person": p.personVariables(i)} }
	}
	for i := range n {
		id := name(i)
		holds := false
		if g.Rule != nil {
			var err error
			if holds, err = g.Rule.Holds(variables(i)); err != nil {
				out.Failures = append(out.Failures, RuleFailure{id, err.Error()})
				holds = false
			}
		}
		switch {
		case listed[id]:
			out.Listed++
		case nested[id]:
			out.Nested++
		case holds:
			out.ByRule++
		default:
			continue
		}
		out.Members = append(out.Members, id)
	}
	slices.Sort(out.Members)
	slices.SortFunc(out.Failures, func(a, b RuleFailure) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// Membership says why a device, or its owner, is in a group.
type Membership struct {
	Group  estate.GroupID
	Owner  bool // the owner is in it, and the device through the owner
	Listed bool
	Via    []estate.GroupID // member groups that it is in, sorted
	Rule   []rule.Part      // where the rule holds: its parts, as they are on the device or person
}

// Memberships says of every group that a device is in why it is in it.
func (p *Plan) Memberships(id estate.DeviceID) []Membership {
	dev, known := p.deviceAt[id]
	if !known {
		return nil
	}
	var out []Membership
	owner := p.devices[dev].owner
	for g := range p.groups {
		if p.devices[dev].groups.has(g) {
			out = append(out, p.membership(g, string(id), p.devices[dev].groups, false, func() map[string]any { return map[string]any{"device": p.deviceVariables(dev)} }))
		} else if owner != none && p.people[owner].groups.has(g) {
			out = append(out, p.membership(g, string(p.people[owner].ID), p.people[owner].groups, true, func() map[string]any { return map[string]any{"person": p.personVariables(owner)} }))
		}
	}
	return out
}

// PersonMemberships says of every group that a person is in why.
func (p *Plan) PersonMemberships(id estate.PersonID) (out []Membership) {
	at, known := p.personAt[id]
	if !known {
		return nil
	}
	for g := range p.groups {
		if p.people[at].groups.has(g) {
			out = append(out, p.membership(g, string(id), p.people[at].groups, false, func() map[string]any { return map[string]any{"person": p.personVariables(at)} }))
		}
	}
	return out
}

func (p *Plan) membership(g int, id string, in bits, owner bool, variables func() map[string]any) Membership {
	group := &p.groups[g]
	m := Membership{Group: group.ID, Owner: owner, Listed: slices.Contains(group.Members, id)}
	for _, member := range group.Groups {
		if in.has(p.groupAt[member]) {
			m.Via = append(m.Via, member)
		}
	}
	slices.Sort(m.Via)
	if group.Rule != nil {
		seen := variables()
		if holds, err := group.Rule.Holds(seen); err == nil && holds {
			m.Rule = group.Rule.Parts(seen)
		}
	}
	return m
}

// Dropped is an entry that does not arrive at a place since its laptops go their own way for its kind of policy.
type Dropped struct {
	Policy  estate.PolicyID
	Setting setting.ID
	Value   setting.Value
	Devices int
}

// Dropped lists the entries that laptops of a target do not get because of detaching, by policy and setting.
func (p *Plan) Dropped(t estate.Target) []Dropped {
	if !p.has(t) {
		return nil
	}
	at := p.target(t)
	type key struct {
		policy estate.PolicyID
		entry  int
	}
	counts := map[key]*Dropped{}
	for dev := range p.devices {
		s := p.subject(dev, p.devices[dev].owner)
		if len(s.detach) == 0 || !p.matches(s, &at) {
			continue
		}
		for i := range p.policies {
			pol := &p.policies[i]
			if _, detaches := s.detach[pol.Kind]; !detaches {
				continue
			}
			level, not := p.apply(s, pol)
			if not != nil {
				continue
			}
			for j := range pol.entries {
				e := &pol.entries[j]
				if !s.isDetached(pol, level, e.Lock, p.definitions[e.setting].Combine) {
					continue
				}
				k := key{pol.ID, j}
				if counts[k] == nil {
					counts[k] = &Dropped{Policy: pol.ID, Setting: e.Entry.Setting, Value: e.Value}
				}
				counts[k].Devices++
			}
		}
	}
	return sortedBy(counts, func(a, b *Dropped) int {
		return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Setting, b.Setting))
	})
}

// IsRoot tells whether a unit is the organisation.
func (p *Plan) IsRoot(id estate.UnitID) bool {
	at, known := p.unitAt[id]
	return known && at == p.root
}
