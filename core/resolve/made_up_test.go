// This file makes estates up, with everything that resolution knows in them.

package resolve_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

func must(scope rule.Scope, source string) *rule.Rule {
	r, err := rule.Compile(scope, source)
	if err != nil {
		panic(err)
	}
	return r
}

// The rules are few and compiled once: what matters is how they meet.
var (
	deviceRules = []*rule.Rule{
		must(rule.OfDevice, `device.os == "linux"`),
		must(rule.OfDevice, `device.os_version.atLeast("12")`),
		must(
			rule.OfDevice,
			`device.ram_gb >= 8 || "field" in device.tags`,
		),
		must(rule.OfDevice, `"u1" in device.units`),
		must(rule.OfDevice, `device.os`),
		must(rule.OfDevice, `device.size() > 7`),
		must(rule.OfDevice, `device.os == "linux" || !(device.ram_gb < 9 && device.tags[0] == "field")`),
	}
	personRules = []*rule.Rule{
		must(rule.OfPerson, `person.title == "lead"`), must(rule.OfPerson, `!has(person.unit)`), must(rule.OfPerson, `person.unit != "u2"`),
	}
	whenRules = []*rule.Rule{
		must(
			rule.OfWhen,
			`device.os != "macos"`,
		),
		must(rule.OfWhen, `person.id != "p1"`),
		must(rule.OfWhen, `has(person.id) && device.ram_gb > 4`),
		must(
			rule.OfWhen,
			`device.os_version.below("11.5") || device.secure == true`,
		),
		must(rule.OfWhen, `person.unit == device.unit`),
		must(rule.OfWhen, `person.size() == 0`),
	}
	forcedRules = []*rule.Rule{
		must(
			rule.OfForced,
			`settings["s0"] == true`,
		),
		must(rule.OfForced, `device.os == "windows"`),
		must(rule.OfForced, `settings["s2"].size() > 1`),
		must(rule.OfForced, `settings.exists(k, k == "s1")`),
		must(rule.OfForced, `settings["s1"] < 2 && settings["s2"].exists(x, x in settings["s3"])`),
	}
	checkRules = []*rule.Rule{
		must(
			rule.OfCheck,
			`settings["s0"] == true && settings["s1"] < 3`,
		),
		must(rule.OfCheck, `!("s3" in settings)`),
		must(rule.OfCheck, `person.title == "lead" && settings["s5"] == "b"`),
		must(rule.OfCheck, `settings.size() > 5`),
		must(rule.OfCheck, `settings["s4"] == "one" && device.os == "linux" || settings["s7"].size() > settings["s1"]`),
	}
)

// detachments is what units and groups may detach: every kind of policy, and two of the three areas
// that settings are in.
var detachments = []estate.Detachment{
	{Kind: setting.Configuration},
	{Kind: setting.Security},
	{Kind: setting.Encryption},
	{Area: "one"},
	{Area: "two"},
}

func pick[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

func some[T any](r *rand.Rand, from []T, most int) []T {
	out := slices.Clone(from)
	r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out[:min(len(out), r.IntN(most+1))]
}

func names[T ~string](prefix string, n int) []T {
	out := make([]T, n)
	for i := range out {
		out[i] = T(fmt.Sprintf("%s%d", prefix, i))
	}
	return out
}

func chance(r *rand.Rand, percent int) bool { return r.IntN(100) < percent }

// madeUp gives an estate of a seed: small, so that everything meets everything.
func madeUp(seed uint64) *estate.Snapshot {
	r := rand.New(rand.NewPCG(seed, 7))
	s := &estate.Snapshot{Day: "2026-05-10"}
	units, people, devices := names[estate.UnitID]("u", 6), names[estate.PersonID]("p", 6), names[estate.DeviceID]("d", 8)
	groups, policies := names[estate.GroupID]("g", 7), names[estate.PolicyID]("pol", 9)
	for i, id := range units {
		u := estate.Unit{ID: id}
		if i > 0 {
			u.Parent = units[r.IntN(i)]
		}
		if chance(r, 20) {
			u.Detach = some(r, detachments, 2)
		}
		s.Units = append(s.Units, u)
	}
	for _, id := range people {
		p := estate.Person{ID: id, Attributes: map[string]setting.Value{}}
		if chance(r, 70) {
			p.Unit = pick(r, units)
		}
		if chance(r, 50) {
			p.Attributes["title"] = setting.TextValue(pick(r, []string{"lead", "mate"}))
		}
		s.People = append(s.People, &p)
	}
	for _, id := range devices {
		d := estate.Device{
			ID:        id,
			OS:        pick(r, setting.Platforms),
			OSVersion: pick(r, []string{"10", "11.4", "12", "12.0.1", "rolling"}),
			Edition:   pick(r, []string{"", "desk", "field"}),
			Facts:     map[string]setting.Value{},
		}
		if chance(r, 75) {
			d.Owner = pick(r, people)
		}
		if chance(r, 50) {
			d.Unit = pick(r, units)
		}
		if chance(r, 50) {
			d.Facts["ram_gb"] = setting.IntegerValue(int64(4 * (1 + r.IntN(4))))
		}
		d.Tags = some(r, []string{"field", "spare"}, 2)
		if chance(r, 60) {
			d.Taken = some(r, policies, 4)
		}
		s.Devices = append(s.Devices, &d)
	}
	for i, id := range groups {
		g := estate.Group{ID: id, Of: pick(r, estate.GroupKinds)}
		if g.Of == estate.OfPeople {
			g.Members = some(r, names[string]("p", 6), 3)
		} else {
			g.Members = some(r, names[string]("d", 8), 3)
		}
		if chance(r, 50) && g.Of == estate.OfPeople {
			g.Rule = pick(r, personRules)
		} else if chance(r, 50) && g.Of == estate.OfDevices {
			g.Rule = pick(r, deviceRules)
		}
		for j := range i {
			if s.Groups[j].Of == g.Of && chance(r, 25) {
				g.Groups = append(g.Groups, groups[j])
			}
		}
		if chance(r, 15) {
			g.Detach = some(r, detachments, 1)
		}
		s.Groups = append(s.Groups, g)
	}
	s.Settings = madeUpSettings(r)
	targets := []estate.Target{{Kind: estate.ToEveryone}}
	for _, id := range units {
		targets = append(targets, estate.Target{Kind: estate.ToUnit, ID: string(id)})
	}
	for _, id := range groups {
		targets = append(targets, estate.Target{Kind: estate.ToGroup, ID: string(id)}, estate.Target{Kind: estate.ToGroup, ID: string(id)})
	}
	targets = append(
		targets,
		estate.Target{Kind: estate.ToDevice, ID: "d0"},
		estate.Target{Kind: estate.ToPerson, ID: "p0"},
		estate.Target{Kind: estate.ToPerson, ID: "p1"},
	)
	for _, id := range policies {
		p := estate.Policy{ID: id, Kind: pick(r, setting.PolicyKinds), State: estate.Active, Priority: int64(r.IntN(2))}
		if chance(r, 8) {
			p.State = pick(r, estate.States)
		}
		if chance(r, 15) {
			p.Platforms = some(r, setting.Platforms, 2)
		}
		if chance(r, 15) {
			p.Within = pick(r, units)
		}
		p.Offered = chance(r, 20)
		p.Audience.Include = slices.Compact(some(r, targets, 4))
		if chance(r, 25) {
			p.Audience.Exclude = some(r, targets, 1)
		}
		if chance(r, 20) {
			p.Audience.When = pick(r, whenRules)
		}
		for i := range s.Settings {
			if d := &s.Settings[i]; chance(r, 55) {
				p.Entries = append(p.Entries, estate.Entry{Setting: d.ID, Value: madeUpValue(r, d), Lock: chance(r, 12)})
			}
		}
		s.Policies = append(s.Policies, p)
	}
	for i := range r.IntN(3) {
		s.Baselines = append(s.Baselines, madeUpBaseline(r, fmt.Sprintf("b%d", i), s.Settings, targets))
	}
	for i := range 4 {
		x := estate.Exception{
			ID:         estate.ExceptionID(fmt.Sprintf("x%d", i)),
			Target:     pick(r, targets),
			Until:      pick(r, []estate.Date{"2026-05-09", "2026-05-10", "2026-06-01"}),
			ApprovedOn: pick(r, []estate.Date{"2026-01-01", "2026-01-02"}),
		}
		if chance(r, 40) {
			x.From = pick(r, []estate.Date{"2026-05-10", "2026-05-11"})
		}
		d := &s.Settings[r.IntN(len(s.Settings))]
		x.Setting = d.ID
		if x.Unset = chance(r, 30); !x.Unset {
			x.Value = madeUpValue(r, d)
		}
		s.Exceptions = append(s.Exceptions, x)
	}
	for i := range 14 {
		a, b := pick(r, policies), pick(r, policies)
		if a != b {
			s.Rulings = append(
				s.Rulings,
				estate.Ruling{ID: estate.RulingID(fmt.Sprintf("r%d", i)), Setting: pick(r, []setting.ID{"s4", "s5"}), Prefer: a, Over: b},
			)
		}
	}
	for i, when := range checkRules {
		s.Checks = append(
			s.Checks,
			estate.Check{
				ID:       estate.CheckID(fmt.Sprintf("c%d", i)),
				Message:  "m",
				Settings: some(r, names[setting.ID]("s", 7), 3),
				When:     when,
			},
		)
	}
	return s
}

func madeUpBaseline(r *rand.Rand, id string, settings []setting.Definition, targets []estate.Target) estate.Baseline {
	b := estate.Baseline{ID: estate.BaselineID(id), Audience: estate.Audience{Include: slices.Compact(some(r, targets, 3))}}
	for i := range settings {
		if chance(r, 60) {
			b.Items = append(b.Items, estate.BaselineItem{
				Setting: settings[i].ID, Value: madeUpValue(r, &settings[i]), Severity: estate.Low,
				OnDrift: pick(r, []estate.OnDrift{estate.Repair, estate.Repair, estate.Report}),
			})
		}
	}
	return b
}

func madeUpSettings(r *rand.Rand) []setting.Definition {
	text := func(id setting.ID, t setting.Type, c setting.Combine) setting.Definition {
		return setting.Definition{ID: id, Shape: setting.Shape{Type: t}, Combine: c, Kind: setting.Security, Side: pick(r, setting.Sides)}
	}
	defs := []setting.Definition{
		text("s0", setting.TypeBool, setting.Strictest),
		text("s1", setting.TypeInteger, setting.Strictest),
		text("s2", setting.TypeList, setting.Merge),
		text("s3", setting.TypeList, setting.Common),
		text("s4", setting.TypeText, setting.Closest),
		text("s5", setting.TypeChoice, setting.Closest),
		text("s6", setting.TypeList, setting.Closest),
		text("s7", setting.TypeTable, setting.Merge),
		text("s8", setting.TypeTable, setting.Closest),
		text("s9", setting.TypeFile, setting.Closest),
	}
	defs[0].Stricter = pick(r, []setting.Stricter{setting.StricterTrue, setting.StricterFalse})
	defs[1].Stricter = pick(r, []setting.Stricter{setting.StricterLower, setting.StricterHigher})
	defs[5].Options = []string{"a", "b", "c"}
	for _, table := range []int{7, 8} {
		defs[table].Columns = []setting.Column{
			{Name: "name", Shape: setting.Shape{Type: setting.TypeText}},
			{Name: "on", Shape: setting.Shape{Type: setting.TypeBool}},
		}
		if chance(r, 60) {
			defs[table].Key = []string{"name"}
		}
	}
	if chance(r, 40) {
		defs[5].Combine, defs[5].Stricter = setting.Strictest, setting.StricterLater
	}
	for i := range defs {
		if chance(r, 20) {
			defs[i].Supports = []setting.Support{
				{Platform: setting.Linux, From: "11"},
				{Platform: setting.Windows, Editions: []string{"desk"}},
			}
			for row := range defs[i].Supports {
				if chance(r, 50) {
					defs[i].Supports[row].When = pick(r, deviceRules)
				}
			}
		}
		defs[i].Area = pick(r, []string{"", "one", "two", "three"})
		if chance(r, 30) {
			defs[i].Forced = []setting.Forced{
				{When: pick(r, forcedRules), Value: madeUpValue(r, &defs[i])},
				{When: pick(r, forcedRules), Value: madeUpValue(r, &defs[i])},
			}
		}
	}
	return defs
}

func madeUpValue(r *rand.Rand, d *setting.Definition) setting.Value {
	switch d.Type {
	case setting.TypeBool:
		return setting.BoolValue(chance(r, 50))
	case setting.TypeInteger:
		return setting.IntegerValue(int64(r.IntN(4)))
	case setting.TypeChoice:
		return setting.TextValue(pick(r, d.Options))
	case setting.TypeList:
		return setting.ListValue(some(r, []string{"x", "y", "z"}, 3))
	}
	if d.Type == setting.TypeTable {
		var rows []setting.Row
		for _, name := range some(r, []string{"x", "y", "z"}, 3) {
			row := setting.Row{"name": setting.TextValue(name)}
			if chance(r, 50) {
				row["on"] = setting.BoolValue(chance(r, 80))
			}
			rows = append(rows, row)
		}
		return setting.TableValue(rows)
	}
	if d.Type == setting.TypeFile {
		return setting.FileValue(
			setting.File{SHA256: strings.Repeat(pick(r, []string{"a", "b"}), 64), Name: pick(r, []string{"one.pem", "two.pem"})},
		)
	}
	return setting.TextValue(pick(r, []string{"one", "two"}))
}

// shuffled gives the same estate with every list in another order.
func shuffled(s *estate.Snapshot, seed uint64) *estate.Snapshot {
	r := rand.New(rand.NewPCG(seed, 9))
	out := s.With()
	out.Units, out.People, out.Devices = some2(r, s.Units), some2(r, s.People), some2(r, s.Devices)
	out.Groups, out.Policies, out.Rulings = some2(r, s.Groups), some2(r, s.Policies), some2(r, s.Rulings)
	out.Exceptions, out.Settings, out.Checks = some2(r, s.Exceptions), some2(r, s.Settings), some2(r, s.Checks)
	return out
}

func some2[T any](r *rand.Rand, list []T) []T {
	out := slices.Clone(list)
	r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}
