// Package match says who gets what: which laptops a target matches, to which of them a policy
// applies at which level, why it does not apply to the others, and which of them do not support a
// setting. It is the only place that reads audiences.
//
// A [Population] has the units, people, laptops and groups of an estate by number. A [Matcher]
// answers questions about the rows of one block of [Subjects], as sets: laptops with their owners,
// people by themselves, or any pairs of a laptop and a person. One pair is a block with one row,
// and is asked in the same way.
//
// Rules and conditions are taken apart into tests that look at few facts each (package intern). A
// test has one answer for all rows that agree in what it looks at, so that it is asked once for
// every combination of values that occurs, and not once for every row.
package match
