// This file resolves one subject: gather, decide, force, check.

package resolve

import (
	"fmt"
	"maps"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// UnknownError says that a device or person is not in the estate.
type UnknownError struct {
	Kind estate.Kind
	ID   string
}

func (e *UnknownError) Error() string {
	return fmt.Sprintf("%q is not among the estate's %s", e.ID, e.Kind)
}

// Effective resolves a device for its owner, or for the person named by who when that is not empty.
// Device-side settings are always those of the owner. The error is an *UnknownError.
func (p *Plan) Effective(id estate.DeviceID, who estate.PersonID) (*Result, error) {
	dev, known := p.deviceAt[id]
	if !known {
		return nil, &UnknownError{estate.KindDevice, string(id)}
	}
	signedIn := p.devices[dev].owner
	if who != "" {
		if signedIn, known = p.personAt[who]; !known {
			return nil, &UnknownError{estate.KindPerson, string(who)}
		}
	}
	return p.effective(dev, signedIn), nil
}

// gathered is an entry that applies, with the place of its setting. It is small: these are sorted.
type gathered struct {
	setting  int
	policy   *policy
	entry    *estate.Entry
	level    Level
	detached bool
}

func (g *gathered) candidate() Candidate {
	c := Candidate{Policy: g.policy.ID, Level: g.level, Priority: g.policy.Priority, Value: g.entry.Value, Locked: g.entry.Lock}
	if g.detached {
		c.Fate = Detached
	}
	return c
}

func (p *Plan) effective(dev, signedIn int) *Result {
	d := &p.devices[dev]
	out := &Result{Device: d.ID, Unit: p.units[d.home].ID}
	if signedIn != none {
		out.Person = p.people[signedIn].ID
	}
	user := p.subject(dev, signedIn)
	owner := user
	if signedIn != d.owner {
		owner = p.subject(dev, d.owner)
	}

	found := make([]gathered, 0, p.entries)
	for i := range p.policies {
		pol := &p.policies[i]
		level, not := p.apply(user, pol)
		if not != nil {
			out.NotApplying = append(out.NotApplying, *not)
		}
		if owner == user {
			found = p.gather(found, user, pol, level, "")
			continue
		}
		found = p.gather(found, user, pol, level, setting.UserSide)
		level, _ = p.apply(owner, pol)
		found = p.gather(found, owner, pol, level, setting.DeviceSide)
	}
	found, settings := p.bySetting(found)
	candidates := make([]Candidate, len(found))
	for i := range found {
		candidates[i] = found[i].candidate()
	}
	out.Settings = make([]Setting, 0, settings)
	next := 0
	for at, def := range p.definitions {
		first := next
		for next < len(found) && found[next].setting == at {
			next++
		}
		if first == next && len(p.exceptions[at]) == 0 {
			continue
		}
		s := owner
		if def.Side == setting.UserSide {
			s = user
		}
		if decided, appears := p.decideFor(s, at, candidates[first:next:next]); appears {
			out.Settings = append(out.Settings, decided)
		}
	}
	p.finish(out, dev, signedIn)
	return out
}

// bySetting orders entries by the place of their setting, and counts the settings. Those of one setting stay in their order, by
// policy id: places are few, so each entry's own is counted out.
func (p *Plan) bySetting(found []gathered) (ordered []gathered, settings int) {
	starts := make([]int32, len(p.definitions)+1)
	for i := range found {
		starts[found[i].setting+1]++
	}
	for at := range p.definitions {
		if starts[at+1] > 0 {
			settings++
		}
		starts[at+1] += starts[at]
	}
	ordered = make([]gathered, len(found))
	for i := range found {
		at := &starts[found[i].setting]
		ordered[*at] = found[i]
		*at++
	}
	return ordered, settings
}

// gather adds a policy's entries as candidates; side limits them to settings of that side.
func (p *Plan) gather(found []gathered, s *subject, pol *policy, level Level, side setting.Side) []gathered {
	if level == noLevel {
		return found
	}
	for i := range pol.entries {
		e := &pol.entries[i]
		def := p.definitions[e.setting]
		if side != "" && def.Side != side {
			continue
		}
		found = append(found, gathered{e.setting, pol, e.Entry, level, s.isDetached(pol, level, e.Lock, def.Combine)})
	}
	return found
}

// decideFor decides the setting at a place: support first, then the exception that counts, then the candidates.
func (p *Plan) decideFor(s *subject, at int, candidates []Candidate) (Setting, bool) {
	def, d := p.definitions[at], &p.devices[s.device]
	if why := def.SupportOn(d.OS, d.OSVersion, d.Edition); why != setting.Supported {
		return Setting{ID: def.ID, Status: Unsupported, Reason: why}, len(candidates) > 0
	}
	var counts *estate.Exception
	for i := range p.exceptions[at] {
		if x := &p.exceptions[at][i]; p.matches(s, &x.target) {
			counts = x.Exception
			break
		}
	}
	return decide(def, candidates, counts, p.rulings[at])
}

// finish forces values and runs the checks.
func (p *Plan) finish(out *Result, dev, signedIn int) {
	if !p.forcing && len(p.checks) == 0 {
		return
	}
	decided := make(map[string]any, len(out.Settings))
	for i := range out.Settings {
		if s := &out.Settings[i]; s.Status == Set {
			decided[string(s.ID)] = s.Value.Any()
		}
	}
	variables := map[string]any{"settings": decided, "device": p.deviceVariables(dev)}
	if p.forcing { // every rule sees the values before any forcing
		var after map[string]any
		for i := range out.Settings {
			if s := &out.Settings[i]; s.Status == Set && p.force(s, variables) {
				if after == nil {
					after = maps.Clone(decided)
				}
				after[string(s.ID)] = s.Value.Any()
			}
		}
		if after != nil {
			variables["settings"] = after
		}
	}
	variables["person"] = p.personVariables(signedIn)
	for i := range p.checks {
		check := &p.checks[i]
		if check.alone != nil && !slices.ContainsFunc(check.alone, func(id string) bool { _, is := decided[id]; return is }) {
			continue
		}
		if wrong, err := check.When.Holds(variables); err == nil && wrong {
			out.Problems = append(out.Problems, foundBy(check.Check, out))
		}
	}
}

// force gives a setting the value of the first forced rule that is true, and tells whether that is another one.
func (p *Plan) force(s *Setting, variables map[string]any) bool {
	for _, f := range p.definitions[p.settingAt[s.ID]].Forced {
		if is, err := f.When.Holds(variables); err != nil || !is {
			continue
		}
		if f.Value.Equal(s.Value) {
			return false
		}
		s.Replaced = &Replaced{Value: s.Value, How: s.How, From: s.From}
		s.Value, s.How, s.From = f.Value, ByForce, nil
		return true
	}
	return false
}

func foundBy(check *estate.Check, r *Result) Problem {
	found := Problem{Check: check.ID, Message: check.Message, Settings: slices.Sorted(slices.Values(check.Settings))}
	for _, id := range found.Settings {
		if s := r.Setting(id); s != nil {
			found.From = append(found.From, s.From...)
		}
	}
	slices.Sort(found.From)
	found.From = slices.Compact(found.From)
	return found
}
