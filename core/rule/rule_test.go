package rule_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/rule"
)

func TestCompareVersions(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"10.4", "10.4", 0}, {"10.4", "10.4.0.0", 0}, {"10.10", "10.9", 1}, {"9", "10", -1}, {"1.0", "1.0.1", -1}, {"010", "10", 0},
		{"0", "00.0", 0},
		{"99999999999999999999999", "99999999999999999999998", 1},
	} {
		got, err := rule.CompareVersions(c.a, c.b)
		if err != nil || got < 0 != (c.want < 0) || got > 0 != (c.want > 0) {
			t.Errorf("%s against %s: %d %v, expected the sign of %d", c.a, c.b, got, err, c.want)
		}
		if back, _ := rule.CompareVersions(c.b, c.a); back < 0 != (got > 0) || back > 0 != (got < 0) {
			t.Errorf("%s against %s is not the other way round", c.b, c.a)
		}
	}
	for _, bad := range []string{"", ".", "1.", ".1", "1..2", "1a", "-1", "+1", " 1", "１"} {
		if _, err := rule.CompareVersions(bad, "1"); err == nil {
			t.Errorf("%q was taken for a version", bad)
		}
	}
}

func TestWhatIsRefusedWhenWritten(t *testing.T) {
	for source, says := range map[string]string{
		"1 + 1": "not bool", `"text"`: "not bool", "device": "not bool", "[true]": "not bool", "device.tags.size()": "not bool",
		"": "", "device.": "", "laptop.os == 1": "laptop", "person.id == 'x'": "person", `device.os.atLeast(1)`: "", "true &&": "",
	} {
		_, err := rule.Compile(rule.OfDevice, source)
		var at *rule.CompileError
		if !errors.As(err, &at) || at.Line < 1 || at.Column < 1 || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, expected a place and %q", source, err, says)
		}
	}
}

func TestHolds(t *testing.T) {
	variables := map[string]any{
		"device": map[string]any{
			"os":         "linux",
			"os_version": "12.5",
			"ram_gb":     int64(16),
			"tags":       []string{"field"},
			"units":      []string{"larkfell", "slipway"},
			"secure":     true,
			"build":      "rolling",
		},
		"person":   map[string]any{},
		"settings": map[string]any{"a.b": []string{"x", "y"}, "c": int64(3)},
	}
	for source, want := range map[string]string{
		`device.os == "linux"`: "true", `device.os`: "error", `device.secure`: "true", `device.missing == 1`: "error",
		`has(device.missing)`:         "false",
		`device.missing == 1 || true`: "true", `device.missing == 1 && false`: "false", `device.missing == 1 && true`: "error",
		`device.os_version.atLeast("12")`: "true", `device.os_version.below("12.5")`: "false", `device.build.atLeast("1")`: "error",
		`device.os_version.atLeast("x")`: "error", `device.ram_gb.atLeast("1")`: "error",
		`"field" in device.tags && "slipway" in device.units`: "true", `device.ram_gb >= 15.5`: "true", `device.ram_gb == 16.0`: "true",
		`person.id == "x"`: "error", `size(person) == 0`: "true", `settings["a.b"].size() == 2 && settings.c > 2`: "true",
		`"z" in settings`:        "false",
		`device.os.matches("(")`: "error", `["a"].exists(a, a in device.tags)`: "false",
	} {
		r, err := rule.Compile(rule.OfCheck, source)
		if err != nil {
			t.Errorf("%s does not compile: %v", source, err)
			continue
		}
		holds, err := r.Holds(variables)
		got := map[bool]string{true: "true", false: "false"}[holds]
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%s is %s (%v), expected %s", source, got, err, want)
		}
		if r.Source() != source {
			t.Errorf("%s is written %s", source, r.Source())
		}
	}
}

// TestFormula takes expressions apart, says what each test looks at, and puts the answers together
// as CEL does for the whole.
func TestFormula(t *testing.T) {
	for source, want := range map[string]string{
		`settings["a.b"] == true && !("c" in settings)`: "(settings/a.b && !(settings/c))",
		`settings["a"].exists(x, x in settings["b"]) || device.os == "l"`: "(settings/a,settings/b " +
			"|| device/os)",
		`has(device.ram) && (device.ram > 4 || "field" in device.tags) && person.unit != device.unit`: "(device/ram && (device/ram " +
			"|| device/tags) && device/unit,person/unit)",
		`["a", "b"].exists(s, s in settings && settings[s] == "x")`: "settings/a,settings/b",
		`["a"].exists(s, device.tags.exists(s, s in settings))`:     "device/tags,settings/a*",
		`["a", person.x].exists(s, s in settings)`:                  "person/x*",
		`settings.size() > 3 || device["model"].startsWith("m")`:    "(* || device/model)",
		`device.tags.exists(device, device == "x")`:                 "device/tags*",
		`true ? device.os == "l" : person.x`:                        "device/os,person/x",
		`1 == 1`:                                                    "",
		`{"a": device.a}["a"] == person.b`:                          "device/a,person/b",
	} {
		r, err := rule.Compile(rule.OfCheck, source)
		if err != nil {
			t.Fatal(source, err)
		}
		if got := written(r.Formula()); got != want {
			t.Errorf("%s is taken apart as %q, expected %q", source, got, want)
		}
	}
	table := map[string]any{"t": true, "f": false, "n": int64(1)} // t and f are what they say, n is no bool, e is missing
	names := []string{"t", "f", "n", "e"}
	var sources []string
	for _, a := range names {
		for _, b := range names {
			for _, c := range names {
				sources = append(
					sources,
					fmt.Sprintf("device.%s && (device.%s || !device.%s)", a, b, c),
					fmt.Sprintf("!(device.%s && device.%s) || device.%s && true", a, b, c),
				)
			}
		}
	}
	for _, source := range sources {
		r, err := rule.Compile(rule.OfDevice, source)
		if err != nil {
			t.Fatal(source, err)
		}
		want := rule.Failed
		if holds, err := r.Holds(map[string]any{"device": table}); err == nil && holds {
			want = rule.True
		} else if err == nil {
			want = rule.False
		}
		if got := joined(r.Formula(), map[string]any{"device": table}); got != want {
			t.Errorf("%s comes to %d from its parts, to %d as a whole", source, got, want)
		}
	}
}

func written(f *rule.Formula) string {
	if f.Test != nil {
		var looks []string
		for _, l := range f.Test.Looks {
			looks = append(looks, l.Variable+"/"+l.Field)
		}
		return strings.Join(looks, ",") + map[bool]string{true: "*"}[f.Test.Whole]
	}
	var parts []string
	for _, p := range f.Parts {
		parts = append(parts, written(p))
	}
	if f.Joined == "!" {
		return "!(" + parts[0] + ")"
	}
	return "(" + strings.Join(parts, " "+f.Joined+" ") + ")"
}

// joined puts the answers of tests together by what the standard says of errors.
func joined(f *rule.Formula, variables map[string]any) rule.Truth {
	if f.Test != nil {
		return f.Test.Evaluate(variables)
	}
	seen := map[rule.Truth]bool{}
	for _, p := range f.Parts {
		seen[joined(p, variables)] = true
	}
	switch {
	case f.Joined == "!" && seen[rule.Failed]:
		return rule.Failed
	case f.Joined == "!":
		return map[bool]rule.Truth{true: rule.False, false: rule.True}[seen[rule.True]]
	case f.Joined == "&&" && seen[rule.False]:
		return rule.False
	case f.Joined == "||" && seen[rule.True]:
		return rule.True
	case seen[rule.Failed]:
		return rule.Failed
	}
	return map[bool]rule.Truth{true: rule.True, false: rule.False}[f.Joined == "&&"]
}
