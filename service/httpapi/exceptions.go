// This file has the resource of exceptions: asked for, decided, withdrawn.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerExceptions() {
	huma.Register(
		s.api,
		operation("listExceptions", http.MethodGet, "/exceptions", "Exceptions by the day on which they lapse, those that are over last"),
		s.listExceptions,
	)
	huma.Register(
		s.api,
		operation("listExceptionRequests", http.MethodGet, "/exception-requests", "Exceptions that were asked for, the newest first"),
		s.listExceptionRequests,
	)
	huma.Register(
		s.api,
		operation("askException", http.MethodPost, "/exception-requests", "Ask for an exception", status(http.StatusCreated)),
		s.askException,
	)
	huma.Register(
		s.api,
		operation("exceptionImpact", http.MethodGet, "/exception-requests/{id}/impact", "What an exception that is asked for would do"),
		s.exceptionImpact,
	)
	huma.Register(
		s.api,
		operation(
			"decideException",
			http.MethodPost,
			"/exception-requests/{id}/decision",
			"Approve a request, which publishes the exception, or refuse it; not for who asked",
			needs(access.ApproveExceptions),
		),
		s.decideException,
	)
	huma.Register(
		s.api,
		operation(
			"withdrawException",
			http.MethodDelete,
			"/exception-requests/{id}",
			"Take a request of one's own back",
			status(http.StatusNoContent),
		),
		s.withdrawException,
	)
}

func requestWire(t titled, r workflow.Request) wire.ExceptionRequest {
	if r.State != workflow.Approved {
		r.Exception.ApprovedBy, r.Exception.ApprovedOn = "", ""
	}
	return wire.ExceptionRequest{
		Exception: r.Exception,
		Title:     t.setting(setting.ID(r.Exception.Setting)),
		State:     r.State,
		AskedBy:   r.AskedBy,
		AskedAt:   r.AskedAt,
		DecidedBy: r.DecidedBy,
		DecidedAt: r.DecidedAt,
		Note:      r.Note,
		Revision:  r.Revision,
	}
}

// noticeOf is the word by which an exception's end is announced.
func noticeOf(days int) string {
	switch {
	case days < 0:
		return "over"
	case days <= workflow.LapseNow:
		return "now"
	case days <= workflow.LapseSoon:
		return "soon"
	}
	return ""
}

func exceptionsWire(v workflow.View, list []workflow.Exceptional) []wire.Exception {
	t := titlesOf(v.Side)
	out := make([]wire.Exception, len(list))
	for i, x := range list {
		out[i] = wire.Exception{
			ExceptionDoc: files.Doc(x.Exception).(files.ExceptionDoc),
			Title:        t.setting(x.Setting),
			Days:         x.Days,
			Devices:      x.Devices,
			Notice:       noticeOf(x.Days),
			Version:      v.Live.Version(estate.KindException, string(x.ID)),
		}
	}
	return out
}

func originWire(o *workflow.Origin, brings, local []string) *wire.Origin {
	if o == nil {
		return nil
	}
	return &wire.Origin{Source: o.Source, Left: o.Left, Brings: brings, Local: local}
}

func eventsWire(list []store.SourceEvent) []wire.SourceEvent {
	out := make([]wire.SourceEvent, len(list))
	for i, e := range list {
		out[i] = wire.SourceEvent{At: e.At, Source: e.Source, What: e.What}
		readFields(e.Fields, &out[i].Fields)
	}
	return out
}

// listExceptions handles the operation listExceptions: exceptions by the day on which they lapse,
// those that are over last.
func (s *server) listExceptions(ctx context.Context, in *InChange) (*output[[]wire.Exception], error) {
	v, err := s.view(ctx, *in)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[[]wire.Exception]{exceptionsWire(v, v.Exceptions())}, nil
}

// listExceptionRequests handles the operation listExceptionRequests: exceptions that were asked
// for, the newest first.
func (s *server) listExceptionRequests(ctx context.Context, in *struct {
	State string `query:"state" enum:"asked,approved,refused,withdrawn"`
}) (*output[[]wire.ExceptionRequest], error) {
	rows, err := s.Flow.Requests(ctx, actorOf(ctx), in.State)
	list := make([]wire.ExceptionRequest, len(rows))
	t := titlesOf(s.Flow.Live().Side)
	for i, r := range rows {
		list[i] = requestWire(t, r)
	}
	return out(list, s.fault(ctx, err))
}

// askException handles the operation askException: ask for an exception.
func (s *server) askException(ctx context.Context, in *struct{ Body wire.AskException }) (*output[wire.ExceptionRequest], error) {
	b := in.Body
	r, err := s.Flow.AskException(ctx, actorOf(ctx), files.ExceptionDoc{
		ID:      b.ID,
		Setting: b.Setting,
		Target:  b.Target,
		Value:   b.Value,
		Unset:   b.Unset,
		From:    b.From,
		Until:   b.Until,
		Reason:  b.Reason,
	},
	)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.ExceptionRequest]{requestWire(titlesOf(s.Flow.Live().Side), r)}, nil
}

// exceptionImpact handles the operation exceptionImpact: what an exception that is asked for would
// do.
func (s *server) exceptionImpact(ctx context.Context, in *groupPath) (*output[wire.Impact], error) {
	t, err := s.Flow.RequestTrial(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if len(t.Faults) > 0 {
		return nil, s.fault(ctx, t.Faults)
	}
	return &output[wire.Impact]{impactOf(t.Report, nil, t.After.Plan)}, nil
}

// decideException handles the operation decideException: approve a request, which publishes the
// exception, or refuse it; not for who asked.
func (s *server) decideException(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Decision
}) (*output[wire.ExceptionRequest], error) {
	r, err := s.Flow.DecideException(ctx, actorOf(ctx), in.ID, in.Body.Approve, in.Body.Note)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.ExceptionRequest]{requestWire(titlesOf(s.Flow.Live().Side), r)}, nil
}

// withdrawException handles the operation withdrawException: take a request of one's own back.
func (s *server) withdrawException(ctx context.Context, in *groupPath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.WithdrawException(ctx, actorOf(ctx), in.ID))
}
