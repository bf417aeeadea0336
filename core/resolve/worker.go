// This file has what works on one block of rows: sets that are used again and again, what rules come to, and whom targets name.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/decide"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// roll is subjects by row: laptops with their owners, people by themselves, or whatever pairs are asked about.
type roll struct {
	laptops bool                  // row and device number are the same
	device  intern.CowList[int32] // by row; nil: no devices
	person  intern.CowList[int32] // by row; nil: no people
	alive   []bitset.Packed       // by block: rows that stand for somebody
	groups  [][]bitset.Packed     // by group, by block
}

// laptops is the roll of every laptop with its owner.
func (p *Plan) laptops() *roll { return &roll{laptops: true, person: p.owner, alive: p.alive} }

// worker answers questions about the rows of one block at a time. It is for one thread.
type worker struct {
	plan   *Plan
	roll   *roll
	block  int
	device []int32 // by row of the block; nil: the row's own number
	person []int32 // by row of the block; nil: nobody
	dom    bitset.Set
	few    []int       // the rows of dom, where there are no more than fewRows
	arming *bitset.Set // the rows for which arms are loaded; nil: dom

	bitset.Arena
	decide.Decider

	epoch   int32 // of the block: what was made in another is no longer good
	within  int32 // of dom: what was made for other rows is no longer good
	indexes []index
	answers []answer
	groups  []madeSet
	units   []madeSet
	unitsAt int32
	arms    []armSets // by number of the arm
	coming  []coming  // room for takeArms
	lacks   []lackingSets

	stage stage       // the settings that expressions see
	scope *bitset.Set // the rows on which tests of settings are tried; nil: dom

	in     []decide.Candidate // room for candidates
	exempt []*bitset.Set      // room for decide
	where  []int32

	passRoom

	ofArms    []arm // room for what is asked of one subject
	ofMarked  decide.Marked
	ofAt      []int32
	ofReasons Reasons
	ofLaid    blockArms // room for armsIn
	ofWords   []uint8
}

type madeSet struct {
	epoch int32
	set   *bitset.Set // nil: empty
}

// index is the rows of a block by their code in a column.
type index struct {
	within int32
	codes  []uint32 // by row; of laptops they are the plan's own
	room   []uint32 // for those that are gathered
	values []uint32 // that occur
	sets   []*bitset.Set
	many   bool // too many values for sets
}

type answer struct {
	within     int32
	is, failed *bitset.Set
}

// lackingSets is the rows that lack what settings need, by reason.
type lackingSets struct {
	within  int32
	by      [4]*bitset.Set // nil: none
	unknown *bitset.Set    // whose condition on what the laptop can do fails: they count as supported; nil: none
}

// armSets is the laptops that get a policy at one level; detached is those of them that are detached for its kind.
type armSets struct {
	epoch, split   int32
	all            *bitset.Set // nil: none
	live, detached *bitset.Set
}

// stage is the settings that have been decided, as expressions see them.
type stage interface {
	// part gives rows by the code of what they have in a setting; 0 where they have nothing.
	part(setting int, within *bitset.Set, yield func(code uint32, rows *bitset.Set))
	// settings gives all that each row has.
	settings(of *bitset.Set, yield func(row int, all map[string]any))
}

func (p *Plan) worker(of *roll) *worker {
	w, _ := p.gen.Workers.Get().(*worker)
	if w == nil {
		w = &worker{}
		w.Decider = decide.NewDecider(&w.Arena)
	}
	w.plan, w.roll, w.stage, w.Observer, w.scope = p, of, nil, nil, nil
	w.epoch++
	return w
}

// done gives a worker back, with its room.
func (w *worker) done() {
	words := w.plan.gen
	w.plan, w.roll, w.stage, w.Observer = nil, nil, nil, nil
	words.Workers.Put(w)
}

// load turns to a block; dom is the rows that are looked at.
func (w *worker) load(block int, dom *bitset.Set) {
	w.block = block
	w.Reset()
	w.Out.Reset()
	w.epoch++
	w.within++
	w.device, w.person, w.arming = nil, nil, nil
	if w.roll.device != nil {
		w.device = w.roll.device[block]
	}
	if w.roll.person != nil {
		w.person = w.roll.person[block]
	}
	w.look(dom)
}

// fewRows is how many rows are asked about one by one rather than as sets.
const fewRows = 4

// look turns to rows of the block.
func (w *worker) look(dom *bitset.Set) {
	w.dom.Copy(dom)
	w.few = w.few[:0]
	if dom.Len() <= fewRows {
		for row := range dom.All() {
			w.few = append(w.few, row)
		}
	}
}

// widen looks at other rows of the same block. Sets that are kept are good still.
func (w *worker) widen(dom *bitset.Set) {
	w.within++
	w.look(dom)
}

// deviceAt gives the number of a row's device, none without.
func (w *worker) deviceAt(row int) int {
	if w.device != nil {
		return int(w.device[row])
	}
	if w.roll.laptops {
		return w.block<<bitset.Shift + row
	}
	return intern.None
}

func (w *worker) personAt(row int) int {
	if w.person == nil {
		return intern.None
	}
	return int(w.person[row])
}

// coded gives the codes of the rows of dom in a column, by row. Those of columns that no rule of the plan looks at, but one that is tried
// does, are found row by row.
func (w *worker) coded(c *intern.Column, room *[]uint32) []uint32 {
	var by [][]uint32
	if c.Number < len(w.plan.codes) {
		by = w.plan.codes[c.Number]
	}
	device := c.Look.Variable == "device"
	if device && w.roll.laptops && by != nil {
		return by[w.block]
	}
	*room = slices.Grow((*room)[:0], bitset.Rows)[:bitset.Rows]
	into := *room
	var key []byte
	for row := range w.dom.All() {
		at := w.personAt(row)
		if device {
			at = w.deviceAt(row)
		}
		switch {
		case at == intern.None:
			into[row] = 0
		case by != nil:
			into[row] = by[at>>bitset.Shift][at&(bitset.Rows-1)]
		default:
			into[row], key = c.Code(w.plan.valueIn(c, at), key)
		}
	}
	return into
}

// manyValues is the number of values in a block above which rows are looked at one by one.
const manyValues = 600

// index gives the rows by their codes in a column.
func (w *worker) index(c *intern.Column) *index {
	for len(w.indexes) <= c.Number {
		w.indexes = append(w.indexes, index{})
	}
	x := &w.indexes[c.Number]
	if x.within == w.within {
		return x
	}
	x.within, x.values, x.sets, x.many = w.within, x.values[:0], x.sets[:0], false
	x.codes = w.coded(c, &x.room)
	where := w.room(len(c.Values()))
	for row := range w.dom.All() {
		code := x.codes[row]
		at := where[code]
		if at == 0 {
			if len(x.sets) == manyValues {
				x.many = true
				break
			}
			x.values, x.sets = append(x.values, code), append(x.sets, w.Keep())
			at = int32(len(x.sets))
			where[code] = at
		}
		x.sets[at-1].Add(row)
	}
	for _, code := range x.values {
		where[code] = 0
	}
	return x
}

// room gives a number for each of n things, all 0, which are to be put back to 0.
func (w *worker) room(n int) []int32 {
	if len(w.where) < n {
		w.where = append(w.where, make([]int32, n-len(w.where))...)
	}
	return w.where
}

// part gives the rows of within by their codes in a column.
func (w *worker) part(c *intern.Column, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	if c.Look.Variable == "settings" {
		if at, known := w.plan.settingAt.Number(setting.ID(c.Look.Field)); known && w.stage != nil {
			w.stage.part(at, within, yield)
		} else {
			yield(0, within)
		}
		return
	}
	mark := w.Mark()
	defer w.Release(mark)
	here := w.Temp()
	x := w.index(c)
	if !x.many {
		for i, code := range x.values {
			if here.SetAnd(x.sets[i], within) {
				yield(code, here)
			}
		}
		return
	}
	by := map[uint32][]int{}
	for row := range within.All() {
		by[x.codes[row]] = append(by[x.codes[row]], row)
	}
	for code, rows := range by {
		here.Clear()
		for _, row := range rows {
			here.Add(row)
		}
		yield(code, here)
	}
}

// test gives the rows of dom on which a test is true, and on which it fails. The sets must not be altered.
func (w *worker) test(t *intern.Test) (is, failed *bitset.Set) {
	passing := false // what looks at settings is not good for long
	for _, c := range t.Columns {
		passing = passing || c.Look.Variable == "settings"
	}
	passing = passing || t.Whole && w.stage != nil
	if passing {
		is, failed = w.Temp(), w.Temp()
		is.Clear()
		failed.Clear()
		within := w.scope
		if within == nil {
			within = &w.dom
		}
		w.try(t, within, is, failed)
		return is, failed
	}
	for len(w.answers) <= t.Number {
		w.answers = append(w.answers, answer{})
	}
	a := &w.answers[t.Number]
	if a.within != w.within {
		is, failed := w.Keep(), w.Keep()
		w.try(t, &w.dom, is, failed)
		a = &w.answers[t.Number]
		*a = answer{w.within, is, failed}
	}
	return a.is, a.failed
}

func (w *worker) try(t *intern.Test, within, is, failed *bitset.Set) {
	add := func(truth rule.Truth, rows *bitset.Set) {
		switch truth {
		case rule.True:
			is.Or(rows)
		case rule.Failed:
			failed.Or(rows)
		}
	}
	switch {
	case t.Whole:
		one := func(row int, settings map[string]any) {
			switch t.Evaluate(w.variables(row, settings)) {
			case rule.True:
				is.Add(row)
			case rule.Failed:
				failed.Add(row)
			}
		}
		if w.stage != nil {
			w.stage.settings(within, one)
			return
		}
		for row := range within.All() {
			one(row, nil)
		}
	case len(t.Columns) == 0:
		add(t.Answer(nil), within)
	case len(t.Columns) == 1 && t.Columns[0].Look.Variable == "settings":
		w.part(t.Columns[0], within, func(code uint32, rows *bitset.Set) { add(t.AnswerOne(code), rows) })
	case len(t.Columns) == 1:
		x := w.index(t.Columns[0])
		if !x.many {
			for i, code := range x.values {
				add(t.AnswerOne(code), x.sets[i])
			}
			return
		}
		for row := range within.All() {
			switch t.AnswerOne(x.codes[row]) {
			case rule.True:
				is.Add(row)
			case rule.Failed:
				failed.Add(row)
			}
		}
	default:
		codes := make([]uint32, len(t.Columns))
		var refine func(i int, rows *bitset.Set)
		refine = func(i int, rows *bitset.Set) {
			if i == len(codes) {
				add(t.Answer(codes), rows)
				return
			}
			mark := w.Mark()
			w.part(t.Columns[i], rows, func(code uint32, rows *bitset.Set) {
				codes[i] = code
				refine(i+1, rows)
			})
			w.Release(mark)
		}
		refine(0, within)
	}
}

// variables is all that an expression may see of a row.
func (w *worker) variables(row int, settings map[string]any) map[string]any {
	return map[string]any{"device": w.plan.deviceVariables(w.deviceAt(row)), "person": w.plan.personVariables(w.personAt(row)), "settings": settings}
}

// truth gives the rows of dom on which a formula is true, and on which it fails. The sets must not be altered; they are good
// until the mark that was made before is released.
func (w *worker) truth(f *intern.Formula) (is, failed *bitset.Set) {
	switch f.Joined {
	case 0:
		return w.test(f.Test)
	case '!':
		a, e := w.truth(f.Parts[0])
		is = w.Temp()
		is.SetAndNot(&w.dom, a)
		is.AndNot(e)
		return is, e
	case '&':
		is, failed = w.Temp(), w.Temp()
		is.Copy(&w.dom)
		failed.Copy(&w.dom)
		either := w.Temp()
		for _, part := range f.Parts {
			a, e := w.truth(part)
			is.And(a)
			either.Copy(a)
			either.Or(e)
			if failed.And(either); failed.Empty() {
				break
			}
		}
		failed.AndNot(is)
		return is, failed
	}
	is, failed = w.Temp(), w.Temp()
	is.Clear()
	failed.Clear()
	for _, part := range f.Parts {
		a, e := w.truth(part)
		is.Or(a)
		failed.Or(e)
	}
	failed.AndNot(is)
	return is, failed
}
