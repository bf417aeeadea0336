// This file says which changes approval rules ask about: recent ones, for whoever writes a rule, and those that
// wait for somebody, for the overview.

package workflow

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/service/store"
)

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
