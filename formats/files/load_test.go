package files_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

// folderOf writes an estate folder: name, content, name, content …
func folderOf(t *testing.T, parts ...string) string {
	t.Helper()
	dir := t.TempDir()
	for i := 0; i < len(parts); i += 2 {
		path := filepath.Join(dir, parts[i])
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(parts[i+1]), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// faultsOf lists the faults of a folder as "file:line:column code".
func faultsOf(t *testing.T, dir string) []string {
	t.Helper()
	s, err := files.Read(dir, dictionary.Shipped())
	if err == nil {
		return nil
	}
	faults, ok := err.(problem.Faults)
	if !ok || s != nil {
		t.Fatalf("found %T %v and %v, expected faults alone", err, err, s)
	}
	var out []string
	for _, f := range faults {
		if f.Expected == "" {
			t.Errorf("%v does not say what was expected", f)
		}
		out = append(out, strings.TrimSpace(f.Place.String()+" "+string(f.Code)))
	}
	return out
}

const head = "units: [{id: larkfell}, {id: slipway, parent: larkfell}]\n"

func TestBrokenEstates(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want string // all faults, joined
	}{
		"two faults in two objects": {head + "people:\n  - id: a b\n  - {id: c, unit: nowhere}\n", "a.yaml:3:9 bad-id; a.yaml:4:19 " +
			"unknown-reference"},
		"top is a list":       {"- a\n", "a.yaml:1:1 wrong-type"},
		"unknown list":        {head + "gadgets: []\n", "a.yaml:2:1 unknown-field"},
		"list is a map":       {head + "people: {id: a}\n", "a.yaml:2:9 wrong-type"},
		"id is a number":      {head + "people: [{id: 7}]\n", "a.yaml:2:15 wrong-type"},
		"version is a number": {head + "devices: [{id: d, os: linux, os_version: 12.5}]\n", "a.yaml:2:42 wrong-type"},
		"owner is unknown": {head + "devices: [{id: d, os: linux, os_version: \"1\", " +
			"owner: x}]\n", "a.yaml:2:54 unknown-reference"},
		"fact is a map": {head + "devices: [{id: d, os: linux, os_version: \"1\", facts: " +
			"{a: {b: 1}}}]\n", "a.yaml:2:58 wrong-type"},
		"fact is no whole number": {head + "devices: [{id: d, os: linux, os_version: \"1\", facts: " +
			"{a: 1.5}}]\n", "a.yaml:2:58 wrong-type"},
		"fact list holds a number": {head + "devices: [{id: d, os: linux, os_version: \"1\", facts: " +
			"{a: [x, 1]}}]\n", "a.yaml:2:62 wrong-type"},
		"policy without settings": {head + "policies: [{id: p, kind: security, audience: {}}]\n", "a.yaml:2:12 missing-field"},
		"policy without audience": {head + "policies: [{id: p, kind: security, settings: {}}]\n", "a.yaml:2:12 missing-field"},
		"policy of no kind":       {head + "policies: [{id: p, settings: {}, audience: {}}]\n", "a.yaml:2:12 missing-field"},
		"unknown setting, bad value": {head + "policies: [{id: p, kind: security, settings: {a.b: 1, media.camera: maybe}, " +
			"audience: {}}]\n", "a.yaml:2:47 unknown-reference; a.yaml:2:69 wrong-type"},
		"long form without value": {head + "policies: [{id: p, kind: security, settings: {media.camera: {lock: true}}, " +
			"audience: {}}]\n", "a.yaml:2:61 missing-field"},
		"long form, value out of range": {head + "policies:\n  - id: p\n    kind: security\n    settings:\n      " +
			"screen.lock_after_minutes: {lock: true, value: 1441}\n    audience: {}\n", "a.yaml:6:54 out-of-range"},
		"lock is text": {head + "policies: [{id: p, kind: security, settings: {media.camera: {value: true, lock: " +
			"maybe}}, audience: {}}]\n", "a.yaml:2:81 wrong-type"},
		"list value with repeats": {head + "policies: [{id: p, kind: security, settings: {signin.denied: [a, a]}, " +
			"audience: {}}]\n", "a.yaml:2:66 doubled-item"},
		"include twice": {head + "policies: [{id: p, kind: security, settings: {}, audience: {include: [everyone, " +
			"everyone]}}]\n", "a.yaml:2:81 doubled-item"},
		"target of unknown unit": {head + "policies: [{id: p, kind: security, settings: {}, audience: {include: " +
			"[\"unit:x\"]}}]\n", "a.yaml:2:71 unknown-reference"},
		"condition names the unknown": {head + "policies: [{id: p, kind: security, settings: {}, audience: {when: " +
			"laptop.os == 1}}]\n", "a.yaml:2:67 bad-expression"},
		"group rule sees no person": {head + "groups: [{id: g, of: devices, rule: person.id == \"a\"}]\n", "a.yaml:2:37 bad-expression"},
		"group contains itself":     {head + "groups: [{id: g, of: devices, groups: [g]}]\n", "a.yaml:2:39 cycle"},
		"units in a ring":           {"units: [{id: r}, {id: a, parent: b}, {id: b, parent: a}]\n", "a.yaml:1:34 cycle"},
		"no units":                  {"people: []\n", "no-root"},
		"stricter without strictest": {head + "settings: [{id: a.b, kind: security, type: bool, stricter: " +
			"\"true\"}]\n", "a.yaml:2:60 misplaced-field"},
		"strictest without stricter": {head + "settings: [{id: a.b, kind: security, type: bool, combine: " +
			"strictest}]\n", "a.yaml:2:12 missing-field"},
		"strictest with another order": {head + "settings: [{id: a.b, kind: security, type: bool, combine: strictest, " +
			"stricter: lower}]\n", "a.yaml:2:80 not-one-of"},
		"merge of a text": {head + "settings: [{id: a.b, kind: security, type: text, " +
			"combine: merge}]\n", "a.yaml:2:59 misplaced-field"},
		"choice without options": {head + "settings: [{id: a.b, kind: security, type: choice}]\n", "a.yaml:2:12 missing-field"},
		"min above max": {head + "settings: [{id: a.b, kind: security, type: integer, min: " +
			"3, max: 2}]\n", "a.yaml:2:58 out-of-range"},
		"default of another type": {head + "settings: [{id: a.b, kind: security, type: integer, " +
			"default: x}]\n", "a.yaml:2:62 wrong-type"},
		"two rows of a platform": {head + "settings: [{id: a.b, kind: security, type: bool, supports: [{platform: linux}, " +
			"{platform: linux, from: \"2\"}]}]\n", "a.yaml:2:91 doubled-item"},
		"forced value does not fit": {head + "settings: [{id: a.b, kind: security, type: bool, forced: [{when: 'true', " +
			"value: 3}]}]\n", "a.yaml:2:81 wrong-type"},
		"check without settings": {head + "checks: [{id: c, message: m, when: 'true'}]\n", "a.yaml:2:10 missing-field"},
		"check names unknown setting": {head + "checks: [{id: c, message: m, settings: [a.b], " +
			"when: 'true'}]\n", "a.yaml:2:41 unknown-reference"},
		"value and unset": {head + "exceptions: [{id: E, setting: media.camera, target: everyone, value: true, unset: " +
			"true, until: 2026-05-01, reason: r, approved_by: x, approved_on: 2026-01-01}]\n", "a.yaml:2:83 either-or"},
		"no such day": {head + "exceptions: [{id: E, setting: media.camera, target: everyone, unset: true, until: " +
			"2026-02-30, reason: r, approved_by: x, approved_on: 2026-01-01}]\n", "a.yaml:2:83 bad-date"},
		"ruling over unknown": {head + "policies: [{id: p, kind: security, settings: {}, audience: {}}]\nrulings: [{id: R, " +
			"setting: media.camera, prefer: p, over: q}]\n", "a.yaml:3:59 unknown-reference"},
		"alias":       {"units: [&a {id: larkfell}, *a]\n", "a.yaml:1:9 anchor; a.yaml:1:28 anchor"},
		"merge key":   {"units: [{id: larkfell, <<: {title: x}}]\n", "a.yaml:1:24 anchor"},
		"broken text": {"units: [{id: larkfell}\nx", "a.yaml:2:1 syntax"},
		"nested too deep": {head + "people: " + strings.Repeat("[", 64) + strings.Repeat("]", 64) + "\n",
			"a.yaml:2:10 wrong-type; a.yaml:2:72 too-deep"},
		"brackets in texts and comments": {head + "people:\n  - id: a\n " +
			"   name: |\n" + strings.Repeat("      [ [ [ [ {\n", 400) + "  - id: b # " + strings.Repeat("[", 1500) + "\n    name: \"" +
			strings.Repeat("{ \\\" [", 800) + "\"\n  - id: c\n    name: it's [ fine\n", ""},
		"nested without end, after a text": {head + "people: [{id: a, name: " +
			"'[[['}]\nxs: " + strings.Repeat("[", 2_000), "a.yaml:3:1005 too-deep"},
		"nested without end": {strings.Repeat("[", 2_000_000), "a.yaml:1:1001 too-deep"},
		"not UTF-8":          {head + "people: [{id: a, name: \xff}]\n", "a.yaml:2:24 encoding"},
		"priority beyond bounds": {head + "policies: [{id: p, kind: security, priority: -1000001, settings: {}, " +
			"audience: {}}]\n", "a.yaml:2:46 out-of-range"},
		"integer beyond 64 bits": {head + "policies: [{id: p, kind: security, priority: 99999999999999999999, settings: {}, " +
			"audience: {}}]\n", "a.yaml:2:46 wrong-type"},
		"key twice in settings": {head + "policies: [{id: p, kind: security, settings: {media.camera: true, media.camera: true}, " +
			"audience: {}}]\n", "a.yaml:2:67 doubled-field"},
		"facts that bear a device's names": {head + "devices: [{id: d, os: linux, os_version: \"1\", facts: " +
			"{units: x}}]\n", "a.yaml:2:55 reserved-name"},
	} {
		t.Run(name, func(t *testing.T) {
			got := strings.Join(faultsOf(t, folderOf(t, "a.yaml", c.text)), "; ")
			if strings.HasSuffix(got, " no-root") { // stands at the folder, whose name is another each time
				got = "no-root"
			}
			if got != c.want {
				t.Errorf("found %q, expected %q", got, c.want)
			}
		})
	}
}

func TestTables(t *testing.T) {
	for name, c := range map[string]struct{ devices, want string }{
		"cells":            {"id,os,os_version\nd,linux,1,extra\ne,linux\n", "devices.csv:2:1 cell-count; devices.csv:3:1 cell-count"},
		"doubled column":   {"id,os,os_version,os\nd,linux,1,linux\n", "devices.csv:1:18 doubled-field"},
		"reserved column":  {"id,os,os_version,units\nd,linux,1,x\n", "devices.csv:1:18 reserved-name"},
		"no id column":     {"os,os_version\nlinux,1\n", "devices.csv:1:1 missing-field; devices.csv:2:1 missing-field"},
		"unknown owner":    {"id,os,os_version,owner\nd,linux,1,x\n", "devices.csv:2:11 unknown-reference"},
		"empty id":         {"id,os,os_version\n,linux,1\n", "devices.csv:2:1 missing-field"},
		"broken quotes":    {"id,os,os_version\n\"d,linux,1\n", "devices.csv:2:12 syntax"},
		"tag twice":        {"id,os,os_version,tags\nd,linux,1,a a\n", "devices.csv:2:11 doubled-item"},
		"id in two places": {"id,os,os_version\nd,linux,1\nd,linux,1\n", "devices.csv:3:1 doubled-id"},
	} {
		t.Run(name, func(t *testing.T) {
			got := strings.Join(faultsOf(t, folderOf(t, "a.yaml", head, "devices.csv", c.devices)), "; ")
			if got != c.want {
				t.Errorf("found %q, expected %q", got, c.want)
			}
		})
	}
	s, err := files.Read(folderOf(t, "a.yaml", head, "empty.yml", "# nothing\n", "devices.csv",
		"\xef\xbb\xbfid,os,os_version,tags,a,b,c,d,e,f\r\nd,linux,12,x y,true,12,012,+5,-0,\r\n"), dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	d := s.Devices[0]
	for name, want := range map[string]setting.Value{"a": setting.BoolValue(true), "b": setting.IntegerValue(12),
		"c": setting.TextValue("012"), "d": setting.TextValue("+5"), "e": setting.TextValue("-0"), "f": {}} {
		if !d.Facts[name].Equal(want) {
			t.Errorf("%s is %v, expected %v", name, d.Facts[name], want)
		}
	}
	if len(d.Tags) != 2 || d.OSVersion != "12" || len(d.Facts) != 5 {
		t.Errorf("the row became %+v", d)
	}
}

func TestFilesAddUp(t *testing.T) {
	dir := folderOf(
		t,
		"z/units.yaml",
		head+"---\npeople: [{id: a}]\n---\n",
		"people.json",
		"{\"people\": [\n\t{\"id\": \"b\", \"attributes\": {\"n\": 3}}]}",
		"notes.txt",
		"{",
		"sub/devices.csv",
		"x\n",
	)
	if err := os.Symlink("people.json", filepath.Join(dir, "again.json")); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(faultsOf(t, dir), "; "); got != "people.json:2:9 doubled-id" {
		t.Errorf("a link to a file inside is read like a file: found %q", got)
	}
	os.Remove(filepath.Join(dir, "again.json"))
	s, err := files.Read(dir, dictionary.Shipped())
	if err != nil || len(s.People) != 2 || len(s.Units) != 2 {
		t.Fatalf("%v, %v", s, err)
	}
	if err := os.Symlink("/etc/hostname", filepath.Join(dir, "out.yaml")); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(faultsOf(t, dir), "; "); got != "out.yaml link-outside" {
		t.Errorf("found %q", got)
	}
	if got := strings.Join(faultsOf(t, filepath.Join(dir, "nowhere")), "; "); !strings.HasSuffix(got, "unreadable") {
		t.Errorf("found %q", got)
	}
	for name, c := range map[string]struct{ text, want string }{
		"doubled key": {`{"units": [{"id": "a", "id": "b"}]}`, "a.json:1:24 doubled-field"},
		"cut off":     {`{"units": [{"id": "a"`, "a.json:1:22 syntax"},
		"too deep":    {strings.Repeat("[", 5_000_000), "a.json:1:65 too-deep"},
		"deep enough": {`{"people": ` + strings.Repeat("[", 63) + strings.Repeat("]", 63) + `}`, "a.json:1:13 wrong-type"},
		"no JSON":     {"units: []", "a.json:1:1 syntax"},
		"a fraction":  {`{"units": [{"id": "a"}], "policies": [{"id": "p", "kind": "security", "priority": 1.0, "settings": {}, "audience": {}}]}`, "a.json:1:83 wrong-type"},
	} {
		got := faultsOf(t, folderOf(t, "a.json", c.text))
		if len(got) > 0 && strings.HasSuffix(got[0], "no-root") {
			got = got[1:]
		}
		if len(got) == 0 || got[0] != c.want {
			t.Errorf("%s: found %q, expected %q first", name, got, c.want)
		}
	}
}

func TestExportAndImportChangeNothing(t *testing.T) {
	s, held, err := files.ReadWithFiles("../../demo/estate", dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	first := t.TempDir()
	if err := files.Write(first, s, func(sha256 string) ([]byte, error) { return os.ReadFile(held[sha256]) }); err != nil {
		t.Fatal(err)
	}
	again, err := files.Read(first, dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	a, _ := files.Encode(s)
	b, _ := files.Encode(again)
	if len(a) == 0 || len(a) != len(b) {
		t.Fatalf("%d files, then %d", len(a), len(b))
	}
	for name := range a {
		if string(a[name]) != string(b[name]) {
			t.Errorf("%s differs after export and import", name)
		}
	}
	if err := files.Write(first, s, nil); err == nil {
		t.Error("wrote into a folder that is not empty")
	}
}

// TestOddTextsSurvive writes texts that YAML readers like to take for something else.
func TestOddTextsSurvive(t *testing.T) {
	for _, text := range []string{"yes", "1e3", "0x1f", "~", "null", "12", "-0", "1.5", " lead", "trail ", "a: b", "a #b", "- x",
		"line\nline\n", "\ttab", "é ☃ \U0001F6A2", `"q" 'r' \`, "{", "*a", "&a", "!t", "2026-05-01", "on", "\u2028", "%x", "@x", "a\r\nb",
		"größe", "2fa", "1", "_x", "x:y", "true", "? x", "x: [", "[a]", ",", "#x", "-", "<<", "=", "a: |", "x'y", "0", "1_000", ".5",
		"key with spaces "} {
		fact := map[string]setting.Value{text: setting.TextValue(text)}
		s := &estate.Snapshot{
			Units:   []estate.Unit{{ID: "r", Title: text}},
			Devices: []*estate.Device{{ID: "d", OS: "linux", OSVersion: "1", Facts: fact}},
		}
		dir := t.TempDir()
		if err := files.Write(dir, s, nil); err != nil {
			t.Fatal(err)
		}
		again, err := files.Read(dir, files.Dictionary{})
		if err != nil {
			t.Errorf("%q: %v", text, err)
		} else if again.Units[0].Title != text {
			t.Errorf("wrote %q, read %q", text, again.Units[0].Title)
		} else if v, there := again.Devices[0].Facts[text]; !there || v.Text() != text {
			t.Errorf("wrote the fact %q, read %v", text, again.Devices[0].Facts)
		}
	}
}

func FuzzNoInputBreaksTheReader(f *testing.F) {
	f.Add("a.yaml", head)
	f.Add("a.json", `{"units": [{"id": "r"}]}`)
	f.Add("devices.csv", "id,os\nd,linux\n")
	f.Fuzz(func(t *testing.T, name, text string) {
		switch name {
		case "a.yaml", "a.json", "devices.csv", "people.csv":
			files.Read(folderOf(t, name, text), files.Dictionary{})
		}
	})
}
