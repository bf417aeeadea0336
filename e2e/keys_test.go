package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

const clerkPassword = "a lantern in the fog"

// desk is the demo estate, of which some laptops are encrypted, and a clerk of the service desk for the workshop.
type desk struct {
	*running
	api     *client.Client
	fleet   *endpoint.Fleet
	ids     []endpoint.Identity
	screens map[string]recovery.Identifier // what locked screens show
}

func deskOf(t *testing.T, more map[string]any) *desk {
	t.Helper()
	r, api := withDemo(t)
	ctx := context.Background()
	recipient, err := client.Post[wire.EscrowRecipient](ctx, api, "/escrow-recipients", wire.NewRecipient{Title: "Service"})
	if err != nil {
		t.Fatal(err)
	}
	c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Who can open the keys"})
	if err != nil {
		t.Fatal(err)
	}
	settings := map[string]any{
		"disk.encryption.required": true, "disk.recovery.escrow": "service", "disk.recovery.escrow_recipients": []string{recipient.Recipient},
	}
	for id, v := range more {
		settings[id] = v
	}
	body := map[string]any{
		"id": "encryption-base", "title": "Every disk is encrypted", "kind": "encryption", "priority": 10, "settings": settings,
		"audience": map[string]any{"include": []string{"everyone"}},
	}
	if _, err := api.Call(ctx, http.MethodPut, client.Path("changes", c.ID, "edits", "policies", "encryption-base"), nil, body,
		nil); err != nil {
		t.Fatal(err)
	}
	if p, _ := call(t, api, http.MethodPost, client.Path("changes", c.ID, "publish"), `{"at_once":true}`); p != nil {
		t.Fatal(p)
	}
	for _, name := range []string{"wren", "dora"} {
		if _, err := api.Call(ctx, http.MethodPost, "/accounts", nil, wire.NewAccount{Chosen: true, Name: name, Password: clerkPassword}, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := client.Post[wire.Grant](ctx, api, "/grants", wire.NewGrant{Account: name, Role: "service-desk",
			Unit: "slipway"}); err != nil {
			t.Fatal(err)
		}
	}
	d := &desk{running: r, api: api, fleet: &endpoint.Fleet{Base: api.Base}, ids: identities(t, api, 12)}
	d.checkIn(t)
	return d
}

// checkIn lets the laptops check in.
func (d *desk) checkIn(t *testing.T) {
	t.Helper()
	if err := d.fleet.CheckIn(context.Background(), d.ids); err != nil {
		t.Fatal(err)
	}
	d.screens = d.fleet.LockedScreens()
}

// at opens the console as somebody of the service desk.
func (d *desk) at(t *testing.T, name string) *page {
	t.Helper()
	p := newPage(t, d.address)
	p.goTo("/keys")
	p.fill("Name", name)
	p.fill("Password", clerkPassword)
	p.button("Sign in")
	p.shows("Somebody stands before a locked laptop")
	return p
}

// TestAtTheDeskInTheConsole is the task of the person at the desk: a clerk with rights for one unit finds a laptop by a
// label that was misread, compares, and sees its key once.
func TestAtTheDeskInTheConsole(t *testing.T) {
	t.Parallel()
	d := deskOf(t, nil)
	const laptop = "LT-0002" // of Mairi Duarte, in the workshop
	key := d.screens[laptop].Spaced()
	if key == "" {
		t.Fatalf("%s is not encrypted", laptop)
	}
	p := d.at(t, "wren")
	p.fill("Serial number", "ZX4-1O46")
	p.button("Find laptops")
	p.shows("marked: what is otherwise than you entered")
	p.shows("Mairi Duarte")
	p.button("Compare " + laptop + " and see its key")
	p.shows("A wrong entry is recorded")
	p.fill("Identifier on the locked screen", "1234 5678 9012")
	p.fill("Model that is printed on it", "Halyard 16")
	p.choose("Person who stands before it", "mairi.duarte")
	p.fill("Reason", "PIN forgotten after three weeks at sea")
	p.button("Compare")
	p.shows("No key of this laptop has the identifier that you entered")
	p.fill("Identifier on the locked screen", key)
	p.shot("keys-compare") // no picture has the key
	p.button("Compare")
	p.shows("can be seen once, for a minute")
	p.button("Show the key for a minute")
	p.shows("Read it out in groups")
	read := func() string {
		t.Helper()
		text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('[data-key]')?.textContent.replace(/[^a-z]/g, '') ?? ''`))
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	shown, err := recovery.Parse(read())
	if err != nil || shown.Identifier() != d.screens[laptop] {
		t.Fatalf("what is shown is not the key of the locked screen: %v", err)
	}
	p.button("Done")
	p.shows("The key is not shown any more")
	// Nothing of the browser has it any more.
	left, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](
		`document.documentElement.outerHTML + JSON.stringify(localStorage) + JSON.stringify(sessionStorage) + location.href + JSON.stringify(history.state)`,
	))
	if err != nil || strings.Contains(left, string(shown.Passphrase())) || strings.Contains(left, shown.Reveal()) {
		t.Errorf("the page still has the key, %v", err)
	}
	p.button("Close")
	p.shows("not replaced yet")
	p.goTo("/coverage")
	p.shows("key shown")
	d.checkIn(t)
	if d.screens[laptop] == shown.Identifier() {
		t.Error("the laptop has not put another key in its place")
	}
	p.goTo("/devices/" + laptop)
	p.shows("shown to wren")
	p.shows("Disks and recovery keys")
}

// TestASecondPersonInTheConsole has a colleague consent in another browser.
func TestASecondPersonInTheConsole(t *testing.T) {
	t.Parallel()
	d := deskOf(t, map[string]any{"disk.recovery.second_person": true})
	p, second := d.at(t, "wren"), d.at(t, "dora")
	p.fill("Person", "mairi")
	p.button("Find laptops")
	p.button("Compare LT-0002 and see its key")
	p.fill("Identifier on the locked screen", d.screens["LT-0002"].Spaced())
	p.fill("Model that is printed on it", "Halyard 16")
	p.choose("Person who stands before it", "mairi.duarte")
	p.fill("Reason", "The chip was replaced in the workshop")
	p.button("Compare")
	p.shows("A second person has to consent")
	second.shows("Waiting for you as the second person")
	second.shows("The chip was replaced in the workshop")
	second.button("Consent to wren's request for LT-0002")
	p.shows("dora has consented")
	p.button("Show the key for a minute")
	p.shows("Read it out in groups")
}

// TestKeysOnTheCommandLine does the same on a terminal, and refuses to write a key elsewhere.
func TestKeysOnTheCommandLine(t *testing.T) {
	t.Parallel()
	d := deskOf(t, nil)
	config := filepath.Join(t.TempDir(), "config")
	run := func(input string, args ...string) (string, string, int) {
		t.Helper()
		return runWith(t, []string{"ZRIDGE_CONFIG=" + config}, input, args...)
	}
	if _, errOut, status := run(clerkPassword+"\n", "sign-in", d.address, "--name", "wren"); status != 0 {
		t.Fatal(errOut)
	}
	for args, want := range map[string]string{
		"key find ZX4-1?46":      "LT-0002",
		"key find --owner mairi": "Mairi Duarte (mairi.duarte)",
		"key find --identifier " + string(d.screens["LT-0002"]): "LT-0002",
		"key find NOTHING-LIKE-THIS":                            "No laptop of your units is like it",
		"key history LT-0002":                                   "current",
		"key coverage":                                          "Slipway workshop",
		"key coverage --group escrowed":                         "LT-0002",
		"key coverage --report markdown":                        "# Disk encryption and recovery keys",
		"key recipient list":                                    "Service",
		"key rotate LT-0002":                                    "1 key of LT-0002 would be replaced",
		"key requests":                                          "",
	} {
		if out, errOut, status := run("", strings.Fields(args)...); status != 0 || !strings.Contains(out, want) {
			t.Errorf("zridge %s: status %d, %s%s; expected %q", args, status, out, errOut, want)
		}
	}
	for args, want := range map[string]string{
		"key find":                          "takes a serial number",
		"key find A B":                      "takes a serial number",
		"key coverage --group odd":          "expected one of all",
		"key coverage --report odd":         "expected one of markdown",
		"key history":                       "Name a device",
		"key show LT-0002 --identifier 123": "on a terminal alone",
		"key recipient add Own":             "needs the right",
		"key rotate LT-0200 --yes":          "LT-0200",
	} {
		if out, errOut, status := run("", strings.Fields(args)...); status == 0 || !strings.Contains(errOut, want) {
			t.Errorf("zridge %s: status %d, %s%s; expected %q", args, status, out, errOut, want)
		}
	}
	// On a terminal the key is shown on a screen of its own, which is gone afterwards.
	typed := filepath.Join(t.TempDir(), "typed")
	command := fmt.Sprintf("%s key show LT-0002 --identifier %s --person mairi.duarte --model 'Halyard 16' --reason 'PIN forgotten "+
		"after leave'", binary, d.screens["LT-0002"])
	c := exec.Command("script", "-qec", command, typed)
	c.Env = append(os.Environ(), "ZRIDGE_CONFIG="+config)
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out := &waiting{until: map[string]func(){}}
	out.until["Your password: "] = func() { fmt.Fprintln(in, clerkPassword) }
	out.until["press Enter."] = func() { fmt.Fprintln(in) }
	c.Stdout, c.Stderr = out, out
	if err := c.Run(); err != nil {
		t.Fatalf("%v: %s", err, out.text)
	}
	_, after, is := strings.Cut(out.text, "\x1b[?1049h")
	screen, rest, ended := strings.Cut(after, "\x1b[?1049l")
	if !is || !ended || !strings.Contains(screen, d.screens["LT-0002"].Spaced()) || strings.Contains(rest, "Identifier") {
		t.Errorf("the terminal shows %q", out.text)
	}
	var found recovery.Key
	for line := range strings.Lines(screen) {
		if key, err := recovery.Parse(strings.TrimSpace(line)); err == nil {
			found = key
		}
	}
	if found.Identifier() != d.screens["LT-0002"] {
		t.Errorf("the key is not on the screen: %q", screen)
	}
}

// waiting does something when a text is printed first.
type waiting struct {
	text  string
	until map[string]func()
}

func (w *waiting) Write(data []byte) (int, error) {
	w.text += string(data)
	for text, then := range w.until {
		if strings.Contains(w.text, text) {
			delete(w.until, text)
			then()
		}
	}
	return len(data), nil
}
