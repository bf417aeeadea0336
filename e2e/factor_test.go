package e2e

import (
	"database/sql"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
)

// TestASecondFactorInTheConsole turns one-time codes on, signs in with a recovery code, and turns
// them off.
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

// TestThePasswordIsAskedForAgain does what matters some time after signing in: the page asks who
// sits there, and then does it.
func TestThePasswordIsAskedForAgain(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/roles")
	p.button("Define a role …")
	p.fill("Title", "Harbour reader")
	db, err := sql.Open("sqlite3", "file:"+r.database+"?_busy_timeout=30000")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`UPDATE sessions SET confirmed_at = ?`, time.Now().Add(-time.Hour).UTC()); err != nil {
		t.Fatal(err)
	}
	p.button("Save the role")
	p.shows("Is it you?")
	p.shot("confirm")
	p.fill("Password", "a wrong password")
	p.button("Go on")
	p.shows("the password that the account has")
	p.fill("Password", adminPassword)
	p.button("Go on")
	p.shows("harbour-reader")
}
