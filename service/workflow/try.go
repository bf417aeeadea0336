// This file says what a policy would do while it is typed, with nothing stored.

package workflow

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/service/store"
)

// Trial is what a policy would do, together with the rest of a change.
type Trial struct {
	Use      *review.Use      // of the first policy that is edited; nil without one
	Findings []review.Finding // about it
	After    impact.Side      // the estate with the change and the policy in it
	Report   *impact.Report   // of the whole change with the policy in it
	Faults   problem.Faults   // with any, the rest is empty
}

// Outcome is what edits do to what is live.
type Outcome struct {
	Report *impact.Report
	After  impact.Side
	Faults problem.Faults // with any, the rest is empty
}

// turn waits until something may be tried. Only few things are worked out at once; what somebody
// has typed over meanwhile, so that nobody waits for it any more, is let go with the context's
// error.
func (s *ChangeService) turn(ctx context.Context) (done func(), err error) {
	select {
	case s.trying <- struct{}{}:
		if err = ctx.Err(); err == nil {
			return func() { <-s.trying }, nil
		}
		<-s.trying
	case <-ctx.Done():
	}
	return nil, ctx.Err()
}

// Outcome says what a change does, with edits on top of it that are not stored; of what is live
// with edits alone where no change is named.
func (s *ChangeService) Outcome(ctx context.Context, by Actor, change string, inputs []EditInput) (*Outcome, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	done, err := s.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	if len(inputs) == 0 && change != "" {
		d, err := s.draft(ctx, change)
		if err != nil {
			return nil, err
		}
		d = s.seenBy(by, d)
		return &Outcome{d.report, d.after, d.faults}, nil
	}
	d, _, err := s.tried(ctx, change, inputs)
	if err != nil {
		return nil, err
	}
	d = s.seenBy(by, d)
	return &Outcome{d.report, d.after, d.faults}, nil
}

// tried puts inputs on top of the edits of a change, and gives what that comes to, with the first
// policy among the inputs.
func (s *ChangeService) tried(ctx context.Context, change string, inputs []EditInput) (d *draft, policy estate.PolicyID, err error) {
	live := s.Live()
	var edits []store.Edit
	if change != "" {
		if _, edits, err = s.change(ctx, change); err != nil {
			return nil, "", err
		}
	}
	for _, in := range inputs {
		body, err := s.canonical(ctx, in, s.definitionsWith(live, edits))
		if err != nil {
			return nil, "", err
		}
		edits = slices.DeleteFunc(edits, func(e store.Edit) bool { return e.Kind == string(in.Kind) && e.ObjectID == in.ID })
		edits = append(edits, store.Edit{Kind: string(in.Kind), ObjectID: in.ID, Body: body, Retire: in.Retire})
		if in.Kind == estate.KindPolicy && policy == "" {
			policy = estate.PolicyID(in.ID)
		}
	}
	d, err = s.compare(ctx, live, edits, change)
	return d, policy, err
}

// Try says what the edits would do if they were put into a change, or into a new one when no change
// is named. Nothing is stored. What is said of one policy is said of the first that is edited.
func (s *ChangeService) Try(ctx context.Context, by Actor, change string, inputs []EditInput) (*Trial, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	done, err := s.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	return s.trial(ctx, by, change, inputs)
}

func (s *ChangeService) trial(ctx context.Context, by Actor, change string, inputs []EditInput) (*Trial, error) {
	d, policy, err := s.tried(ctx, change, inputs)
	if err != nil {
		return nil, err
	}
	return s.trialOf(ctx, s.seenBy(by, d), policy), nil
}

// trialOf says what a draft does, and what becomes of a policy in it where there is one of that id.
func (s *ChangeService) trialOf(ctx context.Context, d *draft, policy estate.PolicyID) *Trial {
	if len(d.faults) > 0 {
		return &Trial{Faults: d.faults}
	}
	out := &Trial{Report: d.report, After: d.after}
	if use, there := review.Look(d.after, policy); there {
		out.Use, out.Findings = use, review.Findings(d.after, policy, use, s.files.known(ctx, policy))
	}
	return out
}

// Effect says what an open change does as it is stored, and what a policy of it does then. It gives
// the version of the change that was looked at. What is computed is kept as the draft of that
// version, for the questions that follow.
func (s *ChangeService) Effect(ctx context.Context, by Actor, change string, policy estate.PolicyID) (*Trial, int64, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, 0, err
	}
	done, err := s.turn(ctx)
	if err != nil {
		return nil, 0, err
	}
	defer done()
	d, err := s.draft(ctx, change)
	if err != nil {
		return nil, 0, err
	}
	return s.trialOf(ctx, s.seenBy(by, d), policy), d.version, nil
}

// PolicyUse says what a policy does in a view: whom it reaches, what else is set there, what is odd
// about it.
func (s *ChangeService) PolicyUse(ctx context.Context, by Actor, v View, id estate.PolicyID) (*Trial, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	use, ok := review.Look(v.Side, id)
	if !ok {
		return nil, &NotFoundError{"policy", string(id)}
	}
	return &Trial{Use: use, Findings: review.Findings(v.Side, id, use, s.files.known(ctx, id)), After: v.Side}, nil
}

// Reached counts, by policy, the laptops that each active policy applies to.
func (v View) Reached() map[estate.PolicyID]int {
	policies := v.Plan.Snapshot().Policies
	reached := make(map[estate.PolicyID]int, len(policies))
	for i := range policies {
		reached[policies[i].ID] = v.Plan.Applies(policies[i].ID).Len()
	}
	return reached
}
