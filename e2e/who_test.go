package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// ticked sets the box with a label in the dialog or page that is open.
func (p *page) ticked(label string) {
	p.t.Helper()
	p.until("there is a box "+label, `(() => {
		const box = [...document.querySelectorAll('label')].find((l) => l.innerText.trim().startsWith(`+quoted(label)+`))?.querySelector('input[type=checkbox]') ?? document.querySelector('[aria-label=`+quoted(label)+`]');
		if (!box) return false;
		if (!box.checked) box.click();
		return true;
	})()`)
}

// TestWhoGetsItInTheConsole brings laptops in, looks at lists, writes a rule, an audience, lets a
// unit be detached, and has an exception approved.
func TestWhoGetsItInTheConsole(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()

	// A table from the inventory: its columns mapped beside its first rows, then a dry run, then
	// taken.
	demo, err := os.ReadFile("../demo/estate/devices.csv")
	if err != nil {
		t.Fatal(err)
	}
	rows := strings.Split(strings.TrimSpace(string(demo)), "\n")
	at := map[string]int{}
	for i, name := range strings.Split(rows[0], ",") {
		at[name] = i
	}
	var table strings.Builder
	table.WriteString("Serial Number;Operating System;OS Version;Primary User;RAM (GB);Warranty until;Note\n")
	for i, row := range rows[1:] {
		cells := strings.Split(row, ",")
		release := cells[at["os_version"]]
		if i == 4 {
			release = "13.1"
		}
		fmt.Fprintf(
			&table,
			"%s;%s;%s;%s;%s;2028-0%d-01;shelf\n",
			cells[at["serial"]],
			cells[at["os"]],
			release,
			cells[at["owner"]],
			cells[at["ram_gb"]],
			1+i%9,
		)
	}
	table.WriteString("ZX9-0001;linux;13.0;piet.duarte;32;2029-01-01;new\nZX9-0002;toaster;1;;8;;\n")
	file := written(t, "laptops.csv", table.String())
	p.goTo("/sources/new")
	p.click("label", "A table")
	p.fill("Name", "Inventory")
	p.until(
		"there is a file field",
		`document.querySelector('main input[type=file]')?.setAttribute('aria-label', 'Begin with a table') ?? true`,
	)
	p.upload("Begin with a table", file)
	p.shows("Warranty until")
	p.choose("What Note becomes", "")
	p.shows("6 columns mapped")
	p.button("Add the source")
	p.shows("Send a table. It is compared")
	p.upload("Table to send", file)
	p.shows("A reading waits for you")
	p.shows("expected linux, windows or macos")
	p.shows("7 policies reach other laptops")
	p.shot("source-dry-run")
	p.button("Take it without what is faulty")
	p.shows("CSV: tables are sent · on · 241 laptops")

	// A list by a fact that came with it, kept as a view, exported as it is shown.
	p.goTo("/devices?where=facts/warranty_until>=2029&columns=facts/warranty_until")
	p.shows("1 laptop that fit")
	p.shows("ZX9-0001")
	p.do(
		"opening views",
		chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('summary')].find((s) => s.innerText.includes('Views')).click()`),
	)
	p.button("Keep this list as a view")
	p.fill("Name", "New this year")
	p.button("Keep")
	p.until(
		"the view is kept",
		`fetch('/api/v1/views?page=devices').then((r) => r.json()).then((v) => v.length === 1 && v[0].query.includes('warranty_until'))`,
	)
	exported := `fetch([...document.querySelectorAll('a')].find((a) => a.innerText.includes('Export')).href).then((r) => r.text()).then((t) => t.trim().split('\n').length === 2 && t.startsWith('id,owner_name,unit') && t.includes('2029-01-01'))`
	p.until("the export has what is shown", exported)
	p.goTo("/devices/LT-0005")
	p.shows("brought by inventory")
	p.shows("by the rule")

	// Two laptops side by side.
	p.goTo("/devices?q=LT-000")
	p.ticked("Choose LT-0001")
	p.ticked("Choose LT-0003")
	p.button("Compare")
	p.shows("Facts that differ")
	p.goTo("/compare?a=LT-0120&unit=slipway")
	p.shows("settings differ")
	p.shot("compare")

	// A group by a rule that is completed while it is typed.
	p.goTo("/groups/new")
	p.fill("Name", "Old releases at sea")
	p.do("going to the rule", chromedp.Evaluate[chromedp.Void](`document.querySelector('[role=combobox]').focus()`))
	p.do("typing a rule", chromedp.KeyEvent(`device.os_v`))
	p.shows("known of")
	p.click("li", "os_version")
	p.do("typing on", chromedp.KeyEvent(`.below("12") && "field" in device.tags`))
	p.shows("would join")
	p.shot("group-rule")
	p.do("a mistake", chromedp.KeyEvent(` &&`))
	p.shows("Syntax error")
	p.key("\b\b\b")
	p.shows("would join")
	p.do("a fact that no other rule looks at", chromedp.KeyEvent(` || "survey-fleet" in device.units`))
	p.shows("82 of 241 laptops")
	p.button("Make the group")
	p.shows("old-releases-at-sea")
	p.shows("Put into the change")

	// An audience of it: who, in numbers; everyone is said so that nobody overlooks it.
	p.goTo("/policies/house-rules")
	p.shows("EVERYONE: all 241 laptops of the company")
	p.goTo("/policies/contractors-no-usb")
	p.shows("By release")
	p.do(
		"opening the choice",
		chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('summary')].find((s) => s.innerText === 'Choose').click()`),
	)
	p.ticked("Survey fleet")
	p.shows("unit:survey-fleet")
	p.shows("more than the 25 % that count as many")
	p.choose("Compare with the audience of another policy", "survey-transfer")
	p.shows("only there")
	p.do(
		"scrolling to the audience",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('summary')].find((s) => s.innerText === 'Choose').click(), [...document.querySelectorAll('h2')].find((h) => h.textContent === 'Audience').scrollIntoView()`,
		),
	)
	p.shot("audience")

	// A unit is detached: what it costs first.
	p.goTo("/units")
	p.shows("Nothing was missed since")
	p.do(
		"detached",
		chromedp.Evaluate[chromedp.Void](
			`[...[...document.querySelectorAll('tr')].find((r) => r.textContent.includes('Laboratories')).querySelectorAll('button')].find((b) => b.textContent.includes('Detach')).click()`,
		),
	)
	p.ticked("security")
	p.shows("47 of its 47 laptops would lose")
	p.shows("labs-own-values")
	p.fill("Reason", "The laboratories keep their own rules")
	p.button("Put into the change")
	p.shows("labs-own-values")

	// An exception: asked for here, approved by somebody else.
	p.goTo("/exceptions?ask=&setting=screen.lock_after_minutes&target=device:LT-0112")
	p.shows("Nothing alters before somebody else approves")
	p.fill("Reason", "Plotter must stay lit")
	p.button("Ask")
	p.shows("You asked; somebody else approves")
	second(t, api, "tomas.reyes")
	q := newPage(t, r.address)
	q.goTo("/")
	q.fill("Name", "tomas.reyes")
	q.fill("Password", adminPassword)
	q.button("Sign in")
	q.shows("On the laptops")
	q.goTo("/exceptions")
	q.shows("Plotter must stay lit")
	q.button("What it does")
	q.shows("of 241 laptops")
	q.button("Approve and publish")
	q.shows("approved by tomas.reyes")
	p.shows("approved by tomas.reyes")
	p.goTo("/devices/LT-0112")
	p.shows("decides Lock the screen")
}

// TestAGroupThatListsMany pastes a hundred laptops into a group: the first stand there, and the
// others are found by their ids.
func TestAGroupThatListsMany(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/groups/new")
	p.fill("Name", "Bought in spring")
	var ids []string
	for i := range 100 {
		ids = append(ids, fmt.Sprintf("LT-%04d", i+1))
	}
	p.fill("Serial numbers or ids to add", strings.Join(ids, "\n"))
	p.button("Add")
	p.shows("100 laptops")
	p.shows("and 40 more")
	p.until("sixty stand there", `document.querySelectorAll('button[aria-label^="Remove LT-"]').length === 60`)
	p.fill("Find among them", "lt-0097")
	p.until("the one is found", `document.querySelectorAll('button[aria-label^="Remove LT-"]').length === 1`)
	p.button("Remove LT-0097")
	p.shows("99 laptops")
	p.shows("None of them has this in its id.")
	p.types("Find among them", "\b")
	p.shows("and 39 more")
}

// TestWordsThatAreTypedFast types into the searches whose words are in the address, as fast as keys
// go: every letter stays, the address follows, and a way back is followed too.
func TestWordsThatAreTypedFast(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	const words = "survey data may be carried"
	for path, label := range map[string]string{"/dictionary": "Search settings", "/policies": "Search policies",
		"/groups": "Search groups", "/devices": "Search devices"} {
		p.goTo(path)
		p.until("the search of "+path, `!!document.querySelector('input[type=search][aria-label=`+quoted(label)+`]')`)
		p.types(label, words)
		p.until("the address says what is searched for in "+path, `new URLSearchParams(location.search).get('q') === `+quoted(words))
		if typed, err := chromedp.Run(
			p.ctx,
			chromedp.Evaluate[string](`document.querySelector('input[aria-label=`+quoted(label)+`]').value`),
		); err != nil ||
			typed != words {
			t.Errorf("%s has %q of what was typed, %v", path, typed, err)
		}
	}
	p.goTo("/dictionary?q=camera")
	p.shows("media.camera")
	p.link("Trust")
	p.until("the search is empty where an area is read", `document.querySelector('input[aria-label="Search settings"]').value === ''`)
}
