package setting_test

import (
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

// TestDefinitionsAreChecked defines settings wrongly, one thing at a time; administrators' own get
// the same checks as shipped ones.
func TestDefinitionsAreChecked(t *testing.T) {
	for text, want := range map[string]string{
		`"type": "bool"`: "",
		`"type": "integer", "min": 1, "max": 5, "measure": "minutes"`: "",
		`"type": "table", "combine": "merge", "key": ["a"], "columns": [{"name": "a", "type": "text", "required": true}, {"name": "b", "type": "file", "content": "certificate"}]`: "",
		`"type": "file", "content": "application"`: "", `"type": "text", "format": "node-path"`: "",
		`"type": "choice", "options": ["a", "b"], "combine": "strictest", "stricter": "later", "default": "b"`: "",
		`"type": "poem"`:                 "/type: not-one-of",
		`"type": "table"`:                "/columns: missing-field",
		`"type": "table", "columns": []`: "/columns: missing-field",
		`"type": "table", "columns": [{"name": "a", "type": "table"}]`:                               "/columns/0/type: not-one-of",
		`"type": "table", "columns": [{"name": "A b", "type": "text"}]`:                              "/columns/0/name: bad-id",
		`"type": "table", "columns": [{"name": "file", "type": "text"}]`:                             "/columns/0/name: bad-id",
		`"type": "table", "columns": [{"type": "text"}]`:                                             "/columns/0/name: missing-field",
		`"type": "table", "columns": [{"name": "a", "type": "text"}, {"name": "a", "type": "text"}]`: "/columns/1/name: doubled-id",
		`"type": "table", "columns": [{"name": "a", "type": "text", "options": ["x"]}]`:              "/columns/0/options: misplaced-field",
		`"type": "table", "columns": [{"name": "a", "type": "choice"}]`:                              "/columns/0/options: missing-field",
		`"type": "table", "columns": [{"name": "a", "type": "text", "reads": "colour"}]`:             "/columns/0/reads: not-one-of",
		`"type": "table", "key": ["b"], "columns": [{"name": "a", "type": "text"}]`:                  "/key/0: unknown-reference",
		`"type": "table", "key": ["a", "a"], "columns": [{"name": "a", "type": "text"}]`:             "/key/1: doubled-item",
		`"type": "table", "combine": "common", "columns": [{"name": "a", "type": "text"}]`:           "/combine: misplaced-field",
		`"type": "table", "combine": "strictest", "columns": [{"name": "a", "type": "text"}]`:        "/combine: misplaced-field",
		`"type": "file", "combine": "merge"`:                                                         "/combine: misplaced-field",
		`"type": "file", "content": "poem"`:                                                          "/content: not-one-of",
		`"type": "bool", "content": "any"`:                                                           "/content: misplaced-field",
		`"type": "bool", "columns": [{"name": "a", "type": "text"}]`:                                 "/columns: misplaced-field",
		`"type": "bool", "key": ["a"]`:                                                               "/key: misplaced-field",
		`"type": "integer", "format": "node-path"`:                                                   "/format: misplaced-field",
		`"type": "text", "format": "poem"`:                                                           "/format: not-one-of",
		`"type": "integer", "min": 5, "max": 1`:                                                      "/min: out-of-range",
		`"type": "bool", "combine": "strictest"`:                                                     "/stricter: missing-field",
		`"type": "bool", "stricter": "true"`:                                                         "/stricter: misplaced-field",
		`"type": "choice", "options": ["a"], "default": "b"`:                                         "/default: not-one-of",
		`"type": "table", "columns": [{"name": "a", "type": "integer"}], "default": [{"a": "x"}]`:    "/default/0/a: wrong-type",
		`"type": "bool", "effects": ["noise"]`:                                                       "/effects/0: not-one-of",
		`"type": "bool", "supports": [{"platform": "linux", "from": "soon"}]`:                        "/supports/0/from: bad-version",
		`"type": "bool", "supports": [{"platform": "linux"}, {"platform": "linux"}]`:                 "/supports/1/platform: doubled-item",
		`"type": "list", "max_items": -1`:                                                            "/max_items: out-of-range",
	} {
		o, _, err := files.DecodeJSON(estate.KindSetting, []byte(`{"id": "own.thing", "kind": "security", `+text+`}`))
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		d := o.(setting.Definition)
		faults := d.Validate("")
		switch {
		case want == "" && len(faults) > 0:
			t.Errorf("%s: %v", text, faults)
		case want != "" && (len(faults) == 0 || !strings.HasPrefix(faults[0].Error(), want)):
			t.Errorf("%s: %v, expected %s", text, faults, want)
		}
		if again, _, err := files.DecodeJSON(estate.KindSetting, must(t, d)); err != nil || string(must(t, again)) != string(must(t, d)) {
			t.Errorf("%s does not survive writing: %v", text, err)
		}
	}
}

func must(t *testing.T, object any) []byte {
	t.Helper()
	data, err := files.EncodeJSON(object)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
