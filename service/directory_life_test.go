// This file reads what real directories have: groups that are members of themselves, people who are
// hired again, names with letters that ids do not have.

package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// nested is an LDIF of groups, each with the others that it has as members, in the order given.
func nested(groups ...string) string {
	var b strings.Builder
	for _, line := range groups {
		name, members, _ := strings.Cut(line, ":")
		fmt.Fprintf(&b, "dn: cn=%s,ou=groups,%s\nobjectClass: groupOfNames\ncn: %s\nmember: %s\n", name, baseDN, name, personDN(0, 2))
		for member := range strings.FieldsSeq(members) {
			fmt.Fprintf(&b, "member: cn=%s,ou=groups,%s\n", member, baseDN)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// TestCirclesOfGroupsAreOpened: a group that is its own member, by itself or through others, is read
// without the membership that closes the circle. The order of the entries makes no difference.
func TestCirclesOfGroupsAreOpened(t *testing.T) {
	t.Parallel()
	groups := []string{"alpha: beta", "beta: gamma", "gamma: alpha delta", "delta: delta", "epsilon: alpha"}
	var results []string
	for turn := range 2 {
		if turn == 1 {
			slices.Reverse(groups)
		}
		server := startSlapd(t, company(2, 4, 1)+nested(groups...))
		api := started(t)
		posted[wire.Source](t, api, "/sources", server.source(nil))
		run := taken(t, api, "company", "full")
		r := run.Report
		if r.Faulty != 0 || r.CircleCount != 2 || !slices.Equal(r.Circles, []string{"delta in delta", "alpha in gamma"}) {
			t.Fatalf("circles: %d %v, %d faulty %v", r.CircleCount, r.Circles, r.Faulty, r.Faults)
		}
		result := ""
		for _, name := range []string{"alpha", "beta", "gamma", "delta", "epsilon"} {
			g := object[files.GroupDoc](t, api, "groups", name)
			result += fmt.Sprint(name, g.Groups, g.Members, " ")
		}
		results = append(results, result)
		if again := read(t, api, "full"); again.State != "taken" || again.Report.Altered+again.Report.New != 0 {
			t.Errorf("read again: %+v", again.Report)
		}
		// A circle that comes later is opened as well.
		server.modify(
			fmt.Sprintf("dn: cn=alpha,ou=groups,%s\nchangetype: modify\nadd: member\nmember: cn=epsilon,ou=groups,%s\n", baseDN, baseDN),
		)
		if later := read(t, api, "recent"); later.State != "taken" || later.Report.Faulty != 0 || later.Report.CircleCount == 0 {
			t.Errorf("a circle that comes later: %s %+v", later.State, later.Report)
		}
	}
	want := "alpha[beta] [person0] beta[gamma] [person0] gamma[delta] [person0] delta[] [person0] epsilon[alpha] [person0] "
	if results[0] != want || results[1] != results[0] {
		t.Errorf("%q and %q, expected %q", results[0], results[1], want)
	}
}

// TestWhoeverIsHiredAgainIsTheSamePerson: an entry that is made anew, with the same name and mail, is
// the person who was there, whether or not a reading saw that the first entry had gone.
func TestWhoeverIsHiredAgainIsTheSamePerson(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(2, 6, 1))
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(nil))
	taken(t, api, "company", "full")
	again := func(person int, title string) {
		t.Helper()
		server.modify(fmt.Sprintf(`dn: %s
changetype: delete

`, personDN(person, 2)))
		if title == "seen" {
			if r := read(t, api, "full"); r.State != "taken" || r.Report.Left != 1 {
				t.Fatalf("gone: %s %+v", r.State, r.Report)
			}
		}
		server.modify(fmt.Sprintf(`dn: uid=person%d,%s
changetype: add
objectClass: inetOrgPerson
uid: person%d
cn: Person %d again
sn: %d
mail: person%d@larkfell.example
title: %s
`, person, unitDN(0), person, person, person, person, title))
	}
	for _, title := range []string{"unseen", "seen"} {
		person := map[string]int{"unseen": 3, "seen": 4}[title]
		again(person, title)
		r := read(t, api, "full")
		if r.State != "taken" || r.Report.Faulty != 0 || r.Report.Left != 0 {
			t.Errorf("%s: %s %+v", title, r.State, r.Report)
		}
		id := fmt.Sprint("person", person)
		if p := object[files.PersonDoc](t, api, "people", id); p.Name != fmt.Sprintf("Person %d again", person) ||
			p.Attributes["title"].Text() != title {
			t.Errorf("%s: %+v", title, p)
		}
		if page := get[wire.Page[wire.Person]](t, api, "/people?q="+id); page.Total != 1 {
			t.Errorf("%s: %d people are called %s", title, page.Total, id)
		}
		if left := get[wire.Page[wire.LeftObject]](t, api, "/left"); left.Total != 0 {
			t.Errorf("%s: left %+v", title, left.Items)
		}
	}
}

// TestNamesBecomeIDs: titles of groups are their names, and letters that ids do not have are
// transliterated.
func TestNamesBecomeIDs(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(2, 4, 1)+nested("Führung Süd:", "Équipe Réseau:", "Łódź crew:"))
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(nil))
	taken(t, api, "company", "full")
	for id, title := range map[string]string{"Fuehrung-Sued": "Führung Süd", "Equipe-Reseau": "Équipe Réseau",
		"Lodz-crew": "Łódź crew", "group0": "group0"} {
		if g := object[files.GroupDoc](t, api, "groups", id); g.Title != title {
			t.Errorf("%s: %+v", id, g)
		}
	}
	for text, want := range map[string]string{
		"führung": "fuehrung", "Straße 9": "Strasse-9", "Ærø": "Aeroe", "naïve café": "naive-cafe", "Ελλάδα": "Ellada",
		"Щука": "Shchuka", "  ": "",
		"日本": "", "a 日本 b": "a-b", "-x-": "x", "a__b..c": "a__b..c", strings.Repeat("ü", 80): strings.Repeat("ue", 50), "ﬁne": "fine",
		"e\u0301te": "ete",
	} {
		if got := directory.ValidSlug(text); got != want {
			t.Errorf("%q becomes %q, expected %q", text, got, want)
		}
	}
}
