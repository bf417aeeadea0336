// Package intern gives numbers to what plans speak of, so that plans that are made of one another
// can be compared number by number: objects of the estate ([IDTable]), values of facts, attributes
// and settings ([Column]), tests of rules ([Test]), and what settings come out as ([Outcomes]).
//
// Columns, tests and outcomes belong to a [Generation], which is shared by all plans that come of
// one compilation. It only grows: conditions and values that were tried and never published stay in
// it. [Generation.Spent] says when it holds much more than it began with; compiling the snapshot
// anew begins another one, and the old one is freed with the last plan of it.
package intern
