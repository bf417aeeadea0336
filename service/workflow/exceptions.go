// This file has the use cases of exceptions: asked for by one, approved by another, dated, and
// ended.

package workflow

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// States of a request for an exception.
const (
	Asked     = "asked"
	Approved  = "approved"
	Refused   = "refused"
	Withdrawn = "withdrawn"
)

// Lapse is announced so many days before an exception ends.
const (
	LapseSoon = 14
	LapseNow  = 3
)

// Exceptional is an exception with its state on the day.
type Exceptional struct {
	estate.Exception
	Days    int // until it ends, the last day counts as 0; negative: it is over
	Devices int // laptops that it touches
}

// Exceptions lists the exceptions of a view by the day on which they lapse; those that are over
// last, the newest of them first.
func (v View) Exceptions() []Exceptional {
	snapshot := v.Plan.Snapshot()
	out := make([]Exceptional, 0, len(snapshot.Exceptions))
	for _, x := range snapshot.Exceptions {
		out = append(out, Exceptional{x, DaysUntil(snapshot.Day, x.Until), v.Plan.Matching(x.Target).Len()})
	}
	slices.SortFunc(out, func(a, b Exceptional) int {
		if over := a.Days < 0; over != (b.Days < 0) {
			return cmp.Compare(b.Days, a.Days)
		} else if over {
			return cmp.Or(cmp.Compare(b.Days, a.Days), cmp.Compare(a.ID, b.ID))
		}
		return cmp.Or(cmp.Compare(a.Days, b.Days), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// DaysUntil counts the days from one to another.
func DaysUntil(from, to estate.Date) int {
	a, err1 := time.Parse(time.DateOnly, string(from))
	b, err2 := time.Parse(time.DateOnly, string(to))
	if err1 != nil || err2 != nil {
		return 0
	}
	return int(b.Sub(a).Hours() / 24)
}

// Request is a request with the exception that it asks for.
type Request struct {
	store.ExceptionRequest
	Exception files.ExceptionDoc
}

func requestOf(r store.ExceptionRequest) (Request, error) {
	out := Request{ExceptionRequest: r}
	return out, json.Unmarshal([]byte(r.Body), &out.Exception)
}

// pendingApproval is the approver while nobody has approved.
const pendingApproval = "?"

// AskException asks for an exception. It is checked as if it were approved today.
func (s *ConflictService) AskException(ctx context.Context, by Actor, doc files.ExceptionDoc) (Request, error) {
	if err := by.Need(access.Read); err != nil {
		return Request{}, err
	}
	doc.ApprovedBy, doc.ApprovedOn = pendingApproval, string(s.Today())
	if doc.ID == "" {
		doc.ID = "X-" + strings.ToLower(rand.Text()[:8])
	}
	if s.Live().Version(estate.KindException, doc.ID) > 0 {
		return Request{}, problem.Faults{
			{Code: problem.DoubledID, Path: "/id", Found: problem.Quote(doc.ID), Expected: "an id that no exception has or had"},
		}
	}
	if until, ok := estate.ParseDate(doc.Until); ok && until < s.Today() {
		return Request{}, problem.Faults{
			{Code: problem.OutOfRange, Path: "/until", Found: doc.Until, Expected: "a day from today on, " + string(s.Today())},
		}
	}
	body, err := json.Marshal(doc)
	if err != nil {
		return Request{}, err
	}
	t, err := s.changes.trial(ctx, by, "", []EditInput{{Kind: estate.KindException, ID: doc.ID, Body: body}})
	if err != nil {
		return Request{}, err
	}
	if len(t.Faults) > 0 {
		return Request{}, t.Faults
	}
	row := store.ExceptionRequest{ID: doc.ID, Body: string(body), State: Asked, AskedBy: by.Name, AskedAt: s.now()}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.ExceptionRequest(doc.ID); err == nil {
			return problem.Faults{
				{Code: problem.DoubledID, Path: "/id", Found: problem.Quote(doc.ID), Expected: "an id of its own; there is a " +
					"request of that id"},
			}
		}
		if err := tx.SaveExceptionRequest(row); err != nil {
			return err
		}
		return s.audit(
			tx,
			by,
			store.AuditRecord{Action: "ask for exception", Kind: string(estate.KindException), ObjectID: doc.ID, After: string(body)},
		)
	})
	if err != nil {
		return Request{}, err
	}
	s.Notify(Event{Topic: "estate"})
	return requestOf(row)
}

// Requests lists requests, the newest first.
func (s *ConflictService) Requests(ctx context.Context, by Actor, state string) ([]Request, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).ExceptionRequests(state)
	if err != nil {
		return nil, err
	}
	out := make([]Request, len(rows))
	for i, r := range rows {
		if out[i], err = requestOf(r); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(out, func(r Request) bool { return !s.seesRequest(by, r.Exception) }), nil
}

// seesRequest tells whether somebody sees for whom an exception is asked.
func (s *ConflictService) seesRequest(by Actor, doc files.ExceptionDoc) bool {
	t, ok := estate.ParseTarget(doc.Target)
	return ok && s.seesTarget(by, t) || by.Held.Everywhere.Has(access.Read)
}

// RequestTrial says what an exception that is asked for would do.
func (s *ConflictService) RequestTrial(ctx context.Context, by Actor, id string) (*Trial, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	r, err := s.store.In(ctx).ExceptionRequest(id)
	if err != nil {
		return nil, notFound(err, "request", id)
	}
	if request, err := requestOf(r); err != nil || !s.seesRequest(by, request.Exception) {
		return nil, &NotFoundError{"request", id}
	}
	return s.changes.trial(ctx, by, "", []EditInput{{Kind: estate.KindException, ID: id, Body: []byte(r.Body)}})
}

// DecideException approves a request, which publishes the exception, or refuses it. Who asked can't
// approve.
func (s *ConflictService) DecideException(ctx context.Context, by Actor, id string, approve bool, note string) (Request, error) {
	if err := by.NeedSomewhere(access.ApproveExceptions); err != nil {
		return Request{}, err
	}
	r, err := s.store.In(ctx).ExceptionRequest(id)
	if err != nil {
		return Request{}, notFound(err, "request", id)
	}
	if r.State != Asked {
		return Request{}, &StateError{id, r.State, Asked}
	}
	if approve && r.AskedBy == by.Name {
		return Request{}, &OwnRequestError{}
	}
	about := store.Edit{Kind: string(estate.KindException), ObjectID: id, Body: r.Body}
	if err := s.checkScope(by, access.ApproveExceptions, s.Live(), nil, about); err != nil {
		return Request{}, err
	}
	now := s.now()
	r.State, r.DecidedBy, r.DecidedAt, r.Note = Refused, by.Name, &now, note
	if approve {
		var doc files.ExceptionDoc
		if err := json.Unmarshal([]byte(r.Body), &doc); err != nil {
			return Request{}, err
		}
		doc.ApprovedBy, doc.ApprovedOn = by.Name, string(s.Today())
		body, err := json.Marshal(doc)
		if err != nil {
			return Request{}, err
		}
		r.State, r.Body = Approved, string(body)
		edit := EditInput{Kind: estate.KindException, ID: id, Body: body}
		_, err = s.changes.publishAtOnce(ctx,
			by,
			"Exception "+id+", asked for by "+r.AskedBy,
			doc.Reason,
			"approve exception",
			[]EditInput{edit},
			func(tx *store.Store, p store.Publication) error {
				r.Revision = p.Revision
				return s.decide(tx, by, r)
			},
		)
	} else {
		err = s.store.Transaction(ctx, func(tx *store.Store) error { return s.decide(tx, by, r) })
	}
	if err != nil {
		return Request{}, err
	}
	s.Notify(Event{Topic: "estate"})
	return requestOf(r)
}

// decide writes the decision about a request that nobody decided meanwhile.
func (s *ConflictService) decide(tx *store.Store, by Actor, r store.ExceptionRequest) error {
	is, err := tx.ExceptionRequest(r.ID)
	if err != nil {
		return notFound(err, "request", r.ID)
	}
	if is.State != Asked {
		return &StateError{r.ID, is.State, Asked}
	}
	if err := tx.SaveExceptionRequest(r); err != nil {
		return err
	}
	return s.audit(
		tx,
		by,
		store.AuditRecord{Action: "decide exception: " + r.State, Kind: string(estate.KindException), ObjectID: r.ID, After: r.Note},
	)
}

// WithdrawException takes a request back; only who asked can.
func (s *ConflictService) WithdrawException(ctx context.Context, by Actor, id string) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	r, err := s.store.In(ctx).ExceptionRequest(id)
	if err != nil || r.AskedBy != by.Name {
		return &NotFoundError{"request of yours", id}
	}
	if r.State != Asked {
		return &StateError{id, r.State, Asked}
	}
	now := s.now()
	r.State, r.DecidedBy, r.DecidedAt = Withdrawn, by.Name, &now
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.SaveExceptionRequest(r); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "withdraw request for exception", Kind: string(estate.KindException), ObjectID: id})
	})
}

// approvedByAnother refuses an exception that its writer approves: an exception has two people.
func approvedByAnother(by Actor, in EditInput) error {
	if in.Kind != estate.KindException || in.Retire {
		return nil
	}
	var doc files.ExceptionDoc
	if json.Unmarshal(in.Body, &doc) == nil && doc.ApprovedBy == by.Name {
		return &OwnRequestError{}
	}
	return nil
}
