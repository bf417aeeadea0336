// This file has the plan: an estate prepared for questions.
// What is in a Plan is by number, and is shared with other plans as far as it is the same. What a
// question returns is by id, and belongs to the caller. Methods that answer questions are in a file
// for each kind of question.

package resolve

import (
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
)

// Plan is a compiled snapshot: who is in which group and which policy reaches whom, as sets of
// laptops, and the entries of every setting in the order in which they are decided. It is immutable
// and safe for concurrent use; With gives another that shares what an edit does not touch. Objects
// are referred to by number everywhere inside the plan. A number indexes the lists below, and stays
// with its object from one plan to the next; a list has an empty place where an object was removed.
// Lists in the order of ids are kept beside them.
type Plan struct {
	match.Population
	snapshot *estate.Snapshot
	sources  []estate.Policy // those of the snapshot, and those that put right what baselines want

	byDevice []int32 // numbers of devices by id
	rank     []int32 // by number: the device's place in byDevice
	ofPerson []int32 // numbers of the snapshot's people, in its order
	ofDevice []int32 // numbers of the snapshot's devices, in its order
	ofGroup  []int32 // by place in the snapshot: the number

	policies []policy
	policyAt *intern.IDTable[estate.PolicyID]
	byPolicy []int // by id

	settings  []settingIndex
	settingAt *intern.IDTable[setting.ID]
	bySetting []int
	excepted  []int // settings with exceptions that count
	forced    []int // settings with forced values
	checks    []check
	checkAt   *intern.IDTable[estate.CheckID]
	byCheck   []int

	index        func() *search.Index           // of the dictionary, built when it is first asked
	failures     func() []int                   // by group: on how many its rule fails
	firstMatch   []int32                        // by policy: the number of its first level, counted over all policies; the last is their sum
	needed       []*intern.Column               // what rules look at
	naming       func() [][]int                 // by group: policies that name it; gathered when it is first asked, as what follows
	ranked       func() *rankedIndex            // the ranked entries of every level match
	blockMatches []atomic.Pointer[blockMatches] // by block, as they are first asked for
	fields       *fieldCache                    // what laptops and people have in fields; the same where they and the tree of units are
	answers      *answers                       // about policies and settings, of all plans made from one another
	beside       *Plan                          // that has most matches alike; nil: none is known
	unlike       []int                          // policies of which the matches are not those of beside
	resolving    sync.Mutex
	resolution   *EstateResolution
}

// policy is a policy with its audience and entries, and whom it reaches.
type policy struct {
	*estate.Policy
	audience match.Audience
	entries  []entry
	matches  [][]bitset.Packed // by level of the audience: the laptops to which it applies at that level
}

// entry is an entry of a policy with the number of its setting.
type entry struct {
	setting int
	*estate.Entry
}

// check is a check with what it reads, from which follows when it must be run again.
type check struct {
	*estate.Check
	formula  *intern.Formula
	looks    []int // settings that it looks at
	whole    bool  // it looks at all of them, or at more than a few facts
	subjects bool  // it looks at the device or the person
}

// settingIndex is what is fixed of one setting before it is decided for anybody: its entries in
// order of precedence, and what else matters to who gets what.
type settingIndex struct {
	decide.Index
	user    bool   // user-side
	limited bool   // not every laptop supports it
	area    string // of the dictionary; empty: none
	support *intern.Support
	exempt  []match.Target // whom each exception is for
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

// Compile indexes a snapshot that Validate found nothing wrong with. The snapshot must not be
// altered afterwards.
func Compile(s *estate.Snapshot) *Plan { return build(nil, s) }

// With gives the plan of a snapshot that differs a little from this plan's. What the differences do
// not touch is shared; where this plan's estate was resolved, the other's is too. The outcome is
// the same as Compile's.
func (p *Plan) With(next *estate.Snapshot) *Plan {
	// The very same snapshot: nothing can differ.
	if next == p.snapshot {
		return p
	}
	return build(p, next)
}

// Spent tells whether plans that were made of this one, and of the one that it was made of, have
// left so many values and conditions behind that Renewed saves memory: what was tried and never
// kept is remembered as long as plans of its lineage live.
func (p *Plan) Spent() bool { return p.Gen.Spent() }

// Renewed compiles the snapshot anew, and resolves it: the new plan shares nothing with this one,
// and what others left behind is let go together with this one. Devices of this plan are not those
// of the new one; Devices.In translates them.
func (p *Plan) Renewed() *Plan {
	next := Compile(p.snapshot)
	next.Estate()
	return next
}

// Snapshot is what was compiled.
func (p *Plan) Snapshot() *estate.Snapshot { return p.snapshot }

// Size counts the laptops.
func (p *Plan) Size() int { return len(p.byDevice) }

// Definition gives a definition of the snapshot's dictionary, nil when there is none of that id.
func (p *Plan) Definition(id setting.ID) *setting.Definition {
	if at, known := p.settingAt.Number(id); known {
		return p.settings[at].Def
	}
	return nil
}

// Search finds definitions of the snapshot's dictionary by plain words, the best first; all of them
// without words.
func (p *Plan) Search(words string) []*setting.Definition { return p.index().Search(words) }

// Device gives a device of the snapshot, nil when there is none of that id.
func (p *Plan) Device(id estate.DeviceID) *estate.Device {
	if at, known := p.DeviceAt.Number(id); known {
		return p.Devices.At(at).Device
	}
	return nil
}

// Person gives a person of the snapshot, nil when there is none of that id.
func (p *Plan) Person(id estate.PersonID) *estate.Person {
	if at, known := p.PersonAt.Number(id); known {
		return p.People.At(at).Person
	}
	return nil
}

// Unit gives a unit of the snapshot, nil when there is none of that id.
func (p *Plan) Unit(id estate.UnitID) *estate.Unit {
	if at, known := p.UnitAt.Number(id); known {
		return p.Units[at].Unit
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

// samePath tells whether a unit has the same path in another plan.
func (p *Plan) samePath(q *Plan, unit int) bool {
	return slices.EqualFunc(p.Units[unit].Path, q.Units[unit].Path, func(a, b int) bool { return p.Units[a].ID == q.Units[b].ID })
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
