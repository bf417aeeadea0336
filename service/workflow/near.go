// This file finds what was likely meant by an id that nothing has.

package workflow

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/search"
)

// nearMost is the most ids that are named as likely meant.
const nearMost = 3

// Near names the live objects of a kind that were likely meant by an id, the likeliest first:
// those with that title or serial number, those that begin with it, those that are mistyped by a
// letter or two, those that contain it. The kind is given as a NotFoundError names it. Nothing is
// named that the actor may not read.
func (s *ChangeService) Near(ctx context.Context, by Actor, kind, id string) ([]string, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if id == "" || len(id) > 100 {
		return nil, nil
	}
	view, err := s.ViewOf(ctx, by, "")
	if err != nil {
		return nil, err
	}
	snapshot := view.Plan.Snapshot()
	var found near
	found.typed = strings.ToLower(id)
	switch cmp.Or(singular[kind], kind) {
	case "policy":
		for i := range snapshot.Policies {
			found.add(string(snapshot.Policies[i].ID), snapshot.Policies[i].Title)
		}
	case "group":
		for i := range snapshot.Groups {
			found.add(string(snapshot.Groups[i].ID), snapshot.Groups[i].Title)
		}
	case "unit":
		for i := range snapshot.Units {
			found.add(string(snapshot.Units[i].ID), snapshot.Units[i].Title)
		}
	case "exception":
		for i := range snapshot.Exceptions {
			found.add(string(snapshot.Exceptions[i].ID), "")
		}
	case "person":
		for _, p := range snapshot.People {
			found.add(string(p.ID), p.Name, p.Mail)
		}
	case "device":
		for _, d := range snapshot.Devices {
			found.add(string(d.ID), d.Serial)
		}
	case "setting":
		for i := range snapshot.Settings {
			found.add(string(snapshot.Settings[i].ID), snapshot.Settings[i].Title)
		}
	}
	return found.best(), nil
}

// near collects ids that are like what was typed.
type near struct {
	typed string // in lower case
	ids   []nearID
}

// nearID is an id and how likely it was meant: 0 most.
type nearID struct {
	id   string
	rank int
}

// add looks at one object: its id and the names that it goes by besides.
func (n *near) add(id string, names ...string) {
	lower := strings.ToLower(id)
	var rank int
	switch {
	case lower == n.typed || slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(name, n.typed) }):
		rank = 0
	case strings.HasPrefix(lower, n.typed):
		rank = 1
	case search.Near(lower, n.typed):
		rank = 2
	case len(n.typed) >= 3 && strings.Contains(lower, n.typed):
		rank = 3
	default:
		return
	}
	n.ids = append(n.ids, nearID{id, rank})
}

// best gives the likeliest ids, those of equal likelihood by id.
func (n *near) best() []string {
	slices.SortFunc(n.ids, func(a, b nearID) int { return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.id, b.id)) })
	out := make([]string, min(len(n.ids), nearMost))
	for i := range out {
		out[i] = n.ids[i].id
	}
	return out
}
