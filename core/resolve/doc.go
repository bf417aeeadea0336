// Package resolve computes which settings each laptop gets, and why. A setting is computed from all
// policies of an estate together, before anything is sent to a laptop.
//
// The questions, each with one function:
//
//	Compile(snapshot)        make a Plan: the estate, prepared for questions
//	Plan.With(snapshot)      a plan of an altered estate; only what differs is computed again
//	Plan.Estate()            what every laptop gets
//	Plan.Effective(device)   what one laptop gets; Plan.Reasons is the same with every reason
//	Conflicts(), Problems()  which policies conflict, which checks fail, on which laptops
//	Plan.Reach, Plan.ReachOf whom a policy or an audience includes, and why others are left out
//	Plan.EntryFates          what becomes of each policy's entry for a setting
//	Plan.Inheritance         what a unit or group inherits
//	Plan.Lints()             what has no effect
//	Differ(before, after)    what differs between two resolutions
//
// # Phases
//
// A plan is made, and an altered plan brought up to date, in this order:
//
//	number     objects, values and rules get dense numbers that stay the same from one plan to the next (build*.go, number.go;
//	           internal/intern)
//	groups     members of groups are computed from lists, rules and nested groups (groups.go)
//	match      each policy's audience becomes one set of laptops for each level at which it applies (matches.go; internal/match)
//	decide     each setting is decided among the entries of the policies that apply: support, detached entries, exceptions, locks, the
//	           combine rule, rulings (update_settings.go; internal/decide)
//	force      forced values replace decided ones, then checks are evaluated over the result (force_settings.go)
//
// All phases work on sets of laptops, in blocks of 4,096 rows (package bitset). A row is a subject:
// a laptop with the person who signs in. One laptop is a set of one: the same matcher and the same
// decider answer for it, with an Observer that records the fate of each candidate (subject.go,
// explanation.go).
//
// Plans are immutable and safe for concurrent use. A plan made by With shares what did not change
// with the plan before it, so that Differ skips what two resolutions share.
//
// # Limits
//
// The package reads no clock, file or database: the day is part of the snapshot. It does not
// validate a snapshot; estate.Snapshot.Validate does. It has no words for people: results are codes
// and ids, which the CLI, the reports and the console put into words.
//
// # Example
//
// Unit slipway is below unit larkfell. The policy house-rules is for everyone and sets a banner.
// The policy slipway-desk is for the unit slipway and sets another banner. The banner combines by
// closest. A laptop in slipway gets the banner of slipway-desk: house-rules is a candidate of level
// unit:0 with the fate outer, slipway-desk a candidate of level unit:1 with the fate won.
package resolve
