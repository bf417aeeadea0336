// This file proposes ways to settle a clash: each is a set of edits, whose effect is for somebody else to compute.

package review

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// WayKind is a kind of way to settle a clash.
type WayKind string

const (
	PreferIt WayKind = "prefer"    // a ruling lets the policy's value stand against the others
	RaiseIt  WayKind = "raise"     // its priority goes above the others'
	LockIt   WayKind = "lock"      // its entry is locked, so that what is not locked gives way
	LeaveOut WayKind = "leave-out" // the others leave out whom it is aimed at
	DropIt   WayKind = "drop"      // its entry for the setting is taken out
)

// Way is one way to settle a clash, in favour of a policy or, with DropIt, by taking its entry out.
type Way struct {
	Kind   WayKind
	Policy estate.PolicyID
	Edits  []estate.Edit
}

// Ways proposes ways to settle a clash. Rulings have no reason yet.
func Ways(plan *resolve.Plan, c *resolve.ConflictFound) (out []Way) {
	d := plan.Definition(c.Setting)
	if d == nil {
		return nil
	}
	for _, mine := range c.Values {
		p := plan.Policy(mine.Policy)
		if p == nil {
			continue
		}
		var others []resolve.Candidate
		for _, v := range c.Values {
			if v.Policy != mine.Policy && !v.Value.Equal(mine.Value) {
				others = append(others, v)
			}
		}
		add := func(kind WayKind, edits ...estate.Edit) {
			if len(edits) > 0 {
				out = append(out, Way{kind, p.ID, edits})
			}
		}
		if d.Combine == setting.Closest {
			add(PreferIt, rulings(c.Setting, p.ID, others)...)
			add(RaiseIt, raised(p, c.Values)...)
			if e := p.Entry(c.Setting); e != nil && !e.Lock {
				locked := *p
				locked.Entries = slices.Clone(p.Entries)
				locked.Entry(c.Setting).Lock = true
				add(LockIt, policyEdit(locked))
			}
		}
		add(LeaveOut, leftOut(plan, p, others)...)
	}
	for _, v := range c.Values {
		if p := plan.Policy(v.Policy); p != nil {
			without := *p
			without.Entries = slices.DeleteFunc(slices.Clone(p.Entries), func(e estate.Entry) bool { return e.Setting == c.Setting })
			out = append(out, Way{DropIt, p.ID, []estate.Edit{policyEdit(without)}})
		}
	}
	return out
}

func policyEdit(p estate.Policy) estate.Edit {
	return estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p}
}

func rulings(id setting.ID, prefer estate.PolicyID, over []resolve.Candidate) (edits []estate.Edit) {
	for _, v := range over {
		name := string(id) + "." + string(prefer) + "-over-" + string(v.Policy)
		name = name[:min(len(name), 128)]
		edits = append(edits, estate.Edit{Kind: estate.KindRuling, ID: name, Object: estate.Ruling{ID: estate.RulingID(name), Setting: id, Prefer: prefer, Over: v.Policy}})
	}
	return edits
}

// raised puts a policy's priority above those that it clashes with.
func raised(p *estate.Policy, values []resolve.Candidate) []estate.Edit {
	top := p.Priority
	for _, v := range values {
		top = max(top, v.Priority)
	}
	if top >= estate.MaxPriority {
		return nil
	}
	above := *p
	above.Priority = top + 1
	return []estate.Edit{policyEdit(above)}
}

// leftOut lets the others leave out whom a policy is aimed at, where that is less than everyone and nothing that they are aimed at themselves.
func leftOut(plan *resolve.Plan, p *estate.Policy, others []resolve.Candidate) (edits []estate.Edit) {
	if slices.ContainsFunc(p.Audience.Include, func(t estate.Target) bool {
		return t.Kind == estate.ToEveryone || t.Kind == estate.ToUnit && plan.IsRoot(estate.UnitID(t.ID))
	}) {
		return nil
	}
	for _, v := range others {
		other := plan.Policy(v.Policy)
		if other == nil {
			return nil
		}
		narrower := *other
		narrower.Audience.Exclude = slices.Clone(other.Audience.Exclude)
		for _, t := range p.Audience.Include {
			if slices.Contains(other.Audience.Include, t) {
				return nil
			}
			if !slices.Contains(narrower.Audience.Exclude, t) {
				narrower.Audience.Exclude = append(narrower.Audience.Exclude, t)
			}
		}
		edits = append(edits, policyEdit(narrower))
	}
	return edits
}
