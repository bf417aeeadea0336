package workflow_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// changed opens a change and puts edits into it.
func changed(t *testing.T, f *Service, edits ...EditInput) string {
	t.Helper()
	c, err := f.NewChange(t.Context(), ines, "A change", "because")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range edits {
		if _, err := f.PutEdit(t.Context(), ines, c.ID, e); err != nil {
			t.Fatal(err)
		}
	}
	return c.ID
}

func published(t *testing.T, f *Service, change string) {
	t.Helper()
	c, _, _, err := f.Change(t.Context(), ines, change)
	if err == nil {
		_, err = f.Publish(t.Context(), ines, change, PublishInput{Expected: c.Version})
	}
	if err != nil {
		t.Fatal(err)
	}
}

// faultOf wants faults, and gives the first.
func faultOf(t *testing.T, err error) problem.Fault {
	t.Helper()
	var faults problem.Faults
	if !errors.As(err, &faults) {
		t.Fatalf("found %v, expected faults", err)
	}
	return faults[0]
}

func TestFilesAreKeptOnce(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, s := flow(t, day)
	rules := []byte(
		`{"format": "zenith-ridge/application-rules/1", "id": "6F9619FF-8B86-D011-B42D-00C04FC964FF", "rules": [{"id": "a", "action": "allow", "path": "/opt/x"}]}`,
	)
	first, err := f.AddFile(t.Context(), ines, "rules.json", rules, contents.Options{Expect: setting.RulesFile}, true)
	if err != nil || !first.New || first.Reading.Rules.ID != "6f9619ff-8b86-d011-b42d-00c04fc964ff" {
		t.Fatalf("%+v %v", first, err)
	}
	again, err := f.AddFile(
		t.Context(),
		Actor{Name: "tomas", Held: access.Held{Everywhere: access.Of(access.Read, access.Write)}},
		"other name.json",
		rules,
		contents.Options{},
		true,
	)
	if err != nil || again.New || again.SHA256 != first.SHA256 || again.By != "ines" {
		t.Errorf("the same again: %+v %v", again, err)
	}
	if kept, err := f.Files(t.Context(), ines, setting.RulesFile); err != nil || len(kept) != 1 || kept[0].Name != "rules.json" {
		t.Errorf("kept are %+v %v", kept, err)
	}
	if data, err := f.FileData(t.Context(), ines, first.SHA256); err != nil || string(data) != string(rules) {
		t.Errorf("the bytes are %q %v", data, err)
	}
	if _, err := f.AddFile(t.Context(), ines, "looked-at.sh", []byte("#!/bin/sh"), contents.Options{}, false); err != nil {
		t.Error(err)
	}
	before, _ := s.AuditRecords(store.AuditFilter{}, 100)
	for name, data := range map[string]string{"a/b.txt": "x", "": "x", "tab\t.txt": "x", "empty.txt": "", "key.pem": "-----BEGIN PRIVATE " +
		"KEY-----\nMAo=\n-----END PRIVATE KEY-----\n"} {
		_, err := f.AddFile(t.Context(), ines, name, []byte(data), contents.Options{}, true)
		faultOf(t, err)
	}
	if after, _ := s.AuditRecords(store.AuditFilter{}, 100); len(after) != len(before) {
		t.Error("refused files left records")
	}
	if all, _ := f.Files(t.Context(), ines, ""); len(all) != 1 {
		t.Errorf("%d files are kept, expected the one that was meant to be", len(all))
	}

	// A policy may name it where a rule set is needed, and nowhere else; one that is not kept is
	// refused.
	value := fmt.Sprintf(`{"file": %q}`, first.SHA256)
	changed(
		t,
		f,
		EditInput{Kind: estate.KindUnit, ID: "larkfell", Expected: -1, Body: []byte(`{"id": "larkfell"}`)},
		policyEdit("p", `"settings":{"applications.control_rules":`+value+`},"audience":{}`),
	)
	edits, _ := s.Edits(mustChange(t, f))
	if body := edits[len(edits)-1].Body + edits[0].Body; !strings.Contains(body, `"name":"rules.json","size":`) {
		t.Errorf("the edit does not have the file's name and size: %s", body)
	}
	for settings, code := range map[string]problem.Code{
		`{"disk.recovery.company_certificate":` + value + `}`:                                                 problem.WrongContent,
		`{"applications.control_rules":{"file":"` + strings.Repeat("0", 64) + `"}}`:                           problem.UnknownFile,
		`{"applications.control_rules":{"file":"rules.json"}}`:                                                problem.BadHash,
		`{"trust.machine_roots":[{"certificate":` + value + `}]}`:                                             problem.WrongContent,
		`{"trust.machine_roots":[{"certificate":{"file":"` + strings.Repeat("0", 64) + `","colour":"red"}}]}`: problem.UnknownField,
	} {
		_, err := f.Try(t.Context(), ines, "", []EditInput{policyEdit("q", `"settings":`+settings+`,"audience":{}`)})
		if got := faultOf(t, err); got.Code != code {
			t.Errorf("%s: %v, expected %s", settings, got, code)
		}
	}
}

// mustChange gives the one open change.
func mustChange(t *testing.T, f *Service) string {
	t.Helper()
	list, err := f.Changes(t.Context(), ines, Open)
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	return list[0].ID
}

// TestOwnDefinitions adds a definition, uses it, alters it with an impact, and is kept from
// removing it.
func TestOwnDefinitions(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	define := func(rest string) EditInput {
		return EditInput{
			Kind:     estate.KindSetting,
			ID:       "plotter.keep_awake",
			Expected: -1,
			Body: []byte(
				`{"id":"plotter.keep_awake","title":"Keep the plotter awake","help":"It does.","kind":"configuration","area":"plotters",` + rest + `}`,
			),
		}
	}
	c := changed(
		t,
		f,
		define(`"type":"bool"`),
		policyEdit("plotters", `"settings":{"plotter.keep_awake":true},"audience":{"include":["unit:survey-fleet"]}`),
	)
	if v, err := f.ViewOf(t.Context(), ines,
		c,
	); err != nil || len(v.Plan.Search("plotter awake")) == 0 ||
		v.Plan.Search("plotter awake")[0].ID != "plotter.keep_awake" {
		t.Errorf("the definition is not found in the change: %v", err)
	}
	published(t, f, c)
	if areas := f.Areas(dictionary.Areas); areas[len(areas)-1] != "plotters" {
		t.Errorf("the areas are %v", areas)
	}

	altered := changed(t, f, define(`"type":"bool","supports":[{"platform":"linux"}]`))
	r, faults, err := f.Impact(t.Context(), ines, altered)
	if err != nil || len(faults) > 0 || r.Devices.Len() == 0 {
		t.Errorf("altering a used definition: %+v %v %v", r, faults, err)
	}
	c2, _ := f.NewChange(t.Context(), ines, "types", "")
	if got := faultOf(
		t,
		second(f.PutEdit(t.Context(), ines, c2.ID, define(`"type":"integer"`))),
	); got.Code != problem.WrongType ||
		!strings.Contains(got.Path, "/policies/plotters/") {
		t.Errorf("a type that does not fit the policy that uses it: %v", got)
	}
	if got := faultOf(
		t,
		second(f.PutEdit(t.Context(), ines, c2.ID, define(`"type":"choice"`))),
	); got.Code != problem.MissingField &&
		got.Code != problem.WrongType {
		t.Errorf("a choice with no options: %v", got)
	}
	retire := EditInput{Kind: estate.KindSetting, ID: "plotter.keep_awake", Retire: true, Expected: -1}
	if got := faultOf(t, second(f.PutEdit(t.Context(), ines, c2.ID, retire))); got.Code != problem.InUse ||
		!strings.Contains(got.Found, "policies/plotters") {
		t.Errorf("retiring a used definition: %v", got)
	}
	c3 := changed(t, f, policyEdit("plotters", `"settings":{},"audience":{}`), retire)
	published(t, f, c3)
	if f.Live().Plan.Definition("plotter.keep_awake") != nil {
		t.Error("the definition is still there")
	}
}

func second[A any](_ A, err error) error { return err }

func TestHistoryAndDifferences(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	published(t, f, changed(t, f, policyEdit("p", `"settings":{"media.camera":false},"audience":{"include":["unit:labs"]}`)))
	published(
		t,
		f,
		changed(
			t,
			f,
			policyEdit(
				"p",
				`"title":"P","settings":{"media.camera":{"value":false,"lock":true},"media.microphone":false},"audience":{"include":["unit:slipway"]}`,
			),
		),
	)
	history, err := f.History(t.Context(), ines, "p")
	if err != nil || len(history) != 2 || history[0].Version != 2 || history[0].Why != "because" || history[0].Title != "A change" ||
		len(history[1].Before) != 0 {
		t.Fatalf("%+v %v", history, err)
	}
	var got []string
	for _, d := range history[0].Before {
		got = append(got, fmt.Sprintf("%s: %s → %s", d.Part, d.From, d.To))
	}
	want := []string{
		"title:  → P",
		"include: unit:labs → unit:slipway",
		"settings/media.camera: false → false, locked",
		"settings/media.microphone:  → false",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("found\n%s\nexpected\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if back, err := f.Differences(t.Context(), ines, "p", 2, 1); err != nil || len(back) != 4 || back[0].From != "P" {
		t.Errorf("the other way round: %+v %v", back, err)
	}
	var missing *NotFoundError
	if _, err := f.Differences(t.Context(), ines, "p", 1, 7); !errors.As(err, &missing) {
		t.Errorf("a version that is not there: %v", err)
	}
	if _, err := f.History(t.Context(), ines, "nobody"); !errors.As(err, &missing) {
		t.Errorf("the history of nothing: %v", err)
	}
}

func TestSplittingAltersNoLaptop(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	c := changed(t, f)
	if err := f.Split(
		t.Context(),
		ines,
		c,
		"house-rules",
		"house-network",
		"House network",
		[]setting.ID{"network.firewall.public"},
	); err != nil {
		t.Fatal(err)
	}
	v, err := f.ViewOf(t.Context(), ines, c)
	if err != nil {
		t.Fatal(err)
	}
	r, _, err := f.Impact(t.Context(), ines, c)
	if err != nil || len(r.Transitions) != 0 {
		t.Errorf("splitting alters %d values: %v", len(r.Transitions), err)
	}
	trial, err := f.PolicyUse(t.Context(), ines, v, "house-network")
	if err != nil || trial.Use.Reach.Gets.Len() != 240 {
		t.Errorf("the new one reaches %d: %v", trial.Use.Reach.Gets.Len(), err)
	}
	for _, bad := range []struct {
		id, newID estate.PolicyID
		settings  []setting.ID
	}{{"house-rules", "house-network", []setting.ID{"signin.banner"}}, {"house-rules", "x", nil},
		{"house-rules", "x", []setting.ID{"media.camera"}}, {"house-network", "x", []setting.ID{"network.firewall.public"}}} {
		faultOf(t, f.Split(t.Context(), ines, c, bad.id, bad.newID, "", bad.settings))
	}
	var missing *NotFoundError
	if err := f.Split(t.Context(), ines, c, "nobody", "x", "", []setting.ID{"media.camera"}); !errors.As(err, &missing) {
		t.Errorf("splitting nothing: %v", err)
	}
}

func TestMergingWithAColleague(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	body := func(settings string) []byte { return policyEdit("p", `"settings":`+settings+`,"audience":{}`).Body }
	c := changed(t, f, EditInput{Kind: estate.KindPolicy, ID: "p", Expected: -1, Body: body(`{"media.camera":false,"media.microphone":true}`)})
	m, err := f.MergeEdit(t.Context(), ines,
		c,
		"p",
		body(`{"media.camera":true,"media.microphone":true}`),
		body(`{"media.camera":true,"media.microphone":false}`),
	)
	if err != nil || len(m.Conflicts) != 0 || m.Version != 1 {
		t.Fatalf("%+v %v", m, err)
	}
	var doc files.PolicyDoc
	if err := json.Unmarshal(m.Body, &doc); err != nil || doc.Settings["media.camera"].Value.Bool() ||
		doc.Settings["media.microphone"].Value.Bool() {
		t.Errorf("merged to %s %v", m.Body, err)
	}
	if m, err := f.MergeEdit(t.Context(), ines,
		c,
		"p",
		body(`{}`),
		body(`{"media.camera":true}`),
	); err != nil || len(m.Conflicts) != 1 ||
		m.Conflicts[0].Theirs != "false" {
		t.Errorf("%+v %v", m, err)
	}
	faultOf(t, second(f.MergeEdit(t.Context(), ines, c, "p", []byte(`{`), body(`{}`))))
	var missing *NotFoundError
	if _, err := f.MergeEdit(t.Context(), ines, c, "other", body(`{}`), body(`{}`)); !errors.As(err, &missing) {
		t.Errorf("an edit that is not there: %v", err)
	}
}

// TestTheSummarySaysTheSameEachTime writes a summary twice, and looks for what a change board asks.
func TestTheSummarySaysTheSameEachTime(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	page := func(id estate.PolicyID) string {
		v, err := f.ViewOf(t.Context(), ines, "")
		if err != nil {
			t.Fatal(err)
		}
		s, err := f.Summary(t.Context(), ines, v, id)
		if err != nil {
			t.Fatal(err)
		}
		d := report.Summary(s, v.Plan)
		if !strings.HasPrefix(d.HTML(), "<!doctype html>") || strings.Contains(d.HTML(), "<script") {
			t.Error("the HTML is no page by itself")
		}
		return d.Markdown()
	}
	text := page("field-encryption")
	if text != page("field-encryption") {
		t.Error("two summaries of one state differ")
	}
	for _, want := range []string{
		"## Purpose", "## Who gets it", "70 laptops of 240 (29%)", "## What it sets", "disk.startup.pin) | require |",
		"A startup PIN is required, but the security chip that holds it is forbidden: on 70 laptops",
		"asks the person something", "can't be undone from here", "## How to go back", "Retiring it would give 70 laptops " +
			"something else", "has done stays as it is",
	} {
		if !strings.Contains(strings.ReplaceAll(text, `\`, ""), want) {
			t.Errorf("the summary does not say %q:\n%s", want, text)
		}
	}
	if leads := page("leads-banner"); !strings.Contains(leads, "conflicts with") {
		t.Errorf("a conflict is not told:\n%s", leads)
	}
}

func TestCapturingALaptop(t *testing.T) {
	t.Parallel()
	day := on("2026-11-23")
	f, _ := flow(t, day)
	withDemo(t, f)
	if found, err := f.Capture(t.Context(), ines, "LT-0001"); err != nil || len(found) != 0 {
		t.Errorf("a laptop that never reported: %v %v", found, err)
	}
	if _, err := f.Capture(t.Context(), ines, "LT-9999"); err == nil {
		t.Error("an unknown laptop was captured")
	}
}

// BenchmarkDraftOf100 tries a policy of 100 entries against the demo estate, as each pause of
// typing does.
func BenchmarkDraftOf100(b *testing.B) {
	day := on("2026-11-23")
	f, _ := flow(b, day)
	withDemo(b, f)
	settings := map[string]setting.Value{}
	for _, d := range dictionary.Shipped().Settings {
		if len(settings) < 100 && !d.Default.IsNothing() {
			settings[string(d.ID)] = d.Default
		}
	}
	body, err := json.Marshal(
		map[string]any{"id": "draft", "kind": "security", "settings": settings, "audience": map[string]any{"include": []string{"everyone"}}},
	)
	if err != nil || len(settings) != 100 {
		b.Fatal(len(settings), err)
	}
	for b.Loop() {
		if trial, err := f.Try(b.Context(), ines, "",
			[]EditInput{{Kind: estate.KindPolicy, ID: "draft", Body: body, Expected: -1}},
		); err != nil || len(trial.Faults) > 0 ||
			len(trial.Use.AlsoSet) == 0 {
			b.Fatal(trial, err)
		}
	}
}
