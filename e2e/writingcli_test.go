package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// says wants parts of an output.
func says(t *testing.T, out string, parts ...string) {
	t.Helper()
	for _, p := range parts {
		if !strings.Contains(out, p) {
			t.Errorf("the output lacks %q:\n%s", p, out)
		}
	}
}

// refused runs the command line and wants a status and a reason.
func (r *running) refused(status int, reason string, args ...string) {
	r.t.Helper()
	out, errOut, got := r.run("", args...)
	if got != status || !strings.Contains(errOut, reason) || strings.Contains(errOut, "goroutine") {
		r.t.Errorf("zridge %s: status %d, expected %d with %q\n%s%s", strings.Join(args, " "), got, status, reason, out, errOut)
	}
}

// TestSixTasksOnTheCommandLine writes the policies that new users come with, and makes the mistakes
// that they make.
func TestSixTasksOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	testdata := func(name string) string {
		path, err := filepath.Abs("../formats/contents/testdata/" + name)
		if err != nil {
			t.Fatal(err)
		}
		return path
	}

	// Encrypt field laptops with the chip and no PIN, keys escrowed first.
	says(t, r.must("kit", "list"), "encrypt-field-laptops", "14 in all")
	says(t, r.must("kit", "show", "encrypt-field-laptops"), "Nobody in the field answers questions")
	says(
		t,
		r.must("policy", "new", "field-disk", "--kit", "encrypt-field-laptops", "--title", "Encrypt field laptops"),
		"Assigned to 0 laptops",
		"disk.recovery.escrow in encryption-base, for none of these",
	)
	says(
		t,
		r.must("policy", "audience", "field-disk", "--include", "group:field-laptops"),
		"Assigned to 70 laptops",
		"WRONG  Two ways to unlock the disk at startup are required at once",
	)
	says(
		t,
		r.must("policy", "set", "field-disk", "disk.startup.pin=require"),
		"a PIN or startup key is required that somebody must set up (on 70 laptops)",
	)
	says(
		t,
		r.must("policy", "set", "field-disk", "disk.recovery.escrow=off", "disk.startup.pin=forbid"),
		"escrow is off, so it never starts (in this policy alone; together with encryption-base it is in order on all 70 laptops)",
	)
	says(
		t,
		r.must("policy", "set", "field-disk", "disk.recovery.escrow=service", "--lock", "--note", "Insurance"),
		"also   disk.recovery.escrow = \"service\" in encryption-base, for 70 of these: sets the same, is overridden by field-disk on 70",
	)
	says(
		t,
		r.must("setting", "show", "disk.startup.pin", "--policy", "field-encryption"),
		"The person types a PIN",
		"unattended-startup",
		"0 in common, none of its laptops",
	)

	// Work accounts only, with two domains, later a second browser family.
	r.must("policy", "new", "office-browser", "--kit", "work-accounts-only")
	says(
		t,
		r.must("policy", "set", "office-browser", "browser.account_domains=larkfell.example,larkfell-survey.example"),
		"Assigned to 0 laptops",
	)
	says(
		t,
		r.must("policy", "set", "office-browser", "browser.built_in.account_domains=example.larkfell"),
		"WRONG  The work-account domains for one browser have none in common",
	)
	if out := r.must("policy", "set", "office-browser", "browser.built_in.account_domains=larkfell.example"); strings.Contains(out, "WRONG") {
		t.Errorf("the mended policy is still wrong:\n%s", out)
	}

	// A certificate, never its key; everyone only when it is said.
	certificate, key := madeUpAuthority(t, "Larkfell Root", time.Now().AddDate(8, 0, 0))
	expired, _ := madeUpAuthority(t, "Larkfell Root of old", time.Now().AddDate(-1, 0, 0))
	r.must("policy", "new", "internal-ca", "--title", "Internal sites", "--kind", "security")
	r.refused(1, "a private key", "policy", "set", "internal-ca", "trust.machine_roots=@"+key)
	r.refused(1, "expired on", "policy", "set", "internal-ca", "trust.machine_roots=@"+expired)
	says(
		t,
		r.must("policy", "set", "internal-ca", "trust.machine_roots=@"+certificate+",purpose=internal sites"),
		"authority, self-signed: CN=Larkfell Root,O=Larkfell Hydrographic",
		"RSA 2048 bits",
	)
	says(
		t,
		r.must("policy", "set", "internal-ca", "--add", "--accept-expired", "trust.machine_roots=@"+expired),
		"it was confirmed that this is meant",
	)
	r.refused(2, "say --everyone if that is meant", "policy", "audience", "internal-ca", "--include", "everyone")
	says(
		t,
		r.must("policy", "audience", "internal-ca", "--include", "everyone", "--everyone"),
		"look   This policy is for everyone: 240 laptops",
	)

	// Two variants of a remote-support tool, read from their files; one typed by hand.
	r.must("policy", "new", "support", "--title", "Remote support", "--kind", "security")
	for _, name := range []string{"helpline.exe", "helpline.xml.plist", "helpline-crew.binary.plist"} {
		r.must("policy", "set", "support", "--add", "applications.permissions=@"+testdata(name)+",permission=screen-recording,decision=allow")
	}
	says(t, r.must("change", "show", changeInHand(t, r)), "create  policies/support")
	r.refused(
		1,
		"pattern-mismatch",
		"policy",
		"set",
		"support",
		"--add",
		"applications.permissions=identifier={example.saltmarsh.helpline},permission=camera,decision=allow",
	)
	says(
		t,
		r.must(
			"policy",
			"set",
			"support",
			"--add",
			"applications.permissions=identifier=example.saltmarsh.helplin,permission=camera,decision=allow",
		),
		"“example.saltmarsh.helplin” is nearly “example.saltmarsh.helpline”",
	)
	r.refused(2, "expected COLUMN=VALUE", "policy", "set", "support", "--add", "applications.permissions=colour=blue")

	// Application control from a rule file; a certificate in its place is refused.
	rules := filepath.Join(t.TempDir(), "survey.json")
	if err := os.WriteFile(rules, []byte(surveyRules), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, r.must("policy", "new", "control", "--kit", "application-control-audit"), "WRONG  Application control is audited without rules")
	r.refused(1, "expected a rule set of application control", "policy", "set", "control", "applications.control_rules=@"+certificate)
	says(
		t,
		r.must("policy", "set", "control", "applications.control_rules="+rules),
		"rule set 6f9619ff-8b86-d011-b42d-00c04fc964ff Survey programs: 3 rules, otherwise deny",
	)

	// The camera off for one laptop by its serial number; a second purpose that is split off.
	r.must("policy", "new", "chart-store", "--title", "Camera off in the chart store", "--kind", "security")
	r.must("policy", "set", "chart-store", "media.camera=off")
	r.refused(2, "no laptop has the serial number NO-SUCH", "policy", "audience", "chart-store", "--include", "serial:NO-SUCH")
	says(
		t,
		r.must("policy", "audience", "chart-store", "--include", "serial:zx3-1009"),
		"zx3-1009 is LT-0001",
		"Assigned to 1 laptop of 1 person",
	)
	says(t, r.must("policy", "set", "chart-store", "network.proxy.mode=off"), "serves more than "+
		"one purpose", "split it: zridge policy split")
	says(t, r.must("policy", "split", "chart-store", "chart-store-proxy", "network.proxy.mode"), "chart-store-proxy\nAssigned to 1 laptop")
	r.refused(2, "near it are", "policy", "set", "chart-store", "media.kamera=off")
	r.refused(2, "expected on or off", "policy", "set", "chart-store", "media.camera=perhaps")
	r.refused(1, "out-of-range", "policy", "set", "chart-store", "screen.lock_after_minutes=2d")

	// The summary, the same each time; publish; history; restore; retire.
	change := changeInHand(t, r)
	first := r.must("policy", "summary", "field-disk", "--change", change)
	says(t, first, "# Encrypt field laptops", "70 laptops of 240 (29%)", "How to go back")
	if again := r.must("policy", "summary", "field-disk", "--change", change); again != first {
		t.Error("two summaries of one state differ")
	}
	says(
		t,
		r.must("policy", "summary", "house-rules", "--estate", "../demo/estate", "--date", "2026-11-23", "--html"),
		"<!doctype html>",
		"House rules",
	)
	r.must("change", "publish", change, "--yes")
	r.must("policy", "set", "chart-store", "media.microphone=off")
	r.must("change", "publish", changeInHand(t, r), "--yes")
	says(t, r.must("policy", "history", "chart-store"), "version 2", "media.microphone: nothing → off", "version 1")
	says(t, r.must("policy", "history", "chart-store", "--from", "2", "--to", "1"), "media.microphone: off → nothing")
	says(t, r.must("policy", "restore", "chart-store", "1"), "alter policies/chart-store")
	says(t, r.must("policy", "retire", "support"), "retire policies/support")
	r.refused(2, "expected one of the 2 versions", "policy", "restore", "chart-store", "9")

	// Own definitions.
	own := filepath.Join(t.TempDir(), "own.yaml")
	if err := os.WriteFile(
		own,
		[]byte("settings: [{id: plotter.keep_awake, title: Keep the plotter awake, kind: configuration, type: bool}]\n"),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	says(t, r.must("setting", "define", own), "create settings/plotter.keep_awake")
	r.must("policy", "new", "plotters")
	r.must("policy", "set", "plotters", "plotter.keep_awake=on")

	// What was published goes out as files and comes back as it was.
	r.must("change", "publish", changeInHand(t, r), "--yes")
	r.refused(1, "used by policies/plotters", "setting", "retire", "plotter.keep_awake")
	out := filepath.Join(t.TempDir(), "estate")
	r.must("export", out)
	says(t, r.must("import", out), "Nothing differs")
	says(t, r.must("check", out), "policies")
}

// changeInHand gives the id of the one change that is open.
func changeInHand(t *testing.T, r *running) string {
	t.Helper()
	lines := strings.Split(r.must("change", "list", "--state", "open"), "\n")
	if len(lines) < 2 || !strings.HasPrefix(lines[1], "C-") {
		t.Fatalf("no change is open: %q", lines)
	}
	return strings.Fields(lines[1])[0]
}
