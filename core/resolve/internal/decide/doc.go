// Package decide decides one setting among the entries of all policies that apply, for one laptop
// and for thousands alike: what it works on are sets of laptops, and one laptop is a set of one.
//
// An [Index] holds the entries for a setting in order of precedence. It is made once for all
// laptops. A [Decider] takes the entries that laptops of a block have, as [Candidate]s, and tells
// what the setting comes out as, laptop by laptop. An [Observer] is told what became of every
// candidate and why. The order of the steps is that of section 6 of the contract: support,
// exceptions, then the definition's combine rule with locks and rulings.
//
// Each combine rule is a [Combiner] in a file of its own. To add one: write the file, add it to
// combiners in combiner.go, and give it a name and the types of values that it fits in package
// setting.
//
// The package knows nothing of units, groups or audiences: who has an entry, and whom an exception
// is for, comes in as sets.
package decide
