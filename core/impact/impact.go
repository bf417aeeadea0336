// Package impact compares two resolutions of the whole estate, before and after a change, and says what
// the change does: which laptops, which values, from what to what, what gets weaker, what a person will
// notice, which clashes and problems come and go. The same change on the same estate gives the same report.
package impact

import (
	"cmp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// State is what one setting is on one laptop. The zero State is a setting that does not appear.
type State struct {
	Status resolve.Status
	Value  setting.Value
}

func (s State) equal(t State) bool { return s.Status == t.Status && s.Value.Equal(t.Value) }

// Transition is one way in which a setting alters, with the laptops on which it does.
type Transition struct {
	Setting  setting.ID
	From, To State
	Weaker   bool             // by the definition's order of strictness
	Effects  []setting.Effect // of the setting, where the laptop gets another value
	Devices  []estate.DeviceID
}

// Movement is a device that a policy begins or ceases to reach.
type Movement struct {
	Policy  estate.PolicyID
	Gained  []estate.DeviceID
	Dropped []estate.DeviceID
}

// Report is the impact of a change.
type Report struct {
	Devices          []estate.DeviceID // on which some setting or problem alters
	Transitions      []Transition      // by setting, then by what they alter from and to
	ConflictsGained  []resolve.ConflictFound
	ConflictsCleared []resolve.ConflictFound
	ProblemsGained   []resolve.ProblemFound
	ProblemsCleared  []resolve.ProblemFound
	Audiences        []Movement // by policy
	Estate           int        // laptops in the estate after the change
}

// Weaker counts the laptops that get a weaker value of some setting.
func (r *Report) Weaker() int {
	return r.countWhere(func(t *Transition) bool { return t.Weaker })
}

// WithEffect counts the laptops on which an altered setting has the effect.
func (r *Report) WithEffect(e setting.Effect) int {
	return r.countWhere(func(t *Transition) bool { return slices.Contains(t.Effects, e) })
}

func (r *Report) countWhere(is func(*Transition) bool) int {
	devices := map[estate.DeviceID]bool{}
	for i := range r.Transitions {
		if is(&r.Transitions[i]) {
			for _, d := range r.Transitions[i].Devices {
				devices[d] = true
			}
		}
	}
	return len(devices)
}

// Side is one of the two resolutions that are compared.
type Side struct {
	Plan  *resolve.Plan
	Whole *resolve.Whole
}

// Resolve makes a side of a snapshot.
func Resolve(s *estate.Snapshot) Side {
	plan := resolve.Compile(s)
	return Side{plan, plan.Estate()}
}

// Compare says what differs from before to after. Laptops that are on one side only count as having no settings on the other.
func Compare(before, after Side) *Report {
	c := &comparison{
		definitions: map[setting.ID]*setting.Definition{},
		transitions: map[setting.ID][]*Transition{}, movements: map[estate.PolicyID]*Movement{},
		touched: map[estate.DeviceID]bool{}, pairs: map[pair][]*Transition{},
	}
	for _, side := range []Side{before, after} { // what is after wins
		s := side.Plan.Snapshot()
		for i := range s.Settings {
			c.definitions[s.Settings[i].ID] = &s.Settings[i]
		}
	}
	c.pairUp(before, after)
	out := &Report{Estate: len(after.Whole.Results)}
	out.ConflictsGained, out.ConflictsCleared = gainedAndCleared(before.Whole.Conflicts(), after.Whole.Conflicts(),
		func(f resolve.ConflictFound) string {
			return string(f.Setting) + "\x00" + strings.Join(f.Policies, "\x00")
		},
		func(f *resolve.ConflictFound) *[]estate.DeviceID { return &f.Devices })
	out.ProblemsGained, out.ProblemsCleared = gainedAndCleared(before.Whole.Problems(), after.Whole.Problems(),
		func(f resolve.ProblemFound) string { return string(f.Check) },
		func(f *resolve.ProblemFound) *[]estate.DeviceID { return &f.Devices })
	for _, found := range slices.Concat(out.ProblemsGained, out.ProblemsCleared) {
		for _, d := range found.Devices {
			c.touched[d] = true
		}
	}
	for d := range c.touched {
		out.Devices = append(out.Devices, d)
	}
	slices.Sort(out.Devices)
	for _, list := range c.transitions {
		for _, t := range list {
			out.Transitions = append(out.Transitions, *t)
		}
	}
	slices.SortFunc(out.Transitions, func(a, b Transition) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), cmp.Compare(a.key(), b.key()))
	})
	for _, m := range c.movements {
		out.Audiences = append(out.Audiences, *m)
	}
	slices.SortFunc(out.Audiences, func(a, b Movement) int { return cmp.Compare(a.Policy, b.Policy) })
	return out
}

type comparison struct {
	definitions map[setting.ID]*setting.Definition
	transitions map[setting.ID][]*Transition // few a setting
	movements   map[estate.PolicyID]*Movement
	touched     map[estate.DeviceID]bool
	pairs       map[pair][]*Transition
}

// pairUp walks both resolutions, which are sorted by device, side by side.
func (c *comparison) pairUp(before, after Side) {
	a, b := before.Whole.Results, after.Whole.Results
	var nothing resolve.Result
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].Device < b[0].Device:
			c.device(a[0].Device, a[0], &nothing, before.Plan, nil)
			a = a[1:]
		case len(a) == 0 || b[0].Device < a[0].Device:
			c.device(b[0].Device, &nothing, b[0], nil, after.Plan)
			b = b[1:]
		default:
			c.device(a[0].Device, a[0], b[0], before.Plan, after.Plan)
			a, b = a[1:], b[1:]
		}
	}
}

// pair names what was decided before and after: laptops that share both differ in the same.
type pair struct{ before, after *resolve.Setting }

func (c *comparison) device(id estate.DeviceID, before, after *resolve.Result, old, new *resolve.Plan) {
	var of pair
	if len(before.Settings) > 0 && len(after.Settings) > 0 {
		of = pair{&before.Settings[0], &after.Settings[0]}
	}
	altered, known := c.pairs[of]
	if !known || of == (pair{}) {
		altered = c.differences(before.Settings, after.Settings)
		c.pairs[of] = altered
	}
	for _, t := range altered {
		t.Devices = append(t.Devices, id)
		c.touched[id] = true
	}
	c.move(id, applying(old, before), applying(new, after))
}

// differences gives the transitions from one decision to another.
func (c *comparison) differences(a, b []resolve.Setting) (altered []*Transition) {
	for len(a) > 0 || len(b) > 0 {
		var from, to State
		var at setting.ID
		if len(b) == 0 || len(a) > 0 && a[0].ID <= b[0].ID {
			at = a[0].ID
		} else {
			at = b[0].ID
		}
		if len(a) > 0 && a[0].ID == at {
			from = State{a[0].Status, a[0].Value}
			a = a[1:]
		}
		if len(b) > 0 && b[0].ID == at {
			to = State{b[0].Status, b[0].Value}
			b = b[1:]
		}
		if !from.equal(to) {
			altered = append(altered, c.transition(Transition{Setting: at, From: from, To: to}))
		}
	}
	return altered
}

// transition gives the one that is known of this setting, from and to, or makes it known.
func (c *comparison) transition(t Transition) *Transition {
	list := c.transitions[t.Setting]
	at := slices.IndexFunc(list, func(k *Transition) bool { return k.From.equal(t.From) && k.To.equal(t.To) })
	if at < 0 {
		made := t // so that t itself stays off the heap: most are known already
		if d := c.definitions[t.Setting]; d != nil {
			made.Weaker = isWeaker(d, t.From, t.To)
			if t.To.Status == resolve.Set {
				made.Effects = d.Effects
			}
		}
		at, list = len(list), append(list, &made)
		c.transitions[t.Setting] = list
	}
	return list[at]
}

// key orders the transitions of one setting.
func (t *Transition) key() string {
	return strings.Join([]string{string(t.Setting), string(t.From.Status), t.From.Value.String(), string(t.To.Status), t.To.Value.String()}, "\x00")
}

// isWeaker compares by the definition's order of strictness. A value that is no longer sent counts as the
// unmanaged default where that is known; a conflict leaves what the laptop has and is not judged.
func isWeaker(d *setting.Definition, from, to State) bool {
	if d.Combine != setting.Strictest {
		return false
	}
	a, okA := standing(d, from)
	b, okB := standing(d, to)
	return okA && okB && d.Rank(b) < d.Rank(a)
}

func standing(d *setting.Definition, s State) (setting.Value, bool) {
	switch s.Status {
	case resolve.Set:
		return s.Value, true
	case resolve.Conflict, resolve.Unsupported:
		return setting.Value{}, false
	}
	return d.Default, !d.Default.IsNothing()
}

// applying lists the policies that apply on one side, by id; none where the laptop is not on that side.
func applying(p *resolve.Plan, r *resolve.Result) []estate.PolicyID {
	if p == nil {
		return nil
	}
	return p.Applying(r)
}

// move notes the policies that are in one of two lists, both by id.
func (c *comparison) move(id estate.DeviceID, before, after []estate.PolicyID) {
	at := func(policy estate.PolicyID) *Movement {
		if c.movements[policy] == nil {
			c.movements[policy] = &Movement{Policy: policy}
		}
		return c.movements[policy]
	}
	for len(before) > 0 || len(after) > 0 {
		switch {
		case len(after) == 0 || len(before) > 0 && before[0] < after[0]:
			at(before[0]).Dropped = append(at(before[0]).Dropped, id)
			before = before[1:]
		case len(before) == 0 || after[0] < before[0]:
			at(after[0]).Gained = append(at(after[0]).Gained, id)
			after = after[1:]
		default:
			before, after = before[1:], after[1:]
		}
	}
}

// gainedAndCleared compares two lists of findings laptop by laptop: a finding is gained on the laptops that
// have it after and did not before.
func gainedAndCleared[F any](before, after []F, key func(F) string, devices func(*F) *[]estate.DeviceID) (gained, cleared []F) {
	only := func(these, those []F) (out []F) {
		have := map[string]map[estate.DeviceID]bool{}
		for i := range those {
			k := key(those[i])
			if have[k] == nil {
				have[k] = map[estate.DeviceID]bool{}
			}
			for _, d := range *devices(&those[i]) {
				have[k][d] = true
			}
		}
		for _, f := range these {
			k := key(f)
			var left []estate.DeviceID
			for _, d := range *devices(&f) {
				if !have[k][d] {
					left = append(left, d)
				}
			}
			if len(left) > 0 {
				*devices(&f) = left
				out = append(out, f)
			}
		}
		return out
	}
	return only(after, before), only(before, after)
}
