package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// TestEveryPageIsAccessible runs axe-core over every page in both themes, and looks for sideways
// scrolling at 1280 pixels and at twice and four times the zoom.
func TestEveryPageIsAccessible(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	made, err := client.Post[wire.Change](context.Background(), api, "/changes", wire.NewChange{Title: "A baseline"})
	if err != nil {
		t.Fatal(err)
	}
	hardened := `{"id":"audited","title":"As the audit wants it","alert_below":90,"audience":{"include":["everyone"]},"settings":{"signin.banner":"Ours","media.camera":{"value":false,"severity":"high"}}}`
	if p, _ := call(t, api, http.MethodPut, client.Path("changes", made.ID, "edits", "baselines", "audited"), hardened); p != nil {
		t.Fatal(p)
	}
	if p, _ := call(t, api, http.MethodPost, client.Path("changes", made.ID, "publish"), `{"at_once":true}`); p != nil {
		t.Fatal(p)
	}
	c, err := client.Post[wire.Change](context.Background(), api, "/changes", wire.NewChange{Title: "Cameras in the workshop"})
	if err != nil {
		t.Fatal(err)
	}
	if p, _ := call(t, api, http.MethodPut, client.Path("changes", c.ID, "edits", "policies", "p1"), quietPolicy); p != nil {
		t.Fatal(p)
	}
	inventory := `{"id":"inventory","kind":"csv","title":"Inventory","set_up":{"table":{"of":"devices","key":"serial","whole":true,"columns":{"serial":"serial","os":"os","release":"os_version"}}}}`
	if p, _ := call(t, api, http.MethodPost, "/sources", inventory); p != nil {
		t.Fatal(p)
	}
	source, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed (make console): %v", err)
	}
	p := newPage(t, r.address)
	p.measureShifts()
	p.goTo("/")
	p.shows("Know what every laptop gets")
	p.checkAccess("sign-in", string(source))
	p.signIn()
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`localStorage.setItem('open-change', `+quoted(c.ID)+`), true`)); err != nil {
		t.Fatal(err)
	}
	for path, shows := range map[string]string{
		"/": "Conflicts to decide", "/devices": "LT-0001", "/devices?q=nothing-like-this": "No laptop fits", "/devices/LT-0110": "Check-ins",
		"/policies": "House rules", "/policies/new": "One purpose",
		"/policies/field-encryption": "Startup PIN held", "/policies/p1": "not live yet", "/dictionary": "Encrypt the disks",
		"/dictionary?q=usb": "USB sticks", "/conflicts": "Banner text before sign-in",
		"/policies/new?kit=travel": "Trains and cafés", "/policies/new?like=house-rules": "will be copied",
		"/policies/new?device=LT-0110": "Show what it has", "/policies/house-rules/history": "Version 1",
		"/policies/field-encryption/summary": "How to go back", "/dictionary/applications.permissions": "Several policies",
		"/dictionary/define?from=media.camera": "Further words", "/dictionary?area=trust": "Certificates never to trust",
		"/changes": "Cameras in the workshop", "/changes/" + c.ID: "What it does to what is live", "/audit-log": "publish",
		"/accounts": "(you)", "/accounts/" + adminName: "What it may do today", "/roles": "Service desk", "/access": "(this browser)",
		"/people": "Anders Costa", "/people/ruth.mbeki": "Crew leads",
		"/groups": "Release pilots", "/groups/old-chip": "The rule fails on", "/groups/new": "Who is in it", "/units": "Detached",
		"/sources": "Inventory", "/sources/new": "A provisioning client",
		"/sources/inventory": "Send a table", "/exceptions": "Sonar plotter", "/exceptions?ask=": "Nothing alters before",
		"/compare?a=LT-0110&unit=slipway": "settings differ", "/compare?a=LT-0001&b=LT-0110": "Facts that differ",
		"/devices?where=facts/ram_gb>=16&columns=facts/ram_gb": "laptops that fit", "/units/slipway": "How it comes here",
		"/units/matrix?show=all": "Harbour office", "/groups/on-call/inherits": "overridden on",
		"/dictionary/screen.lock_after_minutes": "What it is where", "/no/such/page": "no such page",
		"/drift": "Nothing was altered on a laptop", "/baselines": "As the audit wants it",
		"/baselines/audited": "By setting", "/coverage": "Who can open the keys", "/keys": "You may not see recovery keys",
	} {
		p.goTo(path)
		p.shows(shows)
		p.shows("Look at the impact") // the change bar, on every page
		p.staysInPlace(path, shows)
		p.shot("page" + strings.NewReplacer("/", "-", "?", "-").Replace(path))
		p.checkAccess(path, string(source))
	}
	p.goTo("/devices/LT-0110")
	p.button("Why Camera")
	p.checkAccess("an open explanation", string(source))
	p.goTo("/baselines/audited")
	p.button("Edit …")
	p.shows("What laptops are to have")
	p.checkAccess("editing a baseline", string(source))
	p.goTo("/changes/" + c.ID)
	p.button("Publish …")
	p.shows("Cancel")
	p.checkAccess("the publish dialog", string(source))
}

// mostShift is how much of a page may move while it loads, as the browser counts cumulative layout shift.
const mostShift = 0.02

// measureShifts has every page from now on count how much of it moves without anybody touching it.
func (p *page) measureShifts() {
	p.t.Helper()
	p.inEveryDocument(`
		window.shifts = [];
		new PerformanceObserver((list) => {
			for (const e of list.getEntries()) if (!e.hadRecentInput)
				window.shifts.push({ value: e.value, of: e.sources.map((s) => (s.node?.outerHTML ?? s.node?.textContent ?? '').slice(0, 120)) });
		}).observe({ type: 'layout-shift', buffered: true });`)
}

// staysInPlace fails on a page of which more moves than may while it is loading, each of three times:
// in which order answers arrive is another matter each time.
func (p *page) staysInPlace(path, shows string) {
	p.t.Helper()
	const times = 3
	for try := 1; ; try++ {
		sum, what := p.shifted()
		if sum <= mostShift {
			return
		}
		if try == times {
			p.t.Errorf("%s moves by %.3f while it loads, of at most %v: %.900s", path, sum, mostShift, what)
			return
		}
		p.goTo(path)
		p.shows(shows)
		p.shows("Look at the impact")
	}
}

// shifted gives how much of the page moved until nothing was loading any more, and what did.
func (p *page) shifted() (sum float64, what string) {
	p.t.Helper()
	p.until("nothing is loading", `!document.querySelector('[aria-label="Loading"]')`)
	shifts, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]struct {
		Value float64
		Of    []string
	}](`window.shifts`))
	if err != nil {
		p.t.Fatal(err)
	}
	for _, s := range shifts {
		sum += s.Value
	}
	return sum, fmt.Sprint(shifts)
}

// checkAccess fails on whatever axe-core calls serious or critical, and on a page that scrolls
// sideways.
func (p *page) checkAccess(name, source string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](source+`; true`)); err != nil {
		p.t.Fatal(err)
	}
	// A theme alters colours only: in the second one, only they are looked at.
	for theme, rules := range map[string]string{"chart": "", "night-watch": ", runOnly: ['color-contrast', 'link-in-text-block']"} {
		p.theme(theme)
		found, err := chromedp.Run(ctx, chromedp.Evaluate[string](`
			axe.run(document, { resultTypes: ['violations'], rules: { 'target-size': { enabled: true } }`+rules+` }).then((r) => JSON.stringify(r.violations.filter((v) => ['serious', 'critical'].includes(v.impact))
				.map((v) => ({ id: v.id, help: v.help, nodes: v.nodes.slice(0, 4).map((n) => n.html.slice(0, 160) + ' :: ' + (n.any[0]?.message ?? '')) }))))`, chromedp.EvalAwaitPromise))
		if err != nil {
			p.t.Fatalf("axe-core on %s: %v", name, err)
		}
		var violations []struct {
			ID, Help string
			Nodes    []string
		}
		if err := json.Unmarshal([]byte(found), &violations); err != nil {
			p.t.Fatal(err)
		}
		for _, v := range violations {
			p.t.Errorf("%s in %s: %s: %s\n%s", name, theme, v.ID, v.Help, fmt.Sprintf("%.600q", v.Nodes))
		}
	}
	p.theme("chart")
	for _, width := range []int64{1280, 640, 320} {
		p.do("resizing", chromedp.EmulateViewport(width, 800))
		wide, err := chromedp.Run(
			ctx,
			chromedp.Evaluate[float64](
				`Math.max(document.documentElement.scrollWidth - innerWidth, (document.querySelector('main')?.scrollWidth ?? 0) - (document.querySelector('main')?.clientWidth ?? 0))`,
			),
		)
		if err != nil {
			p.t.Fatal(err)
		}
		if wide > 1 && width == 1280 {
			p.t.Errorf("%s scrolls sideways by %v pixels at %d", name, wide, width)
		} else if wide > 1 {
			p.t.Errorf("%s scrolls sideways by %v pixels at 1280 with %d%% zoom", name, wide, 128000/width)
		}
	}
	p.do("resizing", chromedp.EmulateViewport(1280, 800))
}
