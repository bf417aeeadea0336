package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// laptopEstate is one laptop with a policy for its browser.
const laptopEstate = `units: [{id: harbour}]
devices: [{id: LT-1, serial: HL-1, os: linux, os_version: "12"}]
policies:
  - id: sites
    kind: security
    settings:
      browser.blocked_sites: [casino.example]
      browser.saved_passwords: false
      browser.private_windows: forbid
    audience: {include: [everyone]}
`

// TestWhatChromiumSaysOfItsPolicies publishes a policy, lets the agent of a laptop put it into force, and reads the
// page on which Chromium on that laptop tells its policies. Chromium runs in a mount namespace, in which the
// laptop's folder stands in place of /etc/chromium.
func TestWhatChromiumSaysOfItsPolicies(t *testing.T) {
	t.Parallel()
	if err := exec.Command("unshare", "-m", "true").Run(); err != nil {
		t.Skipf("mount namespaces need rights that this user does not have: %v", err)
	}
	folder := t.TempDir()
	at := func(parts ...string) string { return filepath.Join(append([]string{folder}, parts...)...) }
	r := serve(t, at("z.db"), "--tls-self-signed")
	ca := at("z.db") + ".certificate.pem"
	for _, args := range [][]string{
		{"set-up", r.address, "--code", r.code, "--name", adminName, "--ca", ca}, {"sign-in", r.address, "--name", adminName, "--ca", ca},
	} {
		if _, errOut, status := r.run(adminPassword+"\n", args...); status != 0 {
			t.Fatal(errOut)
		}
	}
	if err := os.MkdirAll(at("estate"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at("estate", "estate.yaml"), []byte(laptopEstate), 0o600); err != nil {
		t.Fatal(err)
	}
	out := r.must("import", at("estate"))
	change := out[strings.Index(out, "C-"):]
	r.must("change", "publish", change[:10], "--yes")
	code := strings.TrimSpace(r.must("enrolment", "invite", "--device", "LT-1"))

	program := at("zridge-agent")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/zridge-agent").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	agent := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(program, append([]string{"--root", at("laptop"), "--state", at("state")}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	agent("enrol", r.address, "--code", code, "--ca", ca)
	agent("check-in")
	if out := agent("show"); !strings.Contains(out, `browser.blocked_sites`) || strings.Contains(out, "NOT in force") {
		t.Errorf("the agent shows\n%s", out)
	}
	said := policyPage(t, folder, at("laptop", "etc", "chromium"))
	for _, want := range []string{"URLBlocklist", "casino.example", "PasswordManagerEnabled", "IncognitoModeAvailability"} {
		if !strings.Contains(said, want) {
			t.Errorf("Chromium does not name %s among its policies:\n%.2000s", want, said)
		}
	}
	agent("remove")
	if said := policyPage(t, folder, at("laptop", "etc", "chromium")); strings.Contains(said, "casino.example") {
		t.Errorf("once the agent is removed, Chromium still says\n%.2000s", said)
	}
}

// policyPage gives the text of Chromium's page of policies, with a folder in place of /etc/chromium.
func policyPage(t *testing.T, folder, policies string) string {
	t.Helper()
	if err := os.MkdirAll(policies, 0o755); err != nil {
		t.Fatal(err)
	}
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal(err)
	}
	script := filepath.Join(folder, "chromium.sh")
	text := fmt.Sprintf("#!/bin/sh\nexec unshare -m sh -c 'mount --bind %s /etc/chromium && exec %s \"$@\"' chromium \"$@\"\n", policies, chromium)
	if err := os.WriteFile(script, []byte(text), 0o700); err != nil {
		t.Fatal(err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(script), chromedp.NoSandbox, chromedp.DisableGPU)
	allocator, closeAllocator := chromedp.NewExecAllocator(context.Background(), options...)
	defer closeAllocator()
	ctx, closeContext := chromedp.NewContext(allocator)
	defer closeContext()
	if err := chromedp.Do(ctx, chromedp.Navigate("chrome://policy")); err != nil {
		t.Fatal(err)
	}
	// The page is made of elements with trees of their own.
	const deep = `(() => {
		const text = (node) => [...node.childNodes].map((n) => (n.nodeType === 3 ? n.data : text(n) + (n.shadowRoot ? text(n.shadowRoot) : ''))).join(' ');
		return text(document.body);
	})()`
	said := ""
	await(t, "Chromium lists its policies", func() bool {
		var err error
		said, err = chromedp.Run(ctx, chromedp.Evaluate[string](deep))
		return err == nil && strings.Contains(said, "Reload policies")
	})
	return said
}
