// Package setting is the dictionary: what can be set on a laptop, which values fit, how the values
// of several policies combine, which of two is the stricter, and which laptops support it. The
// resolver asks a definition; it never looks at a setting's name.
package setting

import "zenithridge.example/zridge/core/rule"

// ID names a definition, area.thing.property. The zero ID names none.
type ID string

// PolicyKind is the kind of a policy and of a setting.
type PolicyKind string

const (
	Configuration PolicyKind = "configuration"
	Security      PolicyKind = "security"
	Encryption    PolicyKind = "encryption"
)

// PolicyKinds lists every PolicyKind.
var PolicyKinds = []PolicyKind{Configuration, Security, Encryption}

// Side tells whose setting it is: the device's, or that of the person who signs in.
type Side string

const (
	DeviceSide Side = "device"
	UserSide   Side = "user"
)

// Sides lists every Side.
var Sides = []Side{DeviceSide, UserSide}

// Stricter says which of two values of a `strictest` setting is the stricter.
type Stricter string

const (
	StricterLower  Stricter = "lower"  // integer: the lower number
	StricterHigher Stricter = "higher" // integer: the higher number
	StricterTrue   Stricter = "true"   // bool: true
	StricterFalse  Stricter = "false"  // bool: false
	StricterLater  Stricter = "later"  // choice: the later option
)

// Effect is something that a person notices when a value arrives.
type Effect string

const (
	Restart      Effect = "restart"      // takes effect after a restart
	Prompt       Effect = "prompt"       // asks the person something
	Irreversible Effect = "irreversible" // can't be undone from here
	Lockout      Effect = "lockout"      // can keep the person from working or signing in
)

// Effects lists every Effect.
var Effects = []Effect{Restart, Prompt, Irreversible, Lockout}

// Platform is an operating-system family.
type Platform string

const (
	Linux   Platform = "linux"
	Windows Platform = "windows"
	MacOS   Platform = "macos"
)

// Platforms lists every Platform.
var Platforms = []Platform{Linux, Windows, MacOS}

// Support is one row of `supports`: a platform, and what limits it there. Zero fields limit
// nothing.
type Support struct {
	Platform Platform
	From     string     // the lowest version, a dotted number
	Editions []string   // the editions that have it
	When     *rule.Rule // over device: what the laptop must be able to do; nil: anything
	Needs    string     // what When asks for, in words: "a security chip"
}

// Forced is a value that a condition over the decided settings forces.
type Forced struct {
	When  *rule.Rule
	Value Value
}

// Definition is one setting of the dictionary.
type Definition struct {
	ID       ID
	Title    string
	Help     string // what it does and what a person notices
	Kind     PolicyKind
	Area     string
	Keywords []string // further words that people search for
	Side     Side
	Combine  Combine
	Default  Value // what an unmanaged laptop does; nothing when not known
	Supports []Support
	Effects  []Effect
	Stricter Stricter

	Shape

	Forced []Forced

	// Shipped marks the definitions that come with the service; an estate's own may be in their
	// place.
	Shipped bool
}

// Rank places v in the order of strictness: of two values the one of higher rank is the stricter.
// It is meaningful for definitions that combine by Strictest, and 0 for a value that is none of the
// options.
func (d *Definition) Rank(v Value) int64 {
	switch d.Stricter {
	case StricterLower:
		return ^v.Integer() // not -n: the lowest int64 has no negative
	case StricterHigher:
		return v.Integer()
	case StricterTrue:
		return v.number
	case StricterFalse:
		return 1 - v.number
	case StricterLater:
		for i, option := range d.Options {
			if option == v.text {
				return int64(i) + 1
			}
		}
	}
	return 0
}

// HasEffect tells whether e is among the definition's effects.
func (d *Definition) HasEffect(e Effect) bool {
	for _, have := range d.Effects {
		if have == e {
			return true
		}
	}
	return false
}

// Unsupported is the reason why a laptop does not have a setting.
type Unsupported string

const (
	Supported    Unsupported = ""
	NoPlatform   Unsupported = "platform"
	LowVersion   Unsupported = "version"
	OtherEdition Unsupported = "edition"
	Incapable    Unsupported = "capability"
)

// Unsupporteds lists every reason in the order in which they are tested.
var Unsupporteds = []Unsupported{NoPlatform, LowVersion, OtherEdition, Incapable}

// Capability gives the condition that a laptop of a platform must meet to have the setting, nil
// where there is none.
func (d *Definition) Capability(os Platform) *rule.Rule {
	for i := range d.Supports {
		if d.Supports[i].Platform == os {
			return d.Supports[i].When
		}
	}
	return nil
}

// NeedsCapability tells whether some platform has the setting only where a condition on the laptop
// is true.
func (d *Definition) NeedsCapability() bool {
	for i := range d.Supports {
		if d.Supports[i].When != nil {
			return true
		}
	}
	return false
}

// SupportOn tells whether a laptop of this platform, version and edition supports the setting, and
// if not, the first reason of platform, version, edition. A version that is not a number fails
// `version`. The condition of Capability is not looked at: it needs the whole laptop.
func (d *Definition) SupportOn(os Platform, version, edition string) Unsupported {
	if len(d.Supports) == 0 {
		return Supported
	}
	for i := range d.Supports {
		row := &d.Supports[i]
		if row.Platform != os {
			continue
		}
		if row.From != "" {
			if order, err := rule.CompareVersions(version, row.From); err != nil || order < 0 {
				return LowVersion
			}
		}
		if len(row.Editions) > 0 {
			for _, e := range row.Editions {
				if e == edition && edition != "" {
					return Supported
				}
			}
			return OtherEdition
		}
		return Supported
	}
	return NoPlatform
}
