// This file has the plan: what is kept of an estate between questions.

package resolve

import (
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/resolve/internal/decide"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Plan is a compiled snapshot: who is in which group and which policy reaches whom, as sets of laptops, and the entries of every
// setting in the order in which they are decided. It is immutable and safe for concurrent use; With gives another that shares
// what an edit does not touch.
type Plan struct {
	snapshot *estate.Snapshot
	gen      *intern.Generation

	units  []unit // by number, as all that follow
	unitAt *intern.IdTable[estate.UnitID]
	root   int
	apart  []int           // units that are detached for something
	areas  map[string]bool // areas of the dictionary that some unit or group detaches

	people   intern.CowList[person]
	personAt *intern.IdTable[estate.PersonID]
	devices  intern.CowList[device]
	deviceAt *intern.IdTable[estate.DeviceID]
	byDevice []int32               // numbers of devices by id
	rank     []int32               // by number: the device's place in byDevice
	owner    intern.CowList[int32] // by number: the device's owner
	alive    []bitset.Packed
	ofPerson []int32 // numbers of the snapshot's people, in its order
	ofDevice []int32 // numbers of the snapshot's devices, in its order

	groups     []group
	groupAt    *intern.IdTable[estate.GroupID]
	ofGroup    []int32 // by place in the snapshot: the number
	groupOrder []int   // every group after those that it has as members
	detaching  []int   // groups that are detached for something

	policies []policy
	policyAt *intern.IdTable[estate.PolicyID]
	byPolicy []int // by id

	settings  []settingIndex
	settingAt *intern.IdTable[setting.ID]
	bySetting []int
	excepted  []int // settings with exceptions that count
	forced    []int // settings with forced values
	checks    []check
	checkAt   *intern.IdTable[estate.CheckID]
	byCheck   []int

	codes [][][]uint32 // by column, by block of devices or people

	index     func() *setting.Index       // of the dictionary, built when it is first asked
	failures  func() []int                // by group: on how many its rule fails
	firstArm  []int32                     // by policy: the number of its first arm, of all policies' in one row; in the end how many there are
	needed    []*intern.Column            // what rules look at
	naming    func() [][]int              // by group: policies that name it; gathered when it is first asked, as what follows
	marks     func() *slotIndex           // whose slots are where
	blockArms []atomic.Pointer[blockArms] // by block, as they are first asked for
	persons   func() *roll                // everybody with their groups, made when it is first asked
	wholeOnce sync.Mutex
	whole     *Whole
}

type unit struct {
	*estate.Unit
	depth int
	path  []int // from the root down to this one
}

type person struct {
	*estate.Person
	unit int // none: without
}

type device struct {
	*estate.Device
	home  int
	owner int // none: without
}

type group struct {
	*estate.Group
	nested  []int
	formula *intern.Formula
	listed  []bitset.Packed // laptops by listing, of the device or of its owner
	people  []bitset.Packed // people by listing, of a group of people
	rows    []bitset.Packed // laptops that are in it, or whose owners are
}

// target is an estate.Target with the number of what it names.
type target struct {
	estate.Target
	at    int
	level Level
}

type policy struct {
	*estate.Policy
	levels  []Level    // of its includes, the innermost first
	include [][]target // by level
	within  *target    // the unit that bounds it; nil: none
	exclude []target   // by text
	when    *intern.Formula
	entries []entry
	arms    [][]bitset.Packed // by level: the laptops to which it applies at that level
}

type entry struct {
	setting int
	*estate.Entry
}

type check struct {
	*estate.Check
	formula  *intern.Formula
	looks    []int // settings that it looks at
	whole    bool  // it looks at all of them, or at more than a few facts
	subjects bool  // it looks at the device or the person
}

// settingIndex is what is fixed of one setting before it is decided for anybody: its entries in order of precedence, and what else matters
// to who gets what.
type settingIndex struct {
	decide.Index
	user    bool   // user-side
	limited bool   // not every laptop supports it
	area    string // of the dictionary; empty: none
	support *intern.Support
	exempt  []target // whom each exception is for
	forced  []forcing
}

// forcing is a forced value of a setting.
type forcing struct {
	setting.Forced
	formula  *intern.Formula
	outcome  *intern.Outcome
	looks    []int
	subjects bool
	whole    bool
}

// Compile indexes a snapshot that Validate found nothing wrong with. The snapshot must not be altered afterwards.
func Compile(s *estate.Snapshot) *Plan { return build(nil, s) }

// With gives the plan of a snapshot that differs a little from this plan's. What the differences do not touch is shared; where this
// plan's estate was resolved, the other's is too. The outcome is the same as Compile's.
func (p *Plan) With(next *estate.Snapshot) *Plan {
	if next == p.snapshot {
		return p
	}
	return build(p, next)
}

// Snapshot is what was compiled.
func (p *Plan) Snapshot() *estate.Snapshot { return p.snapshot }

// Devices counts the laptops.
func (p *Plan) Devices() int { return len(p.byDevice) }

// Definition gives a definition of the snapshot's dictionary, nil when there is none of that id.
func (p *Plan) Definition(id setting.ID) *setting.Definition {
	if at, known := p.settingAt.Number(id); known {
		return p.settings[at].Def
	}
	return nil
}

// Search finds definitions of the snapshot's dictionary by plain words, the best first; all of them without words.
func (p *Plan) Search(words string) []*setting.Definition { return p.index().Search(words) }

// Device gives a device of the snapshot, nil when there is none of that id.
func (p *Plan) Device(id estate.DeviceID) *estate.Device {
	if at, known := p.deviceAt.Number(id); known {
		return p.devices.At(at).Device
	}
	return nil
}

// Person gives a person of the snapshot, nil when there is none of that id.
func (p *Plan) Person(id estate.PersonID) *estate.Person {
	if at, known := p.personAt.Number(id); known {
		return p.people.At(at).Person
	}
	return nil
}

// Unit gives a unit of the snapshot, nil when there is none of that id.
func (p *Plan) Unit(id estate.UnitID) *estate.Unit {
	if at, known := p.unitAt.Number(id); known {
		return p.units[at].Unit
	}
	return nil
}

// Policy gives a policy of the snapshot, nil when there is none of that id.
func (p *Plan) Policy(id estate.PolicyID) *estate.Policy {
	if at, known := p.policyAt.Number(id); known {
		return p.policies[at].Policy
	}
	return nil
}

// blocks is how many blocks the laptops fill.
func (p *Plan) blocks() int { return len(p.alive) }

// target finds what a target names.
func (p *Plan) target(t estate.Target) target {
	switch t.Kind {
	case estate.ToEveryone:
		return target{Target: t, at: p.root, level: 0}
	case estate.ToUnit:
		at := p.unitAt.NumberOf(estate.UnitID(t.ID))
		if at == intern.None {
			return target{Target: t, at: intern.None}
		}
		return target{Target: t, at: at, level: Level(p.units[at].depth)}
	case estate.ToGroup:
		return target{Target: t, at: p.groupAt.NumberOf(estate.GroupID(t.ID)), level: GroupLevel}
	case estate.ToDevice:
		return target{Target: t, at: p.deviceAt.NumberOf(estate.DeviceID(t.ID)), level: IndividualLevel}
	default:
		return target{Target: t, at: p.personAt.NumberOf(estate.PersonID(t.ID)), level: IndividualLevel}
	}
}

// deviceValue gives what expressions see as a field of a device; nothing where that is not known.
func (p *Plan) deviceValue(d *device, field string) setting.Value {
	switch field {
	case "id":
		return setting.TextValue(string(d.ID))
	case "os":
		return setting.TextValue(string(d.OS))
	case "os_version":
		return setting.TextValue(d.OSVersion)
	case "serial":
		return known(d.Serial)
	case "edition":
		return known(d.Edition)
	case "model":
		return known(d.Model)
	case "tags":
		return setting.ListValue(d.Tags)
	case "unit":
		return setting.TextValue(string(p.units[d.home].ID))
	case "units":
		return setting.ListValue(p.path(d.home))
	}
	return d.Facts[field]
}

// personValue gives what expressions see as a field of a person; nothing where that is not known.
func (p *Plan) personValue(who *person, field string) setting.Value {
	switch field {
	case "id":
		return setting.TextValue(string(who.ID))
	case "name":
		return known(who.Name)
	case "mail":
		return known(who.Mail)
	case "unit", "units":
		if who.unit == intern.None {
			return setting.Value{}
		}
		if field == "unit" {
			return setting.TextValue(string(p.units[who.unit].ID))
		}
		return setting.ListValue(p.path(who.unit))
	}
	return who.Attributes[field]
}

// valueIn gives what the laptop, or the person, of a number has in a column; nothing where there is nobody.
func (p *Plan) valueIn(c *intern.Column, at int) setting.Value {
	if c.Look.Variable == "person" {
		if who := p.people.At(at); who.Person != nil {
			return p.personValue(who, c.Look.Field)
		}
	} else if d := p.devices.At(at); d.Device != nil {
		return p.deviceValue(d, c.Look.Field)
	}
	return setting.Value{}
}

func known(text string) setting.Value {
	if text == "" {
		return setting.Value{}
	}
	return setting.TextValue(text)
}

// path gives the ids of the units from the root down to one.
func (p *Plan) path(unit int) []string {
	names := make([]string, len(p.units[unit].path))
	for i, u := range p.units[unit].path {
		names[i] = string(p.units[u].ID)
	}
	return names
}

// samePath tells whether a unit has the same path in another plan.
func (p *Plan) samePath(q *Plan, unit int) bool {
	return slices.EqualFunc(p.units[unit].path, q.units[unit].path, func(a, b int) bool { return p.units[a].ID == q.units[b].ID })
}

// deviceVariables is what expressions see as `device`. What is not known is absent.
func (p *Plan) deviceVariables(at int) map[string]any {
	if at == intern.None {
		return map[string]any{}
	}
	d := p.devices.At(at)
	return fields(d.Facts, estate.DeviceNames, func(field string) setting.Value { return p.deviceValue(d, field) })
}

// personVariables is what expressions see as `person`; none gives an empty map.
func (p *Plan) personVariables(at int) map[string]any {
	if at == intern.None {
		return map[string]any{}
	}
	who := p.people.At(at)
	return fields(who.Attributes, estate.PersonNames, func(field string) setting.Value { return p.personValue(who, field) })
}

// fields puts facts or attributes together with the fields that everybody has, as expressions see them.
func fields(more map[string]setting.Value, names []string, value func(field string) setting.Value) map[string]any {
	out := make(map[string]any, len(more)+len(names))
	for name, v := range more {
		out[name] = v.Any()
	}
	for _, name := range names {
		if v := value(name); !v.IsNothing() {
			out[name] = v.Any()
		}
	}
	return out
}

// sortedNumbers gives the numbers of those of n things that are there, by id.
func sortedNumbers(n int, there func(int) bool, less func(a, b int) int) []int {
	out := make([]int, 0, n)
	for i := range n {
		if there(i) {
			out = append(out, i)
		}
	}
	slices.SortFunc(out, less)
	return out
}
