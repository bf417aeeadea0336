// Package outcome has the vocabulary and the records of answers about settings: what was decided
// for a setting, by what, what became of each entry, and why a policy does not apply. Package
// resolve computes them; reports, the API, the CLI and the console read them.
//
// A [Result] is the whole answer for one laptop with its person. It has one [Setting] for each
// setting that some policy or exception brings, and each of these has its [Candidate]s: the entries
// of the policies that apply, with a [Fate] each. The words are stable: they are part of the API and
// of reports in JSON.
//
// The package only holds data. It decides nothing and has no sentences for people.
//
// # Example
//
// The banner of house-rules, which is for everyone, and of slipway-desk, which is for the unit
// slipway, combine by closest. On a laptop in slipway the Setting has the Status Set, the How
// "closest" and From slipway-desk. Its candidates are house-rules, with the Level unit:0 and the
// Fate Outer, and slipway-desk, with the Level unit:1 and the Fate Won.
package outcome
