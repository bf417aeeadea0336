// This file reads a real directory server: slapd, started on a loopback port with a made-up
// company.

package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func object[T any](t testing.TB, api *client.Client, kind, id string) (doc T) {
	t.Helper()
	o := get[wire.Object](t, api, "/estate/"+kind+"/"+id)
	if err := json.Unmarshal(o.Body, &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}

// read reads the source and waits until what it found was taken, or the run failed.
func read(t testing.TB, api *client.Client, way string) wire.SourceRun {
	t.Helper()
	begun := posted[wire.SourceRun](t, api, "/sources/company/runs", wire.ReadSource{Way: way})
	s := until(t, api, "/sources/company", func(s wire.Source) bool {
		return s.Running != nil && s.Running.State == "waiting" ||
			s.Running == nil && len(s.Runs) > 0 && !s.Runs[0].StartedAt.Before(begun.StartedAt)
	})
	if s.Running != nil {
		return *s.Running
	}
	return s.Runs[0]
}

func TestADirectoryIsFollowed(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(3, 12, 2))
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(nil))
	run := taken(t, api, "company", "full")
	if r := run.Report; r.New != 3+12+2 || r.Faulty != 0 || r.LooseCount != 0 {
		t.Fatalf("the first reading: %+v", r)
	}
	if u := object[files.UnitDoc](t, api, "units", "site1"); u.Parent != "site0" || u.Title != "Site 1" {
		t.Errorf("a unit: %+v", u)
	}
	if u := object[files.UnitDoc](t, api, "units", "site0"); u.Parent != "r" {
		t.Errorf("the outermost unit: %+v", u)
	}
	if p := object[files.PersonDoc](
		t,
		api,
		"people",
		"person4",
	); p.Unit != "site1" || p.Mail != "person4@larkfell.example" || p.Name != "Person 4" ||
		p.Attributes["title"].Text() != "Surveyor" {
		t.Errorf("a person: %+v", p)
	}
	if g := object[files.GroupDoc](t, api, "groups", "group1"); len(g.Members) != 6 || g.Of != "people" || g.Title != "group1" {
		t.Errorf("a group: %+v", g)
	}
	if again := read(t, api, "full"); again.State != "taken" || again.Report.Same != 17 ||
		again.Report.New+again.Report.Altered+again.Report.Left != 0 {
		t.Errorf("read again: %+v", again.Report)
	}

	// Renamed, moved and altered entries are the same people, by what is stable.
	server.modify(fmt.Sprintf(`dn: %s
changetype: modrdn
newrdn: uid=renamed
deleteoldrdn: 1
newsuperior: %s

dn: %s
changetype: modify
replace: title
title: Captain
-
replace: cn
cn: Captain Four
`, personDN(3, 3), unitDN(2), personDN(4, 3)))
	if r := read(t, api, "recent"); r.State != "taken" || r.Way != "recent" || r.Report.Altered < 2 || r.Report.New+r.Report.Left != 0 {
		t.Errorf("what altered: %s %+v", r.Way, r.Report)
	}
	if p := object[files.PersonDoc](t, api, "people", "person3"); p.Unit != "site2" {
		t.Errorf("moved: %+v", p)
	}
	if p := object[files.PersonDoc](t, api, "people", "person4"); p.Name != "Captain Four" || p.Attributes["title"].Text() != "Captain" {
		t.Errorf("altered: %+v", p)
	}

	// Removed at the source: found by the full comparison, marked, and still here.
	server.modify("dn: " + personDN(7, 3) + "\nchangetype: delete\n")
	if r := read(t, api, "recent"); r.Report.Left != 0 {
		t.Errorf("a reading of what altered can't know: %+v", r.Report)
	}
	if r := read(t, api, "full"); r.State != "taken" || r.Report.Left != 1 {
		t.Errorf("the comparison: %+v", r.Report)
	}
	if left := get[wire.Page[wire.LeftObject]](t, api, "/left"); left.Total != 1 || left.Items[0].ID != "person7" {
		t.Errorf("left: %+v", left)
	}
	object[files.PersonDoc](t, api, "people", "person7")
}

// TestMembershipByWhatPeopleSay reads memberOf, in full and of what altered.
func TestMembershipByWhatPeopleSay(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(2, 6, 0))
	var groups strings.Builder
	for g := range 2 {
		fmt.Fprintf(
			&groups,
			"dn: cn=group%d,%s\nchangetype: add\nobjectClass: groupOfNames\ncn: group%d\nmember: %s\nmember: %s\n\n",
			g,
			baseDN,
			g,
			personDN(g, 2),
			personDN(g+2, 2),
		)
	}
	server.modify(groups.String())
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(func(l *directory.LDAP) {
		l.Groups.Members = directory.ByMemberOf
		l.Address = "ldaps://" + server.secure
	}))
	taken(t, api, "company", "full")
	if g := object[files.GroupDoc](t, api, "groups", "group0"); strings.Join(g.Members, " ") != "person0 person2" {
		t.Errorf("by memberOf: %+v", g)
	}
	server.modify(
		fmt.Sprintf(
			"dn: cn=group0,%s\nchangetype: modify\nadd: member\nmember: %s\n\ndn: %s\nchangetype: modify\nreplace: title\ntitle: Mate\n",
			baseDN,
			personDN(5, 2),
			personDN(5, 2),
		),
	)
	if r := read(t, api, "recent"); r.State != "taken" || r.Report.Altered != 2 {
		t.Errorf("what altered: %+v", r.Report)
	}
	if g := object[files.GroupDoc](t, api, "groups", "group0"); strings.Join(g.Members, " ") != "person0 person2 person5" {
		t.Errorf("after a member was added: %+v", g)
	}
}

// TestADirectoryIsRefusedInPlainWords tries what goes wrong between two machines. Nothing is taken,
// and no secret told.
func TestADirectoryIsRefusedInPlainWords(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(1, 2, 0))
	other := startSlapd(t, company(1, 1, 0))
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(nil))
	for name, c := range map[string]struct {
		alter func(*directory.LDAP)
		said  string
	}{
		"another authority":    {func(l *directory.LDAP) { l.Authority = other.ca }, "securing the connection"},
		"no authority of ours": {func(l *directory.LDAP) { l.Authority = ""; l.Address = "ldaps://" + server.secure }, "connecting"},
		"another account":      {func(l *directory.LDAP) { l.BindAs = "cn=nobody," + baseDN }, "signing in"},
		"nobody listens":       {func(l *directory.LDAP) { l.Address = "ldap://" + freePort(t) }, "connecting"},
		"a base that is not":   {func(l *directory.LDAP) { l.Base = "dc=nowhere,dc=example" }, "reading"},
		"no such password":     {func(l *directory.LDAP) { l.Password = "elsewhere" }, "folder of secrets"},
	} {
		s := get[wire.Source](t, api, "/sources/company")
		proposed := server.source(c.alter)
		if _, err := api.Call(
			context.Background(),
			http.MethodPut,
			"/sources/company",
			nil,
			wire.ProposedSource{SetUp: proposed.SetUp},
			nil,
			"If-Match",
			fmt.Sprintf(`"%d"`, s.Version),
		); err != nil {
			t.Fatal(err)
		}
		run := waiting(t, api, "company", "full")
		text, _ := json.Marshal(run.Report)
		if run.State != "failed" || !strings.Contains(string(text), c.said) || strings.Contains(string(text), directorySecret) {
			t.Errorf("%s: %s %s", name, run.State, text)
		}
	}
	for name, alter := range map[string]func(*directory.LDAP){
		"no encryption at all":             func(l *directory.LDAP) { l.Address = "http://x" },
		"a filter with a bracket too many": func(l *directory.LDAP) { l.People.Filter = "(uid=*))" },
		"a password that is a path":        func(l *directory.LDAP) { l.Password = "../etc/passwd" },
		"a base that is no name":           func(l *directory.LDAP) { l.Base = "larkfell" },
		"nothing to read":                  func(l *directory.LDAP) { l.People.Filter, l.Units.Filter, l.Groups.Filter = "", "", "" },
		"a taken name":                     func(l *directory.LDAP) { l.People.Attributes = map[string]string{"mail": "mail"} },
	} {
		if _, err := client.Post[wire.Source](context.Background(), api, "/sources", server.source(alter)); err == nil ||
			!strings.Contains(err.Error(), "expected") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestAServerThatDiesWhilePagesAreRead kills the server between two pages of 5,000 entries: nothing
// altered, and later everything is read.
func TestAServerThatDiesWhilePagesAreRead(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, company(10, 5000, 4))
	// The service reads through a wire that is cut after so many bytes.
	limit := 200_000
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", server.address)
			if err != nil {
				in.Close()
				return
			}
			go func() { defer out.Close(); buffer := make([]byte, 4096); pipe(out, in, buffer, -1) }()
			go func() {
				defer in.Close()
				if pipe(in, out, make([]byte, 4096), limit) {
					server.kill()
				}
			}()
		}
	}()
	api := started(t)
	posted[wire.Source](t, api, "/sources", server.source(func(d *directory.LDAP) { d.Address = "ldap://" + l.Addr().String() }))
	if run := waiting(t, api, "company", "full"); run.State != "failed" || !strings.Contains(run.Report.Message, "reading") {
		t.Fatalf("the server died, and the run is %s %+v", run.State, run.Report)
	}
	if all := get[wire.Page[wire.Object]](t, api, "/estate/people"); all.Total != 1 {
		t.Errorf("%d people after half a reading", all.Total)
	}
	server.start()
	s := get[wire.Source](t, api, "/sources/company")
	if _, err := api.Call(
		context.Background(),
		http.MethodPut,
		"/sources/company",
		nil,
		wire.ProposedSource{SetUp: server.source(nil).SetUp},
		nil,
		"If-Match",
		fmt.Sprintf(`"%d"`, s.Version),
	); err != nil {
		t.Fatal(err)
	}
	if run := taken(t, api, "company", "full"); run.Report.New != 5000+10+4 {
		t.Errorf("afterwards: %+v", run.Report)
	}
	// When much would leave at once, a person is asked first.
	var gone strings.Builder
	for p := 0; p < 5000; p += 4 {
		fmt.Fprintf(&gone, "dn: %s\nchangetype: delete\n\n", personDN(p, 10))
	}
	server.modify(gone.String())
	if run := read(t, api, "full"); run.State != "waiting" || run.Report.Reason != "many-left" || run.Report.Left != 1250 {
		t.Errorf("a quarter left, and the run is %s: left %d, %s", run.State, run.Report.Left, run.Report.Reason)
	}
	if left := get[wire.Page[wire.LeftObject]](t, api, "/left"); left.Total != 0 {
		t.Errorf("%d are marked before anybody looked", left.Total)
	}
}

// pipe copies until the end or the limit, and tells whether the limit was met. A negative limit is
// none.
func pipe(to, from net.Conn, buffer []byte, limit int) (cut bool) {
	for {
		n, err := from.Read(buffer)
		if limit >= 0 {
			if limit -= n; limit < 0 {
				return true
			}
		}
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return false
			}
		}
		if err != nil {
			return false
		}
	}
}

// TestOnlyListedDirectoriesAreAsked sets up sources that would have the password sent to somebody
// else's listener. Nobody connects there: the operator's list names where each password may go.
func TestOnlyListedDirectoriesAreAsked(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.2:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	connected := make(chan struct{}, 1)
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			connected <- struct{}{}
			c.Close()
		}
	}()
	set := func(address, password string) wire.NewSource {
		l := &directory.LDAP{Address: address, Base: baseDN, People: directory.LDAPPeople{Filter: "(objectClass=*)"}}
		if password != "" {
			l.BindAs, l.Password = readDN, password
		}
		return wire.NewSource{ID: "company", Kind: "ldap", Title: "Company", SetUp: directory.SourceSetUp{LDAP: l}}
	}
	api := bare(t)
	at := listener.Addr().String()
	for what, source := range map[string]wire.NewSource{
		"another host":                set("ldap://"+at, "directory"),
		"a listed host, no password":  set("ldap://127.0.0.1:389", ""),
		"another password":            set("ldaps://directory.larkfell.example", "elsewhere"),
		"another port":                set("ldaps://directory.larkfell.example:1636", "directory"),
		"a name that begins the same": set("ldap://127.0.0.1.larkfell.example:389", "directory"),
	} {
		_, err := client.Post[wire.Source](t.Context(), api, "/sources", source)
		if err == nil || !strings.Contains(err.Error(), "destinations") || strings.Contains(err.Error(), directorySecret) {
			t.Errorf("%s: %v", what, err)
		}
	}
	listed := set("ldaps://Directory.Larkfell.example", "directory") // the port of the protocol, the name in any case
	made, err := client.Post[wire.Source](t.Context(), api, "/sources", listed)
	if err != nil {
		t.Fatal(err)
	}
	header := []string{"If-Match", fmt.Sprintf("%q", fmt.Sprint(made.Version))}
	_, err = api.Call(t.Context(), http.MethodPut, "/sources/company", nil,
		map[string]any{"set_up": set("ldap://"+at, "directory").SetUp}, nil, header...)
	if err == nil || !strings.Contains(err.Error(), "destinations") {
		t.Errorf("proposed later: %v", err)
	}
	select {
	case <-connected:
		t.Error("somebody connected to a directory that is not listed")
	default:
	}
}
