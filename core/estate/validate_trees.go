// This file checks the tree of units and the graph of groups: one root, no cycles, no more than the
// greatest depth.
//
// The core follows both without looking for cycles, so that nothing is compiled that has one.
// Faults name the cycle from its lowest place on, object by object, so that somebody sees where to
// cut it.

package estate

import (
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// maxUnitDepth is how many units may be above each other.
const maxUnitDepth = 64

// unitDepth refuses a unit that is too deep in the tree; those below it are not looked at.
func (v *validator) unitDepth(units []Unit) {
	depth := make([]int, len(units)) // 0: not known yet
	// Each unit is followed up to one whose depth is known, and then the depths of the whole chain
	// are set: every unit is visited once.
	var chain []int
	for i := range units {
		chain = chain[:0]
		// A chain longer than the list of units goes in a circle.
		for at := i; depth[at] == 0 && len(chain) <= len(units); {
			chain = append(chain, at)
			parent, there := v.units[string(units[at].Parent)]
			if !there {
				break
			}
			at = parent
		}
		if len(chain) > len(units) {
			return // in a circle, which is said elsewhere
		}
		// From the unit nearest to the root down: the depth of each parent is known when it is
		// needed.
		for k := len(chain) - 1; k >= 0; k-- {
			at := chain[k]
			depth[at] = 1
			if parent, there := v.units[string(units[at].Parent)]; there {
				depth[at] = depth[parent] + 1
			}
			// Only the first unit that is too deep is reported, not all that are below it.
			if depth[at] == maxUnitDepth+1 {
				v.fault(problem.TooMany, problem.Join("", string(KindUnit), at, "parent"),
					fmt.Sprintf("more than %d units above each other", maxUnitDepth),
					fmt.Sprintf("at most %d levels of units", maxUnitDepth))
			}
		}
	}
}

// unitTree checks the units: their parents, one root, no cycle, and no more than the greatest
// depth.
func (v *validator) unitTree(units []Unit) {
	roots := 0
	for i := range units {
		u := &units[i]
		at := problem.Join("", string(KindUnit), i)
		v.detachments(at+"/detach", u.Detach)
		v.known(at+"/parent", "unit", in(v.units), string(u.Parent))
		if u.Parent == "" {
			if roots++; roots > 1 {
				v.fault(problem.ManyRoots, at,
					"unit "+problem.Quote(string(u.ID))+" without a parent",
					"exactly one unit without a parent; there is one already")
			}
		}
	}
	v.unitDepth(units)
	// Each unit has one parent at most, so a cycle is found by following parents.
	cycles := findCycles(len(units), func(i int) []int {
		if p, there := v.units[string(units[i].Parent)]; there {
			return []int{p}
		}
		return nil
	})
	for _, c := range cycles {
		names := make([]string, len(c))
		for i, u := range c {
			names[i] = string(units[u].ID)
		}
		v.fault(problem.Cycle, problem.Join("", string(KindUnit), c[0], "parent"),
			strings.Join(append(names, names[0]), " → "),
			"a tree: no unit below itself")
	}
	if roots == 0 && len(cycles) == 0 {
		v.fault(problem.NoRoot, "/"+string(KindUnit),
			fmt.Sprintf("%d units, none without a parent", len(units)),
			"exactly one unit without a parent: the organisation")
	}
}

// groupGraph checks groups: what they are of, their listed members, their member groups, and that
// no group is its own member. A group of people has people and groups of people alone, and the same
// goes for devices.
func (v *validator) groupGraph(groups []Group) {
	for i := range groups {
		g := &groups[i]
		at := problem.Join("", string(KindGroup), i)
		v.add(setting.OneOf(at+"/of", g.Of, GroupKinds)...)
		// What listed ids must be the ids of.
		members, word := v.people, "person"
		if g.Of == OfDevices {
			members, word = v.devices, "device"
		}
		// Lists of members can be long, so those of groups that were not edited are not looked at
		// again.
		listed := v.groupOf == nil || v.groupOf(g)
		if (g.Of == OfPeople || g.Of == OfDevices) && listed {
			for m, id := range g.Members {
				// An empty reference is a fault in a list, where known would pass it over.
				if id == "" {
					id = `""`
				}
				v.known(problem.Join(at, "members", m), word, members, id)
			}
		}
		if listed {
			v.add(setting.NoRepeats(at+"/members", g.Members)...)
		}
		for m, id := range g.Groups {
			other, there := v.groups[string(id)]
			v.known(problem.Join(at, "groups", m), "group", in(v.groups), string(id))
			// Where one of the two is missing, that is reported by itself.
			if there && groups[other].Of != g.Of && groups[other].Of != "" && g.Of != "" {
				v.fault(problem.OtherKind, problem.Join(at, "groups", m),
					"group "+problem.Quote(string(id))+" of "+string(groups[other].Of),
					"a group of "+string(g.Of))
			}
		}
		v.add(setting.NoRepeats(at+"/groups", g.Groups)...)
		v.detachments(at+"/detach", g.Detach)
	}
	// A group may have many member groups, so cycles are searched in a graph and not in a tree.
	for _, c := range findCycles(len(groups), func(i int) (next []int) {
		for _, id := range groups[i].Groups {
			if g, there := v.groups[string(id)]; there {
				next = append(next, g)
			}
		}
		return next
	}) {
		names := make([]string, len(c))
		for i, g := range c {
			names[i] = string(groups[g].ID)
		}
		v.fault(problem.Cycle, problem.Join("", string(KindGroup), c[0], "groups"),
			strings.Join(append(names, names[0]), " → "),
			"no group that is its own member through others")
	}
}

// findCycles gives each cycle of a graph with n nodes once, from its lowest node on. next lists a
// node's successors. Nodes are visited depth first, each once; path holds the open ones, so that a
// successor which is open closes a cycle.
func findCycles(n int, next func(int) []int) (cycles [][]int) {
	const unseen, open, done = 0, 1, 2
	state := make([]uint8, n)
	var path []int
	var visit func(int)
	visit = func(i int) {
		// open: on the path from the first node to this one. done: all that it leads to was seen.
		state[i] = open
		path = append(path, i)
		for _, j := range next(i) {
			switch state[j] {
			case unseen:
				visit(j)
			case open:
				// Rotated to begin at its lowest node, so that the same cycle is reported in the
				// same way whatever node was visited first.
				cycle := slices.Clone(path[slices.Index(path, j):])
				first := slices.Index(cycle, slices.Min(cycle))
				cycles = append(cycles, append(cycle[first:], cycle[:first]...))
			}
		}
		path = path[:len(path)-1]
		state[i] = done
	}
	for i := range n {
		if state[i] == unseen {
			visit(i)
		}
	}
	return cycles
}
