// This file finds what must be computed again after units moved, or after what places detach
// altered.
//
// A unit that moves may have thousands of laptops below it, and most of what they get stays: only
// policies for units on one of the two paths, and rules that read the path, can differ. Whether a
// rule's answer differs is found by asking it for the path before and after, once for each unit and
// not for each laptop.

package resolve

import (
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/threads"
)

// concern says on which laptops a group or policy may differ after units moved.
type concern uint8

const (
	ofNobody  concern = iota
	ofLaptops         // whose own unit moved
	ofOwners          // and those whose owner's did
)

// movedCodes is a column of which some values alter.
type movedCodes struct {
	*intern.Column
	codes [][2]uint32 // before and after
}

// testConcern tells on which laptops a test may differ after values of laptops and of their owners
// altered. A test reads the unit of the laptop, that of the owner, or none. The concern is the
// widest of what it reads.
func testConcern(t *intern.Test, laptops, owners *movedCodes) (of concern) {
	for _, c := range t.Columns {
		by, whose := laptops, ofLaptops
		if c == owners.Column {
			by, whose = owners, ofOwners
		}
		// A test of one column differs only if it answers differently for a path before and after.
		// With several columns that is not known.
		if c == by.Column &&
			(len(t.Columns) > 1 || slices.ContainsFunc(by.codes,
				func(alters [2]uint32) bool { return t.AnswerOne(alters[0]) != t.AnswerOne(alters[1]) })) {
			of = max(of, whose)
		}
	}
	return of
}

// formulaConcern tells on which laptops a formula may differ; tests has the concern of each test,
// by number.
func formulaConcern(f *intern.Formula, tests []concern) (of concern) {
	f.Each(func(t *intern.Test) {
		// A test that cannot be split may read any path.
		if t.Whole {
			of = ofOwners
		} else if t.Number < len(tests) {
			of = max(of, tests[t.Number])
		}
	})
	return of
}

// testConcerns gives the concern of every test after units moved, by number.
func (k *recomputation) testConcerns() []concern {
	// Only tests that read paths can answer differently. All others have no concern.
	laptops, owners := k.movedPaths("device"), k.movedPaths("person")
	tests, n := k.next.Gen.TestsOf(laptops.Column, owners.Column)
	out := make([]concern, n)
	threads.Share(len(tests), func(mine iter.Seq[int]) {
		for i := range mine {
			out[tests[i].Number] = testConcern(tests[i], laptops, owners)
		}
	})
	return out
}

// findMovedAffected keeps the groups and policies to which a moved unit may matter: their rules
// answer differently for its path, they name a unit that laptops entered or left or that is at
// another depth, or they name such a group. Without this, every group and policy would be computed
// for all laptops of the moved unit. After it, only those are that can differ.
func (k *recomputation) findMovedAffected() {
	p := k.next
	tests := k.testConcerns()
	k.movedGroups, k.movedPolicies = make([]concern, len(p.Groups)), make([]concern, len(p.policies))
	unit := func(t match.Target) bool { return t.Kind == estate.ToUnit && k.shiftedUnits[t.At] }
	for at := range p.policies {
		// A policy is concerned if its condition is, or if it names a unit that laptops entered or
		// left.
		pol := &p.policies[at]
		if k.movedPolicies[at] = formulaConcern(pol.audience.When, tests); k.movedPolicies[at] == ofNobody && pol.audience.Names(unit) {
			k.movedPolicies[at] = ofLaptops
		}
	}
	// Policies at other levels are concerned on all laptops of the unit.
	for _, policies := range k.levels {
		for _, at := range policies {
			k.movedPolicies[at] = max(k.movedPolicies[at], ofLaptops)
		}
	}
	// Groups come after their member groups, so a group is concerned if one of its members is.
	groups, policies := make([]bool, len(p.Groups)), make([]bool, len(p.policies))
	for _, g := range p.GroupOrder {
		k.movedGroups[g] = formulaConcern(p.Groups[g].Formula, tests)
		groups[g] = k.movedGroups[g] != ofNobody || slices.ContainsFunc(p.Groups[g].Nested, func(member int) bool { return groups[member] })
		if groups[g] {
			for _, at := range p.naming()[g] {
				policies[at] = true
			}
		}
	}
	// What is not concerned is not computed at all.
	k.affectedGroups.steady = slices.DeleteFunc(k.affectedGroups.steady, func(g int) bool { return !groups[g] })
	k.affectedPolicies.steady = slices.DeleteFunc(
		k.affectedPolicies.steady,
		func(at int) bool { return !policies[at] && k.movedPolicies[at] == ofNobody },
	)
}

// movedPaths gives how the paths of units that moved alter in the column of laptops or of people.
func (k *recomputation) movedPaths(variable string) *movedCodes {
	out := &movedCodes{Column: k.next.Gen.Column(rule.Look{Variable: variable, Field: "units"})}
	var key []byte
	for _, path := range k.paths {
		var alters [2]uint32
		alters[0], key = out.Code(path.was, key)
		alters[1], key = out.Code(path.is, key)
		out.codes = append(out.codes, alters)
	}
	return out
}

// affectedBy gives the touched laptops on which a group or policy may differ.
func (h *blockUpdater) affectedBy(placed []concern, at int) *bitset.Set {
	// If something else altered besides units, concerns were not found, and all touched laptops
	// count.
	if !h.moved {
		return h.touched
	}
	switch placed[at] {
	case ofOwners:
		return h.touched
	case ofLaptops:
		return h.rehomed
	}
	return decide.Nobody
}

// findRedetached gives the laptops in places that detach other kinds or areas than before. Laptops
// that entered or left a group are found elsewhere.
func (k *recomputation) findRedetached() intern.DeviceSet {
	if len(k.detached) == 0 {
		return nil
	}
	p, out := k.next, make(intern.DeviceSet, k.next.Blocks())
	units := map[int]bool{}
	// Members of a group are taken from the group before and after, since leaving it ends the
	// detachment.
	for _, t := range k.detached {
		if t.Kind == estate.ToUnit {
			units[t.At] = true
			continue
		}
		for block := range out {
			for _, of := range []*Plan{k.was, p} {
				if t.At < len(of.Groups) && block < len(of.Groups[t.At].Rows) {
					of.Groups[t.At].Rows[block].OrInto(&out[block])
				}
			}
		}
	}
	// Laptops below the units are found by the codes of their home units.
	if len(units) > 0 {
		below := p.unitCodes(func(at int) bool {
			return slices.ContainsFunc(p.Units[at].Path, func(above int) bool { return units[above] })
		})
		for block, homes := range p.homes() {
			for row, code := range homes {
				if below[code] {
					out[block].Add(row)
				}
			}
		}
	}
	return out
}

// isRedetached tells whether somebody of a block is among those.
func (k *recomputation) isRedetached(block int) bool {
	return k.redetached != nil && !k.redetached[block].Empty()
}
