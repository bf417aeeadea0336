// Package resolve decides which settings a laptop gets, and says why. It answers four questions:
// what a laptop gets (Effective), what the whole estate gets (Estate), which policies conflict and on
// which laptops (Conflicts), and which entries do nothing (Lints).
//
// The estate is worked on as sets of laptops, in blocks of 4,096. The phases are
//
//	build     what differs from the plan before is found; facts are coded, entries of each setting put in the order of decision
//	rules     CEL is taken apart into tests of few facts; a test has one answer for all laptops that agree in them
//	audience  who gets which policy at which level, each laptop at one level only
//	decide    support, exceptions, locks, the definition's combine rule and rulings make one value, or a conflict
//	finish    forced values, then checks over the decided set
//
// A subject is the pair (device, person). Deciding is one function for one laptop and for all of them: one laptop is a set of
// one, and is given a recorder that is told each candidate's fate. A plan made With another snapshot shares whatever the
// differences do not touch, and Differ passes over what two resolutions share. The package reads no clock, file or
// database and does not judge whether a snapshot is well-formed: estate.Snapshot.Validate does.
//
// An example: unit larkfell above unit slipway; house-rules for larkfell sets a banner, slipway-desk
// for slipway another one, with combine rule closest. A laptop in slipway gets the second: house-rules
// is a candidate of level unit:0 with fate outer, slipway-desk one of level unit:1 with fate won.
package resolve
