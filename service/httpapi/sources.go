// This file has the resources of sources: set-up, dry runs, uploads of tables, tokens, and what has left.

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
	huma.Register(s.api, operation("listSources", http.MethodGet, "/sources", "Where people, units, groups and laptops come from"), func(context.Context, *struct{}) (*output[[]wire.Source], error) {
		rows, err := s.Flow.Sources()
		list := make([]wire.Source, len(rows))
		for i := range rows {
			list[i] = sourceWire(&rows[i])
		}
		return out(list, s.fault(err))
	})
	huma.Register(s.api, operation("getSource", http.MethodGet, "/sources/{id}", "A source with its runs"), func(_ context.Context, in *SourcePath) (*sourceOutput, error) {
		return s.source(s.Flow.Source(in.ID))
	})
	huma.Register(s.api, operation("addSource", http.MethodPost, "/sources", "Add a source; nothing is taken from it before a dry run was looked at", administrators, status(http.StatusCreated)),
		func(ctx context.Context, in *struct{ Body wire.NewSource }) (*sourceOutput, error) {
			return s.source(s.Flow.AddSource(actorOf(ctx), in.Body.ID, workflow.SourceKind(in.Body.Kind), in.Body.Title, in.Body.SetUp))
		})
	huma.Register(s.api, operation("proposeSource", http.MethodPut, "/sources/{id}", "Propose another set-up; the one in force stays until a dry run with the new one is taken", administrators),
		func(ctx context.Context, in *struct {
			SourcePath
			IfMatch string `header:"If-Match"`
			Body    wire.ProposedSource
		}) (*sourceOutput, error) {
			expected, err := expectedOf(in.IfMatch)
			if err != nil {
				return nil, s.fault(err)
			}
			return s.source(s.Flow.Propose(actorOf(ctx), in.ID, in.Body.Title, in.Body.SetUp, expected))
		})
	huma.Register(s.api, operation("pauseSource", http.MethodPost, "/sources/{id}/pause", "Pause a source, or let it go on", administrators),
		func(ctx context.Context, in *struct {
			SourcePath
			Body wire.PauseSource
		}) (*sourceOutput, error) {
			return s.source(s.Flow.Pause(actorOf(ctx), in.ID, !in.Body.Paused))
		})
	huma.Register(s.api, operation("dropSource", http.MethodDelete, "/sources/{id}", "Take a source away; what it brought stays, and is edited here from then on", administrators, status(http.StatusNoContent)),
		func(ctx context.Context, in *SourcePath) (*struct{}, error) {
			return nil, s.fault(s.Flow.DropSource(actorOf(ctx), in.ID))
		})
	huma.Register(s.api, operation("readSource", http.MethodPost, "/sources/{id}/runs", "Read a source, in the background", administrators, status(http.StatusAccepted)),
		func(ctx context.Context, in *struct {
			SourcePath
			Body wire.ReadSource
		}) (*output[wire.SourceRun], error) {
			r, err := s.Flow.StartReading(actorOf(ctx), in.ID, in.Body.Way, in.Body.Look)
			if err != nil {
				return nil, s.fault(err)
			}
			return &output[wire.SourceRun]{*runningWire(r)}, nil
		})
	huma.Register(s.api, operation("takeSource", http.MethodPost, "/sources/{id}/take", "Take what waits, as it was looked at; what is faulty is left as it is", administrators),
		func(ctx context.Context, in *SourcePath) (*output[wire.SourceRun], error) {
			state, err := s.Flow.Take(actorOf(ctx), in.ID)
			return out(stateWire(state), s.fault(err))
		})
	huma.Register(s.api, operation("stopSource", http.MethodDelete, "/sources/{id}/runs", "Stop what runs, or let go of what waits", administrators, status(http.StatusNoContent)),
		func(ctx context.Context, in *SourcePath) (*struct{}, error) {
			return nil, s.fault(s.Flow.Drop(actorOf(ctx), in.ID))
		})
	huma.Register(s.api, operation("previewTable", http.MethodPost, "/tables/preview", "The beginning of a table as CSV, with a mapping of its columns that may fit", func(op *huma.Operation) { op.MaxBodyBytes = maxPreview }),
		func(_ context.Context, in *struct {
			Of       string `query:"of" enum:"devices,people" required:"true"`
			Name     string `query:"name" maxLength:"800"`
			Encoding string `query:"encoding" maxLength:"40"`
			RawBody  []byte `contentType:"text/csv"`
		}) (*output[directory.TablePreview], error) {
			p, err := directory.Look(estate.Kind(in.Of), in.Name, bytes.NewReader(in.RawBody), in.Encoding)
			if err != nil {
				return nil, s.fault(err)
			}
			return &output[directory.TablePreview]{*p}, nil
		})
	s.registerSourceTokens()
	huma.Register(s.api, operation("listLeft", http.MethodGet, "/left", "What its source no longer has, and is still here"), func(_ context.Context, in *struct {
		Source string `query:"source"`
		Cursor string `query:"cursor"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	}) (*output[wire.Page[wire.LeftObject]], error) {
		rows, err := s.Flow.Left(in.Source)
		if err != nil {
			return nil, s.fault(err)
		}
		page, err := paged(rows, in.Cursor, in.Limit, func(l workflow.LeftObject) wire.LeftObject {
			return wire.LeftObject{Source: l.Source, Kind: string(l.Kind), ID: l.ID, Title: l.Title, Since: l.Since, Due: l.Due}
		})
		return out(page, s.fault(err))
	})
	huma.Register(s.api, operation("removeLeft", http.MethodPost, "/sources/{id}/removals", "Remove what has left, or say what that would do", administrators),
		func(ctx context.Context, in *struct {
			SourcePath
			Body wire.RemoveLeft
		}) (*output[wire.Removal], error) {
			objects := make([]store.SourceRecord, len(in.Body.Objects))
			for i, o := range in.Body.Objects {
				objects[i] = store.SourceRecord{Kind: o.Kind, ObjectID: o.ID}
			}
			o, err := s.Flow.Remove(actorOf(ctx), in.ID, objects, in.Body.Look)
			var named problem.Faults
			if in.Body.Look && errors.As(err, &named) {
				return &output[wire.Removal]{wire.Removal{Named: named}}, nil
			}
			if err != nil {
				return nil, s.fault(err)
			}
			effect := impactOf(o.Report, nil, s.Flow.Live().Plan)
			return &output[wire.Removal]{wire.Removal{Impact: &effect}}, nil
		})
}

func (s *server) registerSourceTokens() {
	huma.Register(s.api, operation("listSourceTokens", http.MethodGet, "/sources/{id}/tokens", "The tokens of a source, revoked ones included", administrators), func(_ context.Context, in *SourcePath) (*output[[]wire.SourceToken], error) {
		rows, err := s.Flow.SourceTokens(in.ID)
		list := make([]wire.SourceToken, len(rows))
		for i, t := range rows {
			list[i] = sourceToken(t)
		}
		return out(list, s.fault(err))
	})
	huma.Register(s.api, operation("addSourceToken", http.MethodPost, "/sources/{id}/tokens", "Make a token for a provisioning client; its secret is shown once", administrators, status(http.StatusCreated)),
		func(ctx context.Context, in *struct {
			SourcePath
			Body wire.NewSourceToken
		}) (*output[wire.SourceToken], error) {
			secret, row, err := s.Flow.AddSourceToken(actorOf(ctx), in.ID, in.Body.Name)
			t := sourceToken(row)
			t.Secret = secret
			return out(t, s.fault(err))
		})
	huma.Register(s.api, operation("revokeSourceToken", http.MethodDelete, "/sources/{id}/tokens/{token}", "Revoke a token of a source", administrators, status(http.StatusNoContent)),
		func(ctx context.Context, in *struct {
			SourcePath
			Token string `path:"token"`
		}) (*struct{}, error) {
			return nil, s.fault(s.Flow.RevokeSourceToken(actorOf(ctx), in.ID, in.Token))
		})
}

// source answers with a source.
func (s *server) source(row workflow.Source, err error) (*sourceOutput, error) {
	if err != nil {
		return nil, s.fault(err)
	}
	return &sourceOutput{etag(row.Version), sourceWire(&row)}, nil
}

func sourceToken(t store.SourceToken) wire.SourceToken {
	return wire.SourceToken{ID: t.ID, Name: t.Name, CreatedBy: t.CreatedBy, CreatedAt: t.CreatedAt, UsedAt: t.UsedAt, RevokedAt: t.RevokedAt}
}

func sourceWire(x *workflow.Source) wire.Source {
	w := wire.Source{
		ID: x.ID, Kind: x.Kind, Title: x.Title, State: x.State, Version: x.Version, SetUp: x.SetUp, Proposed: x.Proposed, CreatedBy: x.CreatedBy, CreatedAt: x.CreatedAt,
		ReadAt: x.ReadAt, ComparedAt: x.ComparedAt, Counts: []wire.SourceCount{}, Runs: []wire.SourceRun{}, Running: runningWire(x.Running),
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
	cookie, _ := c.Cookie(sessionCookie)
	caller, err := s.identify(c.GetHeader("Authorization"), cookie, c.GetHeader(viaHeader))
	if err != nil {
		writeProblem(c.Writer, mustSignIn())
		return
	}
	if caller.Role != signin.Administrator {
		writeProblem(c.Writer, problemOf(http.StatusForbidden, "forbidden", "found the role "+string(caller.Role)+", expected administrator"))
		return
	}
	if c.Request.ContentLength > maxTable {
		writeProblem(c.Writer, problemOf(http.StatusRequestEntityTooLarge, "too-large", "found more than 512 MiB, expected a smaller table"))
		return
	}
	limits := http.NewResponseController(c.Writer)
	if err := limits.SetReadDeadline(time.Now().Add(tableWithin)); err == nil {
		defer limits.SetReadDeadline(time.Time{})
	}
	name := c.Query("name")
	if name == "" || len(name) > 800 {
		name = "table.csv"
	}
	state, err := s.Flow.Upload(c.Request.Context(), workflow.Actor{Name: caller.Name, Via: caller.Via}, c.Param("id"), name, http.MaxBytesReader(c.Writer, c.Request.Body, maxTable), max(0, c.Request.ContentLength), c.Query("look") == "true")
	if err != nil {
		writeProblem(c.Writer, s.fault(err).(*wire.Problem))
		return
	}
	c.JSON(http.StatusOK, stateWire(state))
}
