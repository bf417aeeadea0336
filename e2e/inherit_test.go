package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zenithridge.example/zridge/formats/wire"
)

// TestWhatComesToAUnit goes from the tree of units to one, to what is overridden there and by what,
// and to the matrix and back to a setting.
func TestWhatComesToAUnit(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()

	p.goTo("/units")
	p.link("Slipway workshop")
	p.shows("How it comes here")
	p.button("Overridden")
	p.shows("overridden on 7 by Banner for people on call")
	p.until("one setting is left", `document.querySelectorAll('main button[aria-expanded]').length === 1`)
	p.do("opening its entries", chromedp.Evaluate[chromedp.Void](`document.querySelector('main button[aria-expanded]').click()`))
	p.until(
		"each entry says where it stands",
		`/from above unit:0[\s\S]*in effect on 20[\s\S]*overridden by Banner for people on call on 7/.test(document.querySelector('main table table').innerText.replace(/\s+/g, ' '))`,
	)
	p.goTo("/units/acoustics-lab?only=detached")
	p.shows("from above, not inherited on 26")
	p.shot("inheritance")

	p.goTo("/units/matrix")
	p.shows("Harbour office")
	p.until(
		"what differs stands out",
		`[...document.querySelectorAll('main td')].some((c) => /^not as above: /.test(c.textContent) && c.textContent.includes('whole-disk'))`,
	)
	p.button("Survey fleet")
	p.shows("RV Petrel")
	p.choose("Show", "laptops")
	p.shows("alike on every laptop")
	p.link("Lock the screen after minutes without use")
	p.shows("What it is where")
	p.until(
		"the tree says how many differ",
		`[...document.querySelectorAll('main tr')].some((r) => r.innerText.startsWith('Survey fleet') && /81\s+1\b/.test(r.innerText))`,
	)

	p.goTo("/groups/on-call")
	p.link("Inherited settings")
	p.shows("overridden on")
}

// TestInheritanceInTheTerminal asks the same by the CLI.
func TestInheritanceInTheTerminal(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	r.signIn()
	ask := func(into any, args ...string) {
		t.Helper()
		if err := json.Unmarshal([]byte(r.must(append(args, "--format", "json")...)), into); err != nil {
			t.Fatalf("%v: %v", args, err)
		}
	}
	var i wire.Inheritance
	ask(&i, "unit", "inherits", "slipway", "--only", "locked")
	if i.Devices != 28 || len(i.Settings) != 2 || i.Settings[0].Locked != 28 {
		t.Errorf("%+v", i)
	}
	if out := r.must("unit", "inherits", "slipway", "--why"); !strings.Contains(out, "overridden by on-call-banner on 7") {
		t.Errorf("why:\n%s", out)
	}
	var m wire.UnitMatrix
	ask(&m, "unit", "matrix", "--unit", "survey-fleet")
	if len(m.Units) != 4 || len(m.Above) != 1 || len(m.Rows) == 0 {
		t.Errorf("%+v", m)
	}
	var w wire.Whereabouts
	ask(&w, "setting", "places", "signin.banner")
	if len(w.Units) != 11 || w.Units[0].Prevailing.Devices+w.Units[0].Prevailing.Others != 240 || len(w.Groups) != 2 {
		t.Errorf("%+v", w)
	}
	for _, args := range [][]string{{"unit", "inherits", "nowhere"}, {"unit", "matrix", "--unit", "nowhere"},
		{"setting", "places", "no.such"}, {"unit", "inherits", "slipway", "--only", "red"}} {
		if _, errOut, status := r.run("", args...); status == 0 || !strings.Contains(errOut, args[len(args)-1]) {
			t.Errorf("%v: %d %s", args, status, errOut)
		}
	}
}
