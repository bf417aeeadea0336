package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

// strictest takes the strictest value by the definition's order, whatever the level. It is never a
// conflict.
type strictest struct{}

func (strictest) Weight(def *setting.Definition, _ int64, v setting.Value) int64 { return def.Rank(v) }
func (strictest) ByLevel() bool                                                  { return false }
func (strictest) Inherited() bool                                                { return false }

func (strictest) precedence() *precedence {
	return &precedence{how: outcome.ByStrictest, inZone: outcome.Weaker, beyond: outcome.Weaker}
}

// Combine takes, for each laptop, the first candidate in order of precedence: the index has them in
// order of strictness.
func (r strictest) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	d.byPrecedence(ix, in, rows, r.precedence())
}
