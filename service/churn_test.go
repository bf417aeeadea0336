// This file lets sources churn at random, from fixed seeds, and compares the estate with a plain
// model of what should be there.

package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// leftNow lists what has left, by kind and id.
func leftNow(t testing.TB, api *client.Client) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for _, l := range get[wire.Page[wire.LeftObject]](t, api, "/left?limit=1000").Items {
		out[l.Kind+"/"+l.ID] = true
	}
	return out
}

// all gives every object of a kind.
func all[T any](t testing.TB, api *client.Client, kind string) map[string]T {
	t.Helper()
	objects, err := client.All[wire.Object](t.Context(), api, "/estate/"+kind, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := make(map[string]T, len(objects))
	for _, o := range objects {
		var doc T
		if err := json.Unmarshal(o.Body, &doc); err != nil {
			t.Fatal(err)
		}
		out[o.ID] = doc
	}
	return out
}

// TestTablesThatComeAndGo sends tables made at random: after each the estate has what any table
// ever had, as the last one that had it says, and what the last table lacks has left. Each is sent
// twice, and the second time alters nothing.
func TestTablesThatComeAndGo(t *testing.T) {
	t.Parallel()
	api := started(t)
	source := inventorySource()
	source.SetUp.MostLeft = 100
	posted[wire.Source](t, api, "/sources", source)
	random := rand.New(rand.NewPCG(7, 11))
	model, there := map[string]string{}, map[string]bool{} // by serial: the release; whether the last table had it
	for turn := range 12 {
		var rows []string
		clear(there)
		for i := range 40 {
			if random.IntN(3) == 0 {
				continue
			}
			serial, release := fmt.Sprintf("R-%02d", i), fmt.Sprintf("12.%d", random.IntN(3))
			model[serial], there[serial] = release, true
			rows = append(rows, fmt.Sprintf("%s,linux,%s,,R,%d\n", serial, release, 8))
		}
		random.Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
		table := strings.Join(rows, "")
		run := sent(t, api, table)
		if turn == 0 {
			run = posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
		}
		if run.State != "taken" {
			t.Fatalf("turn %d: %s %+v", turn, run.State, run.Report)
		}
		if again := sent(t, api, table); again.Report.Same != len(rows) ||
			again.Report.New+again.Report.Altered+again.Report.Left+again.Report.Back != 0 {
			t.Errorf("turn %d, the same again: %+v", turn, again.Report)
		}
		got, left := devices(t, api), leftNow(t, api)
		for serial, release := range model {
			if got[serial].OSVersion != release || left["devices/"+serial] == there[serial] {
				t.Errorf(
					"turn %d: %s is on %s and left %v, expected %s and %v",
					turn,
					serial,
					got[serial].OSVersion,
					left["devices/"+serial],
					release,
					!there[serial],
				)
			}
		}
		if len(got) != len(model)+2 {
			t.Errorf("turn %d: %d laptops, expected %d", turn, len(got), len(model)+2)
		}
	}
}

// TestATableCutAnywhereAltersNothing cuts a table at many places: what is left of it is refused,
// waits or is another whole table; with `look` nothing of it is ever taken.
func TestATableCutAnywhereAltersNothing(t *testing.T) {
	t.Parallel()
	api := started(t)
	posted[wire.Source](t, api, "/sources", inventorySource())
	var table strings.Builder
	table.WriteString(tableHeader)
	for i := range 30 {
		fmt.Fprintf(&table, "\"C-%d\",linux,12,,\"Crèche, north\",8\n", i)
	}
	sent(t, api, strings.TrimPrefix(table.String(), tableHeader))
	posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
	before := devices(t, api)
	for cut := 0; cut < table.Len(); cut += 37 {
		run, refused := send(t, api, "inventory", bytes.NewReader([]byte(table.String()[:cut])), true)
		if refused == nil && run.State == "taken" {
			t.Fatalf("cut at %d it was taken", cut)
		}
	}
	if after := devices(t, api); fmt.Sprint(after) != fmt.Sprint(before) || len(leftNow(t, api)) != 0 {
		t.Errorf("something altered: %d laptops, %d left", len(after), len(leftNow(t, api)))
	}
}

// TestAClientThatWritesAtRandom creates, alters, deletes and groups over SCIM; the estate has who
// was ever there, members as the groups last said, and who was deleted or switched off has left.
func TestAClientThatWritesAtRandom(t *testing.T) {
	t.Parallel()
	api, p := provisioned(t)
	p.must(http.StatusCreated, "POST", "/Users", user("first"))
	taken(t, api, "hr", "full")
	random := rand.New(rand.NewPCG(3, 5))
	type person struct {
		id, title  string
		off, there bool
	}
	people := map[string]*person{"first": {there: true}}
	groups := map[string]string{} // by name: the id
	members := map[string]map[string]bool{}
	names := func() (list []string) {
		for name, x := range people {
			if x.there && x.id != "" {
				list = append(list, name)
			}
		}
		slices.Sort(list)
		return list
	}
	for range 150 {
		known := names()
		pick := func() string { return known[random.IntN(len(known))] }
		switch n := random.IntN(10); {
		case n < 3 || len(known) < 4:
			name := fmt.Sprintf("n%d", len(people))
			people[name] = &person{id: p.must(http.StatusCreated, "POST", "/Users", user(name, `"title":"A"`)).id(), title: "A", there: true}
		case n < 5:
			x := people[pick()]
			x.title = fmt.Sprintf("T%d", random.IntN(100))
			p.must(http.StatusOK, "PATCH", "/Users/"+x.id, patch(fmt.Sprintf(`{"op":"replace","path":"title","value":%q}`, x.title)))
		case n == 5:
			x := people[pick()]
			x.off = !x.off
			p.must(http.StatusOK, "PATCH", "/Users/"+x.id, patch(fmt.Sprintf(`{"op":"replace","value":{"active":%v}}`, !x.off)))
		case n == 6:
			name := pick()
			people[name].there = false
			p.must(http.StatusNoContent, "DELETE", "/Users/"+people[name].id, "")
			for _, in := range members {
				delete(in, name)
			}
		case len(groups) < 3:
			name := fmt.Sprintf("g%d", len(groups))
			groups[name], members[name] = p.must(http.StatusCreated, "POST", "/Groups", group(name)).id(), map[string]bool{}
		default:
			g, name := fmt.Sprintf("g%d", random.IntN(len(groups))), pick()
			if members[g][name] {
				delete(members[g], name)
				p.must(
					http.StatusOK,
					"PATCH",
					"/Groups/"+groups[g],
					patch(fmt.Sprintf(`{"op":"remove","path":"members[value eq \"%s\"]"}`, people[name].id)),
				)
			} else {
				members[g][name] = true
				p.must(
					http.StatusOK,
					"PATCH",
					"/Groups/"+groups[g],
					patch(fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, people[name].id)),
				)
			}
		}
	}
	right := func() string {
		got, left := all[files.PersonDoc](t, api, "people"), leftNow(t, api)
		for name, x := range people {
			is, here := got[name]
			// Who came and went between two moments was never here.
			if !x.there && !here {
				continue
			}
			if gone := !x.there ||
				x.off; !here && !gone || here && left["people/"+name] != gone ||
				here && !gone && is.Attributes["title"].Text() != x.title {
				return fmt.Sprintf("%s is %+v, here %v, left %v; expected %+v", name, is, here, left["people/"+name], *x)
			}
		}
		listed := all[files.GroupDoc](t, api, "groups")
		for g, in := range members {
			var want []string
			for name := range in {
				if _, here := got[name]; here {
					want = append(want, name)
				}
			}
			slices.Sort(want)
			if !slices.Equal(listed[g].Members, want) {
				return fmt.Sprintf("%s has %v, expected %v", g, listed[g].Members, want)
			}
		}
		return ""
	}
	last := ""
	until(t, api, "/sources/hr", func(wire.Source) bool { last = right(); return last == "" })
}

// TestReadingWhatAlteredIsReadingEverything alters a directory at random. After each reading of
// what altered, a comparison of everything finds nothing but what was removed.
func TestReadingWhatAlteredIsReadingEverything(t *testing.T) {
	t.Parallel()
	const units, people, groups = 4, 24, 3
	for _, way := range []string{directory.ByMember, directory.ByMemberOf} {
		t.Run(way, func(t *testing.T) {
			server := startSlapd(t, company(units, people, 0))
			var ldif strings.Builder
			for g := range groups {
				fmt.Fprintf(
					&ldif,
					"dn: cn=group%d,%s\nchangetype: add\nobjectClass: groupOfNames\ncn: group%d\nmember: %s\nmember: %s\n\n",
					g,
					baseDN,
					g,
					personDN(g, units),
					personDN(g+1, units),
				)
			}
			server.modify(ldif.String())
			api := started(t)
			source := server.source(func(l *directory.LDAP) { l.Groups.Members = way })
			source.SetUp.MostLeft = 100
			posted[wire.Source](t, api, "/sources", source)
			taken(t, api, "company", "full")
			random := rand.New(rand.NewPCG(1, 2))
			at := make([]string, people) // where each person is; empty: removed
			for p := range people {
				at[p] = personDN(p, units)
			}
			for turn := range 6 {
				ldif.Reset()
				removed := 0
				for range 8 {
					p := 4 + random.IntN(people-4) // the first ones keep the groups alive
					switch n := random.IntN(8); {
					case at[p] == "":
					case n < 3:
						fmt.Fprintf(&ldif, "dn: %s\nchangetype: modify\nreplace: title\ntitle: T%d-%d\n\n", at[p], turn, random.IntN(9))
					case n < 5:
						to := unitDN(random.IntN(units))
						rdn, _, _ := strings.Cut(at[p], ",")
						if at[p] != rdn+","+to {
							fmt.Fprintf(&ldif, "dn: %s\nchangetype: modrdn\nnewrdn: %s\ndeleteoldrdn: 0\n"+
								"newsuperior: %s\n\n", at[p], rdn, to)
							at[p] = rdn + "," + to
						}
					case n == 5:
						fmt.Fprintf(&ldif, "dn: %s\nchangetype: delete\n\n", at[p])
						at[p] = ""
						removed++
					default:
						// A membership, and with it an alteration of the person: a server may not
						// stamp it.
						fmt.Fprintf(&ldif, "dn: %s\nchangetype: modify\nreplace: description\ndescription: %d\n\n", at[p], turn)
					}
				}
				server.modify(ldif.String())
				if r := read(t, api, "recent"); r.State != "taken" {
					t.Fatalf("turn %d: %s %+v", turn, r.State, r.Report)
				}
				r := read(t, api, "full")
				if r.State != "taken" || r.Report.Left != removed || r.Report.New+r.Report.Back != 0 || alteredPeople(r) != 0 {
					t.Errorf("turn %d: %d were removed, and the comparison finds %+v", turn, removed, r.Report)
				}
			}
		})
	}
}

// alteredPeople counts the people that a run altered. Groups lose members that were removed, which
// only a comparison sees.
func alteredPeople(r wire.SourceRun) (n int) {
	for _, i := range r.Report.Items {
		if i.What == "altered" && i.Kind == "people" {
			n++
		}
	}
	return n
}
