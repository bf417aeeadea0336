// This file has the resources of sources: set-up, dry runs, uploads of tables, tokens, and what has
// left.

package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

const (
	// maxTable bounds an uploaded table, and tableWithin how long its upload may take.
	maxTable    = 512 << 20
	tableWithin = 30 * time.Minute
	maxPreview  = 1 << 20
)

// SourcePath names a source; it is exported so that it can stand within inputs.
type SourcePath struct {
	ID string `path:"id"`
}

type sourceOutput struct {
	ETag string `header:"ETag"`
	Body wire.Source
}

func (s *server) registerSources() {
	huma.Register(
		s.api,
		operation("listSources", http.MethodGet, "/sources", "Where people, units, groups and laptops come from"),
		s.listSources,
	)
	huma.Register(s.api, operation("getSource", http.MethodGet, "/sources/{id}", "A source with its runs"), s.getSource)
	huma.Register(
		s.api,
		operation(
			"addSource",
			http.MethodPost,
			"/sources",
			"Add a source; nothing is taken from it before a dry run was looked at",
			needs(access.Sources),
			status(http.StatusCreated),
		),
		s.addSource,
	)
	huma.Register(
		s.api,
		operation(
			"proposeSource",
			http.MethodPut,
			"/sources/{id}",
			"Propose another set-up; the one in force stays until a dry run with the new one is taken",
			needs(access.Sources),
		),
		s.proposeSource,
	)
	huma.Register(
		s.api,
		operation("pauseSource", http.MethodPost, "/sources/{id}/pause", "Pause a source, or let it go on", needs(access.Sources)),
		s.pauseSource,
	)
	huma.Register(
		s.api,
		operation(
			"dropSource",
			http.MethodDelete,
			"/sources/{id}",
			"Take a source away; what it brought stays, and is edited here from then on",
			needs(access.Sources),
			status(http.StatusNoContent),
		),
		s.dropSource,
	)
	huma.Register(
		s.api,
		operation(
			"readSource",
			http.MethodPost,
			"/sources/{id}/runs",
			"Read a source, in the background",
			needs(access.Sources),
			status(http.StatusAccepted),
		),
		s.readSource,
	)
	huma.Register(
		s.api,
		operation(
			"takeSource",
			http.MethodPost,
			"/sources/{id}/take",
			"Take what waits, as it was looked at; what is faulty is left as it is",
			needs(access.Sources),
		),
		s.takeSource,
	)
	huma.Register(
		s.api,
		operation(
			"stopSource",
			http.MethodDelete,
			"/sources/{id}/runs",
			"Stop what runs, or let go of what waits",
			needs(access.Sources),
			status(http.StatusNoContent),
		),
		s.stopSource,
	)
	huma.Register(
		s.api,
		operation(
			"previewTable",
			http.MethodPost,
			"/tables/preview",
			"The beginning of a table as CSV, with a mapping of its columns that may fit",
			func(op *huma.Operation) { op.MaxBodyBytes = maxPreview },
		),
		s.previewTable,
	)
	s.registerSourceTokens()
	huma.Register(s.api, operation("listLeft", http.MethodGet, "/left", "What its source no longer has, and is still here"), s.listLeft)
	huma.Register(
		s.api,
		operation(
			"removeLeft",
			http.MethodPost,
			"/sources/{id}/removals",
			"Remove what has left, or say what that would do",
			needs(access.Sources),
		),
		s.removeLeft,
	)
}

func (s *server) registerSourceTokens() {
	huma.Register(
		s.api,
		operation(
			"listSourceTokens",
			http.MethodGet,
			"/sources/{id}/tokens",
			"The tokens of a source, revoked ones included",
			needs(access.Sources),
		),
		s.listSourceTokens,
	)
	huma.Register(
		s.api,
		operation(
			"addSourceToken",
			http.MethodPost,
			"/sources/{id}/tokens",
			"Make a token for a provisioning client; its secret is shown once",
			needs(access.Sources),
			status(http.StatusCreated),
		),
		s.addSourceToken,
	)
	huma.Register(
		s.api,
		operation(
			"revokeSourceToken",
			http.MethodDelete,
			"/sources/{id}/tokens/{token}",
			"Revoke a token of a source",
			needs(access.Sources),
			status(http.StatusNoContent),
		),
		s.revokeSourceToken,
	)
}

// source answers with a source.
func (s *server) source(ctx context.Context, row workflow.Source, err error) (*sourceOutput, error) {
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &sourceOutput{etag(row.Version), sourceWire(&row, callerOf(ctx))}, nil
}

func sourceToken(t store.SourceToken) wire.SourceToken {
	return wire.SourceToken{ID: t.ID, Name: t.Name, CreatedBy: t.CreatedBy, CreatedAt: t.CreatedAt, UsedAt: t.UsedAt, RevokedAt: t.RevokedAt}
}

// sourceWire gives a source. How it is set up is for those who may set it up.
func sourceWire(x *workflow.Source, by signin.Caller) wire.Source {
	w := wire.Source{
		ID:         x.ID,
		Kind:       x.Kind,
		Title:      x.Title,
		State:      x.State,
		Version:    x.Version,
		CreatedBy:  x.CreatedBy,
		CreatedAt:  x.CreatedAt,
		ReadAt:     x.ReadAt,
		ComparedAt: x.ComparedAt,
		Counts:     []wire.SourceCount{},
		Runs:       []wire.SourceRun{},
		Running:    runningWire(x.Running),
	}
	if by.Held.Everywhere.Has(access.Sources) {
		w.SetUp, w.Proposed = x.SetUp, x.Proposed
	}
	for _, c := range x.Counts {
		w.Counts = append(w.Counts, wire.SourceCount{Kind: c.Kind, Here: c.Here, Left: c.Gone, Faulty: c.Faulty})
	}
	for _, r := range x.Latest {
		run := wire.SourceRun{Seq: r.Seq, Way: r.Way, State: r.State, By: r.By, StartedAt: r.StartedAt, EndedAt: r.EndedAt}
		var report directory.SourceReport
		if json.Unmarshal([]byte(r.Report), &report) == nil {
			run.Report = &report
		}
		w.Runs = append(w.Runs, run)
	}
	return w
}

func runningWire(r *workflow.Run) *wire.SourceRun {
	if r == nil {
		return nil
	}
	w := stateWire(r.State())
	w.Way, w.By, w.StartedAt = r.Way, r.By, r.Started
	return &w
}

func stateWire(st workflow.RunState) wire.SourceRun {
	return wire.SourceRun{State: st.State, Step: st.Step, Done: st.Done, Of: st.Of, Report: st.Report}
}

// uploadTable takes a table as it is read, so that 500 MB are never held at once.
func (s *server) uploadTable(c *gin.Context) {
	if s.signedIn(c); c.IsAborted() {
		return
	}
	ctx := c.Request.Context()
	if !callerOf(ctx).Held.Everywhere.Has(access.Sources) {
		writeProblem(c.Writer, s.mayNot(ctx, access.Sources))
		return
	}
	if c.Request.ContentLength > maxTable {
		writeProblem(c.Writer, problemOf(http.StatusRequestEntityTooLarge, "too-large", "found more than 512 MiB, expected a "+
			"smaller table"))
		return
	}
	limits := http.NewResponseController(c.Writer)
	if err := limits.SetReadDeadline(time.Now().Add(tableWithin)); err == nil {
		defer limits.SetReadDeadline(time.Now().Add(within))
	}
	name := c.Query("name")
	if name == "" || len(name) > 800 {
		name = "table.csv"
	}
	state, err := s.Flow.Upload(ctx, actorOf(ctx), c.Param("id"),
		name,
		http.MaxBytesReader(c.Writer, c.Request.Body, maxTable),
		max(0, c.Request.ContentLength),
		c.Query("look") == "true",
	)
	if err != nil {
		writeProblem(c.Writer, s.fault(ctx, err).(*wire.Problem))
		return
	}
	c.JSON(http.StatusOK, stateWire(state))
}

// listSources handles the operation listSources: where people, units, groups and laptops come from.
func (s *server) listSources(ctx context.Context, _ *struct{}) (*output[[]wire.Source], error) {
	rows, err := s.Flow.Sources(ctx, actorOf(ctx))
	list := make([]wire.Source, len(rows))
	for i := range rows {
		list[i] = sourceWire(&rows[i], callerOf(ctx))
	}
	return out(list, s.fault(ctx, err))
}

// getSource handles the operation getSource: a source with its runs.
func (s *server) getSource(ctx context.Context, in *SourcePath) (*sourceOutput, error) {
	row, err := s.Flow.Source(ctx, actorOf(ctx), in.ID)
	return s.source(ctx, row, err)
}

// addSource handles the operation addSource: add a source; nothing is taken from it before a dry
// run was looked at.
func (s *server) addSource(ctx context.Context, in *struct{ Body wire.NewSource }) (*sourceOutput, error) {
	row, err := s.Flow.AddSource(ctx, actorOf(ctx), in.Body.ID, workflow.SourceKind(in.Body.Kind), in.Body.Title, in.Body.SetUp)
	return s.source(ctx, row, err)
}

// proposeSource handles the operation proposeSource: propose another set-up; the one in force stays
// until a dry run with the new one is taken.
func (s *server) proposeSource(ctx context.Context, in *struct {
	SourcePath
	IfMatch string `header:"If-Match"`
	Body    wire.ProposedSource
}) (*sourceOutput, error) {
	expected, err := expectedOf(in.IfMatch)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	row, err := s.Flow.Propose(ctx, actorOf(ctx), in.ID, in.Body.Title, in.Body.SetUp, expected)
	return s.source(ctx, row, err)
}

// pauseSource handles the operation pauseSource: pause a source, or let it go on.
func (s *server) pauseSource(ctx context.Context, in *struct {
	SourcePath
	Body wire.PauseSource
}) (*sourceOutput, error) {
	row, err := s.Flow.Pause(ctx, actorOf(ctx), in.ID, !in.Body.Paused)
	return s.source(ctx, row, err)
}

// dropSource handles the operation dropSource: take a source away; what it brought stays, and is
// edited here from then on.
func (s *server) dropSource(ctx context.Context, in *SourcePath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.DropSource(ctx, actorOf(ctx), in.ID))
}

// readSource handles the operation readSource: read a source, in the background.
func (s *server) readSource(ctx context.Context, in *struct {
	SourcePath
	Body wire.ReadSource
}) (*output[wire.SourceRun], error) {
	r, err := s.Flow.StartReading(ctx, actorOf(ctx), in.ID, in.Body.Way, in.Body.Look)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.SourceRun]{*runningWire(r)}, nil
}

// takeSource handles the operation takeSource: take what waits, as it was looked at; what is faulty
// is left as it is.
func (s *server) takeSource(ctx context.Context, in *SourcePath) (*output[wire.SourceRun], error) {
	state, err := s.Flow.Take(ctx, actorOf(ctx), in.ID)
	return out(stateWire(state), s.fault(ctx, err))
}

// stopSource handles the operation stopSource: stop what runs, or let go of what waits.
func (s *server) stopSource(ctx context.Context, in *SourcePath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.Drop(ctx, actorOf(ctx), in.ID))
}

// previewTable handles the operation previewTable: the beginning of a table as CSV, with a mapping
// of its columns that may fit.
func (s *server) previewTable(ctx context.Context, in *struct {
	Of       string `query:"of" enum:"devices,people" required:"true"`
	Name     string `query:"name" maxLength:"800"`
	Encoding string `query:"encoding" maxLength:"40"`
	RawBody  []byte `contentType:"text/csv"`
}) (*output[directory.TablePreview], error) {
	p, err := directory.Look(estate.Kind(in.Of), in.Name, bytes.NewReader(in.RawBody), in.Encoding)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[directory.TablePreview]{*p}, nil
}

// listLeft handles the operation listLeft: what its source no longer has, and is still here.
func (s *server) listLeft(ctx context.Context, in *struct {
	Source string `query:"source"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.LeftObject]], error) {
	rows, err := s.Flow.Left(ctx, actorOf(ctx), in.Source)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page, err := paged(rows, in.Cursor, in.Limit, func(l workflow.LeftObject) wire.LeftObject {
		return wire.LeftObject{Source: l.Source, Kind: string(l.Kind), ID: l.ID, Title: l.Title, Since: l.Since, Due: l.Due}
	})
	return out(page, s.fault(ctx, err))
}

// removeLeft handles the operation removeLeft: remove what has left, or say what that would do.
func (s *server) removeLeft(ctx context.Context, in *struct {
	SourcePath
	Body wire.RemoveLeft
}) (*output[wire.Removal], error) {
	objects := make([]store.SourceRecord, len(in.Body.Objects))
	for i, o := range in.Body.Objects {
		objects[i] = store.SourceRecord{Kind: o.Kind, ObjectID: o.ID}
	}
	o, err := s.Flow.Remove(ctx, actorOf(ctx), in.ID, objects, in.Body.Look)
	var named problem.Faults
	if in.Body.Look && errors.As(err, &named) {
		return &output[wire.Removal]{wire.Removal{Named: named}}, nil
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	effect := impactOf(o.Report, nil, s.Flow.Live().Plan)
	return &output[wire.Removal]{wire.Removal{Impact: &effect}}, nil
}

// listSourceTokens handles the operation listSourceTokens: the tokens of a source, revoked ones
// included.
func (s *server) listSourceTokens(ctx context.Context, in *SourcePath) (*output[[]wire.SourceToken], error) {
	rows, err := s.Flow.SourceTokens(ctx, actorOf(ctx), in.ID)
	list := make([]wire.SourceToken, len(rows))
	for i, t := range rows {
		list[i] = sourceToken(t)
	}
	return out(list, s.fault(ctx, err))
}

// addSourceToken handles the operation addSourceToken: make a token for a provisioning client; its
// secret is shown once.
func (s *server) addSourceToken(ctx context.Context, in *struct {
	SourcePath
	Body wire.NewSourceToken
}) (*output[wire.SourceToken], error) {
	secret, row, err := s.Flow.AddSourceToken(ctx, actorOf(ctx), in.ID, in.Body.Name)
	t := sourceToken(row)
	t.Secret = secret
	return out(t, s.fault(ctx, err))
}

// revokeSourceToken handles the operation revokeSourceToken: revoke a token of a source.
func (s *server) revokeSourceToken(ctx context.Context, in *struct {
	SourcePath
	Token string `path:"token"`
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.RevokeSourceToken(ctx, actorOf(ctx), in.ID, in.Token))
}
