// This file has what sources sent before: how long it is kept, and what becomes of it after a restart.

package workflow_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/scim"
	. "zenithridge.example/zridge/service/workflow"
)

// TestHistoryOfSourcesIsTrimmedByAge reads a source on three days, the last of them after the first
// is older than is kept.
func TestHistoryOfSourcesIsTrimmedByAge(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withInventory(t, f, inventory())
	sent(t, f, "A-1,linux,12,,labs,8\n")
	sent(t, f, "A-1,linux,13,,labs,8\n")
	count := func(when string, runs, events int) {
		t.Helper()
		f.Due(t.Context())
		found, err := s.Runs("inventory", 100)
		history, err2 := s.Events("devices", "A-1", 100)
		if err := errors.Join(err, err2); err != nil || len(found) != runs || len(history) != events {
			t.Errorf("%s: %d runs and %d events, expected %d and %d (%v)", when, len(found), len(history), runs, events, err)
		}
	}
	count("on the day", 2, 2)
	day.Store("2027-12-27")
	count("a day before they are too old", 2, 2)
	day.Store("2027-12-29")
	count("when they are too old, but for the newest run", 1, 0)
	sent(t, f, "A-1,linux,14,,labs,8\n")
	count("after another reading", 1, 1)
}

// TestWhatWasTriedIsWorkedOutAnewWhenTheEstateAlters publishes between the dry run and its taking.
func TestWhatWasTriedIsWorkedOutAnewWhenTheEstateAlters(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withInventory(t, f, inventory())
	state, err := f.Upload(context.Background(), ines, "inventory", "x.csv", strings.NewReader(tableHead+"A-1,linux,12,,labs,8\n"), 0, false)
	if err != nil || state.State != RunWaiting {
		t.Fatal(state, err)
	}
	p := f.Live().Plan.Snapshot().Policies[0]
	p.Priority++
	edited(t, f, p, estate.KindPolicy)
	revision := f.Live().Revision
	if _, err := f.Take(t.Context(), ines, "inventory"); err != nil {
		t.Fatal(err)
	}
	is := f.Live().Plan.Snapshot().Policies
	at := slices.IndexFunc(is, func(q estate.Policy) bool { return q.ID == p.ID })
	if is[at].Priority != p.Priority || f.Live().Plan.Device("A-1") == nil || f.Live().Revision != revision+1 {
		t.Error("one of the two was lost")
	}
	if _, err := f.Upload(context.Background(), ines, "inventory",
		"x.csv",
		strings.NewReader(tableHead+"A-1,linux,12,,labs,8\nA-2,linux,12,,,\n"),
		0,
		true,
	); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Propose(t.Context(), ines, "inventory", "", inventory(), -1); err != nil {
		t.Fatal(err)
	}
	var state2 *StateError
	if _, err := f.Take(t.Context(), ines, "inventory"); !errors.As(err, &state2) {
		t.Errorf("what waited was taken although the set-up is another: %v", err)
	}
}

// TestWhatWasWrittenBeforeARestartIsTakenInAfterIt writes over SCIM with nobody following, as when
// a service stops in between.
func TestWhatWasWrittenBeforeARestartIsTakenInAfterIt(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withDemo(t, f)
	if _, err := f.AddSource(t.Context(), ines, "hr", SCIM, "HR", SetUp{SCIM: &SCIMSetUp{}}); err != nil {
		t.Fatal(err)
	}
	add := func(f *Service, name string) string {
		t.Helper()
		p, err := f.Provision(t.Context(), "hr", scim.Users, "", -1, func(scim.Resource) (scim.Resource, error) {
			return scim.Users.Read([]byte(fmt.Sprintf(`{"schemas":[%q],"userName":%q}`, scim.UserSchema, name)))
		})
		if err != nil {
			t.Fatal(err)
		}
		return p.ID
	}
	add(f, "first")
	run := func(f *Service) {
		t.Helper()
		events, stop := f.Watch()
		defer stop()
		if _, err := f.StartReading(t.Context(), ines, "hr", FullRun, false); err != nil {
			t.Fatal(err)
		}
		for {
			x, err := f.Source(t.Context(), ines, "hr")
			if err != nil {
				t.Fatal(err)
			}
			if x.Running != nil && x.Running.State().State == RunWaiting {
				if _, err := f.Take(t.Context(), ines, "hr"); err != nil {
					t.Fatal(err)
				}
				return
			}
			<-events
		}
	}
	run(f)
	add(f, "second") // nobody runs f.Run: it is kept, and not in the estate
	if f.Live().Plan.Person("second") != nil {
		t.Fatal("it followed by itself")
	}
	f = again(t, s, day)
	events, stop := f.Watch()
	defer stop()
	ctx, end := context.WithCancel(context.Background())
	defer end()
	go f.Run(ctx)
	for f.Live().Plan.Person("second") == nil {
		<-events
	}
	third := add(f, "third")
	for f.Live().Plan.Person("third") == nil {
		<-events
	}
	if err := f.Deprovision(t.Context(), "hr", scim.Users, third, -1); err != nil {
		t.Fatal(err)
	}
	for o := f.OriginOf(estate.KindPerson, "third"); o == nil || o.Left == nil; o = f.OriginOf(estate.KindPerson, "third") {
		<-events
	}
	fourth := add(f, "third") // the name is free again, and the person is the same
	for o := f.OriginOf(estate.KindPerson, "third"); o.Left != nil; o = f.OriginOf(estate.KindPerson, "third") {
		<-events
	}
	if fourth == third || f.Live().Plan.Person("third-2") != nil {
		t.Error("a person that comes back is another one")
	}
}

// TestAReadingThatEmptiesAnAudienceWaits sends a table in which the titles are renamed by which a
// group's rule finds people.
func TestAReadingThatEmptiesAnAudienceWaits(t *testing.T) {
	t.Parallel()
	f, _ := flow(t, on("2026-11-23"))
	withDemo(t, f)
	u := SetUp{Table: &directory.Table{
		Of: estate.KindPerson, Key: "id",
		Columns: map[string]string{"id": "id", "title": "attributes/title", "employment": "attributes/employment"},
	}}
	if _, err := f.AddSource(t.Context(), ines, "hr", CSV, "HR", u); err != nil {
		t.Fatal(err)
	}
	send := func(rename func(title, employment string) (string, string)) RunState {
		t.Helper()
		var rows strings.Builder
		rows.WriteString("id,title,employment\n")
		for _, p := range f.Live().Plan.Snapshot().People {
			title, employment := rename(p.Attributes["title"].Text(), p.Attributes["employment"].Text())
			fmt.Fprintf(&rows, "%s,%s,%s\n", p.ID, title, employment)
		}
		state, err := f.Upload(t.Context(), ines, "hr", "people.csv", strings.NewReader(rows.String()), 0, false)
		if err != nil {
			t.Fatal(err)
		}
		return state
	}
	as := func(title, employment string) (string, string) { return title, employment }
	if state := send(as); state.State != RunWaiting || state.Report.Reason != "first" || len(state.Report.Shrunk) != 0 {
		t.Fatalf("the first reading: %+v", state)
	}
	if _, err := f.Take(t.Context(), ines, "hr"); err != nil {
		t.Fatal(err)
	}
	leads := func() int { return f.Live().Plan.Applies("leads-banner").Len() }
	before := leads()
	state := send(func(title, employment string) (string, string) {
		return strings.Replace(title, "crew lead", "team lead", 1), strings.Replace(employment, "contractor", "external", 1)
	})
	if state.State != RunWaiting || state.Report.Reason != "shrunk" || leads() != before || before == 0 {
		t.Fatalf("renamed titles: %+v, leads-banner applies to %d laptops", state, leads())
	}
	var told []string
	for _, s := range state.Report.Shrunk {
		told = append(told, fmt.Sprint(s.Policy, " ", s.Exclusion, " ", s.After))
	}
	want := []string{"contractor-browser  0", "contractors-no-usb  0", "leads-banner  0", "work-browser group:contractors 0"}
	if !slices.Equal(told, want) {
		t.Errorf("%q, expected %q", told, want)
	}
	if n := state.Report.Devices; n == 0 || len(state.Report.Differ) != n || !slices.IsSorted(state.Report.Differ) {
		t.Errorf("%d laptops differ, named are %v", n, state.Report.Differ)
	}
	// A person may take it all the same.
	if _, err := f.Take(t.Context(), ines, "hr"); err != nil || leads() != 0 {
		t.Errorf("taken: %v, %d laptops", err, leads())
	}
	// Nothing shrinks by what stays as it is.
	if state := send(as); state.State != RunTaken {
		t.Errorf("the same again: %+v", state)
	}
	// The share is settable.
	for most, wanted := range map[int]string{10: RunWaiting, 60: RunTaken} {
		u.MostLost = most
		if _, err := f.Propose(t.Context(), ines, "hr", "", u, -1); err != nil {
			t.Fatal(err)
		}
		if state := send(as); state.State != RunWaiting || state.Report.Reason != "set-up" {
			t.Fatalf("with another set-up: %+v", state)
		}
		if _, err := f.Take(t.Context(), ines, "hr"); err != nil {
			t.Fatal(err)
		}
		half := 0
		state := send(func(title, employment string) (string, string) {
			if title == "engineer" {
				if half++; half%2 == 0 {
					title = "technician"
				}
			}
			return title, employment
		})
		if state.State != wanted {
			t.Errorf("half of the engineers renamed, at most %d percent: %+v", most, state)
		}
		if state.State == RunWaiting {
			f.Drop(t.Context(), ines, "hr")
		}
	}
}
