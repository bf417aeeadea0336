package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

// strictest takes the strictest value by the definition's order, whatever the level. It is never a
// conflict.
type strictest struct{}

// Weight is how strict the value is.
func (strictest) Weight(def *setting.Definition, _ int64, v setting.Value) int64 { return def.Rank(v) }

// ByLevel is false: the strictest value decides, from whatever level.
func (strictest) ByLevel() bool { return false }

// Inherited is false: a detached place does not get the entry.
func (strictest) Inherited() bool { return false }

// precedence says what becomes of the entries behind the first one of a laptop.
func (strictest) precedence() *precedence {
	return &precedence{inZone: outcome.Weaker, beyond: outcome.Weaker}
}

// Combine takes, for each laptop, the first candidate in order of precedence: the index has them in
// order of strictness.
func (r strictest) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	d.byPrecedence(ix, in, rows, r.precedence())
}
