// This file brings the demo company in from a directory of its own, and lists what came.

package service_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// larkfell is a service with the demo estate's units, people, laptops and groups, and an LDIF of
// the same company.
func larkfell(t testing.TB) (api *client.Client, s *estate.Snapshot, ldif string) {
	t.Helper()
	s, err := files.Read("../demo/estate", dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	lists := map[string][]any{}
	for _, kind := range []estate.Kind{estate.KindUnit, estate.KindPerson, estate.KindDevice, estate.KindGroup} {
		for _, o := range files.Objects(s, kind) {
			lists[string(kind)] = append(lists[string(kind)], files.Doc(o))
		}
	}
	text, err := json.Marshal(lists)
	if err != nil {
		t.Fatal(err)
	}
	api = bare(t)
	publishEstate(t, api, string(text))
	return api, s, ldifOf(s)
}

// ldifOf writes units as organisational units, people below theirs, and listed groups of people.
func ldifOf(s *estate.Snapshot) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"dn: %s\nobjectClass: dcObject\nobjectClass: organization\ndc: larkfell\no: Larkfell\n\ndn: %s\nobjectClass: organizationalRole\n"+
			"objectClass: simpleSecurityObject\ncn: reader\nuserPassword: %s\n\n",
		baseDN,
		readDN,
		directorySecret,
	)
	at := map[estate.UnitID]string{}
	var unit func(parent estate.UnitID, dn string)
	unit = func(parent estate.UnitID, dn string) {
		for _, u := range s.Units {
			if u.Parent != parent {
				continue
			}
			at[u.ID] = fmt.Sprintf("ou=%s,%s", u.ID, dn)
			fmt.Fprintf(&b, "dn: %s\nobjectClass: organizationalUnit\nou: %s\ndescription: %s\n\n", at[u.ID], u.ID, u.Title)
			unit(u.ID, at[u.ID])
		}
	}
	unit("", baseDN)
	people := map[string]string{}
	for _, p := range s.People {
		people[string(p.ID)] = fmt.Sprintf("uid=%s,%s", p.ID, at[p.Unit])
		fmt.Fprintf(
			&b,
			"dn: %s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\nmail: %s\ntitle: %s\n\n",
			people[string(p.ID)],
			p.ID,
			p.Name,
			p.ID,
			p.Mail,
			p.Attributes["title"].Text(),
		)
	}
	for _, g := range s.Groups {
		if g.Of != estate.OfPeople || len(g.Members) == 0 {
			continue
		}
		fmt.Fprintf(&b, "dn: cn=%s,%s\nobjectClass: groupOfNames\ncn: %s\ndescription: %s\n", g.ID, baseDN, g.ID, g.Title)
		for _, m := range g.Members {
			fmt.Fprintf(&b, "member: %s\n", people[m])
		}
		b.WriteString("\n")
	}
	return b.String()
}

// TestTheDemoCompanyComesFromItsDirectory takes the company over that is here already: nobody is
// doubled, and no laptop gets anything else.
func TestTheDemoCompanyComesFromItsDirectory(t *testing.T) {
	t.Parallel()
	api, s, ldif := larkfell(t)
	server := startSlapd(t, ldif)
	posted[wire.Source](t, api, "/sources", server.source(func(l *directory.LDAP) {
		l.Units.Filter = "(objectClass=organizationalUnit)"
		l.Groups.Filter = "(objectClass=groupOfNames)"
	}))
	run := taken(t, api, "company", "full")
	listed := 0
	for _, g := range s.Groups {
		if g.Of == estate.OfPeople && len(g.Members) > 0 {
			listed++
		}
	}
	if r := run.Report; r.New != len(s.Units)+len(s.People)+listed || r.Adopted != r.New || r.Faulty != 0 || r.LooseCount != 0 ||
		r.Devices != 0 {
		t.Fatalf("taken over: %+v", r)
	}
	o := get[wire.Overview](t, api, "/overview")
	if o.Units != len(s.Units) || o.People != len(s.People) || o.Left != 0 {
		t.Errorf("afterwards there are %d units, %d people", o.Units, o.People)
	}
	for _, p := range s.People[:20] {
		got := object[files.PersonDoc](t, api, "people", string(p.ID))
		if got.Name != p.Name || got.Unit != string(p.Unit) || got.Mail != p.Mail ||
			got.Attributes["title"].Text() != p.Attributes["title"].Text() {
			t.Errorf("%s became %+v", p.ID, got)
		}
	}
	if u := object[files.UnitDoc](t, api, "units", "rv-petrel"); u.Parent != "survey-fleet" {
		t.Errorf("a boat: %+v", u)
	}
	if root := object[files.UnitDoc](t, api, "units", "larkfell"); root.Parent != "" {
		t.Errorf("the organisation stands below %s", root.Parent)
	}
	// Everybody moves out of a unit, and the unit goes: it stays here, marked, since laptops stand
	// in it.
	var moves strings.Builder
	for _, p := range s.People {
		if p.Unit == "tide-lab" {
			fmt.Fprintf(
				&moves,
				"dn: uid=%s,ou=tide-lab,ou=labs,ou=larkfell,%s\nchangetype: modrdn\nnewrdn: uid=%s\ndeleteoldrdn: 0\nnewsuperior: "+
					"ou=slipway,ou=larkfell,%s\n\n",
				p.ID,
				baseDN,
				p.ID,
				baseDN,
			)
		}
	}
	moves.WriteString("dn: ou=tide-lab,ou=labs,ou=larkfell," + baseDN + "\nchangetype: delete\n")
	server.modify(moves.String())
	if r := read(t, api, "full"); r.State != "taken" || r.Report.Left != 1 || r.Report.New != 0 {
		t.Errorf("after the move: %s %+v", r.State, r.Report)
	}
	left := get[wire.Page[wire.LeftObject]](t, api, "/left")
	if left.Total != 1 || left.Items[0].ID != "tide-lab" || left.Items[0].Title == "" {
		t.Errorf("left: %+v", left)
	}
}

// exported asks for an export.
func exported(t *testing.T, api *client.Client, of string, query url.Values) (int, [][]string) {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, api.Base+"/api/v1/exports/"+of+"?"+query.Encode(), nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Body.Close()
	if a.StatusCode != http.StatusOK {
		io.Copy(io.Discard, a.Body)
		return a.StatusCode, nil
	}
	rows, err := csv.NewReader(a.Body).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return a.StatusCode, rows
}

// TestAnExportIsWhatIsShown compares exports with the pages of the same filter, order and columns.
func TestAnExportIsWhatIsShown(t *testing.T) {
	t.Parallel()
	api, s, _ := larkfell(t)
	for name, query := range map[string]url.Values{
		"devices": {"where": {"os=linux|macos", "facts/ram_gb>=16"}, "sort": {"-os_version"},
			"columns": {"id,os_version,facts/ram_gb,tags,owner_name"}},
		"devices of a unit": {"unit": {"survey-fleet"}, "q": {"halyard"}, "sort": {"model"}, "columns": {"id,model,groups,last_seen"}},
		"people":            {"where": {"unit=labs", "devices>=1"}, "sort": {"name"}, "columns": {"id,name,devices,attributes/title"}},
	} {
		of, _, _ := strings.Cut(name, " ")
		status, rows := exported(t, api, of, query)
		if status != http.StatusOK || strings.Join(rows[0], ",") != query.Get("columns") || len(rows) < 3 {
			t.Fatalf("%s: %d %d rows, %v", name, status, len(rows), rows[0])
		}
		all, err := client.All[struct{ ID string }](t.Context(), api, "/"+of, query)
		if err != nil || len(all) != len(rows)-1 {
			t.Fatalf("%s: the pages have %d, the export %d: %v", name, len(all), len(rows)-1, err)
		}
		for i, item := range all {
			if rows[i+1][0] != item.ID {
				t.Errorf("%s: row %d is %s on the page, %s in the export", name, i, item.ID, rows[i+1][0])
			}
		}
	}
	if _, rows := exported(t, api, "devices", url.Values{}); len(rows) != len(s.Devices)+1 {
		t.Errorf("everything: %d rows", len(rows))
	}
	for _, bad := range []url.Values{{"columns": {"colour"}}, {"where": {"colour=red"}}, {"where": {"os"}}, {"sort": {"colour"}},
		{"group": {"nobody"}}} {
		if status, _ := exported(t, api, "devices", bad); status != http.StatusUnprocessableEntity && status != http.StatusNotFound {
			t.Errorf("%v: %d", bad, status)
		}
	}
	stranger := &client.Client{Base: api.Base}
	if status, _ := exported(t, stranger, "devices", nil); status != http.StatusUnauthorized {
		t.Errorf("a stranger: %d", status)
	}
	page := get[wire.Page[wire.Device]](t, api, "/devices?limit=1&columns=facts/ram_gb,groups&where="+url.QueryEscape("facts/ram_gb=32"))
	if page.Items[0].Fields["facts/ram_gb"].Integer() != 32 || page.Next == "" {
		t.Errorf("a page with columns: %+v", page)
	}
}

// TestWhoGetsItOverTheAPI asks as the console does: with what is wrong told and not refused, and
// names in full where they are wanted.
func TestWhoGetsItOverTheAPI(t *testing.T) {
	t.Parallel()
	api, s, _ := larkfell(t)
	reach := func(in wire.AudienceTrial) wire.AudienceAnswer {
		t.Helper()
		return posted[wire.AudienceAnswer](t, api, "/audience", in)
	}
	for name, doc := range map[string]files.AudienceDoc{"a condition that is none": {Include: []string{"everyone"}, When: "1 +"},
		"a target that is none": {Include: []string{"slipway"}}, "a condition over settings": {When: `settings["a"] == 1`}} {
		if a := reach(wire.AudienceTrial{Audience: doc}); len(a.Faults) == 0 || a.Reach != nil {
			t.Errorf("%s: %+v", name, a)
		}
	}
	a := reach(
		wire.AudienceTrial{
			Audience: files.AudienceDoc{
				Include: []string{"unit:survey-fleet", "group:nobody"},
				Exclude: []string{"group:bridge-laptops"},
				When:    `device.security_chip.atLeast("2")`,
			},
			Whole: true,
		},
	)
	if r := a.Reach; r.Gets.Count != len(r.Gets.First) || !slices.Equal(r.Missing, []string{"group:nobody"}) ||
		r.ByExclude[0].Devices != r.Excluded.Count ||
		r.Gets.Count+r.Excluded.Count+r.Condition.Count+r.NotIncluded.Count+r.Platform.Count != len(s.Devices) ||
		r.ByExclude[0].Title == "" {
		t.Errorf("reach: %+v", r)
	}
	if r := reach(
		wire.AudienceTrial{Audience: files.AudienceDoc{Include: []string{"everyone"}}, Platforms: []string{"linux"}},
	).Reach; r.Alarm != "many" ||
		len(r.Gets.First) != 50 {
		t.Errorf("all of one platform: %s, %d named", r.Alarm, len(r.Gets.First))
	}
	for name, doc := range map[string]string{"of nothing": `{"id":"g"}`,
		"a rule that is none":     `{"id":"g","of":"devices","rule":"device."}`,
		"a group of another kind": `{"id":"g","of":"people","groups":["field-laptops"]}`,
		"an unknown field":        `{"id":"g","of":"devices","colour":"red"}`} {
		if g := posted[wire.GroupAnswer](t, api, "/groups/try", []byte(doc)); len(g.Faults) == 0 || g.Trial != nil {
			t.Errorf("%s: %+v", name, g)
		}
	}
	page := get[wire.GroupPage](t, api, "/groups/on-call")
	if len(page.Nesting) != 1 || page.Nesting[0].ID != "crew-leads" || page.Trial.Nested == 0 || page.Trial.Count != page.Group.Members ||
		page.Trial.JoinCount != 0 {
		t.Errorf("a group's page: %+v", page)
	}
	units := get[[]wire.Unit](t, api, "/units")
	if units[0].ID != "larkfell" || units[0].Devices != len(s.Devices) || units[0].People != len(s.People) || units[0].Depth != 0 {
		t.Errorf("the tree begins with %+v", units[0])
	}
	own := 0
	for _, u := range units {
		own += u.Own
	}
	if own != len(s.Devices) {
		t.Errorf("laptops in units alone add up to %d", own)
	}
}
