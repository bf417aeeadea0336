// This file has what is asked of the whole estate: overview, conflicts, problems, lints, effective
// settings.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// InChange lets a question be asked of an open change, or of a moment that has passed, instead of what is
// live.
type InChange struct {
	Change string `query:"change" doc:"Ask of this change laid over what is live"`
	At     string `query:"at" doc:"Ask of the estate as it was live at a moment, such as 2026-10-03T14:00; a day alone is its end"`
}

func (s *server) registerOverview() {
	huma.Register(s.api, operation("overview", http.MethodGet, "/overview", "What needs a person"), s.overview)
	s.registerConflicts()
	s.registerDrift()
	s.registerBaselines()
	huma.Register(s.api, operation("lints", http.MethodGet, "/lints", "Policies and entries that do nothing"), s.lints)
	huma.Register(s.api, operation("effectiveOfAll", http.MethodGet, "/effective", "What every device gets"), s.effectiveOfAll)
	huma.Register(s.api, operation("publications", http.MethodGet, "/publications", "Changes that went live, the newest first"),
		s.publications)
}

func (s *server) overviewOf(o *workflow.Overview) wire.Overview {
	t := titlesOf(s.Flow.Live().Side)
	w := wire.Overview{
		Revision:     o.Revision,
		Day:          string(s.Flow.Today()),
		Units:        o.Units,
		People:       o.People,
		Devices:      o.Devices,
		Policies:     o.Policies,
		Enrolled:     o.Enrolled,
		Silent:       o.Silent,
		NeverSeen:    o.NeverSeen,
		Statuses:     statuses(o.Statuses),
		Conflicts:    t.conflicts(o.Conflicts, sampleSize),
		Problems:     wire.Problems(o.Problems, sampleSize),
		Lints:        wire.Lints(o.Lints),
		Changes:      []wire.Change{},
		Failed:       failedOf(o.Failed),
		Fights:       t.fights(o.Fights),
		Prediction:   wire.PredictionOf(o.Statuses[rollout.Applied], o.Statuses[rollout.Failed]+o.Statuses[rollout.Drifted]),
		Below:        []wire.BaselineSummary{},
		Lapsing:      []wire.Lapsing{},
		Publications: []wire.Publication{},
		Asked:        o.Asked,
		Left:         o.Left,
		Missed:       o.Missed,
		Waiting:      append([]string{}, o.Waiting...),
		FailedRuns:   append([]string{}, o.FailedRuns...),
	}
	for i := range o.Below {
		w.Below = append(w.Below, baselineSummary(&o.Below[i]))
	}
	w.DetachDue = detachedPlaces(o.DetachDue, t)
	w.Arisen = make([]wire.ConflictEvent, len(o.Arisen))
	for i := range o.Arisen {
		w.Arisen[i] = conflictEventOf(&o.Arisen[i], t)
	}
	for _, c := range o.OpenChanges {
		w.Changes = append(w.Changes, changeOf(c))
	}
	for _, x := range o.Lapsing {
		w.Lapsing = append(
			w.Lapsing,
			wire.Lapsing{
				ID:      string(x.ID),
				Setting: string(x.Setting),
				Target:  x.Target.String(),
				Until:   string(x.Until),
				Reason:  x.Reason,
				Days:    workflow.DaysUntil(s.Flow.Today(), x.Until),
				Notice:  noticeOf(workflow.DaysUntil(s.Flow.Today(), x.Until)),
			},
		)
	}
	for _, p := range o.Publications {
		w.Publications = append(w.Publications, publicationOf(p))
	}
	return w
}

// failedOf gathers what failed by setting and reason.
func failedOf(rows []store.FailedDelivery) []wire.Failed {
	list := []wire.Failed{}
	at := map[[3]string]int{}
	for _, r := range rows {
		key := [3]string{r.Setting, r.Code, r.Reason}
		i, known := at[key]
		if !known {
			i = len(list)
			at[key] = i
			list = append(list, wire.Failed{Setting: r.Setting, Code: r.Code, Reason: r.Reason})
		}
		list[i].Devices = append(list[i].Devices, r.Device)
	}
	return list
}

func (s *server) effectiveOfAll(ctx context.Context, in *struct {
	InChange
	Device  []string `query:"device" doc:"These devices only, by id, separated by commas: what they get now, with the rollouts that have reached them. All others are as they will be once every rollout has finished"`
	Person  string   `query:"person" doc:"Resolve for this person; with named devices only"`
	Reasons bool     `query:"reasons" doc:"Add the policies that do not apply"`
	Explain bool     `query:"explain" doc:"Add these, and what each losing candidate lost to"`
	Cursor  string   `query:"cursor"`
	Limit   int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*output[wire.Page[files.SubjectAnswer]], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	answer := func(r *outcome.Result) files.SubjectAnswer {
		if in.Explain {
			return files.Explained(r)
		}
		return files.Answer(r, in.Reasons)
	}
	if len(in.Device) > 0 {
		var results []*outcome.Result
		for _, id := range in.Device {
			plan, err := s.Flow.PlanNow(ctx, actorOf(ctx), v, in.Change+in.At, id)
			if err != nil {
				return nil, s.fault(ctx, err)
			}
			r, err := plan.Effective(estate.DeviceID(id), estate.PersonID(in.Person))
			if err != nil {
				return nil, s.fault(ctx, err)
			}
			results = append(results, r)
		}
		page, err := paged(results, in.Cursor, in.Limit, answer)
		return out(page, s.fault(ctx, err))
	}
	if in.Person != "" {
		return nil, problemOf(http.StatusUnprocessableEntity, "faults", "found a person without devices, expected device= beside it")
	}
	page, err := pagedRows(v.Resolution.Len(), in.Cursor, in.Limit, func(i int) files.SubjectAnswer { return answer(v.Resolution.Result(i)) })
	return out(page, s.fault(ctx, err))
}

// overview handles the operation overview: what needs a person.
func (s *server) overview(ctx context.Context, _ *struct{}) (*output[wire.Overview], error) {
	o, err := s.Flow.Overview(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Overview]{s.overviewOf(o)}, nil
}

// lints handles the operation lints: policies and entries that do nothing.
func (s *server) lints(ctx context.Context, _ *struct{}) (*output[[]wire.Lint], error) {
	lints, err := s.Flow.Lints(ctx, actorOf(ctx))
	return out(wire.Lints(lints), s.fault(ctx, err))
}

// publications handles the operation publications: changes that went live, the newest first.
func (s *server) publications(ctx context.Context, in *struct {
	Below int64 `query:"below" minimum:"0" doc:"From below this revision on"`
	Limit int   `query:"limit" minimum:"1" maximum:"500" default:"50"`
}) (*output[[]wire.Publication], error) {
	rows, err := s.Flow.Publications(ctx, actorOf(ctx), in.Below, in.Limit)
	list := make([]wire.Publication, len(rows))
	for i, p := range rows {
		list[i] = publicationOf(p)
	}
	return out(list, s.fault(ctx, err))
}
