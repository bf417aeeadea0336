package e2e

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// openChange makes a change with the quiet policy in it, and tells a page to work in it.
func openChange(t *testing.T, api *client.Client, p *page) wire.Change {
	t.Helper()
	c, err := client.Post[wire.Change](context.Background(), api, "/changes", wire.NewChange{Title: "Cameras in the workshop"})
	if err != nil {
		t.Fatal(err)
	}
	if p, _ := call(t, api, http.MethodPut, client.Path("changes", c.ID, "edits", "policies", "p1"), quietPolicy); p != nil {
		t.Fatal(p)
	}
	p.workIn(c.ID)
	return c
}

func (p *page) workIn(change string) {
	p.t.Helper()
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`localStorage.setItem('open-change', `+quoted(change)+`), true`)); err != nil {
		p.t.Fatal(err)
	}
}

// TestTwoPeopleInOnePolicy has two browsers in the same policy of the same change: each sees the
// other's saves.
func TestTwoPeopleInOnePolicy(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	a, b := newPage(t, r.address), newPage(t, r.address)
	a.signIn()
	b.signIn()
	c := openChange(t, api, a)
	b.workIn(c.ID)
	for _, p := range []*page{a, b} {
		p.goTo("/policies/p1")
		p.shows("media.camera")
		p.shows("1 edit")
	}
	a.fill("Add a setting", "microphone")
	a.key(kb.Enter)
	a.shows("Saved in the open change")
	b.shows("media.microphone")
	b.choose("Microphone", "false")
	b.shows("Saved in the open change")
	a.until("the other's value shows", `document.querySelector('select[aria-label="Microphone"]')?.value === 'false'`)
	a.fill("Why", "asked by both")
	a.shows("Saved in the open change")
	after, err := client.Get[wire.Change](context.Background(), api, client.Path("changes", c.ID), nil)
	if err != nil || !strings.Contains(string(after.Edits[0].Body), `"media.microphone":false`) ||
		!strings.Contains(string(after.Edits[0].Body), "asked by both") {
		t.Errorf("the edit is %s %v", after.Edits[0].Body, err)
	}
}

// TestAnOvertakenChangeSaysSo publishes another change of the same object, and sees that the page
// notices.
func TestAnOvertakenChangeSaysSo(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	ctx := context.Background()
	put := func(title, minutes string) wire.Change {
		c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: title})
		if err != nil {
			t.Fatal(err)
		}
		body := `{"id":"harbour-desks","kind":"security","settings":{"screen.lock_after_minutes":` + minutes +
			`},"audience":{"include":["unit:harbour-office"]}}`
		if p, _ := call(t, api, http.MethodPut, client.Path("changes", c.ID, "edits", "policies", "harbour-desks"), body); p != nil {
			t.Fatal(p)
		}
		return c
	}
	mine, theirs := put("Mine", "4"), put("Theirs", "6")
	p.goTo("/changes/" + mine.ID)
	p.shows("What it does to what is live")
	if _, err := client.Post[wire.Publication](ctx, api, client.Path("changes", theirs.ID, "publish"), nil); err != nil {
		t.Fatal(err)
	}
	p.shows("Another change published version 2") // by itself, with no reload
	p.button("Publish …")
	p.button("Publish (values")
	p.shows("was published by " + adminName + " in change " + theirs.ID)
	p.button("Cancel")
	p.button("Let this one replace it")
	p.until("the warning is gone", `!document.body.innerText.includes('Another change published')`)
	p.button("Publish …")
	p.button("Publish (values")
	p.shows("live as revision 3")
}

// TestAReaderLooksAndDoesNotTouch signs a reader in.
func TestAReaderLooksAndDoesNotTouch(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	if p, _ := call(
		t,
		api,
		http.MethodPost,
		"/accounts",
		`{"name":"reader","password":"looks but does not touch","role":"reader","chosen":true}`,
	); p != nil {
		t.Fatal(p)
	}
	p := newPage(t, r.address)
	p.goTo("/")
	p.fill("Name", "reader")
	p.fill("Password", "not the password")
	p.button("Sign in")
	p.shows("the name, password or code is not right")
	p.fill("Password", "looks but does not touch")
	p.button("Sign in")
	p.shows("On the laptops")
	p.goTo("/policies/house-rules")
	p.shows("You may look, not edit")
	p.until(
		"fields are locked",
		`[...document.querySelectorAll('main input, main select, main textarea')].every((e) => e.disabled || e.getAttribute('aria-label')?.startsWith('Compare'))`,
	)
	p.goTo("/conflicts")
	p.shows("Banner text before sign-in")
	p.until("nothing can be settled", `![...document.querySelectorAll('button')].some((b) => b.innerText.includes('Prefer this'))`)
	p.button("Sign out")
	p.shows("Know what every laptop gets")
}

// TestTheKeyboardReachesEverything finds things and moves with keys alone.
func TestTheKeyboardReachesEverything(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.key("/")
	p.until(
		"the finder waits for words",
		`document.activeElement?.getAttribute('aria-label') === 'Find a page, setting, policy, group, unit, device or change'`,
	)
	p.key("house")
	p.shows("House rules")
	p.until("the hit is chosen", `document.querySelector('[role=option][aria-selected=true]')?.innerText.includes('House rules')`)
	p.key(kb.Enter)
	p.shows("Lock the screen after minutes without use")
	p.until("the address is the policy's", `location.pathname === '/policies/house-rules'`)
	p.key(kb.Escape)
	p.do("going back", chromedp.NavigateBack())
	p.shows("Conflicts to decide")
	p.goTo("/devices?unit=labs&sort=-owner")
	p.shows("laptops that fit")
	p.until("the view is in the address", `document.querySelector('select[aria-label="Unit"]').value === 'labs'`)
	p.until(
		"a row can be opened by key",
		`(() => { const link = document.querySelector('[role=row] [role=rowheader] a'); link?.focus(); return !!link && document.activeElement === link; })()`,
	)
	p.key(kb.Enter)
	p.until("the device is open", `location.pathname.startsWith('/devices/LT-')`)
}

// TestRetiringAndDiscarding takes a policy out of use and thinks better of it.
func TestRetiringAndDiscarding(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/site-block")
	p.shows("Sites that the browser does not open")
	p.button("Retire …")
	p.shows("It reaches 240 laptops now")
	p.button("Put the retirement into the change")
	p.shows("The open change retires this policy")
	p.shows("laptops differ")
	p.link("Look at the impact")
	p.shows("It stays in the history")
	p.button("Publish …")
	p.shows("Publish (values change on 240 laptops)")
	p.shows("This reaches every laptop of the company")
	p.until(
		"it asks for the title first",
		`[...document.querySelectorAll('dialog[open] button')].find((b) => b.innerText.startsWith('Publish (')).disabled`,
	)
	p.button("Cancel")
	p.button("Discard")
	p.shows("Nothing on laptops alters")
	p.click("dialog[open] button.btn-error", "Discard")
	p.shows("Edits laid over what is live")
	p.until("the tray is gone", `!document.querySelector('aside[aria-label="Open change"]')`)
	live, err := client.Get[wire.Overview](context.Background(), api, "/overview", nil)
	if err != nil || live.Revision != 1 || len(live.Changes) != 0 {
		t.Errorf("revision %d, %d open changes %v", live.Revision, len(live.Changes), err)
	}
}

// TestTheFirstAdministratorInTheConsole uses the one-time code of the first start, and sees an
// estate with nothing in it.
func TestTheFirstAdministratorInTheConsole(t *testing.T) {
	t.Parallel()
	r := serve(t, t.TempDir()+"/zridge.db")
	p := newPage(t, r.address)
	p.goTo("/")
	p.button("First start?")
	p.fill("One-time code", "not-the-code")
	p.fill("Name", adminName)
	p.fill("Password", adminPassword)
	p.button("Make the first administrator")
	p.shows("the name, password or code is not right")
	p.fill("One-time code", r.code)
	p.button("Make the first administrator")
	p.shows("On the laptops")
	p.shows("No two policies disagree")
	p.goTo("/devices")
	p.shows("zridge import FOLDER")
	p.goTo("/policies")
	p.shows("A policy holds settings for one purpose")
}

// TestWhatIsTypedOfAGroupStays types a rule of a group while a colleague works in the same change:
// what is typed stays, whatever the colleague does; where the colleague puts in the same group, a
// person chooses.
func TestWhatIsTypedOfAGroupStays(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/house-rules")
	p.fill("Lock the screen after minutes without use", "25")
	p.shows("Saved in the open change")
	change := theOpenChange(t, api)
	theirs := func(kind, id, body string) {
		t.Helper()
		if refused, _ := call(t, api, http.MethodPut, client.Path("changes", change.ID, "edits", kind, id), body); refused != nil {
			t.Fatal(refused)
		}
	}

	const rule = `device.os == "linux" && "field" in device.tags`
	stays := `[...document.querySelectorAll('textarea')].some((e) => e.value === ` + quoted(rule) + `)`
	p.goTo("/groups/field-laptops")
	p.types("Rule", rule) // as soon as there is a field for it
	p.until("the rule is typed", stays)
	theirs(
		"policies",
		"harbour-desks",
		`{"id":"harbour-desks","kind":"security","settings":{"screen.lock_after_minutes":6},"audience":{"include":["unit:harbour-office"]}}`,
	)
	p.shows("2 edits")
	p.until("what is typed stays", stays)
	theirs("groups", "field-laptops", `{"id":"field-laptops","of":"devices","rule":"device.os == \"macos\""}`)
	p.shows("3 edits")
	p.shows("put this group into the change while you typed, with the rule device.os == \"macos\"")
	p.until(
		"it stays beside theirs, and is tried against the whole estate",
		stays+` && /Values change on\s+\d+\s+of 240 laptops/.test(document.body.innerText)`,
	)
	p.shot("group-theirs")
	p.button("Put mine in its place")
	p.until(
		"mine is in the change",
		`!document.body.innerText.includes('while you typed') && [...document.querySelectorAll('button')].some((b) => b.innerText === 'Put into the change' && b.disabled)`,
	)
	if is, err := client.Get[wire.Change](context.Background(), api, "/changes/"+change.ID, nil); err != nil ||
		!slices.ContainsFunc(is.Edits, func(e wire.Edit) bool {
			return e.ID == "field-laptops" && strings.Contains(string(e.Body), `in device.tags`)
		}) {
		t.Errorf("the change has %v %v", is.Edits, err)
	}
}

// TestAddedJustAsSomethingIsKept lets what was typed be kept in the very moment in which a serial
// number is found: both stand in the end.
func TestAddedJustAsSomethingIsKept(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.inEveryDocument(`
		const fetched = window.fetch;
		let found;
		window.fetch = async (...asked) => {
			const url = asked[0].url ?? String(asked[0]);
			const answer = await fetched(...asked);
			if (url.includes('/audience/paste')) await new Promise((go) => (found = go));
			if (asked[0].method === 'PUT' && found) found();
			return answer;
		};`)
	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	for i, id := range []string{"LT-0007", "LT-0008", "LT-0009", "LT-0010", "LT-0011"} {
		device, err := client.Get[wire.DevicePage](context.Background(), api, "/devices/"+id, nil)
		if err != nil {
			t.Fatal(err)
		}
		p.fill("Left out: add", "serial:"+device.Device.Serial)
		p.key(kb.Enter)
		p.types("Lock the screen after minutes without use", fmt.Sprint(20+i))
		p.until(id+" is left out", `[...document.querySelectorAll('main .id')].some((e) => e.innerText === 'device:`+id+`')`)
		p.shows("Saved in the open change")
	}
	change := theOpenChange(t, api)
	p.until("all is kept", `!document.body.innerText.includes('Checking')`)
	is, err := client.Get[wire.Change](context.Background(), api, "/changes/"+change.ID, nil)
	if err != nil || len(is.Edits) != 1 || !strings.Contains(string(is.Edits[0].Body), `"screen.lock_after_minutes":24`) ||
		!strings.Contains(
			string(is.Edits[0].Body),
			`"device:LT-0007","device:LT-0008","device:LT-0009","device:LT-0010","device:LT-0011"`,
		) {
		t.Errorf("the change has %s %v", is.Edits[0].Body, err)
	}
}

// theOpenChange gives the one change that is open.
func theOpenChange(t *testing.T, api *client.Client) wire.Change {
	t.Helper()
	changes, err := client.Get[[]wire.Change](context.Background(), api, "/changes?state=open", nil)
	if err != nil || len(changes) != 1 {
		t.Fatalf("open changes: %v %v", changes, err)
	}
	return changes[0]
}
