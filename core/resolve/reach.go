// This file answers who gets something: the reach of an audience, and what does not arrive since a
// place is detached.
//
// Reach accounts for every laptop of the estate: it gets the policy, or it is in the set of the
// reason why not. A laptop is in one of these sets at most, by the order in which the matcher asks
// (platform, within, include, exclude, condition, offer). The editor shows the numbers while
// somebody types an audience, so the policy need not be in the plan, and what was found once is
// kept.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// Reach says whom an audience reaches among all laptops and their owners, and what each of its
// targets does.
type Reach struct {
	Gets        Devices
	Excluded    Devices // left out by name
	Condition   Devices // included, but the condition is not true
	NotTaken    Devices // the policy is offered to them, and nobody took it
	Platform    Devices // on another platform
	Outside     Devices // outside of the unit that bounds the policy
	NotIncluded Devices
	Unsupported Devices // among Gets: supports none of the policy's settings
	Unknown     Devices // among Gets: of some setting it is not known whether the laptop supports it
	People      int     // owners among Gets

	ByInclude []Count[estate.Target] // laptops on its platforms that each include matches
	ByExclude []Count[estate.Target] // of those that are included, how many each exclude takes out
	Errors    map[string]int         // laptops on which the condition fails, by the error
	Missing   []estate.Target        // targets that name nothing; the rest is as if they were not there
}

// Reach tests one policy of the plan as if it were active. ok is false when the plan has no such
// policy.
func (p *Plan) Reach(id estate.PolicyID) (r *Reach, ok bool) {
	at, ok := p.policyAt.Number(id)
	if !ok {
		return nil, false
	}
	return p.ReachOf(p.policies[at].Policy), true
}

// Applies gives the laptops to which a policy of the plan applies.
//
// It reads the matches of the plan. It costs nothing per laptop where the policy applies at one
// level. One level is the usual case: its list serves as it is.
func (p *Plan) Applies(id estate.PolicyID) Devices {
	at, known := p.policyAt.Number(id)
	if !known {
		return Devices{}
	}
	out := Devices{plan: p, blocks: make([]bitset.Packed, p.Blocks())}
	levels := p.policies[at].matches
	if len(levels) == 1 {
		out.blocks = levels[0]
		return out
	}
	var rows bitset.Set
	for b := range out.blocks {
		rows.Clear()
		for _, a := range levels {
			a[b].OrInto(&rows)
		}
		out.blocks[b] = rows.Pack()
	}
	return out
}

// ReachOf tests a policy as if it were active, whether or not it is in the plan. The result must not
// be altered.
func (p *Plan) ReachOf(pol *estate.Policy) *Reach {
	// Entries for settings that the dictionary does not have are left out.
	entries := p.entriesOf(pol)
	definitions := make([]*setting.Definition, len(entries))
	for i, e := range entries {
		definitions[i] = p.settings[e.setting].Def
	}
	if kept := p.keptReach(pol, definitions); kept != nil {
		return kept
	}
	out := p.findReach(pol, entries)
	p.keepReach(pol, definitions, out)
	return out
}

// findReach is ReachOf for a policy of which nothing is kept.
func (p *Plan) findReach(pol *estate.Policy, entries []entry) *Reach {
	out := &Reach{Errors: map[string]int{}}
	// A target that was removed or is not there yet matches nobody. It is told, so that nobody
	// takes its 0 for an answer.
	for _, t := range slices.Concat(pol.Audience.Include, pol.Audience.Exclude) {
		if p.Target(t).At == intern.None {
			out.Missing = append(out.Missing, t)
		}
	}
	// The audience is resolved here and not taken from the plan: the policy may be a draft that the
	// plan does not have.
	audience := p.Audience(pol)
	audience.Active = true
	seen := &reaching{out: out, policy: pol, when: audience.When, includes: map[estate.Target]int{}, excludes: map[estate.Target]int{}}
	// Sets are of this plan from the start, so that counting an empty one needs no special case.
	for _, to := range out.all() {
		to.plan = p
	}
	p.eachBlock(p.Laptops(), func(w *worker) {
		// eachBlock runs on one thread here, so one observer serves all blocks.
		seen.worker = w
		gets := w.Keep()
		w.Match(&audience, seen, func(_ int, rows *bitset.Set) { gets.Or(rows) })
		out.Gets.add(w.Block, gets)
		seen.support(gets, entries)
	})
	// Targets are listed in the order of the audience, those that match nobody with 0.
	count := func(targets []estate.Target, of map[estate.Target]int) (list []Count[estate.Target]) {
		for _, t := range targets {
			if p.Target(t).At != intern.None {
				list = append(list, Count[estate.Target]{t, of[t]})
			}
		}
		return list
	}
	out.ByInclude, out.ByExclude = count(pol.Audience.Include, seen.includes), count(pol.Audience.Exclude, seen.excludes)
	out.People = len(out.Gets.owners())
	return out
}

// reaching is told why a policy does not apply, block by block.
type reaching struct {
	worker             *worker
	out                *Reach
	policy             *estate.Policy
	when               *intern.Formula
	includes, excludes map[estate.Target]int
}

// Not counts the laptops to which the policy does not apply for a reason.
func (r *reaching) Not(why outcome.Reason, rows *bitset.Set) {
	// Not active cannot occur: the audience was made active for the question.
	to := map[outcome.Reason]*Devices{
		outcome.OnPlatform: &r.out.Platform, outcome.Outside: &r.out.Outside, outcome.NotIncluded: &r.out.NotIncluded,
		outcome.Excluded:    &r.out.Excluded,
		outcome.OnCondition: &r.out.Condition, outcome.NotTaken: &r.out.NotTaken,
	}
	to[why].add(r.worker.Block, rows)
}

// Includes and Excludes count the laptops that a target matches.
func (r *reaching) Includes(t *match.Target, rows *bitset.Set) { r.includes[t.Target] += rows.Len() }

// Excludes counts the laptops that an exclude takes out.
func (r *reaching) Excludes(t *match.Target, rows *bitset.Set) { r.excludes[t.Target] += rows.Len() }

// Fails counts the laptops on which the condition fails, by the text of the error.
func (r *reaching) Fails(rows *bitset.Set) {
	r.worker.Errors(r.when, r.policy.Audience.When, rows, func(text string, rows *bitset.Set) { r.out.Errors[text] += rows.Len() })
}

// support finds those of the rows that get the policy which support none of its settings, and those
// of which it is not known whether they support one.
func (r *reaching) support(gets *bitset.Set, entries []entry) {
	w := r.worker
	if len(entries) == 0 || gets.Empty() {
		return
	}
	mark := w.Mark()
	defer w.Release(mark)
	none, lacking, here := w.Temp(), w.Temp(), w.Temp()
	// A laptop that supports one of the settings is not unsupported.
	none.Copy(gets)
	for i := range entries {
		of := w.lacking(&w.plan.settings[entries[i].setting])
		lacking.Clear()
		for _, who := range of.By {
			if who != nil {
				lacking.Or(who)
			}
		}
		none.And(lacking)
		if of.Unknown != nil && here.SetAnd(of.Unknown, gets) {
			r.out.Unknown.add(w.Block, here)
		}
	}
	r.out.Unsupported.add(w.Block, none)
}

// owners gives the numbers of the owners of some laptops, each once, in no order.
func (d Devices) owners() []int32 {
	if d.plan == nil {
		return nil
	}
	// One person may own several of the laptops.
	seen := make([]bool, d.plan.People.Len())
	var out []int32
	d.each(func(at int) {
		if o := *d.plan.Owner.At(at); o != intern.None && !seen[o] {
			seen[o] = true
			out = append(out, o)
		}
	})
	return out
}

// Owners lists the owners of some laptops, by id.
func (d Devices) Owners() []estate.PersonID {
	numbers := d.owners()
	out := make([]estate.PersonID, len(numbers))
	for i, at := range numbers {
		out[i] = d.plan.People.At(int(at)).ID
	}
	slices.Sort(out)
	return out
}

// Matching gives the devices that a target matches by themselves or through their owners. It is
// empty where the target names nothing of the snapshot.
func (p *Plan) Matching(t estate.Target) Devices {
	at := p.Target(t)
	if at.At == intern.None {
		return Devices{}
	}
	found := Devices{plan: p}
	p.eachBlock(p.Laptops(), func(w *worker) {
		if rows := w.Target(&at); rows != nil {
			found.add(w.Block, rows)
		}
	})
	return found
}

// Dropped is an entry that does not arrive at a place since its laptops are detached for its kind
// of policy.
type Dropped struct {
	Policy  estate.PolicyID
	Setting setting.ID
	Value   setting.Value
	Devices int
}

// Dropped lists the entries that laptops of a target do not get because they, or a unit or group
// that they are in, stopped inheriting. Entries come by policy and setting. It answers what would
// arrive if nothing were detached.
func (p *Plan) Dropped(t estate.Target) (out []Dropped) {
	at := p.Target(t)
	if at.At == intern.None || !p.AnyDetached() {
		return nil
	}
	// An entry of a policy does not arrive on laptops that are detached for its kind of policy or
	// for the area of its setting. Sets are gathered for each such pair.
	type part struct {
		policy int
		area   string // where some place detaches it, else empty
	}
	found := newGatherer[part](p)
	// Areas that no place detaches need not be told apart: all entries for them have the same
	// laptops.
	areaOf := func(setting int) string {
		if area := p.settings[setting].area; p.DetachedAreas[area] {
			return area
		}
		return ""
	}
	p.eachBlock(p.Laptops(), func(w *worker) {
		place := w.Target(&at)
		if place == nil {
			return
		}
		mark := w.Mark()
		defer w.Release(mark)
		here := w.Temp()
		for i := range p.policies {
			pol := &p.policies[i]
			for a := range pol.matches {
				match := w.match(i, a)
				if match.all == nil {
					continue
				}
				// Laptops are split once for each area, not once for each entry.
				var seen []string
				for _, e := range pol.entries {
					area := areaOf(e.setting)
					if slices.Contains(seen, area) {
						continue
					}
					seen = append(seen, area)
					// split gives the laptops of the match that inherit, and those that do not.
					if _, detached := w.split(match, pol.Kind, area, pol.audience.Levels[a]); detached != nil &&
						here.SetAnd(detached, place) {
						found.add(part{i, area}, w.Block, here)
					}
				}
			}
		}
	})
	for of := range found.sets {
		pol := &p.policies[of.policy]
		for _, e := range pol.entries {
			// Locked entries and lists that add up arrive in spite of detaching.
			if areaOf(e.setting) == of.area && !e.Lock && !p.settings[e.setting].Inherited() {
				out = append(out, Dropped{pol.ID, e.Entry.Setting, e.Value, found.devices(of).Len()})
			}
		}
	}
	slices.SortFunc(out, func(a, b Dropped) int {
		return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Setting, b.Setting))
	})
	return out
}

// Matches tells whether a target matches a device with its owner. One laptop is a subject: its row
// is 0.
func (p *Plan) Matches(t estate.Target, id estate.DeviceID) bool {
	at := p.Target(t)
	dev, known := p.DeviceAt.Number(id)
	if at.At == intern.None || !known {
		return false
	}
	s := p.subject(dev, p.Devices.At(dev).OwnerAt)
	defer s.done()
	return s.Target(&at) != nil && s.Target(&at).Has(0)
}
