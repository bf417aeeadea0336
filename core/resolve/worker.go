// This file has what works on one block of rows: sets that are used again and again, what rules come to, and whom targets name.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// roll is subjects by row: laptops with their owners, people by themselves, or whatever pairs are asked about.
type roll struct {
	laptops bool              // row and device number are the same
	device  blocked[int32]    // by row; nil: no devices
	person  blocked[int32]    // by row; nil: no people
	alive   []rowset.Packed   // by block: rows that stand for somebody
	groups  [][]rowset.Packed // by group, by block
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
	dom    rowset.Set
	few    []int       // the rows of dom, where there are no more than fewRows
	arming *rowset.Set // the rows for which arms are loaded; nil: dom

	temps   []*rowset.Set // used like a stack
	temped  int
	kept    []*rowset.Set // used until the next block
	keeping int

	sides    []*rowset.Set // used until setAside is put back
	setAside int

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

	stage   stage       // the settings that expressions see
	scope   *rowset.Set // the rows on which tests of settings are tried; nil: dom
	witness witness

	numbers []int32 // what is emitted
	sets    []*rowset.Set
	emitted int

	in    []contestant
	items []int32 // room for byItem
	bring []*rowset.Set
	codes []uint32
	where []int32

	passRoom

	ofArms    []arm // room for what is asked of one subject
	ofMarked  []uint64
	ofAt      []int32
	ofReasons Reasons
	ofLaid    blockArms // room for armsIn
	ofWords   []uint8
}

type madeSet struct {
	epoch int32
	set   *rowset.Set // nil: empty
}

// index is the rows of a block by their code in a column.
type index struct {
	within int32
	codes  []uint32 // by row; of laptops they are the plan's own
	room   []uint32 // for those that are gathered
	values []uint32 // that occur
	sets   []*rowset.Set
	many   bool // too many values for sets
}

type answer struct {
	within     int32
	is, failed *rowset.Set
}

// lackingSets is the rows that lack what settings need, by reason.
type lackingSets struct {
	within  int32
	by      [4]*rowset.Set // nil: none
	unknown *rowset.Set    // whose condition on what the laptop can do fails: they count as supported; nil: none
}

// armSets is the laptops that get a policy at one level; detached is those of them that are detached for its kind.
type armSets struct {
	epoch, split   int32
	all            *rowset.Set // nil: none
	live, detached *rowset.Set
}

// stage is the settings that have been decided, as expressions see them.
type stage interface {
	// part gives rows by the code of what they have in a setting; 0 where they have nothing.
	part(setting int, within *rowset.Set, yield func(code uint32, rows *rowset.Set))
	// settings gives all that each row has.
	settings(of *rowset.Set, yield func(row int, all map[string]any))
}

func (p *Plan) worker(of *roll) *worker {
	w, _ := p.words.workers.Get().(*worker)
	if w == nil {
		w = &worker{}
	}
	w.plan, w.roll, w.stage, w.witness, w.scope = p, of, nil, nil, nil
	w.epoch++
	return w
}

// done gives a worker back, with its room.
func (w *worker) done() {
	words := w.plan.words
	w.plan, w.roll, w.stage, w.witness = nil, nil, nil, nil
	words.workers.Put(w)
}

// load turns to a block; dom is the rows that are looked at.
func (w *worker) load(block int, dom *rowset.Set) {
	w.block, w.temped, w.keeping, w.emitted = block, 0, 0, 0
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
func (w *worker) look(dom *rowset.Set) {
	w.dom.Copy(dom)
	w.few = w.few[:0]
	if dom.Len() <= fewRows {
		for row := range dom.All() {
			w.few = append(w.few, row)
		}
	}
}

// widen looks at other rows of the same block. Sets that are kept are good still.
func (w *worker) widen(dom *rowset.Set) {
	w.within++
	w.look(dom)
}

// deviceAt gives the number of a row's device, none without.
func (w *worker) deviceAt(row int) int {
	if w.device != nil {
		return int(w.device[row])
	}
	if w.roll.laptops {
		return w.block<<rowset.Shift + row
	}
	return none
}

func (w *worker) personAt(row int) int {
	if w.person == nil {
		return none
	}
	return int(w.person[row])
}

// temp gives a set that is good until its mark is released. It holds anything.
func (w *worker) temp() *rowset.Set {
	if w.temped == len(w.temps) {
		w.temps = append(w.temps, &rowset.Set{})
	}
	w.temped++
	return w.temps[w.temped-1]
}

func (w *worker) mark() int { return w.temped }

func (w *worker) release(mark int) { w.temped = mark }

// keep gives an empty set that is good until the next block.
func (w *worker) keep() *rowset.Set {
	if w.keeping == len(w.kept) {
		more := make([]rowset.Set, 64)
		for i := range more {
			w.kept = append(w.kept, &more[i])
		}
	}
	w.keeping++
	s := w.kept[w.keeping-1]
	s.Clear()
	return s
}

// aside gives an empty set that is good until setAside is put back.
func (w *worker) aside() *rowset.Set {
	if w.setAside == len(w.sides) {
		w.sides = append(w.sides, &rowset.Set{})
	}
	w.setAside++
	s := w.sides[w.setAside-1]
	s.Clear()
	return s
}

// emit notes that the setting comes out so on some rows.
func (w *worker) emit(number int32, rows *rowset.Set) {
	if rows.Empty() {
		return
	}
	for i := w.emitted - 1; i >= 0; i-- {
		if w.numbers[i] == number {
			w.sets[i].Or(rows)
			return
		}
	}
	w.emitNew(number, rows)
}

// emitNew notes it of a number that was not emitted yet.
func (w *worker) emitNew(number int32, rows *rowset.Set) {
	if w.emitted == len(w.sets) {
		w.sets, w.numbers = append(w.sets, &rowset.Set{}), append(w.numbers, 0)
	}
	w.numbers[w.emitted] = number
	w.sets[w.emitted].Copy(rows)
	w.emitted++
}

// coded gives the codes of the rows of dom in a column, by row. Those of columns that no rule of the plan looks at, but one that is tried
// does, are found row by row.
func (w *worker) coded(c *column, room *[]uint32) []uint32 {
	var by [][]uint32
	if c.number < len(w.plan.codes) {
		by = w.plan.codes[c.number]
	}
	device := c.look.Variable == "device"
	if device && w.roll.laptops && by != nil {
		return by[w.block]
	}
	*room = slices.Grow((*room)[:0], rowset.Rows)[:rowset.Rows]
	into := *room
	var key []byte
	for row := range w.dom.All() {
		at := w.personAt(row)
		if device {
			at = w.deviceAt(row)
		}
		switch {
		case at == none:
			into[row] = 0
		case by != nil:
			into[row] = by[at>>rowset.Shift][at&(rowset.Rows-1)]
		default:
			into[row], key = c.code(w.plan.valueIn(c, at), key)
		}
	}
	return into
}

// manyValues is the number of values in a block above which rows are looked at one by one.
const manyValues = 600

// index gives the rows by their codes in a column.
func (w *worker) index(c *column) *index {
	for len(w.indexes) <= c.number {
		w.indexes = append(w.indexes, index{})
	}
	x := &w.indexes[c.number]
	if x.within == w.within {
		return x
	}
	x.within, x.values, x.sets, x.many = w.within, x.values[:0], x.sets[:0], false
	x.codes = w.coded(c, &x.room)
	where := w.room(len(c.known()))
	for row := range w.dom.All() {
		code := x.codes[row]
		at := where[code]
		if at == 0 {
			if len(x.sets) == manyValues {
				x.many = true
				break
			}
			x.values, x.sets = append(x.values, code), append(x.sets, w.keep())
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
func (w *worker) part(c *column, within *rowset.Set, yield func(code uint32, rows *rowset.Set)) {
	if c.look.Variable == "settings" {
		if at, known := w.plan.settingAt.at(setting.ID(c.look.Field)); known && w.stage != nil {
			w.stage.part(at, within, yield)
		} else {
			yield(0, within)
		}
		return
	}
	mark := w.mark()
	defer w.release(mark)
	here := w.temp()
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
func (w *worker) test(t *test) (is, failed *rowset.Set) {
	passing := false // what looks at settings is not good for long
	for _, c := range t.columns {
		passing = passing || c.look.Variable == "settings"
	}
	passing = passing || t.Whole && w.stage != nil
	if passing {
		is, failed = w.temp(), w.temp()
		is.Clear()
		failed.Clear()
		within := w.scope
		if within == nil {
			within = &w.dom
		}
		w.try(t, within, is, failed)
		return is, failed
	}
	for len(w.answers) <= t.number {
		w.answers = append(w.answers, answer{})
	}
	a := &w.answers[t.number]
	if a.within != w.within {
		is, failed := w.keep(), w.keep()
		w.try(t, &w.dom, is, failed)
		a = &w.answers[t.number]
		*a = answer{w.within, is, failed}
	}
	return a.is, a.failed
}

func (w *worker) try(t *test, within, is, failed *rowset.Set) {
	add := func(truth rule.Truth, rows *rowset.Set) {
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
	case len(t.columns) == 0:
		add(t.answer(nil), within)
	case len(t.columns) == 1 && t.columns[0].look.Variable == "settings":
		w.part(t.columns[0], within, func(code uint32, rows *rowset.Set) { add(t.answerOne(code), rows) })
	case len(t.columns) == 1:
		x := w.index(t.columns[0])
		if !x.many {
			for i, code := range x.values {
				add(t.answerOne(code), x.sets[i])
			}
			return
		}
		for row := range within.All() {
			switch t.answerOne(x.codes[row]) {
			case rule.True:
				is.Add(row)
			case rule.Failed:
				failed.Add(row)
			}
		}
	default:
		codes := make([]uint32, len(t.columns))
		var refine func(i int, rows *rowset.Set)
		refine = func(i int, rows *rowset.Set) {
			if i == len(codes) {
				add(t.answer(codes), rows)
				return
			}
			mark := w.mark()
			w.part(t.columns[i], rows, func(code uint32, rows *rowset.Set) {
				codes[i] = code
				refine(i+1, rows)
			})
			w.release(mark)
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
func (w *worker) truth(f *formula) (is, failed *rowset.Set) {
	switch f.joined {
	case 0:
		return w.test(f.test)
	case '!':
		a, e := w.truth(f.parts[0])
		is = w.temp()
		is.SetAndNot(&w.dom, a)
		is.AndNot(e)
		return is, e
	case '&':
		is, failed = w.temp(), w.temp()
		is.Copy(&w.dom)
		failed.Copy(&w.dom)
		either := w.temp()
		for _, part := range f.parts {
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
	is, failed = w.temp(), w.temp()
	is.Clear()
	failed.Clear()
	for _, part := range f.parts {
		a, e := w.truth(part)
		is.Or(a)
		failed.Or(e)
	}
	failed.AndNot(is)
	return is, failed
}
