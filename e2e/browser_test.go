// This file drives headless Chromium.

package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

var browser struct {
	once  sync.Once
	ctx   context.Context
	close []func()
	err   error
}

// openBrowser starts one browser for the whole run.
func openBrowser() {
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.NoFirstRun,
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-prefers-reduced-motion", true),
	)
	// The same engine without the program around it takes less of the processor.
	if shell, err := exec.LookPath("chromium-headless-shell"); err == nil {
		options = append(options, chromedp.ExecPath(shell))
	}
	allocator, closeAllocator := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, closeContext := chromedp.NewContext(allocator)
	browser.ctx, browser.close = ctx, []func(){closeContext, closeAllocator}
	browser.err = chromedp.Do(ctx)
}

func closeBrowser() {
	for _, f := range browser.close {
		f()
	}
}

// page is one tab. Whatever it logs as an error fails the test.
type page struct {
	t    testing.TB
	ctx  context.Context
	base string

	mu     sync.Mutex
	errors []string
}

// newPage opens a tab, with no cookies of others, at 1280 by 800.
func newPage(t testing.TB, base string) *page {
	t.Helper()
	browser.once.Do(openBrowser)
	if browser.err != nil {
		t.Fatalf("Chromium does not start (apt-get install chromium): %v", browser.err)
	}
	ctx, stop := chromedp.NewContext(browser.ctx, chromedp.WithNewBrowserContext())
	t.Cleanup(stop)
	p := &page{t: t, ctx: ctx, base: base}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	// Each tab has the focus, as if nobody worked in the others.
	if _, err := chromedp.Call(ctx, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true}); err != nil {
		t.Fatal(err)
	}
	err := chromedp.Listen(ctx, func(ev any) {
		p.mu.Lock()
		defer p.mu.Unlock()
		switch e := ev.(type) {
		case *runtime.EventExceptionThrown:
			p.errors = append(p.errors, "exception: "+e.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			if e.Type == "error" || e.Type == "warning" {
				text, _ := json.Marshal(e.Args)
				p.errors = append(p.errors, fmt.Sprintf("console %s: %s", e.Type, text))
			}
		case *log.EventEntryAdded:
			// The browser logs each refusal of the service. These are answers that pages are made
			// for: not signed in, overtaken, stale, a file that is refused, an edit with faults, a
			// password that is refused.
			if e.Entry.Level == "error" && !strings.Contains(e.Entry.Text, "401") && !strings.Contains(e.Entry.Text, "409") &&
				!strings.Contains(e.Entry.Text, "412") &&
				!(strings.Contains(e.Entry.Text, "403") && strings.Contains(e.Entry.URL, "/api/v1/roles/")) && // the password is asked for again
				!(strings.Contains(e.Entry.Text, "422") && slices.ContainsFunc(
					[]string{"/api/v1/files", "/edits/", "/api/v1/accounts", "/api/v1/password", "/api/v1/session"},
					func(part string) bool { return strings.Contains(e.Entry.URL, part) },
				)) {
				p.errors = append(p.errors, "log: "+e.Entry.Text+" "+e.Entry.URL)
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, e := range p.errors {
			t.Errorf("the page logged: %s", e)
		}
	})
	return p
}

func (p *page) do(what string, actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		p.shot("failure")
		p.t.Fatalf("%s: %v\nthe page shows: %.1500s", what, err, p.text())
	}
}

// inEveryDocument runs a script in every document that is opened from now on, before the document's
// own.
func (p *page) inEveryDocument(script string) {
	p.t.Helper()
	if _, err := chromedp.Call(
		p.ctx,
		cdppage.AddScriptToEvaluateOnNewDocument,
		cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: script},
	); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) goTo(path string) {
	p.t.Helper()
	p.do("going to "+path, chromedp.Navigate(p.base+path))
}

func (p *page) text() string {
	text, err := chromedp.Run(
		p.ctx,
		chromedp.Evaluate[string](
			`([...document.querySelectorAll('dialog[open]')].at(-1) ?? document.querySelector('main') ?? document.body)?.innerText ?? ''`,
		),
	)
	if err != nil {
		return err.Error()
	}
	return text
}

// until waits until an expression of the page is true.
func (p *page) until(what, expression string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	poll := chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience))
	_, err := chromedp.Run(ctx, poll)
	for moved(err) && ctx.Err() == nil {
		_, err = chromedp.Run(ctx, poll)
	}
	if err != nil {
		p.shot("failure")
		p.t.Fatalf("waited in vain until %s: %v\nthe page shows: %.1500s", what, err, p.text())
	}
}

// moved tells whether the page went elsewhere while it was asked.
func moved(err error) bool {
	return err != nil && (strings.Contains(err.Error(), "navigated") || strings.Contains(err.Error(), "context with specified id"))
}

func quoted(text string) string {
	data, _ := json.Marshal(text)
	return string(data)
}

// shows waits until a text in effect on the page.
func (p *page) shows(text string) {
	p.t.Helper()
	p.until("the page shows "+text, `!!document.body?.innerText.includes(`+quoted(text)+`)`)
}

// mark finds the element of a role's selector whose name (label, text, placeholder) holds a text,
// once it is there and enabled, and marks it.
func (p *page) mark(selector, name string) chromedp.CSS {
	p.t.Helper()
	p.until(fmt.Sprintf("there is a %s named %q", selector, name), `(() => {
		const name = (e) => [e.getAttribute('aria-label'), e.labels && [...e.labels].map((l) => l.innerText).join(' '), e.placeholder, e.innerText].filter(Boolean).join(' | ');
		document.querySelectorAll('[data-marked]').forEach((e) => e.removeAttribute('data-marked'));
		const open = [...document.querySelectorAll('dialog[open]')].at(-1);
		const fits = [...(open ?? document).querySelectorAll(`+quoted(selector)+`)].filter((e) => name(e).includes(`+quoted(name)+`) && !e.disabled && e.getClientRects().length && !e.closest('.modal-backdrop')); // which lies behind the dialog
		const found = fits.find((e) => e.getAttribute('aria-label') === `+quoted(name)+`) ?? fits.find((e) => (e.getAttribute('aria-label') ?? '').startsWith(`+quoted(name)+`)) ?? fits[0];
		if (!found) return false;
		found.setAttribute('data-marked', '');
		found.scrollIntoView({ block: 'center' });
		found.focus();
		found.select?.();
		return true;
	})()`)
	return "[data-marked]"
}

// missed is true in the page from when an element is about to be clicked until the mouse is down on it. In a document
// that the click led to, it is nothing.
const missed = `window.aboutToBeClicked === true`

// click clicks with the mouse. An element that the page has just made anew, or that it moved away
// under the mouse, is looked for again.
func (p *page) click(selector, name string) {
	p.t.Helper()
	for try := 1; ; try++ {
		marked := p.mark(selector, name)
		ctx, cancel := context.WithTimeout(p.ctx, patience/3)
		err := chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`(() => {
			window.aboutToBeClicked = true;
			document.querySelector('[data-marked]')?.addEventListener('mousedown', () => { window.aboutToBeClicked = false }, { once: true, capture: true });
		})()`), chromedp.Click(marked))
		if err == nil {
			var still bool
			if still, err = chromedp.Run(ctx, chromedp.Evaluate[bool](missed)); err == nil && still {
				err = errors.New("the click went elsewhere")
			} else if moved(err) {
				err = nil // it led to another document
			}
		}
		cancel()
		if err == nil {
			return
		}
		if try == 3 {
			p.shot("failure")
			p.t.Fatalf("clicking %s: %v\nthe page shows: %.1500s", name, err, p.text())
		}
	}
}

func (p *page) button(name string) { p.t.Helper(); p.click("button", name) }
func (p *page) link(name string)   { p.t.Helper(); p.click("a", name) }

// fill puts a text into a field by its label, in one step, over what is there.
func (p *page) fill(label, text string) {
	p.t.Helper()
	p.mark("input, textarea", label)
	if _, err := chromedp.Call(p.ctx, input.InsertText, input.InsertTextParams{Text: text}); err != nil {
		p.t.Fatalf("filling in %s: %v", label, err)
	}
}

// types types into a field by its label, key by key, over what is there.
func (p *page) types(label, text string) {
	p.t.Helper()
	p.mark("input, textarea", label)
	p.do("typing into "+label, chromedp.KeyEvent(text))
}

// typesWithoutPause types character by character within one task of the page. However busy the
// machine is, no two characters are a pause apart, as they can be when the browser is sent each key.
func (p *page) typesWithoutPause(label, text string) {
	p.t.Helper()
	p.mark("input, textarea", label)
	p.do("typing into "+label, chromedp.Evaluate[chromedp.Void](
		`for (const character of `+quoted(text)+`) document.execCommand('insertText', false, character)`))
}

// choose picks an option of a select by its label.
func (p *page) choose(label, value string) {
	p.t.Helper()
	p.mark("select", label)
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`(() => {
		const e = document.querySelector('[data-marked]');
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, `+quoted(value)+`);
		e.dispatchEvent(new Event('change', { bubbles: true }));
		return true;
	})()`)); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) key(keys string) {
	p.t.Helper()
	p.do("pressing a key", chromedp.KeyEvent(keys))
}

// shot writes a picture when pictures are wanted.
func (p *page) shot(name string) {
	p.t.Helper()
	if *pictures == "" {
		return
	}
	data, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(*pictures, name+".png"), data, 0o644)
	}
	if err != nil {
		p.t.Errorf("picture %s: %v", name, err)
	}
}

// theme switches the theme.
func (p *page) theme(name string) {
	p.t.Helper()
	p.do("switching the theme", chromedp.Evaluate[chromedp.Void](`document.documentElement.dataset.theme = `+quoted(name)))
}

// signIn signs the first administrator in.
func (p *page) signIn() {
	p.t.Helper()
	p.goTo("/")
	p.fill("Name", adminName)
	p.fill("Password", adminPassword)
	p.button("Sign in")
	p.shows("On the laptops")
}
