// This file numbers what a setting can come out as. A value, a conflict of some policies, "left
// unset" and each reason for "unsupported" have a number each; an item of a list that is put
// together has one with itemBit set. Blocks keep sets of rows by these numbers, so that equal
// outcomes are one set, and comparing two plans compares numbers.

package intern

import (
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Numbers of outcomes that every setting has. Those of reasons stand in the order of
// setting.Unsupporteds.
const (
	FromItems      int32 = iota // set, to the items whose sets hold the laptop
	LeftUnset                   // by an exception
	LackPlatform                // not supported on the platform
	lackVersion                 // … the version
	lackEdition                 // … the edition
	lackCapability              // … for lack of something that the laptop needs
	FirstOutcome                // the first that is the setting's own

	itemBit int32 = 1 << 30 // set in the numbers of items, so that they are known by their numbers
)

// Lacks is how many reasons there are for which a setting is not supported.
const Lacks = int(FirstOutcome - LackPlatform)

// LackAt gives the place of a reason among all reasons.
func LackAt(why setting.Unsupported) int { return slices.Index(setting.Unsupporteds, why) }

// IsItem tells whether a number is that of an item.
func IsItem(number int32) bool { return number&itemBit != 0 }

// ItemAt gives the place of an item among the outcomes of its setting.
func ItemAt(number int32) int32 { return number &^ itemBit }

// Outcome is what a setting can come out as, or an item of a list or row of a table that is put
// together.
type Outcome struct {
	Number   int32
	Status   outcome.Status
	Reason   setting.Unsupported // with Unsupported
	Value    setting.Value       // with Set, and of items: a list or table of one
	Policies []string            // of a conflict, sorted
	Class    int32               // of values: the same for equal ones
	Prefix   uint64              // of items: the first bytes of their text, by which most are put in order

	coded atomic.Uint32 // the value's code in the column, once it was asked for
}

// Outcomes numbers what one setting comes out as. It is safe for concurrent use.
type Outcomes struct {
	Column *Column // of its values

	count   *atomic.Int64 // of the generation
	mu      sync.RWMutex
	numbers map[string]int32
	list    atomic.Pointer[[]*Outcome]
}

// OutcomesOf gives the outcomes of a setting.
func (g *Generation) OutcomesOf(id setting.ID) *Outcomes {
	g.mu.Lock()
	defer g.mu.Unlock()
	o := g.outcomes[id]
	if o == nil {
		o = &Outcomes{count: &g.count, numbers: map[string]int32{}, Column: g.column(rule.Look{Variable: "settings", Field: string(id)})}
		// The first outcomes are the same for every setting, so their numbers are constants.
		list := []*Outcome{{Number: FromItems, Status: outcome.Set}, {Number: LeftUnset, Status: outcome.Unset}}
		for at, why := range setting.Unsupporteds {
			list = append(list, &Outcome{Number: LackPlatform + int32(at), Status: outcome.Unsupported, Reason: why})
		}
		o.list.Store(&list)
		g.outcomes[id] = o
	}
	return o
}

// Of gives the outcome of a number.
func (o *Outcomes) Of(number int32) *Outcome { return (*o.list.Load())[number&^itemBit] }

// All gives every outcome that is known, by number.
func (o *Outcomes) All() []*Outcome { return *o.list.Load() }

// CodeOf gives the code of what an outcome has as its value; 0 where it has none.
func (o *Outcomes) CodeOf(is *Outcome) uint32 {
	// Two threads may both find the code missing. They store the same one.
	code := is.coded.Load()
	if code == 0 && is.Status == outcome.Set && !is.Value.IsNothing() {
		code, _ = o.Column.Code(is.Value, nil)
		is.coded.Store(code)
	}
	return code
}

// Value numbers a value that is in effect as a whole. Files and tables that are equal and written
// differently have one class and numbers of their own.
func (o *Outcomes) Value(v setting.Value) *Outcome {
	key := v.AppendIdentity([]byte{'v'})
	class := o.number(key, 0, func() *Outcome { return &Outcome{Status: outcome.Set, Value: v} })
	// Values of other kinds are equal only if they are written alike, so they have one number.
	if v.Kind() != setting.FileKind && v.Kind() != setting.Table {
		return class
	}
	text, _ := v.MarshalJSON() // values always have a JSON form
	return o.number(append(append(key, 0), text...), 0,
		func() *Outcome { return &Outcome{Status: outcome.Set, Value: v, Class: class.Number} })
}

// Item numbers an item or row, given as a list or table of one.
func (o *Outcomes) Item(v setting.Value) *Outcome {
	return o.number(v.AppendIdentity([]byte{'i'}), itemBit,
		func() *Outcome { return &Outcome{Status: outcome.Set, Value: v, Prefix: v.Begins()} })
}

// Conflict numbers a conflict of policies, given sorted.
func (o *Outcomes) Conflict(policies []string) *Outcome {
	key := []byte{'c'}
	for _, p := range policies {
		// A zero byte ends each id, so that two lists of ids have different keys.
		key = append(append(key, p...), 0)
	}
	return o.number(key, 0, func() *Outcome { return &Outcome{Status: outcome.Conflict, Policies: slices.Clone(policies)} })
}

// number gives the outcome of a key, which is made where there is none. kind is set in its number.
func (o *Outcomes) number(key []byte, kind int32, made func() *Outcome) *Outcome {
	o.mu.RLock()
	at, known := o.numbers[string(key)]
	o.mu.RUnlock()
	if known {
		return o.Of(at)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if at, known := o.numbers[string(key)]; known {
		return o.Of(at)
	}
	// The number is the place in the list. kind marks items, so that a number alone says whether it
	// is one.
	is := made()
	is.Number = int32(len(o.All())) | kind
	if is.Class == 0 {
		is.Class = is.Number
	}
	o.numbers[string(key)] = is.Number
	list := append(o.All(), is) // whoever reads the list that there was sees no more of it
	o.list.Store(&list)
	o.count.Add(1)
	return is
}
