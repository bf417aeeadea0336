// This file finds which settings must be decided again in a block, and on which rows.
//
// Four things make a setting come out otherwise: another definition, exception or ruling; another
// entry; a policy that begins or ceases to apply; and a laptop that supports other settings or is
// detached from others. Each of them marks rows for the settings that it concerns. A setting
// without marked rows keeps its outcomes.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
)

// redecide marks rows for which a setting must be decided again.
func (h *blockUpdater) redecide(setting int, rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	// The first rows for a setting: it is put on the list.
	if h.masks.Known(setting, h.Epoch) == nil {
		h.redecided = append(h.redecided, setting)
	}
	h.masks.Of(setting, h.Epoch, &h.Arena).Or(rows)
}

// redecideAll marks rows for which every setting must be decided again that has, or had, anything
// to decide. A setting that had an outcome and has no entries any more is decided again as well, so
// that the outcome goes.
func (h *blockUpdater) redecideAll(rows *bitset.Set) {
	if rows == nil || rows.Empty() {
		return
	}
	for _, at := range h.next.bySetting {
		if c := &h.next.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 || h.after.final[at] != nil {
			h.redecide(at, rows)
		}
	}
}

// findRedecided finds which settings must be decided again, and on which rows.
func (h *blockUpdater) findRedecided() {
	p := h.next
	if h.full {
		for _, at := range p.bySetting {
			// Settings without entries and exceptions do not appear anywhere.
			if c := &p.settings[at]; len(c.Ranked) > 0 || len(c.Exceptions) > 0 {
				h.redecide(at, h.wide)
			}
		}
		return
	}
	mark := h.Mark()
	defer h.Release(mark)
	rows := h.Temp()
	// Entries that altered: decided on the laptops of their policies, before and after.
	for at, policies := range h.edited {
		h.reachedBy(policies, rows)
		h.redecide(at, rows)
	}
	// Settings that altered themselves: decided on all laptops.
	for at := range h.settings {
		h.redecide(at, h.wide)
	}
	// Touched laptops. What their groups and audiences altered is marked already; here is what else
	// depends on the laptop.
	if !h.touched.Empty() {
		// Levels that moved with a unit.
		for at, policies := range h.levels {
			h.hadBefore(policies, rows)
			rows.And(h.touched)
			h.redecide(at, rows)
		}
		// Support depends on platform, version and edition, and on facts where a definition says
		// so.
		systems := h.Temp()
		h.systems[h.Block].Into(systems)
		for _, at := range h.limitedSettings {
			if len(p.settings[at].support.Needs) > 0 { // its condition may read any fact
				h.redecide(at, h.touched)
			} else {
				h.redecide(at, systems)
			}
		}
		// Laptops that left lose all outcomes.
		gone := h.Temp()
		if gone.SetAndNot(h.touched, h.alive) {
			h.redecideAll(gone)
		}
		if h.anyDetached {
			h.redecideAll(h.touched)
		}
	}
	// Exceptions for a group follow its members. A touched laptop can be named by an exception, or
	// be in a unit that is.
	for _, at := range p.excepted {
		h.redecide(at, h.touched)
		for i := range p.settings[at].exempt {
			if t := &p.settings[at].exempt[i]; t.Kind == estate.ToGroup {
				h.redecide(at, h.groupsAltered.Known(t.At, h.Epoch))
			}
		}
	}
	// Whoever enters or leaves a group that detaches something inherits differently.
	for _, of := range []*Plan{h.was, p} {
		for _, g := range of.DetachingGroups {
			h.redecideAll(h.groupsAltered.Known(g, h.Epoch))
		}
	}
	// Whoever is in a place that detaches other things than before, too.
	if h.recomputation.redetached != nil {
		apart := h.Temp()
		apart.SetAnd(&h.recomputation.redetached[h.Block], h.alive)
		h.redecideAll(apart)
	}
}

// reachedBy gives the laptops that some policies reach, before or after.
func (h *blockUpdater) reachedBy(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, pol := range policies {
		for _, of := range []*Plan{h.was, h.next} {
			// A policy can be missing in one of the two plans.
			if pol < len(of.policies) && of.policies[pol].Policy != nil {
				for levelAt, packed := range of.policies[pol].matches {
					if of == h.next {
						// Matches of this block are not in the plan yet; the worker has them.
						if a := h.match(pol, levelAt); a.all != nil {
							rows.Or(a.all)
						}
					} else if h.Block < len(packed) {
						packed[h.Block].OrInto(rows)
					}
				}
			}
		}
	}
}

// hadBefore gives the laptops that had some policies at levels that these policies no longer have.
// Laptops at other levels are known.
func (h *blockUpdater) hadBefore(policies []int, rows *bitset.Set) {
	rows.Clear()
	for _, at := range policies {
		for levelAt, level := range h.was.policies[at].audience.Levels {
			if !slices.Contains(h.next.policies[at].audience.Levels, level) && h.Block < len(h.was.Alive) {
				h.was.policies[at].matches[levelAt][h.Block].OrInto(rows)
			}
		}
	}
}
