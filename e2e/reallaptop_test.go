package e2e

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// theDemoHasARealLaptop looks into the laptop that the demo runs for real: what policies say is in its files and in
// its kernel, and what somebody alters there is put right, recorded and shown.
func theDemoHasARealLaptop(t *testing.T, r *running) {
	at := slices.IndexFunc(r.said, func(line string) bool { return strings.Contains(line, "nsenter") })
	if at < 0 {
		t.Skipf("this machine runs no real laptop: %s", r.said)
	}
	enter, _, _ := strings.Cut(strings.TrimPrefix(r.said[at], "sudo "), " zridge-agent")
	inside := func(arguments ...string) string {
		t.Helper()
		command := append(strings.Fields(enter), arguments...)
		out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", arguments, err, out)
		}
		return string(out)
	}
	banner := func() string { return inside("cat", "/etc/issue") }
	await(t, "the laptop has its banner", func() bool { return strings.Contains(banner(), "Larkfell Hydrographic") })
	if shown := inside("zridge-agent", "show"); !strings.Contains(shown, "by House rules: Agreed with the works council") ||
		!strings.Contains(shown, "Kind to the battery") {
		t.Errorf("the laptop shows\n%s", shown)
	}
	if _, err := exec.LookPath("nft"); err == nil {
		await(t, "the kernel has the firewall", func() bool {
			return strings.Contains(inside("sh", "-c", "nft list table inet zridge 2>&1 || true"), "chain inbound")
		})
	}
	if out, _ := exec.Command("nft", "list", "tables").Output(); strings.Contains(string(out), "zridge") {
		t.Error("the machine itself has the firewall")
	}
	inside("sh", "-c", "echo Hello > /etc/issue")
	await(t, "the banner is put right", func() bool { return strings.Contains(banner(), "Larkfell Hydrographic") })
	if _, errOut, status := r.run("larkfell-demo\n", "sign-in", r.address, "--name", adminName); status != 0 {
		t.Fatal(errOut)
	}
	verified, errOut, status := r.run("", "device", "verify", "LT-0072")
	if status != 3 || !strings.Contains(verified, "signin.banner") { // its disk is not encrypted
		t.Fatalf("%d: %s%s", status, verified, errOut)
	}
	await(t, "what was altered is recorded", func() bool {
		said, _, _ := r.run("", "drift", "--device", "LT-0072")
		return strings.Contains(said, "signin.banner") && strings.Contains(said, "put right")
	})
	p := newPage(t, r.address)
	p.signInAs(adminName, "larkfell-demo")
	p.goTo("/devices/LT-0072")
	p.shows("Altered on this laptop")
	p.button("Check in and verify")
	p.shows("not as wanted")
	p.shows("On the laptop now")
	p.goTo("/baselines")
	p.link("As the audit wants it")
	p.shows("By setting")
	p.shot("baseline")
	p.goTo("/drift")
	p.shows("put right")
}
