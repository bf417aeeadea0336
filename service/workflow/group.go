// This file has the use cases of groups: trying a rule, where a group is used, retiring one.

package workflow

import (
	"context"
	"errors"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
)

// GroupTrial is who a group would have, compared with now.
type GroupTrial struct {
	*resolve.GroupTrial
	Joins, Leaves []string
	Titles        func(id string) string // of members
	Remarks       []review.Remark        // on the rule
}

// TryGroup says who a group would have, as it is written.
func (v View) TryGroup(g *estate.Group) (*GroupTrial, error) {
	for i, id := range g.Groups {
		other, err := v.Group(string(id))
		if err != nil {
			return nil, problem.Faults{
				{
					Code:     problem.UnknownReference,
					Path:     problem.Join("/groups", i),
					Found:    problem.Quote(string(id)),
					Expected: "the id of a group of this estate",
				},
			}
		}
		if other.Of != g.Of {
			return nil, problem.Faults{
				{
					Code:     problem.OtherKind,
					Path:     problem.Join("/groups", i),
					Found:    "a group of " + string(other.Of),
					Expected: "a group of " + string(g.Of),
				},
			}
		}
	}
	t := &GroupTrial{GroupTrial: v.Plan.TryGroup(g), Remarks: review.Remarks(v.Plan, g.Rule)}
	now := v.Live.Plan.GroupMembers(g.ID)
	is := make(map[string]bool, len(t.Members))
	for _, m := range t.Members {
		is[m] = true
	}
	was := make(map[string]bool, len(now))
	for _, m := range now {
		if was[m] = true; !is[m] {
			t.Leaves = append(t.Leaves, m)
		}
	}
	for _, m := range t.Members {
		if !was[m] {
			t.Joins = append(t.Joins, m)
		}
	}
	return t, nil
}

// GroupUse says where a group is used.
type GroupUse struct {
	Includes   []estate.PolicyID
	Excludes   []estate.PolicyID
	Exceptions []estate.ExceptionID
	Groups     []estate.GroupID // that have it as a member
}

// Used tells whether it is used anywhere.
func (u GroupUse) Used() bool {
	return len(u.Includes)+len(u.Excludes)+len(u.Exceptions)+len(u.Groups) > 0
}

// UseOf says where a target is used; of a group, also the groups that have it as a member.
func (v View) UseOf(t estate.Target) GroupUse {
	var u GroupUse
	s := v.Plan.Snapshot()
	for i := range s.Policies {
		p := &s.Policies[i]
		if p.State == estate.Retired {
			continue
		}
		if slices.Contains(p.Audience.Include, t) {
			u.Includes = append(u.Includes, p.ID)
		}
		if slices.Contains(p.Audience.Exclude, t) {
			u.Excludes = append(u.Excludes, p.ID)
		}
	}
	for i := range s.Exceptions {
		if s.Exceptions[i].Target == t {
			u.Exceptions = append(u.Exceptions, s.Exceptions[i].ID)
		}
	}
	for i := range s.Groups {
		if t.Kind == estate.ToGroup && slices.Contains(s.Groups[i].Groups, estate.GroupID(t.ID)) {
			u.Groups = append(u.Groups, s.Groups[i].ID)
		}
	}
	slices.Sort(u.Includes)
	slices.Sort(u.Excludes)
	slices.Sort(u.Exceptions)
	slices.Sort(u.Groups)
	return u
}

// RetireGroup puts edits into a change that take a group away together with all that names it: it
// goes from audiences and groups, and exceptions for it end.
func (s *AudienceService) RetireGroup(ctx context.Context, by Actor, change, id string) (int, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return 0, err
	}
	target := estate.Target{Kind: estate.ToGroup, ID: id}
	return s.putAll(ctx, by, change, "retire group", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		if !slices.ContainsFunc(snapshot.Groups, func(g estate.Group) bool { return string(g.ID) == id }) {
			return nil, &NotFoundError{"group", id}
		}
		var inputs []EditInput
		var failed error
		add := func(kind estate.Kind, object any) {
			in, err := inputOf(kind, object)
			failed = errors.Join(failed, err)
			inputs = append(inputs, in)
		}
		not := func(t estate.Target) bool { return t == target }
		for _, p := range snapshot.Policies {
			if slices.Contains(p.Audience.Include, target) || slices.Contains(p.Audience.Exclude, target) {
				p.Audience.Include = slices.DeleteFunc(slices.Clone(p.Audience.Include), not)
				p.Audience.Exclude = slices.DeleteFunc(slices.Clone(p.Audience.Exclude), not)
				add(estate.KindPolicy, p)
			}
		}
		for _, g := range snapshot.Groups {
			if slices.Contains(g.Groups, estate.GroupID(id)) {
				g.Groups = slices.DeleteFunc(slices.Clone(g.Groups), func(m estate.GroupID) bool { return string(m) == id })
				add(estate.KindGroup, g)
			}
		}
		for _, x := range snapshot.Exceptions {
			if x.Target == target {
				inputs = append(inputs, EditInput{Kind: estate.KindException, ID: string(x.ID), Retire: true})
			}
		}
		return append(inputs, EditInput{Kind: estate.KindGroup, ID: id, Retire: true}), failed
	})
}
