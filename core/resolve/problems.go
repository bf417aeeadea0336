// This file lists the problems of a resolution: the checks that find something, and where that
// comes from.
//
// The laptops on which a check fails are part of the resolution. Which policies a problem comes from
// is found when somebody asks: each setting that the check names is decided again on these laptops,
// with an observer that tells which entries won.

package resolve

import (
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// ProblemFound is a problem with the laptops on which the check finds it.
type ProblemFound struct {
	outcome.Problem
	Devices Devices
}

// Problems lists every problem by (check, what it comes from). Checks are looked at on all threads.
// It is found once and kept. The list must not be altered.
func (w *EstateResolution) Problems() []ProblemFound {
	w.problemsOnce.Do(func() {
		checks := w.plan.byCheck
		found := make([][]ProblemFound, len(checks))
		threads.Share(len(checks), func(mine iter.Seq[int]) {
			for i := range mine {
				found[i] = w.problemsOf(checks[i], Devices{plan: w.plan, blocks: w.problems[checks[i]]})
			}
		})
		w.problemsFound = slices.Concat(found...)
	})
	return w.problemsFound
}

// ProblemsFrom lists those of Problems that come from a policy, in the same order. It looks only at
// the laptops that the policy applies to, and at the checks that name one of its settings.
func (w *EstateResolution) ProblemsFrom(id estate.PolicyID) []ProblemFound {
	pol := w.plan.Policy(id)
	if pol == nil {
		return nil
	}
	applies := w.plan.Applies(id)
	// From the checks that name a setting of the policy, the problems on its laptops.
	var out []ProblemFound
	for _, at := range w.plan.byCheck {
		names := func(s setting.ID) bool { return pol.Entry(s) != nil }
		if !slices.ContainsFunc(w.plan.checks[at].Settings, names) {
			continue
		}
		for _, found := range w.problemsOf(at, applies.And(Devices{plan: w.plan, blocks: w.problems[at]})) {
			if slices.Contains(found.From, string(id)) {
				out = append(out, found)
			}
		}
	}
	return out
}

// problemsOf groups the laptops on which a check fails by the policies and exceptions that the
// settings it names come from. Two laptops with the same check and different origins are two
// problems, since somebody else has to mend each.
func (w *EstateResolution) problemsOf(at int, on Devices) []ProblemFound {
	p := w.plan
	c := p.checks[at].Check
	found := newGatherer[string](p)
	froms := map[string][]string{}
	k := p.worker(p.Laptops())
	defer k.done()
	var dom bitset.Set
	for b, packed := range on.blocks {
		if packed == nil {
			continue
		}
		packed.Into(&dom)
		b += on.from
		k.load(b, &dom)
		k.DropAside()
		standing := &carriers{}
		// Each setting that the check names adds the sets of laptops whose value comes from one
		// policy, or from one exception.
		for _, id := range c.Settings {
			if s, known := p.settingAt.Number(id); known {
				k.addCarriers(s, w.forcedRows(k, s, b), &dom, standing)
			}
		}
		// Laptops with the same origins have the same problem.
		decide.Alike(&k.Arena, standing.candidates, &dom, func(have []decide.Candidate, rows *bitset.Set) {
			var from []string
			for _, h := range have {
				from = append(from, standing.from[h.At])
			}
			slices.Sort(from)
			from = slices.Compact(from)
			// A key of all origins. Ids have no zero byte.
			key := ""
			for _, f := range from {
				key += f + "\x00"
			}
			froms[key] = from
			found.add(key, b, rows)
		})
	}
	var out []ProblemFound
	for key, from := range froms {
		settings := slices.Sorted(slices.Values(c.Settings))
		problem := outcome.Problem{Check: c.ID, Message: c.Message, Settings: settings, From: from}
		out = append(out, ProblemFound{Problem: problem, Devices: found.devices(key)})
	}
	// The parts come from a map, and are put in an order that stays the same.
	slices.SortFunc(out, func(a, b ProblemFound) int { return slices.Compare(a.From, b.From) })
	return out
}

// carriers is the origin of outcomes: candidates that won or conflict, and exceptions. Each is
// written as a candidate whose number is a place in from, so that decide.Alike can group laptops by
// them.
type carriers struct {
	candidates []decide.Candidate
	from       []string // by carrier: the policy, or the exception
}

// addCarriers adds the origin of a setting's outcome on the rows of dom. Rows in not have a forced
// value, which comes from no policy.
func (w *worker) addCarriers(at int, not, dom *bitset.Set, to *carriers) {
	// The fates are observed anew: the resolution keeps outcomes, not where they come from.
	c := &w.plan.settings[at]
	seen := w.observe(c, dom)
	add := func(from string, rows *bitset.Set) {
		if rows == nil {
			return
		}
		if not != nil {
			rows.AndNot(not)
		}
		if !rows.Empty() {
			to.candidates = append(to.candidates, decide.Candidate{At: int32(len(to.from)), Live: rows})
			to.from = append(to.from, from)
		}
	}
	for i, s := range seen.in {
		// A policy carries the value where it won, and a part of the conflict where it conflicts.
		carries := seen.became[i][outcome.Won]
		if conflicts := seen.became[i][outcome.Clashing]; carries == nil {
			carries = conflicts
		} else if conflicts != nil {
			carries.Or(conflicts)
		}
		add(string(c.Entries[s.Rank].PolicyID), carries)
	}
	for i := range c.Exceptions {
		add(string(c.Exceptions[i].ID), seen.exempting[c.Exceptions[i].Exception])
	}
}
