// This file resolves one subject with every reason: match, decide, force, check. What it finds is kept in little room.

package resolve

import (
	"cmp"
	"math/bits"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// Reasons is what a resolution says of one subject: what every setting comes out as, and what became of every candidate. Records are
// made of it as they are asked for. It is immutable.
type Reasons struct {
	plan     *Plan
	dev, who int
	settled  []settled // those that appear, by id
	became   []Fate    // of the candidates of all settings
	slots    []int32   // by candidate: the place of its slot in the contest
	items    []int32   // what settings are put together of, by number
	problems []int32   // checks that find something
}

// settled is what one setting comes out as.
type settled struct {
	setting   int32
	outcome   int32 // before any forcing
	forced    int32 // which of the forced values stands instead; none: none does
	first     int32 // candidate
	firstItem int32
	exception int32 // that decided, of the setting's; none: none did
	ruled     bool  // rulings decided
}

// Reasons resolves a device for its owner, or for the person named by who, as Effective does.
func (p *Plan) Reasons(id estate.DeviceID, who estate.PersonID) (*Reasons, error) {
	dev, known := p.deviceAt.at(id)
	if !known {
		return nil, &UnknownError{estate.KindDevice, string(id)}
	}
	signedIn := p.devices.at(dev).owner
	if who != "" {
		if signedIn, known = p.personAt.at(who); !known {
			return nil, &UnknownError{estate.KindPerson, string(who)}
		}
	}
	return p.reasons(dev, signedIn), nil
}

// Len counts the settings that appear.
func (r *Reasons) Len() int { return len(r.settled) }

// Candidates counts the entries that come to the subject.
func (r *Reasons) Candidates() int { return len(r.became) }

// Outcomes gives what every setting that appears comes out as, by id, without candidates and without whom it comes from.
func (r *Reasons) Outcomes(yield func(Setting) bool) {
	for i := range r.settled {
		if !yield(r.outcome(i)) {
			return
		}
	}
}

// Outcome gives one setting as Outcomes does. ok is false where it does not appear.
func (r *Reasons) Outcome(id setting.ID) (s Setting, ok bool) {
	i, found := slices.BinarySearchFunc(r.settled, id, func(s settled, id setting.ID) int {
		return cmp.Compare(r.plan.contests[s.setting].def.ID, id)
	})
	if !found {
		return s, false
	}
	return r.outcome(i), true
}

func (r *Reasons) outcome(i int) Setting {
	d := &r.settled[i]
	c := &r.plan.contests[d.setting]
	is := c.outcomes.get(d.outcome)
	out := Setting{ID: c.def.ID, Status: is.status, Reason: is.reason, How: r.how(i), Value: r.decidedValue(i)}
	if d.forced != none {
		out.Value, out.How = c.forced[d.forced].Value, ByForce
	}
	return out
}

// places gives the slots of a setting's candidates by their places in the contest.
func (r *Reasons) places(i int) []int32 {
	if i+1 < len(r.settled) {
		return r.slots[r.settled[i].first:r.settled[i+1].first]
	}
	return r.slots[r.settled[i].first:]
}

func (r *Reasons) itemsOf(i int) []int32 {
	if i+1 < len(r.settled) {
		return r.items[r.settled[i].firstItem:r.settled[i+1].firstItem]
	}
	return r.items[r.settled[i].firstItem:]
}

// deciding is Reasons while they are found. It is the witness of fates and the stage that expressions see.
type deciding struct {
	*Reasons
	at     []int32 // by setting: its place among those that appear from 1; 0 where it does not
	before bool    // expressions see the values before any forcing

	in        []contestant
	first     int
	how       How
	exception *estate.Exception
}

// how says by what a setting was decided, before any forcing.
func (r *Reasons) how(i int) How {
	d := &r.settled[i]
	switch {
	case d.exception != none:
		return ByException
	case r.plan.contests[d.setting].outcomes.get(d.outcome).status != Set:
		return ""
	case d.ruled:
		return ByRuling
	}
	return How(r.plan.contests[d.setting].combine)
}

func (d *deciding) fate(of *contestant, is Fate, _ *rowset.Set) {
	d.became[d.first+int(of.at)] = is
}

func (d *deciding) fates(of []contestant, is Fate, _ *rowset.Set) {
	for i := range of {
		if of[i].live != &nobody { // there is one laptop, which has the others
			d.became[d.first+int(of[i].at)] = is
		}
	}
}

func (d *deciding) by(how How, x *estate.Exception, _ *rowset.Set) { d.how, d.exception = how, x }

func (p *Plan) reasons(dev, signedIn int) *Reasons {
	user := p.subject(dev, signedIn)
	defer user.done()
	user.find()
	owner := user
	if signedIn != p.devices.at(dev).owner {
		owner = p.subject(dev, p.devices.at(dev).owner)
		defer owner.done()
		owner.find()
	}
	m := p.marks()
	mine := user.marked(m)
	theirs := mine
	if owner != user {
		theirs = owner.marked(m)
	}
	user.ofAt = slices.Grow(user.ofAt[:0], len(p.contests))[:len(p.contests)]
	clear(user.ofAt)
	room := &user.ofReasons
	d := &deciding{Reasons: &Reasons{plan: p, dev: dev, who: signedIn, settled: room.settled[:0], became: room.became[:0], slots: room.slots[:0], items: room.items[:0]}, at: user.ofAt, in: user.in}
	defer func() { user.in = d.in }()
	for i, at := range p.bySetting {
		s, marked := owner, theirs
		if p.contests[at].user {
			s, marked = user, mine
		}
		if first, end := m.first[i], m.first[i+1]; !d.byFirst(s, at, marked, m.order[:end], first) {
			d.in = s.among(&p.contests[at], marked, m.order, first, end, d.in)
			d.decide(s, at)
		}
	}
	*room = Reasons{settled: d.settled, became: d.became, slots: d.slots, items: d.items}
	d.settled, d.became, d.slots, d.items = slices.Clone(d.settled), slices.Clone(d.became), slices.Clone(d.slots), slices.Clone(d.items)
	d.force(owner)
	user.stage = d
	for _, at := range p.byCheck {
		mark := user.worker.mark()
		if is, _ := user.truth(p.checks[at].formula); is.Has(0) {
			d.problems = append(d.problems, int32(at))
		}
		user.release(mark)
	}
	return d.Reasons
}

// one resolves one setting of a device for its owner, before any forcing; nil where it does not appear.
func (p *Plan) one(id estate.DeviceID, of setting.ID) *Setting {
	dev, known := p.deviceAt.at(id)
	at, there := p.settingAt.at(of)
	if !known || !there {
		return nil
	}
	s := p.subject(dev, p.devices.at(dev).owner)
	defer s.done()
	s.findOf(p.contests[at].keys)
	d := &deciding{Reasons: &Reasons{plan: p, dev: dev, who: s.who}, at: make([]int32, len(p.contests))}
	for i, key := range p.contests[at].keys {
		if policy, arm := armOf(key); int(s.arms[policy].at) == arm {
			d.in = append(d.in, s.contestant(&p.contests[at], p.contests[at].slots[i].order, int32(i), len(d.in)))
		}
	}
	s.detach(&p.contests[at], d.in)
	if d.decide(s, at); len(d.settled) == 0 {
		return nil
	}
	out, _ := d.record(0, nil)
	return &out
}

var supported [4]*rowset.Set // nobody lacks anything

// byFirst decides a setting where the first slot that the subject has does: what becomes of the others is known by where they stand. It
// tells whether it did; where more is to be looked at, nothing is decided. The slots are those of order from first on.
func (d *deciding) byFirst(s *subject, at int, marked []uint64, order []order, first int32) bool {
	c := &d.plan.contests[at]
	if s.away || len(c.exceptions) > 0 || c.combine == setting.Merge || c.combine == setting.Common || c.limited && s.lacking(c).by != supported {
		return false
	}
	end := int32(len(order))
	next := following(marked, first, end)
	if next == end {
		return true // nothing comes to the subject
	}
	lead := &order[next]
	within, beyond := c.behind(lead)
	became, slots := d.became, d.slots
	for is := Won; next < end; next = following(marked, next+1, end) {
		if is != beyond {
			switch here := &order[next]; {
			case here.zone != lead.zone:
				is = beyond
			case here.run != lead.run:
				is = within
			case here.outcome != lead.outcome && c.combine == setting.Closest:
				return false // they conflict, or are equal by other names
			}
		}
		became, slots = append(became, is), append(slots, next-first)
	}
	d.settled = append(d.settled, settled{setting: int32(at), outcome: lead.outcome, forced: none, first: int32(len(d.became)), firstItem: int32(len(d.items)), exception: none})
	d.became, d.slots = became, slots
	d.at[at] = int32(len(d.settled))
	return true
}

// decide decides one setting among the contestants, and adds it where it appears.
func (d *deciding) decide(s *subject, at int) {
	c := &d.plan.contests[at]
	if len(d.in) == 0 && len(c.exceptions) == 0 {
		return
	}
	d.first = len(d.became)
	d.became, d.slots = append(d.became, make([]Fate, len(d.in))...), append(d.slots, make([]int32, len(d.in))...)
	for i, slots := 0, d.slots[d.first:]; i < len(slots); i++ {
		slots[i] = d.in[i].place
	}
	d.how, d.exception = "", nil
	s.emitted, s.witness = 0, d
	s.worker.decide(c, d.in, &s.dom)
	s.witness = nil
	if s.emitted == 0 {
		d.became, d.slots = d.became[:d.first], d.slots[:d.first]
		return
	}
	out := settled{setting: int32(at), outcome: none, forced: none, first: int32(d.first), firstItem: int32(len(d.items)), exception: none, ruled: d.how == ByRuling}
	if d.exception != nil {
		out.exception = int32(slices.IndexFunc(c.exceptions, func(x exception) bool { return x.Exception == d.exception }))
	}
	for _, number := range s.numbers[:s.emitted] {
		if isItem(number) {
			d.items = append(d.items, number)
		} else {
			out.outcome = number
		}
	}
	if out.outcome >= noPlatform && out.outcome < firstOutcome { // who lacks it has no candidates
		d.became, d.slots = d.became[:d.first], d.slots[:d.first]
	}
	d.settled = append(d.settled, out)
	d.at[at] = int32(len(d.settled))
}

// decidedValue gives what a setting comes out as before any forcing; nothing where it has no value.
func (r *Reasons) decidedValue(i int) setting.Value {
	d := &r.settled[i]
	c := &r.plan.contests[d.setting]
	if d.outcome != madeOfItems {
		return c.outcomes.get(d.outcome).value
	}
	var values []*setting.Value
	if c.combine == setting.Common {
		for _, number := range r.itemsOf(i) {
			values = append(values, &c.outcomes.get(number).value)
		}
	} else {
		for n, place := range r.places(i) {
			if r.became[int(d.first)+n] == Won {
				values = append(values, &c.brought[place].Value)
			}
		}
	}
	return setting.Union(values)
}

// seen gives the place of a setting as expressions see it; ok is false where it is not set.
func (d *deciding) seen(at int) (i int, ok bool) {
	i = int(d.at[at]) - 1
	return i, i >= 0 && d.plan.contests[at].outcomes.get(d.settled[i].outcome).status == Set
}

// value gives what expressions see.
func (d *deciding) value(i int) setting.Value {
	if s := &d.settled[i]; s.forced != none && !d.before {
		return d.plan.contests[s.setting].forced[s.forced].Value
	}
	return d.decidedValue(i)
}

func (d *deciding) settings(_ *rowset.Set, yield func(int, map[string]any)) {
	all := make(map[string]any, len(d.settled))
	for _, at := range d.plan.bySetting {
		if i, set := d.seen(at); set {
			all[string(d.plan.contests[at].def.ID)] = d.value(i).Any()
		}
	}
	yield(0, all)
}

func (d *deciding) part(at int, within *rowset.Set, yield func(code uint32, rows *rowset.Set)) {
	var code uint32
	if i, set := d.seen(at); set {
		c := &d.plan.contests[at]
		if s := &d.settled[i]; s.outcome != madeOfItems && s.forced == none {
			code = c.outcomes.codeOf(c.outcomes.get(s.outcome))
		} else {
			code, _ = c.outcomes.column.code(d.value(i), nil)
		}
	}
	yield(code, within)
}

// force gives settings their forced values. Every rule sees the values before any forcing.
func (d *deciding) force(owner *subject) {
	owner.stage = d
	d.before = true
	for _, at := range d.plan.forced {
		place, set := d.seen(at)
		if !set {
			continue
		}
		mark := owner.mark()
		for i := range d.plan.contests[at].forced {
			f := &d.plan.contests[at].forced[i]
			if is, _ := owner.truth(f.formula); !is.Has(0) {
				continue
			}
			if !f.Value.Equal(d.value(place)) {
				d.settled[place].forced = int32(i)
			}
			break
		}
		owner.release(mark)
	}
	d.before = false
}

// marks says by policy and arm which slots of all contests are theirs. The slots of all contests are counted in one row, setting by
// setting in the order of ids.
type marks struct {
	first []int32 // by place of the setting in that order: its first slot; in the end how many slots there are
	order []order // by slot
	begin []int32 // by number of the arm: where its slots begin in slots
	slots []int32
}

func (p *Plan) gatherMarks() *marks {
	m := &marks{first: make([]int32, 1, len(p.bySetting)+1)}
	for i, s := range p.bySetting {
		m.first = append(m.first, m.first[i]+int32(len(p.contests[s].keys)))
	}
	m.order = make([]order, 0, m.first[len(p.bySetting)])
	for _, s := range p.bySetting {
		for i := range p.contests[s].slots {
			m.order = append(m.order, p.contests[s].slots[i].order)
		}
	}
	m.begin, m.slots = sideBySide(int(p.firstArm[len(p.policies)]), func(do func(arm, slot int32)) {
		at := int32(0)
		for _, s := range p.bySetting {
			for _, key := range p.contests[s].keys {
				policy, arm := armOf(key)
				do(p.firstArm[policy]+int32(arm), at)
				at++
			}
		}
	})
	return m
}

// sideBySide puts values by key so that those of one key lie side by side, in the order in which they come: each gives them, the same ones
// each time. begin says where those of a key begin; in the end how many there are.
func sideBySide(keys int, each func(do func(key, value int32))) (begin, values []int32) {
	begin = make([]int32, keys+1)
	each(func(key, _ int32) { begin[key+1]++ })
	for i := range keys {
		begin[i+1] += begin[i]
	}
	values = make([]int32, begin[keys])
	next := slices.Clone(begin)
	each(func(key, value int32) {
		values[next[key]] = value
		next[key]++
	})
	return begin, values
}

// marked gives the slots of all contests that a subject has, a bit for each.
func (s *subject) marked(m *marks) []uint64 {
	n := len(m.slots)/64 + 1
	s.ofMarked = slices.Grow(s.ofMarked[:0], n)[:n]
	row, first := s.ofMarked, s.plan.firstArm // plans that share marks number arms alike
	clear(row)
	for at, arm := range s.arms {
		if arm.at == none {
			continue
		}
		of := first[at] + int32(arm.at)
		for _, slot := range m.slots[m.begin[of]:m.begin[of+1]] {
			row[slot>>6] |= 1 << (slot & 63)
		}
	}
	return row
}

// among gives, as contestants, the marked slots of a contest whose slots are those from first to end. They are put where in was.
func (s *subject) among(c *contest, marked []uint64, order []order, first, end int32, in []contestant) []contestant {
	in = slices.Grow(in[:0], int(end-first))[:end-first]
	n := 0
	for at := following(marked, first, end); at < end; at = following(marked, at+1, end) {
		in[n] = s.contestant(c, order[at], at-first, n)
		n++
	}
	in = in[:n]
	s.detach(c, in)
	return in
}

// following gives the first marked slot from one on, end where there is none before it.
func following(marked []uint64, at, end int32) int32 {
	if at >= end {
		return end
	}
	word := marked[at>>6] >> (at & 63) << (at & 63)
	for word == 0 {
		if at = at&^63 + 64; at >= end {
			return end
		}
		word = marked[at>>6]
	}
	return min(at&^63+int32(bits.TrailingZeros64(word)), end)
}
