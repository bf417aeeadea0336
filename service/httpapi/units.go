// This file has the resource of units: the tree, moves, detaching.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerUnits() {
	s.registerInheritance()
	huma.Register(
		s.api,
		operation("listUnits", http.MethodGet, "/units", "The tree of units, each above those below it, with counts"),
		s.listUnits,
	)
	huma.Register(
		s.api,
		operation(
			"moveDevices",
			http.MethodPost,
			"/changes/{id}/moved-devices",
			"Give laptops another unit of their own, as edits of a change",
			needs(access.Write),
		),
		s.moveDevices,
	)
	huma.Register(
		s.api,
		operation(
			"moveUnit",
			http.MethodPost,
			"/changes/{id}/moved-units",
			"Put a unit with all below it below another, as an edit of a change",
			needs(access.Write),
		),
		s.moveUnit,
	)
	huma.Register(
		s.api,
		operation(
			"detach",
			http.MethodPost,
			"/changes/{id}/detached",
			"Let a unit or group detach kinds of policy or areas of the dictionary, or say what it would lose",
			needs(access.Write),
		),
		s.detach,
	)
	huma.Register(
		s.api,
		operation("listDetached", http.MethodGet, "/detached", "Places that detach something, and what each of them missed since"),
		s.listDetached,
	)
}

// unitTree gives every unit above those below it, with what is in it and below.
func unitTree(v workflow.View) []wire.Unit {
	snapshot := v.Plan.Snapshot()
	places := review.Places(v.Side, "")
	own, people, policies, children := map[estate.UnitID]int{}, map[string]int{}, map[string]int{}, map[estate.UnitID]int{}
	for _, u := range v.Plan.All().ByUnit() {
		own[u.Of] = u.Devices
	}
	paths := v.Plan.UnitPaths()
	for i := range snapshot.People {
		for _, u := range paths[snapshot.People[i].Unit] {
			people[u]++
		}
	}
	for i := range snapshot.Policies {
		for _, t := range snapshot.Policies[i].Audience.Include {
			if t.Kind == estate.ToUnit && snapshot.Policies[i].State != estate.Retired {
				policies[t.ID]++
			}
		}
	}
	for _, u := range places {
		children[u.Parent]++
	}
	out := make([]wire.Unit, 0, len(places))
	for _, u := range places {
		id := string(u.ID)
		out = append(
			out,
			wire.Unit{
				ID:       id,
				Title:    u.Title,
				Parent:   string(u.Parent),
				Depth:    u.Depth,
				Devices:  u.Devices,
				Own:      own[u.ID],
				People:   people[id],
				Policies: policies[id],
				Detach:   wire.Detachments(u.Detach),
				Source:   v.Live.SourceOf(estate.KindUnit, id),
				Children: children[u.ID],
			},
		)
	}
	return out
}

// detachedPlaces gives places that detach something with what they missed.
func detachedPlaces(places []workflow.DetachedPlace, t titled) []wire.DetachedPlace {
	list := make([]wire.DetachedPlace, len(places))
	for i, p := range places {
		list[i] = wire.DetachedPlace{
			Place:   p.Place.String(),
			Title:   p.Title,
			Detach:  wire.Detachments(p.Detach),
			Due:     wire.Detachments(p.Due),
			Devices: p.Devices,
			Missed:  []wire.DroppedEntry{},
		}
		if p.Since != nil {
			list[i].Since, list[i].By = &p.Since.At, p.Since.By
		}
		for _, m := range p.Missed {
			e := droppedWire(t, m.Dropped)
			e.Was = m.Was
			list[i].Missed = append(list[i].Missed, e)
		}
	}
	return list
}

// detachmentsOf reads the detachments of a request.
func detachmentsOf(docs []wire.Detachment) ([]estate.Detachment, error) {
	out := make([]estate.Detachment, len(docs))
	var faults problem.Faults
	for i, doc := range docs {
		d, ok := estate.ParseDetachment(doc.What)
		if !ok {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.NotOneOf,
					Path:     problem.Join("", "detach", i),
					Found:    problem.Quote(doc.What),
					Expected: estate.DetachmentForm,
				},
			)
		}
		d.Reason = doc.Reason
		if d.ReviewOn, ok = estate.ParseDate(doc.ReviewOn); !ok && doc.ReviewOn != "" {
			faults = append(faults, problem.Fault{
				Code:     problem.BadDate,
				Path:     problem.Join("", "detach", i, "review_on"),
				Found:    problem.Quote(doc.ReviewOn),
				Expected: "a day of the calendar such as 2027-03-01",
			})
		}
		out[i] = d
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return out, nil
}

// listUnits handles the operation listUnits: the tree of units, each above those below it, with
// counts.
func (s *server) listUnits(ctx context.Context, in *InChange) (*output[[]wire.Unit], error) {
	v, err := s.view(ctx, *in)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[[]wire.Unit]{unitTree(v)}, nil
}

// moveDevices handles the operation moveDevices: give laptops another unit of their own, as edits
// of a change.
func (s *server) moveDevices(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Move
}) (*output[wire.Edited], error) {
	n, err := s.Flow.Move(ctx, actorOf(ctx), in.ID, in.Body.Devices, in.Body.Unit)
	return out(wire.Edited{Edits: n}, s.fault(ctx, err))
}

// moveUnit handles the operation moveUnit: put a unit with all below it below another, as an edit
// of a change.
func (s *server) moveUnit(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.MoveUnit
}) (*output[wire.Edited], error) {
	return out(wire.Edited{Edits: 1}, s.fault(ctx, s.Flow.MoveUnit(ctx, actorOf(ctx), in.ID, in.Body.Unit, in.Body.Parent)))
}

// detach handles the operation detach: let a unit or group detach kinds of policy or areas of the
// dictionary, or say what it would lose.
func (s *server) detach(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Detach
}) (*output[wire.Detached], error) {
	place, ok := estate.ParseTarget(in.Body.Place)
	if !ok {
		return nil, s.fault(ctx,
			problem.Faults{{Code: problem.BadTarget, Path: "/place", Found: problem.Quote(in.Body.Place), Expected: "unit:ID or group:ID"}},
		)
	}
	detach, err := detachmentsOf(in.Body.Detach)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	change := in.ID
	if change == "live" { // looked at without a change
		change = ""
	}
	d, err := s.Flow.Detach(ctx, actorOf(ctx), change, place, detach, in.Body.Keep, in.Body.Look || change == "")
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	t := titlesOf(d.Side)
	w := wire.Detached{
		Devices:  d.Devices,
		Touched:  d.Touched,
		Policies: d.Policies,
		Entries:  []wire.DroppedEntry{},
		Today:    []wire.TodayValue{},
	}
	for _, e := range d.Dropped {
		w.Entries = append(w.Entries, droppedWire(t, e))
	}
	for _, v := range d.Today {
		w.Today = append(
			w.Today,
			wire.TodayValue{Setting: string(v.Setting), Title: t.setting(v.Setting), Value: v.Value, Devices: v.Devices, Others: v.Others},
		)
	}
	if d.Policy != nil {
		w.Policy = string(d.Policy.ID)
	}
	return &output[wire.Detached]{w}, nil
}

// listDetached handles the operation listDetached: places that detach something, and what each of
// them missed since.
func (s *server) listDetached(ctx context.Context, _ *struct{}) (*output[[]wire.DetachedPlace], error) {
	places, err := s.Flow.Detached(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[[]wire.DetachedPlace]{detachedPlaces(places, titlesOf(s.Flow.Live().Side))}, nil
}
