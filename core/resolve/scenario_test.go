package resolve_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

// base is the estate of the scenarios: slipway below larkfell, ines who leads a crew, LT-7 that is
// hers and at home in slipway.
const base = `
units: [{id: larkfell}, {id: slipway, parent: larkfell}, {id: labs, parent: larkfell, detach: [configuration]}]
people: [{id: ines, unit: slipway}, {id: tomas}]
devices:
  - {id: LT-7, os: linux, os_version: "12", unit: slipway, owner: ines, facts: {ram_gb: 16}}
  - {id: LT-8, os: windows, os_version: "10.4", unit: labs}
groups:
  - {id: crew-leads, of: people, members: [ines]}
  - {id: detach, of: people, members: [tomas], detach: [security]}
settings:
  - {id: lock, kind: security, type: integer, combine: strictest, stricter: lower}
  - {id: banner, kind: security, type: text}
  - {id: sites, kind: security, type: list, combine: merge}
  - {id: domains, kind: security, type: list, combine: common, side: user}
  - {id: wifi, kind: configuration, type: bool, supports: [{platform: linux, from: "11"}, {platform: windows, editions: [field]}]}
  - {id: consent, kind: security, type: bool, forced: [{when: 'settings["banner"] == "none"', value: true}, {when: 'settings["lock"] > 100', value: false}]}
checks:
  - {id: no-banner, message: no banner, settings: [banner, lock], when: 'settings["banner"] == "none" && settings["lock"] > 20'}
`

// policy writes a policy: id, target, and settings as YAML.
func policy(id, rest string) string { return "  - {id: " + id + ", kind: security, " + rest + "}\n" }

// TestScenarios reads as sentences: with these policies, LT-7 (or who is named) gets that.
func TestScenarios(t *testing.T) {
	t.Parallel()
	example := policy("house-rules", `priority: 10, settings: {lock: 15, banner: Larkfell property}, audience: {include: [everyone]}`) +
		policy("slipway-desk", `priority: 10, settings: {lock: 30, banner: Slipway desk}, audience: {include: ["unit:slipway"]}`) +
		policy("leads", `priority: 10, settings: {banner: Call the duty lead}, audience: {include: ["group:crew-leads"]}`) +
		policy("leads-night", `priority: 10, settings: {banner: Night watch}, audience: {include: ["group:crew-leads"]}`)
	for name, c := range map[string]struct {
		policies string
		more     string
		device   string
		person   estate.PersonID
		want     string // one "setting: outcome; fates" a line
	}{
		"the example of the contract": {
			policies: example,
			want: `banner: conflict from leads,leads-night; house-rules outer, leads clashing, leads-night clashing, slipway-desk outer
lock: 15 strictest from house-rules; house-rules won, slipway-desk weaker`,
		},
		"a ruling settles it": {
			policies: example, more: "rulings: [{id: R, setting: banner, prefer: leads-night, over: leads}]",
			want: `banner: "Night watch" ruling from leads-night; house-rules outer, leads ruled-out, leads-night won, slipway-desk outer
lock: 15 strictest from house-rules; house-rules won, slipway-desk weaker`,
		},
		"a locked entry further out": {
			policies: strings.Replace(example, "banner: Larkfell property", "banner: {value: Larkfell property, lock: true}", 1),
			want: `banner: "Larkfell property" closest from house-rules; house-rules won, leads locked-out, leads-night locked-out, slipway-desk locked-out
lock: 15 strictest from house-rules; house-rules won, slipway-desk weaker`,
		},
		"the innermost of several includes is the level": {
			policies: policy("a", `settings: {banner: A}, audience: {include: [everyone, "device:LT-7"]}`) + policy("b",
				`priority: 99, settings: {banner: B}, audience: {include: ["group:crew-leads"]}`),
			want: `banner: "A" closest from a; a won, b outer`,
		},
		"equal values do not conflict": {
			policies: policy("a", `settings: {banner: A}, audience: {include: [everyone]}`) + policy("b",
				`settings: {banner: A}, audience: {include: [everyone]}`),
			want: `banner: "A" closest from a,b; a won, b won`,
		},
		"lists add up, whatever is locked": {
			policies: policy("a", `settings: {sites: [b, a]}, audience: {include: [everyone]}`) + policy("b",
				`settings: {sites: {value: [c, a], lock: true}}, audience: {include: ["device:LT-7"]}`),
			want: `sites: ["a", "b", "c"] merge from a,b; a won, b won`,
		},
		"nothing in common is a conflict that no ruling settles": {
			policies: policy("a", `settings: {domains: [x]}, audience: {include: [everyone]}`) + policy("b",
				`settings: {domains: [y]}, audience: {include: [everyone]}`),
			more: "rulings: [{id: R, setting: domains, prefer: a, over: b}]",
			want: `domains: conflict from a,b; a clashing, b clashing`,
		},
		"an empty list leaves nothing in common, and is no conflict": {
			policies: policy("a", `settings: {domains: [x]}, audience: {include: [everyone]}`) + policy("b",
				`settings: {domains: []}, audience: {include: [everyone]}`),
			want: `domains: [] common from a,b; a won, b won`,
		},
		"a unit that is detached": {
			device: "LT-8",
			policies: "  - {id: c, kind: configuration, settings: {banner: outer, lock: 1, sites: [s]}, audience: {include: " +
				"[everyone]}}\n  - " +
				"{id: d, kind: configuration, settings: {lock: 7}, audience: {include: [\"unit:labs\"]}}\n",
			want: `lock: 7 strictest from d; c detached, d won
sites: ["s"] merge from c; c won`,
		},
		"a group that is detached, for another person": {
			person:   "tomas",
			policies: policy("a", `settings: {domains: [x], banner: kept}, audience: {include: [everyone]}`),
			want:     `banner: "kept" closest from a; a won`,
		},
		"user-side settings of the person, device-side of the owner": {
			person: "tomas",
			policies: "  - {id: a, kind: configuration, settings: {domains: [x]}, audience: {include: [\"person:tomas\"]}}\n" +
				policy("b", `settings: {banner: hers}, audience: {include: ["person:ines"]}`) + policy("c",
				`settings: {lock: 3}, audience: {include: ["person:tomas"]}`),
			want: `banner: "hers" closest from b; b won
domains: ["x"] common from a; a won`,
		},
		"not supported by edition, detached or not": {
			device:   "LT-8",
			policies: "  - {id: c, kind: configuration, settings: {wifi: true}, audience: {include: [everyone]}}\n",
			want:     `wifi: unsupported edition; `,
		},
		"an exception needs no candidate": {
			policies: "  []\n",
			more: "exceptions: [{id: X, setting: lock, target: everyone, value: 9, until: 2026-05-10, reason: r, approved_by: a, " +
				"approved_on: 2026-01-01}]",
			want: `lock: 9 exception from X; `,
		},
		"of two exceptions the closer one, then the later approval, then the lower id": {
			policies: policy("a", `settings: {lock: 1, banner: b}, audience: {include: [everyone]}`),
			more: `exceptions:
  - {id: A, setting: lock, target: everyone, value: 2, until: 2026-06-01, reason: r, approved_by: a, approved_on: 2026-05-01}
  - {id: B, setting: lock, target: "unit:slipway", value: 3, until: 2026-06-01, reason: r, approved_by: a, approved_on: 2026-01-01}
  - {id: C, setting: lock, target: "device:LT-7", value: 4, until: 2026-05-09, reason: r, approved_by: a, approved_on: 2026-01-01}
  - {id: E, setting: banner, target: everyone, unset: true, until: 2026-06-01, reason: r, approved_by: a, approved_on: 2026-01-01}
  - {id: D, setting: banner, target: everyone, unset: true, until: 2026-06-01, reason: r, approved_by: a, approved_on: 2026-01-01}`,
			want: `banner: unset exception from D; a excepted
lock: 3 exception from B; a excepted`,
		},
		"a forced value keeps what it stands in for, and a check sees it": {
			policies: policy("a", `settings: {banner: none, lock: 30, consent: false}, audience: {include: [everyone]}`),
			want: `banner: "none" closest from a; a won
consent: true forced from  in place of false closest from a; a won
lock: 30 strictest from a; a won
problem no-banner from a`,
		},
		"the first forced rule ends the search, without a trace when it changes nothing": {
			policies: policy("a", `settings: {banner: none, lock: 101, consent: true}, audience: {include: [everyone]}`),
			want: `banner: "none" closest from a; a won
consent: true closest from a; a won
lock: 101 strictest from a; a won
problem no-banner from a`,
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			text := base + "policies:\n" + c.policies + c.more
			if err := os.WriteFile(filepath.Join(dir, "a.yaml"), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			s, err := files.Read(dir, files.Dictionary{})
			if err != nil {
				t.Fatal(err)
			}
			device := estate.DeviceID("LT-7")
			if c.device != "" {
				device = estate.DeviceID(c.device)
			}
			r, err := Compile(s.On("2026-05-10")).Effective(device, c.person)
			if err != nil {
				t.Fatal(err)
			}
			if got := told(r); got != c.want {
				t.Errorf("found\n%s\nexpected\n%s", got, c.want)
			}
		})
	}
}

// told writes a result as the scenarios expect it.
func told(r *outcome.Result) string {
	var lines []string
	for _, s := range r.Settings {
		line := string(s.ID) + ": "
		switch {
		case s.Status == outcome.Unsupported:
			line += "unsupported " + string(s.Reason)
		case s.Status == outcome.Conflict:
			line += "conflict from " + strings.Join(s.From, ",")
		case s.Status == outcome.Unset:
			line += "unset " + string(s.How) + " from " + strings.Join(s.From, ",")
		default:
			line += s.Value.String() + " " + string(s.How) + " from " + strings.Join(s.From, ",")
		}
		if s.Replaced != nil {
			line += " in place of " + s.Replaced.Value.String() + " " + string(s.Replaced.How) + " from " + strings.Join(s.Replaced.From, ",")
		}
		var fates []string
		for _, c := range s.Candidates {
			fates = append(fates, string(c.Policy)+" "+c.Fate.String())
		}
		lines = append(lines, line+"; "+strings.Join(fates, ", "))
	}
	for _, p := range r.Problems {
		lines = append(lines, "problem "+string(p.Check)+" from "+strings.Join(p.From, ","))
	}
	return strings.Join(lines, "\n")
}

func TestBeatenByNamesWhatBeatACandidate(t *testing.T) {
	t.Parallel()
	s := outcome.Setting{Candidates: []outcome.Candidate{
		{Policy: "far", Level: 0, Fate: outcome.Outer, Value: setting.TextValue("a")},
		{Policy: "low", Level: outcome.GroupLevel, Fate: outcome.LowerPriority, Value: setting.TextValue("b")},
		{Policy: "one", Level: outcome.GroupLevel, Fate: outcome.Clashing, Value: setting.TextValue("c")},
		{Policy: "two", Level: outcome.GroupLevel, Fate: outcome.Clashing, Value: setting.TextValue("d")},
	}}
	for i, want := range []string{"low,one,two", "one,two", "two", "one"} {
		var got []string
		for _, id := range s.BeatenBy(s.Candidates[i]) {
			got = append(got, string(id))
		}
		if strings.Join(got, ",") != want {
			t.Errorf("%s was beaten by %v, expected %s", s.Candidates[i].Policy, got, want)
		}
	}
}

// TestAllocationsOfOneLaptop holds the price of resolving one laptop of a small estate.
func TestAllocationsOfOneLaptop(t *testing.T) { // not parallel: it counts what the process allocates
	plan := Compile(madeUp(3))
	if n := testing.AllocsPerRun(50, func() {
		if _, err := plan.Effective("d1", ""); err != nil {
			t.Fatal(err)
		}
	}); n > 400 {
		t.Errorf("%v allocations, expected at most 400", n)
	}
}

func BenchmarkOneLaptop(b *testing.B) {
	plan := Compile(madeUp(3))
	for b.Loop() {
		plan.Effective("d1", "")
	}
}

func BenchmarkImpactOfOneEdit(b *testing.B) {
	s := madeUp(3)
	before := impact.Resolve(s)
	p := s.Policies[0]
	p.Priority = 50
	for b.Loop() {
		impact.Compare(before, impact.Resolve(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p})))
	}
}
