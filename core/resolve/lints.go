// This file finds what has no effect: entries, policies, groups and exceptions, and rules that
// fail.
//
// An entry that never wins, or that wins and could be left out without any setting coming out
// differently, is a leftover that misleads whoever reads the policy. To know this for certain, the
// estate is decided again without the entry. That is expensive, so a block is only decided for
// settings with an entry of which nothing is known yet (open), and recording stops as soon as an
// entry is known to do something.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// entryUse is what is known of one entry over all subjects. Once an entry is known to have an
// effect, nothing more is recorded. An entry has an effect if it wins somewhere, and if what would
// be in effect without it is another value somewhere. The second is costly to find, so recording
// stops once both are known.
type entryUse struct {
	devices      int
	wins, alters bool
	beside       map[int32]bool // policies
}

// doesSomething tells whether the entry is known to have an effect.
func (u *entryUse) doesSomething() bool { return u.wins && u.alters }

// linter records what each entry does, over the blocks that one thread looks at.
type linter struct {
	p       *Plan
	reached []bool
	uses    [][]entryUse // by policy, by entry
	failing []int        // by policy: laptops that it is for on which its condition fails
}

// linter gives a linter that has seen nothing.
func (p *Plan) linter() *linter {
	l := &linter{
		p:       p,
		reached: make([]bool, len(p.policies)),
		uses:    make([][]entryUse, len(p.policies)),
		failing: make([]int, len(p.policies)),
	}
	for at := range p.policies {
		l.uses[at] = make([]entryUse, len(p.policies[at].entries))
	}
	return l
}

// add merges what another linter recorded in other blocks.
func (l *linter) add(other *linter) {
	for at := range l.uses {
		l.reached[at] = l.reached[at] || other.reached[at]
		l.failing[at] += other.failing[at]
		for i := range l.uses[at] {
			mine, theirs := &l.uses[at][i], &other.uses[at][i]
			mine.devices += theirs.devices
			mine.wins, mine.alters = mine.wins || theirs.wins, mine.alters || theirs.alters
			for policy := range theirs.beside {
				mine.addBeside(policy)
			}
		}
	}
}

// addBeside records a policy that gives the same value where the entry wins.
func (u *entryUse) addBeside(beside int32) {
	if u.beside == nil {
		u.beside = map[int32]bool{}
	}
	u.beside[beside] = true
}

// conditions counts the subjects on which conditions of policies fail. Failures are counted by
// policy. A policy that is not active is not looked at, since its condition is never asked.
func (l *linter) conditions(w *worker) {
	for at := range l.p.policies {
		pol := &l.p.policies[at]
		if pol.audience.When == nil || pol.State != estate.Active {
			continue
		}
		w.Match(&pol.audience, failingCount{&l.failing[at]}, func(int, *bitset.Set) {})
	}
}

// failingCount counts the rows on which the condition of a policy fails.
type failingCount struct{ n *int }

// Not, Includes and Excludes are not counted: only a condition that fails is a finding.
func (failingCount) Not(outcome.Reason, *bitset.Set)     {}
func (failingCount) Includes(*match.Target, *bitset.Set) {}
func (failingCount) Excludes(*match.Target, *bitset.Set) {}

// Fails counts the rows on which the condition fails.
func (c failingCount) Fails(rows *bitset.Set) { *c.n += rows.Len() }

// Lints finds what has no effect. It looks at every active policy over every laptop with its owner
// and its further users. Of a further user only user-side settings count, since all others are
// decided for the owner. Findings come by policy, then setting; after them groups and exceptions,
// by id. The whole estate is decided again, once for each entry that may be redundant.
func (p *Plan) Lints() []outcome.Lint {
	l := p.linter()
	var guard sync.Mutex
	var all []*linter
	// Each thread records for itself; the records are merged afterwards.
	p.eachBlockParallel(p.Laptops(), func() func(w *worker) {
		mine := p.linter()
		// Only the list of linters is shared. Each linter belongs to one thread.
		guard.Lock()
		defer guard.Unlock()
		all = append(all, mine)
		return func(w *worker) {
			mine.watch(w, "")
			mine.conditions(w)
		}
	})
	// Records of threads are merged in any order: counts add up, and the rest is joined by "or".
	for _, one := range all {
		l.add(one)
	}
	// Further users are matched here: the plan has matches only of laptops with their owners.
	p.eachBlock(p.furtherUsers(), func(w *worker) {
		for at := range p.policies {
			pol := &p.policies[at]
			for levelAt := range pol.audience.Levels {
				// No rows yet. Match gives the levels that have some.
				*w.matchBuffer(at, levelAt) = levelMatch{epoch: w.Epoch}
			}
			w.Match(&pol.audience, nil, func(levelAt int, rows *bitset.Set) {
				all := w.Keep()
				all.Copy(rows)
				w.match(at, levelAt).all = all
			})
		}
		l.watch(w, setting.UserSide)
	})
	var lints []outcome.Lint
	for _, at := range p.byPolicy {
		if p.policies[at].Baseline != "" {
			continue // what it is for has a page of its own
		}
		pol := &p.policies[at]
		if pol.State != estate.Active {
			continue
		}
		if l.failing[at] > 0 {
			lints = append(lints, outcome.Lint{Kind: outcome.FailingRule, Policy: pol.ID, Devices: l.failing[at]})
		}
		// A policy that applies to nobody has no entries that win: one finding is enough.
		if !l.reached[at] {
			lints = append(lints, outcome.Lint{Kind: outcome.ReachesNobody, Policy: pol.ID})
			continue
		}
		for _, s := range p.bySetting { // entries are by number, findings by id
			i, has := pol.entryAt(s)
			if !has {
				continue
			}
			use := &l.uses[at][i]
			switch {
			// An entry that never wins is reported as that alone, and one that wins without
			// altering anything as redundant.
			case !use.wins:
				lints = append(lints, outcome.Lint{Kind: outcome.NeverWins, Policy: pol.ID, Setting: pol.entries[i].Setting, Devices: use.devices})
			case !use.alters:
				beside := make([]string, 0, len(use.beside))
				for other := range use.beside {
					beside = append(beside, string(p.policies[other].ID))
				}
				slices.Sort(beside)
				lints = append(lints, outcome.Lint{Kind: outcome.Redundant, Policy: pol.ID, Setting: pol.entries[i].Setting, Beside: beside,
					Devices: use.devices})
			}
		}
	}
	return append(lints, p.lintObjects()...)
}

// lintObjects finds groups whose rule fails or that nothing names, and exceptions that are over.
func (p *Plan) lintObjects() (lints []outcome.Lint) {
	// named are the groups that something names: a policy, an exception, or another group. A group
	// that detaches something has an effect by itself.
	named := map[int]bool{}
	name := func(list []estate.Target) {
		for _, t := range list {
			if at, known := p.GroupAt.Number(estate.GroupID(t.ID)); known && t.Kind == estate.ToGroup {
				named[at] = true
			}
		}
	}
	for i := range p.snapshot.Policies {
		name(p.snapshot.Policies[i].Audience.Include)
		name(p.snapshot.Policies[i].Audience.Exclude)
	}
	for i := range p.snapshot.Exceptions {
		name([]estate.Target{p.snapshot.Exceptions[i].Target})
	}
	for at := range p.Groups {
		// A member group has an effect through the group that lists it.
		for _, member := range p.Groups[at].Nested {
			named[member] = true
		}
		if p.Groups[at].Group != nil && len(p.Groups[at].Detach) > 0 {
			named[at] = true
		}
	}
	byGroup := sortedNumbers(
		len(p.Groups),
		func(i int) bool { return p.Groups[i].Group != nil },
		func(x, y int) int { return cmp.Compare(p.Groups[x].ID, p.Groups[y].ID) },
	)
	for _, at := range byGroup {
		g := &p.Groups[at]
		if n := p.failures()[at]; n > 0 {
			lints = append(lints, outcome.Lint{Kind: outcome.FailingRule, Group: g.ID, Devices: n})
		}
		if !named[at] {
			lints = append(lints, outcome.Lint{Kind: outcome.UnusedGroup, Group: g.ID})
		}
	}
	var expired []outcome.Lint
	for i := range p.snapshot.Exceptions {
		// An exception counts on its last day, and is over on the next.
		if x := &p.snapshot.Exceptions[i]; x.Until < p.snapshot.Day {
			expired = append(expired, outcome.Lint{Kind: outcome.Expired, Exception: x.ID, Setting: x.Setting})
		}
	}
	slices.SortFunc(expired, func(a, b outcome.Lint) int { return cmp.Compare(a.Exception, b.Exception) })
	return append(lints, expired...)
}

// entryAt gives the place of a policy's entry for a setting, by binary search; false where it has
// none.
func (pol *policy) entryAt(setting int) (int, bool) {
	return slices.BinarySearchFunc(pol.entries, setting, func(e entry, s int) int { return e.setting - s })
}

// furtherUsers is the table of laptops with people who sign in besides the owner: a row for each
// pair. Rows are in blocks like those of laptops, but their numbers are those of this table alone.
func (p *Plan) furtherUsers() *match.Subjects {
	var devices, people []int32
	for at := range p.Devices.Len() {
		is := p.Devices.At(at)
		if is.Device == nil {
			continue
		}
		// The owner is the subject of the laptop's own row, and is not repeated here.
		for _, u := range is.Users {
			if who, known := p.PersonAt.Number(u); known && who != is.OwnerAt {
				devices, people = append(devices, int32(at)), append(people, int32(who))
			}
		}
	}
	// Row i of this table is the pair (devices[i], people[i]), in blocks as everywhere.
	r := &match.Subjects{Device: slices.Collect(slices.Chunk(devices, bitset.Rows)), Person: slices.Collect(slices.Chunk(people, bitset.Rows))}
	for _, block := range r.Device {
		var rows bitset.Set
		rows.Fill(len(block))
		r.Alive = append(r.Alive, rows.Pack())
	}
	return r
}

// watch records what each entry does on the rows of a block. With a side, only settings of that
// side are looked at.
func (l *linter) watch(w *worker, side setting.Side) {
	p := l.p
	for at := range p.policies {
		for levelAt := range p.policies[at].audience.Levels {
			if a := w.match(at, levelAt); a.all != nil {
				l.reached[at] = true
			}
		}
	}
	for _, at := range p.bySetting {
		c := &p.settings[at]
		if side != "" && c.Def.Side != side {
			continue
		}
		if l.open(w, at) {
			l.entries(w, at)
		}
	}
}

// open tells whether the block has an entry for a setting that is not yet known to have an effect.
// If not, the setting need not be decided in this block.
func (l *linter) open(w *worker, at int) bool {
	for _, key := range l.p.settings[at].Keys {
		policy, levelAt := decide.Unkey(key)
		if entry, _ := l.p.policies[policy].entryAt(at); !l.uses[policy][entry].doesSomething() && w.match(policy, levelAt).all != nil {
			return true
		}
	}
	return false
}

// emissions is a copy of what was emitted, kept while something else is decided.
type emissions struct {
	numbers []int32
	sets    []*bitset.Set
}

// takeEmissions copies what the decider emitted, and empties it.
func (w *worker) takeEmissions() (out emissions) {
	// The decider's sets are used again by the next decision. They are copied into sets put aside.
	numbers, sets := w.Out.Lists()
	for i := range numbers {
		s := w.Aside()
		s.Copy(sets[i])
		out.numbers, out.sets = append(out.numbers, numbers[i]), append(out.sets, s)
	}
	w.Out.Reset()
	return out
}

// same tells whether a setting comes out the same twice on some rows: the same outcomes, each on
// the same rows of these. Outcomes of other rows do not matter.
func (w *worker) same(a, b emissions, on *bitset.Set) bool {
	mark := w.Mark()
	defer w.Release(mark)
	x, y := w.Temp(), w.Temp()
	// of gives the rows of an outcome; none where it did not come out.
	of := func(e emissions, number int32, into *bitset.Set) {
		into.Clear()
		if at := slices.Index(e.numbers, number); at >= 0 {
			into.SetAnd(e.sets[at], on)
		}
	}
	// An outcome of either list must have the same rows in the other. Outcomes that only one of
	// them has are compared with an empty set.
	for _, e := range []emissions{a, b} {
		for _, number := range e.numbers {
			of(a, number, x)
			of(b, number, y)
			if !x.Equal(y) {
				return false
			}
		}
	}
	return true
}

// entries records what the entries for one setting do on the rows of the block.
//
// An entry has an effect where the setting comes out differently without it. To find that, the
// setting is decided a second time with all candidates but those of the entry's policy. This is
// done only on rows where the entry won, is part of a conflict, or lost by a ruling: an entry that
// lost to a level, a priority, a lock or a stricter value has no effect, since what beat it also
// wins without it.
func (l *linter) entries(w *worker, at int) {
	c := &l.p.settings[at]
	w.DropAside()
	seen := w.observe(c, &w.Dom)
	in := seen.in
	// before is how the setting comes out with every entry.
	before := w.takeEmissions()
	mark := w.Mark()
	rows := w.Temp()
	for k, s := range in {
		i, _ := l.p.policies[s.Policy].entryAt(at)
		use, fates := &l.uses[s.Policy][i], &seen.became[k]
		if use.doesSomething() {
			continue
		}
		// A policy may be a candidate at several levels. The laptops of all of them are counted.
		use.devices += w.reachedBy(c, &s, &w.Dom).Len()
		// rows are those on which the entry may have an effect.
		rows.Clear()
		for _, set := range []*bitset.Set{fates[outcome.Won], fates[outcome.Clashing], fates[outcome.RuledOut]} {
			if set != nil {
				rows.Or(set)
			}
		}
		use.wins = use.wins || fates[outcome.Won] != nil || fates[outcome.Clashing] != nil
		if rows.Empty() || use.alters {
			continue
		}
		// The setting without the policy.
		rest := slices.DeleteFunc(slices.Clone(in), func(o decide.Candidate) bool { return o.Policy == s.Policy })
		w.Out.Reset()
		w.decide(c, rest, rows)
		if use.alters = !w.same(before, w.takeEmissions(), rows); use.alters || fates[outcome.Won] == nil {
			continue
		}
		// The entry wins without altering anything here: another policy gives the same value.
		for o, other := range in {
			if set := seen.became[o][outcome.Won]; set != nil && other.Policy != s.Policy && set.Meets(fates[outcome.Won]) {
				use.addBeside(other.Policy)
			}
		}
	}
	w.Release(mark)
}
