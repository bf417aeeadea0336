package workflow_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// inventory is the set-up of a table of laptops.
func inventory() SetUp {
	return SetUp{
		Table: &directory.Table{
			Of:    estate.KindDevice,
			Key:   "serial",
			Whole: true,
			Columns: map[string]string{
				"serial":  "serial",
				"os":      "os",
				"release": "os_version",
				"owner":   "owner",
				"site":    "unit",
				"ram":     "facts/ram_gb",
			},
		},
	}
}

const tableHead = "serial,os,release,owner,site,ram\n"

// withInventory is a service with the demo estate and a source of tables.
func withInventory(t *testing.T, f *Service, u SetUp) {
	t.Helper()
	withDemo(t, f)
	if _, err := f.AddSource(t.Context(), ines, "inventory", CSV, "Inventory", u); err != nil {
		t.Fatal(err)
	}
}

// sent sends a table and takes it where it waits.
func sent(t *testing.T, f *Service, rows string) RunState {
	t.Helper()
	state, err := f.Upload(context.Background(), ines, "inventory", "laptops.csv", strings.NewReader(tableHead+rows), 0, false)
	if err == nil && state.State == RunWaiting {
		state, err = f.Take(t.Context(), ines, "inventory")
	}
	if err != nil {
		t.Fatal(err)
	}
	return state
}

func deviceOf(t *testing.T, f *Service, id string) *estate.Device {
	t.Helper()
	d := f.Live().Plan.Device(estate.DeviceID(id))
	if d == nil {
		t.Fatalf("there is no %s", id)
	}
	return d
}

// edited puts an edit into a change of its own and publishes it.
func edited(t *testing.T, f *Service, object any, kind estate.Kind) {
	t.Helper()
	body, err := files.EncodeJSON(object)
	if err != nil {
		t.Fatal(err)
	}
	c, err := f.NewChange(t.Context(), ines, "Edit", "")
	if err == nil {
		_, err = f.PutEdit(t.Context(), ines, c.ID, EditInput{Kind: kind, ID: files.ObjectID(object), Body: body})
	}
	if err == nil {
		_, err = f.Publish(t.Context(), ines, c.ID, PublishInput{Expected: -1})
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestWhatASourceBringsAndWhatIsEditedHere follows one laptop through readings, an edit, a restart
// and the end of its source.
func TestWhatASourceBringsAndWhatIsEditedHere(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withInventory(t, f, inventory())
	serial := deviceOf(t, f, "LT-0001").Serial
	before := *deviceOf(t, f, "LT-0001")
	sent(t, f, serial+",linux,13.1,"+string(before.Owner)+",labs,64\nNEW-1,macos,14,nobody@nowhere,,8\n")
	d := deviceOf(t, f, "LT-0001")
	if d.OSVersion != "13.1" || d.Unit != "labs" || d.Facts["ram_gb"].Integer() != 64 || !slices.Equal(d.Tags, before.Tags) ||
		d.Model != before.Model {
		t.Errorf("taken over: %+v, was %+v", d, before)
	}
	if n := deviceOf(t, f, "NEW-1"); n.Owner != "" || n.Unit != "" {
		t.Errorf("what leads nowhere stands: %+v", n)
	}
	mine := *d
	mine.Unit, mine.Tags = "slipway", []string{"mine"}
	edited(t, f, mine, estate.KindDevice)
	sent(t, f, serial+",linux,13.2,,chart-room,64\nNEW-1,macos,14,,,16\n")
	check := func(when string, f *Service) {
		t.Helper()
		d := deviceOf(t, f, "LT-0001")
		if d.Unit != "slipway" || d.OSVersion != "13.2" || !slices.Equal(d.Tags, []string{"mine"}) {
			t.Errorf("%s: %+v", when, d)
		}
		if o := f.OriginOf(estate.KindDevice, "LT-0001"); o == nil || o.Source != "inventory" || o.Left != nil {
			t.Errorf("%s it comes from %+v", when, o)
		}
		page, err := f.Device(t.Context(), ines, "LT-0001")
		if err != nil || !slices.Contains(page.Brings, "os_version") || !slices.Contains(page.Local, "unit") ||
			slices.Contains(page.Local, "os_version") ||
			len(page.History) < 2 ||
			page.History[0].What != "altered" {
			t.Errorf("%s its page says %v, here %v, history %+v %v", when, page.Brings, page.Local, page.History, err)
		}
	}
	check("after the next reading", f)
	check("after a restart", again(t, s, day))
	// An edit that gives the source's value back follows the source again.
	back := *deviceOf(t, f, "LT-0001")
	back.Unit = "chart-room"
	edited(t, f, back, estate.KindDevice)
	sent(t, f, serial+",linux,13.2,,harbour-office,64\nNEW-1,macos,14,,,16\n")
	if d := deviceOf(t, f, "LT-0001"); d.Unit != "harbour-office" || d.Tags[0] != "mine" {
		t.Errorf("given back to the source: %+v", d)
	}
	c, _ := f.NewChange(t.Context(), ines, "Take away", "")
	if _, err := f.PutEdit(t.Context(), ines, c.ID,
		EditInput{Kind: estate.KindDevice, ID: "LT-0001", Retire: true},
	); err == nil ||
		!strings.Contains(err.Error(), "goes there first") {
		t.Errorf("what a source has was retired: %v", err)
	}
	// An estate folder that does not have it does not take it away either.
	_, counts, err := f.Import(t.Context(), ines, "Small",
		&estate.Snapshot{Units: f.Live().Plan.Snapshot().Units, Settings: f.Live().Plan.Snapshot().Settings},
		true,
	)
	var faults problem.Faults
	if err != nil && !errors.As(err, &faults) {
		t.Fatal(err)
	}
	if counts.Retired == 0 || f.Live().Plan.Device("NEW-1") == nil {
		t.Errorf("an import retired %d, and NEW-1 with them", counts.Retired)
	}
	if err := f.DropSource(t.Context(), ines, "inventory"); err != nil {
		t.Fatal(err)
	}
	for _, f := range []*Service{f, again(t, s, day)} {
		if d := deviceOf(
			t,
			f,
			"LT-0001",
		); d.Unit != "harbour-office" || d.OSVersion != "13.2" || d.Tags[0] != "mine" || f.OriginOf(estate.KindDevice, "LT-0001") != nil ||
			f.Live().Version(estate.KindDevice, "NEW-1") == 0 {
			t.Errorf("after its source was taken away: %+v", d)
		}
	}
}

func TestWhatLeftIsRemovedByAPersonOrInTime(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	u := inventory()
	u.RemoveAfter, u.MostLeft = 30, 100
	withInventory(t, f, u)
	sent(t, f, "A-1,linux,12,,labs,8\nA-2,linux,12,,labs,8\nA-3,linux,12,,labs,8\n")
	p := f.Live().Plan.Snapshot().Policies[0]
	p.Audience.Include = append(slices.Clone(p.Audience.Include), estate.Target{Kind: estate.ToDevice, ID: "A-2"})
	edited(t, f, p, estate.KindPolicy)
	sent(t, f, "A-3,linux,12,,labs,8\n")
	left, err := f.Left(t.Context(), ines, "inventory")
	if err != nil || len(left) != 2 || left[0].ID != "A-1" || left[0].Due == nil || left[0].Due.Format(time.DateOnly) != "2026-12-23" {
		t.Fatalf("left are %+v %v", left, err)
	}
	if list, err := f.Devices(t.Context(), ines, DeviceFilter{Where: []string{"left?"}}); err != nil || list.Len() != 2 {
		t.Errorf("the list has %d that left %v", list.Len(), err)
	}
	gone := func(ids ...string) (out []store.SourceRecord) {
		for _, id := range ids {
			out = append(out, store.SourceRecord{Kind: string(estate.KindDevice), ObjectID: id})
		}
		return out
	}
	var faults problem.Faults
	if _, err := f.Remove(t.Context(), ines, "inventory",
		gone("A-2"),
		false,
	); !errors.As(err, &faults) || faults[0].Code != problem.InUse ||
		!strings.Contains(faults[0].Path, string(p.ID)) {
		t.Errorf("what a policy names was removed: %v", err)
	}
	if _, err := f.Remove(t.Context(), ines, "inventory", gone("A-3"), false); !errors.As(err, &faults) || faults[0].Code != problem.InUse {
		t.Errorf("what the source has was removed: %v", err)
	}
	var missing *NotFoundError
	if _, err := f.Remove(t.Context(), ines, "inventory", gone("LT-0001"), false); !errors.As(err, &missing) {
		t.Errorf("what never came from it was removed: %v", err)
	}
	if o, err := f.Remove(t.Context(), ines, "inventory", gone("A-1"), true); err != nil || o.Report == nil ||
		f.Live().Plan.Device("A-1") == nil {
		t.Errorf("looking removed it: %v", err)
	}
	day.Store("2026-12-22")
	if f.Due(t.Context()); f.Live().Plan.Device("A-1") == nil {
		t.Error("it was removed a day too early")
	}
	day.Store("2026-12-24")
	f.Due(t.Context())
	if f.Live().Plan.Device("A-1") != nil || f.Live().Plan.Device("A-2") == nil {
		t.Error("in time, A-1 goes and A-2, which a policy names, stays")
	}
	f = again(t, s, day)
	if f.Live().Plan.Device("A-1") != nil || len(f.Live().Plan.Snapshot().Devices) != 242 {
		t.Errorf("after a restart there are %d laptops", len(f.Live().Plan.Snapshot().Devices))
	}
	if events, err := s.Events("devices", "A-1", 10); err != nil || len(events) != 3 || events[0].What != "removed" {
		t.Errorf("its history is %+v %v", events, err)
	}
}

func TestSetUpsAreChecked(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withInventory(t, f, inventory())
	for name, c := range map[string]struct {
		id   string
		kind SourceKind
		u    SetUp
		want string
	}{
		"an id with a space": {"a b", CSV, inventory(), "/id"}, "no such kind": {"x", "fax", inventory(), "/kind"},
		"an id twice": {"inventory", CSV, inventory(), "/id"}, "no part": {"x", LDAP, SetUp{}, "/ldap"},
		"another's part":    {"x", SCIM, SetUp{SCIM: &SCIMSetUp{}, Table: inventory().Table}, "/table"},
		"an hour too many":  {"x", CSV, SetUp{Table: inventory().Table, CompareAt: 24}, "/compare_at_hour"},
		"a taken attribute": {"x", SCIM, SetUp{SCIM: &SCIMSetUp{Attributes: map[string]string{"mail": "emails"}}}, "/scim/attributes/mail"},
	} {
		var faults problem.Faults
		if _, err := f.AddSource(t.Context(), ines, c.id,
			c.kind,
			"Title",
			c.u,
		); !errors.As(err, &faults) ||
			!slices.ContainsFunc(faults, func(p problem.Fault) bool { return p.Path == c.want }) {
			t.Errorf("%s: %v, expected one at %s", name, err, c.want)
		}
	}
	if _, err := f.AddSource(t.Context(), ines, "x", CSV, " ", inventory()); err == nil {
		t.Error("a source without a name")
	}
	x, err := f.Source(t.Context(), ines, "inventory")
	if err != nil {
		t.Fatal(err)
	}
	var stale *StaleError
	if _, err := f.Propose(t.Context(), ines, "inventory", "", inventory(), x.Version+1); !errors.As(err, &stale) {
		t.Errorf("over another version: %v", err)
	}
	var state *StateError
	if _, err := f.Pause(t.Context(), ines, "inventory", false); !errors.As(err, &state) {
		t.Errorf("paused before anything was taken: %v", err)
	}
	if _, err := f.Take(t.Context(), ines, "inventory"); !errors.As(err, &state) {
		t.Errorf("nothing was taken: %v", err)
	}
	if err := f.Drop(t.Context(), ines, "inventory"); !errors.As(err, &state) {
		t.Errorf("nothing was dropped: %v", err)
	}
	if _, err := f.StartReading(t.Context(), ines, "inventory", FullRun, false); !errors.As(err, &state) {
		t.Errorf("a table was asked for: %v", err)
	}
	sent(t, f, "A-1,linux,12,,,8\n")
	if _, err := f.Pause(t.Context(), ines, "inventory", false); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Upload(context.Background(), ines, "inventory", "x.csv", strings.NewReader(tableHead), 0, false); !errors.As(err, &state) {
		t.Errorf("a paused source took a table: %v", err)
	}
	var missing *NotFoundError
	if _, err := f.Source(t.Context(), ines, "nothing"); !errors.As(err, &missing) {
		t.Errorf("no such source: %v", err)
	}
	if _, _, err := f.AddSourceToken(t.Context(), ines, "inventory", "client"); !errors.As(err, &state) {
		t.Errorf("a token for a table: %v", err)
	}
}

// TestTwoSourcesNeverShareAnObject lets two inventories claim one laptop.
func TestTwoSourcesNeverShareAnObject(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withInventory(t, f, inventory())
	serial := deviceOf(t, f, "LT-0001").Serial
	sent(t, f, serial+",linux,13,,,8\n")
	if _, err := f.AddSource(t.Context(), ines, "other", CSV, "Other", inventory()); err != nil {
		t.Fatal(err)
	}
	state, err := f.Upload(context.Background(), ines, "other",
		"x.csv",
		strings.NewReader(tableHead+serial+",linux,9,,,8\nB-1,linux,9,,,8\n"),
		0,
		false,
	)
	if err != nil || state.Report.Faulty != 1 || state.Report.New != 1 || !strings.Contains(state.Report.Faults[0].Expected, "inventory") {
		t.Fatalf("%+v %v", state.Report, err)
	}
	if _, err := f.Take(t.Context(), ines, "other"); err != nil {
		t.Fatal(err)
	}
	if d := deviceOf(t, f, "LT-0001"); d.OSVersion != "13" {
		t.Errorf("it follows the other: %+v", d)
	}
}
