// This file has the use cases of asking the owners: a conflict or a problem is assigned to those
// who answer for its policies, with a note.

package workflow

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// States of a question. Withdrawn is the third.
const (
	QuestionOpen     = "open"
	QuestionAnswered = "answered"
)

// Ask is a question about a conflict, named by its setting, or about a problem, named by its check.
type Ask struct {
	Setting  setting.ID
	Check    estate.CheckID
	Policies []string
	Of       []string // whom; empty: the owners of the policies
	Note     string
}

// Question is a question with those who are asked.
type Question struct {
	store.ConflictQuestion
	Policies []string
	Of       []string
	Current  bool // what it is about is still so in the live estate
}

// AskOwners asks about a conflict or a problem that exists in what is live.
func (s *ConflictService) AskOwners(ctx context.Context, by Actor, a Ask) (Question, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return Question{}, err
	}
	live := s.Live()
	policies := slices.Sorted(slices.Values(a.Policies))
	var faults problem.Faults
	key := NameDisagreement(a.Setting, a.Check, policies)
	if (a.Setting == "") == (a.Check == "") || !disagreements(live.Side.Resolution)[key] {
		faults = append(
			faults,
			problem.Fault{
				Code:     problem.UnknownReference,
				Path:     "/policies",
				Found:    problem.Quote(string(a.Setting) + string(a.Check) + " of " + strings.Join(policies, ", ")),
				Expected: "a setting with policies that conflict on it, or a check with policies that it finds wrong, in what is live",
			},
		)
	}
	of := slices.DeleteFunc(slices.Clone(a.Of), func(name string) bool { return strings.TrimSpace(name) == "" })
	if len(of) == 0 {
		for _, id := range policies {
			if p := live.Plan.Policy(estate.PolicyID(id)); p != nil && p.Owner != "" && !slices.Contains(of, p.Owner) {
				of = append(of, p.Owner)
			}
		}
	}
	if len(of) == 0 {
		faults = append(
			faults,
			problem.Fault{
				Code:     problem.MissingField,
				Path:     "/of",
				Found:    "nobody, and no owner of " + strings.Join(policies, ", "),
				Expected: "the names of those who are asked",
			},
		)
	}
	if strings.TrimSpace(a.Note) == "" {
		faults = append(faults, problem.Fault{Code: problem.MissingField, Path: "/note", Expected: "what is asked"})
	}
	if len(faults) > 0 {
		return Question{}, faults
	}
	names, err := json.Marshal(of)
	if err != nil {
		return Question{}, err
	}
	row := store.ConflictQuestion{
		ID:       "Q-" + strings.ToLower(rand.Text()[:8]),
		At:       s.now(),
		Setting:  string(a.Setting),
		Problem:  string(a.Check),
		Policies: key.policies,
		By:       by.Name,
		Asked:    string(names),
		Note:     a.Note,
		State:    QuestionOpen,
	}
	return s.keepQuestion(ctx, by, row, "ask owners", a.Note)
}

// AnswerQuestion answers a question: one of those who are asked can, and any administrator.
func (s *ConflictService) AnswerQuestion(ctx context.Context, by Actor, id, answer string) (Question, error) {
	if err := by.Need(access.Read); err != nil {
		return Question{}, err
	}
	q, err := s.openQuestion(ctx, id)
	if err != nil {
		return Question{}, err
	}
	if !by.Held.Everywhere.Has(access.Write) && !slices.Contains(questionOf(q).Of, by.Name) {
		return Question{}, &NotFoundError{"question to you", id}
	}
	if strings.TrimSpace(answer) == "" {
		return Question{}, problem.Faults{{Code: problem.MissingField, Path: "/answer", Expected: "the answer"}}
	}
	now := s.now()
	q.State, q.Answer, q.AnsweredBy, q.AnsweredAt = QuestionAnswered, answer, by.Name, &now
	return s.keepQuestion(ctx, by, q, "answer question", answer)
}

// WithdrawQuestion takes a question back; only who asked can.
func (s *ConflictService) WithdrawQuestion(ctx context.Context, by Actor, id string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	q, err := s.openQuestion(ctx, id)
	if err != nil {
		return err
	}
	if q.By != by.Name {
		return &NotFoundError{"question of yours", id}
	}
	q.State = Withdrawn
	_, err = s.keepQuestion(ctx, by, q, "withdraw question", "")
	return err
}

func (s *ConflictService) openQuestion(ctx context.Context, id string) (store.ConflictQuestion, error) {
	q, err := s.store.In(ctx).ConflictQuestion(id)
	if err != nil {
		return q, notFound(err, "question", id)
	}
	if q.State != QuestionOpen {
		return q, &StateError{id, q.State, QuestionOpen}
	}
	return q, nil
}

func (s *ConflictService) keepQuestion(ctx context.Context, by Actor, q store.ConflictQuestion, action, after string) (Question, error) {
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.SaveConflictQuestion(q); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: action, Kind: "questions", ObjectID: q.ID, After: after})
	})
	if err != nil {
		return Question{}, err
	}
	s.Notify(Event{Topic: "estate"})
	out := questionOf(q)
	out.Current = true
	return out, nil
}

// Questions lists questions, the newest first; of one state or with an empty one of all.
func (s *ConflictService) Questions(ctx context.Context, by Actor, state string) ([]Question, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).ConflictQuestions(state)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(q store.ConflictQuestion) bool { return !s.seesPolicies(by, strings.Fields(q.Policies)) })
	standing := disagreements(s.seenLive(by).Side.Resolution)
	out := make([]Question, len(rows))
	for i, row := range rows {
		out[i] = questionOf(row)
		out[i].Current = standing[Disagreement{row.Setting, row.Problem, row.Policies}]
	}
	return out, nil
}

func questionOf(row store.ConflictQuestion) Question {
	q := Question{ConflictQuestion: row, Policies: strings.Fields(row.Policies)}
	json.Unmarshal([]byte(row.Asked), &q.Of) // it was written by AskOwners
	return q
}
