// This file has the resources of reviews: what somebody needs who decides about a change, verdicts and
// comments.

package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerReviews() {
	huma.Register(
		s.api, operation("getReview", http.MethodGet, "/changes/{id}/review", "All that somebody needs who decides "+
			"about a change"), s.getReview,
	)
	huma.Register(
		s.api,
		operation("sendForReview", http.MethodPost, "/changes/{id}/review", "Freeze a change and ask people "+
			"to look at it", needs(access.Write)),
		s.sendForReview,
	)
	huma.Register(
		s.api,
		operation("takeFromReview", http.MethodDelete, "/changes/{id}/review", "Make a change open again; what was approved is void",
			needs(access.Write)),
		s.takeFromReview,
	)
	huma.Register(
		s.api,
		operation(
			"decideChange", http.MethodPost, "/changes/{id}/verdicts", "Approve a change or decline it; not for who edited in it",
			needs(access.Approve),
		),
		s.decideChange,
	)
	huma.Register(
		s.api,
		operation("commentChange", http.MethodPost, "/changes/{id}/comments", "Say something about a change", status(http.StatusCreated)),
		s.commentChange,
	)
	huma.Register(
		s.api,
		operation(
			"resolveComment", http.MethodPost, "/changes/{id}/comments/{comment}/resolve", "Say that a comment is dealt with",
			status(http.StatusNoContent),
		),
		s.resolveComment,
	)
	huma.Register(
		s.api,
		operation("undoChange", http.MethodPost, "/changes/{id}/undo", "Turn a change round as a whole", needs(access.Write)),
		s.undoChange,
	)
	huma.Register(
		s.api, operation("listReviews", http.MethodGet, "/reviews",
			"Changes whose review waits for somebody, those for the caller first"), s.listReviews,
	)
	huma.Register(
		s.api,
		operation("tryApprovalRule", http.MethodPost, "/approval-rules/try", "Of which recent changes would an approval rule ask "+
			"for approvals?"),
		s.tryApprovalRule,
	)
}

func factsOf(f *review.ChangeFacts) *wire.Facts {
	if f == nil {
		return nil
	}
	out := wire.Facts(*f)
	return &out
}

func commentOf(c store.Comment) wire.Comment {
	return wire.Comment{
		ID: c.ID, By: c.By, At: c.At, About: c.About, Text: c.Text, Blocking: c.Blocking, ResolvedBy: c.ResolvedBy, ResolvedAt: c.ResolvedAt,
	}
}

func demandOf(d *workflow.Demand) wire.Demand {
	return wire.Demand{
		Rule: d.Rule, Title: d.Title, Approvals: d.Approvals, From: d.From, Reason: d.Reason, Fault: d.Fault, By: list(d.By), Met: d.Met(),
	}
}

func waitingOf(waits []workflow.Waiting) (out []wire.WaitingFor) {
	for _, w := range waits {
		out = append(out, wire.WaitingFor{Rollout: w.Rollout, Title: w.Title, Objects: w.Objects})
	}
	return out
}

// list gives a list that is written as one where it is empty, too.
func list[T any](of []T) []T { return append([]T{}, of...) }

func (s *server) reviewOf(ctx context.Context, r *workflow.Review) (wire.Review, error) {
	change := changeOf(r.Change)
	change.HiddenEdits = r.Hidden
	for _, e := range r.Edits {
		change.Edits = append(change.Edits, s.editOf(ctx, e))
	}
	out := wire.Review{
		Change: change, Reviewers: r.Reviewers, SentBy: r.Change.SentBy, SentAt: r.Change.SentAt, Facts: factsOf(r.Facts),
		Digest: r.Looked.Digest,
		Faults: r.Faults, Demands: []wire.Demand{}, Verdicts: []wire.Verdict{}, Comments: []wire.Comment{}, WaitsFor: waitingOf(r.Waits),
		Approved: r.Approved(), WhyNot: r.WhyNot, Urgent: r.Change.Urgent, ApproveBy: r.Change.ApproveBy, Undoes: r.Change.Undoes,
	}
	for i := range r.Demands {
		out.Demands = append(out.Demands, demandOf(&r.Demands[i]))
	}
	for _, v := range r.Verdicts {
		is := wire.Verdict{By: v.By, At: v.At, Verdict: v.Verdict, Note: v.Note, Outdated: v.Outdated}
		for _, d := range v.Differs {
			is.Differs = append(is.Differs, wire.ImpactDifference{What: d.What, Was: d.Was, Is: d.Is})
		}
		out.Verdicts = append(out.Verdicts, is)
	}
	for _, c := range r.Comments {
		is := commentOf(c)
		is.MayResolve = c.ResolvedAt == nil && workflow.MayResolve(actorOf(ctx), &c, r.Edits) == nil
		out.Comments = append(out.Comments, is)
	}
	meets, err := s.Flow.Meetings(ctx, actorOf(ctx), r.Change.ID)
	for _, m := range meets {
		is := wire.Meeting{Rollout: m.Rollout, Title: m.Title, Progress: m.Progress, Laptops: m.Laptops.Len(), Objects: m.Objects}
		for _, id := range m.Settings {
			is.Settings = append(is.Settings, string(id))
		}
		out.Meets = append(out.Meets, is)
	}
	return out, err
}

// getReview handles the operation getReview: all that somebody needs who decides about a change.
func (s *server) getReview(ctx context.Context, in *changePath) (*output[wire.Review], error) {
	r, err := s.Flow.Review(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w, err := s.reviewOf(ctx, r)
	return out(w, s.fault(ctx, err))
}

// sendForReview handles the operation sendForReview: freeze a change and ask people to look at it.
func (s *server) sendForReview(ctx context.Context, in *struct {
	ID   string              `path:"id"`
	Body *wire.SendForReview `required:"false"`
}) (*output[wire.Review], error) {
	var reviewers []string
	if in.Body != nil {
		reviewers = in.Body.Reviewers
	}
	if err := s.mayApprove(ctx, reviewers); err != nil {
		return nil, s.fault(ctx, err)
	}
	if err := s.Flow.SendForReview(ctx, actorOf(ctx), in.ID, reviewers); err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.getReview(ctx, &changePath{in.ID})
}

// mayApprove refuses reviewers who are no accounts, or may approve nothing.
func (s *server) mayApprove(ctx context.Context, reviewers []string) error {
	var faults problem.Faults
	for i, name := range reviewers {
		held, _, err := s.SignIn.Rights(ctx, name)
		path := fmt.Sprintf("/reviewers/%d", i)
		switch {
		case errors.Is(err, store.ErrNotFound):
			faults = append(faults, problem.Fault{Code: problem.UnknownReference, Path: path, Found: "no account " + problem.Quote(name),
				Expected: "an account"})
		case err != nil:
			return err
		case !held.Anywhere().Has(access.Approve):
			faults = append(faults, problem.Fault{
				Code: problem.UnknownReference, Path: path, Found: name + ", who may not approve", Expected: "an account with the " +
					"right approve",
			})
		}
	}
	if len(faults) > 0 {
		return faults
	}
	return nil
}

// takeFromReview handles the operation takeFromReview: make a change open again.
func (s *server) takeFromReview(ctx context.Context, in *changePath) (*output[wire.Review], error) {
	if err := s.Flow.TakeFromReview(ctx, actorOf(ctx), in.ID); err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.getReview(ctx, in)
}

// decideChange handles the operation decideChange: approve a change or decline it.
func (s *server) decideChange(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.DecideRequest
}) (*output[wire.Review], error) {
	r, err := s.Flow.Decide(ctx, actorOf(ctx), in.ID, workflow.VerdictInput(in.Body))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w, err := s.reviewOf(ctx, r)
	return out(w, s.fault(ctx, err))
}

// commentChange handles the operation commentChange: say something about a change.
func (s *server) commentChange(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.NewComment
}) (*output[wire.Comment], error) {
	c, err := s.Flow.Comment(ctx, actorOf(ctx), in.ID, workflow.CommentInput(in.Body))
	return out(commentOf(c), s.fault(ctx, err))
}

// resolveComment handles the operation resolveComment: say that a comment is dealt with.
func (s *server) resolveComment(ctx context.Context, in *struct {
	ID      string `path:"id"`
	Comment int64  `path:"comment"`
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.ResolveComment(ctx, actorOf(ctx), in.ID, in.Comment))
}

// undoChange handles the operation undoChange: turn a change round as a whole.
func (s *server) undoChange(ctx context.Context, in *changePath) (*output[wire.Undone], error) {
	u, err := s.Flow.Undo(ctx, actorOf(ctx), in.ID)
	w := wire.Undone{TakenBack: u.TakenBack, Change: u.Change, Objects: []wire.UndoneObject{}}
	for _, o := range u.Objects {
		w.Objects = append(w.Objects, wire.UndoneObject(o))
	}
	return out(w, s.fault(ctx, err))
}

// tryApprovalRule handles the operation tryApprovalRule: of which recent changes would a rule ask for
// approvals?
func (s *server) tryApprovalRule(ctx context.Context, in *struct{ Body wire.EstateObject }) (*output[[]wire.RuleTrial], error) {
	object, _, err := files.DecodeJSON(estate.KindApprovalRule, in.Body)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	asked, err := s.Flow.TryRule(ctx, actorOf(ctx), object.(estate.ApprovalRule))
	trials := make([]wire.RuleTrial, len(asked))
	for i, a := range asked {
		trials[i] = wire.RuleTrial{Change: a.Change.ID, Title: a.Change.Title, State: a.Change.State, Asks: a.Asks, Fault: a.Fault,
			Facts: factsOf(a.Facts)}
	}
	return out(trials, s.fault(ctx, err))
}

// listReviews handles the operation listReviews: changes whose review waits for somebody.
func (s *server) listReviews(ctx context.Context, _ *struct{}) (*output[[]wire.ReviewWaiting], error) {
	waiting, err := s.Flow.ReviewsWaiting(ctx, actorOf(ctx))
	list := make([]wire.ReviewWaiting, len(waiting))
	for i, w := range waiting {
		list[i] = wire.ReviewWaiting{Change: w.Change.ID, Title: w.Change.Title, SentBy: w.Change.SentBy, SentAt: w.Change.SentAt, For: w.For}
	}
	return out(list, s.fault(ctx, err))
}
