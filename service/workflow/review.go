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
		parts = append(parts, fmt.Sprintf("the rule %q asks for approvals by %s: %d of %d are there", cmp.Or(d.Title, d.Rule), from,
			len(d.By), d.Approvals))
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
		return problem.Faults{{Code: problem.OutOfRange, Path: "/urgent", Found: problem.Quote(urgent),
			Expected: "the reason why it cannot wait, at least 10 characters"}}
	}
	until := s.now().Add(approveWithin)
	p.change.Urgent, p.change.ApproveBy = urgent, &until
	return nil
}
