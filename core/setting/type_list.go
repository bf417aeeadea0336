// This file has the type of lists of texts without repeats, with a pattern for items and a greatest
// number of them.
//
// Lists have no order of strictness, but two ways of combining of their own: merge adds up what all
// policies list, common leaves what all of them have. The order of items means nothing to a laptop;
// it is kept as it was written.

package setting

import (
	"fmt"

	"zenithridge.example/zridge/core/problem"
)

// listType is the behaviour of lists of texts without repeats. Lists of several policies can be
// merged, or reduced to the items that all of them have.
type listType struct{ unbounded }

// A definition of the type may bound each item and the number of items.
func (listType) holds(v Value) bool { return v.kind == List }
func (listType) bounds() []string   { return []string{"item_pattern", "max_items"} }

// check tests the number of items, each item, and that none is there twice.
func (listType) check(s *Shape, path string, v Value) []problem.Fault {
	items := v.list
	faults := NoRepeats(path, items)
	if s.MaxItems != nil && int64(len(items)) > *s.MaxItems {
		faults = append(
			faults,
			problem.Fault{Code: problem.OutOfRange, Path: path, Found: fmt.Sprintf("%d items", len(items)), Expected: s.Expectation()},
		)
	}
	for i, item := range items {
		if s.ItemPattern != nil && !s.ItemPattern.MatchString(item) {
			faults = append(faults, problem.Fault{
				Code: problem.PatternMismatch, Path: problem.Join(path, i),
				Found: problem.Quote(item), Expected: "an item that matches " + s.ItemPattern.String(),
			})
		}
	}
	return faults
}

// expectation says how many items there may be, and what they look like.
func (listType) expectation(s *Shape) string {
	if s.MaxItems != nil {
		return fmt.Sprintf("a list of at most %d texts", *s.MaxItems)
	}
	return "a list of texts"
}
