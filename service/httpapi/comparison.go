// This file compares two laptops, or a laptop with what it would be elsewhere.

package httpapi

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerCompare() {
	huma.Register(
		s.api,
		operation("compareDevices", http.MethodGet, "/devices/{id}/beside/{other}", "Two laptops side by side: what differs, and why"),
		s.compareDevices,
	)
	huma.Register(
		s.api,
		operation(
			"supposeDevice",
			http.MethodPost,
			"/devices/{id}/suppose",
			"A laptop as it is, beside what it would be elsewhere, in other groups, with another owner or another person signed in",
			readsOnly,
		),
		s.supposeDevice,
	)
}

func comparisonWire(v workflow.View, pair review.Pair) wire.Comparison {
	t := titlesOf(v.Side)
	a, b := files.Explained(pair.A), files.Explained(pair.B)
	at := func(list []files.SettingAnswer, id setting.ID) *files.SettingAnswer {
		if i, found := slices.BinarySearchFunc(
			list,
			string(id),
			func(s files.SettingAnswer, id string) int { return cmp.Compare(s.Setting, id) },
		); found {
			return &list[i]
		}
		return nil
	}
	w := wire.Comparison{
		A:       a,
		B:       b,
		Rows:    []wire.ComparedSetting{},
		OnlyA:   wire.Names(pair.OnlyA),
		OnlyB:   wire.Names(pair.OnlyB),
		GroupsA: wire.Names(pair.GroupsA),
		GroupsB: wire.Names(pair.GroupsB),
	}
	for _, p := range pair.Settings {
		w.Rows = append(
			w.Rows,
			wire.ComparedSetting{
				Setting: string(p.Setting),
				Title:   t.setting(p.Setting),
				Same:    p.Same,
				A:       at(a.Settings, p.Setting),
				B:       at(b.Settings, p.Setting),
			},
		)
		if !p.Same {
			w.Differ++
		}
	}
	w.A.Settings, w.B.Settings = []files.SettingAnswer{}, []files.SettingAnswer{} // they are in the rows
	return w
}

// factsApart lists the facts in which two devices differ.
func factsApart(a, b *estate.Device) []wire.ComparedFact {
	all := func(d *estate.Device) map[string]setting.Value {
		out := map[string]setting.Value{"os": setting.TextValue(string(d.OS)), "os_version": setting.TextValue(d.OSVersion)}
		for name, text := range map[string]string{"edition": d.Edition, "model": d.Model, "owner": string(d.Owner)} {
			if text != "" {
				out[name] = setting.TextValue(text)
			}
		}
		if len(d.Tags) > 0 {
			out["tags"] = setting.ListValue(d.Tags)
		}
		for name, v := range d.Facts {
			out["facts/"+name] = v
		}
		return out
	}
	x, y := all(a), all(b)
	names := map[string]bool{}
	for name := range x {
		names[name] = true
	}
	for name := range y {
		names[name] = true
	}
	out := []wire.ComparedFact{}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !x[name].Equal(y[name]) {
			out = append(out, wire.ComparedFact{Name: name, A: value(x[name]), B: value(y[name])})
		}
	}
	return out
}

// compareDevices handles the operation compareDevices: two laptops side by side: what differs, and
// why.
func (s *server) compareDevices(ctx context.Context, in *struct {
	InChange
	ID    string `path:"id"`
	Other string `path:"other"`
}) (*output[wire.Comparison], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	pair, err := v.Beside(in.ID, in.Other)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := comparisonWire(v, pair)
	w.Facts = factsApart(v.Plan.Device(estate.DeviceID(in.ID)), v.Plan.Device(estate.DeviceID(in.Other)))
	return &output[wire.Comparison]{w}, nil
}

// supposeDevice handles the operation supposeDevice: a laptop as it is, beside what it would be
// elsewhere, in other groups, with another owner or another person signed in.
func (s *server) supposeDevice(ctx context.Context, in *struct {
	InChange
	ID   string `path:"id"`
	Body wire.Supposed
}) (*output[wire.Comparison], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := review.WhatIf{Unit: estate.UnitID(in.Body.Unit), Person: estate.PersonID(in.Body.Person)}
	for _, g := range in.Body.Join {
		w.Join = append(w.Join, estate.GroupID(g))
	}
	for _, g := range in.Body.Leave {
		w.Leave = append(w.Leave, estate.GroupID(g))
	}
	if in.Body.Owner != nil {
		owner := estate.PersonID(*in.Body.Owner)
		w.Owner = &owner
	}
	pair, err := review.Suppose(v.Plan.Snapshot(), estate.DeviceID(in.ID), w)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Comparison]{comparisonWire(v, pair)}, nil
}
