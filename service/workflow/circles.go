// This file opens circles of groups: a directory may list a group among its own members, or among the
// members of its members.

package workflow

import (
	"cmp"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/directory"
)

// circlesShown is how many memberships that close a circle a report names.
const circlesShown = 20

// membership is a group that another one has as a member, by their ids.
type membership struct{ of, member string }

// openCircles leaves out the memberships that would close a circle of groups, and counts them in the
// report. Memberships are taken in the order of ids, so that the same directory gives the same result
// in whichever order it lists its entries.
func (c *comparing) openCircles(records []directory.Record) {
	read := map[string]*directory.Record{} // groups of this reading, by id
	var wanted []membership
	for i := range records {
		rec := &records[i]
		id := c.objects[recordKey{rec.Kind, rec.Key}]
		if rec.Kind != estate.KindGroup || id == "" {
			continue
		}
		read[id] = rec
		for _, ref := range rec.Member {
			if member, isGroup := c.objects[recordKey{estate.KindGroup, ref.Key}]; isGroup && ref.Key != "" && member != "" {
				wanted = append(wanted, membership{id, member})
			}
		}
	}
	if len(wanted) == 0 {
		return
	}
	slices.SortFunc(wanted, func(a, b membership) int { return cmp.Or(cmp.Compare(a.of, b.of), cmp.Compare(a.member, b.member)) })
	members := map[string][]string{}
	// Groups that are not in this reading stay as they are.
	snapshot := c.live.Plan.Snapshot()
	for i := range snapshot.Groups {
		if g := &snapshot.Groups[i]; read[string(g.ID)] == nil {
			for _, member := range g.Groups {
				members[string(g.ID)] = append(members[string(g.ID)], string(member))
			}
		}
	}
	closing := map[membership]bool{}
	for _, m := range slices.Compact(wanted) {
		if m.of == m.member || reaches(members, m.member, m.of, map[string]bool{}) {
			closing[m] = true
			if c.out.report.CircleCount++; len(c.out.report.Circles) < circlesShown {
				c.out.report.Circles = append(c.out.report.Circles, fmt.Sprintf("%s in %s", m.member, m.of))
			}
			continue
		}
		members[m.of] = append(members[m.of], m.member)
	}
	for id, rec := range read {
		rec.Member = slices.DeleteFunc(rec.Member, func(ref directory.Ref) bool {
			member, isGroup := c.objects[recordKey{estate.KindGroup, ref.Key}]
			return isGroup && ref.Key != "" && closing[membership{id, member}]
		})
	}
}

// reaches tells whether a group has another one among its members, or among theirs.
func reaches(members map[string][]string, from, to string, seen map[string]bool) bool {
	if from == to {
		return true
	}
	if seen[from] {
		return false
	}
	seen[from] = true
	return slices.ContainsFunc(members[from], func(next string) bool { return reaches(members, next, to, seen) })
}
