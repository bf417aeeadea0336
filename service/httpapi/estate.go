// This file has the resources of the estate's objects, whole estates in and out.

package httpapi

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

type objectPath struct {
	Kind string `path:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
	ID   string `path:"id"`
}

type objectOutput struct {
	ETag string `header:"ETag"`
	Body wire.Object
}

type importInput struct {
	Title         string `query:"title" maxLength:"200" default:"Import"`
	RetireMissing bool   `query:"retire_missing" doc:"Retire what the import does not have"`
	Body          wire.EstateObject
}

func isFaults(err error, faults *problem.Faults) bool { return errors.As(err, faults) }

func (s *server) registerEstate() {
	huma.Register(s.api, operation("exportEstate", http.MethodGet, "/estate", "The live estate in the estate format"), s.exportEstate)
	huma.Register(s.api, operation("listObjects", http.MethodGet, "/estate/{kind}", "Live objects of a kind, in the estate format"),
		s.listObjects)
	huma.Register(
		s.api,
		operation("getObject", http.MethodGet, "/estate/{kind}/{id}", "A live object in the estate format, with its version"),
		s.getObject,
	)
	huma.Register(
		s.api,
		operation("objectVersions", http.MethodGet, "/estate/{kind}/{id}/versions", "Every published version of an object, the "+
			"newest first"),
		s.objectVersions,
	)
	huma.Register(
		s.api,
		operation(
			"importEstate",
			http.MethodPost,
			"/imports",
			"Open a change that makes the live estate like this one",
			needs(access.Write),
			status(http.StatusCreated),
			func(op *huma.Operation) { op.MaxBodyBytes = maxImportBody },
		),
		s.importEstate,
	)
}

// exportEstate handles the operation exportEstate: the live estate in the estate format.
func (s *server) exportEstate(ctx context.Context, _ *struct{}) (*output[map[string][]any], error) {
	live, err := s.Flow.LiveFor(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	snapshot := live.Plan.Snapshot()
	lists := map[string][]any{}
	for _, kind := range estate.Kinds {
		docs := []any{}
		for _, o := range files.Objects(snapshot, kind) {
			docs = append(docs, files.Doc(o))
		}
		lists[string(kind)] = docs
	}
	s.recordExport(ctx, "the estate")
	return &output[map[string][]any]{lists}, nil
}

// listObjects handles the operation listObjects: live objects of a kind, in the estate format.
func (s *server) listObjects(ctx context.Context, in *struct {
	Kind   string `path:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.Object]], error) {
	live, err := s.Flow.LiveFor(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page, err := paged(files.Objects(live.Plan.Snapshot(), estate.Kind(in.Kind)), in.Cursor, in.Limit, func(o any) wire.Object {
		id := files.ObjectID(o)
		text, _ := files.EncodeJSON(o) // what is live was read from JSON
		return wire.Object{Kind: in.Kind, ID: id, Version: live.Version(estate.Kind(in.Kind), id), Body: text}
	})
	return out(page, s.fault(ctx, err))
}

// getObject handles the operation getObject: a live object in the estate format, with its version.
func (s *server) getObject(ctx context.Context, in *struct {
	Kind string `path:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
	ID   string `path:"id"`
	At   string `query:"at" doc:"As it was live at a moment, such as 2026-10-03T14:00; a day alone is its end"`
}) (*objectOutput, error) {
	if in.At != "" {
		v, err := s.view(ctx, InChange{At: in.At})
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		text, version, err := v.Object(estate.Kind(in.Kind), in.ID)
		return &objectOutput{Body: wire.Object{Kind: in.Kind, ID: in.ID, Version: version, Body: object(text)}}, s.fault(ctx, err)
	}
	text, version, err := s.Flow.Object(ctx, actorOf(ctx), estate.Kind(in.Kind), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &objectOutput{etag(version), wire.Object{Kind: in.Kind, ID: in.ID, Version: version, Body: object(text)}}, nil
}

// objectVersions handles the operation objectVersions: every published version of an object, the
// newest first.
func (s *server) objectVersions(ctx context.Context, in *objectPath) (*output[[]wire.Object], error) {
	rows, err := s.Flow.Versions(ctx, actorOf(ctx), estate.Kind(in.Kind), in.ID)
	list := make([]wire.Object, len(rows))
	for i, v := range rows {
		list[i] = wire.Object{
			Kind:     v.Kind,
			ID:       v.ID,
			Version:  v.Version,
			Retired:  v.Retired,
			By:       v.By,
			At:       moment(v.At),
			Revision: v.Revision,
			Body:     object(v.Body),
		}
	}
	return out(list, s.fault(ctx, err))
}

// importEstate handles the operation importEstate: open a change that makes the live estate like
// this one.
func (s *server) importEstate(ctx context.Context, in *importInput) (*output[wire.ImportResult], error) {
	snapshot, err := s.Flow.DecodeEstate(ctx, actorOf(ctx), in.Body)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	change, n, err := s.Flow.Import(ctx, actorOf(ctx), in.Title, snapshot, in.RetireMissing)
	return out(
		wire.ImportResult{
			Change:    change.ID,
			Version:   change.Version,
			Created:   n.Created,
			Altered:   n.Altered,
			Retired:   n.Retired,
			Unchanged: n.Unchanged,
		},
		s.fault(ctx, err),
	)
}
