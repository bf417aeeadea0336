// This file resolves one subject with every reason: match, decide, force, check. Results are stored
// compactly.
//
// It is no second algorithm. The subject is a set with one row, given to the same matcher and the
// same decider as the blocks of the estate, with an observer that records the fate of each
// candidate. Most settings of a laptop are decided by their first candidate, which byLead finds
// without building sets. Results are kept as numbers in four lists, and become records
// (effective.go) when somebody asks.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Reasons is the resolution of one subject: the outcome of every setting, and the fate of every
// candidate. It is stored compactly; records are made when they are asked for. It is immutable.
type Reasons struct {
	plan     *Plan
	dev, who int
	settled  []settingOutcome // those that appear, by id
	became   []outcome.Fate   // of the candidates of all settings
	ranks    []int32          // by candidate: its rank in the setting's index
	items    []int32          // what settings are put together of, by number
	problems []int32          // checks that find something
}

// settingOutcome is the outcome of one setting.
type settingOutcome struct {
	setting   int32
	outcome   int32 // before any forcing
	forced    int32 // which of the forced values replaces it; none: no forced value does
	first     int32 // candidate
	firstItem int32
	exception int32 // that decided, of the setting's; none: none did
	ruled     bool  // rulings decided
}

// Reasons resolves a device for its owner, or for the person named by who, as Effective does.
func (p *Plan) Reasons(id estate.DeviceID, who estate.PersonID) (*Reasons, error) {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return nil, &UnknownError{estate.KindDevice, string(id)}
	}
	// For another person than the owner, settings of the device's side stay those of the owner.
	signedIn := p.Devices.At(dev).OwnerAt
	if who != "" {
		if signedIn, known = p.PersonAt.Number(who); !known {
			return nil, &UnknownError{estate.KindPerson, string(who)}
		}
	}
	return p.reasons(dev, signedIn), nil
}

// Len counts the settings that appear.
func (r *Reasons) Len() int { return len(r.settled) }

// Candidates counts the entries that apply to the subject.
func (r *Reasons) Candidates() int { return len(r.became) }

// Outcomes gives the outcome of every setting that appears, by id, without candidates and without
// the policies that it comes from.
func (r *Reasons) Outcomes(yield func(outcome.Setting) bool) {
	for i := range r.settled {
		if !yield(r.outcome(i)) {
			return
		}
	}
}

// Outcome gives one setting as Outcomes does. ok is false where it does not appear.
func (r *Reasons) Outcome(id setting.ID) (s outcome.Setting, ok bool) {
	i, found := r.place(id)
	if !found {
		return s, false
	}
	return r.outcome(i), true
}

// DecidedBy gives the ids of the policies that decided a setting, sorted, or of the exception that
// did. It is empty where the setting does not appear.
func (r *Reasons) DecidedBy(id setting.ID) []string {
	i, found := r.place(id)
	if !found {
		return nil
	}
	s, _ := r.record(i, nil)
	return s.From
}

// place gives the place of a setting among those that appear, which are in the order of ids.
func (r *Reasons) place(id setting.ID) (i int, found bool) {
	return slices.BinarySearchFunc(r.settled, id, func(s settingOutcome, id setting.ID) int {
		return cmp.Compare(r.plan.settings[s.setting].Def.ID, id)
	})
}

// outcome gives the setting at a place without candidates and origin.
func (r *Reasons) outcome(i int) outcome.Setting {
	d := &r.settled[i]
	c := &r.plan.settings[d.setting]
	is := c.Outcomes.Of(d.outcome)
	out := outcome.Setting{ID: c.Def.ID, Status: is.Status, Reason: is.Reason, How: r.how(i), Value: r.decidedValue(i)}
	if d.forced != intern.None {
		out.Value, out.How = c.forced[d.forced].Value, outcome.ByForce
	}
	return out
}

// ranksOf gives the ranks of a setting's candidates in its index. The candidates of a setting end
// where those of the next one begin.
func (r *Reasons) ranksOf(i int) []int32 {
	if i+1 < len(r.settled) {
		return r.ranks[r.settled[i].first:r.settled[i+1].first]
	}
	return r.ranks[r.settled[i].first:]
}

// itemsOf gives the numbers of the items of a merged value, as ranksOf gives ranks.
func (r *Reasons) itemsOf(i int) []int32 {
	if i+1 < len(r.settled) {
		return r.items[r.settled[i].firstItem:r.settled[i+1].firstItem]
	}
	return r.items[r.settled[i].firstItem:]
}

// explanation computes Reasons. It is the Observer that records fates while settings are decided,
// and it gives values of settings to the expressions of forced values and checks.
type explanation struct {
	*Reasons
	at     []int32 // by setting: its place among those that appear from 1; 0 where it does not
	before bool    // expressions see the values before any forcing

	// The setting that is being decided: its candidates, where their fates begin in became, and
	// what was observed.
	in        []decide.Candidate
	first     int
	how       outcome.How
	exception *estate.Exception
}

// how says by what a setting was decided, before any forcing.
func (r *Reasons) how(i int) outcome.How {
	d := &r.settled[i]
	switch {
	case d.exception != intern.None:
		// An exception decides before every rule; a forced value is told apart from this.
		return outcome.ByException
	case r.plan.settings[d.setting].Outcomes.Of(d.outcome).Status != outcome.Set:
		return ""
	case d.ruled:
		return outcome.ByRuling
	}
	return outcome.ByRule(r.plan.settings[d.setting].Rule())
}

// Fate records what became of a candidate. The rows are not looked at: there is one.
func (d *explanation) Fate(of *decide.Candidate, is outcome.Fate, _ *bitset.Set) {
	d.became[d.first+int(of.At)] = is
}

// Fates records the same fate of several candidates.
func (d *explanation) Fates(of []decide.Candidate, is outcome.Fate, _ *bitset.Set) {
	for i := range of {
		if of[i].Live != decide.Nobody { // there is one laptop, which has the others
			d.became[d.first+int(of[i].At)] = is
		}
	}
}

// By records by what the setting was decided.
func (d *explanation) By(how outcome.How, x *estate.Exception, _ *bitset.Set) {
	d.how, d.exception = how, x
}

// reasons resolves one laptop for whoever signs in. Settings of the user's side are decided for
// that person; all others for the laptop's owner, since they hold whoever signs in. If both are the
// same person, one subject serves both.
func (p *Plan) reasons(dev, signedIn int) *Reasons {
	user := p.subject(dev, signedIn)
	defer user.done()
	// Both subjects are one laptop, with another person each.
	user.findPolicies()
	owner := user
	if signedIn != p.Devices.At(dev).OwnerAt {
		owner = p.subject(dev, p.Devices.At(dev).OwnerAt)
		defer owner.done()
		owner.findPolicies()
	}
	// The entries that a subject has are found at once for all settings: as bits, in the order in
	// which settings and their entries are decided.
	m := p.ranked()
	mine := user.marked(m)
	theirs := mine
	if owner != user {
		theirs = owner.marked(m)
	}
	// at finds the place of a setting among those that appear. The buffer is used again for each
	// laptop, so it is cleared.
	user.scratchAt = slices.Grow(user.scratchAt[:0], len(p.settings))[:len(p.settings)]
	clear(user.scratchAt)
	scratch := &user.scratchReasons
	d := &explanation{
		Reasons: &Reasons{
			plan:    p,
			dev:     dev,
			who:     signedIn,
			settled: scratch.settled[:0],
			became:  scratch.became[:0],
			ranks:   scratch.ranks[:0],
			items:   scratch.items[:0],
		},
		at: user.scratchAt,
		in: user.in,
	}
	defer func() { user.in = d.in }()
	for i, at := range p.bySetting {
		// Most settings are decided by their first candidate. Only the others are decided in full.
		s, marked := owner, theirs
		if p.settings[at].user {
			s, marked = user, mine
		}
		if first, end := m.first[i], m.first[i+1]; !d.byLead(s, at, marked, m.order[:end], first) {
			d.in = s.among(&p.settings[at], marked, m.order, first, end, d.in)
			d.decide(s, at)
		}
	}
	// The buffers stay with the worker; the result gets lists of exactly its size.
	*scratch = Reasons{settled: d.settled, became: d.became, ranks: d.ranks, items: d.items}
	d.settled, d.became, d.ranks, d.items = slices.Clone(d.settled), slices.Clone(d.became), slices.Clone(d.ranks), slices.Clone(d.items)
	// Forced values and checks read settings of both sides; facts that they read are the laptop's
	// and its owner's for forced values, and of the person who signs in for checks.
	d.force(owner)
	user.Stage = d
	for _, at := range p.byCheck {
		mark := user.worker.Mark()
		// A check over one subject: row 0 is the subject.
		if is, _ := user.Truth(p.checks[at].formula); is.Has(0) {
			d.problems = append(d.problems, int32(at))
		}
		user.Release(mark)
	}
	return d.Reasons
}

// explainOne resolves one setting of a device for its owner, before any forcing; nil where it does
// not appear.
func (p *Plan) explainOne(id estate.DeviceID, of setting.ID) *outcome.Setting {
	dev, known := p.DeviceAt.Number(id)
	at, there := p.settingAt.Number(of)
	if !known || !there {
		return nil
	}
	s := p.subject(dev, p.Devices.At(dev).OwnerAt)
	defer s.done()
	// Only the policies that have an entry for the setting are matched.
	s.findPoliciesOf(p.settings[at].Keys)
	d := &explanation{Reasons: &Reasons{plan: p, dev: dev, who: s.who}, at: make([]int32, len(p.settings))}
	// The candidates are those entries of the setting whose policy applies to the subject at the
	// level of the entry.
	for i, key := range p.settings[at].Keys {
		if policy, levelAt := decide.Unkey(key); int(s.applied[policy].levelAt) == levelAt {
			d.in = append(d.in, s.candidate(&p.settings[at], p.settings[at].Ranked[i].Order, int32(i), len(d.in)))
		}
	}
	s.detach(&p.settings[at], d.in)
	if d.decide(s, at); len(d.settled) == 0 {
		return nil
	}
	out, _ := d.record(0, nil)
	return &out
}

// supported is what lacking gives where the laptop supports the setting.
var supported [intern.Lacks]*bitset.Set // nobody lacks anything

// byLead decides a setting by the subject's first candidate alone, if that is enough, and tells
// whether it was. Otherwise nothing is decided. The subject's candidates are those of marked from
// first on to the end of order.
func (d *explanation) byLead(s *subject, at int, marked decide.Marked, order []decide.Order, first int32) bool {
	c := &d.plan.settings[at]
	// What detaching, exceptions or support take away must be looked at candidate by candidate.
	if s.detaching || len(c.Exceptions) > 0 || c.limited && s.lacking(c).By != supported {
		return false
	}
	// DecideByLead appends the fate and the rank of every candidate where the first one decides
	// alone. Where it does not, both lists stay as they are.
	number, became, ranks, ok := c.DecideByLead(marked, order, first, d.became, d.ranks)
	// No candidate: the setting does not appear.
	if !ok || len(became) == len(d.became) {
		return ok
	}
	d.settled = append(d.settled, settingOutcome{
		setting:   int32(at),
		outcome:   number,
		forced:    intern.None,
		first:     int32(len(d.became)),
		firstItem: int32(len(d.items)),
		exception: intern.None,
	})
	d.became, d.ranks = became, ranks
	d.at[at] = int32(len(d.settled))
	return true
}

// decide decides one setting among the candidates, and adds it where it appears.
func (d *explanation) decide(s *subject, at int) {
	c := &d.plan.settings[at]
	// Without candidates only an exception can set it.
	if len(d.in) == 0 && len(c.Exceptions) == 0 {
		return
	}
	d.first = len(d.became)
	d.became, d.ranks = append(d.became, make([]outcome.Fate, len(d.in))...), append(d.ranks, make([]int32, len(d.in))...)
	for i, ranks := 0, d.ranks[d.first:]; i < len(ranks); i++ {
		ranks[i] = d.in[i].Rank
	}
	d.how, d.exception = "", nil
	s.Out.Reset()
	s.Observer = d
	s.worker.decide(c, d.in, &s.Dom)
	s.Observer = nil
	// Nothing came out: the setting does not appear, and its candidates are taken back.
	if s.Out.Len() == 0 {
		d.became, d.ranks = d.became[:d.first], d.ranks[:d.first]
		return
	}
	out := settingOutcome{
		setting:   int32(at),
		outcome:   intern.None,
		forced:    intern.None,
		first:     int32(d.first),
		firstItem: int32(len(d.items)),
		exception: intern.None,
		ruled:     d.how == outcome.ByRuling,
	}
	if d.exception != nil {
		out.exception = int32(slices.IndexFunc(c.Exceptions, func(x decide.Exception) bool { return x.Exception == d.exception }))
	}
	// The outcome is one number, and the items of a merged value are others.
	numbers, _ := s.Out.Lists()
	for _, number := range numbers {
		if intern.IsItem(number) {
			d.items = append(d.items, number)
		} else {
			out.outcome = number
		}
	}
	if out.outcome >= intern.LackPlatform && out.outcome < intern.FirstOutcome { // who lacks it has no candidates
		d.became, d.ranks = d.became[:d.first], d.ranks[:d.first]
	}
	d.settled = append(d.settled, out)
	d.at[at] = int32(len(d.settled))
}

// decidedValue gives the value of a setting before any forcing, nothing if it has none.
func (r *Reasons) decidedValue(i int) setting.Value {
	d := &r.settled[i]
	c := &r.plan.settings[d.setting]
	if d.outcome != intern.FromItems {
		return c.Outcomes.Of(d.outcome).Value
	}
	var values []*setting.Value
	// Items are put together in the order of their numbers; Union sorts them.
	for _, number := range r.itemsOf(i) {
		values = append(values, &c.Outcomes.Of(number).Value)
	}
	return setting.Union(values)
}

// seen gives the index of a setting for expressions. ok is false if it is not set. Conditions see
// only settings that are set: a conflict has no value.
func (d *explanation) seen(at int) (i int, ok bool) {
	i = int(d.at[at]) - 1
	return i, i >= 0 && d.plan.settings[at].Outcomes.Of(d.settled[i].outcome).Status == outcome.Set
}

// seenAt is seen for a setting that the dictionary may not have.
func (d *explanation) seenAt(at int, known bool) (i int, ok bool) {
	if !known {
		return 0, false
	}
	return d.seen(at)
}

// value gives the value of a setting for expressions. While values are forced, conditions read what
// was decided, whatever was forced before.
func (d *explanation) value(i int) setting.Value {
	if s := &d.settled[i]; s.forced != intern.None && !d.before {
		return d.plan.settings[s.setting].forced[s.forced].Value
	}
	return d.decidedValue(i)
}

// Settings gives all settings that are set, for expressions that read more than named ones.
func (d *explanation) Settings(_ *bitset.Set, yield func(int, map[string]any)) {
	all := make(map[string]any, len(d.settled))
	for _, at := range d.plan.bySetting {
		if i, set := d.seen(at); set {
			all[string(d.plan.settings[at].Def.ID)] = d.value(i).Any()
		}
	}
	yield(0, all)
}

// Part gives the code of a setting's value, for expressions that read that setting. 0 is the code
// of a setting that is not set.
func (d *explanation) Part(id string, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	var code uint32
	at, known := d.plan.settingAt.Number(setting.ID(id))
	if i, set := d.seenAt(at, known); set {
		c := &d.plan.settings[at]
		// A value that is numbered has its code already. A merged or forced value is looked up.
		if s := &d.settled[i]; s.outcome != intern.FromItems && s.forced == intern.None {
			code = c.Outcomes.CodeOf(c.Outcomes.Of(s.outcome))
		} else {
			code, _ = c.Outcomes.Column.Code(d.value(i), nil)
		}
	}
	yield(code, within)
}

// force applies forced values. Each condition reads the values before any forcing.
func (d *explanation) force(owner *subject) {
	owner.Stage = d
	d.before = true
	// The first condition that is true decides, even if the setting has that value already.
	for _, at := range d.plan.forced {
		place, set := d.seen(at)
		if !set {
			continue
		}
		mark := owner.Mark()
		for i := range d.plan.settings[at].forced {
			f := &d.plan.settings[at].forced[i]
			if is, _ := owner.Truth(f.formula); !is.Has(0) {
				continue
			}
			if !f.Value.Equal(d.value(place)) {
				d.settled[place].forced = int32(i)
			}
			break
		}
		owner.Release(mark)
	}
	d.before = false
}
