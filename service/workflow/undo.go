// This file undoes changes as a whole: one that is being rolled out is taken back, one that is published
// is turned round by a new change.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// Undone is what came of undoing a change.
type Undone struct {
	TakenBack bool   // it was being rolled out: its rollout is taken back
	Change    string // else the change that turns it round
	Objects   []UndoneObject
}

// UndoneObject says how an object is undone.
type UndoneObject struct {
	Kind, ID string
	// Way is restored (as it was before the change), retired (the change made it), merged (it was altered
	// since: what the change altered is turned round, the rest stays), unchanged (it is so already), or
	// left (it was altered since, and is left as it is).
	Way   string
	Parts []string // with merged and left: what was altered both by the change and since, and stays
	By    string   // with merged and left: who altered it last
}

// Undo turns a change round as a whole.
func (s *RolloutService) Undo(ctx context.Context, by Actor, id string) (Undone, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return Undone{}, err
	}
	c, edits, err := s.changes.change(ctx, id)
	if err != nil {
		return Undone{}, err
	}
	switch c.State {
	case RollingOut:
		_, err := s.Act(ctx, by, id, ActInput{Act: rollout.TakeBack})
		return Undone{TakenBack: true}, err
	case Published:
	default:
		return Undone{}, &StateError{id, c.State, Published}
	}
	var out Undone
	var inputs []EditInput
	for _, e := range edits {
		object, in, err := s.undoEdit(ctx, c.Revision, e)
		if err != nil {
			return Undone{}, err
		}
		out.Objects = append(out.Objects, object)
		if in != nil {
			inputs = append(inputs, *in)
		}
	}
	if len(inputs) == 0 {
		return out, problem.Faults{{
			Code: problem.OutOfRange, Path: "/edits", Found: "nothing that can be undone: everything that the change altered was " +
				"altered since",
			Expected: "at least one object that is as the change made it",
		}}
	}
	title := []rune("Undo: " + c.Title)
	title = title[:min(len(title), 200)]
	made, err := s.changes.NewChange(ctx, by, string(title), "Turns round change "+id+".")
	if err != nil {
		return Undone{}, err
	}
	out.Change = made.ID
	if err := s.putUndoing(ctx, by, made.ID, id, inputs); err != nil {
		return out, errors.Join(err, s.changes.Discard(ctx, by, made.ID))
	}
	return out, nil
}

// putUndoing puts the edits into the change that undoes another one. Objects that name others go in
// after those, whatever the order of the list: each edit that does not fit yet is tried again.
func (s *RolloutService) putUndoing(ctx context.Context, by Actor, change, undoes string, inputs []EditInput) error {
	for len(inputs) > 0 {
		var later []EditInput
		var last error
		for _, in := range inputs {
			in.Expected = 0
			var faults problem.Faults
			switch _, err := s.changes.PutEdit(ctx, by, change, in); {
			case errors.As(err, &faults):
				later, last = append(later, in), err
			case err != nil:
				return err
			}
		}
		if len(later) == len(inputs) {
			return last
		}
		inputs = later
	}
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		c, err := tx.Change(change)
		c.Undoes = undoes
		return errors.Join(err, tx.SaveChange(c))
	})
}

// undoEdit says how one edit of a published change is undone, and gives the edit that does it; nil: there
// is none.
func (s *RolloutService) undoEdit(ctx context.Context, revision int64, e store.Edit) (UndoneObject, *EditInput, error) {
	out := UndoneObject{Kind: e.Kind, ID: e.ObjectID}
	kind := estate.Kind(e.Kind)
	versions, err := s.store.In(ctx).Versions(e.Kind, e.ObjectID)
	if err != nil {
		return out, nil, err
	}
	at := slices.IndexFunc(versions, func(v store.ObjectVersion) bool { return v.Revision == revision })
	if at < 0 {
		return out, nil, fmt.Errorf("%s %s has no version of revision %d", e.Kind, e.ObjectID, revision)
	}
	var before *store.ObjectVersion
	if at+1 < len(versions) && !versions[at+1].Retired {
		before = &versions[at+1]
	}
	since := s.Live().Version(kind, e.ObjectID) != versions[at].Version
	switch {
	case since:
		return s.undoSince(ctx, out, versions[at], before)
	case before == nil && versions[at].Retired:
		out.Way = "unchanged"
		return out, nil, nil
	case before == nil:
		out.Way = "retired"
		return out, &EditInput{Kind: kind, ID: e.ObjectID, Retire: true}, nil
	}
	out.Way = "restored"
	return out, &EditInput{Kind: kind, ID: e.ObjectID, Body: []byte(before.Body)}, nil
}

// undoSince turns round what a change altered of an object that was altered since: policies are merged
// part by part, others are left as they are.
func (s *RolloutService) undoSince(ctx context.Context, out UndoneObject, made store.ObjectVersion,
	before *store.ObjectVersion) (UndoneObject, *EditInput, error) {
	out.Way = "left"
	versions, err := s.store.In(ctx).Versions(out.Kind, out.ID)
	if err != nil {
		return out, nil, err
	}
	out.By = versions[0].By
	if before == nil || made.Retired || estate.Kind(out.Kind) != estate.KindPolicy {
		return out, nil, nil
	}
	body, _, err := s.object(ctx, estate.KindPolicy, out.ID)
	var missing *NotFoundError
	if errors.As(err, &missing) { // it was retired since
		return out, nil, nil
	} else if err != nil {
		return out, nil, err
	}
	var policies [3]estate.Policy
	for i, text := range []string{made.Body, body, before.Body} {
		object, _, err := files.DecodeJSON(estate.KindPolicy, []byte(text))
		if err != nil {
			return out, nil, err
		}
		policies[i] = object.(estate.Policy)
	}
	// Where both the change and somebody since altered a part, what is live stays.
	merged, conflicts := review.Merge(&policies[0], &policies[1], &policies[2])
	for _, c := range conflicts {
		out.Parts = append(out.Parts, string(c.Part))
	}
	if len(review.Diff(&policies[1], &merged)) == 0 {
		return out, nil, nil
	}
	out.Way = "merged"
	text, err := files.EncodeJSON(merged)
	return out, &EditInput{Kind: estate.KindPolicy, ID: out.ID, Body: text}, err
}
