// This file has the records in which a resolution answers for one laptop: each setting with its
// value, where that comes from, and what became of every candidate; the policies that do not apply,
// with the reason; the problems that checks found. They are data without words, and the same
// wherever they are shown.

package outcome

import (
	"sort"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
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

// Problem is a check that found the decided settings wrong as a whole.
type Problem struct {
	Check    estate.CheckID
	Message  string       // what the check says to people, as its author wrote it
	Settings []setting.ID // that the check names, sorted
	From     []string     // ids of all policies and exceptions that those settings come from, sorted
}

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

// State is what one setting is on one laptop. The zero State is a setting that does not appear.
type State struct {
	Status Status
	Value  setting.Value
}

// Equal tells whether two states are the same: of the same status, with equal values.
func (s State) Equal(t State) bool { return s.Status == t.Status && s.Value.Equal(t.Value) }
