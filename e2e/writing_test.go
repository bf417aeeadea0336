package e2e

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// upload gives files to a file field by its label.
func (p *page) upload(label string, files ...string) {
	p.t.Helper()
	p.until("there is a file field "+label, `(() => {
		document.querySelectorAll('[data-marked]').forEach((e) => e.removeAttribute('data-marked'));
		const found = [...document.querySelectorAll('input[type=file]')].find((e) => (e.getAttribute('aria-label') ?? '').includes(`+quoted(label)+`));
		found?.setAttribute('data-marked', '');
		return !!found;
	})()`)
	p.do("giving a file to "+label, chromedp.SetUploadFiles(chromedp.CSS("[data-marked]"), files))
}

// pick adds a setting to the policy that is open, found by plain words.
func (p *page) pick(words, expected string) {
	p.t.Helper()
	p.fill("Add a setting", words)
	p.shows(expected)
	p.key(kb.Enter)
}

// begin starts a policy from what the start page offers.
func (p *page) begin(name, why string) {
	p.t.Helper()
	p.fill("Name", name)
	p.fill("Why", why)
	p.button("Begin")
	// The change that is open may be about something else.
	p.until(
		"it began, or it is asked in which change",
		`!!document.querySelector('dialog[open] [data-cancel]') || document.body.innerText.includes('nobody, unless you say who')`,
	)
	asked, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`!!document.querySelector('dialog[open] [data-cancel]')`))
	if err != nil {
		p.t.Fatal(err)
	}
	if asked {
		p.button("Put it into ‘")
	}
	p.shows("nobody, unless you say who")
}

// madeUpAuthority writes a root certificate and its key, made for this test.
func madeUpAuthority(t *testing.T, name string, notAfter time.Time) (certificate, key string) {
	t.Helper()
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber:          big.NewInt(77),
		Subject:               pkix.Name{Organization: []string{"Larkfell Hydrographic"}, CommonName: name},
		NotBefore:             notAfter.AddDate(-10, 0, 0),
		NotAfter:              notAfter,
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	certificate, key = filepath.Join(dir, "larkfell-root.pem"), filepath.Join(dir, "larkfell-root.key")
	for path, block := range map[string]*pem.Block{certificate: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return certificate, key
}

const surveyRules = `{"format": "zenith-ridge/application-rules/1", "id": "{6F9619FF-8B86-D011-B42D-00C04FC964FF}", "title": "Survey programs", "version": "3",
 "rules": [{"id": "sonar", "action": "allow", "path": "/opt/larkfell/**"}, {"id": "tools", "action": "allow", "signer": {"name": "Saltmarsh Tools"}}, {"id": "old-viewer", "action": "deny", "path": "/opt/larkfell/viewer-2/*"}]}`

// TestSixTasksInTheConsole writes the policies that new users come with, and makes the mistakes
// that they make.
func TestSixTasksInTheConsole(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()

	// Encrypt field laptops with the chip, without a PIN, keys escrowed first.
	p.goTo("/policies/new?from=kit")
	p.button("Disk encryption for field laptops")
	p.shows("Nobody in the field answers questions")
	p.begin("Encrypt field laptops", "Insurance asks for it")
	p.shows("set in encryption-base for other laptops") // nobody gets it yet, but others set it
	p.fill("Gets it: add", "group:field-laptops")
	p.key(kb.Enter)
	p.shows("70\nof 240 laptops")
	p.shows("Two ways to unlock the disk at startup are required at once") // with what else reaches them
	p.choose("Startup PIN held by the security chip", "require")
	p.shows("but a PIN or startup key is required that somebody must set up (on 70 laptops)")
	p.choose("Where recovery keys are kept", "off")
	p.shows(
		"Encryption waits for the recovery key to be escrowed, but escrow is off, so it never starts (in this policy alone; " +
			"together with " +
			"encryption-base it is in order on all 70 laptops)",
	)
	p.shot("policy-mistakes")
	p.choose("Where recovery keys are kept", "service")
	p.choose("Startup PIN held by the security chip", "forbid")
	p.shows("Saved in the open change")

	// Work accounts only in the browser, with two domains, later a second browser family.
	p.goTo("/policies/new?kit=work-accounts-only")
	p.button("Work accounts only in the browser")
	p.begin("Work accounts", "Data protection officer")
	p.fill("Only work accounts of these domains may sign in to a browser", "larkfell.example\nlarkfell-survey.example\nlarkfell.example")
	p.shows("one a line, 2 in all")
	p.pick("browser that comes with the system", "in the browser that comes with the system")
	p.fill("Only work accounts of these domains, in the browser that comes with the system", "example.larkfell")
	p.shows("have none in common with those for every browser")
	p.fill("Only work accounts of these domains, in the browser that comes with the system", "larkfell.example")
	p.until("the mistake is gone", `!document.body.innerText.includes("have none in common")`)
	p.shows("Saved in the open change")

	// A certificate that internal sites use: never its key.
	certificate, key := madeUpAuthority(t, "Larkfell Root", time.Now().AddDate(8, 0, 0))
	expired, _ := madeUpAuthority(t, "Larkfell Root of old", time.Now().AddDate(-1, 0, 0))
	p.goTo("/policies/new")
	p.begin("Trust our own certificate", "Internal sites")
	p.pick("trust our own certificate", "Certificates to trust, for everybody on the laptop")
	p.upload("Add a file", key)
	p.shows("a private key")
	p.upload("Add a file", expired)
	p.shows("Take it although it has expired")
	p.upload("Add a file", certificate)
	root := certified(t, "Harbour partners", true, nil)
	p.upload("Add a file", pemFile(t, "partners.pem", certified(t, "Harbour partners issuing", true, root), root))
	p.shows("CN=Harbour partners issuing is an intermediate authority")
	p.shows("2 rows")
	p.shows("CN=Larkfell Root,O=Larkfell Hydrographic (self-signed)")
	p.shows("RSA 2048 bits")
	p.fill("Gets it: add", "everyone")
	p.key(kb.Enter)
	p.shows("This is for everyone")
	p.shows("240\nof 240 laptops")

	// Permissions for two variants of a remote-support tool: read from their files, and one typed
	// by hand with a letter missing.
	p.goTo("/policies/new")
	p.begin("Remote support", "Service desk")
	p.pick("remote support tool", "Privacy permissions of applications")
	for _, name := range []string{"helpline.exe", "helpline.xml.plist", "helpline-crew.binary.plist"} {
		path, err := filepath.Abs("../formats/contents/testdata/" + name)
		if err != nil {
			t.Fatal(err)
		}
		p.upload("Read from an application’s file", path)
		p.shows(name)
	}
	for _, row := range []string{"1", "2", "3"} {
		p.choose("Permission, row "+row, "screen-recording")
		p.choose("Decision, row "+row, "allow")
	}
	p.shows("Saved in the open change")
	p.until(
		"three rows are filled",
		`[...document.querySelectorAll('input')].filter((e) => (e.getAttribute('aria-label') ?? '').startsWith('Identifier, row') && e.value).length === 3`,
	)
	p.button("Add a row")
	p.fill("Identifier, row 4", "{example.saltmarsh.helplin}")
	p.shows("expected text that matches")
	p.fill("Identifier, row 4", "example.saltmarsh.helplin")
	p.choose("Permission, row 4", "camera")
	p.choose("Decision, row 4", "allow")
	p.shows("is nearly “example.saltmarsh.helpline”, which was read from an application's file")
	p.button("Remove row 4")
	p.shows("Saved in the open change")

	// Application control from a rule file.
	rules := filepath.Join(t.TempDir(), "survey-rules.json")
	if err := os.WriteFile(rules, []byte(surveyRules), 0o600); err != nil {
		t.Fatal(err)
	}
	p.goTo("/policies/new?kit=application-control-audit")
	p.button("Application control, audit first")
	p.begin("Application control", "Audit 2026")
	p.shows("Application control is audited without rules")
	p.choose("Application control", "enforce")
	p.shows("Application control is enforced without rules")
	p.pick("rule file", "Rules of application control")
	p.upload("Rules of application control", certificate)
	p.shows("expected a rule set of application control")
	p.upload("Rules of application control", rules)
	p.shows("6f9619ff-8b86-d011-b42d-00c04fc964ff")
	p.until("the mistake is gone", `!document.body.innerText.includes("enforced without rules")`)
	p.choose("Application control", "audit")
	p.shows("Saved in the open change")

	// The camera off for one laptop, by its serial number, and a second purpose that creeps in.
	device, err := client.Get[wire.DevicePage](context.Background(), api, "/devices/LT-0007", nil)
	if err != nil {
		t.Fatal(err)
	}
	p.goTo("/policies/new")
	p.begin("Camera off in the chart store", "Harbour master")
	p.pick("camera off", "Camera")
	p.choose("Camera", "false")
	p.fill("Gets it: add", "serial:NO-SUCH-1")
	p.key(kb.Enter)
	p.shows("No laptop has the serial number NO-SUCH-1")
	p.fill("Gets it: add", "serial:"+device.Device.Serial)
	p.key(kb.Enter)
	p.shows("1\nof 240 laptops")
	p.pick("proxy", "How the laptop reaches the web")
	p.shows("This policy serves more than one purpose")
	p.button("Split it")
	p.shows("One part stays here")
	p.button("Split")
	p.shows("Camera off in the chart store: ")
	p.goTo("/policies/camera-off-in-the-chart-store/summary")
	p.shows("What it sets")
	p.shows("1 laptop of 240")
	p.goTo("/policies/encrypt-field-laptops/summary")
	p.shows("Restarts, questions, and what can't be undone")
	p.shot("policy-summary")
}

// TestDefiningAndRestoring defines a setting, uses it, goes back to an earlier version of a policy,
// and captures a laptop.
func TestDefiningAndRestoring(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	fleetOf(t, api, 3, time.Second, endpoint.Shares{})
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/dictionary")
	p.shows("settings in 16 areas")
	p.link("Define a setting")
	p.fill("Id", "plotter.keep_awake")
	p.fill("Title", "Keep the plotter awake")
	p.fill("What it does", "The plotter does not sleep while a survey runs. It uses more power.")
	p.fill("Area", "plotters")
	p.choose("Type", "integer")
	p.fill("Most", "24")
	p.fill("Measure", "hours")
	p.choose("When several policies set it", "strictest")
	p.button("Put it into the change")
	p.shows("No active policy sets it")
	p.goTo("/policies/new")
	p.begin("Plotters", "Survey office")
	p.pick("plotter awake", "Keep the plotter awake")
	p.fill("Keep the plotter awake", "1d")
	p.shows("hours (1 d)")
	p.shows("Saved in the open change")
	p.fill("Keep the plotter awake", "2d")
	p.shows("expected a whole number of at most 24 (hours)")

	// A laptop is asked for all that it has; what somebody set by hand becomes a policy.
	p.goTo("/policies/new?device=LT-0001")
	p.button("Ask it for all that it has")
	p.shows("Keyboard layout")
	p.click("label", "Keyboard layout")
	p.begin("Keyboards", "As on the first laptop")
	p.shows("Keyboard layout")

	// An earlier version comes back as a draft.
	r.must("policy", "set", "labs-quiet", "media.camera=on")
	r.must("change", "publish", changeTitled(t, r, "Edits by"), "--yes")
	// The audit log leads to the version that was live when something was done, here the first.
	p.goTo("/audit-log?object=policies/labs-quiet&action=publish: create")
	p.button("publish: create")
	p.link("The version of the policy")
	p.until("the first version is chosen", `document.querySelector('[aria-label="Later"]')?.value === '1'`)
	p.goTo("/policies/labs-quiet/history")
	p.shows("Side by side")
	p.shows("Version 2")
	p.button("Restore as a draft")
	p.button("Put it into ‘") // the open change is about something else
	p.shows("Camera")
	p.shows("laptops differ")
	p.button("Retire")
	p.shows("something else")
	p.button("Put the retirement into the change")
	p.shows("The open change retires this policy")
}

// changeTitled gives the open change whose title begins with a text.
func changeTitled(t *testing.T, r *running, title string) string {
	t.Helper()
	for line := range strings.SplitSeq(r.must("change", "list", "--state", "open"), "\n") {
		if fields := strings.Fields(line); len(fields) > 2 && strings.Contains(line, title) {
			return fields[0]
		}
	}
	t.Fatalf("no open change is titled %s", title)
	return ""
}

// TestLeavingAndComingBack types, leaves at once, comes back, and finds what was typed; a
// colleague's save is brought together with one's own.
func TestLeavingAndComingBack(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	p.fill("Lock the screen after minutes", "1h")
	p.shows("minutes (1 h), 1 to 1440")
	p.shows("Saved in the open change")
	p.goTo("/policies")
	p.goTo("/policies/house-rules")
	p.until(
		"the value is still there",
		`[...document.querySelectorAll('input')].some((e) => (e.getAttribute('aria-label') ?? '').startsWith('Lock the screen after') && e.value === '60')`,
	)

	// What has faults is not kept in the change, and not lost either.
	p.fill("Lock the screen after minutes", "5000")
	p.goTo("/devices")
	p.shows("LT-0001")
	p.goTo("/policies/house-rules")
	p.shows("expected a whole number from 1 to 1440 (minutes)")
	p.fill("Lock the screen after minutes", "60")
	p.shows("Saved in the open change")

	// A colleague alters another setting of the same policy in the same change, and then the same
	// one.
	change := theOpenChange(t, api)
	theirs := func(alter func(doc map[string]any)) {
		t.Helper()
		edit := editOf(t, api, change.ID, "house-rules")
		var doc map[string]any
		if err := json.Unmarshal(edit.Body, &doc); err != nil {
			t.Fatal(err)
		}
		alter(doc)
		_, err := api.Call(
			context.Background(),
			http.MethodPut,
			client.Path("changes", change.ID, "edits", "policies", "house-rules"),
			nil,
			doc,
			nil,
			"If-Match",
			fmt.Sprintf(`"%d"`, edit.Version),
		)
		if err != nil {
			t.Fatal(err)
		}
	}
	const minutes = "Lock the screen after minutes"
	p.fill(minutes, "5000") // not kept, so that what follows is typed over an older version
	p.shows("expected a whole number from 1 to 1440 (minutes)")
	theirs(func(doc map[string]any) { doc["why"] = "Agreed with the works council, again" })
	p.fill(minutes, "45")
	p.shows("Merged with what a colleague saved")
	text := string(editOf(t, api, change.ID, "house-rules").Body)
	if !strings.Contains(text, "works council, again") || !strings.Contains(text, `"screen.lock_after_minutes":45`) {
		t.Errorf("the edit is %s", text)
	}

	p.fill(minutes, "5000")
	p.shows("Not saved: it has faults")
	theirs(func(doc map[string]any) { doc["settings"].(map[string]any)["screen.lock_after_minutes"] = 30 })
	p.fill(minutes, "50")
	p.shows("saved this policy while you typed")
	p.do("choosing theirs", chromedp.Click(chromedp.CSS("[role=alert] tbody tr td:nth-child(4) input")))
	p.button("Keep what is chosen")
	p.shows("Saved in the open change")
	if text := string(editOf(t, api, change.ID, "house-rules").Body); !strings.Contains(text, `"screen.lock_after_minutes":30`) {
		t.Errorf("the edit is %s", text)
	}
}

func editOf(t *testing.T, api *client.Client, change, policy string) wire.Edit {
	t.Helper()
	c, err := client.Get[wire.Change](context.Background(), api, client.Path("changes", change), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range c.Edits {
		if e.ID == policy {
			return e
		}
	}
	t.Fatalf("the change has no edit of %s", policy)
	return wire.Edit{}
}
