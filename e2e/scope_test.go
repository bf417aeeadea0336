package e2e

import (
	"context"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// TestAnAuthorOfOneUnitInTheConsole writes a policy for the fleet as somebody who may write for the
// fleet alone, and then tries one of others.
func TestAnAuthorOfOneUnitInTheConsole(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	ctx := context.Background()
	account := wire.NewAccount{Chosen: true, Name: "lena.brandt", Password: "a lantern in the fog"}
	if _, err := api.Call(ctx, http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Post[wire.Grant](ctx, api, "/grants", wire.NewGrant{Account: account.Name, Role: "author",
		Unit: "survey-fleet"}); err != nil {
		t.Fatal(err)
	}
	p := newPage(t, r.address)
	p.goTo("/")
	p.fill("Name", account.Name)
	p.fill("Password", account.Password)
	p.button("Sign in")
	p.shows("Conflicts to decide")
	p.shows("author (survey-fleet)")
	p.goTo("/policies/house-rules")
	p.shows("House rules")
	p.shows("You write for Survey fleet alone")
	p.shot("scope-others")
	p.goTo("/policies/new")
	p.fill("Name", "Cameras at sea")
	p.fill("Why", "The cameras ice over")
	p.button("Begin")
	p.shows("nobody, unless you say who")
	p.fill("Add a setting", "webcam")
	p.shows("Camera")
	p.key(kb.Enter)
	p.shows("Survey fleet") // the bound, which the service gave
	p.shot("scope-own")
	p.goTo("/access")
	p.shows("author in survey-fleet")
	p.shot("scope-access")
}
