// This file implements matching for one subject: which policies apply, at which level, and why not.
//
// A subject is a laptop with the person who signs in. For a laptop with its owner the plan has
// every match already, and one bit of each is read. For another person the policies are matched
// again, over a set that has this pair as its only row.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// subject is the pair for which settings are resolved, by numbers, with a worker for which the pair
// is the only row.
type subject struct {
	*worker
	dev, who  int                      // who: none where there is nobody
	applied   []applied                // by policy, once find was called
	detaching bool                     // somebody is detached
	areas     map[string]outcome.Level // by area of the dictionary: the innermost level that detaches it
}

// applied is how a policy applies to a subject.
type applied struct {
	levelAt  int16 // its level's place among the policy's; none: it does not apply
	detached bool  // its kind is detached closer by
}

// subject prepares a pair. done must be called at the end. A worker for one row: row 0 stands for
// the pair, and all rows of every set are that one.
func (p *Plan) subject(dev, who int) *subject {
	s := &subject{worker: p.worker(match.Pair(dev, who)), dev: dev, who: who}
	var one bitset.Set
	one.Add(0)
	s.load(0, &one)
	return s
}

// detachLevels gives, by kind of policy and by area of the dictionary, the innermost level that
// detaches it.
func (s *subject) detachLevels() (kinds map[setting.PolicyKind]outcome.Level, areas map[string]outcome.Level) {
	detach := func(list []estate.Detachment, at outcome.Level) {
		if len(list) > 0 && kinds == nil {
			kinds, areas = map[setting.PolicyKind]outcome.Level{}, map[string]outcome.Level{}
		}
		for _, d := range list { // later calls are closer
			if d.Area != "" {
				areas[d.Area] = at
			} else {
				kinds[d.Kind] = at
			}
		}
	}
	// Units are visited from the root down, groups after them, so that the innermost level is
	// stored last.
	p := s.plan
	for depth, u := range p.Units[p.Devices.At(s.dev).HomeAt].Path {
		detach(p.Units[u].Detach, outcome.Level(depth))
	}
	for _, g := range p.DetachingGroups {
		if p.InGroup(s.dev, s.who, g) {
			detach(p.Groups[g].Detach, outcome.GroupLevel)
		}
	}
	return kinds, areas
}

// findPolicies finds the policies that apply. For laptops with their owners the plan has them;
// other pairs are matched.
func (s *subject) findPolicies() {
	p := s.plan
	// A policy that is not found below does not apply.
	s.clearApplied()
	// Another person than the owner: the plan has no matches for the pair.
	if s.who != p.Devices.At(s.dev).OwnerAt {
		for at := range p.policies {
			s.Match(&p.policies[at].audience, nil, func(levelAt int, _ *bitset.Set) { s.applied[at].levelAt = int16(levelAt) })
		}
	} else {
		// in holds the matches of 64 laptops at a time. The bit of the laptop says whether the
		// policy applies at that level.
		of := p
		if p.beside != nil {
			of = p.beside
		}
		block, row := s.dev>>bitset.Shift, s.dev&(bitset.Rows-1)
		in := of.matchesIn(block)
		first, end := in.begin[row>>6], in.begin[row>>6+1]
		for i, rows := range in.rows[first:end] {
			if rows>>(row&63)&1 != 0 {
				if policy, levelAt := decide.Unkey(in.keys[int(first)+i]); policy < len(s.applied) {
					s.applied[policy].levelAt = int16(levelAt)
				}
			}
		}
		// Policies whose matches are not those of the plan beside are looked at by themselves.
		for _, policy := range p.unlike {
			if policy >= len(s.applied) {
				continue
			}
			s.applied[policy].levelAt = intern.None
			for levelAt, packed := range p.policies[policy].matches {
				if packed[block].Has(row) {
					s.applied[policy].levelAt = int16(levelAt)
				}
			}
		}
	}
	s.findDetached()
}

// findPoliciesOf finds the policies that apply to a laptop with its owner, among some levels. One
// setting needs only the policies that have an entry for it, so their sets are looked up one by
// one.
func (s *subject) findPoliciesOf(keys []uint32) {
	s.clearApplied()
	for _, key := range keys {
		policy, levelAt := decide.Unkey(key)
		if s.plan.policies[policy].matches[levelAt][s.dev>>bitset.Shift].Has(s.dev & (bitset.Rows - 1)) {
			s.applied[policy].levelAt = int16(levelAt)
		}
	}
	s.findDetached()
}

// clearApplied begins with no policy that applies.
func (s *subject) clearApplied() {
	s.scratchApplied = slices.Grow(s.scratchApplied[:0], len(s.plan.policies))[:len(s.plan.policies)]
	s.applied = s.scratchApplied
	for at := range s.applied {
		s.applied[at] = applied{levelAt: intern.None}
	}
}

// findDetached finds which entries of the policies that apply are detached by a closer place.
func (s *subject) findDetached() {
	p := s.plan
	if s.detaching = p.AnyDetached(); s.detaching {
		detach, areas := s.detachLevels()
		s.areas = areas
		for at := range s.applied {
			if level := s.applied[at].levelAt; level != intern.None {
				// Entries of a policy are detached if a place at a closer level than the policy's
				// detaches its kind.
				from, is := detach[p.policies[at].Kind]
				s.applied[at].detached = is && p.policies[at].audience.Levels[level] < from
			}
		}
	}
}

// blockMatches is the level matches of all policies in a block, transposed: the bits of one laptop
// are side by side.
type blockMatches struct {
	begin [bitset.Rows/64 + 1]int32 // by word of a set: its first
	rows  []uint64                  // who of 64 laptops gets a policy at one level
	keys  []uint32                  // the policy and the level
}

// matchesIn transposes the level matches of a block. The result is cached in the plan.
//
// A plan keeps, by policy, the laptops to which it applies. For one laptop the question is the
// other way round: which policies apply to it. Reading one bit from each of a thousand sets touches
// a thousand places in memory; transposed, the bits are side by side.
func (p *Plan) matchesIn(block int) *blockMatches {
	if known := p.blockMatches[block].Load(); known != nil {
		return known
	}
	w := p.worker(p.Laptops())
	defer w.done()
	var set bitset.Set
	// First all words of all sets are listed, policy by policy, and counted by word. Then each is
	// moved to its word: a counting sort.
	found, words := blockMatches{rows: w.scratchLaid.rows[:0], keys: w.scratchLaid.keys[:0]}, w.scratchWords[:0] // policy by policy
	out := &blockMatches{}
	for at := range p.policies {
		for levelAt, packed := range p.policies[at].matches {
			packed[block].Into(&set)
			for word, rows := range set.Words {
				found.rows, found.keys, words = append(found.rows, rows), append(found.keys, decide.Key(at, levelAt)), append(words, uint8(word))
				out.begin[word+1]++
			}
		}
	}
	w.scratchLaid, w.scratchWords = found, words
	// Sums of the counts: where the entries of each word begin.
	for word := range out.begin[1:] {
		out.begin[word+1] += out.begin[word]
	}
	next := out.begin
	out.rows, out.keys = make([]uint64, len(words)), make([]uint32, len(words))
	for i, word := range words {
		out.rows[next[word]], out.keys[next[word]] = found.rows[i], found.keys[i]
		next[word]++
	}
	p.blockMatches[block].Store(out)
	return out
}

// notApplying gives the policies that do not apply, with the first reason, by id.
func (s *subject) notApplying() []outcome.NotApplying {
	out := make([]outcome.NotApplying, 0, len(s.plan.byPolicy))
	for _, at := range s.plan.byPolicy {
		pol := &s.plan.policies[at]
		why := whyNot{subject: s, policy: pol}
		// Match tells the first reason. It yields nothing that matters here.
		s.Match(&pol.audience, &why, func(int, *bitset.Set) {})
		if why.Reason != "" {
			why.Policy = pol.ID
			out = append(out, why.NotApplying)
		}
	}
	return out
}

// whyNot is told why a policy does not apply to a subject, which is the only row.
type whyNot struct {
	outcome.NotApplying
	subject *subject
	policy  *policy
}

// Not, Excludes and Fails are told of one laptop, so that the set need not be looked at.
func (w *whyNot) Not(why outcome.Reason, _ *bitset.Set)   { w.Reason = why }
func (w *whyNot) Includes(*match.Target, *bitset.Set)     {}
func (w *whyNot) Excludes(t *match.Target, _ *bitset.Set) { w.Targets = append(w.Targets, t.Target) }

// Fails evaluates the condition once more, for the text of the error.
func (w *whyNot) Fails(*bitset.Set) {
	// The error is found anew, since the answers of tests keep only that they failed.
	if _, err := w.policy.Audience.When.Holds(w.subject.Variables(0, nil)); err != nil {
		w.Error = err.Error()
	}
}

// candidate gives a ranked entry of a setting as one that the subject has.
func (s *subject) candidate(c *settingIndex, order decide.Order, rank int32, at int) decide.Candidate {
	return decide.Candidate{Ranked: &c.Ranked[rank], At: int32(at), Rank: rank, Order: order, Live: &s.Dom}
}

// detach removes a candidate from the subject if it is detached.
func (s *subject) detach(c *settingIndex, in []decide.Candidate) {
	if !s.detaching || c.Inherited() {
		return
	}
	for i := range in {
		one := &in[i]
		level, areaDetached := s.areas[c.area]
		// The area may be detached by another place than the kind. A locked entry arrives in either
		// case.
		if (s.applied[one.Policy].detached || areaDetached && c.area != "" && one.Level < level) && !one.Lock {
			one.Live, one.Detached = decide.Nobody, &s.Dom
		}
	}
}

// Applied gives the policies that apply to a result's subject, by id.
func (p *Plan) Applied(r *outcome.Result) []*estate.Policy {
	out := make([]*estate.Policy, 0, len(p.byPolicy)-len(r.NotApplying))
	// Both lists are in the order of ids, so one pass over them is enough.
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
func (p *Plan) Applying(r *outcome.Result) []estate.PolicyID {
	applied := p.Applied(r)
	out := make([]estate.PolicyID, len(applied))
	for i := range applied {
		out[i] = applied[i].ID
	}
	return out
}
