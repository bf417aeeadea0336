package e2e

import (
	"encoding/json"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// changes lists the ids of the changes that are open.
func (r *running) changes() []string {
	r.t.Helper()
	var list []wire.Change
	if err := json.Unmarshal([]byte(r.must("change", "list", "--state", "open", "--format", "json")), &list); err != nil {
		r.t.Fatal(err)
	}
	ids := make([]string, len(list))
	for i, c := range list {
		ids[i] = c.ID
	}
	return ids
}

// TestAFailedEditLeavesNothing: a change that was opened for an edit that fails is taken away again;
// one that has edits stays.
func TestAFailedEditLeavesNothing(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	for _, args := range [][]string{
		{"policy", "set", "house-rules", "no.such.setting=1"},
		{"policy", "set", "house-rules", "screen.lock_after_minutes=99999"},
		{"policy", "set", "no-such-policy", "media.camera=off"},
		{"policy", "audience", "house-rules", "--include", "group:nobody"},
		{"policy", "split", "house-rules", "half", "no.such.setting"},
		{"group", "retire", "no-such-group"},
		{"unit", "move", "labs", "--below", "acoustics-lab"},
		{"conflicts", "settle", "signin.banner", "--way", "none", "--policy", "house-rules", "--reason", "r"},
	} {
		if out, errOut, status := r.run("", args...); status == 0 || strings.Contains(errOut, "opened the change") {
			t.Errorf("%v: status %d %s%s", args, status, out, errOut)
		}
		if left := r.changes(); len(left) != 0 {
			t.Fatalf("%v leaves %v", args, left)
		}
	}
	if out, _, _ := r.run("", "change", "list", "--state", "discarded", "--format", "json"); strings.TrimSpace(out) != "[]" {
		t.Errorf("discarded changes: %s", out)
	}
	_, errOut, _ := r.run("", "policy", "set", "house-rules", "screen.lock_after_minutes=7")
	open := r.changes()
	if len(open) != 1 || !strings.Contains(errOut, "opened the change "+open[0]) {
		t.Fatalf("%v are open: %s", open, errOut)
	}
	if _, errOut, status := r.run("", "policy", "set", "house-rules", "screen.lock_after_minutes=99999"); status == 0 ||
		!strings.Contains(errOut, "in the open change "+open[0]) {
		t.Errorf("status %d %s", status, errOut)
	}
	if after := r.changes(); len(after) != 1 || after[0] != open[0] {
		t.Errorf("after an edit that failed %v are open", after)
	}
}

// TestReadingTheOpenChange: commands that read use the change that commands that write put their
// edits into, say so, and read what is live when asked to.
func TestReadingTheOpenChange(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	if out, errOut, _ := r.run("", "policy", "show", "house-rules"); errOut != "" || !strings.HasPrefix(out, "# version 1\n") {
		t.Errorf("without a change: %s%s", errOut, out)
	}
	r.must("policy", "new", "harbour-quiet", "--title", "Quiet harbour")
	r.must("policy", "set", "harbour-quiet", "media.camera=off")
	r.must("policy", "audience", "harbour-quiet", "--include", "unit:harbour-office")
	r.must("policy", "set", "house-rules", "screen.lock_after_minutes=7")
	id := r.changes()[0]
	for _, c := range []struct {
		args       []string
		with, live string // "": it is not there
	}{
		{[]string{"policy", "show", "harbour-quiet"}, "# as in the change " + id, ""},
		{[]string{"policy", "review", "harbour-quiet"}, "Assigned to 43 laptops", ""},
		{[]string{"policy", "reach", "harbour-quiet"}, "Assigned to 43 of 240 laptops", ""},
		{[]string{"policy", "summary", "harbour-quiet"}, "Quiet harbour", ""},
		{[]string{"policy", "show", "house-rules"}, "screen.lock_after_minutes: 7", "screen.lock_after_minutes: 15"},
		{[]string{"setting", "places", "screen.lock_after_minutes"}, "7 +11", "15 +11"},
		{[]string{"setting", "show", "media.camera"}, "harbour-quiet", "labs-quiet"},
	} {
		out, errOut, status := r.run("", c.args...)
		if status != 0 || !strings.Contains(out, c.with) || !strings.Contains(errOut, "with the open change "+id) {
			t.Errorf("%v: status %d, expected %q\n%s%s", c.args, status, c.with, errOut, out)
		}
		out, errOut, status = r.run("", append(c.args, "--live")...)
		switch {
		case c.live == "" && (status != 1 || !strings.Contains(errOut, "It exists in the open change "+id)):
			t.Errorf("%v --live: status %d %s%s", c.args, status, errOut, out)
		case c.live != "" && (status != 0 || errOut != "" || !strings.Contains(out, c.live) || strings.Contains(out, c.with)):
			t.Errorf("%v --live: status %d %s%s", c.args, status, errOut, out)
		}
	}
	for _, args := range [][]string{{"change", "show"}, {"change", "impact"}} {
		if out, errOut, status := r.run("", args...); status != 0 || !strings.Contains(errOut, "the open change "+id) || out == "" {
			t.Errorf("%v: status %d %s%s", args, status, errOut, out)
		}
	}
	if _, errOut, status := r.run("", "policy", "show", "house-rules", "--live", "--change", id); status != 2 {
		t.Errorf("--live with --change: status %d %s", status, errOut)
	}
	r.must("change", "discard", id)
	if _, errOut, status := r.run("", "change", "show"); status != 2 || !strings.Contains(errOut, "Name a change") {
		t.Errorf("with no open change: status %d %s", status, errOut)
	}
}

// TestNearWhatWasTyped: what is misspelt is answered with what was likely meant; laptops go by their
// serial numbers, too; what a laptop does not get is explained.
func TestNearWhatWasTyped(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"policy show house-rulez", 1, `There is no policy "house-rulez". Near it: house-rules.`},
		{"policy reach houserules", 1, "Near it: house-rules."},
		{"group show on-cal", 1, "Near it: on-call."},
		{"unit inherits slipwya", 1, "Near it: slipway."},
		{"device show LT-9999", 1, "Near it: LT-0099, LT-0199."},
		{"device show QQQ", 1, `There is no device "QQQ".` + "\n"},
		{"setting show media.camra", 2, "near it are media.camera"},
		{"policy lst", 2, `Did you mean "list"?`},
		{"polici list", 2, `Did you mean "policy"?`},
		{"help nonsense", 2, `Unknown command "nonsense".`},
		{"help policy set", 0, "zridge policy set - set values in a policy"},
		{"policy help set", 0, "zridge policy set - set values in a policy"},
		{"--version", 0, "zridge version "},
		{"device show ZX6-1120", 0, "LT-0004  serial ZX6-1120"},
		{"explain ZX6-1120 media.camera", 0, "media.camera is not set on LT-0004: the policy that sets it does not apply."},
		{"explain LT-0004 updates.source", 0, "updates.source is not set on LT-0004: no policy sets it."},
		{"explain LT-0004 no.such", 2, "found the setting"},
		{"explain LT-0004 --policy labs-quiet", 0, "labs-quiet does not apply to LT-0004: not assigned"},
		{"explain LT-0004 --policy house-rules", 0, "house-rules = 15 (priority 10): in effect"},
		{"explain LT-0004 --policy house-rulez", 1, "Near it: house-rules."},
		{"source left --format json", 0, "[]\n"},
	} {
		out, errOut, status := r.run("", strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(out+errOut, c.want) {
			t.Errorf("zridge %s: status %d, expected %d with %q\n%s%s", c.args, status, c.status, c.want, out, errOut)
		}
	}
	if out := r.must("device", "list"); !strings.Contains(out, "ZX6-1120") {
		t.Error("the list of laptops shows no serial numbers")
	}
}

// TestTablesFit: no line of a table is wider than the terminal, and none ends with blanks. Ids stay
// in one piece.
func TestTablesFit(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	for _, args := range []string{
		"policy list", "device list", "person list", "group list", "unit list", "setting search usb", "kit list", "file list", "change list",
		"role list", "grant list", "conflicts ways signin.banner", "unit matrix", "setting places screen.lock_after_minutes",
		"policy reach house-rules", "exception list",
	} {
		out, errOut, status := runWith(t, []string{"ZRIDGE_CONFIG=" + r.config, "COLUMNS=100"}, "", strings.Fields(args)...)
		if status != 0 || len(strings.Split(out, "\n")) < 2 {
			t.Errorf("%s: status %d %s%s", args, status, out, errOut)
		}
		for line := range strings.SplitSeq(out, "\n") {
			if n := len([]rune(line)); n > 100 && args != "unit matrix" { // as many units as there are stand side by side
				t.Errorf("%s: a line has %d characters: %s", args, n, line)
			}
			if strings.HasSuffix(line, " ") {
				t.Errorf("%s: a line ends with blanks: %q", args, line)
			}
		}
	}
	out, _, _ := runWith(t, []string{"ZRIDGE_CONFIG=" + r.config, "COLUMNS=60"}, "", "group", "list")
	if !strings.Contains(out, "release-pilots ") || !strings.Contains(out, "\n             ") {
		t.Errorf("an id is split:\n%s", out)
	}
}

// TestCompletionInBash completes in a shell that has nothing but itself.
func TestCompletionInBash(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	r.must("policy", "set", "house-rules", "screen.lock_after_minutes=7")
	for line, want := range map[string]string{
		"zridge pol":                                               "policy",
		"zridge policy show hou":                                   "house-rules",
		"zridge policy set house-rules media.cam":                  "media.camera=",
		"zridge policy set house-rules media.camera=":              "off on",
		"zridge policy audience house-rules --include gr":          "group:",
		"zridge policy audience house-rules --include group:on-ca": "on-call",
		"zridge policy reach x --format j":                         "json",
		"zridge policy reach x --format=j":                         "json",
		"zridge device list --state fa":                            "failed",
		"zridge device list --sta":                                 "--state",
		"zridge explain LT-0110 media.cam":                         "media.camera",
		"zridge change publish ":                                   r.changes()[0],
		"zridge kit show encrypt-f":                                "encrypt-field-laptops",
		"zridge policy show 'hou":                                  "house-rules",
		"zridge no-such-command x":                                 "",
	} {
		script := `source <(zridge completion bash); COMP_LINE=$1; COMP_POINT=${#COMP_LINE}; _zridge; echo "${COMPREPLY[@]}"`
		cmd := exec.Command("bash", "--norc", "--noprofile", "-c", script, "bash", line)
		cmd.Env = []string{"PATH=" + filepath.Dir(binary) + ":/usr/bin:/bin", "ZRIDGE_CONFIG=" + r.config}
		out, err := cmd.CombinedOutput()
		if got := strings.TrimSpace(string(out)); err != nil || got != want {
			t.Errorf("%q is completed by %q, expected %q: %v", line, got, want, err)
		}
	}
}

// TestEveryoneByOtherWords: a policy for every laptop needs --everyone, whichever words say so, and
// the number is told before anything is saved.
func TestEveryoneByOtherWords(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	r.must("policy", "new", "quiet", "--title", "Quiet")
	r.must("policy", "set", "quiet", "media.camera=off")
	for _, targets := range []string{"everyone", "unit:larkfell", "unit:slipway unit:larkfell", "person:ruth.mbeki everyone"} {
		args := []string{"policy", "audience", "quiet"}
		for target := range strings.FieldsSeq(targets) {
			args = append(args, "--include", target)
		}
		out, errOut, status := r.run("", args...)
		if status != 2 || !strings.Contains(errOut, "everyone, 240 laptops today") {
			t.Errorf("%s: status %d %s%s", targets, status, errOut, out)
		}
		if strings.Contains(r.must("policy", "show", "quiet"), "include") {
			t.Errorf("%s was saved without being confirmed", targets)
		}
	}
	r.must("policy", "audience", "quiet", "--include", "unit:larkfell", "--everyone")
	// It is confirmed now: what is altered besides does not ask again.
	r.must("policy", "audience", "quiet", "--include", "unit:slipway")
}

// TestDecisionsNeedAReason: nobody settles a conflict or detaches anything without saying why, on the
// command line and over the API.
func TestDecisionsNeedAReason(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	if _, errOut, status := r.run("", "conflicts", "settle", "signin.banner", "--way", "prefer", "--policy", "leads-banner"); status != 2 ||
		!strings.Contains(errOut, "reason") {
		t.Errorf("settling without a reason: status %d %s", status, errOut)
	}
	if _, errOut, status := r.run("", "conflicts", "settle", "signin.banner", "--way", "prefer", "--policy", "leads-banner",
		"--reason", "  "); status != 2 ||
		!strings.Contains(errOut, "reason") {
		t.Errorf("settling with an empty reason: status %d %s", status, errOut)
	}
	if _, errOut, status := r.run("", "unit", "detach", "unit:labs", "--kind", "security", "--yes"); status != 2 ||
		!strings.Contains(errOut, "--reason") {
		t.Errorf("detaching without a reason: status %d %s", status, errOut)
	}
	if left := r.changes(); len(left) != 0 {
		t.Fatalf("changes are left: %v", left)
	}
	change, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: "Decisions"})
	if err != nil {
		t.Fatal(err)
	}
	edit := func(kind, id, body, path string) {
		t.Helper()
		p, _ := call(t, api, http.MethodPut, client.Path("changes", change.ID, "edits", kind, id), body)
		switch {
		case path == "" && p != nil:
			t.Errorf("%s: %v", body, p)
		case path != "" && (p == nil || p.Status != http.StatusUnprocessableEntity || len(p.Faults) != 1 || p.Faults[0].Path != path):
			t.Errorf("%s: %+v, expected a fault at %s", body, p, path)
		}
	}
	const ruling = `{"id":"R-1","setting":"signin.banner","prefer":"leads-banner","over":"on-call-banner"`
	edit("rulings", "R-1", ruling+`}`, "/reason")
	edit("rulings", "R-1", ruling+`,"reason":" "}`, "/reason")
	edit("rulings", "R-1", ruling+`,"reason":"The watch must be reached"}`, "")
	edit("units", "tide-lab", `{"id":"tide-lab","parent":"labs","title":"Tide","detach":["security"]}`, "/detach/0/reason")
	edit("units", "tide-lab", `{"id":"tide-lab","parent":"labs","title":"Tide","detach":[{"what":"security","reason":"Own rules"}]}`, "")
	edit("groups", "plotter-room", `{"id":"plotter-room","of":"devices","detach":["area:updates"]}`, "/detach/0/reason")
	// What is live without a reason, since it was imported so, may stay.
	edit("units", "acoustics-lab", `{"id":"acoustics-lab","parent":"labs","title":"Acoustics","detach":["configuration"]}`, "")
	edit(
		"units",
		"acoustics-lab",
		`{"id":"acoustics-lab","parent":"labs","title":"Acoustics","detach":["configuration","encryption"]}`,
		"/detach/1/reason",
	)
	p, _ := call(
		t,
		api,
		http.MethodPost,
		client.Path("changes", change.ID, "detached"),
		`{"place":"unit:slipway","detach":[{"what":"security"}]}`,
	)
	if p == nil || p.Status != http.StatusUnprocessableEntity || p.Faults[0].Path != "/detach/0/reason" {
		t.Errorf("detaching over the API: %+v", p)
	}
}

// TestANoteBelongsToItsValue alters a value that a kit brings a reason for: the reason does not stay
// with a value that it was not written for.
func TestANoteBelongsToItsValue(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	r.must("policy", "new", "under-way", "--kit", "travel")
	out := r.must("policy", "set", "under-way", "screen.lock_after_minutes=5")
	if !strings.Contains(out, `the note "Trains and cafés" was written for 3 and is removed`) ||
		strings.Contains(r.must("policy", "show", "under-way"), "Trains") {
		t.Errorf("another value: %s", out)
	}
	r.must("policy", "set", "under-way", "screen.lock_after_minutes=4", "--note", "Ferries")
	if out := r.must("policy", "set", "under-way", "screen.lock_after_minutes=4"); strings.Contains(out, "is removed") {
		t.Errorf("the same value: %s", out)
	}
	if out := r.must("policy", "show", "under-way"); !strings.Contains(out, "Ferries") ||
		!strings.Contains(out, "Hotel rooms are not locked") {
		t.Errorf("notes that belong to their values: %s", out)
	}
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/new?kit=travel")
	p.button("Travel")
	p.begin("On trains", "Ticket 12")
	const note = `[...document.querySelectorAll('input')].some((i) => i.value === 'Trains and cafés')`
	p.until("the note of the kit is there", note)
	p.fill("Lock the screen after minutes", "5")
	p.shows("The note ‘Trains and cafés’ was written for 3, and is removed.")
	p.until("the note is gone", "!"+note)
	p.fill("Lock the screen after minutes", "3")
	p.until("the note is back with its value", note)
	p.fill("Lock the screen after minutes", "6")
	p.button("Keep it")
	p.until("the note is kept", note)
}
