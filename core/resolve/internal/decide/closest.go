package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

// closest takes the value of the innermost level, there that of the highest priority. Candidates of
// one level and priority with different values are a conflict, unless rulings prefer one value over
// every other.
type closest struct{}

// Weight is the policy's priority: within a level, the highest decides.
func (closest) Weight(_ *setting.Definition, priority int64, _ setting.Value) int64 { return priority }

// ByLevel is true: the level counts before the weight.
func (closest) ByLevel() bool { return true }

// Inherited is false: a detached place does not get the entry.
func (closest) Inherited() bool { return false }

// precedence says what becomes of the entries behind the first one of a laptop.
func (closest) precedence() *precedence {
	return &precedence{inZone: outcome.LowerPriority, beyond: outcome.Outer, ties: true}
}

// Combine takes, for each laptop, the first candidate in order of precedence.
func (r closest) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	d.byPrecedence(ix, in, rows, r.precedence())
}
