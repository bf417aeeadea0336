// This file builds the policies of a plan: their entries, and their audiences with numbers in place
// of ids.
//
// Most edits are of one policy, and most of these of one value. What such an edit costs is decided
// here: the more precisely the difference between the policy before and after is noted, the fewer
// laptops and settings are computed again.

package resolve

import (
	"cmp"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// policiesOf numbers the policies and builds those that are new or altered. Three kinds of change
// are noted apart, since they cost very different work: another audience (matched for all laptops),
// another entry (one setting decided for the policy's laptops), another level (decided for laptops
// of moved units).
func (b *builder) policiesOf() {
	was, p := b.was, b.next
	policyID := func(x *estate.Policy) estate.PolicyID { return x.ID }
	p.sources = sourcesOf(p.snapshot, was)
	d := intern.Compare(was.sources, p.sources, policyID, samePolicy)
	p.policyAt, p.byPolicy = was.policyAt, was.byPolicy
	p.policies = slices.Clone(was.policies)
	if !d.Same {
		p.policyAt = was.policyAt.With(d.Gone, intern.IDsAt(p.sources, d.Fresh, policyID))
		for len(p.policies) < int(p.policyAt.N) {
			p.policies = append(p.policies, policy{})
		}
		// The laptops that had the policy are found in the plan before, so its entries are noted
		// under its old number.
		for _, id := range d.Gone {
			at := was.policyAt.NumberOf(id)
			alteredEntries(b.edited, at, was.policies[at].entries)
			p.policies[at] = policy{}
			b.changes.policies[at] = true
		}
		// Unaltered policies point to the new snapshot, so that the old one can be freed.
		for i := range p.sources {
			pol := &p.sources[i]
			p.policies[p.policyAt.NumberOf(pol.ID)].Policy = pol
		}
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			b.policy(&p.sources[i])
		}
		p.byPolicy = sortedNumbers(
			len(p.policies),
			func(i int) bool { return p.policies[i].Policy != nil },
			func(x, y int) int { return cmp.Compare(p.policies[x].ID, p.policies[y].ID) },
		)
	}
	b.retarget()
	// Level matches of all policies are numbered in one row: policy by policy, and level by level
	// within each. firstMatch is needed wherever something is kept by level match, for example the
	// sets of a worker.
	p.firstMatch = make([]int32, len(p.policies)+1)
	for at := range p.policies {
		p.firstMatch[at+1] = p.firstMatch[at] + int32(len(p.policies[at].audience.Levels))
	}
	if b.dictionaryAltered { // entries of settings that are new or gone
		for at := range p.policies {
			if pol := &p.policies[at]; pol.Policy != nil {
				pol.entries = p.entriesOf(pol.Policy)
			}
		}
	}
	// New laptops can need another block. Lists of matches grow with an empty one, which recompute
	// fills.
	if p.Blocks() > was.Blocks() && was != nothing {
		for i := range p.policies {
			pol := &p.policies[i]
			pol.matches = slices.Clone(pol.matches)
			for a := range pol.matches {
				pol.matches[a] = engine.PadBlocks(pol.matches[a], p.Blocks())
			}
		}
	}
}

// sourcesOf gives what a snapshot's settings are decided by: its policies, and for each baseline
// that puts something right one that every policy overrides. What is the same as in the plan before
// is taken from there.
func sourcesOf(s *estate.Snapshot, was *Plan) []estate.Policy {
	if intern.SameList(s.Policies, was.snapshot.Policies) && intern.SameList(s.Baselines, was.snapshot.Baselines) && was != nothing {
		return was.sources
	}
	out := s.Policies
	for i := range s.Baselines {
		if repairs := s.Baselines[i].Repairs(); repairs != nil {
			out = append(slices.Clip(out), *repairs)
		}
	}
	return out
}

// policy builds a new or altered policy.
func (b *builder) policy(pol *estate.Policy) {
	was, p := b.was, b.next
	at := p.policyAt.NumberOf(pol.ID)
	is := &p.policies[at]
	before, known := was.policyAt.Number(pol.ID)
	entries := p.entriesOf(pol)
	if !known {
		*is = policy{Policy: pol, entries: entries}
		alteredEntries(b.edited, at, entries)
	} else {
		old := &was.policies[before]
		// The priority decides between entries, and the kind says whether they are detached: every
		// entry of the policy is decided again. Otherwise only entries that differ are.
		if old.Priority != pol.Priority || old.Kind != pol.Kind {
			alteredEntries(b.edited, at, old.entries, entries)
		} else {
			alteredEntries(b.edited, at, without(old.entries, entries), without(entries, old.entries))
		}
		is.entries = entries
	}
	// Another audience: matched again for all laptops. The entries are decided again where the
	// policy was or is.
	if !known || !sameAudience(was.policies[before].Policy, pol) {
		b.changes.policies[at] = true
		p.resolveTargets(is)
		alteredEntries(b.edited, at, entries) // its levels may differ
	}
}

// without gives the entries that have no equal in others. Both are ordered by setting.
func without(entries, others []entry) (out []entry) {
	for _, e := range entries {
		at, found := slices.BinarySearchFunc(others, e.setting, func(o entry, s int) int { return cmp.Compare(o.setting, s) })
		if !found || !sameEntry(e.Entry, others[at].Entry) {
			out = append(out, e)
		}
	}
	return out
}

// alteredEntries notes a policy under the settings of some of its entries. lists are the entries
// before and after: a setting that only one of the two has must be decided again as well.
func alteredEntries(bySetting map[int][]int, policy int, lists ...[]entry) {
	for _, list := range lists {
		for _, e := range list {
			if !slices.Contains(bySetting[e.setting], policy) {
				bySetting[e.setting] = append(bySetting[e.setting], policy)
			}
		}
	}
}

// entriesOf gives a policy's entries with the numbers of their settings. Entries for unknown
// settings are left out.
func (p *Plan) entriesOf(pol *estate.Policy) []entry {
	out := make([]entry, 0, len(pol.Entries))
	for i := range pol.Entries {
		if at, known := p.settingAt.Number(pol.Entries[i].Setting); known {
			out = append(out, entry{at, &pol.Entries[i]})
		}
	}
	slices.SortFunc(out, func(x, y entry) int { return cmp.Compare(x.setting, y.setting) })
	return out
}

// SetBy gives the policies of the estate that have an entry for a setting, in whatever state, with
// the entry. The order means nothing.
func (p *Plan) SetBy(id setting.ID) iter.Seq2[*estate.Policy, *estate.Entry] {
	return func(yield func(*estate.Policy, *estate.Entry) bool) {
		at, known := p.settingAt.Number(id)
		if !known {
			return
		}
		for i := range p.policies {
			pol := &p.policies[i]
			if pol.Policy == nil || pol.Baseline != "" { // a number that is free, or what a baseline puts right
				continue
			}
			found, is := pol.entryAt(at)
			if is && !yield(pol.Policy, pol.entries[found].Entry) {
				return
			}
		}
	}
}

// resolveTargets gives a policy's audience with numbers in place of ids. It does not match laptops.
func (p *Plan) resolveTargets(pol *policy) {
	pol.audience = p.Audience(pol.Policy)
	pol.matches = make([][]bitset.Packed, len(pol.audience.Levels))
	for i := range pol.matches {
		pol.matches[i] = make([]bitset.Packed, p.Blocks())
	}
}

// otherTargets tells whether a target may name another object than in the plan before, or a unit at
// another depth.
func (b *builder) otherTargets() bool {
	return b.was != nothing && (b.movedUnits != nil || b.otherNumbers())
}

// otherNumbers tells whether objects that targets can name are new or gone.
func (b *builder) otherNumbers() bool {
	was, p := b.was, b.next
	return p.UnitAt != was.UnitAt || p.GroupAt != was.GroupAt || p.DeviceAt != was.DeviceAt || p.PersonAt != was.PersonAt
}

// retarget finds policies whose targets name other numbers or depths than before. If only depths
// differ, laptops outside of moved units keep their levels.
func (b *builder) retarget() {
	was, p := b.was, b.next
	if !b.otherTargets() {
		return
	}
	// A target names its object by number. If objects of that kind came or went, the number may now
	// be another object's, and the policy is matched again for all laptops. If only units moved,
	// numbers stand, but levels may differ.
	numbers := b.otherNumbers()
	elsewhere := func(t estate.Target) bool { return p.Target(t).At != was.Target(t).At }
	moved := func(t match.Target) bool {
		return t.Kind == estate.ToUnit && t.At != intern.None && outcome.Level(p.Units[t.At].Depth) != t.Level
	}
	for at := range p.policies {
		pol := &p.policies[at]
		if pol.Policy == nil || b.changes.policies[at] {
			continue
		}
		// The unit that bounds the policy is found by number as well.
		otherBound := pol.Within != "" && elsewhere(estate.Target{Kind: estate.ToUnit, ID: string(pol.Within)})
		others := numbers &&
			(otherBound || slices.ContainsFunc(pol.Audience.Include, elsewhere) || slices.ContainsFunc(pol.Audience.Exclude, elsewhere))
		if !others && !pol.audience.Names(moved) {
			continue
		}
		// The audience is numbered anew, with empty matches.
		again := policy{Policy: pol.Policy}
		p.resolveTargets(&again)
		again.entries = pol.entries
		if others {
			b.changes.policies[at] = true
			alteredEntries(b.edited, at, pol.entries)
		} else {
			// Matches of a level that both have are taken over; recompute corrects them on touched
			// laptops.
			for levelAt, level := range again.audience.Levels {
				if before := slices.Index(pol.audience.Levels, level); before >= 0 {
					again.matches[levelAt] = engine.PadBlocks(slices.Clone(pol.matches[before]), p.Blocks())
				}
			}
			alteredEntries(b.levels, at, pol.entries)
		}
		*pol = again
	}
}
