// This file lists the conflicts of a resolution.
//
// A conflict is an outcome of a setting like any other: policies of the same precedence want
// different values, and no ruling prefers one. It is listed once for each setting and each set of
// policies, with all laptops on which these conflict. Values are those that the policies have;
// candidates are found for one of the laptops and hold for all.

package resolve

import (
	"cmp"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// ConflictFound is one setting that policies disagree about, with the laptops that it touches.
// Laptops on which other policies conflict about the same setting are another ConflictFound.
type ConflictFound struct {
	Setting  setting.ID
	Policies []string // sorted
	Devices  Devices
	Values   []outcome.Candidate // the clashing candidates as they are on the first of the devices
}

// Conflicts lists every conflict by (setting, conflicting policies), with the candidates. It is
// found once and kept. The list must not be altered.
func (w *EstateResolution) Conflicts() []ConflictFound {
	w.conflictsOnce.Do(func() {
		// Candidates are found by explaining one laptop of each conflict. Conflicts are explained
		// on all threads.
		out := slices.Clone(w.ConflictList())
		threads.Share(len(out), func(mine iter.Seq[int]) {
			for i := range mine {
				out[i].Values = w.plan.clashing(&out[i])
			}
		})
		w.conflictsFound = out
	})
	return w.conflictsFound
}

// ConflictList lists every conflict as Conflicts does, without the candidates. The list must not be
// altered.
func (w *EstateResolution) ConflictList() []ConflictFound {
	w.listOnce.Do(func() { w.listFound = w.listConflicts() })
	return w.listFound
}

// listConflicts finds the conflicts. Conflicts of the same policies share one number in the
// outcomes of the setting, so that laptops are gathered by number.
func (w *EstateResolution) listConflicts() []ConflictFound {
	p := w.plan
	var out []ConflictFound
	var rows bitset.Set
	for _, at := range p.bySetting {
		c := &p.settings[at]
		// Most settings never had a conflict: then no block is read.
		if !slices.ContainsFunc(c.Outcomes.All(), func(o *intern.Outcome) bool { return o.Status == outcome.Conflict }) {
			continue
		}
		found := newGatherer[int32](p)
		for b, cell := range w.final[at] {
			for number := range cell.Numbers {
				if c.Outcomes.Of(number).Status == outcome.Conflict {
					rows.Clear()
					cell.OrInto(&rows, number)
					found.add(number, b, &rows)
				}
			}
		}
		for number := range found.sets {
			out = append(out, ConflictFound{Setting: c.Def.ID, Policies: c.Outcomes.Of(number).Policies, Devices: found.devices(number)})
		}
	}
	slices.SortFunc(out, func(a, b ConflictFound) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), slices.Compare(a.Policies, b.Policies))
	})
	return out
}

// WithCandidates gives a conflict of the plan's resolution with its candidates.
func (p *Plan) WithCandidates(c ConflictFound) ConflictFound {
	c.Values = p.clashing(&c)
	return c
}

// clashing gives the candidates of a conflict as they are on the first of its laptops.
func (p *Plan) clashing(f *ConflictFound) (values []outcome.Candidate) {
	s := p.explainOne(f.Devices.First(1)[0], f.Setting)
	if s == nil {
		return nil
	}
	for _, c := range s.Candidates {
		if c.Fate == outcome.Clashing {
			values = append(values, c)
		}
	}
	return values
}
