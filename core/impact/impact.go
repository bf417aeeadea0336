// Package impact compares two resolutions of the whole estate, before and after a change, and says
// what the change does: which laptops, which values, from what to what, what gets weaker, what a
// person will notice, which conflicts and problems come and go. The same change on the same estate
// gives the same report.
package impact

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// State is what one setting is on one laptop. The zero State is a setting that does not appear.
type State = outcome.State

// Transition is one way in which a setting alters, with the laptops on which it does.
type Transition struct {
	*resolve.Alteration
	Weaker  bool             // by the definition's order of strictness
	Effects []setting.Effect // of the setting, where the laptop gets another value
}

// Movement is the laptops that a policy begins or ceases to reach.
type Movement = resolve.Movement

// Report is the impact of a change.
type Report struct {
	Devices          resolve.Devices // on which some setting or problem alters
	Transitions      []Transition    // by setting, then by what they alter from and to
	ConflictsGained  []resolve.ConflictFound
	ConflictsCleared []resolve.ConflictFound
	ProblemsGained   []resolve.ProblemFound
	ProblemsCleared  []resolve.ProblemFound
	Audiences        []Movement // by policy
	Estate           int        // laptops in the estate after the change
}

// Weaker gives the laptops that get a weaker value of some setting.
func (r *Report) Weaker() resolve.Devices {
	return r.where(func(t *Transition) bool { return t.Weaker })
}

// WithEffect gives the laptops on which an altered setting has the effect.
func (r *Report) WithEffect(e setting.Effect) resolve.Devices {
	return r.where(func(t *Transition) bool { return slices.Contains(t.Effects, e) })
}

// where gives the laptops on which some transition is so.
func (r *Report) where(is func(*Transition) bool) resolve.Devices {
	var sets []resolve.Devices
	for i := range r.Transitions {
		if is(&r.Transitions[i]) {
			sets = append(sets, r.Transitions[i].Devices)
		}
	}
	return resolve.Devices{}.Or(sets...)
}

// Side is one of the two resolutions that are compared.
type Side struct {
	Plan       *resolve.Plan
	Resolution *resolve.EstateResolution
}

// Resolve makes a side of a snapshot.
func Resolve(s *estate.Snapshot) Side {
	plan := resolve.Compile(s)
	return Side{plan, plan.Estate()}
}

// With makes the side of a snapshot that differs a little from this side's.
func (s Side) With(next *estate.Snapshot) Side {
	plan := s.Plan.With(next)
	return Side{plan, plan.Estate()}
}

// Compare says what differs from before to after. Laptops that are on one side only count as having
// no settings on the other.
func Compare(before, after Side) *Report {
	// What differs is found by package resolve. Here it is judged: what is weaker, and what people
	// notice.
	d := resolve.Differ(before.Resolution, after.Resolution)
	out := &Report{
		ConflictsGained:  d.ConflictsGained,
		ConflictsCleared: d.ConflictsCleared,
		ProblemsGained:   d.ProblemsGained,
		ProblemsCleared:  d.ProblemsCleared,
		Audiences:        d.Movements,
		Estate:           after.Resolution.Len(),
		Devices:          d.Devices,
	}
	out.Transitions = make([]Transition, 0, len(d.Alterations))
	for _, a := range d.Alterations {
		t := Transition{Alteration: a}
		// A setting that is gone is judged by the definition that it had.
		def := after.Plan.Definition(a.Setting)
		if def == nil {
			def = before.Plan.Definition(a.Setting)
		}
		t.Weaker = isWeaker(def, a.From, a.To)
		// An effect is noticed where a value is applied. Where one goes, the laptop keeps what it
		// has.
		if a.To.Status == outcome.Set {
			t.Effects = def.Effects
		}
		out.Transitions = append(out.Transitions, t)
	}
	return out
}

// isWeaker compares by the definition's order of strictness. A value that is no longer sent counts
// as the unmanaged default where that is known; a conflict leaves what the laptop has and is not
// judged.
func isWeaker(d *setting.Definition, from, to State) bool {
	// Other rules have no order of strictness.
	if d.Combine != setting.Strictest {
		return false
	}
	a, okA := valueOf(d, from)
	b, okB := valueOf(d, to)
	return okA && okB && d.Rank(b) < d.Rank(a)
}

// valueOf gives the value that a laptop has in a state: that of the policies, or the default of the
// setting.
func valueOf(d *setting.Definition, s State) (setting.Value, bool) {
	switch s.Status {
	// The laptop keeps what it has, which is not known.
	case outcome.Set:
		return s.Value, true
	case outcome.Conflict, outcome.Unsupported:
		return setting.Value{}, false
	}
	// Nothing is sent: the value is the default, where the dictionary knows it.
	return d.Default, !d.Default.IsNothing()
}
