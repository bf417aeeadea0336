package files_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

// jsonFaults reads a JSON file as an estate and tells each fault in a line.
func jsonFaults(t *testing.T, text string) []string {
	t.Helper()
	_, err := files.Read(folderOf(t, "a.json", text), files.Dictionary{})
	var faults problem.Faults
	if err != nil && !errors.As(err, &faults) {
		t.Fatal(err)
	}
	var lines []string
	for _, f := range faults {
		lines = append(lines, fmt.Sprintf("%d:%d %s %s", f.Place.Line, f.Place.Column, f.Code, f.Found))
	}
	return lines
}

// TestWhereJSONGoesWrong reads texts that are no JSON, and ones that are and say something twice or
// too much: each fault has its place.
func TestWhereJSONGoesWrong(t *testing.T) {
	for text, want := range map[string]string{
		`{"units":[{"id":"r"}]}`: "",
		"{\"units\":[{\"id\":\"r\"}]}\n{\"people\":[{\"id\":\"a\"}]}": "", // values one after the other add up
		"  ":                                      "0:0 no-root 0 units, none without a parent",
		`{"units":[{"id":"r"}`:                    "1:21 syntax an end within a value",
		`{"units":[{"id":"r`:                      "1:19 syntax an end within a value",
		`{"units":[{"id":"r"}],}`:                 "1:22 syntax invalid character ',' at start of value",
		`{"units":[{"id":"r" "title":"x"}]}`:      `1:21 syntax invalid character '"' after object value (expecting ',' or '}')`,
		`[1}`:                                     "1:3 syntax invalid character '}' after array element (expecting ',' or ']')",
		"{\"units\":\n  [{\"id\": tru}]}":         "2:14 syntax invalid character '}' in literal true (expecting 'e')",
		`"\x"`:                                    "1:2 syntax invalid escape sequence `\\x` in string",
		`{"units":[{"id":"r"}]} x`:                "1:24 syntax invalid character 'x' at start of value",
		`{"units":[{"id":"r","id":"s"}]}`:         `1:21 doubled-field "id"`,
		`{"units":[{"id":"r","colour":1}]}`:       `1:21 unknown-field "colour"`,
		`{"units":[{"id":7}]}`:                    `1:17 wrong-type a whole number, "7"`,
		`{"units":[{"id":true}]}`:                 `1:17 wrong-type a bool, "true"`,
		`{"units":[{"id":null}]}`:                 "1:17 wrong-type nothing",
		`{"units":{"id":"r"}}`:                    "1:10 wrong-type a map of 1",
		strings.Repeat("[", 200):                  "1:65 too-deep more than 64 levels of nesting",
		`{"units":[{"id":"r"}],"devices":[]} `:    "",
		`{"units":[{"id":"r","title":"\ud83d"}]}`: "1:29 encoding half of a surrogate pair in a text",
		`{"units":[{"id":"r","title":"\ude00\ud83d\ude00"}]}`:   "1:29 encoding half of a surrogate pair in a text",
		`{"units":[{"id":"r","title":"\ud83d\ude00 \\ud83d"}]}`: "",
		`{"units":[{"id":"r","\ud83d":1}]}`: "1:21 encoding half of a surrogate pair in a text; 1:21 " +
			"unknown-field \"�\"",
	} {
		if got := strings.Join(jsonFaults(t, text), "; "); got != want {
			t.Errorf("%.60s: found %q, expected %q", text, got, want)
		}
	}
}

// TestManyFieldsAreLookedThroughToo doubles a field among more than are compared one by one.
func TestManyFieldsAreLookedThroughToo(t *testing.T) {
	var fields []string
	for i := range 40 {
		fields = append(fields, fmt.Sprintf(`"fact%02d":%d`, i, i))
	}
	estate := func(facts string) string {
		return `{"units":[{"id":"r"}],"devices":[{"id":"d","os":"linux","os_version":"1","facts":{` + facts + `}}]}`
	}
	if got := jsonFaults(t, estate(strings.Join(fields, ","))); got != nil {
		t.Errorf("nothing is wrong: %v", got)
	}
	for _, twice := range []int{0, 19, 20, 21, 39} {
		got := jsonFaults(t, estate(strings.Join(append(fields[:40:40], fields[twice]), ",")))
		if len(got) != 1 || !strings.HasSuffix(got[0], fmt.Sprintf(`doubled-field "fact%02d"`, twice)) {
			t.Errorf("fact%02d twice: %v", twice, got)
		}
	}
}
