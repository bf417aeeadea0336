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
		{"10.4", "10.4", 0}, {"10.4", "10.4.0.0", 0}, {"10.10", "10.9", 1}, {"9", "10", -1}, {"1.0", "1.0.1", -1}, {"010", "10", 0}, {"0", "00.0", 0},
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
		"device":   map[string]any{"os": "linux", "os_version": "12.5", "ram_gb": int64(16), "tags": []string{"field"}, "units": []string{"larkfell", "slipway"}, "secure": true, "build": "rolling"},
		"person":   map[string]any{},
		"settings": map[string]any{"a.b": []string{"x", "y"}, "c": int64(3)},
	}
	for source, want := range map[string]string{
		`device.os == "linux"`: "true", `device.os`: "error", `device.secure`: "true", `device.missing == 1`: "error", `has(device.missing)`: "false",
		`device.missing == 1 || true`: "true", `device.missing == 1 && false`: "false", `device.missing == 1 && true`: "error",
		`device.os_version.atLeast("12")`: "true", `device.os_version.below("12.5")`: "false", `device.build.atLeast("1")`: "error", `device.os_version.atLeast("x")`: "error", `device.ram_gb.atLeast("1")`: "error",
		`"field" in device.tags && "slipway" in device.units`: "true", `device.ram_gb >= 15.5`: "true", `device.ram_gb == 16.0`: "true",
		`person.id == "x"`: "error", `size(person) == 0`: "true", `settings["a.b"].size() == 2 && settings.c > 2`: "true", `"z" in settings`: "false",
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

// TestMentions reads which settings an expression looks at, and admits where that can't be told.
func TestMentions(t *testing.T) {
	for source, want := range map[string]string{
		`settings["a.b"] == true && !("c" in settings)`:             "a.b c true",
		`settings["a"].exists(x, x in settings["b"])`:               "a b true",
		`settings["a"] == true && device.os == "linux"`:             "a false",
		`["a", "b"].exists(s, s in settings && settings[s] == "x")`: " false",
		`settings.size() > 3`:                                       " false",
		`settings.a == true`:                                        " false",
		`settings["a"] == 1 || settings.exists(k, k == "b")`:        "a false",
		`"a" in settings && person.title == "x"`:                    "a false",
		`1 == 1`:                                                    " true",
	} {
		r, err := rule.Compile(rule.OfCheck, source)
		if err != nil {
			t.Fatal(source, err)
		}
		ids, known := r.Mentions()
		if got := fmt.Sprint(strings.Join(ids, " "), " ", known); got != want {
			t.Errorf("%s mentions %q, expected %q", source, got, want)
		}
	}
}
