// This file has what edits and changes would do: the numbers, the laptops behind each, and the
// report.

package httpapi

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

const (
	waysShown     = 200 // ways in which settings alter that are listed; the count says how many there are
	waySample     = 10  // laptops named of each
	unitsShown    = 12
	unitsOfEach   = 3
	movementNames = 10
)

type impactInput struct {
	InChange
	Body struct {
		Edits []trialEdit `json:"edits" maxItems:"50" doc:"On top of the change; none to ask of the change as it is"`
	}
}

type impactDevicesInput struct {
	InChange
	Part   string `query:"part" required:"true" maxLength:"200" doc:"Whose laptops: devices, weaker, restart, prompt, irreversible, lockout, or a part that the impact names"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"100000" default:"200"`
	Body   struct {
		Edits []trialEdit `json:"edits" maxItems:"50"`
	}
}

func (s *server) registerImpact() {
	huma.Register(
		s.api,
		operation("changeImpact", http.MethodGet, "/changes/{id}/impact", "What a change does to what is live"),
		s.changeImpact,
	)
	huma.Register(
		s.api,
		operation(
			"impact",
			http.MethodPost,
			"/impact",
			"What edits would do to what is live, together with a change; nothing is stored",
			readsOnly,
		),
		s.impact,
	)
	huma.Register(
		s.api,
		operation("impactDevices", http.MethodPost, "/impact/devices", "The laptops behind one number of an impact", readsOnly),
		s.impactDevices,
	)
	huma.Register(
		s.api,
		operation(
			"impactReport",
			http.MethodGet,
			"/changes/{id}/impact/report",
			"What a change does, as a document for the change board",
			answers("text/markdown", "text/html", "text/csv", "application/json"),
		),
		s.impactReport,
	)
}

func inputsOf(edits []trialEdit) []workflow.EditInput {
	out := make([]workflow.EditInput, len(edits))
	for i, e := range edits {
		out[i] = workflow.EditInput{Kind: estate.Kind(e.Kind), ID: e.ID, Body: e.Body, Retire: e.Retire}
	}
	return out
}

func (s *server) impactAnswer(ctx context.Context, o *workflow.Outcome, err error) (*output[wire.Impact], error) {
	var faults problem.Faults
	if isFaults(err, &faults) {
		w := impactOf(nil, faults, nil)
		return &output[wire.Impact]{w}, nil
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Impact]{impactOf(o.Report, o.Faults, o.After.Plan)}, nil
}

func (s *server) impactDevices(ctx context.Context, in *impactDevicesInput) (*output[wire.Page[wire.ImpactDevice]], error) {
	o, err := s.Flow.Outcome(ctx, actorOf(ctx), in.Change, inputsOf(in.Body.Edits))
	if err == nil && len(o.Faults) > 0 {
		err = o.Faults
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	devices, ok := o.Report.Part(in.Part)
	if !ok {
		return nil, s.fault(ctx, &workflow.NotFoundError{Kind: "part of this impact", ID: in.Part})
	}
	list := make([]wire.ImpactDevice, 0, devices.Len())
	for d, home := range devices.All {
		w := wire.ImpactDevice{
			ID:        string(d.ID),
			Serial:    d.Serial,
			Owner:     string(d.Owner),
			Unit:      string(home),
			OS:        string(d.OS),
			OSVersion: d.OSVersion,
			Model:     d.Model,
		}
		if p := o.After.Plan.Person(d.Owner); p != nil {
			w.OwnerName = p.Name
		}
		list = append(list, w)
	}
	slices.SortFunc(list, func(a, b wire.ImpactDevice) int { return cmp.Compare(a.ID, b.ID) })
	page, err := paged(list, in.Cursor, in.Limit, func(d wire.ImpactDevice) wire.ImpactDevice { return d })
	return out(page, s.fault(ctx, err))
}

type reportOutput struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Policy      string `header:"Content-Security-Policy"`
	Body        []byte
}

func (s *server) impactReport(ctx context.Context, in *struct {
	ID     string `path:"id"`
	Format string `query:"format" enum:"markdown,html,json,csv" default:"markdown"`
}) (*reportOutput, error) {
	change, edits, hidden, err := s.Flow.Change(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	o, err := s.Flow.Outcome(ctx, actorOf(ctx), in.ID, nil)
	if err == nil && len(o.Faults) > 0 {
		err = o.Faults
	}
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	about := report.Change{ID: change.ID, Title: change.Title, Why: change.Why}
	for _, e := range edits {
		about.Edits = append(about.Edits, editWords(e.Kind, e.ObjectID, e.Retire))
	}
	if hidden > 0 {
		about.Edits = append(about.Edits, fmt.Sprintf("%d more outside of the units that you may read", hidden))
	}
	r := &reportOutput{Policy: report.PagePolicy}
	switch in.Format {
	case "csv":
		var b bytes.Buffer
		err = report.ImpactCSV(&b, o.Report, o.After.Plan)
		r.Type, r.Body = "text/csv; charset=utf-8", b.Bytes()
	case "json":
		r.Type = "application/json"
		r.Body, err = files.PlainJSON(impactOf(o.Report, nil, o.After.Plan))
	case "html":
		r.Type, r.Body = "text/html; charset=utf-8", []byte(report.Impact(about, o.Report, o.After.Plan).HTML())
	default:
		r.Type, r.Body = "text/markdown; charset=utf-8", []byte(report.Impact(about, o.Report, o.After.Plan).Markdown())
	}
	extension := map[string]string{"markdown": "md", "html": "html", "json": "json", "csv": "csv"}[in.Format]
	r.Disposition = `inline; filename="` + change.ID + "-impact." + extension + `"`
	return r, s.fault(ctx, err)
}

func editWords(kind, id string, retire bool) string {
	if retire {
		return "retires " + kind + "/" + id
	}
	return "writes " + kind + "/" + id
}

// impactOf gives a report, the weaker values first; plan is of the estate after it.
func impactOf(r *impact.Report, faults problem.Faults, plan *resolve.Plan) wire.Impact {
	out := wire.Impact{Faults: faults, Transitions: []wire.Transition{}, Audiences: []wire.Movement{}, Units: []wire.UnitCount{}}
	if r == nil {
		r = &impact.Report{}
	}
	title := func(id setting.ID) string {
		if plan != nil {
			if d := plan.Definition(id); d != nil {
				return d.Title
			}
		}
		return ""
	}
	out.Devices, out.Estate, out.Weaker = r.Devices.Len(), r.Estate, r.Weaker().Len()
	out.Restart, out.Prompt, out.Irreversible, out.Lockout = r.WithEffect(setting.Restart).
		Len(),
		r.WithEffect(setting.Prompt).
			Len(),
		r.WithEffect(setting.Irreversible).
			Len(),
		r.WithEffect(setting.Lockout).
			Len()
	out.Units = unitCounts(r.Devices, plan, unitsShown)
	ordered := r.Ordered()
	out.Ways = len(ordered)
	for i := range ordered[:min(len(ordered), waysShown)] {
		x := &ordered[i]
		out.Transitions = append(out.Transitions, wire.Transition{
			Part:        x.Key(),
			Setting:     string(x.Setting),
			Title:       title(x.Setting),
			From:        stateOf(x.From),
			To:          stateOf(x.To),
			Weaker:      x.Weaker,
			Effects:     wire.Names(x.Effects),
			Devices:     wire.Devices(x.Devices, waySample),
			DeviceCount: x.Devices.Len(),
			Units:       unitCounts(x.Devices, plan, unitsOfEach),
		})
	}
	for i := range r.Audiences {
		m := &r.Audiences[i]
		w := wire.Movement{
			Policy:      string(m.Policy),
			Gained:      m.Gained.Len(),
			Dropped:     m.Dropped.Len(),
			Sample:      wire.Sample(append(m.Gained.First(movementNames), m.Dropped.First(movementNames)...), movementNames),
			GainedPart:  impact.ReachKey(m.Policy, true),
			DroppedPart: impact.ReachKey(m.Policy, false),
		}
		if plan != nil {
			if p := plan.Policy(m.Policy); p != nil {
				w.Title = p.Title
			}
		}
		out.Audiences = append(out.Audiences, w)
	}
	definition := func(id setting.ID) *setting.Definition {
		if plan == nil {
			return nil
		}
		return plan.Definition(id)
	}
	conflicts := func(list []resolve.ConflictFound, gained bool) []wire.Conflict {
		w := wire.Conflicts(list, definition, sampleSize)
		for i := range w {
			w[i].Part = impact.ConflictKey(&list[i], gained)
		}
		return w
	}
	problems := func(list []resolve.ProblemFound, gained bool) []wire.FoundProblem {
		w := wire.Problems(list, sampleSize)
		for i := range w {
			w[i].Part = impact.ProblemKey(&list[i], gained)
		}
		return w
	}
	out.ConflictsGained, out.ConflictsCleared = conflicts(r.ConflictsGained, true), conflicts(r.ConflictsCleared, false)
	out.ProblemsGained, out.ProblemsCleared = problems(r.ProblemsGained, true), problems(r.ProblemsCleared, false)
	return out
}

func unitCounts(of resolve.Devices, plan *resolve.Plan, most int) []wire.UnitCount {
	list := of.ByUnit()
	out := make([]wire.UnitCount, min(len(list), most))
	for i := range out {
		out[i] = wire.UnitCount{Unit: string(list[i].Of), Devices: list[i].Devices}
		if plan != nil {
			if u := plan.Unit(list[i].Of); u != nil {
				out[i].Title = u.Title
			}
		}
	}
	return out
}

// changeImpact handles the operation changeImpact: what a change does to what is live.
func (s *server) changeImpact(ctx context.Context, in *changePath) (*output[wire.Impact], error) {
	o, err := s.Flow.Outcome(ctx, actorOf(ctx), in.ID, nil)
	return s.impactAnswer(ctx, o, err)
}

// impact handles the operation impact: what edits would do to what is live, together with a change;
// nothing is stored.
func (s *server) impact(ctx context.Context, in *impactInput) (*output[wire.Impact], error) {
	o, err := s.Flow.Outcome(ctx, actorOf(ctx), in.Change, inputsOf(in.Body.Edits))
	return s.impactAnswer(ctx, o, err)
}
