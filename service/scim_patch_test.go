// This file alters resources of SCIM by PATCH.

package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
)

// TestPatchInAllItsForms applies each operation to the user of the RFC, anew, and looks at one
// path.
func TestPatchInAllItsForms(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	n := 0
	for name, c := range map[string]struct {
		operations string
		at         []any
		want       any
	}{
		"add without a path": {`{"op":"add","value":{"nickName":"Babs","emails":[{"value":"new@larkfell.example"}]}}`,
			[]any{"emails", 2, "value"}, "new@larkfell.example"},
		"add what is there already": {`{"op":"add","path":"emails","value":[{"value":"babs@home.example","type":"home"}]}`,
			[]any{"emails", 2}, nil},
		"add to a list with one value": {`{"op":"Add","path":"phoneNumbers","value":{"value":"555-3"}}`,
			[]any{"phoneNumbers", 2, "value"}, "555-3"},
		"add a sub-attribute": {`{"op":"add","path":"name.middleName","value":"Jane"}`, []any{"name", "middleName"}, "Jane"},
		"add keeps the other sub-attributes": {`{"op":"add","path":"name","value":{"middleName":"Jane"}}`,
			[]any{"name", "familyName"}, "Jensen"},
		"a new primary takes over": {`{"op":"add","path":"emails","value":[{"value":"n@x.example","primary":true}]}`,
			[]any{"emails", 0, "primary"}, false},
		"primary through a filter takes over": {`{"op":"replace","path":"emails[type eq \"home\"].primary","value":true}`,
			[]any{"emails", 0, "primary"}, false},
		"add within a value": {`{"op":"add","path":"emails[type eq \"work\"].display","value":"Work"}`,
			[]any{"emails", 0, "display"}, "Work"},
		"add what the filter describes": {`{"op":"add","path":"emails[type eq \"other\"].value","value":"o@x.example"}`,
			[]any{"emails", 2, "value"}, "o@x.example"},
		"replace a value":                  {`{"op":"replace","path":"title","value":"Captain"}`, []any{"title"}, "Captain"},
		"replace with the schema in front": {`{"op":"replace","path":"urn:ietf:params:scim:schemas:core:2.0:User:title","value":"Captain"}`, []any{"title"}, "Captain"},
		"replace without regard to case":   {`{"op":"REPLACE","path":"TITLE","value":"Captain"}`, []any{"title"}, "Captain"},
		"replace a list": {`{"op":"replace","path":"emails","value":[{"value":"only@x.example"}]}`,
			[]any{"emails", 1}, nil},
		"replace through a filter": {`{"op":"replace","path":"phoneNumbers[type eq \"mobile\"].value","value":"555-9"}`,
			[]any{"phoneNumbers", 1, "value"}, "555-9"},
		"replace a whole value": {`{"op":"replace","path":"phoneNumbers[value eq \"555-2\"]","value":{"value":"555-8"}}`,
			[]any{"phoneNumbers", 1, "type"}, nil},
		"a filter with and, or, not":   {`{"op":"remove","path":"phoneNumbers[(type eq \"work\" or type eq \"fax\") and not (value co \"9\")]"}`, []any{"phoneNumbers", 0, "type"}, "mobile"},
		"replace with a path as a key": {`{"op":"replace","value":{"name.familyName":"Smith"}}`, []any{"name", "familyName"}, "Smith"},
		"replace an extension's attribute": {`{"op":"replace","path":"` + enterprise + `:department","value":"Charts"}`,
			[]any{enterprise, "department"}, "Charts"},
		"replace an extension's sub-attribute": {`{"op":"replace","path":"` + enterprise + `:manager.value","value":"77"}`,
			[]any{enterprise, "manager", "value"}, "77"},
		"an extension as a key": {`{"op":"replace","value":{"` + enterprise + `":{"costCenter":"4130"}}}`,
			[]any{enterprise, "costCenter"}, "4130"},
		"an extension keeps its others": {`{"op":"add","path":"` + enterprise + `","value":{"costCenter":"4130"}}`,
			[]any{enterprise, "employeeNumber"}, "701984"},
		"remove a value":                     {`{"op":"remove","path":"title"}`, []any{"title"}, nil},
		"remove through a filter":            {`{"op":"remove","path":"emails[type eq \"work\"]"}`, []any{"emails", 0, "type"}, "home"},
		"remove the last, and the list goes": {`{"op":"remove","path":"addresses[type eq \"work\"]"}`, []any{"addresses"}, nil},
		"remove a sub-attribute of each":     {`{"op":"remove","path":"emails.type"}`, []any{"emails", 1, "type"}, nil},
		"remove an extension":                {`{"op":"remove","path":"` + enterprise + `"}`, []any{enterprise}, nil},
		"remove what is not there":           {`{"op":"remove","path":"nickName"}`, []any{"userName"}, nil},
		"a boolean as a text":                {`{"op":"replace","path":"active","value":"False"}`, []any{"active"}, false},
		"null is no value":                   {`{"op":"replace","path":"title","value":null}`, []any{"title"}, nil},
		"operations follow one another": {`{"op":"remove","path":"title"},{"op":"add","path":"title","value":"Mate"}`,
			[]any{"title"}, "Mate"},
		"what no schema knows, without a path": {`{"op":"add","value":{"shoeSize":42,"title":"Mate"}}`, []any{"title"}, "Mate"},
		"a whole resource, sent back": {`{"op":"replace","value":{"schemas":["x"],"id":"y","meta":{},"title":"Mate"}}`,
			[]any{"title"}, "Mate"},
		"escapes in a filter": {`{"op":"add","path":"emails[value eq \"a\\\"b\"].type","value":"odd"}`,
			[]any{"emails", 2, "type"}, "odd"},
		"several values match": {`{"op":"replace","path":"phoneNumbers[value sw \"555\"].display","value":"Call"}`,
			[]any{"phoneNumbers", 1, "display"}, "Call"},
	} {
		n++
		made := p.must(
			http.StatusCreated,
			"POST",
			"/Users",
			strings.Replace(bjensen, `"userName":"bjensen"`, fmt.Sprintf(`"userName":"user%d"`, n), 1),
		)
		want := c.want
		if name == "remove what is not there" {
			want = fmt.Sprintf("user%d", n)
		}
		a := p.call("PATCH", "/Users/"+made.id(), patch(c.operations))
		if a.status != http.StatusOK || a.at(c.at...) != want {
			t.Errorf("%s: %d %v, expected %v at %v", name, a.status, a.body, want, c.at)
		}
	}
}

// TestPatchesThatAreRefusedAlterNothing sends each to the same user, after an operation that would
// succeed.
func TestPatchesThatAreRefusedAlterNothing(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	made := p.must(http.StatusCreated, "POST", "/Users", bjensen)
	before, _ := json.Marshal(p.must(http.StatusOK, "GET", "/Users/"+made.id(), "").body)
	for operation, kind := range map[string]string{
		`{"op":"move","path":"title"}`: "invalidSyntax",
		`{"op":"remove"}`:              "noTarget",
		`{"op":"replace","path":"emails[type eq \"fax\"].value","value":"x"}`:                              "noTarget",
		`{"op":"remove","path":"emails[type eq \"fax\"]"}`:                                                 "noTarget",
		`{"op":"add","path":"emails[type sw \"fa\"].value","value":"x"}`:                                   "noTarget",
		`{"op":"replace","path":"shoeSize","value":42}`:                                                    "invalidPath",
		`{"op":"replace","path":"name.shoe","value":"x"}`:                                                  "invalidPath",
		`{"op":"replace","path":"emails[type eq \"work\"]x","value":"x"}`:                                  "invalidPath",
		`{"op":"replace","path":"emails[type eq \"work\"].shoe","value":"x"}`:                              "invalidPath",
		`{"op":"replace","path":"emails[type is \"work\"].value","value":"x"}`:                             "invalidFilter",
		`{"op":"replace","path":"emails[type eq \"work\"","value":"x"}`:                                    "invalidFilter",
		`{"op":"replace","path":"title[value eq \"x\"]","value":"x"}`:                                      "invalidFilter",
		`{"op":"replace","path":"id","value":"mine"}`:                                                      "mutability",
		`{"op":"replace","path":"groups","value":[{"value":"x"}]}`:                                         "mutability",
		`{"op":"remove","path":"userName"}`:                                                                "mutability",
		`{"op":"replace","path":"userName","value":""}`:                                                    "invalidValue",
		`{"op":"replace","path":"active","value":"perhaps"}`:                                               "invalidValue",
		`{"op":"replace","path":"title","value":{"a":1}}`:                                                  "invalidValue",
		`{"op":"replace","path":"name","value":"Barbara"}`:                                                 "invalidValue",
		`{"op":"add","value":"title"}`:                                                                     "invalidValue",
		`{"op":"add","path":"title"}`:                                                                      "invalidValue",
		`{"op":"ADD","path":"title","value":null}`:                                                         "invalidValue",
		`{"op":"replace","path":"title","value":"a\u0000b"}`:                                               "invalidValue",
		`{"op":"add","path":"emails","value":[{"value":"a","primary":true},{"value":"b","primary":true}]}`: "invalidValue",
	} {
		a := p.call("PATCH", "/Users/"+made.id(), patch(`{"op":"replace","path":"title","value":"lost"},`+operation))
		if a.status != http.StatusBadRequest || a.at("scimType") != kind || a.at("detail") == nil {
			t.Errorf("%s: %d %v, expected %s", operation, a.status, a.body, kind)
		}
	}
	for _, body := range []string{``, `[]`, `{"Operations":[{"op":"remove","path":"title"}]}`, patch(``),
		`{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":"x"}`} {
		if a := p.call("PATCH", "/Users/"+made.id(), body); a.status != http.StatusBadRequest || a.at("scimType") != "invalidSyntax" {
			t.Errorf("%s: %d %v", body, a.status, a.body)
		}
	}
	if after, _ := json.Marshal(p.must(http.StatusOK, "GET", "/Users/"+made.id(), "").body); string(after) != string(before) {
		t.Errorf("it altered from %s to %s", before, after)
	}
}

func TestMembersOfGroupsArePatched(t *testing.T) {
	t.Parallel()
	_, p := provisioned(t)
	var ids []string
	for i := range 4 {
		ids = append(ids, p.must(http.StatusCreated, "POST", "/Users", user(fmt.Sprint("u", i))).id())
	}
	crew := p.must(http.StatusCreated, "POST", "/Groups", group("Crew", ids[0])).id()
	watch := p.must(http.StatusCreated, "POST", "/Groups", group("Watch", ids[3], crew)).id()
	members := func(a answered) (out []string) {
		list, _ := a.at("members").([]any)
		for _, m := range list {
			out = append(out, fmt.Sprint(slices.Index(ids, fmt.Sprint(m.(map[string]any)["value"]))))
		}
		return out
	}
	for _, step := range []struct{ operations, want string }{
		{fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q},{"value":%q,"type":"User"}]}`, ids[1], ids[2]), "0 1 2"},
		{fmt.Sprintf(`{"op":"add","path":"members","value":{"value":%q}}`, ids[1]), "0 1 2"},
		{fmt.Sprintf(`{"op":"remove","path":"members[value eq %q]"}`, strings.ReplaceAll(ids[0], `"`, ``)), "1 2"},
		{fmt.Sprintf(`{"op":"remove","path":"members","value":[{"value":%q}]}`, ids[2]), "1"},
		{fmt.Sprintf(`{"op":"remove","path":"members[value eq %s]"},{"op":"add","path":"members","value":[{"value":%q}]}`, `\"`+ids[1]+
			`\"`, ids[3]), "3"},
		{fmt.Sprintf(`{"op":"replace","path":"members","value":[{"value":%q},{"value":%q}]}`, ids[0], ids[1]), "0 1"},
		{`{"op":"replace","path":"displayName","value":"Deck crew"}`, "0 1"},
		{`{"op":"remove","path":"members"}`, ""},
	} {
		operations := step.operations
		if strings.Contains(operations, "members[value eq \"") { // quotes within a text of JSON
			operations = strings.Replace(operations, fmt.Sprintf("%q", ids[0]), `\"`+ids[0]+`\"`, 1)
		}
		a := p.must(http.StatusOK, "PATCH", "/Groups/"+crew, patch(operations))
		if got := strings.Join(members(a), " "); got != step.want {
			t.Errorf("%s: %s, expected %s", step.operations, got, step.want)
		}
	}
	if a := p.call(
		"PATCH",
		"/Groups/"+crew,
		patch(`{"op":"add","path":"members","value":[{"value":"nobody"}]}`),
	); a.status != http.StatusBadRequest ||
		a.at("scimType") != "invalidValue" {
		t.Errorf("an unknown member: %d %v", a.status, a.body)
	}
	if a := p.call(
		"PATCH",
		"/Groups/"+watch,
		patch(fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, watch)),
	); a.status != http.StatusBadRequest {
		t.Errorf("its own member: %d", a.status)
	}
}
