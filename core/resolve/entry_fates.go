// This file counts the fates of every policy's entry for a setting over laptops.
//
// A candidate has one fate on each laptop that it reaches: it wins, or something beats it (see
// outcome.Fate). The fates are sets of rows of a block, as the decider reports them to an observer;
// here they are counted. What has been counted is kept (kept_answers.go), since the console asks
// for the same numbers on several pages.
//
// The file also answers which laptops lack support of a setting, on which laptops a value is
// forced, and on which laptops each policy's value won.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

// EntryFates is the fates of one policy's entry for a setting, counted over laptops. It answers
// "what becomes of what I write?": on how many laptops it is in effect, and what beats it on the
// others. The fates add up to Among.
type EntryFates struct {
	Policy  estate.PolicyID
	Value   setting.Value
	Locked  bool
	Devices int                  // laptops to which it brings the setting, and that support it
	Among   int                  // of those, the ones that were asked about
	Fates   map[outcome.Fate]int // what becomes of it on these
	Beside  Beside
}

// Beside counts, of the laptops that were asked about, those on which two policies' entries for a
// setting meet: the one whose EntryFates it is part of, and the one that it is seen beside.
type Beside struct {
	Both     int // both are in effect: their values are equal, or put together
	Conflict int // they conflict with each other
	Over     int // the first is in effect, the one that it is seen beside is not
	Under    int // the one that it is seen beside is in effect, the first is not
}

// EntryFates gives the fates of the entries for a setting by policy, in the order of ids. Fates are
// counted on some laptops, Devices on all. Each entry is seen beside the entry of one policy;
// without its id, or where it does not set the setting, nothing is counted of that.
func (p *Plan) EntryFates(id setting.ID, among Devices, beside estate.PolicyID) []EntryFates {
	return p.FatesBySetting([]setting.ID{id}, among, beside)[0]
}

// FatesBySetting gives for each setting what EntryFates gives. The blocks are looked at in turn,
// each for all of the settings: the laptops of a policy are looked up once and not once for each
// setting.
func (p *Plan) FatesBySetting(ids []setting.ID, among Devices, beside estate.PolicyID) [][]EntryFates {
	out := make([][]EntryFates, len(ids))
	indices := make([]*settingIndex, len(ids)) // of those that must be counted
	for i, id := range ids {
		if at, known := p.settingAt.Number(id); known {
			if out[i], known = p.keptFates(fateQuestion{id, beside}, &p.settings[at], among); !known {
				indices[i] = &p.settings[at]
			}
		}
	}
	// Everything was known already.
	if !slices.ContainsFunc(indices, func(c *settingIndex) bool { return c != nil }) {
		return out
	}
	other := int32(-1) // the policy that all are seen beside
	if at, known := p.policyAt.Number(beside); known {
		other = int32(at)
	}
	// Each thread counts for itself; the counts are added up in the end.
	var threads []*fateCounter
	var lock sync.Mutex
	p.eachBlockParallel(p.Laptops(), func() func(*worker) {
		mine := newFateCounter(indices, other)
		lock.Lock()
		threads = append(threads, mine)
		lock.Unlock()
		return func(w *worker) { mine.block(w, among) }
	})
	for i, c := range indices {
		if c != nil {
			out[i] = p.entryFates(c, i, threads)
			p.keepFates(fateQuestion{ids[i], beside}, c, among, out[i])
		}
	}
	return out
}

// fateCount counts laptops of one ranked entry: an entry of a policy that applies at three levels
// has three. Counts are kept by rank and summed up by policy at the end, so that counting needs no
// lookups by policy.
type fateCount struct {
	devices, among int
	fates          [outcome.Fates]int
	beside         Beside
}

// fateCounter counts for one thread.
type fateCounter struct {
	indices []*settingIndex // nil: no such setting
	counts  [][]fateCount   // by setting, by rank
	other   int32           // the policy that all are seen beside; below 0: none
}

// newFateCounter gives a counter that counted nothing.
func newFateCounter(indices []*settingIndex, other int32) *fateCounter {
	f := &fateCounter{indices, make([][]fateCount, len(indices)), other}
	for i, c := range indices {
		if c != nil {
			f.counts[i] = make([]fateCount, len(c.Ranked))
		}
	}
	return f
}

// block counts the laptops of the worker's block, with separate counts for those of among.
func (f *fateCounter) block(w *worker, among Devices) {
	// asked: the laptops of the block that are asked about. Whom entries reach is counted on all
	// laptops, fates on these.
	asked := w.Keep()
	among.block(w.Block).Into(asked)
	for i, c := range f.indices {
		if c == nil {
			continue
		}
		// Observations live in sets put aside, which are used again for the next setting.
		w.DropAside()
		here := w.Aside()
		// An entry reaches a laptop if its policy applies there and the laptop supports the
		// setting. s.Rank is the place of the entry in the order of precedence, by which counts are
		// kept.
		for _, s := range w.candidates(c, &w.Dom) {
			is := &f.counts[i][s.Rank]
			rows := w.reachedBy(c, &s, &w.Dom)
			is.devices += rows.Len()
			here.SetAnd(rows, asked)
			is.among += here.Len()
		}
		if asked.Empty() {
			continue
		}
		// The decision is made once more, for the laptops asked about, with an observer that
		// records the fate of each candidate.
		seen := w.observe(c, asked)
		for k := range seen.became {
			// A candidate has one fate on each laptop, so each laptop is counted once.
			fates := &f.counts[i][seen.in[k].Rank].fates
			for fate, rows := range seen.became[k] {
				if rows != nil {
					fates[fate] += rows.Len()
				}
			}
		}
		if f.other >= 0 {
			f.beside(w, seen, f.counts[i])
		}
	}
}

// beside counts where the other entries meet those of the policy that they are seen beside. Two
// entries meet on the laptops that have both; what each became there decides under which count they
// fall.
func (f *fateCounter) beside(w *worker, seen *observed, counts []fateCount) {
	mark := w.Mark()
	defer w.Release(mark)
	// Of that policy, which may apply at several levels: where it is in effect, where it conflicts,
	// and where it is neither.
	won, conflicts, beaten, here := w.Temp(), w.Temp(), w.Temp(), w.Temp()
	for _, set := range []*bitset.Set{won, conflicts, beaten} {
		set.Clear()
	}
	for k, c := range seen.in {
		if c.Policy != f.other {
			continue
		}
		for fate, rows := range seen.became[k] {
			switch {
			case rows == nil:
			case outcome.Fate(fate) == outcome.Won:
				won.Or(rows)
			case outcome.Fate(fate) == outcome.Clashing:
				conflicts.Or(rows)
			default:
				beaten.Or(rows)
			}
		}
	}
	if won.Empty() && conflicts.Empty() && beaten.Empty() {
		return
	}
	for k, c := range seen.in {
		if c.Policy == f.other {
			continue
		}
		// What this entry became is intersected with what the other one became. A row is in one
		// fate of each, so that no laptop is counted twice.
		count := &counts[c.Rank].beside
		for fate, rows := range seen.became[k] {
			switch {
			case rows == nil:
			case outcome.Fate(fate) == outcome.Won:
				here.SetAnd(rows, won)
				count.Both += here.Len()
				here.SetAnd(rows, beaten)
				count.Over += here.Len()
			case outcome.Fate(fate) == outcome.Clashing: // a laptop has one conflict of a setting
				here.SetAnd(rows, conflicts)
				count.Conflict += here.Len()
			default:
				here.SetAnd(rows, won)
				count.Under += here.Len()
			}
		}
	}
}

// entryFates sums up what the threads counted for the setting at a place of their lists.
func (p *Plan) entryFates(c *settingIndex, at int, threads []*fateCounter) []EntryFates {
	by := map[int32]*EntryFates{}
	for rank := range c.Ranked {
		var sum fateCount
		for _, t := range threads {
			// The counts of all threads are added up.
			count := &t.counts[at][rank]
			sum.devices += count.devices
			sum.among += count.among
			for fate := range count.fates {
				sum.fates[fate] += count.fates[fate]
			}
			sum.beside.add(count.beside)
		}
		// An entry that reaches nobody is left out: it has no fates.
		if sum.devices == 0 {
			continue
		}
		// Entries at several levels are one entry of the policy.
		ranked := &c.Ranked[rank]
		is := by[ranked.Policy]
		if is == nil {
			is = &EntryFates{Policy: p.policies[ranked.Policy].ID, Value: c.Entries[rank].Value, Locked: ranked.Lock, Fates: map[outcome.Fate]int{}}
			by[ranked.Policy] = is
		}
		is.Devices += sum.devices
		is.Among += sum.among
		is.Beside.add(sum.beside)
		for fate, n := range sum.fates {
			if n > 0 {
				is.Fates[outcome.Fate(fate)] += n
			}
		}
	}
	// Entries come in order of precedence, policies are listed by id.
	out := make([]EntryFates, 0, len(by))
	for _, s := range by {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b EntryFates) int { return cmp.Compare(a.Policy, b.Policy) })
	return out
}

// add adds the counts of other laptops.
func (b *Beside) add(c Beside) {
	b.Both += c.Both
	b.Conflict += c.Conflict
	b.Over += c.Over
	b.Under += c.Under
}

// Forced gives the laptops on which a setting has a forced value instead of the decided one; none
// where the setting is not known or has no forced values.
func (w *EstateResolution) Forced(id setting.ID) Devices {
	at, known := w.plan.settingAt.Number(id)
	if !known || len(w.plan.settings[at].forced) == 0 {
		return Devices{}
	}
	// forcedRows gives the rows of a block whose decided value was replaced by a forced one.
	found := Devices{plan: w.plan}
	w.plan.eachBlock(w.plan.Laptops(), func(k *worker) { found.add(k.Block, w.forcedRows(k, at, k.Block)) })
	return found
}

// Lacking gives the laptops that do not support a setting, by the first reason: another platform, an
// older version, another edition, or something that the laptop cannot do. It is nil where every
// laptop supports it.
func (p *Plan) Lacking(id setting.ID) map[setting.Unsupported]Devices {
	kept, limited := p.support(id)
	if !limited {
		return nil
	}
	out := make(map[setting.Unsupported]Devices, len(kept.by))
	for why, devices := range kept.by {
		out[why] = devices.On(p)
	}
	return out
}

// SupportUnknown gives the laptops of which it is not known whether they support a setting: its
// condition on what the laptop can do fails there. They count as supported.
func (p *Plan) SupportUnknown(id setting.ID) Devices {
	// Only conditions on what a laptop can do (support.Needs) may fail. Platform, version and
	// edition are always known.
	if at, there := p.settingAt.Number(id); !there || len(p.settings[at].support.Needs) == 0 {
		return Devices{}
	}
	kept, _ := p.support(id)
	return kept.unknown.On(p)
}

// support finds the laptops that do not support a setting. limited is false where every laptop does.
func (p *Plan) support(id setting.ID) (out keptLacking, limited bool) {
	at, there := p.settingAt.Number(id)
	if !there || len(p.settings[at].Def.Supports) == 0 {
		return out, false
	}
	// Support depends on the definition and the laptops alone. The answer serves later plans too,
	// as long as both are the same.
	def := p.settings[at].Def
	if out, known := p.keptLacking(def); known {
		return out, true
	}
	found, unknown := newGatherer[setting.Unsupported](p), Devices{plan: p}
	p.eachBlock(p.Laptops(), func(w *worker) {
		lacking := w.lacking(&p.settings[at])
		// A laptop that lacks support for several reasons is in the set of the first.
		for number, why := range setting.Unsupporteds {
			if rows := lacking.By[number]; rows != nil {
				found.add(why, w.Block, rows)
			}
		}
		if lacking.Unknown != nil {
			unknown.add(w.Block, lacking.Unknown)
		}
	})
	// What is kept must not hold the plan alive, so sets are kept without it (Bare) and get a plan
	// again when they are asked for (On).
	out = keptLacking{p.ground(), def, map[setting.Unsupported]Devices{}, unknown.Bare()}
	for why := range found.sets {
		out.by[why] = found.devices(why).Bare()
	}
	p.keepLacking(out)
	return out, true
}

// Winners gives, by policy, the laptops among some on which the policy's entry for a setting won,
// before any forcing.
func (p *Plan) Winners(id setting.ID, among Devices) map[estate.PolicyID]Devices {
	at, known := p.settingAt.Number(id)
	if !known {
		return nil
	}
	found := newGatherer[estate.PolicyID](p)
	p.eachBlock(p.Laptops(), func(w *worker) {
		// dom: the laptops of the block that were asked about and are there.
		dom := w.Keep()
		among.block(w.Block).Into(dom)
		dom.And(&w.Dom)
		if dom.Empty() {
			return
		}
		w.DropAside()
		seen := w.observe(&p.settings[at], dom)
		for k := range seen.in {
			// Several policies may have won on the same laptop, with equal values or with values
			// that are put together.
			if won := seen.became[k][outcome.Won]; won != nil {
				found.add(p.settings[at].Entries[seen.in[k].Rank].PolicyID, w.Block, won)
			}
		}
	})
	out := make(map[estate.PolicyID]Devices, len(found.sets))
	for policy := range found.sets {
		out[policy] = found.devices(policy)
	}
	return out
}
