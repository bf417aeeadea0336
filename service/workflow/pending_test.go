package workflow_test

import (
	"testing"
	"time"

	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// TestWhatIsPendingIsCountedWithoutWritingIt publishes values of one setting after another and
// counts what a laptop still has to take.
func TestWhatIsPendingIsCountedWithoutWritingIt(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	withDemo(t, f)
	const id = "LT-0110"
	enrolled := time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)
	if err := s.SaveLaptop(store.Laptop{Device: id, EnrolledAt: &enrolled}); err != nil {
		t.Fatal(err)
	}
	took := func() { // the laptop has all that is wanted now
		t.Helper()
		live := f.Live()
		r, err := live.Plan.Reasons(id, "")
		if err != nil {
			t.Fatal(err)
		}
		known, err := s.Deliveries(id)
		if err != nil {
			t.Fatal(err)
		}
		all, _ := Wanted(r, known, enrolled)
		var list []rollout.Delivery
		for _, d := range all {
			if d.Status == rollout.Pending {
				d = d.Accept(d.Wanted, enrolled)
			}
			list = append(list, d)
		}
		if err := s.SaveDeliveries(id, list); err != nil {
			t.Fatal(err)
		}
		f.Delivered(id, live.Turn)
		at, err := time.Parse(time.DateOnly, day.day.Load().(string))
		if err != nil {
			t.Fatal(err)
		}
		day.Store(at.AddDate(0, 0, 1).Format(time.DateOnly)) // the lists are not older than a moment
	}
	publish := func(body string) {
		t.Helper()
		c := opened(t, f, "Minutes")
		if _, err := f.PutEdit(t.Context(), ines, c, policyEdit("lock-sooner", body)); err != nil {
			t.Fatal(err)
		}
		if _, err := f.Publish(t.Context(), ines, c, PublishInput{Expected: -1}); err != nil {
			t.Fatal(err)
		}
	}
	row := func() DeviceRow {
		t.Helper()
		rows, err := f.DeviceRows(t.Context(), ines)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range rows {
			if r.Device.ID == id {
				return r
			}
		}
		t.Fatal("no such laptop")
		return DeviceRow{}
	}
	took()
	start := row().Counts
	if start[rollout.Pending] != 0 || start[rollout.Applied] == 0 {
		t.Fatalf("at first %v", start)
	}
	text := func(v string) string {
		return `"settings":{"disk.startup.message_address":"` + v + `"},"audience":{"include":["device:LT-0110"]},"priority":900`
	}
	check := func(when string, pending, applied int) {
		t.Helper()
		c := row().Counts
		if c[rollout.Pending] != pending || c[rollout.Applied] != start[rollout.Applied]+applied {
			t.Errorf(
				"%s: %d pending, %d in effect, expected %d and %d",
				when,
				c[rollout.Pending],
				c[rollout.Applied],
				pending,
				start[rollout.Applied]+applied,
			)
		}
		page, err := f.Device(t.Context(), ines, id)
		if err != nil {
			t.Fatal(err)
		}
		open := 0
		for _, d := range page.Deliveries {
			if d.Status == rollout.Pending {
				open++
			}
		}
		if open != pending {
			t.Errorf("%s: the page has %d pending, expected %d", when, open, pending)
		}
	}
	publish(text("https://larkfell.example/watch"))
	check("a new setting", 1, 0)
	took()
	check("it took it", 0, 1)
	publish(text("https://larkfell.example/harbour"))
	check("another value", 1, 0)
	publish(text("https://larkfell.example/watch"))
	check("the value that it has", 0, 1)
	publish(`"settings":{},"audience":{}`)
	check("nothing is wanted any more", 1, 0)
	if written, err := s.Deliveries(id); err != nil ||
		written["disk.startup.message_address"].Wanted.Text() != "https://larkfell.example/watch" {
		t.Errorf("what is written is not of the last check-in: %v %v", written["disk.startup.message_address"], err)
	}
	again := again(t, s, day)
	page, err := again.Device(t.Context(), ines, id)
	if d := page.Deliveries[setting.ID("disk.startup.message_address")]; err != nil || d.Status != rollout.Pending || !d.Wanted.IsNothing() {
		t.Errorf("after a restart the page says %+v %v", d, err)
	}
}
