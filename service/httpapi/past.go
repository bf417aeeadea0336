// This file has the past of a laptop: the auditor's question.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerPast() {
	huma.Register(
		s.api,
		operation("pastOfDevice", http.MethodGet, "/devices/{id}/past", "A laptop at a moment: what was decided, by whom, and what "+
			"it reported"),
		s.pastOfDevice,
	)
}

// view gives what a question is asked of: what is live, a change laid over it, or the estate as it was at a
// moment.
func (s *server) view(ctx context.Context, in InChange) (workflow.View, error) {
	if in.At == "" {
		return s.Flow.ViewOf(ctx, actorOf(ctx), in.Change)
	}
	if in.Change != "" {
		return workflow.View{}, problemOf(http.StatusUnprocessableEntity, "faults", "found both a change and a moment, expected "+
			"one of them")
	}
	at, err := s.Flow.ParseMoment(ctx, actorOf(ctx), in.At)
	if err != nil {
		return workflow.View{}, err
	}
	return s.Flow.ViewAt(ctx, actorOf(ctx), at)
}

// pastOfDevice handles the operation pastOfDevice: what was decided for a laptop at a moment, by whom, and
// what it reported.
func (s *server) pastOfDevice(ctx context.Context, in *struct {
	ID   string `path:"id"`
	At   string `query:"at" required:"true" doc:"A moment such as 2026-10-03T14:00 in the service's zone, or in RFC 3339; a day alone is its end"`
	Area string `query:"area" doc:"Settings of this area of the dictionary, or of this kind of policy, alone"`
}) (*output[wire.Past], error) {
	at, err := s.Flow.ParseMoment(ctx, actorOf(ctx), in.At)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	p, err := s.Flow.PastOf(ctx, actorOf(ctx), in.ID, at, in.Area)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	s.recordExport(ctx, "the past of "+in.ID)
	return &output[wire.Past]{s.pastOf(p)}, nil
}

func (s *server) pastOf(p *workflow.Past) wire.Past {
	out := wire.Past{
		At: p.At, Day: string(p.Day), Revision: p.Revision, Device: string(p.Device.ID), Owner: string(p.Device.Owner), Units: p.Units,
		OS: string(p.Device.OS), Version: p.Device.OSVersion, Settings: []wire.PastSetting{}, Exceptions: []files.ExceptionDoc{},
		Rollouts: list(p.Reached),
	}
	if is := p.Presence; is != nil {
		out.Presence = &wire.Presence{Since: is.Since, Until: is.Until, Sessions: is.Sessions, Covers: !is.Until.Before(p.At)}
	}
	for _, x := range p.Exceptions {
		out.Exceptions = append(out.Exceptions, files.Doc(x).(files.ExceptionDoc))
	}
	for i := range p.Settings {
		is := &p.Settings[i]
		w := wire.PastSetting{
			Setting: string(is.ID), Status: string(is.Status), Value: value(is.Value), How: string(is.How), InForce: is.InForce(),
			Decisions: []wire.PastDecision{},
		}
		if d := is.Definition; d != nil {
			w.Title, w.Area, w.Kind = d.Title, d.Area, string(d.Kind)
		}
		if is.Exception != nil {
			w.Exception = string(is.Exception.ID)
		}
		if r := is.Reported; r != nil {
			w.Reported, w.Since, w.Until = value(r.Value), timeOrNot(r.Since), r.Until
		}
		for _, d := range is.Decisions {
			w.Decisions = append(w.Decisions, decisionOf(&d))
		}
		out.Settings = append(out.Settings, w)
	}
	return out
}

func decisionOf(d *workflow.Decision) wire.PastDecision {
	w := wire.PastDecision{
		Policy: string(d.Policy), Title: d.Title, Version: d.Version, By: d.By, At: timeOrNot(d.At), Rollout: d.Rollout,
		Approvals: []wire.Verdict{},
	}
	if c := d.Change; c != nil {
		w.Change, w.Why = c.ID, c.Title
		if c.Why != "" {
			w.Why += ": " + c.Why
		}
	}
	for _, a := range d.Approvals {
		w.Approvals = append(w.Approvals, wire.Verdict{By: a.By, At: a.At, Verdict: a.Verdict, Note: a.Note})
	}
	return w
}
