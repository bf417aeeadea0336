package files_test

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

// rehearsal is a small document; parts of it are replaced by tests.
const rehearsal = `{"rollout": "C-1", "started": "2026-11-23T09:00:00Z",
 "plan": {"waves": [{"id": "pilots", "who": {"include": ["group:pilots"]}, "least": "1h"}, {"id": "half", "share": 50.5, "go": "by-hand"}],
  "stop": {"failed": 12.34}, "hours": [{"days": ["mon"], "from": "09:00", "to": "24:00"}], "zone": "Europe/Lisbon"},
 "laptops": [
  {"id": "A", "os": "linux", "unit": "r", "interval": "1h", "heard": "2026-11-23T08:00:00Z", "waves": ["pilots"]},
  {"id": "B", "os": "linux", "unit": "r", "interval": "1h", "heard": "2026-11-23T08:00:00Z"},
  {"id": "C", "os": "linux", "unit": "r", "interval": "1h", "heard": "2026-11-23T08:00:00Z"}],
 "events": [{"at": "2026-11-23T09:30:00Z", "device": "A", "report": "taken", "reason": "fine"}, {"at": "2026-11-23T10:30:00Z", "do": "go"},
  {"at": "2026-11-23T10:30:00Z", "do": "excuse", "device": "B"}, {"at": "2026-11-23T11:00:00Z", "end": true}]}`

// TestRehearsal writes what happens as lines of JSON.
func TestRehearsal(t *testing.T) {
	r, err := files.ReadRehearsal("r.json", []byte(rehearsal))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := r.Run(&out); err != nil {
		t.Fatal(err)
	}
	want := `{"at":"2026-11-23T09:00:00Z","state":"running"}
{"at":"2026-11-23T09:00:00Z","opened":"pilots","laptops":["A"]}
{"at":"2026-11-23T09:30:00Z","device":"A","from":"due","to":"taken"}
{"at":"2026-11-23T10:30:00Z","opened":"half","laptops":["B","C"]}
{"at":"2026-11-23T10:30:00Z","device":"B","from":"due","to":"excused"}
{"at":"2026-11-23T11:00:00Z","state":"running","counts":{"due":1,"excused":1,"taken":1},"waves":{"half":{"due":1,"excused":1},"pilots":{"taken":1}}}
`
	if out.String() != want {
		t.Errorf("it writes\n%s\nexpected\n%s", out.String(), want)
	}
}

// TestTheDemoRehearsal runs the document that ships, and finds each line to be JSON.
func TestTheDemoRehearsal(t *testing.T) {
	data, err := os.ReadFile("../../demo/rehearsal.json")
	if err != nil {
		t.Fatal(err)
	}
	r, err := files.ReadRehearsal("rehearsal.json", data)
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := r.Run(&out); err != nil {
		t.Fatal(err)
	}
	text := strings.Split(strings.TrimSpace(out.String()), "\n")
	for _, l := range text {
		if !json.Valid([]byte(l)) {
			t.Errorf("%s is no JSON", l)
		}
	}
	if !strings.Contains(out.String(), `"reason":"failed"`) || !strings.Contains(text[len(text)-1], `"counts"`) {
		t.Errorf("it does not show what it is for:\n%s", out.String())
	}
}

// TestRehearsalsThatAreWrong: each is refused at its place, with what was expected.
func TestRehearsalsThatAreWrong(t *testing.T) {
	for _, c := range []struct{ what, part, by, path, expected string }{
		{"a share over 100", "50.5", "100.01", "/plan/waves/1/share", "above 0 and at most 100"},
		{"no share", "50.5", "0", "/plan/waves/1/share", "above 0 and at most 100"},
		{"three decimals", "50.5", "50.125", "/plan/waves/1/share", "at most two decimals"},
		{"an exponent", "50.5", "1e999999999", "/plan/waves/1/share", "at most two decimals"},
		{"a share below nothing", "50.5", "-3", "/plan/waves/1/share", "above 0 and at most 100"},
		{"a share in quotes", "50.5", `"50"`, "/plan/waves/1/share", "above 0 and at most 100"},
		{"two ways to fill", `"share": 50.5`, `"share": 50.5, "rest": true`, "/plan/waves/1", "exactly one of who, share and rest"},
		{"no way to fill", `"share": 50.5, `, ``, "/plan/waves/1", "exactly one of who, share and rest"},
		{"two waves for the rest", `{"id": "half", "share": 50.5, "go": "by-hand"}`,
			`{"id": "a", "rest": true}, {"id": "b", "rest": true}`, "/plan/waves/1/rest", "the last wave alone"},
		{"no rest at all", `"share": 50.5`, `"rest": false`, "/plan/waves/1/rest", "true"},
		{"an id twice", `"id": "half"`, `"id": "pilots"`, "/plan/waves/1/id", "each id once"},
		{"the id of the wave that is added", `"id": "half"`, `"id": "rest"`, "/plan/waves/1/id", "a last wave with this id is added"},
		{"an id with blanks", `"id": "half"`, `"id": "one half"`, "/plan/waves/1/id", "1 to 64"},
		{"an unknown zone", "Europe/Lisbon", "Europe/Atlantis", "/plan/zone", "tz database"},
		{"the zone of the machine", "Europe/Lisbon", "Local", "/plan/zone", "tz database"},
		{"a window that ends before it begins", `"24:00"`, `"08:00"`, "/plan/hours/0/to", "a time after 09:00"},
		{"no such time", `"24:00"`, `"24:01"`, "/plan/hours/0/to", "from 00:00 to 24:00"},
		{"no such day", `["mon"]`, `["monday"]`, "/plan/hours/0/days/0", "one of sun, mon"},
		{"no days", `["mon"]`, `[]`, "/plan/hours/0/days", "at least one day"},
		{"a day twice", `["mon"]`, `["mon", "mon"]`, "/plan/hours/0/days/1", "each day once"},
		{"a duration without end", `"least": "1h"`, `"least": "1000000000d"`, "/plan/waves/0/least", "at most 3650d"},
		{"seconds", `"least": "1h"`, `"least": "90s"`, "/plan/waves/0/least", "with m, h or d"},
		{"a duration of nothing", `"zone"`, `"silent_after": "0d", "zone"`, "/plan/silent_after", "more than 0"},
		{"a number as a duration", `"least": "1h"`, `"least": 3600`, "/plan/waves/0/least", "with m, h or d"},
		{"an unknown way to go on", `"by-hand"`, `"later"`, "/plan/waves/1/go", "automatic or by-hand"},
		{"more than all that failed", "12.34", "100.5", "/plan/stop/failed", "from 0 to 100"},
		{"an unknown field", `"stop": {`, `"stop": {"slow": 1, `, "/plan/stop/slow", "one of failed, lost"},
		{"a target of no kind", "group:pilots", "pilots", "/plan/waves/0/who/include/0", ""},
		{"an empty first wave", `"waves": ["pilots"]`, `"waves": []`, "/plan/waves/0", "its audience matches no laptop"},
		{"a laptop twice", `"id": "B"`, `"id": "A"`, "/laptops/1/id", "each laptop once"},
		{"an unknown wave", `["pilots"]},`, `["half"]},`, "/laptops/0/waves/0", "a wave of the plan that has who"},
		{"a local time", "2026-11-23T09:30:00Z", "2026-11-23T09:30:00+02:00", "/events/0/at", "in UTC"},
		{"half a second", "2026-11-23T09:30:00Z", "2026-11-23T09:30:00.5Z", "/events/0/at", "whole seconds"},
		{"events backwards", "2026-11-23T09:30:00Z", "2026-11-23T10:45:00Z", "/events/1/at", "not before"},
		{"an event before the start", "2026-11-23T09:30:00Z", "2026-11-23T08:59:59Z", "/events/0/at", "not before"},
		{"two events in one", `"report": "taken"`, `"report": "taken", "heard": true`, "/events/0", "exactly one of"},
		{"an unknown report", `"report": "taken"`, `"report": "liked"`, "/events/0/report", "one of taken failed reverted"},
		{"an unknown act", `"do": "go"`, `"do": "hurry"`, "/events/1/do", "one of go pause"},
		{"an unknown laptop", `"device": "A", "report"`, `"device": "Z", "report"`, "/events/0/device", "a laptop of the rehearsal"},
		{"nobody to excuse", `"do": "excuse", "device": "B"`, `"do": "excuse"`, "/events/2/device", "the laptop's id"},
		{"somebody to pause", `"do": "go"`, `"do": "pause", "device": "A"`, "/events/1/device", "with excuse alone"},
		{"no end", `, {"at": "2026-11-23T11:00:00Z", "end": true}`, ``, "/events", "the last event"},
		{"two documents", `"end": true}]}`, `"end": true}]} {}`, "", "one JSON document"},
		{"no document", rehearsal, ``, "", "one JSON document"},
		{"a list", rehearsal, `[]`, "", "a map with rollout"},
	} {
		text := strings.Replace(rehearsal, c.part, c.by, 1)
		if text == rehearsal {
			t.Fatalf("%s: %q is not in the document", c.what, c.part)
		}
		r, err := files.ReadRehearsal("r.json", []byte(text))
		var out bytes.Buffer
		if err == nil {
			err = r.Run(&out)
		}
		faults, are := err.(problem.Faults)
		if !are || len(faults) == 0 {
			t.Errorf("%s: %v is taken, with\n%s", c.what, err, out.String())
			continue
		}
		if out.Len() > 0 || faults[0].Path != c.path || !strings.Contains(faults[0].Expected, c.expected) ||
			faults[0].Place.File != "r.json" {
			t.Errorf("%s: %s at %s, expected %q at %s", c.what, faults[0].Error(), faults[0].Path, c.expected, c.path)
		}
	}
}
