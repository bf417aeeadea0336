// This file has the review of changes: who must approve, what was approved, what is said about it.
//
// A change that is in review is frozen: an edit takes it back to open, and what was approved is void.
// What somebody approves is bound to what they looked at, a digest of the edits and of the impact. Where
// the impact differs since, the approval is outdated until they confirm it.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/service/store"
)

// Verdicts on a change.
const (
	Approves = "approve"
	Declines = "decline" // it cannot be published until who declined says otherwise
)

// approveWithin is how long after an urgent publication the approvals that were missing must follow.
const approveWithin = 3 * 24 * time.Hour

// looked is what is kept of a change when it is published: what it did, and what rules asked for.
type looked struct {
	Facts   *review.ChangeFacts `json:"facts"`
	Looked  review.Looked       `json:"looked"`
	Demands []demanded          `json:"demands"`
}

// demanded is an approval rule that was true of a change, as it was then.
type demanded struct {
	Rule      string `json:"rule"`
	Title     string `json:"title"`
	Approvals int    `json:"approvals"`
	From      string `json:"from"`
	Reason    string `json:"reason"`
	Fault     string `json:"fault,omitempty"`
}

// Demand is an approval rule that is true of a change, and how far it is met.
type Demand struct {
	Rule      string
	Title     string
	Approvals int
	From      string
	Reason    string
	Fault     string   // why it could not be evaluated
	By        []string // whose approvals count for it
}

// Met tells whether enough people approved.
func (d *Demand) Met() bool { return len(d.By) >= d.Approvals }

// Verdict is what somebody decided about a change.
type Verdict struct {
	store.Approval
	Outdated bool // the impact differs since
	Differs  []review.ImpactDifference
}

// Review is all that somebody needs who decides about a change.
type Review struct {
	Change    store.Change
	Reviewers []string // who is asked; none: whoever may approve
	Edits     []store.Edit
	Hidden    int // edits that the reader does not see
	Facts     *review.ChangeFacts
	Looked    review.Looked
	Faults    problem.Faults // with any, there is nothing to decide
	Demands   []Demand
	Verdicts  []Verdict
	Comments  []store.Comment
	Waits     []Waiting // rollouts that it would wait for
	WhyNot    string    // why the reader may not approve it: own-edit, no-right, state; empty: they may
}

// Approved tells whether nothing is missing for a publication.
func (r *Review) Approved() bool {
	return len(r.Faults) == 0 && len(r.Missing()) == 0 && len(r.Blocking()) == 0 && len(r.Declined()) == 0
}

// Missing gives the rules that are not met.
func (r *Review) Missing() (out []Demand) {
	for i := range r.Demands {
		if !r.Demands[i].Met() {
			out = append(out, r.Demands[i])
		}
	}
	return out
}

// Blocking gives the comments that must be resolved first.
func (r *Review) Blocking() (out []store.Comment) {
	for _, c := range r.Comments {
		if c.Blocking && c.ResolvedAt == nil {
			out = append(out, c)
		}
	}
	return out
}

// Declined gives the verdicts against the change.
func (r *Review) Declined() (out []Verdict) {
	for _, v := range r.Verdicts {
		if v.Verdict == Declines {
			out = append(out, v)
		}
	}
	return out
}

// ApprovalsError says which approvals a publication needs.
type ApprovalsError struct {
	Change   string
	Missing  []Demand
	Blocking []store.Comment
	Declined []Verdict
	Outdated []Verdict
}

func (e *ApprovalsError) Error() string {
	var parts []string
	for _, d := range e.Missing {
		from := "somebody who may approve"
		if d.From != "" {
			from = d.From
		}
		parts = append(parts, fmt.Sprintf("the rule %q asks for approvals by %s: %d of %d are there", cmp.Or(d.Title, d.Rule), from, len(d.By), d.Approvals))
	}
	for _, v := range e.Declined {
		parts = append(parts, v.By+" declined it")
	}
	for _, c := range e.Blocking {
		parts = append(parts, fmt.Sprintf("a comment of %s is to be resolved first", c.By))
	}
	for _, v := range e.Outdated {
		parts = append(parts, fmt.Sprintf("the approval of %s is outdated: the impact differs since", v.By))
	}
	return "The change is not approved: " + strings.Join(parts, "; ") + "."
}

// OwnEditError says that somebody would approve a change in which an edit is theirs.
type OwnEditError struct{ Object string }

func (e *OwnEditError) Error() string {
	return "You edited " + e.Object + " in this change; somebody else must approve it."
}

// look works out what a change is about to do, as approval rules and approvers look at it.
func (s *ChangeService) look(live *Live, d *draft, edits []store.Edit) (*review.ChangeFacts, review.Looked) {
	refs, texts := make([]review.EditRef, len(edits)), make([]string, len(edits))
	for i, e := range edits {
		refs[i] = review.EditRef{Kind: estate.Kind(e.Kind), ID: e.ObjectID}
		texts[i] = fmt.Sprintf("%s/%s %t %s %s", e.Kind, e.ObjectID, e.Retire, e.Local, e.Body)
	}
	return review.FactsOf(live.Side, d.after, d.report, refs), review.LookedAt(texts, d.report)
}

// Review gives all that somebody needs who decides about a change.
func (s *ChangeService) Review(ctx context.Context, by Actor, id string) (*Review, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	c, edits, err := s.change(ctx, id)
	if err != nil {
		return nil, err
	}
	r := &Review{Change: c}
	if c.Reviewers != "" {
		if err := json.Unmarshal([]byte(c.Reviewers), &r.Reviewers); err != nil {
			return nil, err
		}
	}
	r.Edits, r.Hidden = s.seenEdits(ctx, by, id, edits)
	if err := s.fillReview(ctx, r, edits); err != nil {
		return nil, err
	}
	r.WhyNot = whyNot(by, c, edits)
	return r, s.boundReview(ctx, by, r)
}

// boundReview leaves out of a review what the reader does not see: what is said about objects elsewhere,
// and what alters there.
func (s *ChangeService) boundReview(ctx context.Context, by Actor, r *Review) error {
	if by.Held.Everywhere.Has(access.Read) {
		return nil
	}
	seen := func(about string) bool {
		if about == "" {
			return true
		}
		return slices.ContainsFunc(r.Edits, func(e store.Edit) bool { return about == e.Kind+"/"+e.ObjectID }) || r.Hidden == 0
	}
	r.Comments = slices.DeleteFunc(r.Comments, func(c store.Comment) bool { return !seen(c.About) })
	for i := range r.Verdicts {
		r.Verdicts[i].Differs = nil
	}
	if r.Change.State != Open && r.Change.State != InReview || r.Facts == nil {
		r.Facts = nil
		return nil
	}
	d, err := s.draft(ctx, r.Change.ID)
	if err != nil || len(d.faults) > 0 {
		return err
	}
	d = s.seenBy(by, d)
	r.Facts, _ = s.look(d.live, d, r.Edits)
	for i := range r.Waits {
		r.Waits[i].Objects = slices.DeleteFunc(r.Waits[i].Objects, func(about string) bool { return !seen(about) })
	}
	return nil
}

// fillReview adds what a change does, what rules ask and what was said.
func (s *ChangeService) fillReview(ctx context.Context, r *Review, edits []store.Edit) (err error) {
	var demands []demanded
	switch {
	case r.Change.Looked != "": // it is published: what counts is what it did then
		var kept looked
		if err := json.Unmarshal([]byte(r.Change.Looked), &kept); err != nil {
			return err
		}
		r.Facts, r.Looked, demands = kept.Facts, kept.Looked, kept.Demands
	case len(edits) > 0 && (r.Change.State == Open || r.Change.State == InReview):
		d, err := s.draft(ctx, r.Change.ID)
		if err != nil {
			return err
		}
		if r.Faults = d.faults; len(d.faults) == 0 {
			r.Facts, r.Looked = s.look(d.live, d, edits)
			demands = demandsOf(d.live, r.Facts)
			if r.Waits, err = s.waitsFor(ctx, d.live, edits); err != nil {
				return err
			}
		}
	}
	if r.Comments, err = s.store.In(ctx).Comments(r.Change.ID); err != nil {
		return err
	}
	approvals, err := s.store.In(ctx).Approvals(r.Change.ID)
	if err != nil {
		return err
	}
	for _, a := range approvals {
		v := Verdict{Approval: a}
		if r.Looked.Digest != "" && a.Digest != r.Looked.Digest {
			var was review.Looked
			if err := json.Unmarshal([]byte(a.Impact), &was); err != nil {
				return err
			}
			v.Outdated, v.Differs = true, review.Differences(was, r.Looked)
		}
		r.Verdicts = append(r.Verdicts, v)
	}
	for _, d := range demands {
		r.Demands = append(r.Demands, Demand{d.Rule, d.Title, d.Approvals, d.From, d.Reason, d.Fault, countsFor(d, r.Verdicts, edits)})
	}
	return nil
}

// demandsOf gives what the live approval rules ask of a change; those that the change itself edits do
// not count yet.
func demandsOf(live *Live, f *review.ChangeFacts) (out []demanded) {
	for _, d := range review.Demands(live.Plan.Snapshot().ApprovalRules, f) {
		out = append(out, demanded{string(d.Rule.ID), d.Rule.Title, d.Rule.Approvals, d.Rule.From, d.Rule.Reason, d.Fault})
	}
	return out
}

// countsFor lists whose approvals count for a rule: not those that are outdated, nor those of who edited
// something in the change.
func countsFor(d demanded, verdicts []Verdict, edits []store.Edit) (names []string) {
	for _, v := range verdicts {
		if v.Verdict != Approves || v.Outdated || editorOf(v.By, edits) != "" {
			continue
		}
		var standing []string
		if v.Standing != "" && json.Unmarshal([]byte(v.Standing), &standing) != nil {
			continue
		}
		if d.From == "" || slices.Contains(standing, d.From) {
			names = append(names, v.By)
		}
	}
	return names
}

// editorOf gives an object that somebody edited in a change; empty: none.
func editorOf(name string, edits []store.Edit) string {
	for _, e := range edits {
		if e.By == name {
			return e.Kind + "/" + e.ObjectID
		}
	}
	return ""
}

// whyNot says why somebody may not approve a change; empty where they may.
func whyNot(by Actor, c store.Change, edits []store.Edit) string {
	switch {
	case !by.Held.Anywhere().Has(access.Approve):
		return "no-right"
	case c.State != InReview && c.ApproveBy == nil:
		return "state"
	case editorOf(by.Name, edits) != "":
		return "own-edit"
	}
	return ""
}

// needApprovals refuses a publication without the approvals that rules ask for, unless it is urgent and
// who publishes it may do so. It notes in the change what it does and what was asked.
func (s *ChangeService) needApprovals(ctx context.Context, by Actor, p *prepared, urgent string) error {
	r := &Review{Change: p.change}
	r.Change.Looked = ""
	if err := s.fillReview(ctx, r, p.edits); err != nil {
		return err
	}
	kept := looked{Facts: r.Facts, Looked: r.Looked, Demands: demandsOf(p.live, r.Facts)}
	text, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	p.change.Looked = string(text)
	if r.Approved() {
		return nil
	}
	missing := &ApprovalsError{Change: p.change.ID, Missing: r.Missing(), Blocking: r.Blocking(), Declined: r.Declined()}
	for _, v := range r.Verdicts {
		if v.Outdated {
			missing.Outdated = append(missing.Outdated, v)
		}
	}
	if urgent == "" {
		return missing
	}
	if err := s.checkScope(by, access.PublishUrgent, p.live, p.draft.snapshot, p.edits...); err != nil {
		return err
	}
	if len(strings.TrimSpace(urgent)) < 10 {
		return problem.Faults{{Code: problem.OutOfRange, Path: "/urgent", Found: problem.Quote(urgent), Expected: "the reason why it cannot wait, at least 10 characters"}}
	}
	until := s.now().Add(approveWithin)
	p.change.Urgent, p.change.ApproveBy = urgent, &until
	return nil
}

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
		return nil, problem.Faults{{Code: problem.MissingField, Path: "/note", Found: "nothing", Expected: "what has to be altered, as text"}}
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
		ChangeID: id, By: by.Name, At: s.now(), Verdict: in.Verdict, Note: in.Note, Digest: in.Digest, Impact: string(impact), Standing: string(text),
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
	return problem.Faults{{Code: problem.TooLarge, Path: path, Found: fmt.Sprintf("%d bytes", len(text)), Expected: fmt.Sprintf("at most %d", maxComment)}}
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
		return store.Comment{}, problem.Faults{{Code: problem.MissingField, Path: "/text", Found: "nothing", Expected: "what is to be said, as text"}}
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

// AskedRule says whether an approval rule would have asked for approvals of a change.
type AskedRule struct {
	Change store.Change
	Facts  *review.ChangeFacts
	Asks   bool
	Fault  string // why the rule could not be evaluated
}

// rulesTriedOn is how many changes an approval rule is tried on.
const rulesTriedOn = 50

// TryRule says of which recent changes an approval rule would ask for approvals: those that were
// published last, and those that are open.
func (s *ChangeService) TryRule(ctx context.Context, by Actor, r estate.ApprovalRule) ([]AskedRule, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if !by.Held.Everywhere.Has(access.Read) {
		return nil, &access.DeniedError{Right: access.Read} // it tells of changes elsewhere
	}
	changes, err := s.store.In(ctx).Changes("")
	if err != nil {
		return nil, err
	}
	var out []AskedRule
	for _, c := range changes {
		if len(out) == rulesTriedOn {
			break
		}
		rv := &Review{Change: c}
		edits, err := s.store.In(ctx).Edits(c.ID)
		if err != nil {
			return nil, err
		}
		if err := s.fillReview(ctx, rv, edits); err != nil {
			return nil, err
		}
		if rv.Facts == nil {
			continue
		}
		asked := AskedRule{Change: c, Facts: rv.Facts}
		if found := review.Demands([]estate.ApprovalRule{r}, rv.Facts); len(found) > 0 {
			asked.Asks, asked.Fault = true, found[0].Fault
		}
		out = append(out, asked)
	}
	return out, nil
}

// Waits for somebody: why a change on the overview waits.
const (
	WaitsForApproval = "approval" // it is in review, and the reader may decide
	WaitsForOther    = "other"    // it is in review, and somebody else decides
	WaitsOutdated    = "outdated" // the reader approved it, and the impact differs since
	WaitsUrgent      = "urgent"   // it was published urgently, and approvals must follow
	WaitsToPublish   = "publish"  // it is approved, and the reader may publish it
)

// ReviewWaiting is a change whose review waits for somebody.
type ReviewWaiting struct {
	Change store.Change
	For    string // one of the Waits constants
}

// ReviewsWaiting lists the changes in review, and those whose approvals must follow: first those that
// wait for the reader.
func (s *ChangeService) ReviewsWaiting(ctx context.Context, by Actor) ([]ReviewWaiting, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	changes, err := s.store.In(ctx).ReviewedChanges()
	if err != nil {
		return nil, err
	}
	var out []ReviewWaiting
	for _, c := range changes {
		r, err := s.Review(ctx, by, c.ID)
		if err != nil {
			return nil, err
		}
		asked := len(r.Reviewers) == 0 || slices.Contains(r.Reviewers, by.Name)
		mine := slices.IndexFunc(r.Verdicts, func(v Verdict) bool { return v.By == by.Name })
		w := ReviewWaiting{c, WaitsForOther}
		switch {
		case c.State != InReview && len(r.Missing()) == 0:
			continue
		case mine >= 0 && r.Verdicts[mine].Outdated:
			w.For = WaitsOutdated
		case c.State != InReview:
			w.For = WaitsUrgent
		case r.Approved() && by.Held.Anywhere().Has(access.Publish):
			w.For = WaitsToPublish
		case r.WhyNot == "" && asked && mine < 0 && !r.Approved():
			w.For = WaitsForApproval
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(a, b ReviewWaiting) int {
		rank := func(w ReviewWaiting) int {
			return slices.Index([]string{WaitsForApproval, WaitsOutdated, WaitsUrgent, WaitsToPublish, WaitsForOther}, w.For)
		}
		return rank(a) - rank(b)
	})
	return out, nil
}
