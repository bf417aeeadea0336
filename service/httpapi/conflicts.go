// This file has what does not fit together: conflicts and problems, ways to settle them, and
// questions to the owners.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerConflicts() {
	huma.Register(s.api, operation("conflicts", http.MethodGet, "/conflicts", "Settings that policies disagree about"), s.handleConflicts)
	huma.Register(s.api, operation("problems", http.MethodGet, "/problems", "Checks that find laptops wrong"), s.handleProblems)
	huma.Register(
		s.api,
		operation("touched", http.MethodGet, "/conflicts/touched", "The laptops of a conflict or a problem, by unit and group"),
		s.touched,
	)
	huma.Register(
		s.api,
		operation("conflictEvents", http.MethodGet, "/conflict-events", "When conflicts began and ended, and by what; the newest first"),
		s.conflictEvents,
	)
	huma.Register(
		s.api,
		operation(
			"conflictWays",
			http.MethodGet,
			"/conflicts/ways",
			"Ways to settle conflicts of the same policies, or a problem, each with what it would do",
		),
		s.conflictWays,
	)
	s.registerQuestions()
}

// Disagreement names conflicts of some policies by their settings, or a problem by its check.
type Disagreement struct {
	Setting  []string `query:"setting,explode" maxItems:"500" doc:"That they conflict on"`
	Check    string   `query:"check" doc:"With a problem: the check, instead of settings" maxLength:"128"`
	Policies []string `query:"policies,explode" doc:"That conflict, or that the problem comes from, each named once" required:"true"`
}

func (d *Disagreement) settings() []setting.ID {
	out := make([]setting.ID, len(d.Setting))
	for i, id := range d.Setting {
		out[i] = setting.ID(id)
	}
	return out
}

// devices gives the laptops that are touched; none where it does not exist.
func (d *Disagreement) devices(v workflow.View) resolve.Devices {
	_, touched := v.ConflictsOf(d.settings(), d.Policies)
	if p := v.ProblemOf(estate.CheckID(d.Check), d.Policies); p != nil {
		touched = touched.Or(p.Devices)
	}
	return touched
}

func (s *server) registerQuestions() {
	huma.Register(
		s.api,
		operation("listQuestions", http.MethodGet, "/conflict-questions", "Questions to those who answer for policies, the newest first"),
		s.listQuestions,
	)
	huma.Register(
		s.api,
		operation(
			"askOwners",
			http.MethodPost,
			"/conflict-questions",
			"Ask those who answer for the policies of a conflict or a problem",
			needs(access.Write),
			status(http.StatusCreated),
		),
		s.askOwners,
	)
	huma.Register(
		s.api,
		operation(
			"answerQuestion",
			http.MethodPost,
			"/conflict-questions/{id}/answer",
			"Answer a question: those who are asked, and administrators",
		),
		s.answerQuestion,
	)
	huma.Register(
		s.api,
		operation(
			"withdrawQuestion",
			http.MethodDelete,
			"/conflict-questions/{id}",
			"Take a question of one's own back",
			needs(access.Write),
			status(http.StatusNoContent),
		),
		s.withdrawQuestion,
	)
}

// conflicts lists the conflicts of a view, with who is involved and, of those that exist in what is
// live, since when.
func (s *server) conflicts(ctx context.Context, v workflow.View) ([]wire.Conflict, error) {
	t := titlesOf(v.Side)
	found := v.Resolution.Conflicts()
	list := t.conflicts(found, 1<<30)
	questions, err := s.questionsBy(ctx, t)
	if err != nil {
		return nil, err
	}
	began, err := s.Flow.ConflictsBegan(ctx, actorOf(ctx), found)
	if err != nil {
		return nil, err
	}
	for i := range found {
		c := &found[i]
		list[i].Involved = t.involved(v, c.Policies, []setting.ID{c.Setting})
		list[i].Units = unitCounts(c.Devices, v.Plan, unitsShown)
		list[i].Questions = questions[workflow.NameDisagreement(c.Setting, "", c.Policies)]
		if d := t.settings[c.Setting]; d != nil {
			list[i].Help = d.Help
		}
		if e := began[i]; e != nil {
			since := sinceOf(e)
			list[i].Since = &since
		}
	}
	return list, nil
}

// problems lists the problems of a view, with who is involved.
func (s *server) problems(ctx context.Context, v workflow.View) ([]wire.FoundProblem, error) {
	t := titlesOf(v.Side)
	found := v.Resolution.Problems()
	list := wire.Problems(found, 1<<30)
	questions, err := s.questionsBy(ctx, t)
	if err != nil {
		return nil, err
	}
	for i := range found {
		p := &found[i]
		list[i].Involved = t.involved(v, p.From, p.Settings)
		list[i].Units = unitCounts(p.Devices, v.Plan, unitsShown)
		list[i].Questions = questions[workflow.NameDisagreement("", p.Check, p.From)]
	}
	return list, nil
}

// involved says of policies what they say about some settings, and for whom. Exceptions among the
// names are passed over.
func (t titled) involved(v workflow.View, names []string, settings []setting.ID) []wire.InvolvedPolicy {
	out := []wire.InvolvedPolicy{}
	for _, id := range names {
		p := v.Plan.Policy(estate.PolicyID(id))
		if p == nil {
			continue
		}
		w := wire.InvolvedPolicy{
			Policy:   id,
			Title:    p.Title,
			Kind:     string(p.Kind),
			Why:      p.Why,
			Owner:    p.Owner,
			Audience: files.AudienceOf(p),
			Devices:  v.Plan.Applies(p.ID).Len(),
			Entries:  []wire.InvolvedEntry{},
		}
		for _, is := range settings {
			if e := p.Entry(is); e != nil {
				w.Entries = append(
					w.Entries,
					wire.InvolvedEntry{Setting: string(is), Title: t.setting(is), Value: e.Value, Note: e.Note, Locked: e.Lock},
				)
			}
		}
		out = append(out, w)
	}
	return out
}

// questionsBy gives the questions by what they are about; those that were withdrawn are left out.
func (s *server) questionsBy(ctx context.Context, t titled) (map[workflow.Disagreement][]wire.Question, error) {
	list, err := s.Flow.Questions(ctx, actorOf(ctx), "")
	if err != nil {
		return nil, err
	}
	by := map[workflow.Disagreement][]wire.Question{}
	for i := range list {
		if list[i].State != workflow.Withdrawn {
			key := workflow.NameDisagreement(setting.ID(list[i].Setting), estate.CheckID(list[i].Problem), list[i].Policies)
			by[key] = append(by[key], questionWire(t, &list[i]))
		}
	}
	return by, nil
}

func questionsWire(t titled, list []workflow.Question) []wire.Question {
	out := make([]wire.Question, len(list))
	for i := range list {
		out[i] = questionWire(t, &list[i])
	}
	return out
}

func questionWire(t titled, q *workflow.Question) wire.Question {
	return wire.Question{
		ID:         q.ID,
		At:         q.At,
		Setting:    q.Setting,
		Check:      q.Problem,
		Title:      t.setting(setting.ID(q.Setting)),
		Policies:   wire.Names(q.Policies),
		By:         q.By,
		Of:         wire.Names(q.Of),
		Note:       q.Note,
		State:      q.State,
		Answer:     q.Answer,
		AnsweredBy: q.AnsweredBy,
		AnsweredAt: q.AnsweredAt,
		Current:    q.Current,
	}
}

func wayWire(t titled, w *workflow.WayOut) wire.ConflictWay {
	out := wire.ConflictWay{
		Kind:    string(w.Kind),
		Policy:  string(w.Policy),
		Title:   t.policies[string(w.Policy)],
		Edits:   []wire.ConflictEdit{},
		Devices: w.Report.Devices.Len(),
		Weaker:  w.Report.Weaker().Len(),
		Touched: w.Devices,
		Left:    w.Left,
		Gained:  len(w.Report.ConflictsGained),
	}
	for _, t := range w.Targets {
		out.Targets = append(out.Targets, t.String())
	}
	for _, e := range w.Inputs {
		out.Edits = append(out.Edits, wire.ConflictEdit{Kind: string(e.Kind), ID: e.ID, Body: e.Body})
	}
	return out
}

func touchedWire(v workflow.View, of resolve.Devices) wire.Touched {
	w := wire.Touched{Devices: wire.Devices(of, 1<<30), Units: unitCounts(of, v.Plan, 1<<30), Groups: []wire.GroupCount{}}
	for _, g := range of.ByGroup() {
		w.Groups = append(w.Groups, wire.GroupCount{Group: string(g.Of.ID), Title: g.Of.Title, Of: string(g.Of.Of), Devices: g.Devices})
	}
	return w
}

func sinceOf(e *store.ConflictEvent) wire.ConflictSince {
	return wire.ConflictSince{At: e.At, Revision: e.Revision, Change: e.ChangeID, Title: e.Title, By: e.By}
}

func conflictEventOf(e *workflow.ConflictEvent, t titled) wire.ConflictEvent {
	w := wire.ConflictEvent{
		ConflictSince: sinceOf(&e.ConflictEvent),
		Setting:       string(e.Setting),
		Name:          t.setting(e.Setting),
		Policies:      e.Policies,
		Gained:        e.Gained,
		Fresh:         e.Fresh,
		Current:       e.Current,
		Devices:       e.Devices,
		Sample:        []wire.ConflictDevice{},
	}
	for _, d := range e.Sample {
		one := wire.ConflictDevice{ID: d.ID, Causes: []wire.ConflictCause{}}
		for _, c := range d.Causes {
			one.Causes = append(one.Causes, wire.ConflictCause{Kind: string(c.Kind), From: c.From, To: c.To})
		}
		w.Sample = append(w.Sample, one)
	}
	return w
}

// handleConflicts handles the operation conflicts: settings that policies disagree about.
func (s *server) handleConflicts(ctx context.Context, in *InChange) (*output[[]wire.Conflict], error) {
	v, err := s.view(ctx, *in)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	list, err := s.conflicts(ctx, v)
	return out(list, s.fault(ctx, err))
}

// handleProblems handles the operation problems: checks that find laptops wrong.
func (s *server) handleProblems(ctx context.Context, in *InChange) (*output[[]wire.FoundProblem], error) {
	v, err := s.view(ctx, *in)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	list, err := s.problems(ctx, v)
	return out(list, s.fault(ctx, err))
}

// touched handles the operation touched: the laptops of a conflict or a problem, by unit and group.
func (s *server) touched(ctx context.Context, in *struct {
	InChange
	Disagreement
}) (*output[wire.Touched], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &output[wire.Touched]{touchedWire(v, in.devices(v))}, nil
}

// conflictEvents handles the operation conflictEvents: when conflicts began and ended, and by what;
// the newest first.
func (s *server) conflictEvents(ctx context.Context, in *struct {
	Setting string `query:"setting" maxLength:"128"`
	Days    int    `query:"days" minimum:"1" maximum:"3660" default:"90"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[[]wire.ConflictEvent], error) {
	events, err := s.Flow.ConflictEvents(ctx, actorOf(ctx), s.Flow.Clock().AddDate(0, 0, -in.Days), setting.ID(in.Setting), in.Limit)
	list := make([]wire.ConflictEvent, len(events))
	t := titlesOf(s.Flow.Live().Side)
	for i := range events {
		list[i] = conflictEventOf(&events[i], t)
	}
	return out(list, s.fault(ctx, err))
}

// conflictWays handles the operation conflictWays: ways to settle conflicts of the same policies,
// or a problem, each with what it would do.
func (s *server) conflictWays(ctx context.Context, in *struct {
	InChange
	Disagreement
}) (*output[[]wire.ConflictWay], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	var ways []workflow.WayOut
	if in.Check != "" {
		ways, err = s.Flow.WaysRight(ctx, actorOf(ctx), in.Change, estate.CheckID(in.Check), in.Policies)
	} else {
		ways, err = s.Flow.WaysOut(ctx, actorOf(ctx), in.Change, in.settings(), in.Policies)
	}
	list, t := make([]wire.ConflictWay, len(ways)), titlesOf(v.Side)
	for i := range ways {
		list[i] = wayWire(t, &ways[i])
	}
	return out(list, s.fault(ctx, err))
}

// listQuestions handles the operation listQuestions: questions to those who answer for policies,
// the newest first.
func (s *server) listQuestions(ctx context.Context, in *struct {
	State string `query:"state" enum:"open,answered,withdrawn"`
}) (*output[[]wire.Question], error) {
	list, err := s.Flow.Questions(ctx, actorOf(ctx), in.State)
	return out(questionsWire(titlesOf(s.Flow.Live().Side), list), s.fault(ctx, err))
}

// askOwners handles the operation askOwners: ask those who answer for the policies of a conflict or
// a problem.
func (s *server) askOwners(ctx context.Context, in *struct{ Body wire.AskOwners }) (*output[wire.Question], error) {
	b := in.Body
	q, err := s.Flow.AskOwners(
		ctx,
		actorOf(ctx),
		workflow.Ask{Setting: setting.ID(b.Setting), Check: estate.CheckID(b.Check), Policies: b.Policies, Of: b.Of, Note: b.Note},
	)
	return out(questionWire(titlesOf(s.Flow.Live().Side), &q), s.fault(ctx, err))
}

// answerQuestion handles the operation answerQuestion: answer a question: those who are asked, and
// administrators.
func (s *server) answerQuestion(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Answer
}) (*output[wire.Question], error) {
	q, err := s.Flow.AnswerQuestion(ctx, actorOf(ctx), in.ID, in.Body.Answer)
	return out(questionWire(titlesOf(s.Flow.Live().Side), &q), s.fault(ctx, err))
}

// withdrawQuestion handles the operation withdrawQuestion: take a question of one's own back.
func (s *server) withdrawQuestion(ctx context.Context, in *groupPath) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.WithdrawQuestion(ctx, actorOf(ctx), in.ID))
}
