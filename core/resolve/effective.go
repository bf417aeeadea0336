// This file writes out what is decided for one subject, with every reason, as records.
//
// Reasons has numbers; the records here have ids, values and words of the contract, and are what
// the API, the command line and comparisons with other programs get. Making them costs more than
// deciding, so lists of many laptops ask for Outcomes instead.

package resolve

import (
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// UnknownError says that a device or person is not in the estate.
type UnknownError struct {
	Kind estate.Kind
	ID   string
}

// Error names the id and the list that it is not in.
func (e *UnknownError) Error() string {
	return fmt.Sprintf("%q is not among the estate's %s", e.ID, e.Kind)
}

// Effective resolves a device for its owner, or for the person named by who when that is not empty.
// Device-side settings are always those of the owner. The result has every setting that something
// brings, with every candidate, and every policy that does not apply. The error is an
// *UnknownError.
func (p *Plan) Effective(id estate.DeviceID, who estate.PersonID) (*outcome.Result, error) {
	r, err := p.Reasons(id, who)
	if err != nil {
		return nil, err
	}
	return r.Result(), nil
}

// All resolves every device for its owner with every reason, by id. It is far slower than Estate,
// and is meant for comparisons and exports.
func (w *EstateResolution) All(yield func(*outcome.Result) bool) {
	for i := range w.Len() {
		if !yield(w.Result(i)) {
			return
		}
	}
}

// Result resolves the device at a place in the order of ids, for its owner, with every reason.
func (w *EstateResolution) Result(i int) *outcome.Result {
	at := int(w.plan.byDevice[i])
	return w.plan.reasons(at, w.plan.Devices.At(at).OwnerAt).Result()
}

// Result makes records of all that is said.
func (r *Reasons) Result() *outcome.Result {
	p := r.plan
	d := p.Devices.At(r.dev)
	out := &outcome.Result{Device: d.ID, Unit: p.Units[d.HomeAt].ID, Settings: make([]outcome.Setting, len(r.settled))}
	if r.who != intern.None {
		out.Person = p.People.At(r.who).ID
	}
	// Policies that do not apply are matched again, one by one, for their reasons.
	s := p.subject(r.dev, r.who)
	defer s.done()
	out.NotApplying = s.notApplying()
	candidates := make([]outcome.Candidate, 0, len(r.became))
	for i := range r.settled {
		out.Settings[i], candidates = r.record(i, candidates)
	}
	for _, at := range r.problems {
		out.Problems = append(out.Problems, foundBy(p.checks[at].Check, out))
	}
	return out
}

// record makes the record of a setting. Its candidates are appended to those given.
func (r *Reasons) record(i int, candidates []outcome.Candidate) (outcome.Setting, []outcome.Candidate) {
	d := &r.settled[i]
	c := &r.plan.settings[d.setting]
	is := c.Outcomes.Of(d.outcome)
	out := outcome.Setting{ID: c.Def.ID, Status: is.Status, How: r.how(i)}
	if is.Status == outcome.Unsupported {
		out.Reason = is.Reason
		// Every candidate becomes a record with the fate that was noted for it.
		return out, candidates
	}
	first := len(candidates)
	for n, place := range r.ranksOf(i) {
		s := &c.Ranked[place]
		pol := &r.plan.policies[s.Policy]
		at := len(candidates)
		candidates = append(
			candidates,
			outcome.Candidate{
				Policy:   pol.ID,
				Level:    s.Level,
				Priority: pol.Priority,
				Value:    c.Entries[place].Value,
				Locked:   s.Lock,
				Fate:     r.became[int(d.first)+n],
			},
		)
		for ; at > first && candidates[at].Policy < candidates[at-1].Policy; at-- { // few, and often in order
			candidates[at], candidates[at-1] = candidates[at-1], candidates[at]
		}
	}
	out.Candidates = candidates[first:len(candidates):len(candidates)]
	out.Value = r.decidedValue(i)
	// A value comes from the exception that decided; else from the candidates that won, or that
	// conflict.
	if d.exception != intern.None {
		out.From = []string{string(c.Exceptions[d.exception].ID)}
	} else {
		for _, one := range out.Candidates {
			if one.Fate == outcome.Won || one.Fate == outcome.Clashing {
				out.From = append(out.From, string(one.Policy))
			}
		}
	}
	// A forced value comes from the dictionary, not from a policy. What it replaces is kept beside
	// it.
	if d.forced != intern.None {
		out.Replaced = &outcome.Replaced{Value: out.Value, How: out.How, From: out.From}
		out.Value, out.How, out.From = c.forced[d.forced].Value, outcome.ByForce, nil
	}
	return out, candidates
}

// foundBy makes the record of a problem that a check found.
func foundBy(check *estate.Check, r *outcome.Result) outcome.Problem {
	// A problem comes from whatever the settings that the check names come from.
	found := outcome.Problem{Check: check.ID, Message: check.Message, Settings: slices.Sorted(slices.Values(check.Settings))}
	for _, id := range found.Settings {
		if s := r.Setting(id); s != nil {
			found.From = append(found.From, s.From...)
		}
	}
	slices.Sort(found.From)
	found.From = slices.Compact(found.From)
	return found
}
