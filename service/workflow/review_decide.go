// This file has what people do with a review: they send a change, decide about it, and comment on it.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// SendForReview freezes a change and asks people to look at it: those named, or whoever may approve.
func (s *ChangeService) SendForReview(ctx context.Context, by Actor, id string, reviewers []string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	if len(reviewers) > 20 {
		return problem.Faults{{Code: problem.TooMany, Path: "/reviewers", Found: fmt.Sprint(len(reviewers)), Expected: "at most 20"}}
	}
	_, edits, err := s.change(ctx, id)
	if err != nil {
		return err
	}
	if len(edits) == 0 {
		return problem.Faults{{Code: problem.MissingField, Path: "/edits", Found: "a change without edits", Expected: "at least one edit"}}
	}
	d, err := s.draft(ctx, id)
	if err != nil {
		return err
	}
	if len(d.faults) > 0 {
		return d.faults
	}
	err = s.step(ctx, by, id, Open, func(tx *store.Store, c *store.Change) (store.AuditRecord, error) {
		now := s.now()
		text, err := json.Marshal(append([]string{}, reviewers...))
		c.State, c.Reviewers, c.SentBy, c.SentAt = InReview, string(text), by.Name, &now
		told := s.tell(tx, announcement{
			topic: AboutReview, title: "For review: " + c.Title, path: "/changes/" + id, only: reviewers,
			text: fmt.Sprintf("%s asks for a review of %d edits. %s", by.Name, len(edits), c.Why),
		})
		return store.AuditRecord{Action: "send for review", After: strings.Join(reviewers, ", ")}, errors.Join(err, told)
	})
	return err
}

// TakeFromReview makes a change that is in review open again. What was approved is void.
func (s *ChangeService) TakeFromReview(ctx context.Context, by Actor, id string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	return s.step(ctx, by, id, InReview, func(tx *store.Store, c *store.Change) (store.AuditRecord, error) {
		c.State = Open
		return store.AuditRecord{Action: "take from review"}, tx.VoidApprovals(id)
	})
}

// step alters the state of a change. Its version stays: its edits do.
func (s *ChangeService) step(
	ctx context.Context, by Actor, id, from string, do func(tx *store.Store, c *store.Change) (store.AuditRecord, error),
) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		c, err := tx.Change(id)
		if err != nil {
			return notFound(err, "change", id)
		}
		if c.State != from {
			return &StateError{id, c.State, from}
		}
		if err := s.mayAlter(ctx, tx, by, id); err != nil {
			return err
		}
		record, err := do(tx, &c)
		if err != nil {
			return err
		}
		c.UpdatedAt = s.now()
		record.ChangeID = id
		return errors.Join(tx.SaveChange(c), s.audit(tx, by, record))
	})
	if err == nil {
		s.Notify(Event{Topic: "change", ID: id})
	}
	return err
}

// VerdictInput is what somebody decides about a change.
type VerdictInput struct {
	Verdict string // Approves or Declines
	Note    string
	Digest  string // of what they looked at
}

// Decide keeps what somebody decides about a change that is in review, or that was published urgently
// and waits for its approvals.
func (s *ChangeService) Decide(ctx context.Context, by Actor, id string, in VerdictInput) (*Review, error) {
	if err := by.NeedSomewhere(access.Approve); err != nil {
		return nil, err
	}
	c, edits, err := s.change(ctx, id)
	if err != nil {
		return nil, err
	}
	switch whyNot(by, c, edits) {
	case "state":
		return nil, &StateError{id, c.State, InReview}
	case "own-edit":
		return nil, &OwnEditError{editorOf(by.Name, edits)}
	}
	if len(in.Note) > maxComment {
		return nil, tooLongComment("/note", in.Note)
	}
	if in.Verdict == Declines && strings.TrimSpace(in.Note) == "" {
		return nil, problem.Faults{{Code: problem.MissingField, Path: "/note", Found: "nothing", Expected: "what has to be " +
			"altered, as text"}}
	}
	r := &Review{Change: c}
	if err := s.fillReview(ctx, r, edits); err != nil {
		return nil, err
	}
	if len(r.Faults) > 0 {
		return nil, r.Faults
	}
	if in.Digest != r.Looked.Digest {
		return nil, &LookAgainError{id}
	}
	live := s.Live()
	if c.State == InReview {
		d, err := s.draft(ctx, id)
		if err != nil {
			return nil, err
		}
		if err := s.checkScope(by, access.Approve, d.live, d.snapshot, edits...); err != nil {
			return nil, err
		}
	} else if err := by.Need(access.Approve); err != nil {
		return nil, err
	}
	impact, err := json.Marshal(r.Looked)
	if err != nil {
		return nil, err
	}
	standing := slices.Clone(by.Roles)
	for _, g := range live.Plan.GroupsOfPerson(estate.PersonID(by.Name)) {
		standing = append(standing, "group:"+string(g))
	}
	text, err := json.Marshal(append([]string{}, standing...))
	if err != nil {
		return nil, err
	}
	a := store.Approval{
		ChangeID: id, By: by.Name, At: s.now(), Verdict: in.Verdict, Note: in.Note, Digest: in.Digest, Impact: string(impact),
		Standing: string(text),
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		now, err := tx.Change(id)
		if err != nil {
			return err
		}
		if now.State != c.State || now.Version != c.Version {
			return &LookAgainError{id}
		}
		return errors.Join(tx.AddApproval(a), s.audit(tx, by, store.AuditRecord{Action: "review: " + in.Verdict, ChangeID: id, After: in.Note}))
	})
	if err != nil {
		return nil, err
	}
	s.Notify(Event{Topic: "change", ID: id})
	return s.Review(ctx, by, id)
}

// LookAgainError says that a change or its impact is no longer what somebody looked at.
type LookAgainError struct{ Change string }

func (e *LookAgainError) Error() string {
	return "The change or its impact is no longer what you looked at. Look at it again, then decide."
}

// maxComment is how long a comment may be, in bytes.
const maxComment = 10_000

func tooLongComment(path, text string) error {
	return problem.Faults{{Code: problem.TooLarge, Path: path, Found: fmt.Sprintf("%d bytes", len(text)),
		Expected: fmt.Sprintf("at most %d", maxComment)}}
}

// CommentInput is a comment on a change.
type CommentInput struct {
	Text     string
	About    string // kind/id of an edit, or of a setting that alters; empty: the change
	Blocking bool   // no approval counts until it is resolved; it needs the right to approve
}

// Comment says something about a change.
func (s *ChangeService) Comment(ctx context.Context, by Actor, id string, in CommentInput) (store.Comment, error) {
	if err := by.Need(access.Read); err != nil {
		return store.Comment{}, err
	}
	if in.Blocking {
		if err := by.NeedSomewhere(access.Approve); err != nil {
			return store.Comment{}, err
		}
	}
	switch {
	case strings.TrimSpace(in.Text) == "":
		return store.Comment{}, problem.Faults{{Code: problem.MissingField, Path: "/text", Found: "nothing",
			Expected: "what is to be said, as text"}}
	case len(in.Text) > maxComment:
		return store.Comment{}, tooLongComment("/text", in.Text)
	case len(in.About) > 300:
		return store.Comment{}, tooLongComment("/about", in.About)
	}
	var saved store.Comment
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.Change(id); err != nil {
			return notFound(err, "change", id)
		}
		var err error
		saved, err = tx.SaveComment(store.Comment{ChangeID: id, By: by.Name, At: s.now(), About: in.About, Text: in.Text, Blocking: in.Blocking})
		return errors.Join(err, s.audit(tx, by, store.AuditRecord{Action: "comment", ChangeID: id, After: in.Text}))
	})
	s.Notify(Event{Topic: "change", ID: id})
	return saved, err
}

// MayResolve fails where somebody may not say that a comment on a change with these edits is dealt
// with. Who wrote it always may. One that blocks is resolved by those who could approve the change.
func MayResolve(by Actor, c *store.Comment, edits []store.Edit) error {
	switch {
	case c.By == by.Name:
		return nil
	case !c.Blocking:
		return by.NeedSomewhere(access.Write)
	}
	if mine := editorOf(by.Name, edits); mine != "" {
		return &OwnEditError{mine}
	}
	return by.NeedSomewhere(access.Approve)
}

// ResolveComment says that a comment is dealt with. One that blocks is resolved by who wrote it, or by
// somebody else who may approve and has no edit in the change.
func (s *ChangeService) ResolveComment(ctx context.Context, by Actor, change string, id int64) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	_, edits, err := s.change(ctx, change)
	if err != nil {
		return err
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		c, err := tx.Comment(change, id)
		if err != nil {
			return notFound(err, "comment", fmt.Sprint(id))
		}
		if c.ResolvedAt != nil {
			return nil
		}
		if err := MayResolve(by, &c, edits); err != nil {
			return err
		}
		now := s.now()
		c.ResolvedBy, c.ResolvedAt = by.Name, &now
		_, err = tx.SaveComment(c)
		return errors.Join(err, s.audit(tx, by, store.AuditRecord{Action: "resolve comment", ChangeID: change, After: c.Text}))
	})
	s.Notify(Event{Topic: "change", ID: change})
	return err
}
