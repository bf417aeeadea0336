// This file keeps answers about single policies and settings from one plan to the next, so that
// typing into a policy asks anew only what the last key altered.

package resolve

import (
	"maps"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// mostAnswers is how many answers of each kind are kept.
const mostAnswers = 256

// answers are what was found about policies and settings. All plans that are made of one another
// share one. Each answer is kept with what it was found from; it is given again to a plan in which
// that is the same, by comparing memory, and found anew otherwise. It is safe for concurrent use.
type answers struct {
	mu      sync.Mutex
	reaches map[estate.PolicyID]keptReach
	fates   map[fateQuestion]keptFates
	lacking map[setting.ID]keptLacking
}

// ground is what all answers are found from: the people, laptops, units and groups of a plan.
type ground struct {
	fields *fieldCache // the same where people, laptops and the tree of units are
	units  []match.Unit
	groups []match.Group
}

// ground gives the ground of the plan's answers.
func (p *Plan) ground() ground { return ground{p.fields, p.Units, p.Groups} }

// same tells whether two grounds are one in memory.
func (g ground) same(h ground) bool {
	return g.fields == h.fields && intern.SameList(g.units, h.units) && intern.SameList(g.groups, h.groups)
}

// keptReach is a Reach, without a plan, with the policy that it is of.
type keptReach struct {
	ground
	policy      *estate.Policy
	definitions []*setting.Definition // of the policy's entries, in their order
	reach       Reach
}

// all lists the sets of laptops of a Reach.
func (r *Reach) all() []*Devices {
	return []*Devices{
		&r.Gets, &r.Excluded, &r.Condition, &r.NotTaken, &r.Platform, &r.Outside, &r.NotIncluded, &r.Unsupported, &r.Unknown,
	}
}

// keptReach gives the reach that was found of a policy with the same audience and settings; nil:
// none was.
func (p *Plan) keptReach(pol *estate.Policy, definitions []*setting.Definition) *Reach {
	p.answers.mu.Lock()
	kept, known := p.answers.reaches[pol.ID]
	p.answers.mu.Unlock()
	if !known || !kept.same(p.ground()) || !sameAudience(kept.policy, pol) || !slices.Equal(kept.definitions, definitions) {
		return nil
	}
	out := kept.reach
	for _, devices := range out.all() {
		*devices = devices.On(p)
	}
	return &out
}

// keepReach keeps a reach.
func (p *Plan) keepReach(pol *estate.Policy, definitions []*setting.Definition, r *Reach) {
	kept := keptReach{p.ground(), pol, definitions, *r}
	for _, devices := range kept.reach.all() {
		*devices = devices.Bare() // else the plan would be kept in memory
	}
	p.answers.mu.Lock()
	defer p.answers.mu.Unlock()
	p.answers.reaches = with(p.answers.reaches, mostAnswers, pol.ID, kept)
}

// fateQuestion is what EntryFates is asked, but for the laptops.
type fateQuestion struct {
	setting setting.ID
	beside  estate.PolicyID
}

// keptFates is the fates of the entries for a setting, with the index of the setting, who has which
// entry, and the laptops that were asked about.
type keptFates struct {
	ground
	index   settingIndex
	matches [][]bitset.Packed // by rank
	among   Devices           // without a plan
	fates   []EntryFates
}

// matchesOf gives, by rank, the laptops that have each entry for a setting.
func (p *Plan) matchesOf(c *settingIndex) [][]bitset.Packed {
	out := make([][]bitset.Packed, len(c.Keys))
	for rank, key := range c.Keys {
		policy, levelAt := decide.Unkey(key)
		out[rank] = p.policies[policy].matches[levelAt]
	}
	return out
}

// decidesAlike tells whether two indices are of the same entries, exceptions and rulings.
func (c *settingIndex) decidesAlike(o *settingIndex) bool {
	return c.Def == o.Def && intern.SameList(c.Ranked, o.Ranked) && intern.SameList(c.Entries, o.Entries) && intern.SameList(c.Keys, o.Keys) &&
		intern.SameList(c.Exceptions, o.Exceptions) && intern.SameList(c.exempt, o.exempt) && maps.Equal(c.Rulings, o.Rulings)
}

// keptFates gives the fates that were found of a setting on the same laptops.
func (p *Plan) keptFates(question fateQuestion, c *settingIndex, among Devices) (fates []EntryFates, known bool) {
	p.answers.mu.Lock()
	kept, known := p.answers.fates[question]
	p.answers.mu.Unlock()
	if !known || !kept.same(p.ground()) || !kept.index.decidesAlike(c) || !slices.EqualFunc(kept.matches, p.matchesOf(c), intern.SameList) ||
		!kept.among.equal(among) {
		return nil, false
	}
	return kept.fates, true
}

// keepFates keeps the fates of a setting.
func (p *Plan) keepFates(question fateQuestion, c *settingIndex, among Devices, fates []EntryFates) {
	kept := keptFates{p.ground(), *c, p.matchesOf(c), among.Bare(), fates}
	p.answers.mu.Lock()
	defer p.answers.mu.Unlock()
	p.answers.fates = with(p.answers.fates, mostAnswers, question, kept)
}

// keptLacking is the laptops that do not support a setting, by reason, and those of which that is
// not known, without a plan.
type keptLacking struct {
	ground
	definition *setting.Definition
	by         map[setting.Unsupported]Devices
	unknown    Devices
}

// keptLacking gives what was found of a setting with the same definition.
func (p *Plan) keptLacking(def *setting.Definition) (kept keptLacking, known bool) {
	p.answers.mu.Lock()
	defer p.answers.mu.Unlock()
	kept, known = p.answers.lacking[def.ID]
	return kept, known && kept.same(p.ground()) && kept.definition == def
}

// keepLacking keeps which laptops do not support a setting.
func (p *Plan) keepLacking(kept keptLacking) {
	p.answers.mu.Lock()
	defer p.answers.mu.Unlock()
	p.answers.lacking = with(p.answers.lacking, mostAnswers, kept.definition.ID, kept)
}

// with puts an answer into a map of at most so many. A map that is full begins anew.
func with[K comparable, V any](m map[K]V, most int, key K, value V) map[K]V {
	if m == nil || len(m) >= most {
		m = map[K]V{}
	}
	m[key] = value
	return m
}
