package workflow_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

var ines = Actor{Name: "ines", Via: "console", Held: access.Held{Everywhere: access.Of(access.All...)}}

// flow is a service over a new database; day is the day that its clock shows. calendar is the day
// that a service of a test believes it is. Services read it from several goroutines.
type calendar struct{ day atomic.Value }

func on(day string) *calendar {
	c := &calendar{}
	c.Store(day)
	return c
}

func (c *calendar) Store(day string) { c.day.Store(day) }

func flow(t testing.TB, day *calendar) (*Service, *store.Store) {
	t.Helper()
	s, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return again(t, s, day), s
}

func again(t testing.TB, s *store.Store, day *calendar) *Service {
	t.Helper()
	f, err := New(Config{Store: s, Shipped: dictionary.Shipped(), Now: func() time.Time {
		at, err := time.Parse(time.DateOnly, day.day.Load().(string))
		if err != nil {
			t.Fatal(err)
		}
		return at.Add(8 * time.Hour)
	}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	return f
}

func withDemo(t testing.TB, f *Service) {
	t.Helper()
	s, held, err := files.ReadWithFiles("../../demo/estate", dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range held {
		data, err := os.ReadFile(path)
		if err == nil {
			_, err = f.AddFile(t.Context(), ines, filepath.Base(path), data, contents.Options{}, true)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	c, n, err := f.Import(t.Context(), ines, "as found", s, false)
	if err != nil || n.Created < 500 || n.Altered+n.Retired+n.Unchanged != 0 {
		t.Fatalf("%+v %v", n, err)
	}
	if _, err := f.Publish(t.Context(), ines, c.ID, PublishInput{Expected: c.Version}); err != nil {
		t.Fatal(err)
	}
}

func policyEdit(id, rest string) EditInput {
	return EditInput{Kind: estate.KindPolicy, ID: id, Expected: -1, Body: []byte(fmt.Sprintf(`{"id":%q,"kind":"security",%s}`, id, rest))}
}

const camerasOff = `"settings":{"media.camera":false},"audience":{"include":["unit:slipway"]}`

func TestADraftIsLiveOnlyOncePublished(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withDemo(t, f)
	c, err := f.NewChange(t.Context(), ines, "Cameras", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.PutEdit(t.Context(), ines, c.ID, policyEdit("cameras", camerasOff)); err != nil {
		t.Fatal(err)
	}
	report, faults, err := f.Impact(t.Context(), ines, c.ID)
	if err != nil || faults != nil || report.Devices.Len() == 0 {
		t.Fatalf("%v %v", faults, err)
	}
	changed := report.Devices.IDs()[0]
	value := func(change string) string {
		v, err := f.ViewOf(t.Context(), ines, change)
		if err != nil {
			t.Fatal(err)
		}
		r, err := v.Plan.Effective(changed, "")
		if err != nil || r.Setting("media.camera") == nil {
			return "not set"
		}
		return r.Setting("media.camera").Value.String()
	}
	if live, draft := value(""), value(c.ID); live != "not set" || draft != "false" {
		t.Errorf("live %s, with the change %s", live, draft)
	}
	before, err := s.Deliveries(string(changed))
	if err != nil || before["media.camera"].Status != "" {
		t.Errorf("something is on its way: %v", before["media.camera"])
	}
	enrolled := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	if err := s.SaveLaptop(store.Laptop{Device: string(changed), EnrolledAt: &enrolled}); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Publish(t.Context(), ines, c.ID, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	if live := value(""); live != "false" {
		t.Errorf("published, it is %s", live)
	}
	if written, err := s.Deliveries(string(changed)); err != nil || len(written) != 0 {
		t.Errorf("publishing wrote %v for a laptop: %v", written, err)
	}
	page, err := f.Device(t.Context(), ines, string(changed))
	if d := page.Deliveries["media.camera"]; err != nil || d.Status != rollout.Pending || d.Wanted.Bool() {
		t.Errorf("on its way is %+v %v", d, err)
	}
	// A restart gives the same.
	if got := again(t, s, day).Live(); got.Revision != 2 || got.Version(estate.KindPolicy, "cameras") != 1 || got.Resolution.Len() != 240 {
		t.Errorf("after a restart: revision %d", got.Revision)
	}
	var state *StateError
	if _, err := f.PutEdit(t.Context(), ines, c.ID, policyEdit("cameras", camerasOff)); !errors.As(err, &state) || state.State != Published {
		t.Errorf("edited after publishing: %v", err)
	}
}

func TestExceptionsLapseWithTheDay(t *testing.T) {
	t.Parallel()
	day := on("2026-12-04")
	f, _ := flow(t, day)
	withDemo(t, f)
	minutes := func() int64 {
		r, err := f.Live().Plan.Effective("LT-0110", "")
		if err != nil {
			t.Fatal(err)
		}
		return r.Setting("screen.lock_after_minutes").Value.Integer()
	}
	if got := minutes(); got != 60 {
		t.Errorf("on the last day it is %d", got)
	}
	o, err := f.Overview(t.Context(), ines)
	if err != nil || len(o.Lapsing) != 1 || o.Lapsing[0].ID != "EX-1" {
		t.Errorf("lapsing: %+v %v", o.Lapsing, err)
	}
	day.Store("2026-12-05")
	if got := minutes(); got != 15 {
		t.Errorf("the day after it is %d", got)
	}
	if o, _ := f.Overview(t.Context(), ines); len(o.Lapsing) != 0 {
		t.Errorf("lapsed, it is still about to: %v", o.Lapsing)
	}
}

func TestWhatAnEditBreaksIsRefusedWhole(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withDemo(t, f)
	c, err := f.NewChange(t.Context(), ines, "Tries", "")
	if err != nil {
		t.Fatal(err)
	}
	for name, in := range map[string]EditInput{
		"an unknown unit":        policyEdit("x", `"settings":{},"audience":{"include":["unit:nowhere"]}`),
		"a group in use retired": {Kind: estate.KindGroup, ID: "finance", Retire: true, Expected: -1},
		"a unit in use retired":  {Kind: estate.KindUnit, ID: "slipway", Retire: true, Expected: -1},
		"a ruling of no policy": {Kind: estate.KindRuling, ID: "R", Expected: -1,
			Body: []byte(`{"id":"R","setting":"media.camera","prefer":"a","over":"b"}`)},
		"a group inside itself": {Kind: estate.KindGroup, ID: "g", Expected: -1, Body: []byte(`{"id":"g","of":"people","groups":["g"]}`)},
		"a definition that tears": {Kind: estate.KindSetting, ID: "media.camera", Expected: -1,
			Body: []byte(`{"id":"media.camera","kind":"security","type":"text"}`)},
	} {
		var faults problem.Faults
		if _, err := f.PutEdit(t.Context(), ines, c.ID, in); !errors.As(err, &faults) || len(faults) == 0 || faults[0].Path == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	if edits, err := s.Edits(c.ID); err != nil || len(edits) != 0 {
		t.Errorf("kept all the same: %v %v", edits, err)
	}
	// What one edit breaks another may mend: the policy that names the group goes first.
	for _, in := range []EditInput{policyEdit("screen-privacy", `"settings":{},"audience":{}`),
		policyEdit("finance-desks", `"settings":{},"audience":{}`), {Kind: estate.KindGroup, ID: "finance", Retire: true, Expected: -1}} {
		if _, err := f.PutEdit(t.Context(), ines, c.ID, in); err != nil {
			t.Errorf("%s: %v", in.ID, err)
		}
	}
	if _, err := f.Publish(t.Context(), ines, c.ID, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	if v := f.Live().Version(estate.KindGroup, "finance"); v != 2 {
		t.Errorf("a retired group has version %d, expected 2", v)
	}
	// A group of that name made anew goes on with the next version.
	c, _ = f.NewChange(t.Context(), ines, "Again", "")
	if _, err := f.PutEdit(t.Context(), ines, c.ID,
		EditInput{Kind: estate.KindGroup, ID: "finance", Expected: -1, Body: []byte(`{"id":"finance","of":"people"}`)},
	); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Publish(t.Context(), ines, c.ID, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	versions, err := f.Versions(t.Context(), ines, estate.KindGroup, "finance")
	if err != nil || len(versions) != 3 || !versions[1].Retired || versions[0].Retired {
		t.Errorf("versions: %+v %v", versions, err)
	}
}

func TestTryingStoresNothing(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withDemo(t, f)
	before, _ := s.AuditRecords(store.AuditFilter{}, 500)
	trial, err := f.Try(t.Context(), ines, "",
		[]EditInput{
			policyEdit(
				"try",
				`"priority":10,"settings":{"media.usb_storage":"read-only","browser.blocked_sites":["a.example"],"media.camera":false},"audience":{"include":["group:contractors"]}`,
			),
		},
	)
	if err != nil || trial.Faults != nil {
		t.Fatal(trial, err)
	}
	relations := map[string]bool{}
	for _, a := range trial.Use.AlsoSet {
		relations[fmt.Sprintf("%s %s %s", a.Setting, a.Policy, a.Relation)] = true
	}
	for _, want := range []string{"media.usb_storage contractors-no-usb conflicts", "media.usb_storage usb-read-only repeats",
		"browser.blocked_sites site-block adds"} {
		if !relations[want] {
			t.Errorf("%q is missing in %v", want, relations)
		}
	}
	if trial.Use.Reach.Gets.Len() == 0 || trial.Use.Reach.People == 0 || len(trial.Report.ConflictsGained) == 0 {
		t.Errorf("reach %d, report %+v", trial.Use.Reach.Gets.Len(), trial.Report.ConflictsGained)
	}
	var faults problem.Faults
	if _, err := f.Try(
		t.Context(),
		ines,
		"",
		[]EditInput{policyEdit("try", `"settings":{},"audience":{},"colour":1`)},
	); !errors.As(err, &faults) {
		t.Errorf("an unknown field: %v", err)
	}
	var missing *NotFoundError
	if _, err := f.Try(t.Context(), ines, "C-none", []EditInput{policyEdit("try", camerasOff)}); !errors.As(err, &missing) {
		t.Errorf("no such change: %v", err)
	}
	after, _ := s.AuditRecords(store.AuditFilter{}, 500)
	if changes, _ := s.Changes(Open); len(changes) != 0 || len(after) != len(before) {
		t.Errorf("%d changes, %d records after trying", len(changes), len(after)-len(before))
	}
}

func TestImports(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	s := *f.Live().Plan.Snapshot()
	c, n, err := f.Import(t.Context(), ines, "again", &s, true)
	if err != nil || c.ID != "" || n.Created+n.Altered+n.Retired != 0 || n.Unchanged < 500 {
		t.Errorf("the same again: %q %+v %v", c.ID, n, err)
	}
	less := s.With(estate.Edit{Kind: estate.KindPolicy, ID: "site-block"}, estate.Edit{Kind: estate.KindDevice, ID: "LT-0240"})
	if _, n, err = f.Import(t.Context(), ines, "less", less, false); err != nil || n.Retired != 0 {
		t.Errorf("what is missing stays: %+v %v", n, err)
	}
	c, n, err = f.Import(t.Context(), ines, "less", less, true)
	if err != nil || n.Retired != 2 {
		t.Fatalf("%+v %v", n, err)
	}
	report, _, err := f.Impact(t.Context(), ines, c.ID)
	if err != nil || report.Estate != 239 {
		t.Errorf("the estate would have %d laptops %v", report.Estate, err)
	}
	if err := f.Discard(t.Context(), ines, c.ID); err != nil {
		t.Fatal(err)
	}
	if len(f.Live().Plan.Snapshot().Devices) != 240 {
		t.Error("a discarded change took a laptop away")
	}
}

func TestDevicesAreFilteredAndSorted(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	for name, c := range map[string]struct {
		filter DeviceFilter
		holds  func(r *DeviceRow) bool
		atMost int
	}{
		"a unit and below":  {DeviceFilter{Unit: "survey-fleet"}, func(r *DeviceRow) bool { return strings.HasPrefix(r.Unit, "rv-") }, 120},
		"a system":          {DeviceFilter{OS: "macos"}, func(r *DeviceRow) bool { return r.Device.OS == "macos" }, 60},
		"a group":           {DeviceFilter{Group: "bridge-laptops"}, func(r *DeviceRow) bool { return r.Device.Owner == "" }, 12},
		"a group of people": {DeviceFilter{Group: "finance"}, func(r *DeviceRow) bool { return r.Unit == "harbour-office" }, 20},
		"words": {DeviceFilter{Text: "HALYARD 16"},
			func(r *DeviceRow) bool { return strings.HasPrefix(r.Device.Model, "Halyard") }, 120},
		"problems":   {DeviceFilter{State: "problem"}, func(r *DeviceRow) bool { return r.Problems > 0 }, 92},
		"a conflict": {DeviceFilter{State: "conflict"}, func(r *DeviceRow) bool { return r.Counts[rollout.Conflict] > 0 }, 10},
		"never seen": {DeviceFilter{State: "never-seen"}, func(r *DeviceRow) bool { return r.LastSeen == nil }, 240},
		"silent":     {DeviceFilter{State: "silent"}, func(*DeviceRow) bool { return false }, 0},
	} {
		rows, err := deviceRows(f, c.filter)
		if err != nil || len(rows) > c.atMost || len(rows) == 0 && c.atMost > 0 {
			t.Errorf("%s: %d rows %v", name, len(rows), err)
		}
		for i := range rows {
			if !c.holds(&rows[i]) {
				t.Errorf("%s: %s does not belong there", name, rows[i].Device.ID)
			}
		}
	}
	for _, key := range []string{"id", "owner", "unit", "os", "os_version", "last_seen", "failed", "facts/ram_gb"} {
		up, _ := deviceRows(f, DeviceFilter{Sort: key})
		down, err := deviceRows(f, DeviceFilter{Sort: "-" + key})
		if err != nil || len(up) != 240 || len(down) != 240 {
			t.Errorf("sorted by %s: %d and %d rows %v", key, len(up), len(down), err)
		}
		if key == "id" && (up[0].Device.ID != "LT-0001" || down[0].Device.ID != "LT-0240") {
			t.Errorf("by id the first is %s, the other way %s", up[0].Device.ID, down[0].Device.ID)
		}
	}
	var missing *NotFoundError
	if _, err := f.Devices(t.Context(), ines, DeviceFilter{Group: "nobody"}); !errors.As(err, &missing) {
		t.Errorf("an unknown group: %v", err)
	}
}

func TestWatchersHearOfChanges(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	events, stop := f.Watch()
	c, err := f.NewChange(t.Context(), ines, "Watched", "")
	if err != nil {
		t.Fatal(err)
	}
	if e := <-events; e.Topic != "change" || e.ID != c.ID {
		t.Errorf("heard %+v", e)
	}
	stop()
	for range 200 { // nobody listens, and nothing waits for them
		f.Notify(Event{Topic: "device"})
	}
}

func deviceRows(f *Service, filter DeviceFilter) ([]DeviceRow, error) {
	list, err := f.Devices(context.Background(), ines, filter)
	if err != nil {
		return nil, err
	}
	rows := make([]DeviceRow, list.Len())
	for i := range rows {
		rows[i] = list.Row(i)
	}
	return rows, nil
}

// TestWhatNobodyWaitsForIsLetGo tries something in the name of somebody who is gone: it is not
// worked out, and others are not held up.
func TestWhatNobodyWaitsForIsLetGo(t *testing.T) {
	t.Parallel()
	day := on("2026-12-11")
	f, _ := flow(t, day)
	withDemo(t, f)
	gone, leave := context.WithCancel(t.Context())
	leave()
	for range 20 {
		if _, err := f.Try(gone, ines, "", []EditInput{policyEdit("try", camerasOff)}); !errors.Is(err, context.Canceled) {
			t.Fatalf("it was tried all the same: %v", err)
		}
		if _, err := f.Outcome(gone, ines, "", []EditInput{policyEdit("try", camerasOff)}); !errors.Is(err, context.Canceled) {
			t.Fatalf("it was worked out all the same: %v", err)
		}
	}
	if trial, err := f.Try(t.Context(), ines, "",
		[]EditInput{policyEdit("try", camerasOff)},
	); err != nil || len(trial.Faults) > 0 ||
		trial.Report.Devices.Len() == 0 {
		t.Errorf("whoever waits gets %+v %v", trial, err)
	}
}

// TestOnTopOfAChangeItIsAsFromNothing compares what is tried on top of a change, which begins with
// what the change came to, with the same edits on top of what is live; and after what is live
// altered too.
func TestOnTopOfAChangeItIsAsFromNothing(t *testing.T) {
	t.Parallel()
	day := on("2026-12-11")
	f, _ := flow(t, day)
	withDemo(t, f)
	c, err := f.NewChange(t.Context(), ines, "Several", "")
	if err != nil {
		t.Fatal(err)
	}
	first, second := policyEdit(
		"first",
		`"priority":900,"settings":{"screen.lock_after_minutes":3},"audience":{"include":["everyone"]}`,
	), policyEdit(
		"second",
		`"priority":950,"settings":{"media.camera":false},"audience":{"include":["unit:labs"]}`,
	)
	if _, err := f.PutEdit(t.Context(), ines, c.ID, first); err != nil {
		t.Fatal(err)
	}
	told := func(o *Outcome, err error) string {
		t.Helper()
		if err != nil || len(o.Faults) > 0 {
			t.Fatal(o, err)
		}
		var lines []string
		for _, tr := range o.Report.Transitions {
			lines = append(lines, fmt.Sprint(tr.Setting, tr.From, tr.To, tr.Devices.Len()))
		}
		return fmt.Sprint(lines, o.Report.Devices.Len(), len(o.Report.ConflictsGained), len(o.Report.ProblemsGained), len(o.Report.Audiences))
	}
	for range 2 {
		if _, _, err := f.Impact(t.Context(), ines, c.ID); err != nil { // it is known what the change comes to
			t.Fatal(err)
		}
		want := told(f.Outcome(t.Context(), ines, "", []EditInput{first, second}))
		if got := told(f.Outcome(t.Context(), ines, c.ID, []EditInput{second})); got != want {
			t.Errorf("on top of the change it is\n%s\nfrom nothing\n%s", got, want)
		}
		other, err := f.NewChange(t.Context(), ines, "Meanwhile", "")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.PutEdit(t.Context(), ines, other.ID,
			policyEdit("third", `"priority":800,"settings":{"media.camera":true},"audience":{"include":["everyone"]}`),
		); err != nil {
			t.Fatal(err)
		}
		if _, err := f.Publish(t.Context(), ines, other.ID, PublishInput{Expected: -1}); err != nil {
			t.Fatal(err)
		}
	}
}

func writeFile(dir, name, text string) error {
	return os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600)
}
