// This file has the closed lists of words of a resolution: statuses, ways to decide, levels,
// reasons and fates. They are part of the contract (resolution.md) and of the API. Words are never
// renamed; how people read them is up to the console and formats/report.

package outcome

import (
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/setting"
)

// Status says what is decided for a setting.
type Status string

// The statuses. A setting that nothing brings to a laptop has none.
const (
	Set         Status = "set"
	Unset       Status = "unset"       // an exception leaves it to the laptop
	Conflict    Status = "conflict"    // no value: the laptop keeps what it has
	Unsupported Status = "unsupported" // the laptop does not have it
)

// How says by what a value was decided: by the setting's combine rule (see ByRule), or by what comes
// before or after it. It is empty where nothing was decided.
type How string

// What comes before or after the combine rules.
const (
	ByRuling    How = "ruling"
	ByException How = "exception"
	ByForce     How = "forced"
)

// ByRule is the How of a value that a combine rule decided. It is the rule's own word.
func ByRule(c setting.Combine) How { return How(c) }

// Hows lists every How but the empty one.
func Hows() []How {
	var out []How
	for _, c := range setting.Combines() {
		out = append(out, ByRule(c))
	}
	return append(out, ByRuling, ByException, ByForce)
}

// Level says how close to the laptop an entry comes from; a greater Level is closer. Levels below
// GroupLevel are depths in the units' tree, the root's being 0.
type Level int32

// The levels that are not depths of units.
const (
	// NoLevel stands for a policy that does not apply.
	NoLevel Level = -1
	// GroupLevel is that of a group that includes the laptop or its owner. It is closer than every
	// unit.
	GroupLevel Level = 1 << 20
	// IndividualLevel is that of a target that names the laptop or the person. Nothing is closer.
	IndividualLevel Level = 1<<20 + 1
)

// String gives unit:0, unit:1 …, group or individual.
func (l Level) String() string {
	switch l {
	case GroupLevel:
		return "group"
	case IndividualLevel:
		return "individual"
	}
	return fmt.Sprintf("unit:%d", int32(l))
}

// Reason says why a policy does not apply. Reasons are tested in the order of this list; the first
// that holds is the one.
type Reason string

// The reasons, in the order in which they are tested.
const (
	NotActive   Reason = "not-active"   // the policy is switched off
	OnPlatform  Reason = "platform"     // the policy is for other platforms
	Outside     Reason = "outside"      // the laptop is outside of the unit that bounds the policy
	NotIncluded Reason = "not-included" // no include matches
	Excluded    Reason = "excluded"     // an exclude matches
	OnCondition Reason = "condition"    // the condition is false, or fails
	NotTaken    Reason = "not-taken"    // the policy is offered, and nobody took it on the laptop
)

// Fate says what became of a candidate. The zero Fate says nothing.
type Fate uint8

// The fates. A candidate has exactly one on each laptop.
const (
	_             Fate = iota
	Won                // it carries the value in effect
	Clashing           // it is part of a conflict
	Outer              // closest: another comes from a closer level
	LowerPriority      // closest: another of its level has a higher priority
	Weaker             // strictest: another is stricter
	LockedOut          // an entry of an outer level is locked
	RuledOut           // a ruling prefers another
	Excepted           // an exception takes its place
	Detached           // a unit or group detaches its kind of policy, or the setting's area
	Enforced           // a policy that counts more has the setting, too: the entry is offered, or of a baseline
)

// fateWords are the words of the fates, by number.
var fateWords = [...]string{
	"",
	"won",
	"clashing",
	"outer",
	"lower-priority",
	"weaker",
	"locked-out",
	"ruled-out",
	"excepted",
	"detached",
	"enforced-elsewhere",
}

// Fates is how many fates there are, the zero one included. It is the length of a table by fate.
const Fates = len(fateWords)

// String gives won, clashing, outer, lower-priority, weaker, locked-out, ruled-out, excepted,
// detached or enforced-elsewhere.
func (f Fate) String() string { return fateWords[f] }

// UnmarshalText reads what String gives. The Fate of another word is zero.
func (f *Fate) UnmarshalText(word []byte) error {
	*f = Fate(max(0, slices.Index(fateWords[:], string(word))))
	return nil
}

// Whence says where an entry comes from, as seen from a unit or a group.
type Whence string

// The directions. Closer is towards the laptop.
const (
	FromAbove  Whence = "above"  // an outer level
	FromHere   Whence = "here"   // the place itself is included by the policy
	FromBeside Whence = "beside" // of a group: another group
	FromCloser Whence = "closer" // a level closer to the laptop
)
