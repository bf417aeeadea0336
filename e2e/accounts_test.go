package e2e

import "testing"

// TestAccountsInTheConsole adds an account, gives it another role and disables it, and changes a password.
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
	p.shows("Write changes")
	p.choose("Role of lena.brandt", "auditor")
	p.until(
		"the role is altered",
		`!!document.querySelector('select[aria-label="Role of lena.brandt"]') && document.querySelector('select[aria-label="Role of lena.brandt"]').value === 'auditor' && !document.querySelector('select[aria-label="Role of lena.brandt"]').disabled`,
	)
	p.shot("accounts")
	p.button("Disable")
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
	p.fill("What", "alter account")
	p.until("the log is searched", `![...document.querySelectorAll('main td')].some((c) => c.innerText === 'change password')`)
	p.button("alter account")
	p.shows("lena.brandt: disabled")
	p.shot("audit-log")
	if refused, _ := call(t, api, "GET", "/accounts", ""); refused != nil {
		t.Errorf("the token of the account: %+v", refused)
	}
}
