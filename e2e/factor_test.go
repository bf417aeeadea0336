package e2e

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
)

// TestASecondFactorInTheConsole turns one-time codes on, signs in with a recovery code, and turns them off.
func TestASecondFactorInTheConsole(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/access")
	p.button("Set up one-time codes …")
	p.shows("type this secret into it")
	secret, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('main p.id').innerText.replaceAll(' ', '')`))
	if err != nil {
		t.Fatal(err)
	}
	code, err := totp.GenerateCode(secret, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	p.fill("First code", code)
	p.button("Turn on")
	p.shows("They are not shown again")
	recovery, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector('main ul.id li').innerText`))
	if err != nil {
		t.Fatal(err)
	}
	p.button("Sign out")
	p.shows("Password")
	p.fill("Name", adminName)
	p.fill("Password", adminPassword)
	p.button("Sign in")
	p.shows("Six digits that your app shows")
	p.shot("sign-in-code")
	p.fill("Code", "not a code")
	p.button("Sign in")
	p.shows("not right")
	p.fill("Code", recovery)
	p.button("Sign in")
	p.shows("Conflicts to decide")
	p.goTo("/access")
	p.shows("9 recovery codes left")
	p.button("Turn off")
	p.shows("Set up one-time codes")
}
