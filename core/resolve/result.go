// This file has the words of a result: levels, fates, statuses and the records made of them.

package resolve

import (
	"sort"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// Level says how close to the laptop an entry comes from; a greater Level is closer. Levels below
// GroupLevel are depths in the units' tree, the root's being 0.
type Level = match.Level

const (
	GroupLevel      = match.GroupLevel
	IndividualLevel = match.IndividualLevel
)

// Fate says what became of a candidate. The zero Fate says nothing.
type Fate = decide.Fate

const (
	Won           = decide.Won           // it carries the value in effect
	Clashing      = decide.Clashing      // it is part of a conflict
	Outer         = decide.Outer         // closest: another comes from a closer level
	LowerPriority = decide.LowerPriority // closest: another of its level has a higher priority
	Weaker        = decide.Weaker        // strictest: another is stricter
	LockedOut     = decide.LockedOut     // an entry of an outer level is locked
	RuledOut      = decide.RuledOut      // a ruling prefers another
	Excepted      = decide.Excepted      // an exception takes its place
	Enforced      = decide.Enforced      // the policy gives way to another that has the setting, too
	Detached      = decide.Detached      // a unit or group detaches its kind of policy, or the setting's area
)

// Status says what is decided for a setting.
type Status = intern.Status

const (
	Set         = intern.Set
	Unset       = intern.Unset       // an exception leaves it to the laptop
	Conflict    = intern.Conflict    // no value: the laptop keeps what it has
	Unsupported = intern.Unsupported // the laptop does not have it
)

// How says by what a value was decided. It is empty where nothing was.
type How = decide.How

const (
	ByClosest   = decide.ByClosest
	ByStrictest = decide.ByStrictest
	ByMerge     = decide.ByMerge
	ByCommon    = decide.ByCommon
	ByRuling    = decide.ByRuling
	ByException = decide.ByException
	ByForce     = decide.ByForce
)

// Candidate is an entry of a policy that applies, with what became of it.
type Candidate struct {
	Policy   estate.PolicyID
	Level    Level
	Priority int64
	Value    setting.Value
	Locked   bool
	Fate     Fate
}

// Replaced is the value that a forced one replaces.
type Replaced struct {
	Value setting.Value
	How   How
	From  []string
}

// Setting is what is decided for one setting, with every candidate by policy id.
type Setting struct {
	ID         setting.ID
	Status     Status
	Reason     setting.Unsupported // with Unsupported only
	Value      setting.Value       // with Set only
	How        How                 // with Set, and with Unset
	From       []string            // ids of policies, sorted; of the exception, where one decided
	Replaced   *Replaced           // with ByForce only
	Candidates []Candidate
}

// BeatenBy lists the candidates that a losing one lost to, by policy id; for the others it is
// empty.
func (s *Setting) BeatenBy(loser Candidate) []estate.PolicyID {
	var by []estate.PolicyID
	for _, c := range s.Candidates {
		// What beats a candidate depends on its fate, and is found from the fates of the others on
		// the same laptop.
		var beats bool
		switch loser.Fate {
		// A closer level beat it, whatever became of the candidates there.
		case Outer:
			beats = c.Level > loser.Level && c.Fate != Detached && c.Fate != Enforced
		// What is enforced beats what is offered, whatever became of it.
		case Enforced:
			beats = c.Fate != Detached && c.Fate != Enforced
		// Something of its own level has a higher priority. That may be part of a conflict, or lose
		// by a ruling.
		case LowerPriority:
			beats = c.Fate == Won || c.Fate == Clashing || c.Fate == RuledOut
		case Weaker, RuledOut:
			beats = c.Fate == Won
		// The locked entries that are not locked out themselves.
		case LockedOut:
			beats = c.Locked && c.Fate != LockedOut
		// In a conflict each value opposes the others.
		case Clashing:
			beats = c.Fate == Clashing && !c.Value.Equal(loser.Value)
		}
		if beats && c.Policy != loser.Policy {
			by = append(by, c.Policy)
		}
	}
	return by
}

type Problem struct {
	Check    estate.CheckID
	Message  string
	Settings []setting.ID
	From     []string
}

// ProblemFound is a problem with the laptops on which the check finds it.
type ProblemFound struct {
	Problem
	Devices Devices
}

// Reason says why a policy does not apply. Reasons are tested in the order of this list; the first
// that holds is the one.
type Reason = match.Reason

const (
	NotActive   = match.NotActive
	OnPlatform  = match.OnPlatform
	Outside     = match.Outside // of the unit that bounds the policy
	NotIncluded = match.NotIncluded
	Excluded    = match.Excluded
	OnCondition = match.OnCondition
	NotTaken    = match.NotTaken // the policy is offered, and nobody took it on the laptop
)

// NotApplying is a policy that does not apply, with the first reason.
type NotApplying struct {
	Policy  estate.PolicyID
	Reason  Reason
	Targets []estate.Target // with Excluded: the targets that matched, sorted as texts
	Error   string          // with OnCondition: the error's text, when it failed
}

// Result is all that a resolution says for one subject.
type Result struct {
	Device      estate.DeviceID
	Person      estate.PersonID // empty: no person
	Unit        estate.UnitID   // the home unit
	Settings    []Setting       // by id
	Problems    []Problem       // by check
	NotApplying []NotApplying   // by policy
}

// Setting gives one setting of the result, nil when it does not appear.
func (r *Result) Setting(id setting.ID) *Setting {
	at := sort.Search(len(r.Settings), func(i int) bool { return r.Settings[i].ID >= id })
	if at < len(r.Settings) && r.Settings[at].ID == id {
		return &r.Settings[at]
	}
	return nil
}
