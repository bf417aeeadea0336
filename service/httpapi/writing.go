// This file has the resources around writing a policy: kits, capture, history, merging, splitting,
// the summary.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
)

type mergeInput struct {
	ID     string `path:"id" doc:"Of the change"`
	Object string `path:"object"`
	Body   struct {
		Base wire.PolicyObject `json:"base" doc:"The policy as it was when the edit began"`
		Mine wire.PolicyObject `json:"mine"`
	}
}

func (s *server) registerWriting() {
	huma.Register(s.api, operation("listKits", http.MethodGet, "/kits", "Starting points for policies of one purpose"), s.listKits)
	huma.Register(s.api, operation("listAreas", http.MethodGet, "/areas", "The areas of the dictionary, in their order"), s.listAreas)
	huma.Register(
		s.api,
		operation("listSettingTypes", http.MethodGet, "/setting-types", "The types of settings' values, and how they can combine"),
		s.listSettingTypes,
	)
	huma.Register(
		s.api,
		operation("captureDevice", http.MethodGet, "/devices/{id}/capture", "What a device reports, of which a policy can be made"),
		s.captureDevice,
	)
	huma.Register(
		s.api,
		operation(
			"askDevice",
			http.MethodPost,
			"/devices/{id}/ask",
			"Ask a device at its next check-in for everything that it has, settings that nothing manages included",
			needs(access.Devices),
			status(http.StatusNoContent),
		),
		s.askDevice,
	)
	huma.Register(
		s.api,
		operation(
			"policyHistory",
			http.MethodGet,
			"/policies/{id}/history",
			"Every published version of a policy with what it altered, the newest first",
		),
		s.policyHistory,
	)
	huma.Register(
		s.api,
		operation("policyDifferences", http.MethodGet, "/policies/{id}/differences", "Two published versions of a policy, side by side"),
		s.policyDifferences,
	)
	huma.Register(
		s.api,
		operation("policySummary", http.MethodGet, "/policies/{id}/summary", "A policy in plain words, for the change board"),
		s.policySummary,
	)
	huma.Register(
		s.api,
		operation(
			"mergeEdit",
			http.MethodPost,
			"/changes/{id}/edits/policies/{object}/merge",
			"Bring an edit together with the one that the change has by now; nothing is stored",
			needs(access.Write),
		),
		s.mergeEdit,
	)
	huma.Register(
		s.api,
		operation(
			"splitPolicy",
			http.MethodPost,
			"/changes/{id}/split",
			"Move settings of a policy into a new policy of the same audience",
			needs(access.Write),
			status(http.StatusNoContent),
		),
		s.splitPolicy,
	)
}

func (s *server) policySummary(ctx context.Context, in *policyPath) (*output[wire.SummaryPage], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	found, err := s.Flow.Summary(ctx, actorOf(ctx), v, estate.PolicyID(in.ID))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.SummaryPage]{wire.PageOf(report.Summary(found, v.Plan))}, nil
}

func (s *server) mergeEdit(ctx context.Context, in *mergeInput) (*output[wire.Merged], error) {
	m, err := s.Flow.MergeEdit(ctx, actorOf(ctx), in.ID, estate.PolicyID(in.Object), in.Body.Base, in.Body.Mine)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Merged]{
		wire.Merged{Body: m.Body, Conflicts: wire.MergeConflicts(m.Conflicts, s.Flow.Live().Plan), Version: m.Version, By: m.By},
	}, nil
}

// listKits handles the operation listKits: starting points for policies of one purpose.
func (s *server) listKits(context.Context, *struct{}) (*output[[]files.KitDoc], error) {
	docs := make([]files.KitDoc, len(dictionary.Kits()))
	for i := range dictionary.Kits() {
		docs[i] = dictionary.Kits()[i].Doc()
	}
	return &output[[]files.KitDoc]{docs}, nil
}

// listAreas handles the operation listAreas: the areas of the dictionary, in their order.
func (s *server) listAreas(context.Context, *struct{}) (*output[[]string], error) {
	return &output[[]string]{s.Flow.Areas(dictionary.Areas)}, nil
}

// listSettingTypes handles the operation listSettingTypes: the types of settings' values, and how
// they can combine.
func (s *server) listSettingTypes(context.Context, *struct{}) (*output[[]wire.SettingType], error) {
	list := make([]wire.SettingType, len(setting.Types))
	for i, t := range setting.Types {
		list[i] = wire.SettingType{Type: t, Combines: []wire.CombineRule{}, Stricter: []string{}}
		for _, rule := range t.Combines() {
			list[i].Combines = append(list[i].Combines, wire.CombineRule{Rule: rule, Text: report.Combine(rule)})
		}
		for _, order := range t.Orders() {
			list[i].Stricter = append(list[i].Stricter, string(order))
		}
	}
	return &output[[]wire.SettingType]{list}, nil
}

// captureDevice handles the operation captureDevice: what a device reports, of which a policy can
// be made.
func (s *server) captureDevice(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*output[[]wire.Captured], error) {
	found, err := s.Flow.Capture(ctx, actorOf(ctx), estate.DeviceID(in.ID))
	list := make([]wire.Captured, len(found))
	for i, c := range found {
		list[i] = wire.Captured{
			Setting:  string(c.Definition.ID),
			Title:    c.Definition.Title,
			Area:     c.Definition.Area,
			Kind:     string(c.Definition.Kind),
			Reported: c.Reported,
			Wanted:   value(c.Wanted),
			From:     append([]string{}, c.From...),
			Default:  c.Default,
		}
	}
	return out(list, s.fault(ctx, err))
}

// askDevice handles the operation askDevice: ask a device at its next check-in for everything that
// it has, settings that nothing manages included.
func (s *server) askDevice(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.CheckIn.AskEverything(ctx, actorOf(ctx), in.ID))
}

// policyHistory handles the operation policyHistory: every published version of a policy with what
// it altered, the newest first.
func (s *server) policyHistory(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*output[[]wire.PolicyVersion], error) {
	found, err := s.Flow.History(ctx, actorOf(ctx), estate.PolicyID(in.ID))
	list := make([]wire.PolicyVersion, len(found))
	plan := s.Flow.Live().Plan
	for i, v := range found {
		list[i] = wire.PolicyVersion{
			Version:  v.Version,
			Retired:  v.Retired,
			By:       v.By,
			At:       v.At,
			Revision: v.Revision,
			Change:   v.Change,
			Title:    v.Title,
			Why:      v.Why,
			Body:     wire.PolicyObject(object(v.Body)),
			Before:   wire.Differences(v.Before, plan),
		}
	}
	return out(list, s.fault(ctx, err))
}

// policyDifferences handles the operation policyDifferences: two published versions of a policy,
// side by side.
func (s *server) policyDifferences(ctx context.Context, in *struct {
	ID   string `path:"id"`
	From int64  `query:"from" minimum:"1" required:"true"`
	To   int64  `query:"to" minimum:"1" required:"true"`
}) (*output[[]wire.Difference], error) {
	found, err := s.Flow.Differences(ctx, actorOf(ctx), estate.PolicyID(in.ID), in.From, in.To)
	return out(wire.Differences(found, s.Flow.Live().Plan), s.fault(ctx, err))
}

// splitPolicy handles the operation splitPolicy: move settings of a policy into a new policy of the
// same audience.
func (s *server) splitPolicy(ctx context.Context, in *struct {
	ID   string `path:"id" doc:"Of the change"`
	Body wire.Split
}) (*struct{}, error) {
	ids := make([]setting.ID, len(in.Body.Settings))
	for i, id := range in.Body.Settings {
		ids[i] = setting.ID(id)
	}
	return nil, s.fault(
		ctx,
		s.Flow.Split(ctx, actorOf(ctx), in.ID, estate.PolicyID(in.Body.Policy), estate.PolicyID(in.Body.NewID), in.Body.Title, ids),
	)
}
