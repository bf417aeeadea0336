package command_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/command"
	"zenithridge.example/zridge/formats/wire"
)

// run runs the command line in this process.
func run(t *testing.T, args ...string) (out, errOut string, status int) {
	t.Helper()
	t.Setenv("ZRIDGE_CONFIG", filepath.Join(t.TempDir(), "none.json"))
	var o, e bytes.Buffer
	status = command.Run(
		context.Background(),
		append([]string{"zridge"}, args...),
		command.Streams{In: strings.NewReader(""), Out: &o, Err: &e},
	)
	return o.String(), e.String(), status
}

// example is the estate of the contract's example, with a laptop that supports little.
const example = `
units: [{id: larkfell}, {id: slipway, parent: larkfell}]
people: [{id: ines, unit: slipway}]
devices: [{id: LT-7, os: linux, os_version: "12", owner: ines}, {id: LT-9, os: macos, os_version: "12"}]
groups: [{id: crew-leads, of: people, members: [ines]}]
policies:
  - {id: house-rules, kind: security, priority: 10, settings: {screen.lock_after_minutes: 15, signin.banner: Larkfell property}, audience: {include: [everyone]}}
  - {id: slipway-desk, kind: security, priority: 10, settings: {screen.lock_after_minutes: 30, signin.banner: Slipway desk}, audience: {include: ["unit:slipway"]}}
  - {id: leads, kind: security, priority: 10, settings: {signin.banner: Call the duty lead}, audience: {include: ["group:crew-leads"]}}
  - {id: leads-night, kind: security, priority: 10, settings: {signin.banner: Night watch, disk.encryption.scope: whole-disk}, audience: {include: ["group:crew-leads"]}}
  - {id: macs, kind: security, settings: {disk.encryption.scope: whole-disk}, audience: {include: ["device:LT-9"], exclude: ["person:ines"]}}
`

func folder(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestExplainTellsTheWholeStory(t *testing.T) {
	out, errOut, status := run(t, "explain", "--estate", folder(t, example), "LT-7")
	want := `LT-7, ines, home unit slipway

disk.encryption.scope = "whole-disk", strictest from leads-night
  group        leads-night = "whole-disk" (priority 10): in effect

screen.lock_after_minutes = 15, strictest from house-rules
  unit:0       house-rules = 15 (priority 10): in effect
  unit:1       slipway-desk = 30 (priority 10): lost: weaker than house-rules

signin.banner: conflict between leads, leads-night; nothing is sent and the laptop keeps what it has
  unit:0       house-rules = "Larkfell property" (priority 10): lost: set closer to the laptop by leads, leads-night, slipway-desk
  group        leads = "Call the duty lead" (priority 10): conflicts with leads-night
  group        leads-night = "Night watch" (priority 10): conflicts with leads
  unit:1       slipway-desk = "Slipway desk" (priority 10): lost: set closer to the laptop by leads, leads-night

policies that do not apply:
1 policy is not assigned to this laptop. Show them with --not-assigned
`
	if status != 0 || out != want {
		t.Errorf("status %d %s\nfound\n%s\nexpected\n%s", status, errOut, out, want)
	}
	out, _, _ = run(t, "explain", "--estate", folder(t, example), "LT-9", "--person", "ines", "--not-assigned")
	for _, part := range []string{"LT-9, ines, home unit larkfell", "signin.banner = \"Larkfell property\", closest " +
		"from house-rules", "disk.encryption.scope: not supported by this " +
		"laptop (platform)", "macs: left out by person:ines", "slipway-desk: not assigned to this laptop or person"} {
		if !strings.Contains(out, part) {
			t.Errorf("for another person %q is missing in\n%s", part, out)
		}
	}
}

func TestCheckPrintsFindings(t *testing.T) {
	dir := folder(t, example)
	out, _, status := run(t, "check", dir)
	for _, line := range []string{
		"conflict  signin.banner: leads, leads-night disagree on 1 device",
		"lint      never-wins: screen.lock_after_minutes in slipway-desk wins on none of 1 device",
		"2 units, 1 person, 2 devices, 5 policies: 1 conflict, 0 problems, 3 lints",
	} {
		if !strings.Contains(out, line+"\n") {
			t.Errorf("%q is missing in\n%s", line, out)
		}
	}
	if status != 0 {
		t.Errorf("status %d", status)
	}
	if _, _, status := run(t, "check", "--strict", dir); status != 3 {
		t.Errorf("strict: status %d", status)
	}
	out, _, status = run(t, "check", "--format", "json", dir)
	var found struct {
		Conflicts []wire.Conflict
		Problems  []wire.FoundProblem
		Lints     []wire.Lint
	}
	if err := json.Unmarshal(
		[]byte(out),
		&found,
	); err != nil || status != 0 || len(found.Conflicts) != 1 || len(found.Lints) != 3 || found.Conflicts[0].Devices[0] != "LT-7" ||
		len(found.Conflicts[0].Values) != 2 {
		t.Errorf("as JSON: status %d %v %+v", status, err, found)
	}
	bad := folder(t, example+"rulings: [{id: R, setting: signin.banner, prefer: leads, over: leads}]\n")
	out, errOut, status := run(t, "check", bad)
	if status != 1 || errOut != "" || !strings.Contains(out, "estate.yaml:12:") || !strings.Contains(out, "prefers-itself") ||
		!strings.Contains(out, "1 fault; nothing was loaded") {
		t.Errorf("a fault: status %d %q %q", status, out, errOut)
	}
	out, _, status = run(t, "check", "--format", "json", bad)
	if status != 1 || !strings.Contains(out, `"code":"prefers-itself"`) || !strings.Contains(out, `"line":12`) {
		t.Errorf("a fault as JSON: status %d %s", status, out)
	}
}

func TestEffectiveAndConflictsAsText(t *testing.T) {
	dir := folder(t, example)
	out, _, status := run(t, "effective", "--estate", dir, "--all", "--reasons", "--not-assigned")
	for _, part := range []string{"LT-7  ines  unit slipway", "LT-9  no person  unit larkfell", "unsupported (platform)",
		"not applying: leads, not assigned", "setting                    status"} {
		if !strings.Contains(out, part) {
			t.Errorf("%q is missing in\n%s", part, out)
		}
	}
	if status != 0 {
		t.Errorf("status %d", status)
	}
	out, _, _ = run(t, "effective", "--estate", dir, "--all", "--format", "json")
	var list []struct{ Device string }
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 2 {
		t.Errorf("as JSON: %v %s", err, out)
	}
	out, _, _ = run(t, "conflicts", "--estate", dir)
	if want := "signin.banner on 1 device\n  leads = \"Call the duty lead\" (group, priority 10)\n  leads-night = \"Night watch\" " +
		"(group, priority 10)\n  LT-7\n1 conflict\n"; out != want {
		t.Errorf("found\n%s\nexpected\n%s", out, want)
	}
}

// TestEveryCommandHasHelp walks the tree of commands.
func TestEveryCommandHasHelp(t *testing.T) {
	for _, name := range []string{
		"", "check", "effective", "explain", "conflicts", "policy", "policy list", "policy show", "group list", "device", "device list",
		"device show", "device retry", "device simulate",
		"setting search", "setting show", "change", "change new", "change edit", "change impact", "change publish", "change discard",
		"change drop", "status", "import", "export", "sign-in", "set-up", "serve", "demo", "api-document",
	} {
		out, errOut, status := run(t, append(strings.Fields(name), "--help")...)
		if status != 0 || !strings.Contains(out, "USAGE") || errOut != "" {
			t.Errorf("zridge %s --help: status %d %s%s", name, status, out, errOut)
		}
	}
}

// TestADemoThatFailsLeavesNothing begins a demo over an estate with a fault.
func TestADemoThatFailsLeavesNothing(t *testing.T) {
	to := filepath.Join(t.TempDir(), "demo")
	_, errOut, status := run(t, "demo", "--estate", folder(t, "units: [{id: a}, {id: b}]\n"), "--folder", to, "--listen", "127.0.0.1:0")
	if status != 1 || !strings.Contains(errOut, "root") {
		t.Errorf("status %d %s", status, errOut)
	}
	if _, err := os.Stat(to); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the folder is there: %v", err)
	}
}

func TestAServiceThatIsNotThere(t *testing.T) {
	config := filepath.Join(t.TempDir(), "sign-in.json")
	if err := os.WriteFile(config, []byte(`{"service":"http://127.0.0.1:9","token":"zrt_secret","name":"ines"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"status"}, {"policy", "list"}, {"effective", "LT-1"}, {"import", "../demo/estate"},
		{"change", "new", "x"}} {
		t.Setenv("ZRIDGE_CONFIG", config)
		var o, e bytes.Buffer
		status := command.Run(
			context.Background(),
			append([]string{"zridge"}, args...),
			command.Streams{In: strings.NewReader(""), Out: &o, Err: &e},
		)
		if status != 1 || !strings.Contains(e.String(), "http://127.0.0.1:9") || strings.Contains(e.String(), "zrt_secret") {
			t.Errorf("%v: status %d %s", args, status, e.String())
		}
	}
	if err := os.WriteFile(config, []byte(`{`), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("ZRIDGE_CONFIG", config)
	var o, e bytes.Buffer
	if status := command.Run(
		context.Background(),
		[]string{"zridge", "status"},
		command.Streams{In: strings.NewReader(""), Out: &o, Err: &e},
	); status != 1 ||
		!strings.Contains(e.String(), config) {
		t.Errorf("a broken file: status %d %s", status, e.String())
	}
}

// TestRehearse plays the rehearsal that ships, from its file and from the standard input, and one that
// is wrong.
func TestRehearse(t *testing.T) {
	out, errOut, status := run(t, "rollout", "rehearse", "../demo/rehearsal.json")
	if status != 0 || !strings.HasPrefix(out, `{"at":"2026-11-23T08:30:00Z","state":"running"}`+"\n") ||
		!strings.Contains(out, `"opened":"pilots"`) {
		t.Errorf("status %d, %s%s", status, out, errOut)
	}
	wrong := filepath.Join(t.TempDir(), "wrong.json")
	if err := os.WriteFile(wrong, []byte(`{"rollout": "C-1",`), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"rollout", "rehearse", wrong}, {"rollout", "rehearse", "no-such-file.json"}} {
		if out, errOut, status := run(t, args...); status != 1 || out != "" || errOut == "" || strings.Contains(errOut, "goroutine") {
			t.Errorf("%v: status %d, %s%s", args, status, out, errOut)
		}
	}
	if _, errOut, status := run(t, "rollout", "rehearse"); status != 2 || !strings.Contains(errOut, "expected one FILE") {
		t.Errorf("no file: status %d, %s", status, errOut)
	}
}
