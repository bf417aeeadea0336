package service_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
)

const fleetEstate = `{
 "units":[{"id":"larkfell","title":"Larkfell"},{"id":"fleet","title":"Survey fleet","parent":"larkfell"},{"id":"north","parent":"fleet"},
  {"id":"slipway","parent":"larkfell"}],
 "people":[{"id":"lena","unit":"fleet"},{"id":"anders","unit":"north"},{"id":"ruth","unit":"slipway"}],
 "groups":[{"id":"leads","of":"people","members":["lena"]},{"id":"everywhere","of":"people","members":["ruth","lena"]}],
 "devices":[{"id":"LT-1","os":"linux","os_version":"12","owner":"lena"},{"id":"LT-2","os":"linux","os_version":"12","owner":"anders"},
  {"id":"LT-3","os":"linux","os_version":"12","owner":"ruth"}],
 "policies":[{"id":"house","kind":"security","settings":{"media.camera":false},"audience":{"include":["everyone"],"exclude":["group:everywhere"]}},
  {"id":"fleet-desk","kind":"security","within":"fleet","settings":{"screen.lock_after_minutes":7},"audience":{"include":["group:leads"]}}]}`

// scoped is a service with the estate of a fleet, and a way to sign in as somebody with some
// grants.
func scoped(t *testing.T) (api *client.Client, as func(name string, grants ...wire.NewGrant) *client.Client) {
	t.Helper()
	api = bare(t)
	publishEstate(t, api, fleetEstate)
	return api, func(name string, grants ...wire.NewGrant) *client.Client {
		t.Helper()
		return granted(t, api, name, grants...)
	}
}

// granted adds an account with some grants, and signs in as it.
func granted(t *testing.T, api *client.Client, name string, grants ...wire.NewGrant) *client.Client {
	t.Helper()
	account := wire.NewAccount{Chosen: true, Name: name, Password: "a long enough password"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	for _, g := range grants {
		g.Account = name
		posted[wire.Grant](t, api, "/grants", g)
	}
	token, err := (&client.Client{Base: api.Base, HTTP: api.HTTP}).SignIn(t.Context(), name, account.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	return &client.Client{Base: api.Base, HTTP: api.HTTP, Token: token.Secret}
}

// codeOf gives the code of a refusal; empty without one.
func codeOf(err error) string {
	var p *wire.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

// An author of one unit writes what concerns the unit alone, whatever the kind of object.
func TestAnAuthorOfOneUnit(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	lena := as("lena", wire.NewGrant{Role: "author", Unit: "fleet"})
	change, err := client.Post[wire.Change](t.Context(), lena, "/changes", wire.NewChange{Title: "For the fleet"})
	if err != nil {
		t.Fatal(err)
	}
	put := func(kind, id, body string) error {
		_, err := lena.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", kind, id), nil, json.RawMessage(body), nil)
		return err
	}
	inside := map[string][3]string{
		"a policy gets the bound": {"policies", "p1",
			`{"id":"p1","kind":"security","settings":{"media.camera":true},"audience":{"include":["everyone"]}}`},
		"a policy that names the unit":     {"policies", "p2", `{"id":"p2","kind":"security","within":"fleet","settings":{},"audience":{}}`},
		"a policy that names a unit below": {"policies", "p3", `{"id":"p3","kind":"security","within":"north","settings":{},"audience":{}}`},
		"a new unit below":                 {"units", "south", `{"id":"south","parent":"fleet"}`},
		"a person":                         {"people", "anders", `{"id":"anders","unit":"fleet"}`},
		"a laptop by its owner":            {"devices", "LT-2", `{"id":"LT-2","os":"linux","os_version":"13","owner":"anders"}`},
		"a group of its own":               {"groups", "new", `{"id":"new","of":"people","members":["anders"]}`},
		"a group of its policies":          {"groups", "leads", `{"id":"leads","of":"people","members":["lena","anders"]}`},
		"a ruling between its policies":    {"rulings", "", ""},
	}
	delete(inside, "a ruling between its policies") // there is no conflict in this estate to rule on
	for name, c := range inside {
		if err := put(c[0], c[1], c[2]); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, c := range map[string][3]string{
		"a policy for another unit":      {"policies", "p9", `{"id":"p9","kind":"security","within":"slipway","settings":{},"audience":{}}`},
		"a policy for the whole company": {"policies", "p9", `{"id":"p9","kind":"security","within":"larkfell","settings":{},"audience":{}}`},
		"a policy of others":             {"policies", "house", `{"id":"house","kind":"security","settings":{},"audience":{}}`},
		"a policy of others, bounded":    {"policies", "house", `{"id":"house","kind":"security","within":"fleet","settings":{},"audience":{}}`},
		"the bound is widened": {"policies", "fleet-desk",
			`{"id":"fleet-desk","kind":"security","within":"larkfell","settings":{},"audience":{}}`},
		"the unit itself": {"units", "fleet", `{"id":"fleet","title":"Ours","parent":"larkfell"}`},
		"a unit that detaches": {"units", "north",
			`{"id":"north","parent":"fleet","detach":[{"what":"security","reason":"own rules"}]}`},
		"a unit moved elsewhere":   {"units", "north", `{"id":"north","parent":"slipway"}`},
		"another unit":             {"units", "slipway", `{"id":"slipway","parent":"fleet"}`},
		"a person of another unit": {"people", "ruth", `{"id":"ruth","unit":"fleet"}`},
		"a person moved away":      {"people", "lena", `{"id":"lena","unit":"slipway"}`},
		"a laptop of another unit": {"devices", "LT-3", `{"id":"LT-3","os":"linux","os_version":"13","owner":"ruth"}`},
		"a laptop given away":      {"devices", "LT-1", `{"id":"LT-1","os":"linux","os_version":"12","owner":"ruth"}`},
		"a group that others use":  {"groups", "everywhere", `{"id":"everywhere","of":"people","members":["lena"]}`},
		"a definition": {"settings", "own.thing",
			`{"id":"own.thing","title":"Thing","kind":"configuration","type":"boolean","combine":"closest","path":"./own/thing"}`},
	} {
		if err := put(c[0], c[1], c[2]); codeOf(err) != "outside-scope" && !(c[0] == "settings" && codeOf(err) == "faults") {
			t.Errorf("%s: %v, expected that it is outside", name, err)
		}
	}
	bounded := get[struct {
		Edits []struct {
			ID   string `json:"id"`
			Body struct {
				Within string `json:"within"`
			} `json:"body"`
		} `json:"edits"`
	}](t, lena, "/changes/"+change.ID)
	at := slices.IndexFunc(bounded.Edits, func(e struct {
		ID   string `json:"id"`
		Body struct {
			Within string `json:"within"`
		} `json:"body"`
	}) bool {
		return e.ID == "p1"
	})
	if at < 0 || bounded.Edits[at].Body.Within != "fleet" {
		t.Errorf("the policy without a bound is %+v", bounded.Edits)
	}
	// Whoever may write everywhere may put something else into the change: then it is no longer the
	// author's to alter.
	if _, err := api.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "house"), nil,
		json.RawMessage(`{"id":"house","kind":"security","settings":{},"audience":{"include":["everyone"]}}`), nil); err != nil {
		t.Fatal(err)
	}
	if err := put("policies", "p4", `{"id":"p4","kind":"security","settings":{},"audience":{}}`); codeOf(err) != "outside-scope" {
		t.Errorf("a change with edits of others: %v", err)
	}
}

// Publishing asks for the right of each object in the change.
func TestPublishingForOneUnit(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	lena := as("lena", wire.NewGrant{Role: "publisher", Unit: "fleet"})
	publish := func(by *client.Client, body string) error {
		change, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: "One policy"})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := api.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "p"), nil,
			json.RawMessage(body), nil); err != nil {
			t.Fatal(err)
		}
		_, err = by.Call(t.Context(), http.MethodPost, client.Path("changes", change.ID, "publish"), nil, nil, nil, "If-Match", "*")
		return err
	}
	if err := publish(lena, `{"id":"p","kind":"security","settings":{},"audience":{}}`); codeOf(err) != "outside-scope" {
		t.Errorf("a policy without a bound: %v", err)
	}
	if err := publish(lena, `{"id":"p","kind":"security","within":"fleet","settings":{},"audience":{}}`); err != nil {
		t.Errorf("a policy of the unit: %v", err)
	}
}

// Grants count on their days, come through groups, and are explained for every account and object.
func TestGrantsAreExplained(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	lena := as("lena",
		wire.NewGrant{Role: "reader"}, wire.NewGrant{Role: "author", Unit: "fleet"},
		wire.NewGrant{Role: "publisher", From: "2027-01-01"}, wire.NewGrant{Role: "auditor", From: "2026-11-23", Until: "2026-11-23"})
	if _, err := client.Post[wire.Grant](t.Context(), api, "/grants", wire.NewGrant{Group: "leads", Role: "service-desk",
		Unit: "north"}); err != nil {
		t.Fatal(err)
	}
	rights := get[wire.AccountRights](t, api, "/accounts/lena/rights")
	got := map[access.Right]wire.HeldRight{}
	for _, r := range rights.Rights {
		got[r.Right] = r
	}
	switch {
	case !got[access.Read].Everywhere || len(got[access.Read].Through) != 4:
		t.Errorf("read: %+v", got[access.Read])
	case got[access.Write].Everywhere || !slices.Equal(got[access.Write].Units, []string{"fleet"}):
		t.Errorf("write: %+v", got[access.Write])
	case !slices.Equal(got[access.RecoveryKeys].Units, []string{"north"}):
		t.Errorf("keys, by a group: %+v", got[access.RecoveryKeys])
	case !got[access.Audit].Everywhere:
		t.Errorf("audit, for the day: %+v", got[access.Audit])
	}
	if _, early := got[access.Publish]; early {
		t.Error("a grant counts before its first day")
	}
	who := get[wire.Who](t, lena, "/session")
	if !slices.Contains(who.Rights, "write") || !strings.Contains(who.Role, "author (fleet)") || len(who.Grants) != 4 {
		t.Errorf("lena is %+v", who)
	}
	may := func(right, kind, id string) (names []string) {
		for _, p := range get[[]wire.Permitted](t, api, "/access?right="+right+"&kind="+kind+"&id="+id) {
			names = append(names, p.Account)
		}
		return names
	}
	for what, want := range map[[3]string][]string{
		{"write", "policies", "fleet-desk"}: {"ines", "lena"},
		{"write", "policies", "house"}:      {"ines"},
		{"devices", "devices", "LT-2"}:      {"ines", "lena"},
		{"devices", "devices", "LT-1"}:      {"ines"},
		{"read", "policies", "house"}:       {"ines", "lena"},
	} {
		if names := may(what[0], what[1], what[2]); !slices.Equal(names, want) {
			t.Errorf("%v: %v may, expected %v", what, names, want)
		}
	}
	if _, err := client.Get[[]wire.Permitted](t.Context(), api, "/access?right=read&kind=policies&id=none",
		nil); statusOf(err) != http.StatusNotFound {
		t.Errorf("an object that is not there: %v", err)
	}
}

// What cannot be granted is refused, and nobody widens their own rights.
func TestWhatIsNotGranted(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	lena := as("lena", wire.NewGrant{Role: "operator", Unit: "fleet"})
	_ = as("anders")
	for name, c := range map[string]struct {
		by     *client.Client
		grant  wire.NewGrant
		status int
	}{
		"to oneself":                   {api, wire.NewGrant{Account: "ines", Role: "service-desk"}, 403},
		"to nobody":                    {api, wire.NewGrant{Role: "reader"}, 422},
		"to two":                       {api, wire.NewGrant{Account: "anders", Group: "leads", Role: "reader"}, 422},
		"no such account":              {api, wire.NewGrant{Account: "nobody", Role: "reader"}, 422},
		"no such group":                {api, wire.NewGrant{Group: "nobody", Role: "reader"}, 422},
		"no such role":                 {api, wire.NewGrant{Account: "anders", Role: "owner"}, 422},
		"no such unit":                 {api, wire.NewGrant{Account: "anders", Role: "reader", Unit: "moon"}, 422},
		"no day":                       {api, wire.NewGrant{Account: "anders", Role: "reader", From: "soon"}, 422},
		"over before it begins":        {api, wire.NewGrant{Account: "anders", Role: "reader", From: "2027-02-01", Until: "2027-01-01"}, 422},
		"over already":                 {api, wire.NewGrant{Account: "anders", Role: "reader", Until: "2020-01-01"}, 422},
		"everywhere, by one of a unit": {lena, wire.NewGrant{Account: "anders", Role: "reader"}, 403},
		"another unit":                 {lena, wire.NewGrant{Account: "anders", Role: "reader", Unit: "slipway"}, 403},
		"a role that gives more":       {lena, wire.NewGrant{Account: "anders", Role: "administrator", Unit: "fleet"}, 422},
		"to one's own group":           {lena, wire.NewGrant{Group: "leads", Role: "reader", Unit: "fleet"}, 403},
		"what may be given":            {lena, wire.NewGrant{Account: "anders", Role: "author", Unit: "fleet"}, 201},
	} {
		status := http.StatusCreated
		if _, err := client.Post[wire.Grant](t.Context(), c.by, "/grants", c.grant); err != nil {
			status = statusOf(err)
		}
		if status != c.status {
			t.Errorf("%s: %d, expected %d", name, status, c.status)
		}
	}
	role := func(by *client.Client, id, title string, rights ...access.Right) int {
		_, err := by.Call(t.Context(), http.MethodPut, client.Path("roles", id), nil, wire.NewRole{Title: title, Rights: rights}, nil)
		if err == nil {
			return http.StatusNoContent
		}
		return statusOf(err)
	}
	for name, c := range map[string][2]int{
		"a role":                    {role(api, "fleet-writer", "Writes", access.Read, access.Write), 204},
		"altered":                   {role(api, "fleet-writer", "Writes for the fleet", access.Read, access.Write), 204},
		"a right that one lacks":    {role(api, "keys", "Keys", access.RecoveryKeys), 422},
		"no rights":                 {role(api, "none", "None"), 422},
		"an unknown right":          {role(api, "odd", "Odd", "everything"), 422},
		"a shipped one":             {role(api, "reader", "Reader", access.Read), 422},
		"a bad id":                  {role(api, "Fleet", "Fleet", access.Read), 422},
		"by one who manages a unit": {role(lena, "mine", "Mine", access.Read), 422},
	} {
		if c[0] != c[1] {
			t.Errorf("%s: %d, expected %d", name, c[0], c[1])
		}
	}
	given, err := client.Post[wire.Grant](t.Context(), api, "/grants", wire.NewGrant{Account: "anders", Role: "fleet-writer", Unit: "north"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := api.Call(t.Context(), http.MethodDelete, "/roles/fleet-writer", nil, nil, nil); codeOf(err) != "in-use" {
		t.Errorf("a role that somebody has is removed: %v", err)
	}
	for _, path := range []string{client.Path("grants", given.ID), "/roles/fleet-writer"} {
		if _, err := api.Call(t.Context(), http.MethodDelete, path, nil, nil, nil); err != nil {
			t.Errorf("%s: %v", path, err)
		}
		if _, err := api.Call(t.Context(), http.MethodDelete, path, nil, nil, nil); statusOf(err) != http.StatusNotFound {
			t.Errorf("%s a second time: %v", path, err)
		}
	}
}
