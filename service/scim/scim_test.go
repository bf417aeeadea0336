package scim_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	. "zenithridge.example/zridge/service/scim"
)

func resource(t testing.TB, kind *Type, text string) Resource {
	t.Helper()
	r, err := kind.Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func asText(t testing.TB, r Resource) string {
	t.Helper()
	data, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

const someone = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"USERNAME":"ines","id":"mine","meta":{"x":1},"groups":[{"value":"g"}],"shoeSize":42,"name":{"FamilyName":"Okafor","shoe":"x"},"emails":["a@larkfell.example",{"value":"b@larkfell.example","type":"home","primary":"True"}],"roles":[],"title":null,"active":"false"}`

// TestResourcesAreNamedAsTheirSchemas reads what clients send in other letters, with more, with
// less, and with values in other forms.
func TestResourcesAreNamedAsTheirSchemas(t *testing.T) {
	want := `{"active":false,"emails":[{"value":"a@larkfell.example"},{"primary":true,"type":"home","value":"b@larkfell.example"}],"name":{"familyName":"Okafor"},"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ines"}`
	if got := asText(t, resource(t, Users, someone)); got != want {
		t.Errorf("read as %s, expected %s", got, want)
	}
	extended := resource(
		t,
		Users,
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"x","URN:ietf:params:scim:schemas:extension:enterprise:2.0:user":{"DEPARTMENT":"Charts","manager":{"value":"7","displayName":"no"}}}`,
	)
	if got := asText(
		t,
		extended,
	); !strings.Contains(got, `"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Charts","manager":{"value":"7"}}`) ||
		!strings.Contains(
			got,
			`"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"]`,
		) {
		t.Errorf("an extension in other letters: %s", got)
	}
	for path, want := range map[string]string{"userName": "ines", "name.familyName": "Okafor", "emails": "b@larkfell.example",
		"emails.type": "home", "title": "", "shoe": "", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department": ""} {
		if got := Users.Text(resource(t, Users, someone), path); got != want {
			t.Errorf("%s is %q, expected %q", path, got, want)
		}
	}
}

// laws are operations, each applied to one user: what they give must hold whatever the operation
// is.
var laws = []string{
	`{"op":"add","path":"title","value":"Mate"}`,
	`{"op":"add","path":"emails","value":[{"value":"c@x.example","type":"other"}]}`,
	`{"op":"replace","path":"emails[type eq \"home\"].value","value":"d@x.example"}`,
	`{"op":"remove","path":"emails[type eq \"home\"]"}`,
	`{"op":"replace","value":{"displayName":"Ines","name":{"givenName":"Ines"}}}`,
	`{"op":"remove","path":"name"}`,
	`{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department","value":"Charts"}`,
	`{"op":"replace","path":"emails","value":[]}`,
	`{"op":"add","path":"phoneNumbers[type eq \"work\"].value","value":"1"}`,
}

// TestLawsOfPatch: twice is once; the resource that is given stays as it is; what comes out reads
// as what it is; an operation after one that fails is never applied.
func TestLawsOfPatch(t *testing.T) {
	start := resource(t, Users, someone)
	before := asText(t, start)
	for _, text := range laws {
		var op Operation
		if err := json.Unmarshal([]byte(text), &op); err != nil {
			t.Fatal(err)
		}
		once, err := Users.Patch(start, []Operation{op})
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if asText(t, start) != before {
			t.Fatalf("%s altered what it was given", text)
		}
		twice, err := Users.Patch(once, []Operation{op})
		var refused *Error
		if gone := errors.As(err, &refused) && refused.Type == NoTarget && op.Op == "remove"; err != nil && !gone {
			t.Errorf("%s twice: %v", text, err)
		} else if err == nil && asText(t, twice) != asText(t, once) {
			t.Errorf("%s once gives %s, twice %s", text, asText(t, once), asText(t, twice))
		}
		if again := resource(t, Users, asText(t, once)); asText(t, again) != asText(t, once) {
			t.Errorf("%s: read again it is %s, not %s", text, asText(t, again), asText(t, once))
		}
		if _, err := Users.Patch(start, []Operation{op, {Op: "replace", Path: "userName", Value: ""}}); err == nil {
			t.Errorf("%s before one that fails was kept", text)
		}
	}
}

func TestProjectionsAndOrder(t *testing.T) {
	r := resource(t, Users, someone)
	r["id"], r["meta"] = "1", map[string]any{"version": "v"}
	for _, c := range []struct{ only, without, want string }{
		{"userName", "", `{"id":"1","schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ines"}`},
		{"emails.value,meta", "", `{"emails":[{"value":"a@larkfell.example"},{"value":"b@larkfell.example"}],"id":"1","meta":{"version":"v"},"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"]}`},
		{"", "emails,name.familyName,meta,id", `{"active":false,"id":"1","name":{},"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ines"}`},
		{"shoe", "", `{"id":"1","schemas":["urn:ietf:params:scim:schemas:core:2.0:User"]}`},
	} {
		p, err := Users.ReadProjection(c.only, c.without)
		if err != nil {
			t.Fatal(err)
		}
		if got := asText(t, p.Of(Users, r)); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
	if _, err := Users.ReadProjection("a", "b"); err == nil {
		t.Error("both lists at once were taken")
	}
	list := []Resource{
		{"userName": "b", "active": true},
		{"userName": "A"},
		{"userName": "c", "active": false, "emails": []any{map[string]any{"value": "z"}, map[string]any{"value": "a", "primary": true}}},
	}
	for by, want := range map[string]string{"userName": "A b c", "active": "c b A", "emails": "c b A", "emails.value": "c b A"} {
		sorted := append([]Resource{}, list...)
		if err := Users.Sort(sorted, by, ""); err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, r := range sorted {
			names = append(names, fmt.Sprint(r["userName"]))
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("by %s: %s, expected %s", by, got, want)
		}
	}
	for _, c := range []struct{ start, count, n, from int }{{1, 2, 2, 1}, {3, 2, 1, 3}, {9, 2, 0, 9}, {0, 2, 2, 1}, {1, 0, 0, 1},
		{1, 99999, 3, 1}} {
		if page, from := Page(list, c.start, c.count); len(page) != c.n || from != c.from {
			t.Errorf("from %d, %d: %d from %d", c.start, c.count, len(page), from)
		}
	}
}

// TestAFilterAndItsOppositeSplitTheUsers: of every filter, who passes it and who passes its
// negation are all, and nobody twice.
func TestAFilterAndItsOppositeSplitTheUsers(t *testing.T) {
	users := []Resource{resource(t, Users, someone)}
	for _, more := range []string{`"title":"Mate"`, `"title":"Captain","active":true`,
		`"emails":[{"value":"x@y.example","type":"work"}]`, `"name":{"givenName":"A"}`} {
		users = append(
			users,
			resource(t, Users, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"u`+more[1:3]+`",`+more+`}`),
		)
	}
	for _, text := range []string{`title pr`, `title eq "mate"`, `active eq true`, `emails[type eq "work" or type eq "home"]`,
		`emails.value co "larkfell"`, `name.givenName sw "a"`, `title gt "a" and active ne false`, `not (title pr) or userName eq "ines"`} {
		f, err := Users.ReadFilter(text)
		if err != nil {
			t.Fatal(err)
		}
		not, err := Users.ReadFilter("not (" + text + ")")
		if err != nil {
			t.Fatal(err)
		}
		wrapped, err := Users.ReadFilter("((" + text + "))")
		if err != nil {
			t.Fatal(err)
		}
		for i, u := range users {
			if f.Holds(Users, u) == not.Holds(Users, u) || f.Holds(Users, u) != wrapped.Holds(Users, u) {
				t.Errorf("%s on user %d: %v, its opposite %v, in brackets %v", text, i, f.Holds(Users, u), not.Holds(Users, u), wrapped.Holds(Users, u))
			}
		}
	}
}

// FuzzFilter must refuse with SCIM's own fault, and never otherwise.
func FuzzFilter(f *testing.F) {
	for _, seed := range []string{`title pr`, `emails[type eq "work"].value`, `not (a eq "b")`,
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "x"`, `((`, `userName eq "\u00e9"`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		filter, err := Users.ReadFilter(text)
		var refused *Error
		if err != nil {
			if !errors.As(err, &refused) || refused.Type != InvalidFilter {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		filter.Holds(Users, Resource{"userName": "x", "emails": []any{map[string]any{"value": "a"}}, "name": "of another form"})
	})
}

// FuzzPatch must give a resource that reads as what it is, or refuse.
func FuzzPatch(f *testing.F) {
	for _, seed := range laws {
		f.Add(seed)
	}
	f.Add(`{"op":"add","path":"emails[type eq \"a\"][0]","value":{}}`)
	f.Fuzz(func(t *testing.T, text string) {
		var op Operation
		if json.Unmarshal([]byte(text), &op) != nil {
			return
		}
		out, err := Users.Patch(resource(t, Users, someone), []Operation{op})
		var refused *Error
		if err != nil {
			if !errors.As(err, &refused) || refused.Status != 400 {
				t.Fatalf("%s: %v", text, err)
			}
			return
		}
		if _, err := Users.Read([]byte(asText(t, out))); err != nil {
			t.Fatalf("%s gives %s, which is refused: %v", text, asText(t, out), err)
		}
	})
}

// Texts and lists have a greatest size; the members of a group do not, and each is kept once.
func TestResourcesHaveSizes(t *testing.T) {
	many := func(n int) []any {
		list := make([]any, n)
		for i := range list {
			list[i] = map[string]any{"value": fmt.Sprintf("m%d@larkfell.example", i/2)}
		}
		return list
	}
	for name, c := range map[string]struct {
		of    *Type
		body  map[string]any
		wrong string
	}{
		"a long text":  {Users, map[string]any{"userName": "ines", "nickName": strings.Repeat("x", 32<<10+1)}, "32769 bytes"},
		"many values":  {Users, map[string]any{"userName": "ines", "emails": many(1001)}, "1001 values"},
		"a text":       {Users, map[string]any{"userName": "ines", "nickName": strings.Repeat("x", 32<<10)}, ""},
		"many members": {Groups, map[string]any{"displayName": "Crew", "members": many(100_000)}, ""},
	} {
		c.body["schemas"] = []string{c.of.Schema}
		data, err := json.Marshal(c.body)
		if err != nil {
			t.Fatal(err)
		}
		r, err := c.of.Read(data)
		if c.wrong == "" && err != nil || c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)) {
			t.Errorf("%s: %v, expected %q", name, err, c.wrong)
		}
		if members, _ := r["members"].([]any); name == "many members" && len(members) != 50_000 {
			t.Errorf("%d members were kept, expected each once", len(members))
		}
	}
}
