// This file tests how the console ends a session and begins the next one.

package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// TestTheEndOfASession leaves a page alone until it says that its session ends, and stays signed in.
// Then the session is gone while somebody types: they sign in where they are, and nothing is lost.
func TestTheEndOfASession(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t, "--session-idle", "30s")
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/policies/house-rules")
	p.shows("Your session ends in")
	p.says("Your session ends in")
	p.shot("session-ends")
	p.button("Stay signed in")
	p.says("You stay signed in.")
	p.until("the warning is gone", `!document.body.innerText.includes('Your session ends in')`)

	if _, err := chromedp.Call(p.ctx, network.ClearBrowserCookies, cdp.Empty{}); err != nil {
		t.Fatal(err)
	}
	p.fill("Lock the screen after minutes without use", "23")
	p.shows("Your session has ended")
	p.shot("session-ended")
	p.fill("Password of "+adminName, "not the password")
	p.button("Sign in")
	p.until("the password is refused", `!!document.querySelector('dialog[open] [role=alert]')`)
	p.fill("Password of "+adminName, adminPassword)
	p.button("Sign in")
	p.says("You are signed in again. What you typed is kept.")
	p.shows("Saved in the open change")
	if edits := r.must("change", "list", "--format", "json"); !strings.Contains(edits, "open") {
		t.Errorf("what was typed is in no change: %s", edits)
	}
}
