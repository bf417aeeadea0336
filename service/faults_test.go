package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/wire"
)

// sentRaw sends a request as it is, and gives the status with the body of the answer.
func sentRaw(t *testing.T, api *client.Client, method, path, kind, body string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, api.Base+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer, string(text)
}

func TestWhatNobodyShouldSendIsRefused(t *testing.T) {
	t.Parallel()
	api := started(t)
	const kind = "application/json"
	for name, c := range map[string]struct {
		method, path, kind, body string
		status                   int
	}{
		"an escaped control character": {"POST", "/api/v1/changes", kind, `{"title":"a\u001b[2Jb"}`, 400},
		"a control character":          {"POST", "/api/v1/changes", kind, "{\"title\":\"a\u009bb\"}", 400},
		"a backspace":                  {"POST", "/api/v1/changes", kind, `{"title":"a\b"}`, 400},
		"an escaped backslash":         {"POST", "/api/v1/changes", kind, `{"title":"a\\u001b and \\b"}`, 201},
		"bytes that are no text":       {"POST", "/api/v1/changes", kind, "{\"title\":\"a\xff\"}", 400},
		"no media type":                {"POST", "/api/v1/changes", ";;/x", `{"title":"a"}`, 415},
		"another media type":           {"POST", "/api/v1/changes", "text/plain", `{"title":"a"}`, 415},
		"below the laptops' address":   {"GET", "/dm/none", "", "", 404},
		"below the enrolment":          {"GET", "/enrol/none", "", "", 404},
		"below SCIM":                   {"GET", "/scim/none", "", "", 404},
		"an escaped slash":             {"GET", "/api/v1/none%2fnone", "", "", 404},
		"a page of the console":        {"GET", "/policies/none", "", "", 200},
	} {
		answer, text := sentRaw(t, api, c.method, c.path, c.kind, c.body)
		if answer.StatusCode != c.status {
			t.Errorf("%s: %d %s, expected %d", name, answer.StatusCode, text, c.status)
		}
		if c.status >= 400 && !json.Valid([]byte(text)) {
			t.Errorf("%s: the answer is no JSON: %.80s", name, text)
		}
	}
	if answer, text := sentRaw(t, api, http.MethodHead, "/api/v1/overview", "", ""); answer.StatusCode != 200 || text != "" {
		t.Errorf("HEAD is answered %d %q", answer.StatusCode, text)
	}
}

// An edit with more faults than anybody reads is answered with the first of them, and their number.
func TestManyFaultsAreCounted(t *testing.T) {
	t.Parallel()
	api := started(t)
	change, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: "Faults"})
	if err != nil {
		t.Fatal(err)
	}
	var settings strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&settings, `%q:1,`, fmt.Sprintf("no.such.setting.%d", i))
	}
	body := `{"id":"p","kind":"security","audience":{},"settings":{` + strings.TrimSuffix(settings.String(), ",") + `}}`
	answer, text := sentRaw(t, api, "PUT", "/api/v1"+client.Path("changes", change.ID, "edits", "policies", "p"), "application/json", body)
	var p wire.Problem
	if err := json.Unmarshal([]byte(text), &p); err != nil || answer.StatusCode != 422 {
		t.Fatal(answer.StatusCode, err)
	}
	if len(p.Faults) != 200 || p.MoreFaults != 2800 {
		t.Errorf("%d faults and %d more", len(p.Faults), p.MoreFaults)
	}
}

// A token makes no token, and no account's access grows by one.
func TestATokenMakesNoToken(t *testing.T) {
	t.Parallel()
	api := bare(t)
	var refused *wire.Problem
	_, err := client.Post[wire.Token](t.Context(), api, "/tokens", wire.NewToken{Name: "longer", Role: "reader", Days: 300})
	if refused, _ = err.(*wire.Problem); refused == nil || refused.Status != http.StatusForbidden {
		t.Errorf("a token made a token: %v", err)
	}
}

// Of a laptop's codes the last one counts, and none once it has enrolled.
func TestALaptopHasOneCode(t *testing.T) {
	t.Parallel()
	api := started(t)
	offer := func() string {
		codes, err := client.Post[[]wire.EnrolmentCode](t.Context(), api, "/enrolment-codes", map[string]any{"devices": []string{"LT-1"}})
		if err != nil {
			t.Fatal(err)
		}
		return codes[0].Code
	}
	enrol := func(code string) int {
		answer, _ := sentRaw(t, api, "POST", "/enrol", "application/json", fmt.Sprintf(`{"code":%q,"device":"LT-1","serial":"S1"}`, code))
		return answer.StatusCode
	}
	first, second := offer(), offer()
	if status := enrol(first); status != http.StatusForbidden {
		t.Errorf("the first of two codes: %d", status)
	}
	if _, err := api.Call(t.Context(), http.MethodDelete, "/enrolment-codes/LT-1", nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if status := enrol(second); status != http.StatusForbidden {
		t.Errorf("a code that was withdrawn: %d", status)
	}
	if status := enrol(offer()); status != http.StatusCreated {
		t.Errorf("the last code: %d", status)
	}
}

// TestExportsHaveNoFormulas exports people whose names a spreadsheet would run.
func TestExportsHaveNoFormulas(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, `{"units":[{"id":"larkfell"}],"people":[{"id":"a","name":"=1+1"},{"id":"b","name":"@now"},{"id":"c","name":"Ines"}]}`)
	status, header, text := ask(t, http.MethodGet, api.Base+"/api/v1/exports/people?columns=id,name&sort=id", nil, func(r *http.Request) {
		r.Header.Set("Authorization", "Bearer "+api.Token)
	})
	if want := "id,name\na,'=1+1\nb,'@now\nc,Ines\n"; status != http.StatusOK || text != want ||
		!strings.HasPrefix(header.Get("Content-Type"), "text/csv") {
		t.Errorf("%d %v %q, expected %q", status, header, text, want)
	}
	if records := get[[]wire.AuditRecord](t, api, "/audit?action=export+people"); len(records) != 1 || records[0].By != "ines" {
		t.Errorf("the export is recorded as %+v", records)
	}
}

// TestReadersDoNotSeeHowSourcesAreSetUp reads a source as somebody who manages sources, and as
// somebody who may only look.
func TestReadersDoNotSeeHowSourcesAreSetUp(t *testing.T) {
	t.Parallel()
	api := bare(t)
	ldap := &directory.LDAP{
		Address: "ldaps://directory.larkfell.example:636", Base: baseDN, BindAs: readDN, Password: "directory",
		People: directory.LDAPPeople{Filter: "(objectClass=*)"},
	}
	source := wire.NewSource{ID: "company", Kind: "ldap", Title: "Company", SetUp: directory.SourceSetUp{LDAP: ldap}}
	posted[wire.Source](t, api, "/sources", source)
	reader := &client.Client{Base: api.Base, Token: readersToken(t, api)}
	for _, path := range []string{"/sources", "/sources/company"} {
		for who, c := range map[string]*client.Client{"an administrator": api, "a reader": reader} {
			text := string(get[json.RawMessage](t, c, path))
			if told := strings.Contains(text, "directory.larkfell.example"); told != (who == "an administrator") ||
				!strings.Contains(text, "company") {
				t.Errorf("%s reads at %s: %s", who, path, text)
			}
		}
	}
}
