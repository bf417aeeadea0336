// This file has the resource of groups: members, rules that are tried, use, retiring.

package httpapi

import (
	"context"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

type groupPath struct {
	ID string `path:"id"`
}

func (s *server) registerGroups() {
	huma.Register(
		s.api,
		operation("getGroup", http.MethodGet, "/groups/{id}", "A group: who is in it, what it is made of, where it is used"),
		s.getGroup,
	)
	huma.Register(
		s.api,
		operation("tryGroup", http.MethodPost, "/groups/try", "Who a group would have as it is written, compared with "+
			"what is live", readsOnly),
		s.handleTryGroup,
	)
	huma.Register(
		s.api,
		operation(
			"retireGroup",
			http.MethodPost,
			"/changes/{id}/retired-groups/{group}",
			"Take a group away together with all that names it, as edits of a change",
			needs(access.Write),
		),
		s.retireGroup,
	)
}

// tryGroup says who a group would have, as it is written.
func tryGroup(v workflow.View, body []byte) (*wire.GroupTrial, error) {
	object, _, err := files.DecodeJSON(estate.KindGroup, body)
	if err != nil {
		return nil, err
	}
	g := object.(estate.Group)
	if !slices.Contains(estate.GroupKinds, g.Of) {
		return nil, problem.Faults{{Code: problem.NotOneOf, Path: "/of", Found: problem.Quote(string(g.Of)), Expected: "people or devices"}}
	}
	t, err := v.TryGroup(&g)
	if err != nil {
		return nil, err
	}
	w := trialWire(v, &g, t)
	return &w, nil
}

const trialShown = 100

func trialWire(v workflow.View, g *estate.Group, t *workflow.GroupTrial) wire.GroupTrial {
	snapshot := v.Plan.Snapshot()
	of := len(snapshot.Devices)
	title := func(id string) string {
		if d := v.Plan.Device(estate.DeviceID(id)); d != nil {
			return string(d.OS) + " " + d.OSVersion
		}
		return ""
	}
	if g.Of == estate.OfPeople {
		of = len(snapshot.People)
		title = func(id string) string {
			if p := v.Plan.Person(estate.PersonID(id)); p != nil {
				return p.Name
			}
			return ""
		}
	}
	members := func(ids []string) []wire.Member {
		out := make([]wire.Member, min(len(ids), trialShown))
		for i := range out {
			out[i] = wire.Member{ID: ids[i], Title: title(ids[i])}
		}
		return out
	}
	w := wire.GroupTrial{
		Members:     members(t.Members),
		Count:       len(t.Members),
		Of:          of,
		Listed:      t.Listed,
		Nested:      t.Nested,
		ByRule:      t.ByRule,
		Joins:       members(t.Joins),
		JoinCount:   len(t.Joins),
		Leaves:      members(t.Leaves),
		LeaveCount:  len(t.Leaves),
		Failures:    []wire.RuleFailure{},
		FailedCount: len(t.Failures),
	}
	for _, remark := range t.Remarks {
		w.Remarks = append(w.Remarks, report.RemarkWords(remark))
	}
	for _, id := range slices.Sorted(maps.Keys(t.Failures)) {
		if len(w.Failures) == trialShown {
			break
		}
		w.Failures = append(w.Failures, wire.RuleFailure{ID: id, Error: t.Failures[id]})
	}
	return w
}

func groupWire(v workflow.View, g *estate.Group) wire.Group {
	return wire.Group{
		ID:       string(g.ID),
		Title:    g.Title,
		Of:       string(g.Of),
		Rule:     g.Rule.Source(),
		Members:  v.Plan.GroupSize(g.ID),
		Listed:   len(g.Members),
		Nested:   len(g.Groups),
		Failures: v.Plan.GroupFailures(g.ID),
		Detach:   wire.Detachments(g.Detach),
		Version:  v.Live.Version(estate.KindGroup, string(g.ID)),
		Source:   v.Live.SourceOf(estate.KindGroup, string(g.ID)),
	}
}

func useWire(u workflow.GroupUse) wire.GroupUse {
	return wire.GroupUse{
		Includes:   wire.Names(u.Includes),
		Excludes:   wire.Names(u.Excludes),
		Exceptions: wire.Names(u.Exceptions),
		Groups:     wire.Names(u.Groups),
	}
}

func (s *server) groupPage(ctx context.Context, v workflow.View, id string) (*output[wire.GroupPage], error) {
	groups := v.Plan.Snapshot().Groups
	at := slices.IndexFunc(groups, func(g estate.Group) bool { return string(g.ID) == id })
	if at < 0 {
		return nil, s.fault(ctx, &workflow.NotFoundError{Kind: "group", ID: id})
	}
	g := &groups[at]
	t, err := v.TryGroup(g)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page := wire.GroupPage{
		Group:   groupWire(v, g),
		Doc:     files.Doc(*g).(files.GroupDoc),
		Trial:   trialWire(v, g, t),
		Use:     useWire(v.UseOf(estate.Target{Kind: estate.ToGroup, ID: id})),
		Nesting: []wire.NestedGroup{},
		Origin:  originWire(s.Flow.OriginOf(estate.KindGroup, id), nil, nil),
	}
	var nest func(g *estate.Group, depth int)
	nest = func(g *estate.Group, depth int) {
		for _, inner := range g.Groups {
			if i := slices.IndexFunc(groups, func(k estate.Group) bool { return k.ID == inner }); i >= 0 {
				page.Nesting = append(
					page.Nesting,
					wire.NestedGroup{ID: string(inner), Title: groups[i].Title, Depth: depth, Members: v.Plan.GroupSize(inner)},
				)
				nest(&groups[i], depth+1)
			}
		}
	}
	nest(g, 0)
	return &output[wire.GroupPage]{page}, nil
}

// getGroup handles the operation getGroup: a group: who is in it, what it is made of, where it is
// used.
func (s *server) getGroup(ctx context.Context, in *struct {
	InChange
	ID string `path:"id"`
}) (*output[wire.GroupPage], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.groupPage(ctx, v, in.ID)
}

// handleTryGroup handles the operation tryGroup: who a group would have as it is written, compared
// with what is live.
func (s *server) handleTryGroup(ctx context.Context, in *struct {
	InChange
	Body wire.EstateObject
}) (*output[wire.GroupAnswer], error) {
	v, err := s.view(ctx, in.InChange)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w, err := tryGroup(v, in.Body)
	var faults problem.Faults
	if isFaults(err, &faults) {
		return &output[wire.GroupAnswer]{wire.GroupAnswer{Faults: faults}}, nil
	}
	return out(wire.GroupAnswer{Trial: w}, s.fault(ctx, err))
}

// retireGroup handles the operation retireGroup: take a group away together with all that names it,
// as edits of a change.
func (s *server) retireGroup(ctx context.Context, in *struct {
	ID    string `path:"id"`
	Group string `path:"group"`
}) (*output[wire.Edited], error) {
	n, err := s.Flow.RetireGroup(ctx, actorOf(ctx), in.ID, in.Group)
	return out(wire.Edited{Edits: n}, s.fault(ctx, err))
}

func membershipsWire(groups []estate.Group, list []resolve.Membership) []wire.Membership {
	titles := make(map[estate.GroupID]string, len(groups))
	for i := range groups {
		titles[groups[i].ID] = groups[i].Title
	}
	out := make([]wire.Membership, len(list))
	for i, m := range list {
		out[i] = wire.Membership{Group: string(m.Group), Title: titles[m.Group], Owner: m.Owner, Listed: m.Listed, Via: wire.Names(m.Via)}
		for _, p := range m.Rule {
			out[i].Rule = append(out[i].Rule, partWire(p))
		}
	}
	return out
}

func partWire(p rule.Part) wire.RulePart {
	return wire.RulePart{Source: p.Source, Depth: p.Depth, Joined: p.Joined, Holds: p.Holds, Error: p.Error}
}
