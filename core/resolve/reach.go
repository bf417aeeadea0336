// This file answers who gets something: the reach of an audience, who a group would have, and why somebody is in one.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Reach says whom an audience reaches among all laptops and their owners.
type Reach struct {
	Gets        Devices
	Excluded    Devices // left out by name
	Condition   Devices // included, but the condition is not true
	Platform    Devices // on another platform
	NotIncluded Devices
	Unsupported Devices // among Gets: supports none of the policy's settings
	People      int     // owners among Gets
}

// TargetCount is how many laptops a target accounts for.
type TargetCount struct {
	Target  estate.Target
	Devices int
}

// AudienceReach is the reach of an audience, with what each of its targets does.
type AudienceReach struct {
	Reach
	ByInclude []TargetCount   // laptops on its platforms that each include matches
	ByExclude []TargetCount   // of those that are included, how many each exclude takes out
	Errors    map[string]int  // laptops on which the condition fails, by the error
	Missing   []estate.Target // targets that name nothing; the rest is as if they were not there
}

// Reach tests one policy of the plan as if it were active. ok is false when the plan has no such policy.
func (p *Plan) Reach(id estate.PolicyID) (r Reach, ok bool) {
	at, ok := p.policyAt.at(id)
	if !ok {
		return r, false
	}
	return p.Audience(p.policies[at].Policy).Reach, true
}

// Applies gives the laptops to which a policy of the plan applies.
func (p *Plan) Applies(id estate.PolicyID) Devices {
	at, known := p.policyAt.at(id)
	if !known {
		return Devices{}
	}
	out := Devices{plan: p, blocks: make([]rowset.Packed, p.blocks())}
	arms := p.policies[at].arms
	if len(arms) == 1 {
		out.blocks = arms[0]
		return out
	}
	var rows rowset.Set
	for b := range out.blocks {
		rows.Clear()
		for _, a := range arms {
			a[b].OrInto(&rows)
		}
		out.blocks[b] = rows.Pack()
	}
	return out
}

// tally is a set of laptops that is put together block by block.
type tally struct{ blocks []rowset.Packed }

func (p *Plan) tally() *tally { return &tally{make([]rowset.Packed, p.blocks())} }

func (t *tally) set(block int, rows *rowset.Set) { t.blocks[block] = rows.Pack() }

func (t *tally) of(p *Plan) Devices { return Devices{plan: p, blocks: t.blocks} }

// Audience tests a policy as if it were active, whether or not it is in the plan.
func (p *Plan) Audience(pol *estate.Policy) *AudienceReach {
	out := &AudienceReach{Errors: map[string]int{}}
	places := func(targets []estate.Target) (list []target) {
		for _, t := range targets {
			if is := p.target(t); is.at != none {
				list = append(list, is)
			} else {
				out.Missing = append(out.Missing, t)
			}
		}
		return list
	}
	include, exclude := places(pol.Audience.Include), places(pol.Audience.Exclude)
	when := p.tested(pol.Audience.When)
	entries := p.entriesOf(pol)
	for _, t := range include {
		out.ByInclude = append(out.ByInclude, TargetCount{Target: t.Target})
	}
	for _, t := range exclude {
		out.ByExclude = append(out.ByExclude, TargetCount{Target: t.Target})
	}
	gets, excluded, condition, platform, notIncluded, unsupported := p.tally(), p.tally(), p.tally(), p.tally(), p.tally(), p.tally()
	p.over(p.laptops(), func(w *worker) {
		mark := w.mark()
		defer w.release(mark)
		here, rest, in := w.temp(), w.temp(), w.temp()
		w.platforms(pol.Platforms, rest)
		here.SetAndNot(&w.dom, rest)
		platform.set(w.block, here)
		in.Clear()
		for i := range include {
			if t := w.target(&include[i]); t != nil && here.SetAnd(t, rest) {
				out.ByInclude[i].Devices += here.Len()
				in.Or(here)
			}
		}
		here.SetAndNot(rest, in)
		notIncluded.set(w.block, here)
		rest.Copy(in)
		for i := range exclude {
			if t := w.target(&exclude[i]); t != nil && here.SetAnd(t, in) {
				out.ByExclude[i].Devices += here.Len()
				rest.AndNot(here)
			}
		}
		here.SetAndNot(in, rest)
		excluded.set(w.block, here)
		if when != nil {
			is, failed := w.truth(when)
			if here.SetAnd(failed, rest) {
				w.errors(when, pol.Audience.When, here, func(text string, rows *rowset.Set) { out.Errors[text] += rows.Len() })
			}
			here.SetAndNot(rest, is)
			condition.set(w.block, here)
			rest.And(is)
		}
		gets.set(w.block, rest)
		if len(entries) > 0 {
			for i := range entries {
				lacking := w.temp()
				lacking.Clear()
				for _, who := range w.lacking(&p.contests[entries[i].setting]) {
					if who != nil {
						lacking.Or(who)
					}
				}
				if rest.And(lacking); rest.Empty() {
					break
				}
			}
			unsupported.set(w.block, rest)
		}
	})
	out.Reach = Reach{Gets: gets.of(p), Excluded: excluded.of(p), Condition: condition.of(p), Platform: platform.of(p), NotIncluded: notIncluded.of(p), Unsupported: unsupported.of(p)}
	out.People = len(out.Gets.owners())
	return out
}

// tested gives a rule as the plan knows it, with the columns that it looks at.
func (p *Plan) tested(r *rule.Rule) *formula {
	if r == nil {
		return nil
	}
	return p.words.formula(r)
}

// errors parts rows on which a rule fails by the error.
func (w *worker) errors(f *formula, r *rule.Rule, rows *rowset.Set, yield func(text string, rows *rowset.Set)) {
	var columns []*column
	whole := false
	f.each(func(t *test) {
		whole = whole || t.Whole
		for _, c := range t.columns {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	})
	say := func(rows *rowset.Set) {
		all := w.variables(rows.First(), nil)
		seen := map[string]any{}
		for _, name := range scopeOf(f) {
			seen[name] = all[name]
		}
		if _, err := r.Holds(seen); err != nil {
			yield(err.Error(), rows)
		}
	}
	if whole {
		one := w.keep()
		for row := range rows.All() {
			one.Clear()
			one.Add(row)
			say(one)
		}
		return
	}
	var refine func(i int, rows *rowset.Set)
	refine = func(i int, rows *rowset.Set) {
		if i == len(columns) {
			say(rows)
			return
		}
		w.part(columns[i], rows, func(_ uint32, rows *rowset.Set) { refine(i+1, rows) })
	}
	refine(0, rows)
}

// scopeOf lists the variables that a formula's rule sees.
func scopeOf(f *formula) (names []string) {
	f.each(func(t *test) { names = t.Scope.Variables() })
	return names
}

// owners gives the numbers of the owners of some laptops.
func (d Devices) owners() []int32 {
	if d.plan == nil {
		return nil
	}
	seen := make([]bool, len(d.plan.people))
	var out []int32
	d.each(func(at int) {
		if o := d.plan.owner[at]; o != none && !seen[o] {
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
		out[i] = d.plan.people[at].ID
	}
	slices.Sort(out)
	return out
}

// Matching gives the devices that a target matches with their owners.
func (p *Plan) Matching(t estate.Target) Devices {
	at := p.target(t)
	if at.at == none {
		return Devices{}
	}
	found := p.tally()
	p.over(p.laptops(), func(w *worker) {
		if rows := w.target(&at); rows != nil {
			found.set(w.block, rows)
		}
	})
	return found.of(p)
}

// RuleFailure is a device or person on which a rule fails.
type RuleFailure struct {
	ID    string
	Error string
}

// GroupTrial is who a group would have.
type GroupTrial struct {
	Members  []string // sorted
	Listed   int
	Nested   int // through member groups, listed ones not counted again
	ByRule   int // by the rule alone
	Failures []RuleFailure
}

// TryGroup says who a group would have, whether or not it is in the plan. Member groups count as they are in the plan.
func (p *Plan) TryGroup(g *estate.Group) *GroupTrial {
	out := &GroupTrial{}
	r, n := p.laptops(), len(p.devices)
	place := func(id string) int { return p.deviceAt.place(estate.DeviceID(id)) }
	name := func(at int) string { return string(p.devices[at].ID) }
	if g.Of == estate.OfPeople {
		r, n = p.persons(), len(p.people)
		place = func(id string) int { return p.personAt.place(estate.PersonID(id)) }
		name = func(at int) string { return string(p.people[at].ID) }
	}
	listed := make([]rowset.Set, blocksOf(n))
	for _, id := range g.Members {
		if at := place(id); at != none {
			listed[at>>rowset.Shift].Add(at & (rowset.Rows - 1))
		}
	}
	formula := p.tested(g.Rule)
	p.over(r, func(w *worker) {
		from := w.block << rowset.Shift
		mark := w.mark()
		defer w.release(mark)
		all, here := &listed[w.block], w.temp()
		out.Listed += all.Len()
		nested := w.temp()
		nested.Clear()
		for _, id := range g.Groups {
			if at, known := p.groupAt.at(id); known {
				if rows := w.group(at); rows != nil {
					nested.Or(rows)
				}
			}
		}
		nested.AndNot(all)
		out.Nested += nested.Len()
		all.Or(nested)
		if formula != nil {
			is, failed := w.truth(formula)
			here.SetAndNot(is, all)
			out.ByRule += here.Len()
			all.Or(here)
			if !failed.Empty() {
				w.errors(formula, g.Rule, failed, func(text string, rows *rowset.Set) {
					for row := range rows.All() {
						out.Failures = append(out.Failures, RuleFailure{name(from + row), text})
					}
				})
			}
		}
		for row := range all.All() {
			out.Members = append(out.Members, name(from+row))
		}
	})
	slices.Sort(out.Members)
	slices.SortFunc(out.Failures, func(a, b RuleFailure) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// GroupDevices gives the laptops that are in a group, by themselves or through their owners.
func (p *Plan) GroupDevices(id estate.GroupID) Devices {
	at, known := p.groupAt.at(id)
	if !known {
		return Devices{}
	}
	return Devices{plan: p, blocks: p.groups[at].rows}
}

// GroupMembers lists who is in a group, sorted: device ids or person ids, by what it is a group of.
func (p *Plan) GroupMembers(id estate.GroupID) []string {
	at, known := p.groupAt.at(id)
	if !known {
		return nil
	}
	var members []string
	if p.groups[at].Of == estate.OfDevices {
		for _, id := range p.GroupDevices(id).IDs() {
			members = append(members, string(id))
		}
		return members
	}
	var rows rowset.Set
	for b, packed := range p.persons().groups[at] {
		packed.Into(&rows)
		for row := range rows.All() {
			members = append(members, string(p.people[b<<rowset.Shift+row].ID))
		}
	}
	slices.Sort(members)
	return members
}

// GroupSize counts who is in a group.
func (p *Plan) GroupSize(id estate.GroupID) (n int) {
	at, known := p.groupAt.at(id)
	if !known {
		return 0
	}
	if p.groups[at].Of == estate.OfDevices {
		return p.GroupDevices(id).Len()
	}
	for _, packed := range p.persons().groups[at] {
		n += packed.Len()
	}
	return n
}

// GroupFailures counts the devices or people that the group's rule fails on.
func (p *Plan) GroupFailures(id estate.GroupID) int {
	if at, known := p.groupAt.at(id); known {
		return p.failures()[at]
	}
	return 0
}

// countFailures counts by group on whom its rule fails.
func (p *Plan) countFailures() []int {
	out := make([]int, len(p.groups))
	count := func(r *roll, of estate.GroupOf) {
		p.over(r, func(w *worker) {
			for at := range p.groups {
				if g := &p.groups[at]; g.Group != nil && g.Of == of && g.formula != nil {
					mark := w.mark()
					_, failed := w.truth(g.formula)
					out[at] += failed.Len()
					w.release(mark)
				}
			}
		})
	}
	count(p.laptops(), estate.OfDevices)
	count(p.everybody(), estate.OfPeople)
	return out
}

// HomeUnits lists the ids of the units from the root down to a device's home unit.
func (p *Plan) HomeUnits(id estate.DeviceID) []string {
	dev, known := p.deviceAt.at(id)
	if !known {
		return nil
	}
	return p.path(p.devices[dev].home)
}

// HomeUnit gives a device's home unit; empty where there is no such device.
func (p *Plan) HomeUnit(id estate.DeviceID) estate.UnitID {
	dev, known := p.deviceAt.at(id)
	if !known {
		return ""
	}
	return p.units[p.devices[dev].home].ID
}

// GroupsOf lists the groups that a device is in, directly or through its owner, in the order of the snapshot.
func (p *Plan) GroupsOf(id estate.DeviceID) (in []estate.GroupID) {
	dev, known := p.deviceAt.at(id)
	if !known {
		return nil
	}
	for i := range p.snapshot.Groups {
		g := &p.snapshot.Groups[i]
		if at, _ := p.groupAt.at(g.ID); p.groups[at].rows[dev>>rowset.Shift].Has(dev & (rowset.Rows - 1)) {
			in = append(in, g.ID)
		}
	}
	return in
}

// GroupsOfPerson lists the groups that a person is in, in the order of the snapshot.
func (p *Plan) GroupsOfPerson(id estate.PersonID) (in []estate.GroupID) {
	who, known := p.personAt.at(id)
	if !known {
		return nil
	}
	for i := range p.snapshot.Groups {
		g := &p.snapshot.Groups[i]
		if at, _ := p.groupAt.at(g.ID); p.personIn(who, at) {
			in = append(in, g.ID)
		}
	}
	return in
}

// UnitPaths gives by unit the ids of the units from the root down to it.
func (p *Plan) UnitPaths() map[estate.UnitID][]string {
	out := make(map[estate.UnitID][]string, len(p.units))
	for i := range p.units {
		if p.units[i].Unit != nil {
			out[p.units[i].ID] = p.path(i)
		}
	}
	return out
}

// Membership says why a device, or its owner, is in a group.
type Membership struct {
	Group  estate.GroupID
	Owner  bool // the owner is in it, and the device through the owner
	Listed bool
	Via    []estate.GroupID // member groups that it is in, sorted
	Rule   []rule.Part      // where the rule holds: its parts, as they are on the device or person
}

// Memberships says of every group that a device is in why it is in it.
func (p *Plan) Memberships(id estate.DeviceID) []Membership {
	dev, known := p.deviceAt.at(id)
	if !known {
		return nil
	}
	var out []Membership
	for _, g := range p.GroupsOf(id) {
		at, _ := p.groupAt.at(g)
		if owner := p.devices[dev].owner; p.groups[at].Of == estate.OfPeople {
			out = append(out, p.membership(at, string(p.people[owner].ID), none, owner, true))
		} else {
			out = append(out, p.membership(at, string(id), dev, none, false))
		}
	}
	return out
}

// PersonMemberships says of every group that a person is in why.
func (p *Plan) PersonMemberships(id estate.PersonID) (out []Membership) {
	who, known := p.personAt.at(id)
	if !known {
		return nil
	}
	for _, g := range p.GroupsOfPerson(id) {
		at, _ := p.groupAt.at(g)
		out = append(out, p.membership(at, string(id), none, who, false))
	}
	return out
}

func (p *Plan) membership(at int, id string, dev, who int, owner bool) Membership {
	g := &p.groups[at]
	m := Membership{Group: g.ID, Owner: owner, Listed: slices.Contains(g.Members, id)}
	for _, member := range g.nested {
		if p.inGroup(dev, who, member) {
			m.Via = append(m.Via, p.groups[member].ID)
		}
	}
	slices.Sort(m.Via)
	if g.Rule != nil {
		seen := map[string]any{"device": p.deviceVariables(dev)}
		if g.Of == estate.OfPeople {
			seen = map[string]any{"person": p.personVariables(who)}
		}
		if holds, err := g.Rule.Holds(seen); err == nil && holds {
			m.Rule = g.Rule.Parts(seen)
		}
	}
	return m
}

// Dropped is an entry that does not arrive at a place since its laptops go their own way for its kind of policy.
type Dropped struct {
	Policy  estate.PolicyID
	Setting setting.ID
	Value   setting.Value
	Devices int
}

// Dropped lists the entries that laptops of a target do not get because of detaching, by policy and setting.
func (p *Plan) Dropped(t estate.Target) (out []Dropped) {
	at := p.target(t)
	if at.at == none || !p.anyDetached() {
		return nil
	}
	found := gather[int](p)
	p.over(p.laptops(), func(w *worker) {
		place := w.target(&at)
		if place == nil {
			return
		}
		mark := w.mark()
		defer w.release(mark)
		here := w.temp()
		for i := range p.policies {
			pol := &p.policies[i]
			for a := range pol.arms {
				arm := w.arm(i, a)
				if arm.all == nil {
					continue
				}
				if w.split(arm, pol.Kind, pol.levels[a]); arm.detached != nil && here.SetAnd(arm.detached, place) {
					found.add(i, w.block, here)
				}
			}
		}
	})
	for i := range found.sets {
		pol := &p.policies[i]
		for _, e := range pol.entries {
			if !e.Lock && p.contests[e.setting].def.Combine != setting.Merge {
				out = append(out, Dropped{pol.ID, e.Entry.Setting, e.Value, found.devices(i).Len()})
			}
		}
	}
	slices.SortFunc(out, func(a, b Dropped) int {
		return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Setting, b.Setting))
	})
	return out
}

// IsRoot tells whether a unit is the organisation.
func (p *Plan) IsRoot(id estate.UnitID) bool {
	at, known := p.unitAt.at(id)
	return known && at == p.root
}

// Matches tells whether a target matches a device with its owner.
func (p *Plan) Matches(t estate.Target, id estate.DeviceID) bool {
	at := p.target(t)
	dev, known := p.deviceAt.at(id)
	if at.at == none || !known {
		return false
	}
	s := p.subject(dev, p.devices[dev].owner)
	defer s.done()
	return s.matches(&at)
}
