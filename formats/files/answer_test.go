package files_test

import (
	"encoding/json"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

// TestAnswersHaveTheContractsForm resolves an estate that has every status, and compares the lines
// field by field.
func TestAnswersHaveTheContractsForm(t *testing.T) {
	s, err := files.Read(folderOf(t, "a.yaml", `
units: [{id: r}]
people: [{id: ines}]
devices: [{id: A, os: linux, os_version: "1", owner: ines}, {id: B, os: macos, os_version: "1"}]
settings:
  - {id: text, kind: security, type: text}
  - {id: list, kind: security, type: list, combine: merge}
  - {id: only-macos, kind: security, type: bool, supports: [{platform: macos}]}
  - {id: left, kind: security, type: bool}
  - {id: forced, kind: security, type: bool, forced: [{when: 'device.os == "linux"', value: true}]}
checks: [{id: c, message: "a <check>", settings: [text, list], when: 'settings.forced == true'}]
policies:
  - {id: p, kind: security, priority: 5, settings: {text: {value: a, lock: true}, list: [z, "a&b"], only-macos: true, left: true, forced: false}, audience: {include: [everyone]}}
  - {id: q, kind: security, settings: {text: {value: b, lock: true}}, audience: {include: ["device:A", everyone], exclude: ["person:ines"]}}
  - {id: w, kind: security, priority: 5, settings: {text: {value: c, lock: true}}, audience: {include: [everyone], when: 'device.missing == 1'}}
  - {id: x, kind: security, priority: 5, settings: {text: {value: d, lock: true}}, audience: {include: [everyone]}, platforms: [linux]}
exceptions: [{id: E, setting: left, target: everyone, unset: true, until: 2026-12-31, reason: r, approved_by: a, approved_on: 2026-01-01}]
`), files.Dictionary{})
	if err != nil {
		t.Fatal(err)
	}
	whole := resolve.Compile(s.On("2026-11-23")).Estate()
	line := func(i int, reasons bool) string {
		data, err := json.Marshal(files.Answer(whole.Result(i), reasons))
		if err != nil {
			t.Fatal(err)
		}
		return strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(data))
	}
	want := `{"device":"A","person":"ines","unit":"r","settings":[` +
		`{"setting":"forced","status":"set","value":true,"how":"forced","from":[],"replaced":{"value":false,"how":"closest","from":["p"]},"candidates":[{"policy":"p","level":"unit:0","priority":5,"value":false,"locked":false,"fate":"won"}]},` +
		`{"setting":"left","status":"unset","how":"exception","from":["E"],"candidates":[{"policy":"p","level":"unit:0","priority":5,"value":true,"locked":false,"fate":"excepted"}]},` +
		`{"setting":"list","status":"set","value":["a&b","z"],"how":"merge","from":["p"],"candidates":[{"policy":"p","level":"unit:0","priority":5,"value":["z","a&b"],"locked":false,"fate":"won"}]},` +
		`{"setting":"only-macos","status":"unsupported","reason":"platform","candidates":[]},` +
		`{"setting":"text","status":"conflict","from":["p","x"],"candidates":[{"policy":"p","level":"unit:0","priority":5,"value":"a","locked":true,"fate":"clashing"},{"policy":"x","level":"unit:0","priority":5,"value":"d","locked":true,"fate":"clashing"}]}],` +
		`"problems":[{"check":"c","settings":["list","text"],"from":["p","x"],"message":"a <check>"}]}`
	if got := line(0, false); got != want {
		t.Errorf("found\n%s\nexpected\n%s", got, want)
	}
	if got := line(0, true); !strings.Contains(
		got,
		`"not_applying":[{"policy":"q","reason":"excluded","targets":["person:ines"]},{"policy":"w","reason":"condition","error":"`,
	) {
		t.Errorf("the reasons are %s", got)
	}
	second := line(1, true)
	for _, part := range []string{`{"device":"B","unit":"r",`, `"problems":[]`, `{"policy":"x","reason":"platform"}`,
		`"value":"a","how":"closest","from":["p"]`, `"level":"unit:0"`} {
		if !strings.Contains(second, part) {
			t.Errorf("%s lacks %s", second, part)
		}
	}
}

// TestObjectsSurviveJSON writes every object of the demo estate and of the dictionary, and reads it
// back.
func TestObjectsSurviveJSON(t *testing.T) {
	shipped := dictionary.Shipped()
	s, err := files.Read("../../demo/estate", shipped)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, kind := range estate.Kinds {
		for _, o := range files.AllObjects(s, kind) {
			first, err := files.EncodeJSON(o)
			if err != nil {
				t.Fatal(err)
			}
			back, id, err := files.DecodeJSON(kind, first)
			if err != nil || id != files.ObjectID(o) {
				t.Fatalf("%s %s: %v", kind, files.ObjectID(o), err)
			}
			again, err := files.EncodeJSON(back)
			if err != nil || string(again) != string(first) {
				t.Errorf("%s became %s", first, again)
			}
			text, err := files.YAML(string(kind), first)
			if err != nil || !strings.HasPrefix(text, string(kind)+":\n") {
				t.Errorf("as YAML: %s %v", text, err)
			}
			seen++
		}
	}
	if seen < 550 {
		t.Errorf("only %d objects were tried", seen)
	}
}

func TestOneObjectByItself(t *testing.T) {
	for name, c := range map[string]struct {
		kind estate.Kind
		text string
		code problem.Code
		path string
	}{
		"nothing":           {estate.KindPolicy, "", problem.Syntax, ""},
		"two values":        {estate.KindPolicy, "{}{}", problem.Syntax, ""},
		"a list":            {estate.KindPolicy, "[]", problem.WrongType, ""},
		"no JSON":           {estate.KindPolicy, "{", problem.Syntax, ""},
		"bytes":             {estate.KindPolicy, "\"\xff\"", problem.Encoding, ""},
		"unknown field":     {estate.KindRuling, `{"id":"R","colour":1}`, problem.UnknownField, "/colour"},
		"doubled field":     {estate.KindRuling, `{"id":"R","id":"R"}`, problem.DoubledField, "/id"},
		"a bad rule":        {estate.KindGroup, `{"id":"g","of":"people","rule":"device.os == 'x'"}`, problem.BadExpression, "/rule"},
		"a bad target":      {estate.KindException, `{"id":"E","target":"all"}`, problem.BadTarget, "/target"},
		"a bad day":         {estate.KindException, `{"id":"E","until":"2026-02-30"}`, problem.BadDate, "/until"},
		"a bad pattern":     {estate.KindSetting, `{"id":"s","pattern":"("}`, problem.BadPattern, "/pattern"},
		"a deep value":      {estate.KindPolicy, `{"id":"p","settings":{"s":[["x"]]},"audience":{}}`, problem.WrongType, "/settings/s/0"},
		"an odd key":        {estate.KindDevice, `{"id":"d","facts":{"a/b~c":{}}}`, problem.WrongType, "/facts/a~1b~0c"},
		"a fraction":        {estate.KindDevice, `{"id":"d","facts":{"x":1e2}}`, problem.WrongType, "/facts/x"},
		"audience of lists": {estate.KindPolicy, `{"id":"p","settings":{},"audience":[]}`, problem.WrongType, "/audience"},
	} {
		_, _, err := files.DecodeJSON(c.kind, []byte(c.text))
		faults, ok := err.(problem.Faults)
		if !ok || faults[0].Code != c.code || faults[0].Path != c.path || faults[0].Expected == "" {
			t.Errorf("%s: %v, expected %s at %q", name, err, c.code, c.path)
		}
	}
}

// TestAnEstatesOwnDefinitionStandsInPlaceOfAShippedOne redefines a setting and a check.
func TestAnEstatesOwnDefinitionStandsInPlaceOfAShippedOne(t *testing.T) {
	s, err := files.Read(folderOf(t, "a.yaml", head+`
settings: [{id: media.camera, kind: security, type: choice, options: [on-request, "off"]}]
checks: [{id: startup.pin-without-chip, message: ours, settings: [], when: "false"}]
policies: [{id: p, kind: security, settings: {media.camera: "off"}, audience: {}}]
`), dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	settings, checks := 0, 0
	for _, d := range s.Settings {
		if d.ID == "media.camera" {
			settings++
		}
	}
	for _, c := range s.Checks {
		if c.ID == "startup.pin-without-chip" && c.Message == "ours" {
			checks++
		}
	}
	if settings != 1 || checks != 1 || len(s.Settings) != len(dictionary.Shipped().Settings) {
		t.Errorf("%d definitions and %d checks of those names, %d definitions in all", settings, checks, len(s.Settings))
	}
	if own := files.Objects(s, estate.KindSetting); len(own) != 1 {
		t.Errorf("%d definitions are the estate's own", len(own))
	}
}
