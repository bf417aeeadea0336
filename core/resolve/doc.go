// Package resolve decides which settings a laptop gets, and says why. It answers four questions:
// what a laptop gets (Effective), what the whole estate gets (Estate), which policies clash and on
// which laptops (Conflicts), and which entries do nothing (Lints).
//
// The phases are
//
//	compile   a snapshot is indexed once: the units' tree, the members of groups, targets by place
//	match     which policies apply to a subject, at which level, and why the others do not
//	order     the candidates of each setting, with what is detached set apart
//	decide    exceptions, locks, the definition's combine rule and rulings make one value, or a conflict
//	finish    forced values, then checks over the decided set
//
// A subject is the pair (device, person). Deciding is one function for one laptop and for all of
// them; it records each candidate's fate while it decides. The package reads no clock, file or
// database and does not judge whether a snapshot is well-formed: estate.Snapshot.Validate does.
//
// An example: unit larkfell above unit slipway; house-rules for larkfell sets a banner, slipway-desk
// for slipway another one, with combine rule closest. A laptop in slipway gets the second: house-rules
// is a candidate of level unit:0 with fate outer, slipway-desk one of level unit:1 with fate won.
package resolve
