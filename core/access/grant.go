// This file adds up what somebody may do. A role is a set of rights; a grant gives a role to
// somebody, for the whole company or for one unit with all below it, and may begin and end. What
// somebody holds is therefore two things: rights that count everywhere, and rights that count for
// some units. Every question here is answered by looking at both.

package access

import (
	"maps"
	"slices"
	"strings"
)

// Grant gives a role to an account, or to the people of a group, for a unit, from a day, until a
// day.
type Grant struct {
	ID      string
	Account string // empty: Group is set
	Group   string // of people, whoever is in it
	Role    string
	Unit    string // for laptops, people and policies of this unit and those below; empty: everywhere
	From    string // the first day, as 2026-11-30; empty: always
	Until   string // the last day; empty: for good
}

// CountsOn tells whether the grant counts on a day, given as 2026-11-30.
func (g Grant) CountsOn(day string) bool {
	return (g.From == "" || g.From <= day) && (g.Until == "" || day <= g.Until)
}

// Held is what somebody may do: everywhere, and besides for some units.
type Held struct {
	Everywhere Rights
	Units      map[string]Rights // by unit: also for what is below it
}

// HeldBy adds up grants that count on a day. Grants of unknown roles give nothing.
func HeldBy(grants []Grant, role func(id string) (Role, bool), day string) Held {
	var h Held
	for _, g := range grants {
		is, known := role(g.Role)
		if !known || !g.CountsOn(day) {
			continue
		}
		if g.Unit == "" {
			h.Everywhere |= is.Rights
			continue
		}
		if h.Units == nil {
			h.Units = map[string]Rights{}
		}
		h.Units[g.Unit] |= is.Rights
	}
	return h
}

// Only gives what is held of some rights alone.
func (h Held) Only(rights Rights) Held {
	out := Held{Everywhere: h.Everywhere & rights}
	for unit, r := range h.Units {
		if out.Units == nil {
			out.Units = map[string]Rights{}
		}
		out.Units[unit] = r & rights
	}
	return out
}

// Anywhere gives the rights that are held everywhere or for some unit.
func (h Held) Anywhere() Rights {
	all := h.Everywhere
	for _, r := range h.Units {
		all |= r
	}
	return all
}

// For tells whether a right is held for something in a unit. path has the units from the
// organisation down to it.
func (h Held) For(r Right, path []string) bool {
	return h.Everywhere.Has(r) || slices.ContainsFunc(path, func(unit string) bool { return h.Units[unit].Has(r) })
}

// UnitsWith lists the units for which a right is held, by id; none if it is held everywhere.
func (h Held) UnitsWith(r Right) []string {
	if h.Everywhere.Has(r) {
		return nil
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(h.Units)), func(unit string) bool { return !h.Units[unit].Has(r) })
}

// OutsideError says that somebody has a right for some units alone, and asked for what concerns
// more.
type OutsideError struct {
	Right Right
	Units []string // for which the right is held
	What  string   // such as policies/usb
}

// Error names what is outside of the scope.
func (e *OutsideError) Error() string {
	return "the right \"" + string(e.Right) + "\" is held for " + strings.Join(e.Units, ", ") + " alone, and " + e.What + " concerns more"
}
