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

func (closest) Weight(_ *setting.Definition, priority int64, _ setting.Value) int64 { return priority }
func (closest) ByLevel() bool                                                       { return true }
func (closest) Inherited() bool                                                     { return false }

func (closest) precedence() *precedence {
	return &precedence{how: outcome.ByClosest, inZone: outcome.LowerPriority, beyond: outcome.Outer, ties: true}
}

// Combine takes, for each laptop, the first candidate in order of precedence.
func (r closest) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	d.byPrecedence(ix, in, rows, r.precedence())
}
