// This file has the resources of changes.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

type changePath struct {
	ID string `path:"id"`
}

type changeOutput struct {
	ETag string `header:"ETag"`
	Body wire.Change
}

type EditPath struct {
	ID      string `path:"id" doc:"Of the change"`
	Kind    string `path:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
	Object  string `path:"object"`
	IfMatch string `doc:"The version of the edit that is altered, as ETag gave it; not for a new edit" header:"If-Match"`
}

type editOutput struct {
	ETag string `header:"ETag"`
	Body wire.Edit
}

type publishInput struct {
	ID      string               `path:"id"`
	IfMatch string               `header:"If-Match" doc:"The version of the change that was looked at"`
	Body    *wire.PublishRequest `required:"false"`
}

func (s *server) registerChanges() {
	huma.Register(s.api, operation("listChanges", http.MethodGet, "/changes", "Changes, those altered last first"),
		s.listChanges)
	huma.Register(
		s.api,
		operation("openChange", http.MethodPost, "/changes", "Open a change", needs(access.Write), status(http.StatusCreated)),
		s.openChange,
	)
	huma.Register(s.api, operation("getChange", http.MethodGet, "/changes/{id}", "A change with its edits"), s.getChange)
	huma.Register(
		s.api,
		operation("describeChange", http.MethodPut, "/changes/{id}", "Give a change another title or reason", needs(access.Write)),
		s.describeChange,
	)
	huma.Register(
		s.api,
		operation(
			"discardChange",
			http.MethodDelete,
			"/changes/{id}",
			"End a change without publishing it",
			needs(access.Write),
			status(http.StatusNoContent),
		),
		s.discardChange,
	)
	s.registerImpact()
	huma.Register(
		s.api,
		operation("publishChange", http.MethodPost, "/changes/{id}/publish", "Make a change live, or start its rollout",
			needs(access.Publish), recently),
		s.publishChange,
	)
	s.registerEdits()
	s.registerReviews()
	s.registerRollouts()
}

func (s *server) registerEdits() {
	const path = "/changes/{id}/edits/{kind}/{object}"
	huma.Register(
		s.api,
		operation("putEdit", http.MethodPut, path, "Put an object into a change: create or alter it", needs(access.Write)),
		s.handlePutEdit,
	)
	huma.Register(
		s.api,
		operation("putRetirement", http.MethodPost, path+"/retire", "Retire an object with a change", needs(access.Write)),
		s.putRetirement,
	)
	huma.Register(
		s.api,
		operation("dropEdit", http.MethodDelete, path, "Take an edit out of a change", needs(access.Write), status(http.StatusNoContent)),
		s.dropEdit,
	)
	huma.Register(
		s.api,
		operation(
			"rebaseEdit",
			http.MethodPost,
			path+"/rebase",
			"Let an edit replace what is live now, after another change overtook it",
			needs(access.Write),
			status(http.StatusNoContent),
		),
		s.rebaseEdit,
	)
}

func (s *server) putEdit(ctx context.Context, in EditPath, body []byte, retire bool) (*editOutput, error) {
	expected, err := expectedOf(in.IfMatch)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if !retire && len(body) == 0 {
		return nil, s.fault(ctx, problem.Faults{{Code: problem.MissingField, Path: "/body", Expected: "the object in the estate format"}})
	}
	e, err := s.Flow.PutEdit(ctx, actorOf(ctx), in.ID,
		workflow.EditInput{Kind: estate.Kind(in.Kind), ID: in.Object, Body: body, Retire: retire, Expected: expected},
	)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &editOutput{etag(e.Version), s.editOf(ctx, e)}, nil
}

// addEffect adds to the answer to a write what the change does now.
func (s *server) addEffect(ctx context.Context, in EditPath, to *wire.Edit) error {
	policy := ""
	if estate.Kind(in.Kind) == estate.KindPolicy {
		policy = in.Object
	}
	t, version, err := s.Flow.Effect(ctx, actorOf(ctx), in.ID, estate.PolicyID(policy))
	if err != nil {
		return s.fault(ctx, err)
	}
	effect := trialOf(t)
	to.Effect, to.ChangeVersion = &effect, version
	return nil
}

func (s *server) change(ctx context.Context, id string) (*changeOutput, error) {
	c, edits, hidden, err := s.Flow.Change(ctx, actorOf(ctx), id)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := changeOf(c)
	w.HiddenEdits = hidden
	for _, e := range edits {
		w.Edits = append(w.Edits, s.editOf(ctx, e))
	}
	return &changeOutput{etag(c.Version), w}, nil
}

func (s *server) editOf(ctx context.Context, e store.Edit) wire.Edit {
	live, version, err := s.Flow.Object(ctx, actorOf(ctx), estate.Kind(e.Kind), e.ObjectID)
	w := wire.Edit{
		Kind:        e.Kind,
		ID:          e.ObjectID,
		Action:      "alter",
		Body:        object(e.Body),
		Live:        object(live),
		BaseVersion: e.BaseVersion,
		LiveVersion: version,
		Version:     e.Version,
		By:          e.By,
		At:          e.At,
	}
	switch {
	case e.Retire:
		w.Action = "retire"
	case err != nil || e.BaseVersion == 0:
		w.Action = "create"
	}
	return w
}

// listChanges handles the operation listChanges: changes, those altered last first.
func (s *server) listChanges(ctx context.Context, in *struct {
	State string `query:"state" enum:"open,in-review,rolling-out,published,taken-back,discarded"`
}) (*output[[]wire.Change], error) {
	rows, err := s.Flow.Changes(ctx, actorOf(ctx), in.State)
	list := make([]wire.Change, len(rows))
	for i, c := range rows {
		list[i] = changeOf(c)
	}
	return out(list, s.fault(ctx, err))
}

// openChange handles the operation openChange: open a change.
func (s *server) openChange(ctx context.Context, in *struct{ Body wire.NewChange }) (*changeOutput, error) {
	c, err := s.Flow.NewChange(ctx, actorOf(ctx), in.Body.Title, in.Body.Why)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &changeOutput{etag(c.Version), changeOf(c)}, nil
}

// getChange handles the operation getChange: a change with its edits.
func (s *server) getChange(ctx context.Context, in *changePath) (*changeOutput, error) {
	return s.change(ctx, in.ID)
}

// describeChange handles the operation describeChange: give a change another title or reason.
func (s *server) describeChange(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.NewChange
}) (*changeOutput, error) {
	if err := s.Flow.Describe(ctx, actorOf(ctx), in.ID, in.Body.Title, in.Body.Why); err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.change(ctx, in.ID)
}

// discardChange handles the operation discardChange: end a change without publishing it.
func (s *server) discardChange(ctx context.Context, in *changePath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.Discard(ctx, actorOf(ctx), in.ID))
}

// publishChange handles the operation publishChange: make a change live, or start its rollout.
func (s *server) publishChange(ctx context.Context, in *publishInput) (*output[wire.Published], error) {
	expected, err := expectedOf(in.IfMatch)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	how := workflow.PublishInput{Expected: expected}
	if in.Body != nil {
		how.Plan, how.AtOnce, how.Urgent = in.Body.Plan, in.Body.AtOnce, in.Body.Urgent
		if in.Body.Own != nil {
			own, err := planOf(in.Body.Own)
			if err != nil {
				return nil, s.fault(ctx, err)
			}
			if err := s.Flow.CheckPlan(ctx, actorOf(ctx), own); err != nil {
				return nil, s.fault(ctx, err)
			}
			how.Own = &own
		}
	}
	p, err := s.Flow.Publish(ctx, actorOf(ctx), in.ID, how)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	done := wire.Published{Publication: publicationOf(p.Publication), Rollout: p.Rollout.ID, WaitsFor: waitingOf(p.WaitsFor)}
	if done.Rollout != "" {
		done.Publication = wire.Publication{Change: in.ID, Title: p.Rollout.Title, By: p.Rollout.By, At: p.Rollout.PublishedAt}
	}
	return &output[wire.Published]{done}, nil
}

// handlePutEdit handles the operation putEdit: put an object into a change: create or alter it.
func (s *server) handlePutEdit(ctx context.Context, in *struct {
	EditPath
	Effect bool `query:"effect" doc:"Answer with what the change does then, too"`
	Body   wire.EstateObject
}) (*editOutput, error) {
	put, err := s.putEdit(ctx, in.EditPath, in.Body, false)
	if err == nil && in.Effect {
		err = s.addEffect(ctx, in.EditPath, &put.Body)
	}
	return put, err
}

// putRetirement handles the operation putRetirement: retire an object with a change.
func (s *server) putRetirement(ctx context.Context, in *EditPath) (*editOutput, error) {
	return s.putEdit(ctx, *in, nil, true)
}

// dropEdit handles the operation dropEdit: take an edit out of a change.
func (s *server) dropEdit(ctx context.Context, in *EditPath) (*struct{}, error) {
	expected, err := expectedOf(in.IfMatch)
	if err == nil {
		err = s.Flow.DropEdit(ctx, actorOf(ctx), in.ID, estate.Kind(in.Kind), in.Object, expected)
	}
	return nil, s.fault(ctx, err)
}

// rebaseEdit handles the operation rebaseEdit: let an edit replace what is live now, after another
// change overtook it.
func (s *server) rebaseEdit(ctx context.Context, in *EditPath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.Rebase(ctx, actorOf(ctx), in.ID, estate.Kind(in.Kind), in.Object))
}
