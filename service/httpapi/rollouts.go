// This file has the resources of rollouts.

package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerRollouts() {
	huma.Register(s.api, operation("listRollouts", http.MethodGet, "/rollouts", "Rollouts, those under way first"), s.listRollouts)
	huma.Register(s.api, operation("getRollout", http.MethodGet, "/rollouts/{id}", "A rollout with its waves"), s.getRollout)
	huma.Register(
		s.api, operation("listRolloutLaptops", http.MethodGet, "/rollouts/{id}/laptops", "The laptops of a "+
			"rollout by id"), s.listRolloutLaptops,
	)
	huma.Register(
		s.api, operation("listRolloutEvents", http.MethodGet, "/rollouts/{id}/events", "What happened in a rollout, the newest first"),
		s.listRolloutEvents,
	)
	huma.Register(
		s.api,
		operation("actOnRollout", http.MethodPost, "/rollouts/{id}/acts",
			"Open the next wave, pause, resume, finish, take back, or excuse a laptop",
			needs(access.OperateRollouts)),
		s.actOnRollout,
	)
	huma.Register(
		s.api, operation("tryRolloutPlan", http.MethodPost, "/rollout-plans/try", "Play a rollout plan on this estate"), s.tryRolloutPlan,
	)
	huma.Register(
		s.api, operation("comingToDevice", http.MethodGet, "/devices/{id}/rollouts", "The rollouts under way that a laptop is in"),
		s.comingToDevice,
	)
}

func timeOrNot(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}

func rolloutOf(v *workflow.RolloutView) wire.Rollout {
	doc := files.Doc(v.Plan).(files.RolloutPlanDoc)
	out := wire.Rollout{
		ID: v.ID, Title: v.Title, By: v.By, PublishedAt: v.PublishedAt, StartedAt: v.StartedAt, EndedAt: v.EndedAt, Progress: v.Progress,
		WaitsFor: v.Waits, Revision: v.Revision, Plan: doc, Waves: []wire.RolloutWave{}, Counts: v.Counts, Laptops: v.Total(),
		Next:  timeOrNot(v.Next),
		Ready: v.Ready, GatePassed: v.Passed, GateFrom: timeOrNot(v.GateFrom),
	}
	out.Prediction = wire.PredictionOf(v.Counts[rollout.Taken.String()], v.Counts[rollout.Refused.String()])
	if v.Progress == string(rollout.Stopped) {
		out.Reason = v.Reason
	}
	members := 0
	for i := range v.Waves {
		w := &v.Waves[i]
		is := wire.RolloutWave{
			WaveDoc: files.WaveDocOf(&w.Wave), OpenedAt: timeOrNot(w.Opened), Counts: w.Counts, HalfWithin: int64(w.Forecast.Half / time.Second),
			MostWithin: int64(w.Forecast.Most / time.Second), NoHabit: w.Forecast.Unknown, HalfTakenAt: w.HalfTaken, MostTakenAt: w.MostTaken,
		}
		for _, n := range w.Counts {
			is.Laptops += n
		}
		is.NeedsTaken = w.Enough.AtLeast(is.Laptops - w.Counts[rollout.Silent.String()] - w.Counts[rollout.Excused.String()])
		if is.OpenedAt != nil {
			members += is.Laptops - w.Counts[rollout.Excused.String()]
		}
		out.Waves = append(out.Waves, is)
	}
	if v.Under() && v.StartedAt != nil {
		out.StopsAt = &wire.StopsAt{
			Failed: v.Counts[rollout.Refused.String()] - v.SeenFailed, FailedMost: v.Plan.StopFailed.Of(members),
			Lost: v.Counts[rollout.Lost.String()] - v.SeenLost, LostMost: v.Plan.StopLost.Of(members),
		}
	}
	for _, r := range v.Reasons {
		out.Reasons = append(out.Reasons, wire.FailureReason(r))
	}
	return out
}

// listRollouts handles the operation listRollouts: rollouts, those under way first.
func (s *server) listRollouts(ctx context.Context, in *struct {
	At string `query:"at" doc:"As they were at a moment, such as 2026-10-03T14:00; a day alone is its end"`
}) (*output[[]wire.Rollout], error) {
	views, err := s.rolloutsAt(ctx, in.At)
	list := make([]wire.Rollout, len(views))
	for i := range views {
		list[i] = rolloutOf(&views[i])
	}
	return out(list, s.fault(ctx, err))
}

// rolloutsAt gives the rollouts as they were at a moment; now where it is empty.
func (s *server) rolloutsAt(ctx context.Context, moment string) ([]workflow.RolloutView, error) {
	if moment == "" {
		return s.Flow.Rollouts(ctx, actorOf(ctx))
	}
	at, err := s.Flow.ParseMoment(ctx, actorOf(ctx), moment)
	if err != nil {
		return nil, err
	}
	return s.Flow.RolloutsAt(ctx, actorOf(ctx), at)
}

// getRollout handles the operation getRollout: a rollout with its waves.
func (s *server) getRollout(ctx context.Context, in *struct {
	ID string `path:"id"`
	At string `query:"at" doc:"As it was at a moment, such as 2026-10-03T14:00; a day alone is its end"`
}) (*output[wire.Rollout], error) {
	if in.At != "" {
		at, err := s.Flow.ParseMoment(ctx, actorOf(ctx), in.At)
		if err != nil {
			return nil, s.fault(ctx, err)
		}
		v, err := s.Flow.RolloutAt(ctx, actorOf(ctx), in.ID, at)
		return out(rolloutOf(&v), s.fault(ctx, err))
	}
	v, err := s.Flow.Rollout(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := rolloutOf(&v)
	course, err := s.Flow.RolloutCourse(ctx, actorOf(ctx), in.ID)
	for _, p := range course {
		w.Course = append(w.Course, wire.CoursePoint{At: p.At, Taken: p.Taken, Failed: p.Failed})
	}
	return out(w, s.fault(ctx, err))
}

// listRolloutLaptops handles the operation listRolloutLaptops: the laptops of a rollout by id.
func (s *server) listRolloutLaptops(ctx context.Context, in *struct {
	ID     string `path:"id"`
	Wave   string `query:"wave" doc:"Of this wave only"`
	State  string `query:"state" enum:"waiting,due,taken,failed,lost,silent,excused,returned" doc:"In this state only"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*output[wire.Page[wire.RolloutLaptop]], error) {
	rows, err := s.Flow.RolloutLaptops(ctx, actorOf(ctx), in.ID, in.Wave, in.State)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	plan := s.Flow.Live().Plan
	page, err := paged(rows, in.Cursor, in.Limit, func(l store.RolloutLaptop) wire.RolloutLaptop {
		w := wire.RolloutLaptop{
			Device: l.Device, Wave: l.Wave, State: rollout.State(l.State).String(), Since: l.Since, Interval: l.Interval, Reason: l.Reason,
		}
		if l.Heard.Unix() > 0 {
			w.Heard = timeOrNot(l.Heard)
		}
		if d := plan.Device(estate.DeviceID(l.Device)); d != nil {
			w.OS, w.Version, w.Unit = string(d.OS), d.OSVersion, string(plan.HomeUnit(d.ID))
			if p := plan.Person(d.Owner); p != nil {
				w.Owner = p.Name
			}
		}
		return w
	})
	return out(page, s.fault(ctx, err))
}

// listRolloutEvents handles the operation listRolloutEvents: what happened in a rollout, the newest
// first.
func (s *server) listRolloutEvents(ctx context.Context, in *struct {
	ID      string `path:"id"`
	Below   int64  `query:"below" minimum:"0" doc:"From below this number on"`
	Laptops bool   `query:"laptops" doc:"Those of single laptops, too"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*output[[]wire.RolloutEvent], error) {
	rows, err := s.Flow.RolloutEvents(ctx, actorOf(ctx), in.ID, in.Below, in.Laptops, in.Limit)
	list := make([]wire.RolloutEvent, len(rows))
	for i, e := range rows {
		list[i] = wire.RolloutEvent{
			Seq: e.Seq, At: e.At, What: e.What, Device: e.Device, Wave: e.Wave, From: e.From, To: e.To, Laptops: e.Laptops, By: e.By,
			Reason: e.Reason,
		}
	}
	return out(list, s.fault(ctx, err))
}

// actOnRollout handles the operation actOnRollout: open the next wave, pause, resume, finish, take back,
// or excuse a laptop.
func (s *server) actOnRollout(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.RolloutAct
}) (*output[wire.Rollout], error) {
	v, err := s.Flow.Act(ctx, actorOf(ctx), in.ID, workflow.ActInput{Act: rollout.Act(in.Body.Act), Device: in.Body.Device,
		Note: in.Body.Note})
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Rollout]{rolloutOf(&v)}, nil
}

// comingToDevice handles the operation comingToDevice: the rollouts under way that a laptop is in.
func (s *server) comingToDevice(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*output[[]wire.Coming], error) {
	coming, err := s.Flow.ComingTo(ctx, actorOf(ctx), in.ID)
	list := make([]wire.Coming, len(coming))
	for i, c := range coming {
		list[i] = wire.Coming{
			Rollout: c.Rollout, Title: c.Title, Progress: c.Progress, Wave: c.Wave, State: c.State, Gets: c.Gets, Expected: timeOrNot(c.Expected),
			Settings: []wire.ComingSetting{},
		}
		for _, x := range c.Settings {
			list[i].Settings = append(list[i].Settings, wire.ComingSetting{Setting: string(x.Setting), From: stateOf(x.From), To: stateOf(x.To)})
		}
	}
	return out(list, s.fault(ctx, err))
}

// tryRolloutPlan handles the operation tryRolloutPlan: play a rollout plan on this estate.
func (s *server) tryRolloutPlan(ctx context.Context, in *struct{ Body wire.PlanTrial }) (*output[wire.PlanOutcome], error) {
	plan, err := planOf(&in.Body.Plan)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	var faults problem.Faults
	if err := s.Flow.CheckPlan(ctx, actorOf(ctx), plan); errors.As(err, &faults) {
		return &output[wire.PlanOutcome]{wire.PlanOutcome{Waves: []wire.PlanWave{}, Points: []wire.PlanPoint{},
			Progress: string(rollout.Running), Faults: faults}}, nil
	} else if err != nil {
		return nil, s.fault(ctx, err)
	}
	failing := estate.Percent(math.Round(in.Body.Failing * 100))
	o, err := s.Flow.TryPlan(ctx, actorOf(ctx), plan, in.Body.Change, failing)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.PlanOutcome]{s.outcomeOf(o)}, nil
}

// planOf reads a plan of a request as the estate format has it.
func planOf(doc *files.RolloutPlanDoc) (estate.RolloutPlan, error) {
	text, err := json.Marshal(doc)
	if err != nil {
		return estate.RolloutPlan{}, err
	}
	return files.DecodePlan(text)
}

func (s *server) outcomeOf(o *workflow.PlanOutcome) wire.PlanOutcome {
	out := wire.PlanOutcome{
		Waves: []wire.PlanWave{}, Points: []wire.PlanPoint{}, Laptops: o.Laptops, NoHabit: o.NoHabit, Started: o.Started, Faults: o.Faults,
		Progress: string(rollout.Running),
	}
	if o.Simulation == nil {
		return out
	}
	out.Progress, out.Reason, out.Ended = string(o.Progress), string(o.Reason), o.Ended
	plan := s.Flow.Live().Plan
	for i := range o.Waves {
		w := &o.Waves[i]
		is := wire.PlanWave{ID: string(w.ID), Laptops: w.Devices.Len(), Platforms: []wire.NameCount{}, Units: []wire.NameCount{},
			Opened: timeOrNot(w.Opened)}
		for os, n := range w.Platforms {
			is.Platforms = append(is.Platforms, wire.NameCount{ID: string(os), Laptops: n})
		}
		slices.SortFunc(is.Platforms, func(a, b wire.NameCount) int { return strings.Compare(a.ID, b.ID) })
		for _, c := range w.Devices.ByUnit() {
			count := wire.NameCount{ID: string(c.Of), Laptops: c.Devices}
			if u := plan.Unit(c.Of); u != nil {
				count.Title = u.Title
			}
			is.Units = append(is.Units, count)
		}
		out.Waves = append(out.Waves, is)
	}
	for _, p := range o.Points {
		point := wire.PlanPoint{At: p.At, Taken: p.Counts[rollout.Taken], Failed: p.Counts[rollout.Refused]}
		for state, n := range p.Counts {
			if rollout.State(state) != rollout.Waiting {
				point.Open += n
			}
		}
		out.Points = append(out.Points, point)
	}
	return out
}
