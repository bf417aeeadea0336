// This file finds an object of any kind by its id. Workflow and the editor of changes treat objects
// of all kinds alike: they compare, store and lay over what Object gives.

package estate

import "slices"

// Object gives the object of a kind and id, as Validate and edits know it: a Unit, Person, Device,
// Group, Policy, Exception, Ruling, setting.Definition,
// Check, RolloutPlan, ApprovalRule or Baseline. It is nil if there is none.
func (s *Snapshot) Object(kind Kind, id string) any {
	switch kind {
	case KindUnit:
		return objectIn(s.Units, func(u *Unit) bool { return string(u.ID) == id })
	// People and devices are found by an index, all others by going through their lists, which are
	// short.
	case KindPerson:
		if who := s.Person(PersonID(id)); who != nil {
			return *who
		}
	case KindDevice:
		if d := s.Device(DeviceID(id)); d != nil {
			return *d
		}
	case KindGroup:
		return objectIn(s.Groups, func(g *Group) bool { return string(g.ID) == id })
	case KindPolicy:
		return objectIn(s.Policies, func(p *Policy) bool { return string(p.ID) == id })
	case KindException:
		return objectIn(s.Exceptions, func(x *Exception) bool { return string(x.ID) == id })
	case KindRuling:
		return objectIn(s.Rulings, func(r *Ruling) bool { return string(r.ID) == id })
	case KindSetting:
		for i := range s.Settings {
			if string(s.Settings[i].ID) == id {
				return s.Settings[i]
			}
		}
	case KindCheck:
		return objectIn(s.Checks, func(c *Check) bool { return string(c.ID) == id })
	case KindRolloutPlan:
		return objectIn(s.RolloutPlans, func(p *RolloutPlan) bool { return string(p.ID) == id })
	case KindApprovalRule:
		return objectIn(s.ApprovalRules, func(r *ApprovalRule) bool { return string(r.ID) == id })
	case KindBaseline:
		return objectIn(s.Baselines, func(b *Baseline) bool { return string(b.ID) == id })
	}
	return nil
}

// objectIn gives the first object of a list that is the one, nil where none is.
func objectIn[T any](list []T, is func(*T) bool) any {
	at := slices.IndexFunc(list, func(x T) bool { return is(&x) })
	if at < 0 {
		return nil
	}
	return list[at]
}
