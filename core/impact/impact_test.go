package impact_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

const company = `
units: [{id: r}, {id: a, parent: r}]
devices:
  - {id: D1, os: linux, os_version: "1", unit: a}
  - {id: D2, os: linux, os_version: "1"}
settings:
  - {id: minutes, kind: security, type: integer, combine: strictest, stricter: lower, default: 20, effects: [prompt]}
  - {id: banner, kind: security, type: text, effects: [restart, lockout]}
checks: [{id: short, message: too short, settings: [minutes], when: 'settings["minutes"] < 5'}]
policies:
`

func estateOf(t *testing.T, policies ...string) *estate.Snapshot {
	t.Helper()
	dir := t.TempDir()
	list := "  []\n"
	if len(policies) > 0 {
		list = "  - " + strings.Join(policies, "\n  - ") + "\n"
	}
	if err := os.WriteFile(filepath.Join(dir, "a.yaml"), []byte(company+list), 0o644); err != nil {
		t.Fatal(err)
	}
	s, err := files.Read(dir, files.Dictionary{})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// told writes a report in lines that read as sentences.
func told(r *Report) string {
	var lines []string
	state := func(s State) string {
		if s.Status == "set" {
			return s.Value.String()
		}
		if s.Status == "" {
			return "not set"
		}
		return string(s.Status)
	}
	for _, t := range r.Transitions {
		weaker := ""
		if t.Weaker {
			weaker = " weaker"
		}
		lines = append(lines, fmt.Sprintf("%s: %s to %s%s on %v", t.Setting, state(t.From), state(t.To), weaker, t.Devices))
	}
	for _, c := range r.ConflictsGained {
		lines = append(lines, fmt.Sprintf("conflict gained: %s on %v", c.Setting, c.Devices))
	}
	for _, c := range r.ConflictsCleared {
		lines = append(lines, fmt.Sprintf("conflict cleared: %s on %v", c.Setting, c.Devices))
	}
	for _, p := range r.ProblemsGained {
		lines = append(lines, fmt.Sprintf("problem gained: %s on %v", p.Check, p.Devices))
	}
	for _, p := range r.ProblemsCleared {
		lines = append(lines, fmt.Sprintf("problem cleared: %s on %v", p.Check, p.Devices))
	}
	for _, m := range r.Audiences {
		lines = append(lines, fmt.Sprintf("%s: %v gained, %v dropped", m.Policy, m.Gained, m.Dropped))
	}
	return strings.Join(lines, "\n")
}

func TestReports(t *testing.T) {
	all := func(id, settings string) string {
		return fmt.Sprintf("{id: %s, kind: security, settings: {%s}, audience: {include: [everyone]}}", id, settings)
	}
	unitA := func(id, settings string) string {
		return fmt.Sprintf("{id: %s, kind: security, settings: {%s}, audience: {include: [\"unit:a\"]}}", id, settings)
	}
	for name, c := range map[string]struct {
		before, after []string
		want          string
	}{
		"nothing": {[]string{all("p", "minutes: 9")}, []string{all("p", "minutes: 9")}, ""},
		"a value gets weaker": {[]string{all("p", "minutes: 9")}, []string{all("p", "minutes: 15")}, "minutes: 9 to 15 " +
			"weaker on [D1 D2]"},
		"a value gets stricter": {[]string{all("p", "minutes: 9")}, []string{all("p", "minutes: 8")}, "minutes: 9 to 8 on [D1 D2]"},
		"gone, it is as the laptop has it": {[]string{unitA("p", "minutes: 9")}, nil, "minutes: 9 to not set weaker on [D1]\np: [] " +
			"gained, [D1] dropped"},
		"set above what an unmanaged laptop does": {nil, []string{unitA("p", "minutes: 30")}, "minutes: not set to 30 weaker on [D1]\np: " +
			"[D1] gained, [] dropped"},
		"another policy gives the same": {[]string{all("p", "banner: x")}, []string{all("q", "banner: x")},
			"p: [] gained, [D1 D2] dropped\nq: [D1 D2] gained, [] dropped"},
		"a conflict on one of two": {
			[]string{all("p", "banner: x")}, []string{all("p", "banner: x"), unitA("q", "banner: y"), unitA("s", "banner: z")},
			"banner: \"x\" to conflict on [D1]\nconflict gained: banner on [D1]\nq: [D1] gained, [] dropped\ns: [D1] gained, [] dropped",
		},
		"a problem comes": {[]string{all("p", "minutes: 9")}, []string{all("p", "minutes: 9"), unitA("q", "minutes: 3")},
			"minutes: 9 to 3 on [D1]\nproblem gained: short on [D1]\nq: [D1] gained, [] dropped"},
		"a problem goes": {[]string{all("p", "minutes: 3")}, []string{all("p", "minutes: 9")}, "minutes: 3 to 9 weaker on [D1 " +
			"D2]\nproblem " +
			"cleared: short on [D1 D2]"},
	} {
		before, after := Resolve(estateOf(t, c.before...)), Resolve(estateOf(t, c.after...))
		report := Compare(before, after)
		if got := told(report); got != c.want {
			t.Errorf("%s: found\n%s\nexpected\n%s", name, got, c.want)
		}
		if again := Compare(before, after); told(again) != told(report) {
			t.Errorf("%s: the same change gives another report", name)
		}
		back := Compare(after, before)
		if len(back.Transitions) != len(report.Transitions) || len(back.ConflictsCleared) != len(report.ConflictsGained) ||
			len(back.ProblemsCleared) != len(report.ProblemsGained) {
			t.Errorf("%s: back is not the other way round:\n%s", name, told(back))
		}
	}
}

func TestCountsOfEffects(t *testing.T) {
	r := Compare(
		Resolve(estateOf(t)),
		Resolve(estateOf(t, `{id: p, kind: security, settings: {minutes: 30, banner: x}, audience: {include: [everyone]}}`)),
	)
	if r.Weaker().Len() != 2 || r.WithEffect(setting.Prompt).Len() != 2 || r.WithEffect(setting.Restart).Len() != 2 ||
		r.WithEffect(setting.Lockout).Len() != 2 ||
		r.WithEffect(setting.Irreversible).Len() != 0 ||
		r.Devices.Len() != 2 ||
		r.Estate != 2 {
		t.Errorf(
			"weaker %d, prompt %d, restart %d, devices %v",
			r.Weaker().Len(),
			r.WithEffect(setting.Prompt).Len(),
			r.WithEffect(setting.Restart).Len(),
			r.Devices,
		)
	}
}

// TestDevicesThatComeAndGo compares estates of other laptops.
func TestDevicesThatComeAndGo(t *testing.T) {
	s := estateOf(t, `{id: p, kind: security, settings: {minutes: 9}, audience: {include: [everyone]}}`)
	less := s.With(estate.Edit{Kind: estate.KindDevice, ID: "D1"})
	if got := told(Compare(Resolve(s), Resolve(less))); got != "minutes: 9 to not set weaker on [D1]\np: [] gained, [D1] dropped" {
		t.Errorf("a laptop that left: %s", got)
	}
	if got := told(Compare(Resolve(less), Resolve(s))); got != "minutes: not set to 9 on [D1]\np: [D1] gained, [] dropped" {
		t.Errorf("a laptop that came: %s", got)
	}
}
