package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// said gives every sentence that the console has a screen reader say, one a line, from when it is
// called on.
func (p *page) said() func() []string {
	p.t.Helper()
	p.do("listening", chromedp.Evaluate[chromedp.Void](`
		window.__said = [];
		new MutationObserver(() => { const t = document.querySelector('[data-announcer]').textContent; if (t) window.__said.push(t); })
			.observe(document.querySelector('[data-announcer]'), { childList: true, subtree: true, characterData: true });`))
	return func() []string {
		p.t.Helper()
		text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`window.__said.join('\n')`))
		if err != nil {
			p.t.Fatal(err)
		}
		if text == "" {
			return nil
		}
		return strings.Split(text, "\n")
	}
}

// says waits until the last sentence that a screen reader was told has a text.
func (p *page) says(text string) {
	p.t.Helper()
	p.until("a screen reader is told "+text, `document.querySelector('[data-announcer]')?.textContent.includes(`+quoted(text)+`)`)
}

// focused gives the role and name of what has the focus, as the accessibility tree has it.
func (p *page) focused() string {
	p.t.Helper()
	tree, err := chromedp.Call(p.ctx, accessibility.GetFullAXTree, accessibility.GetFullAXTreeParams{})
	if err != nil {
		p.t.Fatal(err)
	}
	for _, n := range tree.Nodes {
		for _, property := range n.Properties {
			if property.Name == "focused" && string(property.Value.Value) == "true" && n.Role != nil && n.Name != nil {
				if role := strings.Trim(string(n.Role.Value), `"`); role != "RootWebArea" {
					return role + " " + strings.Trim(string(n.Name.Value), `"`)
				}
			}
		}
	}
	return ""
}

// TestWhatAScreenReaderIsTold follows an edit with the accessibility tree: pages have titles and give
// their heading the focus, nothing is added unasked, and what happened is said once, in one sentence.
func TestWhatAScreenReaderIsTold(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/labs-quiet")
	p.shows("Camera")
	p.until("the page has its title", `document.title.endsWith(' · Zenith Ridge') && document.title.length > 16`)
	p.link("Groups")
	p.until("the list of groups has its title", `document.title === 'Groups · Zenith Ridge'`)
	if got := p.focused(); got != "heading Groups" {
		t.Errorf("after going to the groups the focus is on %q", got)
	}
	p.goTo("/policies/labs-quiet")
	p.shows("Camera")
	said := p.said()
	before := `document.querySelectorAll('[id^="setting-"]').length`
	p.do(
		"Enter in the empty search",
		chromedp.Evaluate[chromedp.Void](`window.__before = `+before+`, document.querySelector('[aria-label="Add a setting"]').focus()`),
	)
	p.key(kb.Enter)
	p.pick("guest account", "Guest account")
	p.until("one setting was added", before+` === window.__before + 1`)
	p.until("it is said", `window.__said.some((s) => s === 'Added: Guest account')`)
	p.shows("laptops differ")
	p.until("what the change does is said", `window.__said.some((s) => /^With ‘.*’ values change on \d+ of \d+ laptops/.test(s))`)
	p.button("Remove Guest account")
	p.until("it is said that it was removed", `window.__said.includes('Removed: Guest account')`)
	if got := p.focused(); got != "combobox Add a setting" {
		t.Errorf("after removing, the focus is on %q", got)
	}
	sentences := said()
	if len(sentences) > 6 {
		t.Errorf("%d sentences were said about two edits: %q", len(sentences), sentences)
	}
	for _, s := range sentences {
		if len(strings.Fields(s)) < 2 {
			t.Errorf("a fragment is said: %q", s)
		}
	}
	p.button("Discard")
	p.until("the dialog is there", `!!document.querySelector('dialog[open]')`)
	if got := p.focused(); got != "button Cancel" {
		t.Errorf("a question begins on %q", got)
	}
}

// TestFaultsAreTiedToTheirFields types a value that is no good: the field says so itself.
func TestFaultsAreTiedToTheirFields(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/house-rules")
	p.shows("Lock the screen after minutes without use")
	field := `document.querySelector('#setting-screen\\.lock_after_minutes [data-control] input')`
	p.until("the field is in order", `!`+field+`.hasAttribute('aria-invalid')`)
	p.fill("Lock the screen after minutes", "99999")
	p.until("the field says that it is wrong, and why", field+`.getAttribute('aria-invalid') === 'true' &&
		document.getElementById(`+field+`.getAttribute('aria-describedby')).textContent.includes('1 to 1440')`)
	p.fill("Lock the screen after minutes", "10")
	p.until("the field is in order again", `!`+field+`.hasAttribute('aria-invalid')`)
}

// TestFindingThings opens the search for everything: whole ids come first, hits are counted, and what
// fits nothing is said to.
func TestFindingThings(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	for words, want := range map[string]string{
		"LT-0110": "device", "house-rules": "policy", "House rules": "policy", "slipway": "unit", "Slipway workshop": "unit", "on-call": "group",
		"audit": "page", "media.camera": "setting", "Camera": "setting",
	} {
		p.do("the search", chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
		p.key("/")
		p.fill("Find a page", words)
		p.until(words+" finds a "+want+" first", `(() => { const first = document.querySelector('#found li[role=option]');
			return first?.firstElementChild.textContent === '`+want+`' && /\d+ hits?/.test(document.querySelector('dialog[open]').textContent); })()`)
		p.key(kb.Escape)
		p.until("the search is closed", `!document.querySelector('dialog[open], dialog input')`)
	}
	p.key("/")
	p.fill("Find a page", "qqqqzzzz")
	p.shows("Nothing fits ‘qqqqzzzz’")
	p.key(kb.Escape)
	// Single keys can be turned off.
	p.goTo("/access")
	p.shows("opens Find")
	p.do(
		"turning it off",
		chromedp.Evaluate[chromedp.Void](
			`[...document.querySelectorAll('label')].find((l) => l.textContent.includes('opens Find')).click(), document.activeElement.blur()`,
		),
	)
	p.goTo("/groups")
	p.shows("Release pilots")
	p.key("/")
	p.until("nothing opens", `localStorage.getItem('single-keys') === 'off' && !document.querySelector('dialog[open]')`)
}
