package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/setting"
)

// Combiner is a combine rule: it decides one setting among the candidates of the laptops in
// question. Combiners hold no state.
//
// Laws, each of which is tested: the order in which policies are listed makes no difference; a
// candidate that no laptop has makes no difference; every laptop of rows that has a candidate comes
// out exactly once, but for the items of what is put together.
type Combiner interface {
	// Weight gives the number by which entries of one level are ordered, the greater first.
	Weight(def *setting.Definition, priority int64, v setting.Value) int64
	// ByLevel tells whether a closer level beats one further out.
	ByLevel() bool
	// Inherited tells whether entries arrive although a place detaches them.
	Inherited() bool
	// Combine decides the setting for the laptops of rows. There is at least one candidate and one
	// laptop; laptops without a candidate do not come out at all. Rows may be altered.
	Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set)
}

// combiners gives the Combiner of each rule that a definition can name.
var combiners = map[setting.Combine]Combiner{
	setting.Closest:   closest{},
	setting.Strictest: strictest{},
	setting.Merge:     merge{},
	setting.Common:    common{},
}
