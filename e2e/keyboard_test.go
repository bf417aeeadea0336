package e2e

import (
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestTargetsByName writes an audience with the names that people use: a title, a serial number, the
// beginning of a title. What fits nothing says what was meant, and nothing is added unasked.
func TestTargetsByName(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/labs-quiet")
	p.shows("Camera")
	field := "Gets it: add a unit, group, device or person"
	targets := func(wanted string) {
		t.Helper()
		p.until(
			"the audience is "+wanted,
			`[...document.querySelectorAll('[aria-label^="Remove "][aria-label$=" from Gets it"]')].map((b) => b.ariaLabel.split(' ')[1]).join(' ') === `+quoted(
				wanted,
			),
		)
	}
	targets("unit:labs")
	p.fill(field, "survey fleet") // the whole title, in small letters
	p.key(kb.Enter)
	targets("unit:labs unit:survey-fleet")
	p.fill(field, "Slipway worksop")
	p.key(kb.Enter)
	p.shows("No unit, group, person or laptop is called “Slipway worksop”. Did you mean: Slipway workshop (unit:slipway)")
	p.until("the fault is tied to the field", `(() => {
		const field = document.querySelector('[aria-label=`+quoted(field)+`]');
		return field.getAttribute('aria-invalid') === 'true' && document.getElementById(field.getAttribute('aria-describedby')).innerText.includes('Did you mean');
	})()`)
	targets("unit:labs unit:survey-fleet")
	p.button("Slipway workshop (unit:slipway)")
	targets("unit:labs unit:survey-fleet unit:slipway")
	p.fill(field, "laborator") // several fit: Enter alone chooses none
	p.key(kb.Enter)
	p.shows("fit “laborator”. Choose:")
	targets("unit:labs unit:survey-fleet unit:slipway")
	p.fill(field, "ruth mb")
	p.until("people are found", `[...document.querySelectorAll('[role=option]')].some((o) => o.innerText.includes('ruth.mbeki'))`)
	p.key(kb.ArrowDown)
	p.until(
		"the option is told",
		`!!document.getElementById(document.activeElement.getAttribute('aria-activedescendant'))?.innerText.includes('ruth.mbeki')`,
	)
	p.key(kb.Enter)
	targets("unit:labs unit:survey-fleet unit:slipway person:ruth.mbeki")
	p.shows("Saved in the open change")
}

// TestPatternsOfTheKeyboard goes through controls as their patterns say: the units are a tree, ways to
// start are radio buttons, a setting has one heading and one stop before its control, rows have links,
// and every table has a caption and cells that name its rows and columns.
func TestPatternsOfTheKeyboard(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	focused := func(wanted string) {
		t.Helper()
		p.until(
			"the focus is on "+wanted,
			`(document.activeElement.dataset.unit ?? document.activeElement.getAttribute('aria-label') ?? document.activeElement.innerText) === `+quoted(
				wanted,
			),
		)
	}
	p.goTo("/units")
	p.until("the tree is there", `document.querySelectorAll('[role=treegrid] [data-unit]').length > 5`)
	p.do("going to the tree", chromedp.Evaluate[chromedp.Void](`document.querySelector('[role=treegrid] [tabindex="0"]').focus()`))
	focused("larkfell")
	p.key(kb.End)
	focused("rv-turnstone")
	p.key(kb.ArrowLeft) // to the unit above
	focused("survey-fleet")
	p.key(kb.ArrowLeft) // closes it
	p.until(
		"it is closed",
		`document.activeElement.getAttribute('aria-expanded') === 'false' && !document.querySelector('[data-unit=rv-turnstone]')`,
	)
	p.key(kb.ArrowRight)
	p.key(kb.ArrowDown)
	focused("rv-dunlin")
	if got := p.focused(); !strings.Contains(got, "row ") {
		t.Errorf("the row of a unit is told as %q", got)
	}
	p.key(kb.Enter)
	p.until("the unit's page is open", `location.pathname === '/units/rv-dunlin'`)

	p.goTo("/policies/new")
	p.shows("From nothing")
	p.do("going to the ways to start", chromedp.Evaluate[chromedp.Void](`document.querySelector('input[type=radio]:checked').focus()`))
	p.key(kb.ArrowRight)
	p.until(
		"the next way is chosen",
		`document.querySelector('input[type=radio]:checked').ariaLabel === 'From a kit' && location.search === '?from=kit'`,
	)

	p.goTo("/policies/house-rules")
	p.shows("Banner text before sign-in")
	p.until("each setting has one heading, and one stop before its control", `(() => {
		const rows = [...document.querySelectorAll('[id^="setting-"]')];
		return rows.length > 2 && rows.every((row) => {
			const stops = [...row.querySelectorAll('a, button, input, select, textarea, summary')].filter((e) => e.tabIndex >= 0);
			return row.querySelectorAll('h3').length === 1 && stops.findIndex((e) => e.closest('[data-control]')) === 1;
		});
	})()`)

	for _, path := range []string{"/policies", "/groups", "/units", "/exceptions", "/changes", "/conflicts", "/audit-log",
		"/accounts", "/devices/LT-0110", "/units/matrix"} {
		p.goTo(path)
		p.until(path+" has loaded", `!!document.querySelector('main h1') && !document.querySelector('[aria-label="Loading"]')`)
		p.until(
			"every table of "+path+" has a caption, and cells that name columns and rows",
			`[...document.querySelectorAll('main table')].every((table) =>
			table.caption?.innerText && [...table.querySelectorAll('thead th')].every((h) => h.scope === 'col' || h.scope === 'colgroup') &&
			[...table.tBodies].every((body) => [...body.rows].every((row) => row.querySelector('th[scope=row]') || row.querySelector('td[colspan]'))))`,
		)
	}
}

// keys counts the keys that a task takes.
type keys struct {
	*page
	pressed int
}

func (k *keys) press(key string) {
	k.t.Helper()
	k.pressed++
	k.key(key)
}

func (k *keys) write(text string) {
	k.t.Helper()
	k.pressed += len(text)
	k.do("typing "+text, chromedp.KeyEvent(text))
}

// tabTo presses Tab until what has the focus is called so, as the accessibility tree has it.
func (k *keys) tabTo(wanted string) {
	k.t.Helper()
	const most = 60
	for range most {
		k.press(kb.Tab)
		if strings.HasPrefix(k.focused(), wanted) {
			return
		}
	}
	k.t.Fatalf("%s is not reached with %d Tabs; the focus is on %q", wanted, most, k.focused())
}

// task ends a task, and fails when it took more keys than it may.
func (k *keys) task(name string, most int) {
	k.t.Helper()
	k.t.Logf("%s: %d keys", name, k.pressed)
	if k.pressed > most {
		k.t.Errorf("%s took %d keys, expected at most %d", name, k.pressed, most)
	}
	k.pressed = 0
}

// TestAJobByKeyboardAlone finds a policy, alters a value, adds a setting, widens the audience, looks at
// the impact and publishes, with keys alone and by what the accessibility tree says. It counts keys.
func TestAJobByKeyboardAlone(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	k := &keys{page: p}
	find := func(words, path string) {
		t.Helper()
		k.pressed++
		k.do("Ctrl-K", chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl))) // also in a field, where / is a character
		p.until("the finder waits for words", `document.activeElement?.getAttribute('aria-label')?.startsWith('Find a page')`)
		k.write(words)
		p.until("the first hit is meant", `document.querySelector('[role=option][aria-selected=true] .id')?.innerText === `+
			quoted(path[strings.LastIndex(path, "/")+1:]))
		k.press(kb.Enter)
		p.until("the page is open", `location.pathname === `+quoted(path))
	}
	find("quiet lab", "/policies/labs-quiet")
	p.until("the heading has the focus", `document.activeElement === document.querySelector('h1')`)
	k.task("finding a policy", 12)

	p.shows("Microphone")
	k.tabTo("combobox Camera")
	k.write("on") // the option that begins so
	p.shows("Saved in the open change")
	k.task("altering a value", 15)

	k.tabTo("combobox Add a setting")
	k.write("guest")
	p.shows("Guest account")
	said := p.said()
	k.press(kb.Enter)
	p.until("the setting is there", `!!document.getElementById('setting-accounts.guest')`)
	if all := said(); !slices.Contains(all, "Added: Guest account") {
		t.Errorf("a screen reader is told %q", all)
	}
	k.task("adding a setting", 20)

	k.tabTo("combobox Gets it: add a unit")
	k.write("slipway")
	k.press(kb.Enter)
	p.until("the unit is added", `!!document.querySelector('[aria-label="Remove unit:slipway from Gets it"]')`)
	p.shows("Saved in the open change")
	k.task("widening the audience", 25)

	find("edit quiet", p.openChange())
	p.shows("What it does to what is live")
	k.task("looking at the impact", 15)

	k.tabTo("button Publish")
	k.press(kb.Enter)
	p.until("the question begins on Cancel", `document.activeElement?.innerText === 'Cancel'`)
	k.tabTo("button Publish (")
	k.press(kb.Enter)
	p.shows("published")
	k.task("publishing", 15)
}

// openChange gives the address of the open change.
func (p *page) openChange() string {
	p.t.Helper()
	id, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`localStorage.getItem('open-change')`))
	if err != nil {
		p.t.Fatal(err)
	}
	return "/changes/" + id
}
