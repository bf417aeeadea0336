// This file has what a laptop's own side has to do, besides the protocol.

package endpoint

import (
	"io"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// Platform is where managed values really live on a laptop.
type Platform interface {
	// Apply sets a value, or with nothing leaves the setting to the laptop. It gives a status code
	// of the protocol.
	Apply(id setting.ID, v setting.Value) (code string)
	// Reported gives what is in force now for every setting that is managed.
	Reported() map[setting.ID]setting.Value
}

// Observer is a Platform that can also tell what is in force for settings that nothing manages.
type Observer interface {
	Observe(id setting.ID) (v setting.Value, known bool)
}

// Supporter is a Platform that can tell beforehand which settings it has.
type Supporter interface {
	Supports(id setting.ID) bool
}

// Knower is a Platform that knows facts of the laptop.
type Knower interface {
	// Fact gives a bool, a whole number or a text; known is false where it does not know.
	Fact(name string) (v setting.Value, known bool)
}

// Keeper is a Platform that keeps the files that values name.
type Keeper interface {
	// KeepFile keeps a file under its SHA-256 in hexadecimal. Where reading gives an error, it is another
	// file, or not whole, and is not kept.
	KeepFile(sha256 string, data io.Reader) error
	// HasFile tells whether a file is kept.
	HasFile(sha256 string) bool
}

// Chooser is a Platform that shows offered policies to its person, who takes or leaves each of them.
type Chooser interface {
	// ShowOffer shows an offered policy, or shows it otherwise than before.
	ShowOffer(policy string, o syncml.Offer)
	// HideOffer shows a policy no more. What its person chose is kept: it may be offered again.
	HideOffer(policy string)
	// Taken gives the ids of the policies that its person took.
	Taken() []string
}

// Explainer is a Platform that shows to its person why settings are managed.
type Explainer interface {
	// ShowWhy shows why a setting is managed, or shows it otherwise than before.
	ShowWhy(id setting.ID, w syncml.Why)
	// HideWhy shows it no more.
	HideWhy(id setting.ID)
}

// Watcher is a Platform that notices what is altered on the laptop.
type Watcher interface {
	// Drifts gives what was altered and the service does not know yet, the oldest first.
	Drifts() []syncml.Drift
	// Told forgets the first of them: the service knows.
	Told(n int)
}
