package review_test

import (
	"fmt"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	. "zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// whoEstate is a small estate: a fleet with two boats and a laboratory, a policy for all, one for
// the fleet, one for a group.
func whoEstate(t *testing.T) *estate.Snapshot {
	t.Helper()
	roomy, err := rule.Compile(rule.OfWhen, `device.ram_gb >= 16`)
	if err != nil {
		t.Fatal(err)
	}
	field, err := rule.Compile(rule.OfDevice, `"field" in device.tags && device.os == "linux"`)
	if err != nil {
		t.Fatal(err)
	}
	text := func(id setting.ID) setting.Definition {
		return setting.Definition{
			ID:      id,
			Title:   string(id),
			Kind:    setting.PolicyKinds[0],
			Side:    setting.DeviceSide,
			Combine: setting.Closest,
			Shape:   setting.Shape{Type: "text"},
		}
	}
	device := func(id string, unit estate.UnitID, os setting.Platform, version string, owner estate.PersonID, ram int64,
		tags ...string) *estate.Device {
		d := &estate.Device{ID: estate.DeviceID(id), Unit: unit, OS: os, OSVersion: version, Owner: owner, Tags: tags, Serial: "S-" + id}
		if ram > 0 {
			d.Facts = map[string]setting.Value{"ram_gb": setting.IntegerValue(ram)}
		}
		return d
	}
	to := func(kind estate.TargetKind, id string) estate.Target { return estate.Target{Kind: kind, ID: id} }
	policy := func(id estate.PolicyID, banner string, include ...estate.Target) estate.Policy {
		return estate.Policy{
			ID:       id,
			Kind:     "configuration",
			State:    estate.Active,
			Entries:  []estate.Entry{{Setting: "banner", Value: setting.TextValue(banner)}},
			Audience: estate.Audience{Include: include},
		}
	}
	s := &estate.Snapshot{
		Day: "2026-11-23",
		Units: []estate.Unit{
			{ID: "r"},
			{ID: "fleet", Parent: "r"},
			{ID: "petrel", Parent: "fleet"},
			{ID: "dunlin", Parent: "fleet"},
			{ID: "lab", Parent: "r"},
		},
		People: []*estate.Person{{ID: "ines"}, {ID: "tomas"}},
		Devices: []*estate.Device{
			device(
				"A",
				"petrel",
				"linux",
				"12",
				"ines",
				8,
				"field",
			),
			device("B", "petrel", "macos", "14", "tomas", 16),
			device("C", "dunlin", "linux", "13", "", 32, "field"),
			device("D", "lab", "linux", "12", "", 0),
			device("E", "lab", "linux", "13", "", 64),
		},
		Groups: []estate.Group{
			{ID: "field", Of: estate.OfDevices, Rule: field},
			{ID: "benches", Of: estate.OfDevices, Members: []string{"D"}, Groups: []estate.GroupID{"field"}},
			{ID: "leads", Of: estate.OfPeople, Members: []string{"ines"}},
		},
		Policies: []estate.Policy{
			policy("house", "House", to(estate.ToEveryone, "")),
			policy("at-sea", "At sea", to(estate.ToUnit, "fleet")),
			policy("benches", "Bench", to(estate.ToGroup, "benches")),
		},
		Settings: []setting.Definition{text("banner"), text("name")},
	}
	s.Policies[0].Entries = append(s.Policies[0].Entries, estate.Entry{Setting: "name", Value: setting.TextValue("Larkfell")})
	s.Policies[1].Audience.When = roomy
	if faults := s.Validate(); len(faults) > 0 {
		t.Fatal(faults)
	}
	return s
}

func TestAnAudienceIsSaidInNumbersAndNames(t *testing.T) {
	s := whoEstate(t)
	side := impact.Resolve(s)
	p := s.Policies[1]
	p.Audience.Include = append(
		slices.Clone(p.Audience.Include),
		estate.Target{Kind: estate.ToUnit, ID: "lab"},
		estate.Target{Kind: estate.ToGroup, ID: "nowhere"},
	)
	p.Audience.Exclude = []estate.Target{{Kind: estate.ToGroup, ID: "leads"}, {Kind: estate.ToDevice, ID: "E"}}
	a := LookAt(side, &p, 50)
	if got := fmt.Sprint(
		a.Gets,
		a.Excluded,
		a.Condition,
		a.NotIncluded,
		a.Gets.Owners(),
		a.Missing,
	); got != "[B C] [A E] [D] [] [tomas] [group:nowhere]" {
		t.Errorf("it reaches %s", got)
	}
	if got := fmt.Sprint(
		a.ByPlatform,
		a.ByUnit,
		a.ByInclude,
		a.ByExclude,
	); got != "[{linux  1 4} {macos  1 1}] [{dunlin  1 1} {petrel  1 2}] [{unit:fleet 3} {unit:lab 2}] [{group:leads 1} {device:E 1}]" {
		t.Errorf("in parts: %s", got)
	}
	if len(a.Errors) != 1 || a.Alarm != NoAlarm {
		t.Errorf("failing: %v, alarm %q", a.Errors, a.Alarm)
	}
	everyone := s.Policies[0]
	for name, c := range map[string]struct {
		alter func(*estate.Policy)
		want  Alarm
	}{
		"for all":  {func(*estate.Policy) {}, Everyone},
		"the root": {func(p *estate.Policy) { p.Audience.Include = []estate.Target{{Kind: estate.ToUnit, ID: "r"}} }, Everyone},
		"all, one by one": {func(p *estate.Policy) {
			p.Audience.Include = []estate.Target{{Kind: estate.ToUnit, ID: "fleet"}, {Kind: estate.ToUnit, ID: "lab"}}
		}, Everyone},
		"most": {func(p *estate.Policy) { p.Platforms = []setting.Platform{"linux"} }, Many},
		"few":  {func(p *estate.Policy) { p.Audience.Include = []estate.Target{{Kind: estate.ToDevice, ID: "A"}} }, NoAlarm},
		"none": {func(p *estate.Policy) { p.Audience.Include = nil }, Nobody},
	} {
		p := everyone
		c.alter(&p)
		if got := LookAt(side, &p, 50).Alarm; got != c.want {
			t.Errorf("%s: %q, expected %q", name, got, c.want)
		}
	}
	fleet, field := side.Plan.Matching(
		estate.Target{Kind: estate.ToUnit, ID: "fleet"},
	), side.Plan.Matching(
		estate.Target{Kind: estate.ToGroup, ID: "field"},
	)
	shares := Share(fleet, field)
	if fmt.Sprint(shares) != fmt.Sprintf("{%s %s %s}", fleet.Without(field), fleet.And(field), field.Without(fleet)) ||
		shares.OnlyA.Len()+shares.Both.Len() != fleet.Len() ||
		shares.Both.Len()+shares.OnlyB.Len() != field.Len() {
		t.Errorf("shared: %v", shares)
	}
}

// TestAnExcludeNeverAddsALaptop tries every exclude with every include.
func TestAnExcludeNeverAddsALaptop(t *testing.T) {
	s := whoEstate(t)
	side := impact.Resolve(s)
	targets := []estate.Target{
		{Kind: estate.ToEveryone},
		{Kind: estate.ToUnit, ID: "fleet"},
		{Kind: estate.ToUnit, ID: "lab"},
		{Kind: estate.ToGroup, ID: "benches"},
		{Kind: estate.ToGroup, ID: "leads"},
		{Kind: estate.ToDevice, ID: "C"},
		{Kind: estate.ToPerson, ID: "tomas"},
	}
	for _, include := range targets {
		p := estate.Policy{ID: "p", Audience: estate.Audience{Include: []estate.Target{include}}}
		all := LookAt(side, &p, 0)
		for _, exclude := range targets {
			p.Audience.Exclude = []estate.Target{exclude}
			a := LookAt(side, &p, 0)
			if a.Gets.Len()+a.Excluded.Len() != all.Gets.Len() || a.Gets.Without(all.Gets).Len() > 0 {
				t.Errorf("%s without %s: %v, of %v", include, exclude, a.Gets, all.Gets)
			}
		}
	}
}

func TestATestGroupIsSpread(t *testing.T) {
	s := whoEstate(t)
	plan := resolve.Compile(s)
	all := []estate.DeviceID{"A", "B", "C", "D", "E"}
	if got := fmt.Sprint(Spread(plan, all, 4)); got != "[A B C E]" && got != "[A B C D]" {
		t.Errorf("four of five are %s: every platform and unit should be among them", got)
	}
	if got := Spread(plan, all, 9); len(got) != 5 {
		t.Errorf("more than there are: %v", got)
	}
	if fmt.Sprint(Spread(plan, all, 3)) != fmt.Sprint(Spread(plan, slices.Clone(all), 3)) {
		t.Error("twice gives two answers")
	}
}

func TestLaptopsSideBySide(t *testing.T) {
	s := whoEstate(t)
	plan := resolve.Compile(s)
	a, _ := plan.Effective("A", "")
	d, _ := plan.Effective("E", "")
	pair := Beside(a, d, plan, plan)
	if len(pair.Settings) != 2 || pair.Settings[0].Same || !pair.Settings[1].Same ||
		fmt.Sprint(pair.OnlyA, pair.OnlyB, pair.GroupsA) != "[benches] [] [benches field leads]" {
		t.Errorf("side by side: %+v", pair)
	}
	value := func(pair Pair) string {
		return pair.Settings[0].A.Value.Text() + " → " + pair.Settings[0].B.Value.Text()
	}
	nobody := estate.PersonID("")
	for name, c := range map[string]struct {
		device estate.DeviceID
		what   WhatIf
		want   string
	}{
		"moves": {"E", WhatIf{Unit: "petrel"}, "House → At sea"}, "joins": {"E", WhatIf{Join: []estate.GroupID{"benches"}}, "House → Bench"},
		"leaves a list": {"D", WhatIf{Leave: []estate.GroupID{"benches"}}, "Bench → House"},
		"leaves a rule": {"C", WhatIf{Leave: []estate.GroupID{"field"}}, "Bench → At sea"},
		"no owner":      {"A", WhatIf{Owner: &nobody}, "Bench → Bench"}, "another signs in": {"A", WhatIf{Person: "tomas"}, "Bench → Bench"},
		"nothing": {"B", WhatIf{}, "At sea → At sea"},
	} {
		pair, err := Suppose(s, c.device, c.what)
		if err != nil || value(pair) != c.want {
			t.Errorf("%s: %s %v, expected %s", name, value(pair), err, c.want)
		}
	}
	other := estate.PersonID("nobody")
	for name, c := range map[string]struct {
		device estate.DeviceID
		what   WhatIf
	}{"device": {"Z", WhatIf{}}, "unit": {"A", WhatIf{Unit: "moon"}}, "group": {"A", WhatIf{Join: []estate.GroupID{"moon"}}},
		"owner": {"A", WhatIf{Owner: &other}}, "person": {"A", WhatIf{Person: "nobody"}}} {
		if _, err := Suppose(s, c.device, c.what); err == nil {
			t.Errorf("an unknown %s was supposed", name)
		}
	}
	// What is supposed of a laptop is what the whole estate would say of it.
	moved := *s
	moved.Devices = slices.Clone(s.Devices)
	laptop := *s.Devices[4]
	laptop.Unit = "petrel"
	moved.Devices[4] = &laptop
	whole, _ := resolve.Compile(&moved).Effective("E", "")
	pair, _ = Suppose(s, "E", WhatIf{Unit: "petrel"})
	if fmt.Sprint(pair.B.Settings) != fmt.Sprint(whole.Settings) {
		t.Errorf("alone %v, within the estate %v", pair.B.Settings, whole.Settings)
	}
}

func TestDetaching(t *testing.T) {
	s := whoEstate(t)
	fleet := estate.Target{Kind: estate.ToUnit, ID: "fleet"}
	after := s.With(
		estate.Edit{
			Kind:   estate.KindUnit,
			ID:     "fleet",
			Object: estate.Unit{ID: "fleet", Parent: "r", Detach: []estate.Detachment{{Kind: "configuration"}}},
		},
	)
	d := Detach(impact.Resolve(s), impact.Resolve(after), fleet)
	if d.Devices != 3 || d.Touched != 3 || d.Policies != 1 ||
		fmt.Sprint(d.Dropped) != fmt.Sprintf(
			"[{house banner %s 3} {house name %s 3}]",
			setting.TextValue("House"),
			setting.TextValue("Larkfell"),
		) {
		t.Errorf("it costs %+v", d)
	}
	if len(d.Today) != 1 || d.Today[0].Setting != "name" || d.Today[0].Devices != 3 || d.Today[0].Others != 0 {
		t.Errorf("today's values: %+v", d.Today)
	}
	then := func(id estate.PolicyID) *estate.Policy { p := s.Policies[0]; return &p }
	if missed := MissedSince(resolve.Compile(after), fleet, then); len(missed) != 0 {
		t.Errorf("missed at once: %+v", missed)
	}
	house := s.Policies[0]
	house.Entries = []estate.Entry{
		{Setting: "name", Value: setting.TextValue("Larkfell Ltd")},
		{Setting: "banner", Value: setting.TextValue("House")},
	}
	later := after.With(estate.Edit{Kind: estate.KindPolicy, ID: "house", Object: house})
	missed := MissedSince(resolve.Compile(later), fleet, then)
	if len(missed) != 1 || missed[0].Setting != "name" || missed[0].Was.Text() != "Larkfell" || missed[0].Value.Text() != "Larkfell Ltd" ||
		missed[0].Devices != 3 {
		t.Errorf("missed since: %+v", missed)
	}
	if missed := MissedSince(
		resolve.Compile(later),
		fleet,
		func(estate.PolicyID) *estate.Policy { return nil },
	); len(missed) != 2 ||
		missed[0].Was != nil {
		t.Errorf("of a policy that is new: %+v", missed)
	}
	if missed := MissedSince(resolve.Compile(later), estate.Target{Kind: estate.ToUnit, ID: "lab"}, then); len(missed) != 0 {
		t.Errorf("elsewhere: %+v", missed)
	}
}

func TestGroupsAreTriedAndExplained(t *testing.T) {
	s := whoEstate(t)
	plan := resolve.Compile(s)
	small, _ := rule.Compile(rule.OfDevice, `device.ram_gb < 32`)
	trial := plan.TryGroup(
		&estate.Group{ID: "new", Of: estate.OfDevices, Members: []string{"E", "A"}, Groups: []estate.GroupID{"field"}, Rule: small},
	)
	if fmt.Sprint(trial.Members, trial.Listed, trial.Nested, trial.ByRule) != "[A B C E] 2 1 1" || len(trial.Failures) != 1 ||
		trial.Failures["D"] == "" {
		t.Errorf("tried: %+v", trial)
	}
	if people := plan.TryGroup(
		&estate.Group{ID: "new", Of: estate.OfPeople, Groups: []estate.GroupID{"leads"}},
	); fmt.Sprint(people.Members, people.Nested) != "[ines] 1" {
		t.Errorf("people: %+v", people)
	}
	var why []string
	for _, m := range plan.Memberships("A") {
		why = append(why, fmt.Sprintf("%s listed %v via %v rule %d owner %v", m.Group, m.Listed, m.Via, len(m.Rule), m.Owner))
	}
	if !slices.Equal(
		why,
		[]string{
			"field listed false via [] rule 3 owner false",
			"benches listed false via [field] rule 0 owner false",
			"leads listed true via [] rule 0 owner true",
		},
	) {
		t.Errorf("why: %q", why)
	}
	if in := plan.PersonMemberships("ines"); len(in) != 1 || !in[0].Listed || in[0].Owner {
		t.Errorf("a person: %+v", in)
	}
	for i := range s.Groups {
		if got := plan.TryGroup(&s.Groups[i]); !slices.Equal(got.Members, plan.GroupMembers(s.Groups[i].ID)) {
			t.Errorf("%s tried has %v, and is %v", s.Groups[i].ID, got.Members, plan.GroupMembers(s.Groups[i].ID))
		}
	}
}
