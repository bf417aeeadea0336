// This file proposes ways to settle conflicts and problems: each is a set of edits, whose effect is
// for somebody else to compute.
//
// The edits are ordinary ones: a ruling, a priority, a lock, an exclude, an entry that is taken
// out. Nothing is proposed that would settle nothing or that cannot be written. Which way is best
// is for a person to say, who sees the impact of each.

package review

import (
	"cmp"
	"reflect"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// WayKind is a kind of way to settle what does not fit together. Its words are part of the API.
type WayKind string

const (
	PreferIt  WayKind = "prefer"     // a ruling lets the policy's value stand against the others
	RaiseIt   WayKind = "raise"      // its priority goes above the others'
	LockIt    WayKind = "lock"       // its entry is locked, so that it overrides what is not locked
	LockAbove WayKind = "lock-above" // an entry of an outer level, which is overridden today, is locked
	LeaveOut  WayKind = "leave-out"  // the others leave out whom it is aimed at
	Narrow    WayKind = "narrow"     // it leaves out the laptops in question itself
	DropIt    WayKind = "drop"       // its entry for the setting is taken out
)

// narrowBy is how many laptops a policy leaves out by name at most. More would be an audience that
// nobody can maintain.
const narrowBy = 25

// Way is one way to settle something in favour of a policy or, with Narrow and DropIt, by letting
// the others decide. It alters nothing: its edits are laid over the estate to see what they would
// do.
type Way struct {
	Kind    WayKind
	Policy  estate.PolicyID
	Targets []estate.Target // with Narrow: whom the policy leaves out
	Edits   []estate.Edit
}

// Ways proposes ways to settle conflicts of the same policies together: the policies of the first
// conflict are those of all. Rulings have no reason yet; whoever chooses one gives it.
func Ways(plan *resolve.Plan, conflicts ...resolve.ConflictFound) (out []Way) {
	if len(conflicts) == 0 {
		return nil
	}
	// touched: the laptops of all conflicts. A way that narrows an audience must free every one of
	// them.
	var touched resolve.Devices
	// Priorities and locks decide only where the rule is closest.
	closest := true
	settings := make([]setting.ID, len(conflicts))
	for i, c := range conflicts {
		d := plan.Definition(c.Setting)
		if d == nil {
			return nil
		}
		settings[i] = c.Setting
		touched = touched.Or(c.Devices)
		closest = closest && d.Combine == setting.Closest
	}
	involved := policiesNamed(plan, conflicts[0].Policies)
	for _, p := range involved {
		if closest {
			out = appendWay(out, PreferIt, p.ID, rulings(conflicts, p.ID))
			out = appendWay(out, RaiseIt, p.ID, raised(p, involved))
			out = appendWay(out, LockIt, p.ID, locked(p, settings))
		}
		out = appendWay(out, LeaveOut, p.ID, leftOut(plan, p, opponents(conflicts, p, involved)))
	}
	if closest {
		for _, p := range outer(plan, conflicts) {
			out = appendWay(out, LockAbove, p.ID, locked(p, settings))
		}
	}
	// Narrowing one policy can be the same edit as leaving out for another. It is proposed once.
	for _, w := range givingWay(plan, involved, settings, touched) {
		if !slices.ContainsFunc(
			out,
			func(o Way) bool { return reflect.DeepEqual(o.Edits, w.Edits) },
		) { // leaving out the one is what leaves out the other
			out = append(out, w)
		}
	}
	return out
}

// WaysRight proposes ways to make right what a check finds wrong: one way for each policy that the
// problem comes from, without it.
func WaysRight(plan *resolve.Plan, f *resolve.ProblemFound) []Way {
	return givingWay(plan, policiesNamed(plan, f.From), f.Settings, f.Devices)
}

// policiesNamed gives the policies among some names. Exceptions may be among these, too, and are
// left out.
func policiesNamed(plan *resolve.Plan, names []string) (out []*estate.Policy) {
	for _, id := range names {
		if p := plan.Policy(estate.PolicyID(id)); p != nil {
			out = append(out, p)
		}
	}
	return out
}

// appendWay adds a way, unless it would edit nothing.
func appendWay(out []Way, kind WayKind, policy estate.PolicyID, edits []estate.Edit) []Way {
	if len(edits) == 0 {
		return out
	}
	return append(out, Way{Kind: kind, Policy: policy, Edits: edits})
}

// givingWay lets each policy leave out some laptops, and drop its entries for some settings: two
// ways for each policy, where they are possible.
func givingWay(plan *resolve.Plan, involved []*estate.Policy, settings []setting.ID, touched resolve.Devices) (out []Way) {
	for _, p := range involved {
		if targets := covering(plan, p, touched); len(targets) > 0 {
			narrower := *p
			narrower.Audience.Exclude = append(slices.Clone(p.Audience.Exclude), targets...)
			out = append(out, Way{Narrow, p.ID, targets, []estate.Edit{policyEdit(narrower)}})
		}
	}
	for _, p := range involved {
		// The policy itself is not altered: it belongs to the snapshot.
		without := *p
		without.Entries = slices.DeleteFunc(slices.Clone(p.Entries), func(e estate.Entry) bool { return slices.Contains(settings, e.Setting) })
		if len(without.Entries) < len(p.Entries) {
			out = appendWay(out, DropIt, p.ID, []estate.Edit{policyEdit(without)})
		}
	}
	return out
}

// covering gives targets that take just the laptops of a set out of a policy's audience: a unit or
// a group where one fits, else the laptops by name where they are few. It is nil where nothing
// fits.
func covering(plan *resolve.Plan, p *estate.Policy, touched resolve.Devices) []estate.Target {
	gets := plan.Applies(p.ID)
	touched = touched.And(gets)
	if touched.Len() == 0 || touched.Len() == gets.Len() {
		return nil // nobody would be left: that is another matter than an audience that is narrower
	}
	fits := func(t estate.Target) bool {
		where := plan.Matching(t).And(gets)
		return where.Len() == touched.Len() && where.Without(touched).Len() == 0
	}
	// A unit that fits has all of the laptops, so it is the home of any of them or above it.
	for unit := plan.Unit(touched.ByUnit()[0].Of); unit != nil; unit = plan.Unit(unit.Parent) { // what fits has every one of them
		if t := (estate.Target{Kind: estate.ToUnit, ID: string(unit.ID)}); fits(t) {
			return []estate.Target{t}
		}
	}
	for _, id := range plan.GroupsOf(touched.First(1)[0]) {
		if t := (estate.Target{Kind: estate.ToGroup, ID: string(id)}); fits(t) {
			return []estate.Target{t}
		}
	}
	// Naming many laptops one by one would be an audience that nobody can maintain.
	if touched.Len() > narrowBy {
		return nil
	}
	var out []estate.Target
	for _, id := range touched.IDs() {
		out = append(out, estate.Target{Kind: estate.ToDevice, ID: string(id)})
	}
	return out
}

// outer gives the policies whose entries for all the settings are overridden by closer ones on
// every laptop that the conflicts touch.
func outer(plan *resolve.Plan, conflicts []resolve.ConflictFound) (out []*estate.Policy) {
	// counts: of how many of the conflicts locking the policy's entry would settle all.
	counts := map[estate.PolicyID]int{}
	for _, c := range conflicts {
		for _, s := range plan.EntryFates(c.Setting, c.Devices, "") {
			// On every laptop of the conflict the entry is overridden by a closer level: locking it
			// would settle all of it.
			if s.Fates[outcome.Outer] == c.Devices.Len() {
				counts[s.Policy]++
			}
		}
	}
	for id, n := range counts {
		if n == len(conflicts) {
			out = append(out, plan.Policy(id))
		}
	}
	slices.SortFunc(out, func(a, b *estate.Policy) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

// locked locks a policy's entries for some settings. It is nil where all of them are locked
// already.
func locked(p *estate.Policy, settings []setting.ID) []estate.Edit {
	out := *p
	out.Entries = slices.Clone(p.Entries)
	// open counts the entries that were not locked.
	open := 0
	for i := range out.Entries {
		if e := &out.Entries[i]; slices.Contains(settings, e.Setting) && !e.Lock {
			e.Lock = true
			open++
		}
	}
	if open == 0 {
		return nil
	}
	return []estate.Edit{policyEdit(out)}
}

// policyEdit is the edit that puts a policy in the place of the one with its id.
func policyEdit(p estate.Policy) estate.Edit {
	return estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p}
}

// rulings prefers a policy's value over those of the others that differ: one ruling for each
// setting and each other policy.
func rulings(conflicts []resolve.ConflictFound, prefer estate.PolicyID) (edits []estate.Edit) {
	for _, c := range conflicts {
		mine := slices.IndexFunc(c.Values, func(v outcome.Candidate) bool { return v.Policy == prefer })
		for _, v := range c.Values {
			if mine < 0 || v.Policy == prefer || v.Value.Equal(c.Values[mine].Value) {
				continue
			}
			// The id says what the ruling does, cut to what an id may have.
			name := string(c.Setting) + "." + string(prefer) + "-over-" + string(v.Policy)
			name = name[:min(len(name), 128)]
			edits = append(
				edits,
				estate.Edit{
					Kind:   estate.KindRuling,
					ID:     name,
					Object: estate.Ruling{ID: estate.RulingID(name), Setting: c.Setting, Prefer: prefer, Over: v.Policy},
				},
			)
		}
	}
	return edits
}

// opponents gives those of the involved that have another value than a policy in some conflict.
func opponents(conflicts []resolve.ConflictFound, p *estate.Policy, involved []*estate.Policy) (out []*estate.Policy) {
	value := func(c resolve.ConflictFound, of *estate.Policy) setting.Value {
		for _, v := range c.Values {
			if v.Policy == of.ID {
				return v.Value
			}
		}
		return setting.Value{}
	}
	for _, o := range involved {
		if o != p && slices.ContainsFunc(conflicts, func(c resolve.ConflictFound) bool { return !value(c, o).Equal(value(c, p)) }) {
			out = append(out, o)
		}
	}
	return out
}

// raised puts a policy's priority above those that it conflicts with. It is nil where one of them
// has the highest priority there is.
func raised(p *estate.Policy, involved []*estate.Policy) []estate.Edit {
	top := p.Priority
	for _, o := range involved {
		top = max(top, o.Priority)
	}
	if top >= estate.MaxPriority {
		return nil
	}
	above := *p
	above.Priority = top + 1
	return []estate.Edit{policyEdit(above)}
}

// leftOut lets the others leave out whom a policy is aimed at. It is nil where that would be
// everyone, or something that one of the others is aimed at itself.
func leftOut(plan *resolve.Plan, p *estate.Policy, others []*estate.Policy) (edits []estate.Edit) {
	if slices.ContainsFunc(p.Audience.Include, func(t estate.Target) bool {
		return t.Kind == estate.ToEveryone || t.Kind == estate.ToUnit && plan.IsRoot(estate.UnitID(t.ID))
	}) {
		return nil
	}
	for _, other := range others {
		// The policy is copied; its lists are copied before they are appended to.
		narrower := *other
		narrower.Audience.Exclude = slices.Clone(other.Audience.Exclude)
		for _, t := range p.Audience.Include {
			// Both are for the same target: leaving it out would take the other's own audience
			// away.
			if slices.Contains(other.Audience.Include, t) {
				return nil
			}
			if !slices.Contains(narrower.Audience.Exclude, t) {
				narrower.Audience.Exclude = append(narrower.Audience.Exclude, t)
			}
		}
		edits = append(edits, policyEdit(narrower))
	}
	return edits
}
