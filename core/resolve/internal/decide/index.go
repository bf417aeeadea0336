// This file has the index of a setting: all that is known of it before any laptop is looked at.
// Entries are kept in three lists of the same order. Keys say whose the entry is, Ranked how it
// relates to others, Entries what it says: deciding reads the first two and rarely the third.

package decide

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Index is what is fixed of one setting before it is decided for anybody: its entries in order of
// precedence, its exceptions and its rulings. The zero Index is of no setting. Fields that are read
// for every laptop come first, for the sake of speed.
type Index struct {
	combiner   Combiner
	precedence *precedence // of the combiner, where it decides by precedence; nil: it does not
	Ranked     []Ranked    // in order of precedence
	Exceptions []Exception
	Outcomes   *intern.Outcomes
	items      []int32             // of lists that are put together: the items of each ranked entry, entry after entry
	unequal    bool                // some entry is of less than the greatest strength
	byItems    bool                // the rule is one by items
	begin      []int32             // by rank: where its items begin in items; in the end how many there are
	Def        *setting.Definition // nil: no such setting
	Entries    []Entry             // by rank
	Keys       []uint32            // by rank: the policy and the level, see Key
	Rulings    map[Ruling]bool
}

// Ranked is an entry as it comes from one level: a policy that applies at three levels has three.
// Within an index these are in order of precedence: the first one that a laptop has decides.
type Ranked struct {
	Policy   int32 // number
	LevelAt  int16 // the place of Level among the policy's levels
	Lock     bool
	Strength Strength
	Level    outcome.Level
	Order
	Class int32 // the same for equal values
}

// Order is how a ranked entry relates to the others of its setting, and what it decides. Most often
// nothing else is looked at.
type Order struct {
	Zone    int32 // entries of one zone beat each other by priority or strictness alone; zones of locked entries are below 0
	Run     int32 // entries of one run beat each other by nothing
	Outcome int32 // number of the value
}

// Entry is the policy's entry behind a ranked one. It is kept apart since it is looked at less
// often.
type Entry struct {
	*estate.Entry
	PolicyID estate.PolicyID
	weight   int64 // by which entries of one level are ordered: the combiner says what it is
}

// Exception is an exception that counts on the day, with the number of what it comes to. Those of
// an index are in the order in which they are looked at: the first one whose target matches wins.
type Exception struct {
	*estate.Exception
	Outcome int32
}

// Ruling is a decision that prefers one policy over another for the setting.
type Ruling struct{ Prefer, Over estate.PolicyID }

// Define sets the definition that the index is for.
func (ix *Index) Define(def *setting.Definition, outcomes *intern.Outcomes) {
	ix.Def, ix.Outcomes, ix.combiner, ix.precedence = def, outcomes, combiners[def.Combine], nil
	ix.byItems = def.Combine.ByItems()
	// Rules that decide by precedence say how, and can then be decided by the first candidate alone
	// (lead.go). Other rules have no such method.
	if by, ok := ix.combiner.(interface{ precedence() *precedence }); ok {
		ix.precedence = by.precedence()
	}
}

// Inherited tells whether entries arrive although a place detaches them, as lists that add up do.
func (ix *Index) Inherited() bool { return ix.combiner.Inherited() }

// how names the combine rule as what decided a value.
func (ix *Index) how() outcome.How { return outcome.ByRule(ix.Def.Combine) }

// Rule gives the combine rule.
func (ix *Index) Rule() setting.Combine { return ix.Def.Combine }

// Items gives the numbers of the items that the entry of a rank brings. It is empty where values
// are not put together of items.
func (ix *Index) Items(rank int32) []int32 {
	if len(ix.begin) == 0 {
		return nil
	}
	return ix.items[ix.begin[rank]:ix.begin[rank+1]]
}

// Key packs the number of a policy and the place of one of its levels. A policy has no more levels
// than the tree of units is deep, and two.
//
// It serves as one number for a level match: a policy together with one of its levels.
func Key(policy, levelAt int) uint32 { return uint32(policy)<<10 | uint32(levelAt) }

// Unkey gives the policy and the place of the level of a key.
func Unkey(key uint32) (policy, levelAt int) { return int(key >> 10), int(key & (1<<10 - 1)) }
