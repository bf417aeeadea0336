// This file is conversations over SCIM: the examples of RFC 7644, lists, and what must be refused.

package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// bjensen is the user of RFC 7644, section 3.3, with the extension of RFC 7643, section 8.3.
const bjensen = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],"userName":"bjensen","externalId":"bjensen",
 "name":{"formatted":"Ms. Barbara J Jensen III","familyName":"Jensen","givenName":"Barbara"},"title":"Pilot","active":true,"password":"t1meMa$heen",
 "emails":[{"value":"bjensen@larkfell.example","type":"work","primary":true},{"value":"babs@home.example","type":"home"}],
 "addresses":[{"type":"work","streetAddress":"1 Slip Way","locality":"Larkfell","country":"GB"}],"phoneNumbers":[{"value":"555-1","type":"work"},{"value":"555-2","type":"mobile"}],
 "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"701984","department":"Hydrography","manager":{"value":"26118915","displayName":"not kept"}}}`

// TestTheConversationOfTheRFC creates, reads, replaces, patches, lists and deletes as the RFC's
// examples do.
func TestTheConversationOfTheRFC(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	made := p.must(http.StatusCreated, "POST", "/Users", bjensen)
	id := made.id()
	at := "/Users/" + id
	if location := p.base + "/scim/v2" + at; made.header.Get("Location") != location || made.at("meta", "location") != location ||
		made.at("meta", "resourceType") != "User" ||
		made.at("meta", "version") != `W/"1"` ||
		made.header.Get("ETag") != `W/"1"` {
		t.Errorf("made: %v %v", made.header, made.at("meta"))
	}
	if made.at("password") != nil || made.at("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User", "manager", "displayName") != nil {
		t.Error("a password, or what is read-only, was kept")
	}
	if again := p.call(
		"POST",
		"/Users",
		strings.Replace(bjensen, `"bjensen","externalId"`, `"BJensen","externalId"`, 1),
	); again.status != http.StatusConflict || again.at("scimType") != "uniqueness" ||
		again.at("status") != "409" {
		t.Errorf("the name a second time: %d %v", again.status, again.body)
	}
	read := p.must(http.StatusOK, "GET", at, "")
	if read.at("userName") != "bjensen" || read.at("emails", 1, "value") != "babs@home.example" {
		t.Errorf("read: %v", read.body)
	}
	if same := p.call("GET", at, "", "If-None-Match", `W/"1"`); same.status != http.StatusNotModified || same.body != nil {
		t.Errorf("not modified: %d %v", same.status, same.body)
	}
	if narrow := p.must(
		http.StatusOK,
		"GET",
		at+"?attributes=userName,name.familyName",
		"",
	); len(narrow.body) != 4 || narrow.at("name", "familyName") != "Jensen" || narrow.at("name", "givenName") != nil ||
		narrow.id() != id {
		t.Errorf("narrowed: %v", narrow.body)
	}
	if without := p.must(
		http.StatusOK,
		"GET",
		at+"?excludedAttributes=emails,id,urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department",
		"",
	); without.at("emails") != nil || without.id() != id || without.at("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User",
		"department") != nil ||
		without.at("title") != "Pilot" {
		t.Errorf("without: %v", without.body)
	}
	replaced := p.must(http.StatusOK, "PUT", at, user("bjensen", `"title":"Captain"`, `"id":"mine"`), "If-Match", `W/"1"`)
	if replaced.at("emails") != nil || replaced.at("title") != "Captain" || replaced.id() != id || replaced.header.Get("ETag") != `W/"2"` ||
		replaced.at("externalId") != nil {
		t.Errorf("replaced: %v", replaced.body)
	}
	if stale := p.call("PUT", at, user("bjensen"), "If-Match", `W/"1"`); stale.status != http.StatusPreconditionFailed {
		t.Errorf("an old version: %d", stale.status)
	}
	crew := p.must(http.StatusCreated, "POST", "/Groups", group("Crew", id))
	if in := p.must(http.StatusOK, "GET", at, ""); in.at("groups", 0, "value") != crew.id() || in.at("groups", 0, "display") != "Crew" {
		t.Errorf("groups: %v", in.at("groups"))
	}
	if ref := crew.at("members", 0, "$ref"); ref != p.base+"/scim/v2"+at {
		t.Errorf("a member's address: %v", ref)
	}
	if gone := p.call("DELETE", at, ""); gone.status != http.StatusNoContent {
		t.Errorf("deleted: %d", gone.status)
	}
	for _, method := range []string{"GET", "DELETE", "PUT", "PATCH"} {
		body := user("bjensen")
		if method == "PATCH" {
			body = patch(`{"op":"add","path":"title","value":"x"}`)
		}
		if a := p.call(method, at, body); a.status != http.StatusNotFound || a.at("status") != "404" {
			t.Errorf("%s of what is gone: %d %v", method, a.status, a.body)
		}
	}
	if left := p.must(http.StatusOK, "GET", "/Groups/"+crew.id(), ""); left.at("members") != nil || left.header.Get("ETag") != `W/"2"` {
		t.Errorf("the group after its member went: %v", left.body)
	}
	if anew := p.must(http.StatusCreated, "POST", "/Users", bjensen); anew.id() == id {
		t.Error("an id was given out twice")
	}
}

func TestProvisionersAreLetInByTheirOwnTokens(t *testing.T) {
	t.Parallel()
	api, p := provisioned(t)
	for name, token := range map[string]string{"none": "", "another": "abc", "an administrator's": api.Token} {
		q := provisioner{t, p.base, token}
		if a := q.call("GET", "/Users", ""); a.status != http.StatusUnauthorized || a.header.Get("WWW-Authenticate") == "" {
			t.Errorf("%s: %d", name, a.status)
		}
	}
	asAPI := client.Client{Base: api.Base, Token: p.token}
	if _, err := asAPI.Call(context.Background(), "GET", "/sources", nil, nil, nil); err == nil {
		t.Error("a token of a source opens the API")
	}
	tokens := get[[]wire.SourceToken](t, api, "/sources/hr/tokens")
	if _, err := api.Call(context.Background(), "DELETE", "/sources/hr/tokens/"+tokens[0].ID, nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if a := p.call("GET", "/Users", ""); a.status != http.StatusUnauthorized {
		t.Errorf("a revoked token: %d", a.status)
	}
	if all := get[[]wire.SourceToken](t, api, "/sources/hr/tokens"); len(all) != 1 || all[0].RevokedAt == nil || all[0].Secret != "" {
		t.Errorf("tokens: %+v", all)
	}
}

func TestTheServiceDescribesItself(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	config := p.must(http.StatusOK, "GET", "/ServiceProviderConfig", "")
	for _, feature := range []string{"patch", "bulk", "filter", "sort", "etag"} {
		if config.at(feature, "supported") != true {
			t.Errorf("%s: %v", feature, config.at(feature))
		}
	}
	if types := p.must(http.StatusOK, "GET", "/ResourceTypes", ""); types.at("totalResults") != 2.0 ||
		types.at("Resources", 0, "schemaExtensions", 0, "schema") != "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User" {
		t.Errorf("types: %v", types.body)
	}
	schemas := p.must(http.StatusOK, "GET", "/Schemas", "")
	if schemas.at("totalResults") != 3.0 {
		t.Errorf("schemas: %v", schemas.at("totalResults"))
	}
	one := p.must(http.StatusOK, "GET", "/Schemas/urn:ietf:params:scim:schemas:core:2.0:User", "")
	if one.at("attributes", 0, "name") != "userName" || one.at("attributes", 0, "uniqueness") != "server" ||
		one.at("attributes", 0, "caseExact") != false {
		t.Errorf("userName: %v", one.at("attributes", 0))
	}
	if a := p.call("GET", "/Schemas?filter=id%20pr", ""); a.status != http.StatusForbidden {
		t.Errorf("a filter on schemas: %d", a.status)
	}
	if a := p.call("GET", "/Me", ""); a.status != http.StatusNotImplemented {
		t.Errorf("/Me: %d", a.status)
	}
	for _, path := range []string{"/Schemas/none", "/ResourceTypes/Device"} {
		if a := p.call("GET", path, ""); a.status != http.StatusNotFound {
			t.Errorf("%s: %d", path, a.status)
		}
	}
}

// TestPagesHaveFewBytes lists users of two mebibytes each: a page has fewer than were asked for, and
// whoever goes on after it gets all.
func TestPagesHaveFewBytes(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	numbers := make([]string, 60)
	for i := range numbers {
		numbers[i] = fmt.Sprintf(`{"value":"%d%s"}`, i, strings.Repeat("7", 32_000))
	}
	for _, name := range []string{"a", "b", "c"} {
		p.must(http.StatusCreated, "POST", "/Users", user(name, `"phoneNumbers":[`+strings.Join(numbers, ",")+`]`))
	}
	var got []string
	for start := 1; start <= 3; {
		a := p.must(http.StatusOK, "GET", fmt.Sprintf("/Users?sortBy=userName&count=50&startIndex=%d", start), "")
		list := a.at("Resources").([]any)
		if a.at("totalResults") != 3.0 || a.at("itemsPerPage") != float64(len(list)) || len(list) == 0 || len(list) > 2 {
			t.Fatalf("from %d: %v of %v, %d resources", start, a.at("itemsPerPage"), a.at("totalResults"), len(list))
		}
		for _, r := range list {
			got = append(got, fmt.Sprint(r.(map[string]any)["userName"]))
		}
		start += len(list)
	}
	if strings.Join(got, " ") != "a b c" {
		t.Errorf("the pages have %v", got)
	}
	small := p.must(http.StatusOK, "GET", "/Users?attributes=userName", "")
	if list := small.at("Resources").([]any); len(list) != 3 {
		t.Errorf("without what is large a page has %d", len(list))
	}
}

func TestListsAreFilteredSortedAndPaged(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	p.must(http.StatusCreated, "POST", "/Users", bjensen)
	p.must(
		http.StatusCreated,
		"POST",
		"/Users",
		user(
			"amiles",
			`"title":"Mate"`,
			`"active":false`,
			`"emails":[{"value":"am@larkfell.example","type":"home"}]`,
			`"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Charts"}`,
		),
	)
	p.must(http.StatusCreated, "POST", "/Users", user("Czeller", `"name":{"familyName":"O'Malley"}`))
	names := func(a answered) string {
		list, _ := a.at("Resources").([]any)
		out := make([]string, len(list))
		for i, r := range list {
			out[i] = fmt.Sprint(r.(map[string]any)["userName"])
		}
		return strings.Join(out, " ")
	}
	for filter, want := range map[string]string{
		`userName eq "BJENSEN"`: "bjensen", `externalId eq "bjensen"`: "bjensen", `externalId eq "BJensen"`: "",
		`name.familyName co "O'Malley"`: "Czeller", `userName sw "c"`: "Czeller", `userName ew "s"`: "amiles",
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "a"`: "amiles", `title pr`: "amiles bjensen", `not (title pr)`: "Czeller",
		`title pr and title eq "Mate"`: "amiles", `title eq "Pilot" or userName eq "czeller"`: "bjensen Czeller",
		`title eq "Pilot" or title eq "Mate" and active eq false`:   "amiles bjensen",
		`(title eq "Pilot" or title eq "Mate") and active eq false`: "amiles", `emails[type eq "work" and value co "@larkfell"]`: "bjensen",
		`emails.type eq "home"`: "amiles bjensen", `emails co "home.example"`: "bjensen", `emails[type eq "work"] and title pr`: "bjensen",
		`active eq true`: "bjensen", `active ne false`: "bjensen Czeller",
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq "charts"`: "amiles", `title eq null`: "Czeller",
		`title ne null`: "amiles bjensen", `userName gt "b"`: "bjensen Czeller", `userName le "bjensen"`: "amiles bjensen",
		`meta.resourceType eq "User"`: "amiles bjensen Czeller", `USERNAME EQ "amiles"`: "amiles",
	} {
		a := p.must(http.StatusOK, "GET", "/Users?sortBy=userName&filter="+url.QueryEscape(filter), "")
		if got := names(a); got != want {
			t.Errorf("%s: %q, expected %q", filter, got, want)
		}
	}
	for _, filter := range []string{`userName`, `userName eq`, `userName eq bjensen`, `userName eq "b`, `userName is "b"`,
		`shoe eq "b"`, `name.shoe pr`, `(userName pr`, `userName pr)`, `userName pr and`, `emails[type eq "work"`,
		`emails[emails[type pr]]`, `title[type pr]`, `active gt true`, `title co 3`, `not userName pr`, strings.Repeat("(", 60) +
			`title pr`, ` `} {
		if a := p.call("GET", "/Users?filter="+url.QueryEscape(filter), ""); a.status != http.StatusBadRequest ||
			a.at("scimType") != "invalidFilter" {
			t.Errorf("%s: %d %v", filter, a.status, a.body)
		}
	}
	for query, want := range map[string]string{
		"sortBy=userName": "amiles bjensen Czeller", "sortBy=userName&sortOrder=descending": "Czeller bjensen amiles",
		"sortBy=title": "amiles bjensen Czeller", "sortBy=title&sortOrder=descending": "Czeller bjensen amiles",
		"sortBy=emails.value": "amiles bjensen Czeller", "sortBy=userName&count=1": "amiles",
		"sortBy=userName&startIndex=2&count=1": "bjensen", "sortBy=userName&startIndex=-4&count=2": "amiles bjensen", "count=0": "",
		"startIndex=9": "", "count=-3": "",
	} {
		a := p.must(http.StatusOK, "GET", "/Users?"+query, "")
		if got := names(a); got != want || a.at("totalResults") != 3.0 || a.at("itemsPerPage") != float64(len(strings.Fields(want))) {
			t.Errorf("%s: %q of %v, expected %q", query, got, a.at("totalResults"), want)
		}
	}
	if a := p.must(
		http.StatusOK,
		"POST",
		"/Users/.search",
		`{"schemas":["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],"filter":"title pr","attributes":["title"],"sortBy":"title","count":1}`,
	); a.at("totalResults") != 2.0 || a.at("Resources", 0, "title") != "Mate" ||
		a.at("Resources", 0, "userName") != nil {
		t.Errorf("searched: %v", a.body)
	}
	for _, query := range []string{"sortBy=shoe", "sortBy=userName&sortOrder=sideways", "startIndex=x", "count=x",
		"attributes=title&excludedAttributes=name"} {
		if a := p.call("GET", "/Users?"+query, ""); a.status != http.StatusBadRequest {
			t.Errorf("%s: %d", query, a.status)
		}
	}
}

// TestBulk makes two users and a group of them in one request, the group first (RFC 7644, section
// 3.7.2).
func TestBulk(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	bulk := func(fail int, operations ...string) answered {
		return p.must(
			http.StatusOK,
			"POST",
			"/Bulk",
			fmt.Sprintf(
				`{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"failOnErrors":%d,"Operations":[%s]}`,
				fail,
				strings.Join(operations, ","),
			),
		)
	}
	add := func(id, body string) string {
		return fmt.Sprintf(`{"method":"POST","path":"/Users","bulkId":%q,"data":%s}`, id, body)
	}
	a := bulk(
		0,
		`{"method":"POST","path":"/Groups","bulkId":"g","data":`+group("Crew", "bulkId:a", "bulkId:b")+`}`,
		add("a", user("alice")),
		add("b", user("bob")),
	)
	if a.at("Operations", 0, "status") != "201" || a.at("Operations", 2, "status") != "201" || a.at("Operations", 1, "bulkId") != "a" {
		t.Fatalf("bulk: %v", a.body)
	}
	location := fmt.Sprint(a.at("Operations", 0, "location"))
	crew := p.must(http.StatusOK, "GET", location[strings.Index(location, "/Groups"):], "")
	alice := fmt.Sprint(a.at("Operations", 1, "location"))
	alice = alice[strings.Index(alice, "/Users"):]
	if !strings.HasSuffix(alice, fmt.Sprint(crew.at("members", 0, "value"))) {
		t.Errorf("the group's members: %v", crew.at("members"))
	}
	a = bulk(
		0,
		fmt.Sprintf(`{"method":"PATCH","path":%q,"version":"W/\"1\"","data":%s}`, alice, patch(`{"op":"add","path":"title","value":"Mate"}`)),
		fmt.Sprintf(`{"method":"PATCH","path":%q,"version":"W/\"1\"","data":%s}`, alice, patch(`{"op":"add","path":"title","value":"x"}`)),
		add("c", user("alice")),
		add("", user("dora")),
		`{"method":"GET","path":"/Users"}`,
		fmt.Sprintf(`{"method":"DELETE","path":%q}`, alice),
	)
	for i, want := range []string{"200", "412", "409", "400", "400", "204"} {
		if got := a.at("Operations", i, "status"); got != want {
			t.Errorf("operation %d: %v, expected %s", i, got, want)
		}
	}
	if a.at("Operations", 2, "response", "scimType") != "uniqueness" {
		t.Errorf("a fault's body: %v", a.at("Operations", 2))
	}
	a = bulk(1, add("x", `{}`), add("y", user("erik")))
	if list, _ := a.at("Operations").([]any); len(list) != 1 {
		t.Errorf("it went on after its error: %v", a.body)
	}
	round := bulk(
		0,
		`{"method":"POST","path":"/Groups","bulkId":"p","data":`+group("P", "bulkId:q")+`}`,
		`{"method":"POST","path":"/Groups","bulkId":"q","data":`+group("Q", "bulkId:p")+`}`,
	)
	if round.at("Operations", 0, "status") != "409" || round.at("Operations", 1, "status") != "409" {
		t.Errorf("two that wait for one another: %v", round.body)
	}
	many := strings.TrimSuffix(strings.Repeat(`{"method":"DELETE","path":"/Users/x"},`, 1001), ",")
	if a := p.call("POST", "/Bulk", `{"schemas":[],"Operations":[`+many+`]}`); a.status != http.StatusRequestEntityTooLarge {
		t.Errorf("too many: %d", a.status)
	}
}

func TestBadResourcesAreRefused(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	for body, kind := range map[string]string{
		``: "invalidSyntax", `[]`: "invalidSyntax", `{"userName":"x"}`: "invalidSyntax",
		`{"schemas":["urn:other"],"userName":"x"}`: "invalidSyntax", user(""): "invalidValue", user("x", `"active":"perhaps"`): "invalidValue",
		user("x", `"title":7`): "invalidValue", user("x", `"name":"x"`): "invalidValue",
		user("x", `"title":"a\u001b[2Jb"`): "invalidValue", strings.Replace(user("aXb"), "X", `\u0000`, 1): "invalidValue",
		user("x", `"name":{"familyName":"a\u009bb"}`):                               "invalidValue",
		user("x", `"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":7`): "invalidValue",
	} {
		if a := p.call("POST", "/Users", body); a.status != http.StatusBadRequest || a.at("scimType") != kind {
			t.Errorf("%s: %d %v, expected %s", body, a.status, a.body, kind)
		}
	}
	if a := p.must(http.StatusOK, "GET", "/Users", ""); a.at("totalResults") != 0.0 {
		t.Errorf("something was kept: %v", a.body)
	}
}

// TestMomentsAreFiltered asks for what altered since a moment, as clients do that follow a service.
func TestMomentsAreFiltered(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	first := p.must(http.StatusCreated, "POST", "/Users", user("amiles"))
	moment := first.at("meta", "lastModified").(string)
	p.must(http.StatusCreated, "POST", "/Users", user("bjensen"))
	for filter, want := range map[string]float64{
		fmt.Sprintf("meta.lastModified gt %q", moment):       1,
		fmt.Sprintf("meta.lastModified ge %q", moment):       2,
		fmt.Sprintf("meta.lastModified le %q", moment):       1,
		fmt.Sprintf("meta.lastModified eq %q", moment):       1,
		`meta.lastModified gt "2020-01-01T00:00:00Z"`:        2,
		`meta.lastModified gt "2020-01-01T00:00:00+02:00"`:   2,
		`meta.created lt "2020-01-01T00:00:00Z"`:             0,
		`meta.resourceType eq "Group"`:                       0,
		fmt.Sprintf(`meta.location co %q`, first.id()):       1,
		`meta pr and userName eq "amiles"`:                   1,
		fmt.Sprintf(`not (meta.lastModified gt %q)`, moment): 1,
	} {
		a := p.call("GET", "/Users?filter="+url.QueryEscape(filter), "")
		if a.status != http.StatusOK || a.at("totalResults") != want {
			t.Errorf("%s: %d %v, expected %v", filter, a.status, a.at("totalResults"), want)
		}
	}
	for path, status := range map[string]int{"/Nothing": http.StatusNotFound, "/Users/x/y": http.StatusNotFound} {
		a := p.call("GET", path, "")
		if a.status != status || a.at("schemas", 0) != "urn:ietf:params:scim:api:messages:2.0:Error" || a.at("status") != fmt.Sprint(status) {
			t.Errorf("%s: %d %v", path, a.status, a.body)
		}
	}
	if a := p.call("PUT", "/Users", "{}"); a.status != http.StatusMethodNotAllowed || a.at("status") != "405" {
		t.Errorf("PUT of all users: %d %v", a.status, a.body)
	}
}

// TestWhatIsProvisionedBecomesTheEstate follows people and groups from the first dry run to their
// leaving.
func TestWhatIsProvisionedBecomesTheEstate(t *testing.T) {
	t.Parallel()
	api, p := provisioned(t)
	people := func() map[string]files.PersonDoc {
		out := map[string]files.PersonDoc{}
		for _, o := range get[wire.Page[wire.Object]](t, api, "/estate/people").Items {
			var doc files.PersonDoc
			if err := json.Unmarshal(o.Body, &doc); err != nil {
				t.Fatal(err)
			}
			out[doc.ID] = doc
		}
		return out
	}
	known := p.must(http.StatusCreated, "POST", "/Users", user("ines", `"displayName":"Ines Okafor"`, `"title":"Administrator"`)).id()
	tomas := p.must(http.StatusCreated, "POST", "/Users",
		user("tomas@larkfell.example", `"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"organization":"R","department":"Fleet"}`)).
		id()
	crew := p.must(http.StatusCreated, "POST", "/Groups", group("Crew leads", known, tomas)).id()
	if len(people()) != 1 {
		t.Error("somebody was taken before a dry run was looked at")
	}
	run := taken(t, api, "hr", "full")
	if r := run.Report; r.New != 3 || r.Adopted != 1 || r.Left != 0 {
		t.Errorf("the dry run: %+v", r)
	}
	if got := people(); got["ines"].Name != "Ines Okafor" || got["tomas"].Mail != "tomas@larkfell.example" || got["tomas"].Unit != "r" ||
		got["tomas"].Attributes["department"].Text() != "Fleet" {
		t.Errorf("people are %+v", got)
	}
	p.must(http.StatusOK, "PATCH", "/Users/"+tomas, patch(`{"op":"replace","path":"displayName","value":"Tomas Reyes"}`))
	until(t, api, "/estate/people/tomas", func(o wire.Object) bool { return strings.Contains(string(o.Body), "Tomas Reyes") })

	// What is edited here stays, whatever the source says later; the rest goes on to follow it.
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Move"})
	edited := people()["tomas"]
	edited.Name = "Tomás"
	if _, err := api.Call(context.Background(), "PUT", "/changes/"+change.ID+"/edits/people/tomas", nil, edited, nil); err != nil {
		t.Fatal(err)
	}
	posted[wire.Publication](t, api, "/changes/"+change.ID+"/publish", nil)
	p.must(http.StatusOK, "PATCH", "/Users/"+tomas, patch(`{"op":"replace","value":{"displayName":"T. Reyes","title":"Boatswain"}}`))
	until(t, api, "/estate/people/tomas", func(o wire.Object) bool { return strings.Contains(string(o.Body), "Boatswain") })
	if got := people()["tomas"]; got.Name != "Tomás" {
		t.Errorf("what was edited here became %q", got.Name)
	}

	// Gone at the source is marked as left, with nothing taken away; a person removes it, unless
	// something names it.
	p.must(http.StatusNoContent, "DELETE", "/Users/"+tomas, "")
	left := until(t, api, "/left", func(l wire.Page[wire.LeftObject]) bool { return l.Total == 1 })
	if left.Items[0].ID != "tomas" || left.Items[0].Kind != "people" || len(people()) != 2 {
		t.Errorf("left: %+v", left.Items)
	}
	looked := posted[wire.Removal](
		t,
		api,
		"/sources/hr/removals",
		wire.RemoveLeft{Objects: []wire.ObjectName{{Kind: "people", ID: "tomas"}}, Look: true},
	)
	if looked.Impact == nil || len(people()) != 2 {
		t.Errorf("looking: %+v", looked)
	}
	posted[wire.Removal](t, api, "/sources/hr/removals", wire.RemoveLeft{Objects: []wire.ObjectName{{Kind: "people", ID: "tomas"}}})
	if got := people(); len(got) != 1 {
		t.Errorf("after removing: %+v", got)
	}
	group := get[wire.Object](t, api, "/estate/groups/Crew-leads")
	if strings.Contains(string(group.Body), "tomas") || !strings.Contains(string(group.Body), "ines") {
		t.Errorf("the group is %s", group.Body)
	}
	// Deactivated is left too, and comes back.
	p.must(http.StatusOK, "PATCH", "/Users/"+known, patch(`{"op":"replace","path":"active","value":false}`))
	until(t, api, "/left", func(l wire.Page[wire.LeftObject]) bool { return l.Total == 1 })
	if _, err := client.Post[wire.Removal](
		context.Background(),
		api,
		"/sources/hr/removals",
		wire.RemoveLeft{Objects: []wire.ObjectName{{Kind: "groups", ID: "Crew-leads"}}},
	); err == nil {
		t.Error("something that is there was removed")
	}
	p.must(http.StatusOK, "PATCH", "/Users/"+known, patch(`{"op":"replace","path":"active","value":true}`))
	until(t, api, "/left", func(l wire.Page[wire.LeftObject]) bool { return l.Total == 0 })
	_ = crew
}
