// This file says what units and groups inherit, and what a setting is where.

package httpapi

import (
	"cmp"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerInheritance() {
	inherits := func(kind estate.TargetKind) func(context.Context, *struct {
		InChange
		ID string `path:"id"`
	}) (*output[wire.Inheritance], error) {
		return func(ctx context.Context, in *struct {
			InChange
			ID string `path:"id"`
		}) (*output[wire.Inheritance], error) {
			v, err := s.view(ctx, in.InChange)
			if err != nil {
				return nil, s.fault(ctx, err)
			}
			w, err := inheritance(v, estate.Target{Kind: kind, ID: in.ID})
			return out(w, s.fault(ctx, err))
		}
	}
	huma.Register(
		s.api,
		operation(
			"unitInherits",
			http.MethodGet,
			"/units/{id}/inherits",
			"How settings come to a unit: from above, overridden, locked, detached, its own",
		),
		inherits(estate.ToUnit),
	)
	huma.Register(
		s.api,
		operation(
			"groupInherits",
			http.MethodGet,
			"/groups/{id}/inherits",
			"How settings come to a group: from above, overridden, locked, detached, its own",
		),
		inherits(estate.ToGroup),
	)
	huma.Register(
		s.api,
		operation(
			"unitMatrix",
			http.MethodGet,
			"/unit-matrix",
			"Settings beside units: what most laptops of each have, and how many have it otherwise",
		),
		s.unitMatrix,
	)
	huma.Register(
		s.api,
		operation(
			"settingPlaces",
			http.MethodGet,
			"/settings/{id}/places",
			"What a setting is in every unit, and in the groups that are given it",
		),
		s.settingPlaces,
	)
}

// inheritance says how settings come to a place.
func inheritance(v workflow.View, place estate.Target) (wire.Inheritance, error) {
	w := wire.Inheritance{Place: place.String(), Settings: []wire.InheritedSetting{}}
	if u := v.Plan.Unit(estate.UnitID(place.ID)); place.Kind == estate.ToUnit {
		if u == nil {
			return w, &workflow.NotFoundError{Kind: "unit", ID: place.ID}
		}
		w.Title, w.Detach, w.Above = u.Title, wire.Detachments(u.Detach), v.Plan.UnitPaths()[u.ID]
		w.Above = w.Above[:len(w.Above)-1]
	} else {
		g, err := v.Group(place.ID)
		if err != nil {
			return w, err
		}
		w.Title, w.Detach, w.Above = g.Title, wire.Detachments(g.Detach), []string{}
	}
	t := titlesOf(v.Side)
	devices, list := review.Inherit(v.Side, place)
	w.Devices = devices
	for i := range list {
		w.Settings = append(w.Settings, inheritedWire(t, &list[i]))
	}
	return w, nil
}

func inheritedWire(t titled, h *review.InheritedHere) wire.InheritedSetting {
	w := wire.InheritedSetting{
		Setting: string(h.Setting), Title: t.setting(h.Setting), Prevailing: prevailingWire(h.Prevailing),
		Above: h.Above, Locked: h.Locked, Overridden: h.Overridden, Detached: h.Detached, Own: h.Own, Clashing: h.Clashing,
		Arrivals: make([]wire.Arrival, len(h.Arrivals)),
	}
	if d := t.settings[h.Setting]; d != nil {
		w.Area, w.Combine = d.Area, string(d.Combine)
	}
	for i, a := range h.Arrivals {
		w.Arrivals[i] = wire.Arrival{
			Policy:      string(a.Policy),
			PolicyTitle: t.policies[string(a.Policy)],
			Value:       a.Value,
			Locked:      a.Locked,
			Level:       a.Level.String(),
			Whence:      string(a.Whence),
			Devices:     a.Devices,
			Fates:       map[string]int{},
			Beaten:      []wire.BeatenBy{},
		}
		for fate, n := range a.Fates {
			w.Arrivals[i].Fates[fate.String()] = n
		}
		for _, b := range a.Beaten {
			w.Arrivals[i].Beaten = append(
				w.Arrivals[i].Beaten,
				wire.BeatenBy{Policy: string(b.Policy), PolicyTitle: t.policies[string(b.Policy)], Exception: b.Exception, Devices: b.Devices},
			)
		}
	}
	return w
}

func prevailingWire(p review.Prevailing) wire.Prevailing {
	w := wire.Prevailing{State: stateOf(p.State), Devices: p.Devices, Others: p.Others, Apart: p.Apart}
	if p.Status == outcome.Conflict {
		w.Policies = p.Policies
	}
	return w
}

func placeWire(p *review.Place) wire.MatrixUnit {
	return wire.MatrixUnit{
		Unit:    string(p.ID),
		Title:   p.Title,
		Parent:  string(p.Parent),
		Depth:   p.Depth,
		Devices: p.Devices,
		Detach:  wire.Detachments(p.Detach),
	}
}

func matrixWire(v workflow.View, m review.Matrix) wire.UnitMatrix {
	t := titlesOf(v.Side)
	w := wire.UnitMatrix{Above: []wire.MatrixUnit{}, Units: []wire.MatrixUnit{}, Rows: []wire.MatrixRow{}, Even: m.Even}
	for i := range m.Places {
		w.Units = append(w.Units, placeWire(&m.Places[i]))
	}
	if len(m.Places) > 0 {
		for depth, id := range v.Plan.UnitPaths()[m.Places[0].ID] {
			if u := v.Plan.Unit(estate.UnitID(id)); u != nil && u.ID != m.Places[0].ID {
				w.Above = append(
					w.Above,
					placeWire(&review.Place{Unit: u, Depth: depth, Devices: v.Plan.Matching(estate.Target{Kind: estate.ToUnit, ID: id}).Len()}),
				)
			}
		}
	}
	for _, r := range m.Rows {
		row := wire.MatrixRow{Setting: string(r.Setting), Title: t.setting(r.Setting), Cells: make([]wire.Prevailing, len(r.Cells))}
		if d := t.settings[r.Setting]; d != nil {
			row.Area = d.Area
		}
		for i := range r.Cells {
			row.Cells[i] = prevailingWire(r.Cells[i])
		}
		w.Rows = append(w.Rows, row)
	}
	return w
}

func whereaboutsWire(v workflow.View, is review.Whereabouts) wire.Whereabouts {
	t := titlesOf(v.Side)
	given := func(list []review.Given) []wire.Given {
		out := make([]wire.Given, len(list))
		for i, g := range list {
			out[i] = wire.Given{
				Policy:      string(g.Policy),
				PolicyTitle: t.policies[string(g.Policy)],
				Value:       g.Value,
				Locked:      g.Locked,
				Devices:     g.Devices,
				Decides:     g.Decides,
			}
		}
		return out
	}
	deciders := func(list []review.Decider) []wire.Decider {
		out := make([]wire.Decider, len(list))
		for i, d := range list {
			out[i] = wire.Decider{Policy: string(d.Policy), PolicyTitle: t.policies[string(d.Policy)], Devices: d.Devices}
		}
		return out
	}
	w := wire.Whereabouts{
		States: []wire.HeldState{},
		Units:  make([]wire.UnitPlace, len(is.Places)),
		Groups: make([]wire.GroupPlace, len(is.Groups)),
	}
	for _, h := range is.States {
		held := wire.HeldState{State: stateOf(h.State), Devices: h.Devices.Len()}
		if h.Status == outcome.Conflict {
			held.Policies = h.Policies
		}
		w.States = append(w.States, held)
	}
	for i := range is.Places {
		w.Units[i] = wire.UnitPlace{
			Place:      placeWire(&is.Places[i].Place),
			Prevailing: prevailingWire(is.Places[i].Prevailing),
			Deciders:   deciders(is.Places[i].Deciders),
			Given:      given(is.Places[i].Given),
		}
	}
	for i, g := range is.Groups {
		w.Groups[i] = wire.GroupPlace{
			Group:      string(g.ID),
			Title:      cmp.Or(g.Title, string(g.ID)),
			Of:         string(g.Of),
			Prevailing: prevailingWire(g.Prevailing),
			Deciders:   deciders(g.Deciders),
			Given:      given(g.Given),
		}
	}
	return w
}

func droppedWire(t titled, d resolve.Dropped) wire.DroppedEntry {
	return wire.DroppedEntry{
		Policy:      string(d.Policy),
		PolicyTitle: t.policies[string(d.Policy)],
		Setting:     string(d.Setting),
		Title:       t.setting(d.Setting),
		Value:       d.Value,
		Devices:     d.Devices,
	}
}

// unitMatrix handles the operation unitMatrix: settings beside units: what most laptops of each
// have, and how many have it otherwise.
func (s *server) unitMatrix(ctx context.Context, in *struct {
	InChange
	Unit string `query:"unit" maxLength:"128" doc:"This unit and those right below it; without it the organisation"`
	Area string `query:"area" maxLength:"128" doc:"Settings of one area"`
	Deep bool   `query:"deep" doc:"All units below, not only those right below"`
	All  bool   `query:"all" doc:"Also settings that every laptop there has alike"`
}) (*output[wire.UnitMatrix], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if in.Unit != "" && v.Plan.Unit(estate.UnitID(in.Unit)) == nil {
		return nil, s.fault(ctx, &workflow.NotFoundError{Kind: "unit", ID: in.Unit})
	}
	return &output[wire.UnitMatrix]{
		matrixWire(
			v,
			review.AcrossUnits(
				v.Side,
				estate.UnitID(in.Unit),
				in.Deep,
				in.All,
				func(d *setting.Definition) bool { return in.Area == "" || d.Area == in.Area },
			),
		),
	}, nil
}

// settingPlaces handles the operation settingPlaces: what a setting is in every unit, and in the
// groups that are given it.
func (s *server) settingPlaces(ctx context.Context, in *struct {
	InChange
	ID string `path:"id"`
}) (*output[wire.Whereabouts], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if v.Plan.Definition(setting.ID(in.ID)) == nil {
		return nil, s.fault(ctx, &workflow.NotFoundError{Kind: "setting", ID: in.ID})
	}
	return &output[wire.Whereabouts]{whereaboutsWire(v, review.Everywhere(v.Side, setting.ID(in.ID)))}, nil
}
