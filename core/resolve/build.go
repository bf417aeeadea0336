// This file builds a plan from a snapshot and the plan before: it finds the differences, and from them what must be computed again. A first
// plan is built from the plan of an empty estate, so that there is one way to build.

package resolve

import (
	"cmp"
	"iter"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/search"

	"zenithridge.example/zridge/core/resolve/internal/decide"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// changes is what must be computed again because of differences between two snapshots.
type changes struct {
	rows         []bitset.Packed // by block: touched laptops: new, gone or altered, or with an altered owner or unit
	systems      []bitset.Packed // by block: of these, laptops with another platform, version or edition
	moved        bool            // only paths of units altered for all of these
	rehomed      []bitset.Packed // by block: of these, laptops whose own unit moved, not only their owner's
	shiftedUnits map[int]bool    // units that laptops entered or left because units moved
	paths        []movedPath     // of units that moved
	groups       map[int]bool    // groups whose rule, list or nesting altered: computed for all laptops
	policies     map[int]bool    // policies whose audience altered: computed for all laptops
	edited       map[int][]int   // by setting: policies whose entry altered: decided for their laptops, before and after
	levels       map[int][]int   // by setting: policies with an entry for it whose targets are at other levels as units moved: for the touched of their laptops
	settings     map[int]bool    // settings to decide again for all laptops
	checks       map[int]bool    // checks to run again for all laptops
	detached     []match.Target  // units and groups that detach other kinds or areas than before
}

// movedPath is the path of a moved unit before and after, as expressions read it.
type movedPath struct{ was, is setting.Value }

// builder builds the plan next from the plan was.
type builder struct {
	was, next *Plan
	changes
	movedUnits    []bool // by unit: with another path; nil: none
	touchedPeople intern.DeviceSet
	peopleRows    []bitset.Packed // touchedPeople, by block
	gonePeople    []estate.PersonID
	listedAnew    map[int]bool // groups whose listed members were looked up again in this step

	dictionaryAltered bool // definitions are new, gone or altered
}

// nothing is the plan of an empty estate, from which first plans are built.
var nothing = &Plan{
	Population: match.Population{
		Root:     intern.None,
		UnitAt:   &intern.IDTable[estate.UnitID]{},
		PersonAt: &intern.IDTable[estate.PersonID]{},
		DeviceAt: &intern.IDTable[estate.DeviceID]{},
		GroupAt:  &intern.IDTable[estate.GroupID]{},
	},
	snapshot:  &estate.Snapshot{},
	policyAt:  &intern.IDTable[estate.PolicyID]{},
	SettingAt: &intern.IDTable[setting.ID]{},
	checkAt:   &intern.IDTable[estate.CheckID]{},
}

func build(was *Plan, s *estate.Snapshot) *Plan {
	words := (*intern.Generation)(nil)
	if was == nil {
		was, words = nothing, intern.NewGeneration()
	} else {
		words = was.Gen
	}
	p := &Plan{snapshot: s.Indexed(was.snapshot)}
	p.Gen = words
	p.Persons, p.failures = sync.OnceValue(p.gatherPeople), sync.OnceValue(p.countFailures)
	b := &builder{
		was:        was,
		next:       p,
		listedAnew: map[int]bool{},
		changes: changes{
			shiftedUnits: map[int]bool{},
			groups:       map[int]bool{},
			policies:     map[int]bool{},
			edited:       map[int][]int{},
			levels:       map[int][]int{},
			settings:     map[int]bool{},
			checks:       map[int]bool{},
		},
	}
	b.units()
	b.peopleAndDevices()
	b.groupsOf()
	p.GatherDetachedAreas()
	b.dictionary()
	b.policiesOf()
	b.decisions()
	p.ranked = was.ranked
	if len(b.edited)+len(b.levels) > 0 || b.dictionaryAltered || was == nothing || !slices.Equal(p.firstMatch, was.firstMatch) {
		p.ranked = sync.OnceValue(p.indexRanked)
	}
	if p.naming = was.naming; len(b.changes.policies) > 0 || p.GroupAt != was.GroupAt || was == nothing {
		policies, groups := p.policies, len(p.Groups) // not the plan itself, which other plans would then keep in memory
		p.naming = sync.OnceValue(func() [][]int { return naming(policies, groups) })
	}
	b.columns()
	p.blockMatches = make([]atomic.Pointer[blockMatches], p.Blocks())
	p.recompute(was, &b.changes)
	if was == nothing {
		p.Gen.Began()
	}
	return p
}

func (b *builder) units() {
	was, p := b.was, b.next
	d := intern.Compare(was.snapshot.Units, p.snapshot.Units, func(u *estate.Unit) estate.UnitID { return u.ID }, sameUnit)
	if d.Same && was.Root != intern.None {
		p.Units, p.UnitAt, p.Root, p.DetachingUnits = was.Units, was.UnitAt, was.Root, was.DetachingUnits
		return
	}
	p.UnitAt = was.UnitAt.With(d.Gone, intern.IDsAt(p.snapshot.Units, d.Fresh, func(u *estate.Unit) estate.UnitID { return u.ID }))
	p.Units = make([]match.Unit, p.UnitAt.N)
	for i := range p.snapshot.Units {
		u := &p.snapshot.Units[i]
		at := p.UnitAt.NumberOf(u.ID)
		p.Units[at].Unit = u
		if u.Parent == "" {
			p.Root = at
		}
	}
	for i := range p.Units {
		if p.Units[i].Unit == nil {
			continue
		}
		var path []int
		for at := i; at != intern.None && len(path) <= len(p.Units); at = p.UnitAt.NumberOf(p.Units[at].Parent) {
			path = append(path, at)
		}
		slices.Reverse(path)
		p.Units[i].Path, p.Units[i].Depth = path, len(path)-1
		if i >= len(was.Units) || was.Units[i].Unit == nil || !was.samePath(p, i) {
			if b.movedUnits == nil {
				b.movedUnits = make([]bool, len(p.Units))
			}
			b.movedUnits[i] = true
			if i < len(was.Units) && was.Units[i].Unit != nil {
				b.noteShift(was.Units[i].Path, path)
				b.paths = append(b.paths, movedPath{setting.ListValue(was.PathIDs(i)), setting.ListValue(p.PathIDs(i))})
			}
		}
	}
	for i := range p.Units {
		if p.Units[i].Unit != nil && len(p.Units[i].Detach) > 0 {
			p.DetachingUnits = append(p.DetachingUnits, i)
		}
	}
	for _, i := range append(d.Altered, d.Fresh...) {
		u := &p.snapshot.Units[i]
		if before, known := was.UnitAt.Number(u.ID); !known || !sameDetached(was.Units[before].Detach, u.Detach) {
			b.detached = append(b.detached, p.Target(estate.Target{Kind: estate.ToUnit, ID: string(u.ID)}))
		}
	}
}

// noteShift notes the units that laptops of a moved unit left or entered.
func (b *builder) noteShift(was, is []int) {
	for _, pair := range [][2][]int{{was, is}, {is, was}} {
		for _, u := range pair[0] {
			if !slices.Contains(pair[1], u) {
				b.shiftedUnits[u] = true
			}
		}
	}
}

func (b *builder) dictionary() {
	was, p := b.was, b.next
	settingID := func(d *setting.Definition) setting.ID { return d.ID }
	d := intern.Compare(was.snapshot.Settings, p.snapshot.Settings, settingID, sameDefinition)
	p.SettingAt, p.bySetting, p.forced, p.index = was.SettingAt, was.bySetting, was.forced, was.index
	p.settings = slices.Clone(was.settings)
	if !d.Same || was == nothing {
		b.dictionaryAltered = len(d.Gone)+len(d.Fresh)+len(d.Altered) > 0
		p.SettingAt = was.SettingAt.With(d.Gone, intern.IDsAt(p.snapshot.Settings, d.Fresh, settingID))
		p.index = sync.OnceValue(func() *search.Index { return search.New(p.snapshot.Settings) })
		for len(p.settings) < int(p.SettingAt.N) {
			p.settings = append(p.settings, settingIndex{})
		}
		for _, id := range d.Gone {
			at := was.SettingAt.NumberOf(id)
			p.settings[at] = settingIndex{}
			b.settings[at] = true
		}
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			at := p.SettingAt.NumberOf(p.snapshot.Settings[i].ID)
			b.settings[at] = true
			p.settings[at] = settingIndex{}
		}
		for i := range p.snapshot.Settings {
			def := &p.snapshot.Settings[i]
			c := &p.settings[p.SettingAt.NumberOf(def.ID)]
			c.user, c.limited = def.Side == setting.UserSide, len(def.Supports) > 0
			known := c.Def != nil // as it was, in the new list
			c.Define(def, p.Gen.OutcomesOf(def.ID))
			if known {
				continue
			}
			c.area, c.support = def.Area, p.Gen.SupportOf(def)
			for _, f := range def.Forced {
				c.forced = append(c.forced, forcing{Forced: f, formula: p.Gen.Formula(f.When), outcome: c.Outcomes.Value(f.Value)})
			}
		}
		p.bySetting = sortedNumbers(
			len(p.settings),
			func(i int) bool { return p.settings[i].Def != nil },
			func(x, y int) int { return cmp.Compare(p.settings[x].Def.ID, p.settings[y].Def.ID) },
		)
		p.forced = slices.DeleteFunc(slices.Clone(p.bySetting), func(at int) bool { return len(p.settings[at].forced) == 0 })
		for _, at := range p.forced {
			c := &p.settings[at]
			c.forced = slices.Clone(c.forced)
			for i := range c.forced {
				f := &c.forced[i]
				f.looks, f.subjects, f.whole = p.looksOf(f.formula)
			}
			if len(d.Gone)+len(d.Fresh) > 0 { // it may read another setting under the same id
				b.settings[at] = true
			}
		}
	}
	checkID := func(c *estate.Check) estate.CheckID { return c.ID }
	checks := intern.Compare(was.snapshot.Checks, p.snapshot.Checks, checkID, sameCheck)
	if checks.Same && d.Same && was != nothing {
		p.checks, p.checkAt, p.byCheck = was.checks, was.checkAt, was.byCheck
		return
	}
	p.checkAt = was.checkAt.With(checks.Gone, intern.IDsAt(p.snapshot.Checks, checks.Fresh, checkID))
	p.checks = make([]check, p.checkAt.N)
	for i := range p.snapshot.Checks {
		c := &p.snapshot.Checks[i]
		p.checks[p.checkAt.NumberOf(c.ID)] = p.checkOf(c)
	}
	for _, i := range append(checks.Altered, checks.Fresh...) {
		b.checks[p.checkAt.NumberOf(p.snapshot.Checks[i].ID)] = true
	}
	for _, id := range checks.Gone {
		b.checks[was.checkAt.NumberOf(id)] = true
	}
	if len(d.Gone)+len(d.Fresh) > 0 {
		for at := range p.checks {
			b.checks[at] = true
		}
	}
	p.byCheck = sortedNumbers(
		len(p.checks),
		func(i int) bool { return p.checks[i].Check != nil },
		func(x, y int) int { return cmp.Compare(p.checks[x].ID, p.checks[y].ID) },
	)
}

// looksOf gives the settings that a formula reads, and whether it reads more.
func (p *Plan) looksOf(f *intern.Formula) (settings []int, subjects, whole bool) {
	f.Each(func(t *intern.Test) {
		whole = whole || t.Whole
		for _, l := range t.Looks {
			if l.Variable != "settings" {
				subjects = true
			} else if at, known := p.SettingAt.Number(setting.ID(l.Field)); known {
				settings = append(settings, at)
			}
		}
	})
	return settings, subjects || whole, whole
}

func (p *Plan) checkOf(c *estate.Check) check {
	out := check{Check: c, formula: p.Gen.Formula(c.When)}
	out.looks, out.subjects, out.whole = p.looksOf(out.formula)
	return out
}

func (b *builder) policiesOf() {
	was, p := b.was, b.next
	policyID := func(x *estate.Policy) estate.PolicyID { return x.ID }
	d := intern.Compare(was.snapshot.Policies, p.snapshot.Policies, policyID, samePolicy)
	p.policyAt, p.byPolicy = was.policyAt, was.byPolicy
	p.policies = slices.Clone(was.policies)
	if !d.Same {
		p.policyAt = was.policyAt.With(d.Gone, intern.IDsAt(p.snapshot.Policies, d.Fresh, policyID))
		for len(p.policies) < int(p.policyAt.N) {
			p.policies = append(p.policies, policy{})
		}
		for _, id := range d.Gone {
			at := was.policyAt.NumberOf(id)
			alteredEntries(b.edited, at, was.policies[at].entries)
			p.policies[at] = policy{}
			b.changes.policies[at] = true
		}
		for i := range p.snapshot.Policies {
			pol := &p.snapshot.Policies[i]
			p.policies[p.policyAt.NumberOf(pol.ID)].Policy = pol
		}
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			b.policy(&p.snapshot.Policies[i])
		}
		p.byPolicy = sortedNumbers(
			len(p.policies),
			func(i int) bool { return p.policies[i].Policy != nil },
			func(x, y int) int { return cmp.Compare(p.policies[x].ID, p.policies[y].ID) },
		)
	}
	b.retarget()
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
		if old.Priority != pol.Priority || old.Kind != pol.Kind {
			alteredEntries(b.edited, at, old.entries, entries)
		} else {
			alteredEntries(b.edited, at, without(old.entries, entries), without(entries, old.entries))
		}
		is.entries = entries
	}
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

// alteredEntries notes a policy under the settings of some of its entries.
func alteredEntries(bySetting map[int][]int, policy int, lists ...[]entry) {
	for _, list := range lists {
		for _, e := range list {
			if !slices.Contains(bySetting[e.setting], policy) {
				bySetting[e.setting] = append(bySetting[e.setting], policy)
			}
		}
	}
}

// entriesOf gives a policy's entries with the numbers of their settings. Entries for unknown settings are left out.
func (p *Plan) entriesOf(pol *estate.Policy) []entry {
	out := make([]entry, 0, len(pol.Entries))
	for i := range pol.Entries {
		if at, known := p.SettingAt.Number(pol.Entries[i].Setting); known {
			out = append(out, entry{at, &pol.Entries[i]})
		}
	}
	slices.SortFunc(out, func(x, y entry) int { return cmp.Compare(x.setting, y.setting) })
	return out
}

// resolveTargets gives a policy's audience with numbers in place of ids. It does not match laptops.
func (p *Plan) resolveTargets(pol *policy) {
	pol.audience = p.Audience(pol.Policy)
	pol.matches = make([][]bitset.Packed, len(pol.audience.Levels))
	for i := range pol.matches {
		pol.matches[i] = make([]bitset.Packed, p.Blocks())
	}
}

// otherTargets tells whether a target may name another object than in the plan before, or a unit at another depth.
func (b *builder) otherTargets() bool {
	return b.was != nothing && (b.movedUnits != nil || b.otherNumbers())
}

// otherNumbers tells whether objects that targets can name are new or gone.
func (b *builder) otherNumbers() bool {
	was, p := b.was, b.next
	return p.UnitAt != was.UnitAt || p.GroupAt != was.GroupAt || p.DeviceAt != was.DeviceAt || p.PersonAt != was.PersonAt
}

// retarget finds policies whose targets name other numbers or depths than before. If only depths differ, laptops outside of moved units
// keep their levels.
func (b *builder) retarget() {
	was, p := b.was, b.next
	if !b.otherTargets() {
		return
	}
	numbers := b.otherNumbers()
	elsewhere := func(t estate.Target) bool { return p.Target(t).At != was.Target(t).At }
	moved := func(t match.Target) bool {
		return t.Kind == estate.ToUnit && t.At != intern.None && Level(p.Units[t.At].Depth) != t.Level
	}
	for at := range p.policies {
		pol := &p.policies[at]
		if pol.Policy == nil || b.changes.policies[at] {
			continue
		}
		otherBound := pol.Within != "" && elsewhere(estate.Target{Kind: estate.ToUnit, ID: string(pol.Within)})
		others := numbers &&
			(otherBound || slices.ContainsFunc(pol.Audience.Include, elsewhere) || slices.ContainsFunc(pol.Audience.Exclude, elsewhere))
		if !others && !pol.audience.Names(moved) {
			continue
		}
		again := policy{Policy: pol.Policy}
		p.resolveTargets(&again)
		again.entries = pol.entries
		if others {
			b.changes.policies[at] = true
			alteredEntries(b.edited, at, pol.entries)
		} else {
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

// decisions builds the index of each setting: its entries in order of precedence, the exceptions of the day, the rulings.
func (b *builder) decisions() {
	was, p := b.was, b.next
	exceptions := intern.Compare(
		was.snapshot.Exceptions,
		p.snapshot.Exceptions,
		func(x *estate.Exception) estate.ExceptionID { return x.ID },
		sameException,
	)
	rulings := intern.Compare(
		was.snapshot.Rulings,
		p.snapshot.Rulings,
		func(r *estate.Ruling) estate.RulingID { return r.ID },
		func(x, y *estate.Ruling) bool { return *x == *y },
	)
	again := maps.Clone(b.levels) // by setting: policies whose entries must be ordered again
	for at, policies := range b.edited {
		for _, pol := range again[at] {
			if !slices.Contains(policies, pol) {
				policies = append(slices.Clip(policies), pol)
			}
		}
		again[at] = policies
	}
	if !exceptions.Same || was.snapshot.Day != p.snapshot.Day || b.otherTargets() || b.dictionaryAltered {
		b.takeExceptions()
	} else {
		p.excepted = was.excepted
	}
	if !rulings.Same || b.dictionaryAltered {
		b.takeRulings()
	}
	if was == nothing || b.dictionaryAltered {
		p.rankAll()
		return
	}
	settings := slices.Collect(maps.Keys(again))
	threads.Share(len(settings), func(mine iter.Seq[int]) {
		for i := range mine {
			if at := settings[i]; p.settings[at].Def != nil {
				p.rerank(at, again[at])
			}
		}
	})
}

// rankAll orders the entries of all settings by precedence.
func (p *Plan) rankAll() {
	sources := make([][]decide.Source, len(p.settings))
	for _, at := range p.byPolicy {
		for _, e := range p.policies[at].entries {
			sources[e.setting] = p.sourceOf(at, e, sources[e.setting])
		}
	}
	for at := range p.settings {
		if ix := &p.settings[at].Index; ix.Def != nil {
			ix.Rank(sources[at])
		} else {
			ix.Clear()
		}
	}
}

// rerank orders the entries of one setting again after entries or levels of some policies altered.
func (p *Plan) rerank(at int, altered []int) {
	var sources []decide.Source
	for _, pol := range altered {
		if i, found := p.policies[pol].entryAt(at); found {
			sources = p.sourceOf(pol, p.policies[pol].entries[i], sources)
		}
	}
	p.settings[at].Rerank(altered, sources)
}

// sourceOf adds the entry of a policy to the index of a setting, if the policy is active.
func (p *Plan) sourceOf(at int, e entry, to []decide.Source) []decide.Source {
	pol := &p.policies[at]
	if pol.State != estate.Active {
		return to
	}
	return append(to, decide.Source{Policy: at, ID: pol.ID, Priority: pol.Priority, Levels: pol.audience.Levels, Entry: e.Entry})
}

// takeExceptions orders the exceptions of the day so that the first that matches wins: the closest target, then the latest approval, then
// the lowest id.
func (b *builder) takeExceptions() {
	p := b.next
	type exempting struct {
		decide.Exception
		target match.Target
	}
	lists := map[int][]exempting{}
	for i := range p.snapshot.Exceptions {
		x := &p.snapshot.Exceptions[i]
		at, known := p.SettingAt.Number(x.Setting)
		t := p.Target(x.Target)
		if !x.CountsOn(p.snapshot.Day) || !known || t.At == intern.None {
			continue
		}
		outcome := intern.LeftUnset
		if !x.Unset {
			outcome = p.settings[at].Outcomes.Value(x.Value).Number
		}
		lists[at] = append(lists[at], exempting{decide.Exception{Exception: x, Outcome: outcome}, t})
	}
	p.excepted = slices.Sorted(maps.Keys(lists))
	for at := range p.settings {
		list, was := lists[at], &p.settings[at]
		slices.SortFunc(list, func(x, y exempting) int {
			return cmp.Or(cmp.Compare(y.target.Level, x.target.Level), cmp.Compare(y.ApprovedOn, x.ApprovedOn), cmp.Compare(x.ID, y.ID))
		})
		same := len(list) == len(was.Exceptions)
		var exceptions []decide.Exception
		var exempt []match.Target
		for i, x := range list {
			same = same && x.target.At == was.exempt[i].At && sameException(x.Exception.Exception, was.Exceptions[i].Exception)
			exceptions, exempt = append(exceptions, x.Exception), append(exempt, x.target)
		}
		if !same {
			b.settings[at] = true
		}
		was.Exceptions, was.exempt = exceptions, exempt
	}
}

func (b *builder) takeRulings() {
	p := b.next
	all := map[int]map[decide.Ruling]bool{}
	for _, r := range p.snapshot.Rulings {
		if at, known := p.SettingAt.Number(r.Setting); known {
			if all[at] == nil {
				all[at] = map[decide.Ruling]bool{}
			}
			all[at][decide.Ruling{Prefer: r.Prefer, Over: r.Over}] = true
		}
	}
	for at := range p.settings {
		if !maps.Equal(all[at], p.settings[at].Rulings) {
			b.settings[at] = true
		}
		p.settings[at].Rulings = all[at]
	}
}
