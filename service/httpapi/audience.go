// This file has the resource of audiences: whom a policy reaches, and why others are left out.

package httpapi

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

// registerAudience registers the resource of audiences.
func (s *server) registerAudience() {
	huma.Register(
		s.api,
		operation("audience", http.MethodPost, "/audience", "Who would get a policy with this audience, and who not", readsOnly),
		s.audience,
	)
	huma.Register(
		s.api,
		operation("paste", http.MethodPost, "/audience/paste", "Which devices a list of serial numbers or ids names", readsOnly),
		s.paste,
	)
	huma.Register(
		s.api,
		operation(
			"spread",
			http.MethodPost,
			"/audience/spread",
			"A few laptops of every platform, unit and release among those of an audience: a test group to start with",
			readsOnly,
		),
		s.spread,
	)
}

// readsOnly marks an operation that is a POST for its body's sake and stores nothing.
func readsOnly(*huma.Operation) {}

// policyOf makes a policy of what an audience is tried with.
func policyOf(in *wire.AudienceTrial) (*estate.Policy, error) {
	settings := map[string]files.EntryDoc{}
	doc := files.PolicyDoc{
		ID:        cmp.Or(in.Offered, "tried"),
		Offered:   in.Offered != "",
		Kind:      cmp.Or(in.Kind, string(setting.PolicyKinds[0])),
		Platforms: in.Platforms,
		Within:    in.Within,
		Audience:  in.Audience,
		Settings:  settings,
	}
	data, err := files.PlainJSON(doc)
	if err != nil {
		return nil, err
	}
	object, _, err := files.DecodeJSON(estate.KindPolicy, data)
	if err != nil {
		return nil, err
	}
	p := object.(estate.Policy)
	for _, id := range in.Settings { // support is judged by the setting alone
		p.Entries = append(p.Entries, estate.Entry{Setting: setting.ID(id)})
	}
	return &p, nil
}

func (s *server) audience(ctx context.Context, in *struct {
	InChange
	Body wire.AudienceTrial
}) (*output[wire.AudienceAnswer], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	policy, err := policyOf(&in.Body)
	var faults problem.Faults
	if isFaults(err, &faults) {
		return &output[wire.AudienceAnswer]{wire.AudienceAnswer{Faults: faults}}, nil
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	a := v.Audience(policy)
	most := sampleSize
	if in.Body.Whole {
		most = 1 << 30
	}
	w := reachWire(v, a, most)
	if in.Body.Beside != "" {
		other, err := v.Policy(estate.PolicyID(in.Body.Beside))
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		shares := review.Share(a.Gets, v.Plan.ReachOf(other).Gets)
		w.Beside = &wire.Shared{
			Policy: in.Body.Beside,
			Here:   devicesNamed(shares.OnlyA, most),
			Both:   devicesNamed(shares.Both, most),
			There:  devicesNamed(shares.OnlyB, most),
		}
	}
	return &output[wire.AudienceAnswer]{wire.AudienceAnswer{Reach: &w}}, nil
}

func named[T ~string](list []T, most int) wire.NameList {
	return wire.NameList{Count: len(list), First: wire.Sample(list, most)}
}

func devicesNamed(of resolve.Devices, most int) wire.NameList {
	return wire.NameList{Count: of.Len(), First: wire.Devices(of, most)}
}

func reachWire(v workflow.View, a *review.Audience, most int) wire.AudienceReach {
	titles := map[string]string{}
	snapshot := v.Plan.Snapshot()
	for i := range snapshot.Units {
		titles["unit:"+string(snapshot.Units[i].ID)] = snapshot.Units[i].Title
	}
	for i := range snapshot.Groups {
		titles["group:"+string(snapshot.Groups[i].ID)] = snapshot.Groups[i].Title
	}
	slices1 := func(list []review.Slice, kind string) []wire.Slice {
		out := make([]wire.Slice, len(list))
		for i, x := range list {
			out[i] = wire.Slice{Name: x.Name, Within: x.Within, Title: titles[kind+x.Name], Devices: x.Devices, Of: x.Of}
		}
		return out
	}
	counts := func(list []resolve.Count[estate.Target]) []wire.TargetCount {
		out := make([]wire.TargetCount, len(list))
		for i, c := range list {
			out[i] = wire.TargetCount{Target: c.Of.String(), Title: titles[c.Of.String()], Devices: c.Devices}
		}
		return out
	}
	w := wire.AudienceReach{
		Estate:      a.Estate,
		Gets:        devicesNamed(a.Gets, most),
		Excluded:    devicesNamed(a.Excluded, most),
		Condition:   devicesNamed(a.Condition, most),
		NotTaken:    devicesNamed(a.NotTaken, most),
		Platform:    devicesNamed(a.Platform, most),
		Outside:     devicesNamed(a.Outside, most),
		Unknown:     devicesNamed(a.Unknown, most),
		NotIncluded: devicesNamed(a.NotIncluded, most),
		Unsupported: devicesNamed(a.Unsupported, most),
		People:      named(a.Gets.Owners(), most),
		Units:       len(a.ByUnit),
		ByPlatform:  slices1(a.ByPlatform, ""),
		ByRelease:   slices1(a.ByRelease, ""),
		ByUnit:      slices1(a.ByUnit, "unit:"),
		ByInclude:   counts(a.ByInclude),
		ByExclude:   counts(a.ByExclude),
		Lacking:     map[string]map[string]int{},
		NotKnown:    wire.ByID(a.NotKnown),
		Alarm:       string(a.Alarm),
		Share:       workflow.WideShare,
	}
	for _, t := range a.Missing {
		w.Missing = append(w.Missing, t.String())
	}
	for _, text := range slices.Sorted(maps.Keys(a.Errors)) {
		w.Errors = append(w.Errors, wire.Tally{Value: setting.TextValue(text), Count: a.Errors[text]})
	}
	for id, l := range a.Lacking {
		w.Lacking[string(id)] = wire.Lacking(l)
	}
	return w
}

// paste handles the operation paste: which devices a list of serial numbers or ids names.
func (s *server) paste(ctx context.Context, in *struct {
	InChange
	Body wire.PasteList
}) (*output[wire.Pasted], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	p := v.Paste(in.Body.Words)
	return &output[wire.Pasted]{
		wire.Pasted{Devices: wire.Names(p.Devices), Unknown: wire.Names(p.Unknown), Doubled: wire.Names(p.Doubled)},
	}, nil
}

// spread handles the operation spread: a few laptops of every platform, unit and release among
// those of an audience: a test group to start with.
func (s *server) spread(ctx context.Context, in *struct {
	InChange
	Count int `query:"count" minimum:"1" maximum:"500" default:"10"`
	Body  wire.AudienceTrial
}) (*output[wire.SpreadList], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	policy, err := policyOf(&in.Body)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.SpreadList]{
		wire.SpreadList{Devices: wire.Names(review.Spread(v.Plan, v.Plan.ReachOf(policy).Gets.IDs(), in.Count))},
	}, nil
}
