package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// TestPasskeysInTheConsole makes a passkey with a device that Chromium simulates, signs in with it,
// and signs in no more once it is removed.
func TestPasskeysInTheConsole(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, strings.Replace(r.address, "127.0.0.1", "localhost", 1)) // browsers have no passkeys for IP addresses
	if _, err := chromedp.Call(p.ctx, webauthn.Enable, webauthn.EnableParams{}); err != nil {
		t.Fatal(err)
	}
	device, err := chromedp.Call(p.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasResidentKey: true, HasUserVerification: true, AutomaticPresenceSimulation: true, IsUserVerified: true,
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	p.signIn()
	p.goTo("/access")
	p.button("Add a passkey …")
	p.fill("Which device", "work laptop")
	p.button("Make the passkey")
	p.shows("work laptop")
	p.shows("not used yet")
	p.shot("access")
	again := func() {
		p.button("Sign out")
		p.shows("Password")
		p.button("Sign in with a passkey")
	}
	again()
	p.shows("Conflicts to decide")
	p.goTo("/access")
	p.shows("used just now")
	// A device that does not ask its owner vouches for nobody.
	if _, err := chromedp.Call(p.ctx, webauthn.SetUserVerified,
		webauthn.SetUserVerifiedParams{AuthenticatorID: device.AuthenticatorID}); err != nil {
		t.Fatal(err)
	}
	again()
	p.shows("No passkey was given")
	if _, err := chromedp.Call(p.ctx, webauthn.SetUserVerified, webauthn.SetUserVerifiedParams{
		AuthenticatorID: device.AuthenticatorID, IsUserVerified: true,
	}); err != nil {
		t.Fatal(err)
	}
	p.button("Sign in with a passkey")
	p.shows("Conflicts to decide")
	p.goTo("/access")
	p.button("Remove")
	p.until("the passkey is removed", `!document.querySelector('main').innerText.includes('work laptop')`)
	again()
	p.shows("not right")
}
