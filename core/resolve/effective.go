// This file resolves one subject with every reason: match, decide, force, check.

package resolve

import (
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// UnknownError says that a device or person is not in the estate.
type UnknownError struct {
	Kind estate.Kind
	ID   string
}

func (e *UnknownError) Error() string {
	return fmt.Sprintf("%q is not among the estate's %s", e.ID, e.Kind)
}

// Effective resolves a device for its owner, or for the person named by who when that is not empty.
// Device-side settings are always those of the owner. The error is an *UnknownError.
func (p *Plan) Effective(id estate.DeviceID, who estate.PersonID) (*Result, error) {
	dev, known := p.deviceAt.at(id)
	if !known {
		return nil, &UnknownError{estate.KindDevice, string(id)}
	}
	signedIn := p.devices[dev].owner
	if who != "" {
		if signedIn, known = p.personAt.at(who); !known {
			return nil, &UnknownError{estate.KindPerson, string(who)}
		}
	}
	return p.effective(dev, signedIn), nil
}

// All resolves every device for its owner with every reason, by id. It is far slower than Estate.
func (w *Whole) All(yield func(*Result) bool) {
	for i := range w.Len() {
		if !yield(w.Result(i)) {
			return
		}
	}
}

// Result resolves the device at a place in the order of ids, for its owner, with every reason.
func (w *Whole) Result(i int) *Result {
	at := w.plan.byDevice[i]
	return w.plan.effective(int(at), w.plan.devices[at].owner)
}

// alone is the settings of one subject while they are decided. It is the stage that expressions see, and the witness of fates.
type alone struct {
	p        *Plan
	settings []Setting
	at       []int32 // by setting: its place in settings from 1; 0 where it does not appear
	forced   map[int]Setting
	before   bool // expressions see the values before any forcing

	in    []contestant
	fates []Fate
	how   How
	x     *estate.Exception
}

func (p *Plan) effective(dev, signedIn int) *Result {
	d := &p.devices[dev]
	out := &Result{Device: d.ID, Unit: p.units[d.home].ID}
	if signedIn != none {
		out.Person = p.people[signedIn].ID
	}
	user := p.subject(dev, signedIn)
	defer user.done()
	out.NotApplying = user.applied(true)
	owner := user
	if signedIn != d.owner {
		owner = p.subject(dev, d.owner)
		defer owner.done()
		owner.applied(false)
	}
	a := p.decideAlone(user, owner)
	a.force(owner)
	out.Settings = a.settings
	user.stage = onStage{a}
	for _, at := range p.byCheck {
		c := &p.checks[at]
		mark := user.mark()
		if is, _ := user.truth(c.formula); is.Has(0) {
			out.Problems = append(out.Problems, foundBy(c.Check, out))
		}
		user.release(mark)
	}
	return out
}

// one resolves one setting of a device for its owner, before any forcing; nil where it does not appear.
func (p *Plan) one(id estate.DeviceID, of setting.ID) *Setting {
	dev, known := p.deviceAt.at(id)
	at, there := p.settingAt.at(of)
	if !known || !there {
		return nil
	}
	s := p.subject(dev, p.devices[dev].owner)
	defer s.done()
	s.applied(false)
	a := &alone{p: p, at: make([]int32, len(p.contests))}
	candidates := make([]Candidate, 0, 16)
	a.decide(s, at, &candidates)
	if len(a.settings) == 0 {
		return nil
	}
	return &a.settings[0]
}

// decideAlone decides every setting that appears. Device-side settings are the owner's, user-side ones the user's.
func (p *Plan) decideAlone(user, owner *subject) *alone {
	a := &alone{p: p, at: make([]int32, len(p.contests)), forced: map[int]Setting{}}
	count := 0
	for at := range user.arms {
		if user.arms[at].at != none || owner.arms[at].at != none {
			count += len(p.policies[at].entries)
		}
	}
	candidates := make([]Candidate, 0, count)
	a.settings = make([]Setting, 0, min(count+len(p.excepted), len(p.contests)))
	for _, at := range p.bySetting {
		s := owner
		if p.contests[at].user {
			s = user
		}
		a.decide(s, at, &candidates)
	}
	return a
}

// decide decides one setting, and adds it where it appears.
func (a *alone) decide(s *subject, at int, candidates *[]Candidate) {
	c := &a.p.contests[at]
	a.in = s.contestants(c)
	if len(a.in) == 0 && len(c.exceptions) == 0 {
		return
	}
	a.fates = append(a.fates[:0], make([]Fate, len(a.in))...)
	a.how, a.x = "", nil
	s.emitted, s.witness = 0, a
	s.worker.decide(c, a.in, &s.dom)
	s.witness = nil
	if s.emitted == 0 {
		return
	}
	is := c.outcomes.get(s.numbers[0])
	for i := 1; is.item; i++ {
		is = c.outcomes.get(s.numbers[i])
	}
	if is.status == Unsupported {
		a.settings = append(a.settings, Setting{ID: c.def.ID, Status: Unsupported, Reason: is.reason})
		a.at[at] = int32(len(a.settings))
		return
	}
	first := len(*candidates)
	for i := range a.in {
		slot, brought := a.in[i].slot, &c.brought[a.in[i].place]
		pol := &a.p.policies[slot.policy]
		at := len(*candidates)
		*candidates = append(*candidates, Candidate{Policy: pol.ID, Level: slot.level, Priority: pol.Priority, Value: brought.Value, Locked: slot.lock, Fate: a.fates[i]})
		for ; at > first && (*candidates)[at].Policy < (*candidates)[at-1].Policy; at-- { // few, and often in order
			(*candidates)[at], (*candidates)[at-1] = (*candidates)[at-1], (*candidates)[at]
		}
	}
	mine := (*candidates)[first:len(*candidates):len(*candidates)]
	out := Setting{ID: c.def.ID, Status: is.status, Value: is.value, How: a.how, Candidates: mine}
	if a.x != nil {
		out.From = []string{string(a.x.ID)}
	} else {
		var values []setting.Value
		for i := range mine {
			if mine[i].Fate == Won || mine[i].Fate == Clashing {
				out.From = append(out.From, string(mine[i].Policy))
				if is.number == madeOfItems && c.combine == setting.Merge {
					values = append(values, mine[i].Value)
				}
			}
		}
		if is.number == madeOfItems && c.combine == setting.Common {
			for _, number := range s.numbers[:s.emitted] {
				if o := c.outcomes.get(number); o.item {
					values = append(values, o.value)
				}
			}
		}
		if is.number == madeOfItems {
			out.Value = setting.Union(values)
		}
	}
	if is.status == Set && out.Value.IsNothing() {
		out.Value = is.value
	}
	a.settings = append(a.settings, out)
	a.at[at] = int32(len(a.settings))
}

func (a *alone) fate(of *contestant, is Fate, _ *rowset.Set) { a.fates[of.at] = is }

func (a *alone) by(how How, x *estate.Exception, _ *rowset.Set) { a.how, a.x = how, x }

// onStage is the settings of one subject as expressions see them.
type onStage struct{ *alone }

func (a onStage) settings(of *rowset.Set, yield func(int, map[string]any)) {
	yield(0, a.settingsSeen())
}

func (a onStage) part(at int, within *rowset.Set, yield func(code uint32, rows *rowset.Set)) {
	var code uint32
	if s := a.seen(at); s != nil {
		code, _ = a.p.contests[at].outcomes.column.code(s.Value, nil)
	}
	yield(code, within)
}

// seen gives a setting as expressions see it; nil where it is not set.
func (a *alone) seen(at int) *Setting {
	if a.at[at] == 0 {
		return nil
	}
	s := &a.settings[a.at[at]-1]
	if was, forced := a.forced[at]; forced && a.before {
		s = &was
	}
	if s.Status != Set {
		return nil
	}
	return s
}

func (a *alone) settingsSeen() map[string]any {
	out := make(map[string]any, len(a.settings))
	for _, at := range a.p.bySetting {
		if s := a.seen(at); s != nil {
			out[string(s.ID)] = s.Value.Any()
		}
	}
	return out
}

// force gives settings their forced values. Every rule sees the values before any forcing.
func (a *alone) force(owner *subject) {
	owner.stage = onStage{a}
	a.before = true
	for _, at := range a.p.forced {
		s := a.seen(at)
		if s == nil {
			continue
		}
		mark := owner.mark()
		for _, f := range a.p.contests[at].forced {
			if is, _ := owner.truth(f.formula); !is.Has(0) {
				continue
			}
			if !f.Value.Equal(s.Value) {
				a.forced[at] = *s
				s.Replaced = &Replaced{Value: s.Value, How: s.How, From: s.From}
				s.Value, s.How, s.From = f.Value, ByForce, nil
			}
			break
		}
		owner.release(mark)
	}
	a.before = false
}

func foundBy(check *estate.Check, r *Result) Problem {
	found := Problem{Check: check.ID, Message: check.Message, Settings: slices.Sorted(slices.Values(check.Settings))}
	for _, id := range found.Settings {
		if s := r.Setting(id); s != nil {
			found.From = append(found.From, s.From...)
		}
	}
	slices.Sort(found.From)
	found.From = slices.Compact(found.From)
	return found
}
