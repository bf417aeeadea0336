package problem_test

import (
	"slices"
	"strings"
	"testing"

	. "zenithridge.example/zridge/core/problem"
)

func TestPathsAreJSONPointers(t *testing.T) {
	for want, keys := range map[string][]any{"/policies/3/kind": {"policies", 3, "kind"}, "/facts/a~1b~0c": {"facts", "a/b~c"},
		"/a//b": {"a", "", "b"}, "/~01": {"~1"}} {
		path := Join("", keys...)
		if path != want {
			t.Errorf("%v became %s, expected %s", keys, path, want)
		}
		back := Split(path)
		for i, k := range keys {
			if text, ok := k.(string); ok && back[i] != text {
				t.Errorf("%s gives back %q", path, back)
			}
		}
	}
	if Split("") != nil || Join("/a") != "/a" {
		t.Error("a path without keys is not itself")
	}
}

func TestFaultsComeByPlace(t *testing.T) {
	at := func(file string, line, column int) Fault {
		return Fault{Code: Syntax, Place: Place{file, line, column}}
	}
	fs := Faults{at("b", 1, 1), at("a", 10, 1), at("a", 9, 5), at("a", 9, 2), {Code: NoRoot, Path: "/units"}}
	fs.Sort()
	var places []string
	for _, f := range fs {
		places = append(places, f.Place.String())
	}
	if !slices.Equal(places, []string{"", "a:9:2", "a:9:5", "a:10:1", "b:1:1"}) {
		t.Errorf("in order they are %q", places)
	}
	if text := fs.Error(); strings.Count(text, "\n") != 4 || !strings.HasPrefix(text, "/units: no-root") {
		t.Errorf("as text they are %s", text)
	}
	f := Fault{Code: OutOfRange, Place: Place{"a.yaml", 3, 4}, Found: "5", Expected: "at most 4"}
	if f.Error() != "a.yaml:3:4: out-of-range: found 5; expected at most 4" {
		t.Error(f.Error())
	}
}

func TestLongInputIsCutBetweenCharacters(t *testing.T) {
	for _, s := range []string{strings.Repeat("é", 50), strings.Repeat("🚢", 30), strings.Repeat("x", 200)} {
		q := Quote(s)
		if len(q) > 200 || !strings.HasSuffix(q, "…") || strings.Contains(q, `\x`) {
			t.Errorf("%q was quoted %s", s, q)
		}
	}
	if Quote("short\n") != `"short\n"` {
		t.Error(Quote("short\n"))
	}
}
