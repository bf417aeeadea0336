// This file checks a whole snapshot: ids, references, the tree of units, groups, and every value
// against its definition.
//
// Validate looks at everything, and is used for imports. ValidateEdits is used for each key that
// somebody types: it relies on the snapshot having been right before, and looks at what the edits
// touch. Both gather all faults, so that somebody who corrects a file sees them at once. Conditions
// and rules are compiled when they are read, and are right by then.

package estate

import (
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/ids"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// MaxPriority bounds a policy's priority on both sides of zero.
const MaxPriority = 1_000_000

var (
	// DeviceNames are the names that `device` has in expressions besides facts.
	DeviceNames = []string{"id", "serial", "os", "os_version", "edition", "model", "unit", "units", "tags"}
	// PersonNames are the names that `person` has in expressions besides attributes.
	PersonNames = []string{"id", "name", "mail", "unit", "units"}
)

// validator gathers the faults of one snapshot. Its maps give the place of an object in its list by
// its id; they hold the ids that are right, each once.
type validator struct {
	faults problem.Faults
	units  map[string]int
	// People and devices are asked for, since Validate and ValidateEdits know them in different
	// ways.
	people   func(id string) bool
	devices  func(id string) bool
	groups   map[string]int
	policies map[string]int
	settings map[setting.ID]*setting.Definition
	groupOf  func(*Group) bool // groups whose members are looked up; nil: all
}

// in asks a map of places whether an id is there.
func in(places map[string]int) func(string) bool {
	return func(id string) bool { _, there := places[id]; return there }
}

// Validate reports all that is wrong with the snapshot; nil: nothing. Paths are JSON Pointers into
// the estate format, with the places of objects in their lists, from 0. Shipped definitions and
// checks are taken to be right.
func (s *Snapshot) Validate() problem.Faults {
	// First the ids, then what names them: a doubled id is reported once and not at every
	// reference.
	v := &validator{settings: make(map[setting.ID]*setting.Definition, len(s.Settings))}
	v.units = index(v, KindUnit, s.Units, func(u *Unit) string { return string(u.ID) })
	v.people = in(indexOf(v, KindPerson, s.People, personID))
	v.devices = in(indexOf(v, KindDevice, s.Devices, deviceID))
	v.indexOthers(s)

	// Order matters only for the report: faults come in the order of the format's lists.
	v.unitTree(s.Units)
	for i := range s.People {
		v.person(problem.Join("", string(KindPerson), i), s.People[i])
	}
	for i := range s.Devices {
		v.device(problem.Join("", string(KindDevice), i), s.Devices[i])
	}
	v.groupGraph(s.Groups)
	for i := range s.Policies {
		v.policy(problem.Join("", string(KindPolicy), i), &s.Policies[i])
	}
	v.decisions(s, func(setting.ID) bool { return true })
	return v.faults
}

// indexOthers checks the ids of all kinds but units, people and devices, and notes the places of
// those that others name.
func (v *validator) indexOthers(s *Snapshot) {
	v.groups = index(v, KindGroup, s.Groups, func(g *Group) string { return string(g.ID) })
	v.policies = index(v, KindPolicy, s.Policies, func(p *Policy) string { return string(p.ID) })
	index(v, KindException, s.Exceptions, func(e *Exception) string { return string(e.ID) })
	index(v, KindRuling, s.Rulings, func(r *Ruling) string { return string(r.ID) })
	index(v, KindSetting, s.Settings, func(d *setting.Definition) string { return string(d.ID) })
	index(v, KindCheck, s.Checks, func(c *Check) string { return string(c.ID) })
	index(v, KindRolloutPlan, s.RolloutPlans, func(p *RolloutPlan) string { return string(p.ID) })
	index(v, KindApprovalRule, s.ApprovalRules, func(r *ApprovalRule) string { return string(r.ID) })
	index(v, KindBaseline, s.Baselines, func(b *Baseline) string { return string(b.ID) })
	for i := range s.Settings {
		v.settings[s.Settings[i].ID] = &s.Settings[i]
	}
}

// decisions checks what is short in every estate: exceptions, rulings, checks, rollout plans and
// approval rules; and of the definitions, which depend on nothing else, those that defined names.
func (v *validator) decisions(s *Snapshot, defined func(setting.ID) bool) {
	for i := range s.Exceptions {
		v.exception(problem.Join("", string(KindException), i), &s.Exceptions[i])
	}
	for i := range s.Rulings {
		v.ruling(problem.Join("", string(KindRuling), i), &s.Rulings[i])
	}
	for i := range s.Settings {
		if d := &s.Settings[i]; !d.Shipped && defined(d.ID) {
			v.add(d.Validate(problem.Join("", string(KindSetting), i))...)
		}
	}
	for i := range s.Checks {
		if c := &s.Checks[i]; !c.Shipped {
			v.check(problem.Join("", string(KindCheck), i), c)
		}
	}
	v.rolloutPlans(s.RolloutPlans)
	v.approvalRules(s)
	v.baselines(s.Baselines)
}

// unnamed are the kinds of objects that no other object names, so that taking one away breaks no
// reference.
var unnamed = map[Kind]bool{KindException: true, KindRuling: true, KindCheck: true, KindRolloutPlan: true, KindApprovalRule: true,
	KindBaseline: true}

// ValidateEdits reports what is wrong after edits were laid over a snapshot that nothing was wrong
// with; s is the outcome. It looks at what was edited and at what is short in every estate, and
// leaves people, devices and lists of members alone that were not edited, so that an edit of one
// policy does not cost a look at every laptop. there tells whether a person or device is in the
// outcome. ok is false where that does not do: something that others may name was taken away, and
// Validate has to be called.
func (s *Snapshot) ValidateEdits(edits []Edit, there func(Kind, string) bool) (faults problem.Faults, ok bool) {
	// Taking something away that others may name can break any of them, so the whole snapshot has
	// to be checked.
	edited := map[Kind]map[string]bool{}
	for _, e := range edits {
		if e.Object == nil && e.Kind != KindException && !unnamed[e.Kind] {
			return nil, false
		}
		if edited[e.Kind] == nil {
			edited[e.Kind] = map[string]bool{}
		}
		edited[e.Kind][e.ID] = true
	}
	v := &validator{settings: make(map[setting.ID]*setting.Definition, len(s.Settings))}
	v.units = index(v, KindUnit, s.Units, func(u *Unit) string { return string(u.ID) })
	// The maps of people and devices are not made: a million laptops would be indexed for each
	// edit.
	v.people, v.devices = func(id string) bool { return there(KindPerson, id) }, func(id string) bool { return there(KindDevice, id) }
	v.groupOf = func(g *Group) bool { return edited[KindGroup][string(g.ID)] }
	v.indexOthers(s)
	v.unitTree(s.Units)
	some(edited[KindPerson], s.People, s.personAt, personID, func(i int) {
		indexOf(v, KindPerson, s.People[i:i+1], personID)
		v.person(problem.Join("", string(KindPerson), i), s.People[i])
	})
	some(edited[KindDevice], s.Devices, s.deviceAt, deviceID, func(i int) {
		indexOf(v, KindDevice, s.Devices[i:i+1], deviceID)
		v.device(problem.Join("", string(KindDevice), i), s.Devices[i])
	})
	if edited[KindGroup] != nil || edited[KindSetting] != nil { // settings bring the areas that groups are detached from
		v.groupGraph(s.Groups)
	}
	// With other definitions any policy may have become wrong.
	for i := range s.Policies {
		if edited[KindSetting] != nil || edited[KindPolicy][string(s.Policies[i].ID)] {
			v.policy(problem.Join("", string(KindPolicy), i), &s.Policies[i])
		}
	}
	v.decisions(s, func(id setting.ID) bool { return edited[KindSetting][string(id)] })
	return v.faults, true
}

// some calls f for the places of some objects of a list, in the order of the list, so that faults
// come in the same order every time. Objects that are not in the list are left out.
func some[T any](wanted map[string]bool, list []*T, at *ids.Index, id func(*T) string, f func(i int)) {
	var places []int
	for name := range wanted {
		if i := placeOf(list, at, name, id); i >= 0 {
			places = append(places, i)
		}
	}
	slices.Sort(places)
	for _, i := range places {
		f(i)
	}
}

// add notes faults that a value, or a definition, reported itself.
func (v *validator) add(faults ...problem.Fault) { v.faults = append(v.faults, faults...) }

// fault notes a fault: what was found at a path, and what was expected there.
func (v *validator) fault(code problem.Code, path, found, expected string) {
	v.add(problem.Fault{Code: code, Path: path, Found: found, Expected: expected})
}

// indexOf is index for a list of pointers.
func indexOf[T any](v *validator, kind Kind, list []*T, id func(*T) string) map[string]int {
	return index(v, kind, list, func(one **T) string { return id(*one) })
}

// index checks the ids of a list and gives the place of each. An object whose id is missing,
// malformed or taken is reported and is not in the map; whatever names it is reported as well.
func index[T any](v *validator, kind Kind, list []T, id func(*T) string) map[string]int {
	places := make(map[string]int, len(list))
	for i := range list {
		// The path is only made for a fault: there may be a million ids.
		at := func() string { return problem.Join("", string(kind), i, "id") }
		name := id(&list[i])
		if !ValidID(name) {
			if name == "" {
				v.add(problem.Fault{Code: problem.MissingField, Path: at(), Expected: "an id of 1 to 128 letters, digits, '.', '_' or '-'"})
			} else {
				v.fault(problem.BadID, at(), problem.Quote(name), "1 to 128 letters, digits, '.', '_' or '-'")
			}
			continue
		}
		if first, twice := places[name]; twice {
			v.fault(problem.DoubledID, at(),
				problem.Quote(name),
				fmt.Sprintf("an id of its own; number %d of %s has it already", first+1, kind))
			continue
		}
		places[name] = i
	}
	return places
}

// known reports a reference to something that is not there. An empty reference is left to its
// field's own check.
func (v *validator) known(path, word string, there func(string) bool, id string) {
	if id != "" && !there(id) {
		v.fault(problem.UnknownReference, path, problem.Quote(id), "the id of a "+word+" of this estate")
	}
}

// required reports a field that is missing; what says what belongs there.
func (v *validator) required(path string, present bool, what string) {
	if !present {
		v.add(problem.Fault{Code: problem.MissingField, Path: path, Expected: what})
	}
}

// values checks facts or attributes: their names, and lists for repeated items. reserved are the
// names that the object's own fields have in expressions.
func (v *validator) values(path string, values map[string]setting.Value, reserved []string) {
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	slices.Sort(names)
	// Names are sorted, so that faults come in the same order every time.
	for _, name := range names {
		at := problem.Join(path, name)
		// A fact with the name of a field could not be told from it in expressions.
		if name == "" || slices.Contains(reserved, name) {
			v.fault(problem.ReservedName, at,
				problem.Quote(name),
				"a name of its own; these are taken: "+strings.Join(reserved, ", "))
		}
		v.add(setting.NoRepeats(at, values[name].Items())...)
	}
}

// person checks a person. The unit may be left out.
func (v *validator) person(at string, p *Person) {
	v.known(at+"/unit", "unit", in(v.units), string(p.Unit))
	v.values(at+"/attributes", p.Attributes, PersonNames)
}

// device checks a device. The version of its operating system is required, since support of
// settings depends on it.
func (v *validator) device(at string, d *Device) {
	v.known(at+"/owner", "person", v.people, string(d.Owner))
	for i, u := range d.Users {
		v.known(problem.Join(at, "users", i), "person", v.people, string(u))
	}
	v.add(setting.NoRepeats(at+"/users", d.Users)...)
	v.known(at+"/unit", "unit", in(v.units), string(d.Unit))
	v.add(setting.OneOf(at+"/os", d.OS, setting.Platforms)...)
	v.required(at+"/os_version", d.OSVersion != "", "the version of the operating system, as text")
	v.add(setting.NoRepeats(at+"/tags", d.Tags)...)
	v.add(setting.NoRepeats(at+"/taken", d.Taken)...)
	v.values(at+"/facts", d.Facts, DeviceNames)
}

// target checks that a target names something of the estate. Everyone names nothing, and a target
// that cannot be read was reported when it was read.
func (v *validator) target(path string, t Target) {
	switch t.Kind {
	case ToUnit:
		v.known(path, "unit", in(v.units), t.ID)
	case ToGroup:
		v.known(path, "group", in(v.groups), t.ID)
	case ToDevice:
		v.known(path, "device", v.devices, t.ID)
	case ToPerson:
		v.known(path, "person", v.people, t.ID)
	}
}

// targets checks the includes or the excludes of an audience.
func (v *validator) targets(path string, targets []Target) {
	texts := make([]string, len(targets))
	// Targets are compared as texts. An unreadable target gets a text of its own, so that two of
	// them are not reported as repeated.
	for i, t := range targets {
		v.target(problem.Join(path, i), t)
		texts[i] = t.String()
		if t.Kind == NoTarget {
			texts[i] = fmt.Sprintf("#%d", i) // unreadable, and reported as such
		}
	}
	v.add(setting.NoRepeats(path, texts)...)
}

// policy checks a policy: its words, its bounds, each value against its definition, and its
// audience.
func (v *validator) policy(at string, p *Policy) {
	v.add(setting.OneOf(at+"/kind", p.Kind, setting.PolicyKinds)...)
	v.add(setting.OneOf(at+"/state", p.State, States)...)
	// Repair is the empty word: it is what holds where a policy says nothing.
	if p.OnDrift != Repair {
		v.add(setting.OneOf(at+"/on_drift", p.OnDrift, []OnDrift{"repair", Report})...)
	}
	if p.Priority > MaxPriority || p.Priority < -MaxPriority {
		v.fault(problem.OutOfRange, at+"/priority",
			fmt.Sprint(p.Priority),
			fmt.Sprintf("a whole number from -%d to %d", MaxPriority, MaxPriority))
	}
	for i, os := range p.Platforms {
		v.add(setting.OneOf(problem.Join(at, "platforms", i), os, setting.Platforms)...)
	}
	v.add(setting.NoRepeats(at+"/platforms", p.Platforms)...)
	v.add(setting.NoRepeats(at+"/labels", p.Labels)...)
	v.known(at+"/within", "unit", in(v.units), string(p.Within))
	for i := range p.Entries {
		e := &p.Entries[i]
		// A value of an unknown setting cannot be checked.
		path := problem.Join(at, "settings", string(e.Setting))
		if d := v.setting(path, e.Setting); d != nil && !e.Value.IsNothing() {
			v.add(d.Check(path, e.Value)...)
		}
	}
	v.targets(at+"/audience/include", p.Audience.Include)
	v.targets(at+"/audience/exclude", p.Audience.Exclude)
}

// setting gives a definition, or reports that there is none.
func (v *validator) setting(path string, id setting.ID) *setting.Definition {
	d := v.settings[id]
	if d == nil {
		v.fault(problem.UnknownReference, path, problem.Quote(string(id)), "the id of a setting of the dictionary")
	}
	return d
}

// exception checks an exception. It has a value or leaves the setting unset, ends on some day, and
// says why and by whom it was approved.
func (v *validator) exception(at string, e *Exception) {
	v.required(at+"/setting", e.Setting != "", "the id of a setting")
	if e.Setting != "" {
		if d := v.setting(at+"/setting", e.Setting); d != nil && !e.Value.IsNothing() {
			v.add(d.Check(at+"/value", e.Value)...)
		}
	}
	v.required(at+"/target", e.Target.Kind != NoTarget, "a target")
	v.target(at+"/target", e.Target)
	switch {
	case e.Unset && !e.Value.IsNothing():
		v.fault(problem.EitherOr, at+"/unset", "both a value and unset: true", "one of the two")
	case !e.Unset && e.Value.IsNothing():
		v.fault(problem.EitherOr, at+"/value", "neither a value nor unset: true", "one of the two")
	}
	v.required(at+"/until", e.Until != "", "the last day, such as 2026-06-15")
	v.required(at+"/reason", e.Reason != "", "the reason, as text")
	v.required(at+"/approved_by", e.ApprovedBy != "", "who approved it")
	v.required(at+"/approved_on", e.ApprovedOn != "", "the day of the approval, such as 2026-04-28")
	if e.Until != "" && e.From > e.Until {
		v.fault(problem.DatesReversed, at+"/until",
			fmt.Sprintf("from %s until %s", e.From, e.Until),
			"an end on or after the start")
	}
}

// ruling checks a ruling. Both policies must be there, and differ.
func (v *validator) ruling(at string, r *Ruling) {
	v.required(at+"/setting", r.Setting != "", "the id of a setting")
	if r.Setting != "" {
		v.setting(at+"/setting", r.Setting)
	}
	v.required(at+"/prefer", r.Prefer != "", "the id of the policy that is preferred")
	v.required(at+"/over", r.Over != "", "the id of the policy that is overridden")
	v.known(at+"/prefer", "policy", in(v.policies), string(r.Prefer))
	v.known(at+"/over", "policy", in(v.policies), string(r.Over))
	if r.Prefer == r.Over && r.Prefer != "" {
		v.fault(problem.PrefersItself, at+"/over", problem.Quote(string(r.Over)), "another policy than the preferred one")
	}
}

// check checks a check that administrators wrote. Its expression was compiled when it was read.
func (v *validator) check(at string, c *Check) {
	v.required(at+"/message", c.Message != "", "what is wrong, in a sentence")
	v.required(at+"/when", c.When != nil, "an expression that is true when something is wrong")
	for i, id := range c.Settings {
		v.setting(problem.Join(at, "settings", i), id)
	}
	v.add(setting.NoRepeats(at+"/settings", c.Settings)...)
}
