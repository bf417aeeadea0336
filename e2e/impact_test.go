package e2e

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zenithridge.example/zridge/client"
)

// TestTheImpactWhileTyping alters a value in the console and reads beside it what that would do:
// numbers that open the laptops behind them, with nothing kept that has faults; then the same of a
// group's rule, and the whole as a report.
func TestTheImpactWhileTyping(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()

	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	p.types("Lock the screen after minutes without use", "25")
	p.shows("Values change on")
	p.shows("get a weaker value")
	p.until(
		"the panel says from what to what",
		`[...document.querySelectorAll('section, .sheet')].some((s) => s.innerText.includes('What the open change does') && /25/.test(s.innerText) && s.innerText.includes('weaker'))`,
	)
	p.shows("Saved in the open change")
	p.shot("impact-typing")
	p.do(
		"opening the laptops that get a weaker value",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('button')].find((b) => /get a weaker value$/.test(b.getAttribute('aria-label') ?? '')).click()`,
		),
	)
	p.until("the laptops are listed", `document.querySelector('dialog[open] table tbody tr a')?.innerText.startsWith('LT-')`)
	p.until(
		"with their owners and units",
		`document.querySelector('dialog[open]').innerText.includes('survey-fleet') || document.querySelector('dialog[open]').innerText.includes('slipway')`,
	)
	p.until(
		"they can be taken away",
		`[...document.querySelectorAll('dialog[open] button')].some((b) => b.innerText.includes('Take as a table'))`,
	)
	p.key("\x1b")

	// The change's page has the same numbers, and the report.
	change := theOpenChange(t, api)
	p.goTo("/changes/" + change.ID)
	p.shows("What it does to what is live")
	p.until(
		"the report can be had",
		`[...document.querySelectorAll('main a')].filter((a) => a.href.includes('/impact/report?format=')).length === 4`,
	)
	p.goTo("/api/v1/changes/" + change.ID + "/impact/report?format=html")
	p.until(
		"the report stands there as a page in its own style",
		`getComputedStyle(document.body).maxWidth !== 'none' && document.querySelector('h1').innerText.includes('does')`,
	)
	p.goTo("/changes/" + change.ID)
	p.until("every number opens its laptops", `document.querySelectorAll('main table button[aria-label*="laptop"]').length > 0`)

	// A group's rule: who joins, and what that does to them, while it is typed.
	p.goTo("/groups/field-laptops")
	p.types("Rule", `device.os == "linux"`)
	p.shows("begins to reach")
}

// TestKeptWhileReadingsAreLate types a value while every reading of the open change is held back:
// what was kept says so and stays, whatever comes late.
func TestKeptWhileReadingsAreLate(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.inEveryDocument(`
		const fetched = window.fetch;
		window.held = [];
		window.fetch = async (...asked) => {
			const request = new Request(...asked);
			const answer = await fetched(request);
			if (request.method === 'GET' && /\/changes\/[^/?]+$/.test(request.url)) await new Promise((go) => window.held.push(go));
			return answer;
		};`)
	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	p.types("Lock the screen after minutes without use", "25")
	p.shows("Saved in the open change")
	// A colleague goes on in the change, so that it is read again.
	if refused, _ := call(
		t,
		api,
		http.MethodPut,
		client.Path("changes", theOpenChange(t, api).ID, "edits", "policies", "p1"),
		quietPolicy,
	); refused != nil {
		t.Fatal(refused)
	}
	p.until("readings were held back", `window.held.length > 0`)
	p.do("letting them go", chromedp.Evaluate[chromedp.Void](`window.held.splice(0).forEach((go) => go())`))
	p.shows("Undo this edit")
	p.until(
		"it is kept still",
		`document.body.innerText.includes('Saved in the open change') && document.querySelector('[aria-label="Lock the screen after minutes without use"]').value === '25'`,
	)
}

// TestWaysToSettleAConflict reads what each way would do before choosing one, looks closer at it,
// and puts it into the change.
func TestWaysToSettleAConflict(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/conflicts?setting=signin.banner")
	p.shows("Banner text before sign-in")
	p.do(
		"opening the ways",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('summary')].find((s) => s.innerText.includes('Other ways to settle it')).click()`,
		),
	)
	p.shows("‘Banner for people on call’ gets a higher priority")
	p.shows("settles it · ")
	p.shot("conflicts")
	p.mark("tr", "‘Banner for people on call’ gets a higher priority")
	p.do("looking closer", chromedp.Click(chromedp.CSS("tr[data-marked] button")))
	p.shows("Conflict cleared")
	p.button("Put it into the change")
	p.until(
		"the conflict is settled in the open change",
		`document.querySelector('main').innerText.includes('No conflict about this setting')`,
	)
}

// TestAskingTheOwners asks those who answer for two policies that conflict, answers, and reads it
// there; a problem is worked on in the same place.
func TestAskingTheOwners(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/conflicts?setting=signin.banner")
	p.shows("Leads asked for the duty number on the screen")
	p.button("Ask the owners")
	p.until("the owners are proposed", `document.querySelector('dialog[open] input')?.value === 'ruth.mbeki, tomas.reyes'`)
	p.fill("What is asked", "Which of the two shall the leads see?")
	p.button("Ask")
	p.shows("waits for an answer")
	p.button("Answer")
	p.fill("Answer", "The night watch")
	p.button("Send the answer")
	p.shows("answered")
	p.shows("The night watch")

	p.goTo("/conflicts?check=startup.pin-without-chip#problems")
	p.shows("A startup PIN is required")
	p.do(
		"opening the ways",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('summary')].find((s) => s.innerText.includes('Ways to make it right')).click()`,
		),
	)
	p.shows("leaves out group:field-laptops")
	p.do(
		"opening the laptops",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('summary')].find((s) => s.innerText.includes('Touches 70 laptops')).click()`,
		),
	)
	p.shows("Field laptops 70")
}

// TestSettlingInTheTerminal does the same by the CLI: ways with their effects, one put into a
// change, a question asked and answered.
func TestSettlingInTheTerminal(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	r.signIn()
	expect := func(out string, words ...string) {
		t.Helper()
		for _, w := range words {
			if !strings.Contains(out, w) {
				t.Errorf("%q is not in\n%s", w, out)
			}
		}
	}
	expect(r.must("conflicts"), "owner ruth.mbeki", "why: Night watch handbook, section 2", "since ")
	expect(r.must("conflicts", "ways", "signin.banner"), "lock-above", "settles it", "11 ways")
	expect(r.must("conflicts", "ways", "media.usb_storage"), "contractors-no-usb leaves out unit:survey-fleet")
	expect(r.must("conflicts", "ways", "--check", "startup.pin-without-chip"), "fleet-startup leaves out group:field-laptops", "3 ways")
	asked := r.must("conflicts", "ask", "signin.banner", "--note", "Which of the two?")
	expect(asked, "Asked ruth.mbeki and tomas.reyes as Q-")
	id := strings.TrimSpace(asked[strings.Index(asked, "Q-"):])
	expect(r.must("conflicts", "questions", "--state", "open"), id, "Which of the two?")
	expect(r.must("conflicts", "answer", id, "The", "night", "watch"), "answered")
	expect(r.must("conflicts"), "ines.okafor asked ruth.mbeki and tomas.reyes: Which of the two? — ines.okafor: The night watch")
	expect(
		r.must(
			"conflicts",
			"settle",
			"signin.banner",
			"--way",
			"prefer",
			"--policy",
			"on-call-banner",
			"--reason",
			"The watch must be reached",
		),
		"create rulings/",
		"conflict cleared: signin.banner",
	)
	changes := r.must("change", "list", "--format", "json")
	expect(changes, "open")
	for name, args := range map[string][]string{
		"no such way":        {"conflicts", "settle", "media.usb_storage", "--way", "pray", "--policy", "survey-transfer"},
		"nothing to settle":  {"conflicts", "ways", "screen.lock"},
		"neither of both":    {"conflicts", "ways"},
		"both":               {"conflicts", "ways", "signin.banner", "--check", "startup.pin-without-chip"},
		"other policies":     {"conflicts", "ways", "signin.banner", "--policies", "house-rules,leads-banner"},
		"answered before":    {"conflicts", "withdraw", id},
		"not the right sort": {"conflicts", "answer", id},
	} {
		if _, errOut, status := r.run("", args...); status == 0 || strings.Contains(errOut, "panic") || errOut == "" {
			t.Errorf("%s: status %d, %s", name, status, errOut)
		}
	}
}

// TestOneRequestForEachPause types a value three times and counts what the console asks of the
// service: each time one write, whose answer has the reach, the findings and the impact.
func TestOneRequestForEachPause(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.inEveryDocument(`
		const fetched = window.fetch;
		window.asked = [];
		window.fetch = async (...asked) => {
			const request = new Request(...asked);
			window.asked.push(request.method + ' ' + new URL(request.url).pathname);
			return fetched(request);
		};`)
	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	p.types("Lock the screen after minutes without use", "25") // opens a change
	p.shows("Saved in the open change")
	p.shows("laptops differ")
	for _, minutes := range []string{"26", "27", "28"} {
		p.do("forgetting what was asked", chromedp.Evaluate[chromedp.Void](`window.asked.length = 0`))
		p.typesWithoutPause("Lock the screen after minutes without use", minutes)
		p.until(
			"it is kept and shown",
			`document.body.innerText.includes('Saved in the open change') && document.querySelector('main').innerText.includes(' `+minutes+
				`') && window.asked.some((a) => a.startsWith('PUT'))`,
		)
		asked, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]string](`window.asked`))
		if err != nil {
			t.Fatal(err)
		}
		var about []string
		for _, a := range asked {
			if a != "GET /api/v1/changes" { // the list, where it is shown
				about = append(about, a)
			}
		}
		if len(about) != 1 || !strings.HasPrefix(about[0], "PUT ") {
			t.Errorf("for %s the console asked %q", minutes, asked)
		}
	}
}
