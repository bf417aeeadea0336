package workflow_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	. "zenithridge.example/zridge/service/workflow"
)

var tomas = Actor{Name: "tomas", Via: "console", Held: access.Held{Everywhere: access.Of(access.All...)}}

func opened(t *testing.T, f *Service, title string) string {
	t.Helper()
	c, err := f.NewChange(t.Context(), ines, title, "")
	if err != nil {
		t.Fatal(err)
	}
	return c.ID
}

func TestLaptopsAndUnitsAreMovedInAChange(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	c := opened(t, f, "Move")
	if n, err := f.Move(t.Context(), ines, c, []string{"LT-0001", "LT-0002"}, "labs"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	if n, err := f.Move(t.Context(), ines, c, []string{"LT-0001"}, "labs"); err != nil || n != 0 {
		t.Errorf("moved where it is: %d %v", n, err)
	}
	if n, err := f.Move(t.Context(), ines, c, []string{"LT-0001"}, "slipway"); err != nil || n != 1 { // over the edit that is there
		t.Errorf("moved on: %d %v", n, err)
	}
	if f.Live().Plan.HomeUnit("LT-0002") != "slipway" {
		t.Error("it moved before it was published")
	}
	report, faults, err := f.Impact(t.Context(), ines, c)
	if err != nil || len(faults) > 0 || report.Devices.String() != "[LT-0002]" {
		t.Errorf("the impact is on %v %v %v", report.Devices, faults, err)
	}
	var bad problem.Faults
	if _, err := f.Move(t.Context(), ines, c, []string{"LT-0003", "LT-9999"}, "labs"); !errors.As(err, &bad) || bad[0].Path != "/devices/1" {
		t.Errorf("an unknown laptop: %v", err)
	}
	if _, err := f.Move(t.Context(), ines, c, []string{"LT-0003"}, "moon"); !errors.As(err, &bad) {
		t.Errorf("an unknown unit: %v", err)
	}
	if _, edits, _, _ := f.Change(t.Context(), ines, c); len(edits) != 2 {
		t.Errorf("what was refused left %d edits", len(edits))
	}
	if _, err := f.Move(t.Context(), ines, c, nil, "labs"); !errors.As(err, &bad) {
		t.Errorf("no laptop: %v", err)
	}
	if err := f.MoveUnit(t.Context(), ines, c, "tide-lab", "survey-fleet"); err != nil {
		t.Error(err)
	}
	if err := f.MoveUnit(t.Context(), ines, c, "survey-fleet", "tide-lab"); !errors.As(err, &bad) || bad[0].Code != problem.Cycle {
		t.Errorf("below itself: %v", err)
	}
	if err := f.MoveUnit(t.Context(), ines, c, "larkfell", "labs"); !errors.As(err, &bad) {
		t.Errorf("the organisation: %v", err)
	}
	var missing *NotFoundError
	if err := f.MoveUnit(t.Context(), ines, c, "moon", "labs"); !errors.As(err, &missing) {
		t.Errorf("an unknown unit: %v", err)
	}
	if _, err := f.Publish(t.Context(), ines, c, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	if path := f.Live().Plan.HomeUnits("LT-0002"); path[len(path)-1] != "labs" {
		t.Errorf("published, it is in %v", path)
	}
	if list, err := f.Devices(t.Context(), ines, DeviceFilter{Unit: "survey-fleet"}); err != nil || list.Len() != 103 {
		t.Errorf("with the tide laboratory the fleet has %d %v", list.Len(), err)
	}
}

func TestAGroupInUseIsRetiredWithItsUses(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	c := opened(t, f, "Retire")
	target := estate.Target{Kind: estate.ToGroup, ID: "contractors"}
	v, err := f.ViewOf(t.Context(), ines, "")
	if err != nil || !v.UseOf(target).Used() {
		t.Fatal("contractors are not used", err)
	}
	var bad problem.Faults
	if _, err := f.PutEdit(t.Context(), ines, c,
		EditInput{Kind: estate.KindGroup, ID: "contractors", Retire: true},
	); !errors.As(err, &bad) || bad[0].Code != problem.InUse ||
		!strings.Contains(bad[0].Found, "policies/contractor-browser") {
		t.Errorf("deleted while in use: %v", err)
	}
	n, err := f.RetireGroup(t.Context(), ines, c, "contractors")
	if err != nil || n < 2 {
		t.Fatal(n, err)
	}
	after, err := f.ViewOf(t.Context(), ines, c)
	if err != nil || after.UseOf(target).Used() ||
		slices.ContainsFunc(after.Plan.Snapshot().Groups, func(g estate.Group) bool { return g.ID == "contractors" }) {
		t.Errorf("it is still there or named: %+v %v", after.UseOf(target), err)
	}
	report, _, err := f.Impact(t.Context(), ines, c)
	if err != nil || report.Devices.Len() == 0 {
		t.Errorf("it does nothing: %v", err)
	}
	var missing *NotFoundError
	if _, err := f.RetireGroup(t.Context(), ines, c, "nobody"); !errors.As(err, &missing) {
		t.Errorf("an unknown group: %v", err)
	}
}

func TestDetachingIsLookedAtFirst(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	place := estate.Target{Kind: estate.ToUnit, ID: "labs"}
	kinds := []estate.Detachment{{Kind: "security", Reason: "At sea", ReviewOn: "2026-11-24"}}
	d, err := f.Detach(t.Context(), ines, "", place, kinds, true, true)
	if err != nil || d.Devices != 47 || d.Touched != 47 || d.Policy == nil || len(d.Policy.Entries) != len(d.Today) {
		t.Fatalf("%+v %v", d, err)
	}
	c := opened(t, f, "Detach labs")
	if _, err := f.Detach(t.Context(), ines, c, place, kinds, true, false); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Publish(t.Context(), ines, c, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	find := func() DetachedPlace {
		t.Helper()
		places, err := f.Detached(t.Context(), ines)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(places, func(p DetachedPlace) bool { return p.Place == place })
		if at < 0 {
			t.Fatalf("no labs among %+v", places)
		}
		return places[at]
	}
	if p := find(); len(p.Missed) != 0 || p.Since == nil || p.Since.By != "ines" {
		t.Errorf("at once it missed %+v since %+v", p.Missed, p.Since)
	}
	house := policyIn(t, f, "house-rules")
	entries := slices.Clone(house.Entries)
	for i := range entries {
		if entries[i].Setting == "screen.lock_after_minutes" {
			entries[i].Value = setting.IntegerValue(11)
		}
	}
	house.Entries = entries
	edited(t, f, house, estate.KindPolicy)
	if p := find(); len(p.Missed) != 1 || p.Missed[0].Setting != "screen.lock_after_minutes" || p.Missed[0].Was.Integer() != 15 ||
		p.Missed[0].Value.Integer() != 11 {
		t.Errorf("it missed %+v", p.Missed)
	}
	if o, err := f.Overview(t.Context(), ines); err != nil || o.Missed != 1 || len(o.DetachDue) != 0 {
		t.Errorf("the overview says %d %v %v", o.Missed, o.DetachDue, err)
	}
	day.Store("2026-11-24")
	if o, err := f.Overview(t.Context(), ines); err != nil || len(o.DetachDue) != 1 || o.DetachDue[0].Place != place ||
		o.DetachDue[0].Due[0].Reason != "At sea" {
		t.Errorf("on the day of review the overview says %v %v", o.DetachDue, err)
	}
	c = opened(t, f, "Take part again")
	if _, err := f.Detach(t.Context(), ines, c, place, nil, false, false); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Publish(t.Context(), ines, c, PublishInput{Expected: -1}); err != nil {
		t.Fatal(err)
	}
	if places, _ := f.Detached(t.Context(), ines); slices.ContainsFunc(places, func(p DetachedPlace) bool { return p.Place == place }) {
		t.Error("it still is detached")
	}
	var bad problem.Faults
	if _, err := f.Detach(
		t.Context(),
		ines,
		"",
		estate.Target{Kind: estate.ToDevice, ID: "LT-0001"},
		kinds,
		false,
		true,
	); !errors.As(err, &bad) {
		t.Errorf("a laptop of its own: %v", err)
	}
	var missing *NotFoundError
	if _, err := f.Detach(
		t.Context(),
		ines,
		"",
		estate.Target{Kind: estate.ToGroup, ID: "nobody"},
		kinds,
		false,
		true,
	); !errors.As(err, &missing) {
		t.Errorf("an unknown group: %v", err)
	}
}

func policyIn(t *testing.T, f *Service, id estate.PolicyID) estate.Policy {
	t.Helper()
	v, err := f.ViewOf(t.Context(), ines, "")
	if err != nil {
		t.Fatal(err)
	}
	p, err := v.Policy(id)
	if err != nil {
		t.Fatal(err)
	}
	return *p
}

func TestAnExceptionNeedsTwoPeople(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	hour := setting.IntegerValue(60)
	doc := files.ExceptionDoc{
		ID:      "EX-9",
		Setting: "screen.lock_after_minutes",
		Target:  "device:LT-0112",
		Value:   &hour,
		Until:   "2026-12-10",
		Reason:  "Plotter",
	}
	var bad problem.Faults
	var own *OwnRequestError
	for name, alter := range map[string]func(*files.ExceptionDoc){
		"no reason": func(d *files.ExceptionDoc) { d.Reason = "" }, "over already": func(d *files.ExceptionDoc) { d.Until = "2026-11-22" },
		"no such laptop":  func(d *files.ExceptionDoc) { d.Target = "device:LT-9999" },
		"no such setting": func(d *files.ExceptionDoc) { d.Setting = "screen.colour" },
		"both":            func(d *files.ExceptionDoc) { d.Unset = true }, "an id in use": func(d *files.ExceptionDoc) { d.ID = "EX-1" },
		"no day": func(d *files.ExceptionDoc) { d.Until = "soon" },
	} {
		wrong := doc
		alter(&wrong)
		if _, err := f.AskException(t.Context(), ines, wrong); !errors.As(err, &bad) {
			t.Errorf("%s was asked for: %v", name, err)
		}
	}
	if r, err := f.AskException(t.Context(), ines, doc); err != nil || r.State != Asked || r.AskedBy != "ines" {
		t.Fatal(r, err)
	}
	if _, err := f.AskException(t.Context(), tomas, doc); !errors.As(err, &bad) || bad[0].Code != problem.DoubledID {
		t.Errorf("the same id twice: %v", err)
	}
	if trial, err := f.RequestTrial(t.Context(), ines, "EX-9"); err != nil || trial.Report.Devices.Len() != 1 {
		t.Errorf("what it would do: %v", err)
	}
	if r, err := f.Live().Plan.Effective("LT-0112", ""); err != nil || r.Setting("screen.lock_after_minutes").How == "exception" {
		t.Error("it counts before it is approved")
	}
	if _, err := f.DecideException(t.Context(), ines, "EX-9", true, ""); !errors.As(err, &own) {
		t.Errorf("who asked approved: %v", err)
	}
	if o, err := f.Overview(t.Context(), ines); err != nil || o.Asked != 1 {
		t.Errorf("the overview says %d are asked for %v", o.Asked, err)
	}
	r, err := f.DecideException(t.Context(), tomas, "EX-9", true, "For the survey")
	if err != nil || r.State != Approved || r.Exception.ApprovedBy != "tomas" || r.Exception.ApprovedOn != "2026-11-23" ||
		r.Revision != f.Live().Revision {
		t.Fatalf("%+v %v", r, err)
	}
	if r, _ := f.Live().Plan.Effective("LT-0112", ""); r.Setting("screen.lock_after_minutes").Value.Integer() != 60 {
		t.Error("approved, it does not count")
	}
	if page, err := f.Device(t.Context(), ines, "LT-0112"); err != nil || len(page.Exceptions) != 1 || page.Exceptions[0].Days != 17 {
		t.Errorf("the laptop's page has %+v %v", page.Exceptions, err)
	}
	var state *StateError
	if _, err := f.DecideException(t.Context(), tomas, "EX-9", false, ""); !errors.As(err, &state) {
		t.Errorf("decided twice: %v", err)
	}
	for _, d := range []struct {
		day     string
		lapsing int
	}{{"2026-11-23", 1}, {"2026-11-26", 2}, {"2026-12-07", 1}, {"2026-12-11", 0}} {
		day.Store(d.day)
		if o, err := f.Overview(t.Context(), ines); err != nil || len(o.Lapsing) != d.lapsing {
			t.Errorf("on %s %d lapse soon, expected %d %v", day, len(o.Lapsing), d.lapsing, err)
		}
	}
	day.Store("2026-12-11")
	v, _ := f.ViewOf(t.Context(), ines, "")
	list := v.Exceptions()
	if list[len(list)-1].ID != "EX-1" || list[len(list)-2].ID != "EX-9" || list[0].ID != "EX-2" || list[len(list)-2].Days != -1 {
		t.Errorf("by the day of lapse: %+v", list)
	}
	// Nobody writes an exception and approves it in one go by another way.
	c := opened(t, f, "Short cut")
	body, _ := files.EncodeJSON(
		estate.Exception{
			ID:         "EX-10",
			Setting:    "media.camera",
			Target:     estate.Target{Kind: estate.ToDevice, ID: "LT-0001"},
			Unset:      true,
			Until:      "2027-01-01",
			Reason:     "r",
			ApprovedBy: "ines",
			ApprovedOn: "2026-12-11",
		},
	)
	if _, err := f.PutEdit(t.Context(), ines, c,
		EditInput{Kind: estate.KindException, ID: "EX-10", Body: body},
	); !errors.As(err, &own) {
		t.Errorf("written and approved by one: %v", err)
	}
	doc.ID, doc.Until = "EX-11", "2027-01-01"
	if _, err := f.AskException(t.Context(), ines, doc); err != nil {
		t.Fatal(err)
	}
	var missing *NotFoundError
	if err := f.WithdrawException(t.Context(), tomas, "EX-11"); !errors.As(err, &missing) {
		t.Errorf("somebody else took it back: %v", err)
	}
	if err := f.WithdrawException(t.Context(), ines, "EX-11"); err != nil {
		t.Error(err)
	}
	if rows, err := f.Requests(t.Context(), ines, Asked); err != nil || len(rows) != 0 {
		t.Errorf("asked for are %+v %v", rows, err)
	}
}

func TestPastingViewsAndLists(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	v, err := f.ViewOf(t.Context(), ines, "")
	if err != nil {
		t.Fatal(err)
	}
	serial := deviceOf(t, f, "LT-0007").Serial
	p := v.Paste([]string{" " + strings.ToLower(serial) + ",", "LT-0008", "lt-0007", "", "NOPE", `"LT-0009"`})
	if !slices.Equal(p.Devices, []estate.DeviceID{"LT-0007", "LT-0008", "LT-0009"}) || !slices.Equal(p.Unknown, []string{"NOPE"}) ||
		!slices.Equal(p.Doubled, []string{"lt-0007"}) {
		t.Errorf("pasted: %+v", p)
	}
	mine, err := f.SaveView(t.Context(), ines, "devices", " Field laptops ", "q=field", false)
	if err != nil || mine.Title != "Field laptops" {
		t.Fatal(mine, err)
	}
	if _, err := f.SaveView(t.Context(), ines, "devices", "Ours", "sort=unit", true); err != nil {
		t.Fatal(err)
	}
	if views, _ := f.Views(t.Context(), ines, "devices"); len(views) != 2 {
		t.Errorf("mine are %+v", views)
	}
	if views, _ := f.Views(t.Context(), tomas, "devices"); len(views) != 1 || views[0].Title != "Ours" {
		t.Errorf("others see %+v", views)
	}
	if views, _ := f.Views(t.Context(), ines, "people"); len(views) != 0 {
		t.Errorf("on another page: %+v", views)
	}
	var missing *NotFoundError
	if err := f.DropView(t.Context(), tomas, mine.ID); !errors.As(err, &missing) {
		t.Errorf("another's view was dropped: %v", err)
	}
	if err := f.DropView(t.Context(), ines, mine.ID); err != nil {
		t.Error(err)
	}
	if _, err := f.SaveView(t.Context(), ines, "devices", " ", "", false); err == nil {
		t.Error("a view without a name")
	}
	people, err := f.People(t.Context(), ines, PersonFilter{Where: []string{"devices>=2"}, Sort: "-devices"})
	if err != nil || people.Len() == 0 || people.Value(0, "devices").Integer() < 2 {
		t.Errorf("people: %v", err)
	}
	page, err := f.Person(t.Context(), ines, "ruth.mbeki")
	if err != nil || len(page.Devices) != 4 || page.Devices[0].Device.ID != "LT-0110" || len(page.Groups) == 0 ||
		page.Units[len(page.Units)-1] != "rv-petrel" {
		t.Errorf("a person's page: %+v %v", page, err)
	}
	if _, err := f.Person(t.Context(), ines, "nobody"); !errors.As(err, &missing) {
		t.Errorf("an unknown person: %v", err)
	}
	fields, err := f.Fields(t.Context(), ines, estate.KindDevice, []string{"os"}, 2)
	if err != nil || len(fields) != 1 || len(fields[0].Most) != 2 || fields[0].Distinct != 3 {
		t.Errorf("fields: %+v %v", fields, err)
	}
	if _, err := f.Fields(t.Context(), ines, estate.KindPerson, []string{"os"}, 2); !errors.As(err, &missing) {
		t.Errorf("a field that people do not have: %v", err)
	}
}
