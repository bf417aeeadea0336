// This file matches audiences. Match is the one place that decides to whom a policy applies: for
// all laptops of a block, for one laptop, for a person who signs in, for a policy that is only
// being tried. Section 3 of resolution.md is its contract; the order of reasons is the order of the
// steps in it.

package match

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Audience is whom a policy is for, with the numbers of what it names. Targets that name nothing
// are left out.
type Audience struct {
	Active    bool
	Platforms []setting.Platform // empty: all
	Within    *Target            // the unit that bounds it; nil: none
	Levels    []outcome.Level    // of the includes, the innermost first
	Include   [][]Target         // by level
	Exclude   []Target           // sorted as texts
	When      *intern.Formula    // nil: always
	Offered   estate.PolicyID    // of a policy that is offered: its id, by which laptops have taken it; empty: it is not
}

// Audience finds what the audience of a policy names.
func (p *Population) Audience(pol *estate.Policy) Audience {
	a := Audience{Active: pol.State == estate.Active, Platforms: pol.Platforms, When: p.Gen.Formula(pol.Audience.When)}
	if pol.Offered {
		a.Offered = pol.ID
	}
	if pol.Within != "" {
		bound := p.Target(estate.Target{Kind: estate.ToUnit, ID: string(pol.Within)})
		a.Within = &bound
	}
	// Includes are gathered by level. A target that names nothing gives no level: a policy for a
	// group that does not exist is for nobody, not for everybody.
	var include []Target
	for _, t := range pol.Audience.Include {
		if is := p.Target(t); is.At != intern.None {
			include = append(include, is)
			if !slices.Contains(a.Levels, is.Level) {
				a.Levels = append(a.Levels, is.Level)
			}
		}
	}
	// The innermost level first: a laptop that several includes match has the policy at the closest
	// of their levels, and Match gives each laptop to the first level that has it.
	slices.SortFunc(a.Levels, func(x, y outcome.Level) int { return cmp.Compare(y, x) })
	a.Include = make([][]Target, len(a.Levels))
	for _, t := range include {
		at := slices.Index(a.Levels, t.Level)
		a.Include[at] = append(a.Include[at], t)
	}
	for _, t := range pol.Audience.Exclude {
		if is := p.Target(t); is.At != intern.None {
			a.Exclude = append(a.Exclude, is)
		}
	}
	// Sorted, so that an explanation names the excludes of a laptop in one order whatever the order
	// in the file.
	slices.SortFunc(a.Exclude, func(x, y Target) int { return cmp.Compare(x.String(), y.String()) })
	return a
}

// Names tells whether one of the audience's targets, the bound among them, is so.
func (a *Audience) Names(so func(Target) bool) bool {
	return a.Within != nil && so(*a.Within) || slices.ContainsFunc(a.Exclude, so) ||
		slices.ContainsFunc(a.Include, func(list []Target) bool { return slices.ContainsFunc(list, so) })
}

// Observer is told why a policy does not apply, and what each of its targets does. The sets that it
// is given hold until the call returns, and none is empty.
type Observer interface {
	// Not tells the reason why the policy does not apply to some rows. Every row to which it does
	// not apply is told once.
	Not(why outcome.Reason, rows *bitset.Set)
	// Includes tells the rows that an include matches, among those on the policy's platforms and
	// inside its bound.
	Includes(t *Target, rows *bitset.Set)
	// Excludes tells the rows that an exclude takes out, among those that are included.
	Excludes(t *Target, rows *bitset.Set)
	// Fails tells the rows on which the condition fails, among those that are included and not
	// excluded.
	Fails(rows *bitset.Set)
}

// Match says to which rows of Dom a policy applies, by section 3 of the contract. It yields the
// place of each level in Levels with the rows to which the policy applies at that level: every row
// is at one level only, the innermost. The sets hold until yield returns. why is told about the
// other rows; nil: nobody asks, which is faster.
func (m *Matcher) Match(a *Audience, why Observer, yield func(levelAt int, rows *bitset.Set)) {
	mark := m.Mark()
	defer m.Release(mark)
	// not reports a reason. Reasons are found in the order of the contract and every row is taken
	// out with its first one, so the reasons of two rows never overlap.
	not := func(reason outcome.Reason, rows *bitset.Set) {
		if why != nil && !rows.Empty() {
			why.Not(reason, rows)
		}
	}
	if !a.Active {
		not(outcome.NotActive, &m.Dom)
		return
	}
	// With no include, nobody can get the policy. Somebody who asks why goes on, since platform and
	// bound come before "not included".
	if why == nil && len(a.Levels) == 0 {
		return
	}
	// rest holds the rows that passed all tests so far.
	rest, here := m.Temp(), m.Temp()
	m.Platforms(a.Platforms, rest)
	if why != nil {
		here.SetAndNot(&m.Dom, rest)
		not(outcome.OnPlatform, here)
	}
	// The bound comes before includes: a policy that is written for one unit reaches nobody
	// outside, whatever its targets say.
	if a.Within != nil {
		here.Copy(rest)
		if bound := m.bound(a.Within); bound == nil {
			rest.Clear()
		} else {
			rest.And(bound)
		}
		here.AndNot(rest)
		not(outcome.Outside, here)
	}
	if rest.Empty() {
		return
	}
	// levels holds, by level, the rows that it includes and no level before it does. included holds
	// their union. Invariant: the sets of levels are disjoint.
	levels := make([]*bitset.Set, len(a.Levels), 8)
	included := m.Temp()
	included.Clear()
	for at := range a.Include {
		levels[at] = m.Temp()
		m.included(a.Include[at], rest, levels[at], why)
		levels[at].AndNot(included)
		included.Or(levels[at])
	}
	if why != nil {
		here.SetAndNot(rest, included)
		not(outcome.NotIncluded, here)
	}
	if included.Empty() {
		return
	}
	// Excludes act on what is included at any level. From here on, rest holds the rows that are
	// included and not excluded.
	rest.Copy(included)
	for i := range a.Exclude {
		t := m.Target(&a.Exclude[i])
		if t == nil {
			continue
		}
		if why != nil && here.SetAnd(t, included) {
			why.Excludes(&a.Exclude[i], here)
		}
		rest.AndNot(t)
	}
	if why != nil {
		here.SetAndNot(included, rest)
		not(outcome.Excluded, here)
	}
	if a.When != nil && !rest.Empty() {
		// A condition that fails on a row is not true there: the policy does not apply, and the
		// failure is reported besides.
		is, failed := m.Truth(a.When)
		if why != nil {
			if here.SetAnd(failed, rest) {
				why.Fails(here)
			}
			here.SetAndNot(rest, is)
			not(outcome.OnCondition, here)
		}
		rest.And(is)
	}
	if a.Offered != "" && !rest.Empty() {
		here.Copy(rest)
		m.taken(a.Offered, rest)
		here.AndNot(rest)
		not(outcome.NotTaken, here)
	}
	// Each level keeps the rows that passed everything. The sets stay disjoint, so every row is
	// yielded at most once.
	for at, rows := range levels {
		if rest.Empty() {
			return
		}
		if rows.And(rest); !rows.Empty() {
			yield(at, rows)
		}
	}
}

// bound gives the rows that are in a unit that bounds a policy; nil where there are none. A bound
// that names no unit bounds to nothing. That is the safe reading: the policy reaches nobody,
// instead of everybody.
func (m *Matcher) bound(t *Target) *bitset.Set {
	if t.At == intern.None {
		return nil
	}
	return m.Unit(t.At)
}

// taken leaves in rows those on whose laptop an offered policy was taken. Few policies are offered,
// so laptops are looked at one by one.
func (m *Matcher) taken(policy estate.PolicyID, rows *bitset.Set) {
	without := m.Temp()
	without.Clear()
	for row := range rows.All() {
		if at := m.DeviceAt(row); at == intern.None || !slices.Contains(m.Pop.Devices.At(at).Taken, policy) {
			without.Add(row)
		}
	}
	rows.AndNot(without)
}

// included makes into the rows of rest that some of a policy's includes match.
func (m *Matcher) included(targets []Target, rest, into *bitset.Set, why Observer) {
	into.Clear()
	for i := range targets {
		t := m.Target(&targets[i])
		if t == nil {
			continue
		}
		// into gets all rows of the targets; it is narrowed to rest once, at the end. The Observer
		// is told per target, so narrowing is done there for each.
		into.Or(t)
		if why != nil {
			if here := m.Temp(); here.SetAnd(t, rest) {
				why.Includes(&targets[i], here)
			}
		}
	}
	into.And(rest)
}

// Detached gives the rows that take no entries of policies of a kind, or for settings of an area,
// from a level, since a closer unit or group detaches them; nil where there are none.
func (m *Matcher) Detached(kind setting.PolicyKind, area string, level outcome.Level) (rows *bitset.Set) {
	// add takes the rows of one place in, if the place detaches what is asked about. who is called
	// only then, since it may have to find the rows of a unit.
	add := func(list []estate.Detachment, who func() *bitset.Set) {
		if !slices.ContainsFunc(list, func(d estate.Detachment) bool { return d.Covers(kind, area) }) {
			return
		}
		if is := who(); is != nil {
			if rows == nil {
				rows = m.Keep()
			}
			rows.Or(is)
		}
	}
	// A group detaches entries of all levels of units, but not of groups: groups are beside each
	// other and none is above another.
	if level < outcome.GroupLevel {
		for _, g := range m.Pop.DetachingGroups {
			add(m.Pop.Groups[g].Detach, func() *bitset.Set { return m.Group(g) })
		}
	}
	// A unit detaches what comes from units above it. Its own level and closer ones still arrive.
	for _, u := range m.Pop.DetachingUnits {
		if outcome.Level(m.Pop.Units[u].Depth) > level {
			add(m.Pop.Units[u].Detach, func() *bitset.Set { return m.Unit(u) })
		}
	}
	return rows
}
