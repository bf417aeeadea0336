package e2e

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// written puts text into a file of the test.
func written(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// second is another administrator.
func second(t *testing.T, api *client.Client, name string) *client.Client {
	t.Helper()
	if _, err := api.Call(
		context.Background(),
		http.MethodPost,
		"/accounts",
		nil,
		wire.NewAccount{Chosen: true, Name: name, Password: adminPassword, Role: "administrator"},
		nil,
	); err != nil {
		t.Fatal(err)
	}
	other := &client.Client{Base: api.Base}
	token, err := other.SignIn(context.Background(), name, adminPassword, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	other.Token = token.Secret
	return other
}

// TestWhoGetsItOnTheCommandLine brings laptops in, writes a rule, looks at reach, moves, detaches,
// asks for an exception and compares.
func TestWhoGetsItOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)

	// A table from the inventory: looked at, taken, sent again.
	setUp := written(
		t,
		"inventory.yaml",
		"table:\n  of: devices\n  key: serial\n  whole: false\n  columns:\n    Serial: serial\n    System: os\n"+
			"    Release: os_version\n    "+
			"Bought: facts/bought\n",
	)
	r.refused(1, "unknown field", "source", "add", "inventory", "--kind", "csv", "--set-up", written(t, "bad.yaml", "tabel: {}\n"))
	r.refused(
		1,
		"a column for the key",
		"source",
		"add",
		"inventory",
		"--kind",
		"csv",
		"--set-up",
		written(t, "keyless.yaml", "table: {of: devices, key: serial, whole: true, columns: {a: os, b: os_version}}\n"),
	)
	says(
		t,
		r.must("source", "add", "inventory", "--kind", "csv", "--title", "Inventory", "--set-up", setUp),
		"Nothing is taken from it before a dry run",
	)
	table := written(t, "laptops.csv", "Serial,System,Release,Bought\nZX3-1009,linux,13.0,2025\nNEW-1,macos,14.2,2026\n")
	says(t, r.must("source", "send", "inventory", table), "2 new (1 of them here already)", "Waiting for review: nothing was imported")
	says(t, r.must("device", "list", "--q", "NEW-1"), "0 in all")
	says(t, r.must("source", "take", "inventory"), "2 read")
	says(t, r.must("device", "list", "--where", "facts/bought>=2025", "--sort", "-facts/bought"), "NEW-1", "LT-0001", "2 in all")
	says(t, r.must("source", "send", "inventory", table), "2 the same", "Laptops that get something else: 0")
	faulty := written(t, "faulty.csv", "Serial,System,Release,Bought\nZX3-1009,toaster,13.0,2025\n")
	says(
		t,
		r.must("source", "send", "inventory", faulty),
		":2:10",
		"expected linux, windows or macos",
		"Waiting for review: 1 object cannot be imported",
	)
	says(t, r.must("source", "stop", "inventory"), "nothing was taken")
	r.refused(1, "the column", "source", "send", "inventory", written(t, "other.csv", "A,B\n1,2\n"))
	r.refused(1, "no such file", "source", "send", "inventory", "not-there.csv")
	says(t, r.must("source", "list"), "inventory", "2 devices")
	says(t, r.must("source", "show", "inventory"), "taken", "failed", "dropped")
	says(t, r.must("device", "show", "LT-0001"), "from the source inventory: facts/bought, os, os_version, serial")
	r.refused(2, "which is no file", "source", "send", "inventory", t.TempDir())

	// A rule, tried before it is kept; a rule that fails says on whom.
	says(
		t,
		r.must("group", "try", "old-field", "--of", "devices", "--rule", `device.os == "linux" && device.os_version.below("12")`),
		"by the rule alone",
		"would join",
	)
	says(t, r.must("group", "try", "roomy", "--of", "devices", "--rule", `device.security_chip.atLeast("2")`), "the rule fails on")
	r.refused(1, "undeclared reference", "group", "try", "x", "--of", "devices", "--rule", "laptop.os")
	r.refused(
		2,
		"no laptop has the serial number NOPE",
		"group",
		"try",
		"x",
		"--of",
		"devices",
		"--serials",
		written(t, "serials", "ZX3-1009\nNOPE\n"),
	)
	says(
		t,
		r.must("group", "write", "old-field", "--of", "devices", "--title", "Old field laptops", "--rule", `device.os_version.below("12")`),
		"old-field",
	)
	says(t, r.must("group", "show", "crew-leads"), "6 of 210 people", "included by leads-banner", "member of on-call")

	// Reach: in numbers, beside another policy, a few to start with.
	says(t, r.must("policy", "reach", "house-rules"), "EVERYONE: all 241 laptops")
	says(
		t,
		r.must("policy", "reach", "field-encryption", "--exclude", "unit:rv-petrel", "--beside", "fleet-startup"),
		"unit:rv-petrel",
		"beside fleet-startup:",
		"windows",
	)
	if few := strings.Fields(r.must("policy", "reach", "house-rules", "--test-group", "6")); len(few) != 6 {
		t.Errorf("a test group of %v", few)
	}

	// Units, moving, detaching.
	says(t, r.must("unit", "list"), "survey-fleet", "  rv-petrel")
	says(t, r.must("device", "move", "LT-0110", "--unit", "slipway"), "1 edit", "get something else")
	r.refused(1, `"nowhere"`, "device", "move", "LT-0111", "--unit", "nowhere")
	says(
		t,
		r.must("unit", "detach", "unit:labs", "--kind", "security", "--keep"),
		"of 47 laptops would lose",
		"labs-own-values",
		"Nothing was kept",
	)
	says(t, r.must("unit", "detach", "unit:labs", "--kind", "security", "--keep", "--reason", "Own rules", "--yes"), "labs-own-values")
	says(t, r.must("unit", "move", "tide-lab", "--below", "survey-fleet"), "get something else")
	r.refused(1, "→", "unit", "move", "survey-fleet", "--below", "rv-petrel")
	says(
		t,
		r.must("change", "show", changeInHand(t, r)),
		"alter   units/labs",
		"create  policies/labs-own-values",
		"alter   devices/LT-0110",
	)
	r.must("change", "publish", changeInHand(t, r), "--yes")
	says(t, r.must("unit", "missed"), "unit:labs", "security")
	r.must("policy", "set", "house-rules", "screen.lock_after_minutes=10")
	r.must("change", "publish", changeInHand(t, r), "--yes")
	says(t, r.must("status"), "entries were missed by places")
	says(t, r.must("unit", "missed"), "missed screen.lock_after_minutes = 10 from house-rules", "was 15")

	// What is detached stays detached when something else is detached too.
	says(
		t,
		r.must("unit", "detach", "unit:labs", "--area", "updates", "--reason", "a series", "--review-on", "2027-03-01", "--yes"),
		"laptops would lose",
	)
	says(t, r.must("change", "show", changeInHand(t, r), "--format", "json"), `"security"`, `"area:updates"`, "2027-03-01")
	r.refused(2, "and not both", "unit", "detach", "unit:labs")
	r.refused(2, "and not both", "unit", "detach", "unit:labs", "--inherit", "--kind", "security")
	says(t, r.must("unit", "detach", "unit:labs", "--inherit", "--yes"), "0 of")
	r.must("change", "discard", changeInHand(t, r))

	// A group in use is retired with all that names it.
	r.refused(1, "used by policies/", "change", "edit", changeOf(t, r), "--retire", "groups/contractors")
	says(t, r.must("group", "retire", "contractors"), "edits in change", "get something else")

	// An exception: asked for by one, approved by another.
	r.refused(
		1,
		"a day from today on",
		"exception",
		"ask",
		"screen.lock_after_minutes",
		"60",
		"--for",
		"device:LT-0112",
		"--until",
		"2020-01-01",
		"--reason",
		"Plotter",
	)
	r.refused(
		1,
		"LT-9999",
		"exception",
		"ask",
		"screen.lock_after_minutes",
		"60",
		"--for",
		"device:LT-9999",
		"--until",
		"2027-01-01",
		"--reason",
		"Plotter",
	)
	says(
		t,
		r.must(
			"exception",
			"ask",
			"screen.lock_after_minutes",
			"60",
			"--for",
			"device:LT-0112",
			"--until",
			"2027-01-01",
			"--reason",
			"Plotter must stay lit",
			"--id",
			"EX-PLOT",
		),
		"somebody else approves it",
	)
	says(t, r.must("exception", "requests", "--state", "asked"), "EX-PLOT", "ines.okafor")
	says(t, r.must("exception", "impact", "EX-PLOT"), "1 of 241 devices get something else")
	r.refused(1, "somebody else must approve it", "exception", "approve", "EX-PLOT")
	other := second(t, api, "tomas.reyes")
	if _, err := client.Post[wire.ExceptionRequest](
		context.Background(),
		other,
		"/exception-requests/EX-PLOT/decision",
		wire.Decision{Approve: true},
	); err != nil {
		t.Fatal(err)
	}
	says(t, r.must("exception", "list"), "EX-PLOT", "tomas.reyes", "60")
	says(t, r.must("device", "show", "LT-0112"), "exception EX-PLOT")
	r.refused(1, "in another state", "exception", "refuse", "EX-PLOT")
	says(t, r.must("exception", "end", "EX-PLOT"), "retire exceptions/EX-PLOT", "screen.lock_after_minutes")

	// Side by side, and what if.
	says(t, r.must("device", "compare", "LT-0001", "LT-0110"), "differ", "fact model")
	says(t, r.must("device", "suppose", "LT-0120", "--unit", "slipway"), "policies for as it is alone: fleet-network, fleet-startup")
	says(t, r.must("person", "show", "ruth.mbeki"), "group crew-leads: by the rule", "true   person.title", "laptop LT-0110")
	says(t, r.must("person", "list", "--where", "unit=labs"), "in all")
	r.refused(1, "expected a field", "device", "list", "--where", "colour=red")
	r.refused(1, "a field and ? or !?", "device", "list", "--where", "os")
	says(t, r.must("source", "drop", "inventory"), "edited here from now on")
	says(t, r.must("device", "list", "--where", "facts/bought?"), "2 in all")
}

// changeOf gives the change in hand, or opens one.
func changeOf(t *testing.T, r *running) string {
	t.Helper()
	r.must("policy", "set", "house-rules", "signin.hide_last_person=on")
	return changeInHand(t, r)
}
