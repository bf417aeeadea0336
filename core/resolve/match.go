// This file implements matching for one subject: which policies apply, at which level, and why not.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// subject is the pair for which settings are resolved, by numbers, with a worker for which the pair is the only row.
type subject struct {
	*worker
	dev, who int   // who: none where there is nobody
	arms     []arm // by policy, once applied was called
}

// arm is how a policy applies to a subject.
type arm struct {
	at       int16 // its level's place among the policy's; none: it does not apply
	detached bool  // its kind goes its own way closer by
}

// subject begins with a pair; done must be called in the end.
func (p *Plan) subject(dev, who int) *subject {
	r := &roll{device: []int32{int32(dev)}, person: []int32{int32(who)}}
	s := &subject{worker: p.worker(r), dev: dev, who: who}
	var one rowset.Set
	one.Add(0)
	s.load(0, &one)
	return s
}

// inGroup tells whether a device or a person is in a group; either may be none.
func (p *Plan) inGroup(dev, who, group int) bool {
	g := &p.groups[group]
	if g.Of == estate.OfDevices || dev != none && who == p.devices[dev].owner {
		if g.Of == estate.OfPeople && who == none {
			return false
		}
		return dev != none && g.rows[dev>>rowset.Shift].Has(dev&(rowset.Rows-1))
	}
	return who != none && p.personIn(who, group)
}

// personIn tells whether a person is in a group of people.
func (p *Plan) personIn(who, group int) bool {
	list := p.persons().groups[group]
	return list != nil && list[who>>rowset.Shift].Has(who&(rowset.Rows-1))
}

// matches tests a target against the pair.
func (s *subject) matches(t *target) bool {
	switch t.Kind {
	case estate.ToEveryone:
		return true
	case estate.ToUnit:
		path := s.plan.units[s.plan.devices[s.dev].home].path
		return int(t.level) < len(path) && path[t.level] == t.at
	case estate.ToGroup:
		return s.plan.inGroup(s.dev, s.who, t.at)
	case estate.ToDevice:
		return t.at == s.dev
	default:
		return t.at == s.who
	}
}

// detachLevels gives, by kind of policy, the innermost level that goes its own way.
func (s *subject) detachLevels() (levels map[setting.PolicyKind]Level) {
	detach := func(kinds []setting.PolicyKind, at Level) {
		for _, k := range kinds {
			if levels == nil {
				levels = map[setting.PolicyKind]Level{}
			}
			levels[k] = at // later calls are closer
		}
	}
	p := s.plan
	for depth, u := range p.units[p.devices[s.dev].home].path {
		detach(p.units[u].Detach, Level(depth))
	}
	for _, g := range p.detaching {
		if p.inGroup(s.dev, s.who, g) {
			detach(p.groups[g].Detach, GroupLevel)
		}
	}
	return levels
}

// applied finds the policies that apply, and says why the others do not where why is asked for.
func (s *subject) applied(why bool) (not []NotApplying) {
	p := s.plan
	s.arms = make([]arm, len(p.policies))
	for at := range s.arms {
		s.arms[at].at = none
	}
	detach := s.detachLevels()
	if why {
		not = make([]NotApplying, 0, len(p.byPolicy))
	}
	for _, at := range p.byPolicy {
		pol := &p.policies[at]
		level, reason := s.apply(pol, why)
		s.arms[at].at = int16(level)
		if level == none {
			if why {
				reason.Policy = pol.ID
				not = append(not, reason)
			}
			continue
		}
		from, is := detach[pol.Kind]
		s.arms[at].detached = is && pol.levels[level] < from
	}
	return not
}

// apply tests one policy: the place of its level when it applies, else none and the first reason why not, where it is asked for.
func (s *subject) apply(pol *policy, why bool) (int, NotApplying) {
	not := func(r Reason) (int, NotApplying) { return none, NotApplying{Reason: r} }
	if pol.State != estate.Active {
		return not(NotActive)
	}
	if len(pol.Platforms) > 0 && !slices.Contains(pol.Platforms, s.plan.devices[s.dev].OS) {
		return not(OnPlatform)
	}
	level := none
	for i := 0; i < len(pol.include) && level == none; i++ {
		for j := range pol.include[i] {
			if s.matches(&pol.include[i][j]) {
				level = i
				break
			}
		}
	}
	if level == none {
		return not(NotIncluded)
	}
	var excluded []estate.Target
	for i := range pol.exclude {
		if s.matches(&pol.exclude[i]) {
			if !why {
				return not(Excluded)
			}
			excluded = append(excluded, pol.exclude[i].Target)
		}
	}
	if excluded != nil {
		return none, NotApplying{Reason: Excluded, Targets: excluded}
	}
	if pol.when == nil {
		return level, NotApplying{}
	}
	mark := s.mark()
	is, failed := s.truth(pol.when)
	s.release(mark)
	switch {
	case is.Has(0):
		return level, NotApplying{}
	case failed.Has(0) && why:
		_, err := pol.Audience.When.Holds(s.variables(0, nil))
		if err == nil {
			panic("resolve: the condition of " + string(pol.ID) + " fails in parts and not as a whole")
		}
		return none, NotApplying{Reason: OnCondition, Error: err.Error()}
	}
	return not(OnCondition)
}

// contestants gives the slots of a setting that the subject has, in the order of decision.
func (s *subject) contestants(c *contest) []contestant {
	s.in = s.in[:0]
	inherited := c.combine == setting.Merge
	for i, key := range c.keys {
		a := s.arms[key>>10]
		if uint32(a.at) != key&(1<<10-1) {
			continue
		}
		slot, at := &c.slots[i], int32(len(s.in))
		if a.detached && !slot.lock && !inherited {
			s.in = append(s.in, contestant{slot: slot, at: at, live: &nobody, detached: &s.dom})
		} else {
			s.in = append(s.in, contestant{slot: slot, at: at, live: &s.dom})
		}
	}
	return s.in
}

var nobody rowset.Set

// Applied gives the policies that apply to a result's subject, by id.
func (p *Plan) Applied(r *Result) []*estate.Policy {
	out := make([]*estate.Policy, 0, len(p.byPolicy)-len(r.NotApplying))
	not := r.NotApplying // both come by id
	for _, i := range p.byPolicy {
		if len(not) > 0 && not[0].Policy == p.policies[i].ID {
			not = not[1:]
			continue
		}
		out = append(out, p.policies[i].Policy)
	}
	return out
}

// Applying lists the policies that apply to a result's subject, by id.
func (p *Plan) Applying(r *Result) []estate.PolicyID {
	applied := p.Applied(r)
	out := make([]estate.PolicyID, len(applied))
	for i := range applied {
		out[i] = applied[i].ID
	}
	return out
}
