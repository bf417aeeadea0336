package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/security"
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
      signin.banner: For work only
      accounts.password_age_days: 90
      accounts.password_length: 14
      screen.lock_after_minutes: 7
      network.proxy.mode: script
      system.audit_log_mb: 500
      accounts.password_history: 3
      accounts.lockout_failures: 5
      signin.denied: [guest]
      media.usb_storage: block
      accounts.elevation: password
      system.time_zone: Europe/Lisbon
    audience: {include: [everyone]}
`

// invited gives a service over TLS with the estate of one laptop, the certificate by which it is trusted, and a code
// for the laptop. It skips the test where mount namespaces cannot be made.
func invited(t *testing.T, folder string) (r *running, ca, code string) {
	t.Helper()
	if err := exec.Command("unshare", "-m", "true").Run(); err != nil {
		t.Skipf("mount namespaces need rights that this user does not have: %v", err)
	}
	at := func(name string) string { return filepath.Join(folder, name) }
	r = serve(t, at("z.db"), "--tls-self-signed")
	ca = at("z.db") + ".certificate.pem"
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
	if err := os.WriteFile(filepath.Join(at("estate"), "estate.yaml"), []byte(laptopEstate), 0o600); err != nil {
		t.Fatal(err)
	}
	out := r.must("import", at("estate"))
	change := out[strings.Index(out, "C-"):]
	r.must("change", "publish", change[:10], "--yes")
	return r, ca, strings.TrimSpace(r.must("enrolment", "invite", "--device", "LT-1"))
}

// TestWhatChromiumSaysOfItsPolicies publishes a policy, lets the agent of a laptop put it into force, and reads the
// page on which Chromium on that laptop tells its policies. Chromium runs in a mount namespace, in which the
// laptop's folder stands in place of /etc/chromium.
func TestWhatChromiumSaysOfItsPolicies(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	at := func(parts ...string) string { return filepath.Join(append([]string{folder}, parts...)...) }
	r, ca, code := invited(t, folder)
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

// TestEnrolmentInTheConsole invites laptops in the console, approves one that the estate does not have, and revokes the
// certificate of a lost one. Each page is checked for accessibility.
func TestEnrolmentInTheConsole(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed (make console): %v", err)
	}
	axe, folder := string(data), t.TempDir()
	r, ca, code := invited(t, folder)
	p := newPage(t, r.address)
	if _, err := chromedp.Call(p.ctx, security.SetIgnoreCertificateErrors,
		security.SetIgnoreCertificateErrorsParams{Ignore: true}); err != nil {
		t.Fatal(err)
	}
	p.signIn()
	p.goTo("/devices")
	p.link("Enrolment")
	p.shows("The authority that issues the certificates")
	p.button("Invite laptops …")
	p.shows("Days until it expires")
	p.checkAccess("inviting", axe)
	p.fill("Laptops", "2")
	p.ticked("Add laptops that the estate does not have")
	p.ticked("Somebody has to approve each laptop")
	p.button("Invite")
	p.shows("They are shown this once")
	p.checkAccess("the codes", axe)
	var codes string
	p.until("there are two codes", `document.querySelector('textarea[aria-label=Codes]').value.trim().split('\n').length === 2`)
	codes, err = chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('textarea[aria-label=Codes]').value`))
	if err != nil {
		t.Fatal(err)
	}
	p.button("Done")

	program := filepath.Join(folder, "zridge-agent")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/zridge-agent").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	enrols := func(name, code string) (string, error) {
		root := filepath.Join(folder, name)
		dmi := filepath.Join(root, "sys", "class", "dmi", "id")
		if err := os.MkdirAll(dmi, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dmi, "product_serial"), []byte(name+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(program, "--root", root, "--state", filepath.Join(folder, name+".state"), "enrol", r.address, "--code",
			code, "--ca", ca).CombinedOutput()
		return string(out), err
	}
	fresh := strings.Fields(codes)[0]
	if out, err := enrols("HL-77", fresh); err == nil || !strings.Contains(out, "has to approve") {
		t.Fatalf("before it is approved: %v, %s", err, out)
	}
	p.shows("Waiting for an approval")
	p.shows("LT-HL-77")
	p.checkAccess("enrolment", axe)
	p.button("Approve LT-HL-77")
	p.until("nobody waits", `!document.querySelector('main').innerText.includes('Waiting for an approval')`)
	if out, err := enrols("HL-77", fresh); err != nil || !strings.Contains(out, "Enrolled as LT-HL-77") {
		t.Fatalf("once it is approved: %v, %s", err, out)
	}
	if out, err := enrols("HL-1", code); err != nil {
		t.Fatalf("%v, %s", err, out)
	}
	p.goTo("/devices/LT-1")
	p.shows("Certificates")
	p.button("Revoke …")
	p.fill("Reason", "Left on the ferry")
	p.checkAccess("revoking", axe)
	p.button("Revoke")
	p.shows("none counts")
	p.shows("Left on the ferry")
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
	text := fmt.Sprintf("#!/bin/sh\nexec unshare -m sh -c 'mount --bind %s /etc/chromium && exec %s \"$@\"' chromium \"$@\"\n",
		policies, chromium)
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

// onARealRoot installs the agent's package on a copy of this machine's root, which an overlay makes, lets it enrol and
// check in, and removes the package again. It prints what differs in /etc after the check-in, and in the end.
const onARealRoot = `set -eu
mount -t tmpfs none "$WORK"
mkdir "$WORK/upper" "$WORK/work" "$WORK/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$WORK/upper,workdir=$WORK/work" "$WORK/root"
mount --bind /dev "$WORK/root/dev"
cd "$WORK/root"
cp "$PACKAGE" tmp/agent.deb
cp "$CA" tmp/ca.pem
cp "$LEAF" tmp/leaf.pem
trusted() { chroot . openssl verify -CAfile /etc/ssl/certs/ca-certificates.crt /tmp/leaf.pem >&2 && echo "text trusted $1" || echo "text not trusted $1"; }
sums() { chroot . sh -c 'find /etc -type f -exec sha256sum {} +; find /etc -type l -exec ls -l --time-style=+ {} +' | sort; }
desktop() { echo "text $1:" $(chroot . env HOME=/tmp XDG_RUNTIME_DIR=/tmp GSETTINGS_BACKEND=dconf gsettings $2 $3 $4); }
chroot . env DEBIAN_FRONTEND=noninteractive pam-auth-update --force >&2 # likewise
chroot . update-ca-certificates --fresh >&2 # links as the system makes them, wherever they were made otherwise
sums > "$WORK/before"
trusted before
chroot . dpkg -i /tmp/agent.deb >&2
chroot . zridge-agent enrol "$BASE" --device LT-1 --code "$CODE" --ca /tmp/ca.pem >&2
chroot . zridge-agent check-in >&2
chroot . zridge-agent show >&2
sums > "$WORK/managed"
trusted managed
desktop idle get org.gnome.desktop.session idle-delay
desktop writable writable org.gnome.desktop.session idle-delay
desktop proxy get org.gnome.system.proxy mode
diff "$WORK/before" "$WORK/managed" | grep '^[<>]' | sed 's/^/managed /' || true
grep -h 'pam_pwhistory\|pam_faillock.so preauth\|pam_access' etc/pam.d/common-* | sed 's/^/text /'
cat etc/issue etc/security/pwquality.conf.d/50-zridge.conf | sed 's/^/text /'
readlink etc/localtime | sed 's/^/text /'
grep '^PASS_MAX_DAYS' etc/login.defs | sed 's/^/text /'
chroot . dpkg -r zridge-agent >&2
sums > "$WORK/after"
trusted after
desktop "idle after" get org.gnome.desktop.session idle-delay
diff "$WORK/before" "$WORK/after" | grep '^[<>]' | sed 's/^/left /' || true
`

// TestThePackageOnARealRoot: the package puts settings into force on Debian as it is installed here, and its removal
// leaves /etc as it was.
func TestThePackageOnARealRoot(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	probe := filepath.Join(folder, "probe")
	if out, err := exec.Command("unshare", "-m", "bash", "-euc", `mkdir "$0"; mount -t tmpfs none "$0"; mkdir "$0/u" "$0/w" "$0/r"
		mount -t overlay overlay -o "lowerdir=/,upperdir=$0/u,workdir=$0/w" "$0/r"`, probe).CombinedOutput(); err != nil {
		t.Skipf("an overlay of this machine's root cannot be made: %s", out)
	}
	r, ca, code := invited(t, folder)
	// A company's authority that the laptop is to trust, and a certificate of it.
	making := exec.Command("bash", "-euc", `openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout root.key -out root.pem -days 30 -subj "/CN=Harbour root"
		openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout leaf.key -out leaf.csr -subj "/CN=intranet.larkfell.example"
		openssl x509 -req -in leaf.csr -CA root.pem -CAkey root.key -CAcreateserial -out leaf.pem -days 20`)
	making.Dir = folder
	if out, err := making.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	change := strings.TrimSpace(r.must("change", "new", "Trust the harbour root"))
	r.must("policy", "set", "sites", "--change", change, "--add", "trust.machine_roots=@"+filepath.Join(folder, "root.pem"))
	r.must("change", "publish", change, "--yes")
	file := filepath.Join(folder, "agent.deb")
	if out, err := exec.Command("../packaging/build.sh", "0.1", filepath.Join(filepath.Dir(binary), "zridge-agent"), file).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	command := exec.CommandContext(ctx, "unshare", "-m", "bash", "-c", onARealRoot)
	work := filepath.Join(folder, "work")
	if err := os.Mkdir(work, 0o700); err != nil {
		t.Fatal(err)
	}
	command.Env = append(os.Environ(), "WORK="+work, "PACKAGE="+file, "CA="+ca, "BASE="+r.address, "CODE="+code, "LEAF="+
		filepath.Join(folder, "leaf.pem"))
	var said strings.Builder
	command.Stderr = &said
	data, err := command.Output()
	if err != nil {
		t.Fatalf("%v\n%s\n%s", err, data, said.String())
	}
	out := string(data)
	for _, want := range []string{
		"text For work only", "text minlen = 14", "text /usr/share/zoneinfo/Europe/Lisbon", "text PASS_MAX_DAYS\t90",
		"text idle: uint32 420", "text writable: false", "text proxy: 'auto'", "text idle after: uint32 300",
		"pam_pwhistory.so remember=3", "pam_faillock.so preauth", "pam_access.so accessfile=/etc/security/zridge-access.conf",
		"text not trusted before", "text trusted managed", "text not trusted after",
		"/etc/chromium/policies/managed/zridge.json", "/etc/systemd/journald.conf.d/50-zridge.conf", "/etc/issue.net",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("the laptop lacks %q:\n%s", want, out)
		}
	}
	if strings.Contains(out, "left ") {
		t.Errorf("when the package is removed, /etc differs:\n%s", out)
	}
	if shown := said.String(); strings.Contains(shown, "NOT in force") || !strings.Contains(shown, "signin.banner") {
		t.Errorf("the agent showed\n%s", shown)
	}
}
