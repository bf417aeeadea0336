// This file answers who gets something: the reach of an audience, who a group would have, and why somebody is in one.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Reach says whom an audience reaches among all laptops and their owners.
type Reach struct {
	Gets        Devices
	Excluded    Devices // left out by name
	Condition   Devices // included, but the condition is not true
	Platform    Devices // on another platform
	Outside     Devices // outside of the unit that bounds the policy
	NotIncluded Devices
	Unsupported Devices // among Gets: supports none of the policy's settings
	Unknown     Devices // among Gets: of some setting it is not known whether the laptop supports it
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
	at, ok := p.policyAt.Number(id)
	if !ok {
		return r, false
	}
	return p.Audience(p.policies[at].Policy).Reach, true
}

// Applies gives the laptops to which a policy of the plan applies.
func (p *Plan) Applies(id estate.PolicyID) Devices {
	at, known := p.policyAt.Number(id)
	if !known {
		return Devices{}
	}
	out := Devices{plan: p, blocks: make([]bitset.Packed, p.blocks())}
	arms := p.policies[at].arms
	if len(arms) == 1 {
		out.blocks = arms[0]
		return out
	}
	var rows bitset.Set
	for b := range out.blocks {
		rows.Clear()
		for _, a := range arms {
			a[b].OrInto(&rows)
		}
		out.blocks[b] = rows.Pack()
	}
	return out
}

// Audience tests a policy as if it were active, whether or not it is in the plan.
func (p *Plan) Audience(pol *estate.Policy) *AudienceReach {
	out := &AudienceReach{Errors: map[string]int{}}
	places := func(targets []estate.Target) (list []target) {
		for _, t := range targets {
			if is := p.target(t); is.at != intern.None {
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
	gets, excluded, condition, platform, notIncluded, unsupported := Devices{plan: p}, Devices{plan: p}, Devices{plan: p}, Devices{plan: p}, Devices{plan: p}, Devices{plan: p}
	outside, unknown := Devices{plan: p}, Devices{plan: p}
	bound := &policy{}
	if pol.Within != "" {
		t := p.target(estate.Target{Kind: estate.ToUnit, ID: string(pol.Within)})
		bound.within = &t
	}
	p.over(p.laptops(), func(w *worker) {
		mark := w.Mark()
		defer w.Release(mark)
		here, rest, in := w.Temp(), w.Temp(), w.Temp()
		w.platforms(pol.Platforms, rest)
		here.SetAndNot(&w.dom, rest)
		platform.add(w.block, here)
		if bound.within != nil {
			here.Copy(rest)
			w.inside(bound, rest)
			here.AndNot(rest)
			outside.add(w.block, here)
		}
		in.Clear()
		for i := range include {
			if t := w.target(&include[i]); t != nil && here.SetAnd(t, rest) {
				out.ByInclude[i].Devices += here.Len()
				in.Or(here)
			}
		}
		here.SetAndNot(rest, in)
		notIncluded.add(w.block, here)
		rest.Copy(in)
		for i := range exclude {
			if t := w.target(&exclude[i]); t != nil && here.SetAnd(t, in) {
				out.ByExclude[i].Devices += here.Len()
				rest.AndNot(here)
			}
		}
		here.SetAndNot(in, rest)
		excluded.add(w.block, here)
		if when != nil {
			is, failed := w.truth(when)
			if here.SetAnd(failed, rest) {
				w.errors(when, pol.Audience.When, here, func(text string, rows *bitset.Set) { out.Errors[text] += rows.Len() })
			}
			here.SetAndNot(rest, is)
			condition.add(w.block, here)
			rest.And(is)
		}
		gets.add(w.block, rest)
		if len(entries) > 0 {
			getting := w.Temp()
			getting.Copy(rest)
			for i := range entries {
				lacking := w.Temp()
				lacking.Clear()
				of := w.lacking(&p.settings[entries[i].setting])
				for _, who := range of.by {
					if who != nil {
						lacking.Or(who)
					}
				}
				if of.unknown != nil && here.SetAnd(of.unknown, getting) {
					unknown.add(w.block, here)
				}
				rest.And(lacking)
			}
			unsupported.add(w.block, rest)
		}
	})
	out.Reach = Reach{Gets: gets, Excluded: excluded, Condition: condition, Platform: platform, NotIncluded: notIncluded, Unsupported: unsupported, Outside: outside, Unknown: unknown}
	out.People = len(out.Gets.owners())
	return out
}

// tested gives a rule as the vocabulary knows it.
func (p *Plan) tested(r *rule.Rule) *intern.Formula {
	if r == nil {
		return nil
	}
	return p.gen.Formula(r)
}

// errors parts rows on which a rule fails by the error.
func (w *worker) errors(f *intern.Formula, r *rule.Rule, rows *bitset.Set, yield func(text string, rows *bitset.Set)) {
	var columns []*intern.Column
	whole := false
	f.Each(func(t *intern.Test) {
		whole = whole || t.Whole
		for _, c := range t.Columns {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	})
	say := func(rows *bitset.Set) {
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
		one := w.Keep()
		for row := range rows.All() {
			one.Clear()
			one.Add(row)
			say(one)
		}
		return
	}
	var refine func(i int, rows *bitset.Set)
	refine = func(i int, rows *bitset.Set) {
		if i == len(columns) {
			say(rows)
			return
		}
		w.part(columns[i], rows, func(_ uint32, rows *bitset.Set) { refine(i+1, rows) })
	}
	refine(0, rows)
}

// scopeOf lists the variables that a formula's rule sees.
func scopeOf(f *intern.Formula) (names []string) {
	f.Each(func(t *intern.Test) { names = t.Scope.Variables() })
	return names
}

// owners gives the numbers of the owners of some laptops.
func (d Devices) owners() []int32 {
	if d.plan == nil {
		return nil
	}
	seen := make([]bool, d.plan.people.Len())
	var out []int32
	d.each(func(at int) {
		if o := *d.plan.owner.At(at); o != intern.None && !seen[o] {
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
		out[i] = d.plan.people.At(int(at)).ID
	}
	slices.Sort(out)
	return out
}

// Matching gives the devices that a target matches with their owners.
func (p *Plan) Matching(t estate.Target) Devices {
	at := p.target(t)
	if at.at == intern.None {
		return Devices{}
	}
	found := Devices{plan: p}
	p.over(p.laptops(), func(w *worker) {
		if rows := w.target(&at); rows != nil {
			found.add(w.block, rows)
		}
	})
	return found
}

// Dropped is an entry that does not arrive at a place since its laptops are detached for its kind of policy.
type Dropped struct {
	Policy  estate.PolicyID
	Setting setting.ID
	Value   setting.Value
	Devices int
}

// Dropped lists the entries that laptops of a target do not get because of detaching, by policy and setting.
func (p *Plan) Dropped(t estate.Target) (out []Dropped) {
	at := p.target(t)
	if at.at == intern.None || !p.anyDetached() {
		return nil
	}
	type part struct {
		policy int
		area   string // where some place detaches it, else empty
	}
	found := gather[part](p)
	areaOf := func(setting int) string {
		if area := p.settings[setting].area; p.areas[area] {
			return area
		}
		return ""
	}
	p.over(p.laptops(), func(w *worker) {
		place := w.target(&at)
		if place == nil {
			return
		}
		mark := w.Mark()
		defer w.Release(mark)
		here := w.Temp()
		for i := range p.policies {
			pol := &p.policies[i]
			for a := range pol.arms {
				arm := w.arm(i, a)
				if arm.all == nil {
					continue
				}
				var seen []string
				for _, e := range pol.entries {
					area := areaOf(e.setting)
					if slices.Contains(seen, area) {
						continue
					}
					seen = append(seen, area)
					if _, detached := w.split(arm, pol.Kind, area, pol.levels[a]); detached != nil && here.SetAnd(detached, place) {
						found.add(part{i, area}, w.block, here)
					}
				}
			}
		}
	})
	for of := range found.sets {
		pol := &p.policies[of.policy]
		for _, e := range pol.entries {
			if areaOf(e.setting) == of.area && !e.Lock && p.settings[e.setting].Def.Combine != setting.Merge {
				out = append(out, Dropped{pol.ID, e.Entry.Setting, e.Value, found.devices(of).Len()})
			}
		}
	}
	slices.SortFunc(out, func(a, b Dropped) int {
		return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Setting, b.Setting))
	})
	return out
}

// Matches tells whether a target matches a device with its owner.
func (p *Plan) Matches(t estate.Target, id estate.DeviceID) bool {
	at := p.target(t)
	dev, known := p.deviceAt.Number(id)
	if at.at == intern.None || !known {
		return false
	}
	s := p.subject(dev, p.devices.At(dev).owner)
	defer s.done()
	return s.matches(&at)
}
