package e2e

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// TestAccountsInTheConsole adds an account, gives it a role for a unit and disables it, defines a
// role, and changes a password.
func TestAccountsInTheConsole(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	p := newPage(t, r.address)
	p.signIn()
	p.link("Accounts")
	p.shows("(you)")
	p.button("Add an account …")
	p.fill("Name", "lena.brandt")
	p.fill("First password", "password1234")
	p.button("Add the account")
	p.shows("not so easily guessed")
	p.fill("First password", "a lantern in the fog")
	p.choose("Role", "author")
	p.button("Add the account")
	p.shows("lena.brandt")
	// At her first sign-in she chooses a password that only she knows, before anything else.
	q := newPage(t, r.address)
	q.goTo("/")
	q.fill("Name", "lena.brandt")
	q.fill("Password", "a lantern in the fog")
	q.button("Sign in")
	q.shows("somebody else chose your password")
	q.shot("first-password")
	q.fill("Present password", "a lantern in the fog")
	q.fill("New password", "a lantern of my own")
	q.button("Change the password")
	q.shows("Conflicts to decide")
	// Whoever typed the first password in keeps it.
	p.button("Add an account …")
	p.fill("Name", "tomas.rask")
	p.fill("First password", "a buoy that rings at night")
	p.ticked("The person typed it in, and keeps it")
	p.shot("new-account")
	p.button("Add the account")
	p.shows("tomas.rask")
	at := newPage(t, r.address)
	at.signInAs("tomas.rask", "a buoy that rings at night")
	at.shows("Conflicts to decide")
	p.link("lena.brandt")
	p.shows("Open changes and edit in them")
	p.button("Take away")
	p.shows("the account may do nothing")
	p.button("Give a role …")
	p.choose("Role", "author")
	p.choose("Where", "survey-fleet")
	p.types("Until", "03312027") // in the order of the browser's locale
	p.button("Give the role")
	p.shows("until 2027-03-31")
	p.until("the right is held for the unit", `[...document.querySelectorAll('main td')].some((c) => c.innerText === 'Survey fleet')`)
	p.shot("account")
	p.goTo("/roles")
	p.button("Define a role …")
	p.fill("Title", "Fleet writer")
	p.button("Save the role")
	p.shows("fleet-writer")
	p.shot("roles")
	p.goTo("/accounts")
	p.shows("author (survey-fleet)")
	p.shot("accounts")
	p.goTo("/units/survey-fleet")
	p.button("Access")
	p.until("an author of the unit does not write the unit itself",
		`document.querySelector('dialog caption')?.innerText === '1 account today'`)
	p.choose("Right", "read")
	p.until("who may read there is listed", `[...document.querySelectorAll('dialog th')].some((c) => c.innerText === 'lena.brandt')`)
	p.shot("who-may")
	p.goTo("/accounts")
	p.link("lena.brandt")
	p.button("Disable the account")
	p.shows("disabled")
	p.goTo("/access")
	p.shows("(this browser)")
	p.fill("Present password", "wrong")
	p.fill("New password", "another lantern in the fog")
	p.button("Change the password")
	p.shows("the password that the account has")
	p.fill("Present password", adminPassword)
	p.fill("New password", "another lantern in the fog")
	p.button("Change the password")
	p.shows("Your password is changed.")
	p.shot("access")
	p.goTo("/audit-log")
	p.shows("change password")
	p.button("Verify the log")
	p.shows("As it was written")
	p.fill("What", "alter account")
	p.until("the log is searched", `![...document.querySelectorAll('main td')].some((c) => c.innerText === 'change password')`)
	p.button("alter account")
	p.shows("lena.brandt: disabled")
	p.shot("audit-log")
	if refused, _ := call(t, api, "GET", "/accounts", ""); refused != nil {
		t.Errorf("the token of the account: %+v", refused)
	}
}

// TestAnObjectOfTheAuditLogAsItWas publishes a policy under two titles and opens it, from the record of
// the first one, as it was live then.
func TestAnObjectOfTheAuditLogAsItWas(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	live, err := client.Get[json.RawMessage](t.Context(), api, client.Path("estate", "policies", "house-rules"), nil)
	if err != nil {
		t.Fatal(err)
	}
	var object struct{ Body map[string]any }
	if err := json.Unmarshal(live, &object); err != nil {
		t.Fatal(err)
	}
	for _, title := range []string{"House rules, short", "House rules, longer"} {
		object.Body["title"] = title
		body, err := json.Marshal(object.Body)
		if err != nil {
			t.Fatal(err)
		}
		made, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: title})
		if err != nil {
			t.Fatal(err)
		}
		if p, _ := call(t, api, http.MethodPut, client.Path("changes", made.ID, "edits", "policies", "house-rules"), string(body)); p != nil {
			t.Fatal(p)
		}
		if p, _ := call(t, api, http.MethodPost, client.Path("changes", made.ID, "publish"), `{"at_once":true}`); p != nil {
			t.Fatal(p)
		}
	}
	p := newPage(t, r.address)
	p.signIn()
	p.goTo("/audit-log?object=policies/house-rules")
	p.shows("publish: create")
	p.do("opening the record of the first title", chromedp.Evaluate[chromedp.Void](
		`[...document.querySelectorAll('main td button')].filter((b) => b.innerText === 'publish: alter').at(-1).click()`))
	p.button("Show the policy as it was live at that moment")
	p.shows("As it was on")
	p.until("the first title is shown", `document.querySelector('h1')?.innerText.includes('House rules, short')`)
	p.shot("object-as-it-was")
	p.button("Back to now")
	p.until("the second title is shown", `document.querySelector('h1')?.innerText.includes('House rules, longer')`)
}
