// This file compares the resolution of the whole estate, as sets, with the oracle laptop by laptop,
// and plans that were made of others with plans that were made from nothing.

package resolve_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// wholeDiffers compares a resolution with the oracle and says what is not the same.
func wholeDiffers(s *estate.Snapshot, w *EstateResolution) string {
	o := oracle{s}
	type found struct{ setting, from string }
	conflicts, problems := map[found][]estate.DeviceID{}, map[found][]estate.DeviceID{}
	devices := slices.Clone(s.Devices)
	slices.SortFunc(devices, func(a, b *estate.Device) int { return strings.Compare(string(a.ID), string(b.ID)) })
	for _, d := range devices {
		want, wrong := o.subject(d, o.person(d.Owner))
		for j := range s.Settings {
			id := s.Settings[j].ID
			is := w.State(id, d.ID)
			if is.Status != want[id].status || !is.Value.Equal(want[id].value) {
				return fmt.Sprintf("%s on %s: %v, the oracle says %s %s", id, d.ID, is, want[id].status, want[id].value)
			}
			if want[id].status == outcome.Conflict {
				at := found{string(id), strings.Join(want[id].from, ",")}
				conflicts[at] = append(conflicts[at], d.ID)
			}
		}
		for check, from := range wrong {
			at := found{check, from}
			problems[at] = append(problems[at], d.ID)
		}
	}
	list := w.Conflicts()
	if len(list) != len(conflicts) {
		return fmt.Sprintf("conflicts %v, the oracle has %v", list, conflicts)
	}
	for _, c := range list {
		if want := conflicts[found{string(c.Setting), strings.Join(c.Policies, ",")}]; !slices.Equal(c.Devices.IDs(), want) ||
			len(c.Values) < 2 {
			return fmt.Sprintf("conflict %v with %v, the oracle has %v", c, c.Values, want)
		}
	}
	all := w.Problems()
	if len(all) != len(problems) {
		return fmt.Sprintf("problems %v, the oracle has %v", all, problems)
	}
	for _, p := range all {
		if want := problems[found{string(p.Check), strings.Join(p.From, ",")}]; !slices.Equal(p.Devices.IDs(), want) {
			return fmt.Sprintf("problem %v, the oracle has %v", p, want)
		}
	}
	return ""
}

// altered gives an estate with one thing altered, and says what.
func altered(r *rand.Rand, s *estate.Snapshot) (*estate.Snapshot, string) {
	other := madeUp(r.Uint64())
	put := func(kind estate.Kind, id string, object any) (*estate.Snapshot, string) {
		return s.With(estate.Edit{Kind: kind, ID: id, Object: object}), fmt.Sprintf("%s %s", kind, id)
	}
	at := func(n int) int { return r.IntN(n) }
	switch r.IntN(17) {
	case 16: // what a baseline wants
		id := fmt.Sprintf("b%d", r.IntN(3))
		if chance(r, 30) {
			return put(estate.KindBaseline, id, nil)
		}
		return put(estate.KindBaseline, id, madeUpBaseline(r, id, s.Settings, []estate.Target{{Kind: estate.ToEveryone},
			{Kind: estate.ToDevice, ID: "d0"}, {Kind: estate.ToUnit, ID: string(s.Units[0].ID)}}))
	case 0: // values, locks, priority, kind
		p, q := pick(r, s.Policies), pick(r, other.Policies)
		p.Entries, p.Priority, p.Kind = fitting(q.Entries, s), q.Priority, q.Kind
		if chance(r, 15) {
			p.Entries = nil
		}
		return put(estate.KindPolicy, string(p.ID), p)
	case 1:
		p, q := pick(r, s.Policies), pick(r, other.Policies)
		p.Audience, p.Platforms, p.State, p.Within, p.Offered = q.Audience, q.Platforms, q.State, q.Within, q.Offered
		return put(estate.KindPolicy, string(p.ID), p)
	case 2:
		p := pick(r, s.Policies)
		p.ID = estate.PolicyID(fmt.Sprint("new", at(3)))
		return put(estate.KindPolicy, string(p.ID), p)
	case 3:
		return put(estate.KindPolicy, string(pick(r, s.Policies).ID), nil)
	case 4:
		i := at(len(s.Groups))
		g := s.Groups[i]
		if g.Of == estate.OfPeople {
			g.Members, g.Rule = some(r, names[string]("p", 6), 3), pick(r, personRules)
		} else {
			g.Members, g.Rule = some(r, names[string]("d", 8), 3), pick(r, deviceRules)
		}
		if chance(r, 30) {
			g.Detach = some(r, detachments, 2)
		}
		return put(estate.KindGroup, string(g.ID), g)
	case 5:
		i := at(len(s.Groups))
		g := s.Groups[i]
		g.Groups = nil
		for j := range i {
			if s.Groups[j].Of == g.Of && chance(r, 40) {
				g.Groups = append(g.Groups, s.Groups[j].ID)
			}
		}
		return put(estate.KindGroup, string(g.ID), g)
	case 6:
		i := 1 + at(len(s.Units)-1)
		u := s.Units[i]
		u.Parent = s.Units[at(i)].ID
		return put(estate.KindUnit, string(u.ID), u)
	case 7:
		u := pick(r, s.Units)
		u.Detach = some(r, detachments, 2)
		return put(estate.KindUnit, string(u.ID), u)
	case 8:
		d, q := *pick(r, s.Devices), *pick(r, other.Devices)
		q.ID = d.ID
		return put(estate.KindDevice, string(d.ID), q)
	case 9:
		q := *pick(r, other.Devices)
		q.ID = estate.DeviceID(fmt.Sprint("n", at(4)))
		return put(estate.KindDevice, string(q.ID), q)
	case 10:
		return put(estate.KindDevice, string(pick(r, s.Devices).ID), nil)
	case 11:
		p, q := *pick(r, s.People), *pick(r, other.People)
		q.ID = p.ID
		return put(estate.KindPerson, string(p.ID), q)
	case 12:
		x := pick(r, other.Exceptions)
		for i := range s.Settings {
			if s.Settings[i].ID == x.Setting && !x.Unset {
				x.Value = madeUpValue(r, &s.Settings[i])
			}
		}
		return put(estate.KindException, string(x.ID), x)
	case 13:
		x := pick(r, other.Rulings)
		return put(estate.KindRuling, string(x.ID), x)
	case 14:
		x := pick(r, s.Settings)
		for i := range other.Settings {
			if q := &other.Settings[i]; q.ID == x.ID {
				x.Supports, x.Side, x.Area = q.Supports, q.Side, q.Area
				if x.Combine == q.Combine && x.Stricter == q.Stricter {
					x.Forced = q.Forced
				}
			}
		}
		return put(estate.KindSetting, string(x.ID), x)
	}
	c := pick(r, s.Checks)
	c.When = pick(r, checkRules)
	c.Settings = some(r, names[setting.ID]("s", 7), 3)
	return put(estate.KindCheck, string(c.ID), c)
}

// fitting leaves out entries whose values are not of the estate's definitions.
func fitting(entries []estate.Entry, s *estate.Snapshot) (out []estate.Entry) {
	for _, e := range entries {
		for i := range s.Settings {
			if d := &s.Settings[i]; d.ID == e.Setting && len(d.Check("", e.Value)) == 0 {
				out = append(out, e)
			}
		}
	}
	return out
}

// compareWhole compares an estate of a seed, and what becomes of it over some edits, with the
// oracle and with plans made from nothing. In the end each of its lists is emptied and filled again.
func compareWhole(t *testing.T, seed uint64) {
	s := madeUp(seed)
	plan := Compile(s)
	whole := plan.Estate()
	if d := wholeDiffers(s, whole); d != "" {
		t.Fatalf("seed %d: %s", seed, d)
	}
	r := rand.New(rand.NewPCG(seed, 11))
	var trail []string
	step := func(next *estate.Snapshot, what string) {
		trail = append(trail, what)
		made := plan.With(next)
		if d := wholeDiffers(next, made.Estate()); d != "" {
			t.Fatalf("seed %d after %v: %s", seed, trail, d)
		}
		if d := planDiffers(made, Compile(next)); d != "" {
			t.Fatalf("seed %d after %v: %s", seed, trail, d)
		}
		if d := differenceDiffers(s, next, whole, made.Estate()); d != "" {
			t.Fatalf("seed %d after %v: %s", seed, trail, d)
		}
		if d := wholeDiffers(s, whole); d != "" {
			t.Fatalf("seed %d: %v altered the plan before: %s", seed, trail, d)
		}
		s, plan, whole = made.Snapshot(), made, made.Estate() // which finds laptops by their ids
	}
	for range 6 {
		next, what := altered(r, s)
		if chance(r, 20) { // several at once
			and := ""
			next, and = altered(r, next)
			what += " and " + and
		}
		step(next, what)
	}
	full := naming(s)
	for what, empty := range map[string]func(*estate.Snapshot){
		"no laptops":                func(s *estate.Snapshot) { s.Devices = nil },
		"one laptop":                func(s *estate.Snapshot) { s.Devices = s.Devices[:1] },
		"no people":                 func(s *estate.Snapshot) { s.People = nil },
		"no laptops, no people":     func(s *estate.Snapshot) { s.Devices, s.People = nil, nil },
		"no policies":               func(s *estate.Snapshot) { s.Policies = nil },
		"no groups":                 func(s *estate.Snapshot) { s.Groups = nil },
		"no exceptions and rulings": func(s *estate.Snapshot) { s.Exceptions, s.Rulings = nil, nil },
		"no checks":                 func(s *estate.Snapshot) { s.Checks = nil },
		"half of everything": func(s *estate.Snapshot) {
			s.Devices, s.People, s.Groups = half(r, s.Devices), half(r, s.People), half(r, s.Groups)
			s.Policies, s.Exceptions, s.Rulings = half(r, s.Policies), half(r, s.Exceptions), half(r, s.Rulings)
		},
		"no laptops, fewer policies": func(s *estate.Snapshot) { s.Devices, s.Policies = nil, s.Policies[:len(s.Policies)/2] },
	} {
		next := full.With()
		empty(next)
		next = naming(next)
		step(next, what)
		if r.IntN(2) == 0 {
			step(full, "everything again")
		}
	}
}

// half gives about half of a list, in its order.
func half[T any](r *rand.Rand, list []T) []T {
	return slices.DeleteFunc(slices.Clone(list), func(T) bool { return chance(r, 50) })
}

// naming gives the estate without references to what is not in it.
func naming(s *estate.Snapshot) *estate.Snapshot {
	there := map[string]bool{"everyone": true}
	for i := range s.Units {
		there["unit:"+string(s.Units[i].ID)] = true
	}
	for _, p := range s.People {
		there["person:"+string(p.ID)] = true
	}
	for _, d := range s.Devices {
		there["device:"+string(d.ID)] = true
	}
	for i := range s.Groups {
		there["group:"+string(s.Groups[i].ID)] = true
	}
	for i := range s.Policies {
		there["policy:"+string(s.Policies[i].ID)] = true
	}
	out := s.With()
	out.Devices = slices.Clone(s.Devices)
	for i, d := range out.Devices {
		if d.Owner != "" && !there["person:"+string(d.Owner)] {
			alone := *d
			alone.Owner = ""
			out.Devices[i] = &alone
		}
	}
	out.Groups = slices.Clone(s.Groups)
	for i := range out.Groups {
		g := &out.Groups[i]
		word := map[estate.GroupOf]string{estate.OfDevices: "device:", estate.OfPeople: "person:"}[g.Of]
		g.Members = slices.DeleteFunc(slices.Clone(g.Members), func(id string) bool { return !there[word+id] })
		g.Groups = slices.DeleteFunc(slices.Clone(g.Groups), func(id estate.GroupID) bool { return !there["group:"+string(id)] })
	}
	out.Policies = slices.Clone(s.Policies)
	for i := range out.Policies {
		a := &out.Policies[i].Audience
		a.Include = slices.DeleteFunc(slices.Clone(a.Include), func(t estate.Target) bool { return !there[t.String()] })
		a.Exclude = slices.DeleteFunc(slices.Clone(a.Exclude), func(t estate.Target) bool { return !there[t.String()] })
	}
	out.Exceptions = slices.DeleteFunc(slices.Clone(s.Exceptions), func(x estate.Exception) bool { return !there[x.Target.String()] })
	out.Rulings = slices.DeleteFunc(slices.Clone(s.Rulings), func(x estate.Ruling) bool {
		return !there["policy:"+string(x.Prefer)] || !there["policy:"+string(x.Over)]
	})
	return out
}

// planDiffers compares what two plans of one estate say besides settings.
func planDiffers(a, b *Plan) string {
	s := b.Snapshot()
	for i := range s.Policies {
		id := s.Policies[i].ID
		if x, y := a.Applies(id).String(), b.Applies(id).String(); x != y {
			return fmt.Sprintf("%s applies to %s, from nothing to %s", id, x, y)
		}
		reachA, _ := a.Reach(id)
		reachB, _ := b.Reach(id)
		if x, y := fmt.Sprintf("%+v", *reachA), fmt.Sprintf("%+v", *reachB); x != y {
			return fmt.Sprintf("%s reaches %s, from nothing %s", id, x, y)
		}
		for _, e := range s.Policies[i].Entries { // as when it is typed: among its laptops, beside itself
			x := fmt.Sprint(a.EntryFates(e.Setting, reachA.Gets, id))
			if y := fmt.Sprint(b.EntryFates(e.Setting, reachB.Gets, id)); x != y {
				return fmt.Sprintf("%s of %s stands %s, from nothing %s", e.Setting, id, x, y)
			}
		}
	}
	for _, variable := range []string{"device", "person"} {
		for _, field := range []string{"unit", "units", "ram", "title", "os_version"} {
			x, n := a.FieldValues(rule.Look{Variable: variable, Field: field}, 50)
			y, m := b.FieldValues(rule.Look{Variable: variable, Field: field}, 50)
			x, y = sortedValues(x), sortedValues(y)
			if n != m || fmt.Sprint(x) != fmt.Sprint(y) {
				return fmt.Sprintf("%s.%s is %v of %d, from nothing %v of %d", variable, field, x, n, y, m)
			}
		}
	}
	for i := range s.Groups {
		id := s.Groups[i].ID
		if x, y := a.GroupMembers(id), b.GroupMembers(id); !slices.Equal(x, y) || a.GroupFailures(id) != b.GroupFailures(id) {
			return fmt.Sprintf("%s has %v, from nothing %v", id, x, y)
		}
	}
	for i := range s.Devices {
		id := s.Devices[i].ID
		x, _ := a.Effective(id, "")
		y, _ := b.Effective(id, "")
		if !reflect.DeepEqual(x, y) {
			return fmt.Sprintf("%s gets %+v, from nothing %+v", id, x, y)
		}
	}
	for i := range s.Settings {
		id := s.Settings[i].ID
		var beside estate.PolicyID // another one for each setting
		if len(s.Policies) > 0 {
			beside = s.Policies[i%len(s.Policies)].ID
		}
		if x, y := fmt.Sprint(a.EntryFates(id, a.All(), beside)), fmt.Sprint(b.EntryFates(id, b.All(), beside)); x != y {
			return fmt.Sprintf("%s stands %s, from nothing %s", id, x, y)
		}
		if x, y := fmt.Sprint(a.Lacking(id), a.SupportUnknown(id)), fmt.Sprint(b.Lacking(id), b.SupportUnknown(id)); x != y {
			return fmt.Sprintf("%s lack %s, from nothing %s", id, x, y)
		}
	}
	if x, y := fmt.Sprint(a.Lints()), fmt.Sprint(b.Lints()); x != y {
		return fmt.Sprintf("lints %s, from nothing %s", x, y)
	}
	return ""
}

// sortedValues gives values in order: in which order laptops are met is another matter.
func sortedValues(values []setting.Value) []setting.Value {
	return slices.SortedFunc(slices.Values(values), setting.Value.Compare)
}

// differenceDiffers compares what Differ says with a comparison laptop by laptop.
func differenceDiffers(s, next *estate.Snapshot, before, after *EstateResolution) string {
	d := Differ(before, after)
	want := map[string]bool{}
	settings := map[setting.ID]bool{}
	devices := map[estate.DeviceID]bool{}
	for _, of := range []*estate.Snapshot{s, next} {
		for i := range of.Settings {
			settings[of.Settings[i].ID] = true
		}
		for i := range of.Devices {
			devices[of.Devices[i].ID] = true
		}
	}
	for id := range settings {
		for dev := range devices {
			if a, b := before.State(id, dev), after.State(id, dev); !a.Equal(b) {
				want[turnWords(id, dev, a, b)] = true
			}
		}
	}
	n := 0
	for _, a := range d.Alterations {
		for _, dev := range a.Devices.IDs() {
			n++
			if !want[turnWords(a.Setting, dev, a.From, a.To)] {
				return fmt.Sprintf("alteration %v on %s is none", a, dev)
			}
		}
	}
	if n != len(want) {
		return fmt.Sprintf("%d alterations, laptop by laptop %d", n, len(want))
	}
	for i := range next.Policies {
		id := next.Policies[i].ID
		at := slices.IndexFunc(d.Movements, func(m Movement) bool { return m.Policy == id })
		var m Movement
		if at >= 0 {
			m = d.Movements[at]
		}
		for dev := range devices {
			was, is := before.Plan().Applies(id).Has(dev), after.Plan().Applies(id).Has(dev)
			if m.Gained.Has(dev) != (is && !was) || m.Dropped.Has(dev) != (was && !is) {
				return fmt.Sprintf("%s moves %v, but on %s it was %v and is %v", id, m, dev, was, is)
			}
		}
	}
	return ""
}

// turnWords is the same for equal turns; files are equal whatever they are called.
func turnWords(id setting.ID, dev estate.DeviceID, a, b outcome.State) string {
	return fmt.Sprintf("%s %s %s %q %s %q", id, dev, a.Status, a.Value.AppendIdentity(nil), b.Status, b.Value.AppendIdentity(nil))
}

// TestWholeEstatesAndEdits compares made-up estates and edits of them with the slow program: the
// same ones on every run, and a few that were never tried. What fails names its seed.
func TestWholeEstatesAndEdits(t *testing.T) {
	t.Parallel()
	same, fresh := uint64(50), 10
	if testing.Short() {
		same, fresh = 10, 0
	}
	for seed := range same {
		compareWhole(t, seed)
	}
	for range fresh {
		compareWhole(t, rand.Uint64())
	}
}

func FuzzWholeEstatesAndEdits(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(compareWhole)
}
