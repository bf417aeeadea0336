// This file lists the codes. Each example is an estate file that a test loads: it must give that
// code. Codes are never renamed or given another meaning; new ones are added.

package problem

// Code says what kind of fault it is.
type Code string

const (
	// Syntax: the text is not YAML, JSON or CSV at all.
	//
	// Example:
	//	units: [ {id: larkfell
	Syntax Code = "syntax"

	// Encoding: the file holds bytes that are not UTF-8.
	Encoding Code = "encoding"

	// Unreadable: the file or folder can't be read.
	Unreadable Code = "unreadable"

	// TooLarge: the file is over 64 MiB.
	TooLarge Code = "too-large"

	// LinkOutside: a symbolic link leads out of the estate folder.
	LinkOutside Code = "link-outside"

	// TooMany: more documents, keys, columns or levels of units than are allowed.
	TooMany Code = "too-many"

	// Anchor: an anchor, alias or merge key; files say what they mean where they mean it.
	//
	// Example:
	//	units: [&root {id: larkfell}]
	Anchor Code = "anchor"

	// TooDeep: more than 64 levels of nesting.
	TooDeep Code = "too-deep"

	// UnknownField: a field, list or column that the format does not have.
	//
	// Example:
	//	units: [{id: larkfell, colour: blue}]
	UnknownField Code = "unknown-field"

	// DoubledField: the same key twice in one map.
	//
	// Example:
	//	units: [{id: larkfell, title: A, title: B}]
	DoubledField Code = "doubled-field"

	// MissingField: a required field is not there.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	devices: [{id: LT-1, os: linux}]
	MissingField Code = "missing-field"

	// MisplacedField: a field that has no meaning beside the others, `options` of a setting that is
	// no choice, say.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool, options: [x]}]
	MisplacedField Code = "misplaced-field"

	// WrongType: a value of another type than the field or setting holds.
	//
	// Example:
	//	units: [{id: 12}]
	WrongType Code = "wrong-type"

	// NotOneOf: a word outside of a closed list.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	devices: [{id: LT-1, os: toaster, os_version: "1"}]
	NotOneOf Code = "not-one-of"

	// OutOfRange: a number outside of its bounds, or more text or items than allowed.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	policies: [{id: p, kind: security, priority: 1000001, settings: {}, audience: {}}]
	OutOfRange Code = "out-of-range"

	// PatternMismatch: a text or list item that its setting's pattern does not allow.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: text, pattern: '^x$'}]
	//	policies: [{id: p, kind: security, settings: {a.b: y}, audience: {}}]
	PatternMismatch Code = "pattern-mismatch"

	// BadPattern: a regular expression (RE2 syntax) that does not compile.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: text, pattern: '('}]
	BadPattern Code = "bad-pattern"

	// BadID: an id of other characters than letters, digits, '.', '_', '-', or not 1 to 128 of
	// them.
	//
	// Example:
	//	units: [{id: "lark fell"}]
	BadID Code = "bad-id"

	// DoubledID: two objects of one list with the same id.
	//
	// Example:
	//	units: [{id: larkfell}, {id: slipway, parent: larkfell}, {id: slipway, parent: larkfell}]
	DoubledID Code = "doubled-id"

	// DoubledItem: the same item twice in one list.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	devices: [{id: LT-1, os: linux, os_version: "1", tags: [a, a]}]
	DoubledItem Code = "doubled-item"

	// UnknownReference: something is named that is not in the estate.
	//
	// Example:
	//	units: [{id: larkfell}, {id: slipway, parent: nowhere}]
	UnknownReference Code = "unknown-reference"

	// BadTarget: a target that is none of everyone, unit:ID, group:ID, device:ID, person:ID.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	policies: [{id: p, kind: security, settings: {}, audience: {include: [slipway]}}]
	BadTarget Code = "bad-target"

	// BadDate: a text that is no day of the form 2026-05-01.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool}]
	//	exceptions: [{id: E, setting: a.b, target: everyone, unset: true, until: soon, reason: r, approved_by: x, approved_on: 2026-01-01}]
	BadDate Code = "bad-date"

	// BadVersion: a text that is no dotted number.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool, supports: [{platform: linux, from: twelve}]}]
	BadVersion Code = "bad-version"

	// BadExpression: a CEL expression that does not parse, names something unknown or is known not
	// to be a bool.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	groups: [{id: g, of: devices, rule: 1 + 1}]
	BadExpression Code = "bad-expression"

	// ReservedName: a fact or attribute that bears the name of a field of devices or people.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	devices: [{id: LT-1, os: linux, os_version: "1", facts: {serial: x}}]
	ReservedName Code = "reserved-name"

	// NoRoot: no unit is without a parent.
	//
	// Example:
	//	people: [{id: ines}]
	NoRoot Code = "no-root"

	// ManyRoots: more than one unit is without a parent.
	//
	// Example:
	//	units: [{id: larkfell}, {id: slipway}]
	ManyRoots Code = "many-roots"

	// Cycle: a unit that lies below itself, or a group that is its own member through others.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	groups: [{id: a, of: devices, groups: [b]}, {id: b, of: devices, groups: [a]}]
	Cycle Code = "cycle"

	// OtherKind: a group of people as a member of a group of devices, or the other way round.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	groups: [{id: a, of: devices, groups: [b]}, {id: b, of: people}]
	OtherKind Code = "other-kind"

	// EitherOr: exactly one of two fields must be there.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool}]
	//	exceptions: [{id: E, setting: a.b, target: everyone, until: 2026-05-01, reason: r, approved_by: x, approved_on: 2026-01-01}]
	EitherOr Code = "either-or"

	// DatesReversed: an exception that ends before it starts.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool}]
	//	exceptions: [{id: E, setting: a.b, target: everyone, unset: true, from: 2026-06-01, until: 2026-05-01, reason: r, approved_by: x, approved_on: 2026-01-01}]
	DatesReversed Code = "dates-reversed"

	// PrefersItself: a ruling that prefers a policy over itself.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: bool}]
	//	policies: [{id: p, kind: security, settings: {}, audience: {}}]
	//	rulings: [{id: R, setting: a.b, prefer: p, over: p}]
	PrefersItself Code = "prefers-itself"

	// CellCount: a CSV row with more or fewer cells than the header.
	CellCount Code = "cell-count"

	// InUse: something is retired that other objects still name.
	InUse Code = "in-use"

	// BadHash: a file that is not named by its SHA-256, where it has to be.
	BadHash Code = "bad-hash"

	// BadPath: a path of a management node that no laptop has: no start, doubled slashes, braces
	// left in an id.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: text, format: node-path}]
	//	policies: [{id: p, kind: security, settings: {a.b: ./Device//Plotter}, audience: {}}]
	BadPath Code = "bad-path"

	// WrongContent: a file that holds something else than its setting needs, or that must not be
	// kept.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: file, content: certificate}]
	//	policies: [{id: p, kind: security, settings: {a.b: {file: a.yaml}}, audience: {}}]
	WrongContent Code = "wrong-content"

	// UnknownFile: a file that is named but not kept here, or not in the folder.
	//
	// Example:
	//	units: [{id: larkfell}]
	//	settings: [{id: a.b, kind: security, type: file}]
	//	policies: [{id: p, kind: security, settings: {a.b: {file: not/there}}, audience: {}}]
	UnknownFile Code = "unknown-file"

	// Malware: a scanner found malware in a file.
	Malware Code = "malware"
)
