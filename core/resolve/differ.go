// This file compares two resolutions of plans that are made of one another: what they share is passed over.

package resolve

import (
	"cmp"
	"encoding/binary"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// Alteration is one way in which a setting alters, with the laptops on which it does.
type Alteration struct {
	Setting  setting.ID
	From, To State
	Devices  Devices
}

// Movement is the laptops that a policy begins or ceases to reach.
type Movement struct {
	Policy          estate.PolicyID
	Gained, Dropped Devices
}

// Difference is what differs between two resolutions. Laptops that are on one side only count as having nothing on the other.
type Difference struct {
	Alterations      []Alteration    // by setting
	ConflictsGained  []ConflictFound // on laptops that did not have the very same conflict
	ConflictsCleared []ConflictFound
	ProblemsGained   []ProblemFound // on laptops on which the check found nothing
	ProblemsCleared  []ProblemFound
	Movements        []Movement // by policy
}

// Differ compares. A resolution of another lineage of plans is made anew in that of before.
func Differ(before, after *Whole) *Difference {
	if before.plan.words != after.plan.words {
		after = before.plan.With(after.plan.snapshot).Estate()
	}
	d := &Difference{}
	if before == after {
		return d
	}
	d.settings(before, after)
	d.problems(before, after)
	d.audiences(before.plan, after.plan)
	return d
}

// turn is how a setting alters, by numbers of outcomes and codes of values; number none: it does not appear.
type turn struct {
	from, to         int32
	fromCode, toCode uint32
}

func (d *Difference) settings(before, after *Whole) {
	var settings []int
	for at := range max(len(before.final), len(after.final)) {
		a, b := partsOf(before.final, at), partsOf(after.final, at)
		if len(a) == 0 && len(b) == 0 || len(a) == len(b) && &a[0] == &b[0] {
			continue
		}
		settings = append(settings, at)
	}
	found := make([]*turns, len(settings))
	var next atomic.Int64
	var wait sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(settings)) {
		wait.Go(func() {
			w := after.plan.worker(after.plan.laptops())
			defer w.done()
			w.load(0, &nobody)
			for {
				i := int(next.Add(1)) - 1
				if i >= len(settings) {
					return
				}
				found[i] = turnsOf(w, before, after, settings[i])
			}
		})
	}
	wait.Wait()
	for i := range settings {
		found[i].tell(d, before, after, settings[i])
	}
	slices.SortFunc(d.Alterations, func(a, b Alteration) int { return cmp.Compare(a.Setting, b.Setting) })
	order := func(a, b ConflictFound) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), slices.Compare(a.Policies, b.Policies))
	}
	slices.SortFunc(d.ConflictsGained, order)
	slices.SortFunc(d.ConflictsCleared, order)
}

// turns is how one setting alters, on which laptops.
type turns struct {
	contest *contest
	states  map[turn][2]State
	rows    *gatherer[turn]
}

func turnsOf(w *worker, before, after *Whole, at int) *turns {
	a, b := partsOf(before.final, at), partsOf(after.final, at)
	c := &contest{}
	for _, p := range []*Plan{before.plan, after.plan} {
		if at < len(p.contests) && p.contests[at].def != nil {
			c = &p.contests[at]
		}
	}
	t := &turns{c, map[turn][2]State{}, gather[turn](after.plan)}
	block := func(list []rowset.Parts, i int) rowset.Parts {
		if i < len(list) {
			return list[i]
		}
		return nil
	}
	for i := range max(len(a), len(b)) {
		x, y := block(a, i), block(b, i)
		if x.Equal(y) {
			continue
		}
		mark := w.mark()
		w.block = i
		differs := w.temp()
		x.Unlike(y, differs)
		w.partCell(c, x, differs, func(o *outcome, v setting.Value, code uint32, rows *rowset.Set) {
			from, was := int32(none), stateOf(o, v)
			if o != nil {
				from = o.number
			}
			w.partCell(c, y, rows, func(o *outcome, v setting.Value, toCode uint32, rows *rowset.Set) {
				is := turn{from, none, code, toCode}
				if o != nil {
					is.to = o.number
				}
				if _, known := t.states[is]; !known {
					t.states[is] = [2]State{was, stateOf(o, v)}
				}
				t.rows.add(is, i, rows)
			})
		})
		w.release(mark)
	}
	return t
}

// tell adds what a setting's turns say.
func (t *turns) tell(d *Difference, before, after *Whole, at int) {
	known := map[string]int{} // by what it alters from and to: its place
	var key []byte
	gained, cleared := map[int32]Devices{}, map[int32]Devices{}
	id := t.contest.def.ID
	for is, states := range t.states {
		rows := t.rows.devices(is)
		rows.was = before.plan
		if is.from != is.to {
			if states[1].Status == Conflict {
				gained[is.to] = gained[is.to].Or(rows)
			}
			if states[0].Status == Conflict {
				cleared[is.from] = cleared[is.from].Or(rows)
			}
		}
		if states[0].Equal(states[1]) {
			continue
		}
		key = key[:0]
		for _, s := range states {
			key = append(append(key, s.Status...), 0)
			identity := s.Value.AppendIdentity(nil)
			key = append(binary.AppendUvarint(key, uint64(len(identity))), identity...)
		}
		if same, is := known[string(key)]; is {
			a := &d.Alterations[same]
			a.Devices = a.Devices.Or(rows)
		} else {
			known[string(key)] = len(d.Alterations)
			d.Alterations = append(d.Alterations, Alteration{id, states[0], states[1], rows})
		}
	}
	conflicts := func(of map[int32]Devices, side *Whole) (out []ConflictFound) {
		for number, devices := range of {
			f := ConflictFound{Setting: id, Policies: t.contest.outcomes.get(number).policies, Devices: devices}
			there := f
			there.Devices = devices.in(side.plan)
			if there.Devices.Len() > 0 {
				f.Values = side.plan.clashing(&there)
			}
			out = append(out, f)
		}
		return out
	}
	d.ConflictsGained = append(d.ConflictsGained, conflicts(gained, after)...)
	d.ConflictsCleared = append(d.ConflictsCleared, conflicts(cleared, before)...)
}

// in gives the same laptops as another plan knows them; those that it does not have are left out.
func (d Devices) in(p *Plan) Devices {
	return d.And(p.All()).On(p)
}

func (d *Difference) problems(before, after *Whole) {
	of := func(w *Whole, id estate.CheckID) ([]rowset.Packed, int) {
		at, known := w.plan.checkAt.at(id)
		if !known {
			return nil, none
		}
		return w.problems[at], at
	}
	ids := map[estate.CheckID]bool{}
	for _, w := range []*Whole{before, after} {
		for _, at := range w.plan.byCheck {
			ids[w.plan.checks[at].ID] = true
		}
	}
	for id := range ids {
		a, atA := of(before, id)
		b, atB := of(after, id)
		if len(a) > 0 && len(a) == len(b) && &a[0] == &b[0] {
			continue
		}
		was, is := Devices{plan: before.plan, blocks: a}, Devices{plan: after.plan, blocks: b}
		if gained := is.Without(was); gained.Len() > 0 {
			d.ProblemsGained = append(d.ProblemsGained, after.problemsOf(atB, gained)...)
		}
		if cleared := was.Without(is); cleared.Len() > 0 {
			d.ProblemsCleared = append(d.ProblemsCleared, before.problemsOf(atA, cleared)...)
		}
	}
	order := func(a, b ProblemFound) int {
		return cmp.Or(cmp.Compare(a.Check, b.Check), slices.Compare(a.From, b.From))
	}
	slices.SortFunc(d.ProblemsGained, order)
	slices.SortFunc(d.ProblemsCleared, order)
}

func (d *Difference) audiences(before, after *Plan) {
	for at := range max(len(before.policies), len(after.policies)) {
		var a, b policy
		if at < len(before.policies) {
			a = before.policies[at]
		}
		if at < len(after.policies) {
			b = after.policies[at]
		}
		if len(a.arms) == len(b.arms) && (len(a.arms) == 0 || &a.arms[0] == &b.arms[0]) {
			continue
		}
		var was, is Devices
		m := Movement{}
		if a.Policy != nil {
			m.Policy, was = a.ID, before.Applies(a.ID)
		}
		if b.Policy != nil {
			m.Policy, is = b.ID, after.Applies(b.ID)
		}
		m.Gained, m.Dropped = is.Without(was), was.Without(is)
		if m.Gained.Len()+m.Dropped.Len() > 0 {
			d.Movements = append(d.Movements, m)
		}
	}
	slices.SortFunc(d.Movements, func(a, b Movement) int { return cmp.Compare(a.Policy, b.Policy) })
}
