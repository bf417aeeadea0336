package e2e

import (
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// TestANewCompanyBegins starts with nothing: the first administrator, with the one-time code, and a
// first policy, published before there is any laptop.
func TestANewCompanyBegins(t *testing.T) {
	t.Parallel()
	r := serve(t, filepath.Join(t.TempDir(), "zridge.db"))
	p := newPage(t, r.address)
	p.goTo("/")
	p.button("First start? Use the one-time code")
	p.fill("One-time code", r.code)
	p.fill("Name", adminName)
	p.fill("Password", adminPassword)
	p.button("Make the first administrator")
	p.shows("0 laptops, 0 people, 0 policies in 1 unit")
	for path, says := range map[string]string{
		"/devices": "The estate has no laptops yet", "/policies": "No policies yet", "/groups": "No groups yet", "/people": "Nobody is known yet",
		"/sources": "No sources yet", "/conflicts": "No two policies disagree", "/changes": "Editing a policy opens one by itself",
		"/units/matrix": "Company", "/units/company": "Company", "/compare": "Compare", "/roles": "Service desk", "/audit-log": "set up",
	} {
		p.goTo(path)
		p.shows(says)
	}
	p.goTo("/policies/new")
	p.fill("Name", "House rules")
	p.button("Begin")
	p.shows("nobody, unless you say who")
	p.fill("Add a setting", "webcam")
	p.shows("Camera")
	p.key(kb.Enter)
	p.shows("Saved in the open change")
	p.shot("begin-policy")
	p.goTo("/changes")
	p.link("House rules")
	p.shows("house-rules")
	p.button("Publish …")
	p.button("Publish (values")
	p.shows("live as revision 1")
	p.shot("begin-published")
}
