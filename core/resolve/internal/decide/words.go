package decide

import "slices"

// Fate says what became of a candidate. The zero Fate says nothing.
type Fate uint8

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
	Enforced           // it gives way to a policy that has the setting, too
)

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

// Fates is how many fates there are, the zero one included.
const Fates = len(fateWords)

// String gives won, clashing, outer, lower-priority, weaker, locked-out, ruled-out, excepted,
// detached or enforced-elsewhere.
func (f Fate) String() string { return fateWords[f] }

// UnmarshalText reads what String gives. The Fate of another word is zero.
func (f *Fate) UnmarshalText(word []byte) error {
	*f = Fate(max(0, slices.Index(fateWords[:], string(word))))
	return nil
}

// How says by what a value was decided. It is empty where nothing was.
type How string

const (
	ByClosest   How = "closest"
	ByStrictest How = "strictest"
	ByMerge     How = "merge"
	ByCommon    How = "common"
	ByRuling    How = "ruling"
	ByException How = "exception"
	ByForce     How = "forced"
)
