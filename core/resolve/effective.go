// This file resolves one subject: gather, decide, force, check.

package resolve

import (
	"cmp"
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
	return p.effective(dev, signedIn, nil), nil
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

// applied is a policy that applies to a subject, by its place, at a level.
type applied struct {
	policy int
	level  Level
}

// effective resolves a device for who signs in. alike remembers what was decided for laptops that differ in nothing that is
// decided by; nil remembers nothing.
func (p *Plan) effective(dev, signedIn int, alike *likeness) *Result {
	d := &p.devices[dev]
	out := &Result{Device: d.ID, Unit: p.units[d.home].ID}
	if signedIn != none {
		out.Person = p.people[signedIn].ID
	}
	user := p.subject(dev, signedIn)
	applying := make([]applied, 0, len(p.policies))
	for i := range p.policies {
		level, not := p.apply(user, &p.policies[i])
		if not != nil {
			out.NotApplying = append(out.NotApplying, *not)
		} else {
			applying = append(applying, applied{i, level})
		}
	}
	var made *decision
	if signedIn == d.owner {
		made = alike.decided(p, user, applying)
	} else {
		found := p.gather(nil, user, applying, setting.UserSide)
		owner := p.subject(dev, d.owner)
		applying = applying[:0]
		for i := range p.policies {
			if level, not := p.apply(owner, &p.policies[i]); not == nil {
				applying = append(applying, applied{i, level})
			}
		}
		made = p.decideAll(user, owner, p.gather(found, owner, applying, setting.DeviceSide))
	}
	out.Settings = made.settings
	p.check(out, made, user)
	return out
}

// decision is what is decided from the entries that apply, with forced values in force.
type decision struct {
	settings []Setting
	values   map[string]any // of the settings that are set, as expressions see them
	problems []Problem      // of the checks that look at settings alone; nil: not looked for yet
	checked  bool
}

// decideAll decides every setting that appears. Device-side settings are the owner's, user-side ones the user's.
func (p *Plan) decideAll(user, owner *subject, found []gathered) *decision {
	found, settings := p.bySetting(found)
	candidates := make([]Candidate, len(found))
	for i := range found {
		candidates[i] = found[i].candidate()
	}
	out := &decision{settings: make([]Setting, 0, settings)}
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
			out.settings = append(out.settings, decided)
		}
	}
	p.forceAll(out, owner.device)
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

// gather adds the entries of policies that apply; side limits them to settings of that side.
func (p *Plan) gather(found []gathered, s *subject, applying []applied, side setting.Side) []gathered {
	if found == nil {
		found = make([]gathered, 0, p.entries)
	}
	for _, a := range applying {
		pol := &p.policies[a.policy]
		for i := range pol.entries {
			e := &pol.entries[i]
			def := p.definitions[e.setting]
			if side == "" || def.Side == side {
				found = append(found, gathered{e.setting, pol, e.Entry, a.level, s.isDetached(pol, a.level, e.Lock, def.Combine)})
			}
		}
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

// forceAll gives settings their forced values. Every rule sees the values before any forcing.
func (p *Plan) forceAll(made *decision, dev int) {
	if !p.forcing && len(p.checks) == 0 {
		return
	}
	made.values = make(map[string]any, len(made.settings))
	for i := range made.settings {
		if s := &made.settings[i]; s.Status == Set {
			made.values[string(s.ID)] = s.Value.Any()
		}
	}
	if !p.forcing {
		return
	}
	var after, variables map[string]any
	for i := range made.settings {
		s := &made.settings[i]
		if s.Status != Set || len(p.definitions[p.settingAt[s.ID]].Forced) == 0 {
			continue
		}
		if variables == nil {
			variables = map[string]any{"settings": made.values, "device": p.deviceVariables(dev)}
		}
		if p.force(s, variables) {
			if after == nil {
				after = maps.Clone(made.values)
			}
			after[string(s.ID)] = s.Value.Any()
		}
	}
	if after != nil {
		made.values = after
	}
}

// check runs the checks over what was decided: those that look at settings alone once, the others for this subject.
func (p *Plan) check(out *Result, made *decision, s *subject) {
	if !made.checked {
		made.checked = true
		variables := map[string]any{"settings": made.values, "device": map[string]any{}, "person": map[string]any{}}
		for i := range p.checks {
			c := &p.checks[i]
			if c.alone != nil && slices.ContainsFunc(c.alone, func(id string) bool { _, is := made.values[id]; return is }) && c.finds(variables) {
				made.problems = append(made.problems, foundBy(c.Check, out))
			}
		}
	}
	out.Problems = made.problems
	if !p.checksLookFurther {
		return
	}
	variables := map[string]any{"settings": made.values, "device": p.deviceVariables(s.device), "person": p.personVariables(s.person)}
	for i := range p.checks {
		if c := &p.checks[i]; c.alone == nil && c.finds(variables) {
			out.Problems = append(out.Problems[:len(out.Problems):len(out.Problems)], foundBy(c.Check, out))
		}
	}
	if len(out.Problems) > len(made.problems) {
		slices.SortFunc(out.Problems, func(a, b Problem) int { return cmp.Compare(a.Check, b.Check) })
	}
}

func (c *check) finds(variables map[string]any) bool {
	wrong, err := c.When.Holds(variables)
	return err == nil && wrong
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
