// This file has the resources of baselines: how laptops stand to them, and what a new one is captured from. Baselines
// themselves are objects of the estate, and edited in changes.

package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/baseline"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerBaselines() {
	huma.Register(s.api, operation("listBaselines", http.MethodGet, "/baselines", "Baselines with how their "+
		"laptops stand"), s.listBaselines)
	huma.Register(
		s.api,
		operation("compliance", http.MethodGet, "/baselines/{id}/compliance",
			"How laptops stand to a baseline, by unit, by setting and over time"),
		s.compliance,
	)
	huma.Register(
		s.api,
		operation("compliantLaptops", http.MethodGet, "/baselines/{id}/laptops", "The laptops of a baseline with what is not as "+
			"it wants it"),
		s.compliantLaptops,
	)
	huma.Register(
		s.api,
		operation("captureBaseline", http.MethodGet, "/baseline-settings", "Settings for a baseline: what a laptop has, or what a "+
			"policy sets"),
		s.captureBaseline,
	)
}

func countOf(c baseline.Count) wire.ComplianceCount {
	return wire.ComplianceCount{Laptops: c.Laptops(), Complies: c.Complies, Differs: c.Differs, Unknown: c.Unknown,
		Percent: json.Number(c.Share().String())}
}

func baselineSummary(r *workflow.BaselineRow) wire.BaselineSummary {
	b := r.Baseline
	out := wire.BaselineSummary{ID: string(b.ID), Title: b.Title, Why: b.Why, Owner: b.Owner, Settings: len(b.Items), Below: r.Below,
		Count: countOf(r.Count)}
	if b.AlertBelow > 0 {
		out.AlertBelow = json.Number(b.AlertBelow.String())
	}
	return out
}

// listBaselines handles the operation listBaselines.
func (s *server) listBaselines(ctx context.Context, _ *struct{}) (*output[[]wire.BaselineSummary], error) {
	rows, err := s.Flow.Baselines(ctx, actorOf(ctx))
	list := make([]wire.BaselineSummary, len(rows))
	for i := range rows {
		list[i] = baselineSummary(&rows[i])
	}
	return out(list, s.fault(ctx, err))
}

// compliance handles the operation compliance.
func (s *server) compliance(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Unit string `query:"unit" maxLength:"128" doc:"This unit with what is below it"`
}) (*output[wire.Compliance], error) {
	c, err := s.Flow.Compliance(ctx, actorOf(ctx), in.ID, estate.UnitID(in.Unit))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	live := s.Flow.Live()
	t := titlesOf(live.Side)
	out := wire.Compliance{
		Baseline: baselineSummary(&c.BaselineRow), Units: make([]wire.UnitCompliance, len(c.Units)),
		Items: make([]wire.ItemCompliance, len(c.Items)),
		Days:  make([]wire.ComplianceDay, len(c.Days)),
	}
	for i, u := range c.Units {
		out.Units[i] = wire.UnitCompliance{Unit: string(u.Unit), Title: live.Plan.Unit(u.Unit).Title, Count: countOf(u.Count)}
	}
	for i, x := range c.Items {
		out.Items[i] = wire.ItemCompliance{
			Setting: string(x.Item.Setting), Title: t.setting(x.Item.Setting), Value: x.Item.Value, Severity: string(x.Item.Severity),
			Category: x.Item.Category,
			OnDrift:  cmp.Or(string(x.Item.OnDrift), "repair"), Complies: x.Verdicts[baseline.Complies], Differs: x.Verdicts[baseline.Differs],
			Overridden: x.Verdicts[baseline.Overridden], NotReported: x.Verdicts[baseline.NotReported],
			Unsupported: x.Verdicts[baseline.Unsupported],
			Policies:    wire.Names(x.Policies),
		}
	}
	for i, d := range c.Days {
		out.Days[i] = wire.ComplianceDay{Day: d.Day, Count: countOf(baseline.Count{Complies: d.Complies, Differs: d.Differs, Unknown: d.Unknown})}
	}
	return &output[wire.Compliance]{out}, nil
}

// compliantLaptops handles the operation compliantLaptops.
func (s *server) compliantLaptops(ctx context.Context, in *struct {
	ID      string `path:"id"`
	Unit    string `query:"unit" maxLength:"128" doc:"This unit with what is below it"`
	State   string `query:"state" enum:"complies,differs,unknown"`
	Setting string `query:"setting" maxLength:"128" doc:"Laptops on which this setting is not as the baseline wants it"`
	Cursor  string `query:"cursor"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.LaptopCompliance]], error) {
	f := workflow.ComplianceFilter{Unit: estate.UnitID(in.Unit), State: baseline.State(in.State), Setting: setting.ID(in.Setting)}
	states, err := s.Flow.CompliantLaptops(ctx, actorOf(ctx), in.ID, f)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	t := titlesOf(s.Flow.Live().Side)
	page, err := paged(states, in.Cursor, in.Limit, func(st store.BaselineState) wire.LaptopCompliance { return t.laptopCompliance(&st, "") })
	return out(page, s.fault(ctx, err))
}

func (t titled) laptopCompliance(st *store.BaselineState, title string) wire.LaptopCompliance {
	out := wire.LaptopCompliance{
		Baseline: st.Baseline, Title: title, Device: st.Device, Unit: st.Unit, State: string(st.State), At: st.At,
		Failing: make([]wire.FailingSetting, len(st.Failing)),
	}
	for i, f := range st.Failing {
		out.Failing[i] = wire.FailingSetting{Setting: string(f.Setting), Title: t.setting(f.Setting), Verdict: string(f.Verdict),
			Has: value(f.Has)}
	}
	return out
}

// captureBaseline handles the operation captureBaseline.
func (s *server) captureBaseline(ctx context.Context, in *struct {
	Device string `query:"device" maxLength:"128"`
	Policy string `query:"policy" maxLength:"128"`
}) (*output[map[string]files.BaselineItemDoc], error) {
	if (in.Device == "") == (in.Policy == "") {
		return nil, problemOf(http.StatusUnprocessableEntity, "faults", "found neither or both of device and policy, expected "+
			"one of the two")
	}
	items, err := s.Flow.CaptureBaseline(ctx, actorOf(ctx), estate.DeviceID(in.Device), estate.PolicyID(in.Policy))
	return out(files.BaselineItems(items), s.fault(ctx, err))
}
