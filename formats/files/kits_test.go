package files_test

import (
	"errors"
	"strings"
	"testing"
	"testing/fstest"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

// TestWrongKits writes kits wrongly, one at a time.
func TestWrongKits(t *testing.T) {
	kit := func(text string) (int, string) {
		kits, err := files.ReadKits(
			fstest.MapFS{"kits.yaml": {Data: []byte("kits: [{id: k, title: K, why: w, when: x, " + text + "}]\n")}},
			dictionary.Shipped(),
		)
		var faults problem.Faults
		if errors.As(err, &faults) {
			return 0, err.Error()
		}
		return len(kits), ""
	}
	if n, why := kit("kind: security, settings: {media.camera: {value: false, note: quiet}}"); n != 1 || why != "" {
		t.Errorf("a kit in order: %d %s", n, why)
	}
	for text, want := range map[string]string{
		"kind: poem, settings: {}":                                                   "not-one-of",
		"kind: security, settings: {media.camera: false}":                            "the reason for the value",
		"kind: security, settings: {media.kamera: {value: false, note: x}}":          "unknown-reference",
		"kind: security, settings: {media.camera: {value: perhaps, note: x}}":        "wrong-type",
		"kind: security, settings: {media.camera: {value: false, note: x}}, size: 1": "unknown-field",
		"kind: security, settings: 3":                                                "wrong-type",
		"kind: security, settings: {":                                                "syntax",
	} {
		if _, why := kit(text); !strings.Contains(why, want) {
			t.Errorf("%s: %q, expected %s", text, why, want)
		}
	}
}

// TestEntriesInBothForms reads the short and the long form of an entry, files among them, as API
// bodies.
func TestEntriesInBothForms(t *testing.T) {
	hash := strings.Repeat("0f", 32)
	for text, want := range map[string]string{
		`false`:                          `false`,
		`{"value": false}`:               `false`,
		`{"value": false, "lock": true}`: `{"value":false,"lock":true}`,
		`{"file": "` + hash + `"}`:       `{"file":"` + hash + `"}`,
		`{"file": "` + hash + `", "name": "a.sh", "size": 3}`:                         `{"file":"` + hash + `","name":"a.sh","size":3}`,
		`{"value": {"file": "` + hash + `"}, "note": "n"}`:                            `{"value":{"file":"` + hash + `"},"note":"n"}`,
		`[{"b": 1, "a": true, "c": ["x"], "d": {"file": "` + hash + `"}, "e": null}]`: `[{"a":true,"b":1,"c":["x"],"d":{"file":"` + hash + `"}}]`,
		`[]`: `[]`,
	} {
		o, _, err := files.DecodeJSON("policies", []byte(`{"id":"p","kind":"security","settings":{"a.b":`+text+`},"audience":{}}`))
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		out, err := files.EncodeJSON(o)
		if got := string(out); err != nil || !strings.Contains(got, `"a.b":`+want+`}`) {
			t.Errorf("%s became %s (%v), expected %s", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		`{"file": "abc"}`: "bad-hash", `{"file": 3}`: "wrong-type", `{"file": "` + hash + `", "path": "x"}`: "unknown-field",
		`[{"a": {"b": 1}}]`: "wrong-type", `[{"a": 1}, 3]`: "wrong-type", `[1, {"a": 1}]`: "wrong-type", `{"a": 1}`: "unknown-field",
		`{"value": {"a": 1}}`: "wrong-type", `[{"a": 1, "a": 2}]`: "doubled-field",
	} {
		if _, _, err := files.DecodeJSON(
			"policies",
			[]byte(`{"id":"p","kind":"security","settings":{"a.b":`+text+`},"audience":{}}`),
		); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, expected %s", text, err, want)
		}
	}
	for _, facts := range []string{`{"a": {"file": "` + hash + `"}}`, `{"a": [{"b": 1}]}`} { // a fact is plain
		if _, _, err := files.DecodeJSON("devices", []byte(`{"id":"d","os":"linux","os_version":"1","facts":`+facts+`}`)); err == nil {
			t.Errorf("the facts %s were taken", facts)
		}
	}
}
