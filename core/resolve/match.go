// This file implements matching: which policies apply to a subject, at which level, and why not.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// subject is the pair for which settings are resolved, by places.
type subject struct {
	device, person int // person: none where there is none
	// detach is, by kind of policy, the innermost level that goes its own way; noLevel where none does.
	detach map[setting.PolicyKind]Level
	// variables are what a condition sees; made when the first condition asks.
	variables map[string]any
}

func (p *Plan) subject(device, person int) *subject {
	s := &subject{device: device, person: person}
	s.detach = p.detachLevels(s)
	return s
}

func (p *Plan) whenVariables(s *subject) map[string]any {
	if s.variables == nil {
		s.variables = map[string]any{"device": p.deviceVariables(s.device), "person": p.personVariables(s.person)}
	}
	return s.variables
}

// matches tests a target against the pair.
func (p *Plan) matches(s *subject, t *target) bool {
	switch t.Kind {
	case estate.ToEveryone:
		return true
	case estate.ToUnit:
		path := p.units[p.devices[s.device].home].path
		return int(t.level) < len(path) && path[t.level] == t.at
	case estate.ToGroup:
		return p.inGroup(s, t.at)
	case estate.ToDevice:
		return t.at == s.device
	default:
		return t.at == s.person
	}
}

func (p *Plan) inGroup(s *subject, group int) bool {
	return p.devices[s.device].groups.has(group) || s.person != none && p.people[s.person].groups.has(group)
}

func (p *Plan) detachLevels(s *subject) map[setting.PolicyKind]Level {
	var levels map[setting.PolicyKind]Level
	detach := func(kinds []setting.PolicyKind, at Level) {
		for _, k := range kinds {
			if levels == nil {
				levels = map[setting.PolicyKind]Level{}
			}
			levels[k] = at // later calls are closer
		}
	}
	for depth, u := range p.units[p.devices[s.device].home].path {
		detach(p.units[u].Detach, Level(depth))
	}
	for g := range p.groups {
		if len(p.groups[g].Detach) > 0 && p.inGroup(s, g) {
			detach(p.groups[g].Detach, GroupLevel)
		}
	}
	return levels
}

// isDetached tells whether an entry of a policy is dropped because its kind goes its own way closer by.
func (s *subject) isDetached(pol *policy, level Level, locked bool, combine setting.Combine) bool {
	from, ok := s.detach[pol.Kind]
	return ok && level < from && !locked && combine != setting.Merge
}

// Applied gives the policies that apply to a result's subject, by id.
func (p *Plan) Applied(r *Result) []*estate.Policy {
	out := make([]*estate.Policy, 0, len(p.policies)-len(r.NotApplying))
	not := r.NotApplying // both come by id
	for i := range p.policies {
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

// apply tests one policy: its level when it applies, else the first reason why not.
func (p *Plan) apply(s *subject, pol *policy) (Level, *NotApplying) {
	not := func(r Reason) (Level, *NotApplying) { return noLevel, &NotApplying{Policy: pol.ID, Reason: r} }
	if pol.State != estate.Active {
		return not(NotActive)
	}
	if len(pol.Platforms) > 0 && !slices.Contains(pol.Platforms, p.devices[s.device].OS) {
		return not(OnPlatform)
	}
	level := noLevel
	for i := range pol.include {
		if t := &pol.include[i]; t.level > level && p.matches(s, t) {
			level = t.level
		}
	}
	if level == noLevel {
		return not(NotIncluded)
	}
	var excluded []estate.Target
	for i := range pol.exclude {
		if p.matches(s, &pol.exclude[i]) {
			excluded = append(excluded, pol.exclude[i].Target)
		}
	}
	if excluded != nil {
		return noLevel, &NotApplying{Policy: pol.ID, Reason: Excluded, Targets: excluded}
	}
	ok, err := holds(pol.Audience.When, func() map[string]any { return p.whenVariables(s) })
	if err != nil {
		return noLevel, &NotApplying{Policy: pol.ID, Reason: OnCondition, Error: err.Error()}
	}
	if !ok {
		return not(OnCondition)
	}
	return level, nil
}
