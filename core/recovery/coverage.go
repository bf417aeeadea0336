// This file tells how far laptops are encrypted with a key that can be found again.
//
// It answers the question that an auditor asks: of the laptops that must be encrypted, how many
// are, and of how many could a key be given out? A laptop is judged by what it reports of its
// volumes, what policies demand, and which of its keys are stored. The keys themselves are nowhere
// in this file.

package recovery

import (
	"slices"
	"time"
)

// VolumeState says how a volume of a laptop is.
type VolumeState string

// States of a volume.
const (
	Plain      VolumeState = "plain"      // not encrypted
	Waiting    VolumeState = "waiting"    // encryption has not begun: the key is not stored yet, or somebody has to do something
	Encrypting VolumeState = "encrypting" // encryption has begun
	Encrypted  VolumeState = "encrypted"
	Cannot     VolumeState = "cannot" // the laptop says why
)

// VolumeStates lists every VolumeState.
var VolumeStates = []VolumeState{Plain, Waiting, Encrypting, Encrypted, Cannot}

// Volume is a volume of a laptop as the laptop reports it.
type Volume struct {
	ID         string      `json:"id"`   // UUID of its header, or its path as long as it has none
	Name       string      `json:"name"` // as people know it, such as "system disk"
	Kind       VolumeKind  `json:"kind"`
	State      VolumeState `json:"state"`
	Reason     string      `json:"reason,omitempty"`     // why it is not encrypted
	Method     string      `json:"method,omitempty"`     // as in the dictionary: aes-xts-256
	Identifier Identifier  `json:"identifier,omitempty"` // of the recovery key that opens it
	Elsewhere  bool        `json:"elsewhere,omitempty"`  // that key is stored at an address of the company
	Startup    []string    `json:"startup,omitempty"`    // what else opens it: passphrase, chip, pin
	Weak       string      `json:"weak,omitempty"`       // what is weaker about it than it should be
}

// VolumeKind says what a volume is.
type VolumeKind string

// Kinds of volumes.
const (
	SystemVolume    VolumeKind = "system"
	FixedVolume     VolumeKind = "fixed"
	RemovableVolume VolumeKind = "removable"
)

// VolumeKinds lists every VolumeKind.
var VolumeKinds = []VolumeKind{SystemVolume, FixedVolume, RemovableVolume}

// KeyState says what a stored key is for its volume.
type KeyState string

// States of a stored key.
const (
	Stored   KeyState = "stored"   // the laptop has not said yet that it opens the volume
	Current  KeyState = "current"  // it opens the volume
	Replaced KeyState = "replaced" // another one took its place
)

// Held is what is known of a key that is stored, besides the key. No key is ever part of a count.
type Held struct {
	Volume     string
	Identifier Identifier
	State      KeyState
	Recipients []string  // to which it is sealed
	Since      time.Time // when the laptop first said that it opens the volume; zero: it has not
	Used       time.Time // when it was shown; zero: it was not
}

// Laptop is what decides where a laptop is counted: what policies demand, what it reported, and
// which of its keys are stored.
type Laptop struct {
	Wanted     bool     // a policy demands that it is encrypted
	Escrow     bool     // a policy demands that its key is stored by the service
	Recipients []string // to which its key has to be sealed
	MaxAgeDays int64    // of its key; 0: any
	Reported   bool     // it has reported its volumes
	Volumes    []Volume
	Keys       []Held
}

// Group is a set of laptops that coverage counts. A laptop may be in several.
type Group string

// Groups of laptops.
const (
	All           Group = "all"
	Demanded      Group = "demanded"       // a policy demands encryption
	AllEncrypted  Group = "encrypted"      // every fixed volume is encrypted
	Escrowed      Group = "escrowed"       // encrypted, and each volume opens with a key that is stored
	NotEscrowed   Group = "not-escrowed"   // a volume is encrypted and no key of it is stored
	NotEncrypted  Group = "not-encrypted"  // encryption is demanded, and a volume is plain, waiting or being encrypted
	Unable        Group = "cannot"         // encryption is demanded, and the laptop cannot
	NeverReported Group = "never-reported" // encryption is demanded, and the laptop has not said anything
	NotRenewed    Group = "not-renewed"    // a key was shown, and still opens its volume
	TooOld        Group = "too-old"        // a key is older than a policy allows
	OtherSeal     Group = "not-resealed"   // a key is not sealed to the recipients that a policy names
)

// Groups lists every Group.
var Groups = []Group{All, Demanded, AllEncrypted, Escrowed, NotEscrowed, NotEncrypted, Unable, NeverReported, NotRenewed, TooOld, OtherSeal}

// Counts is how many laptops are in each group, in the order of Groups.
type Counts [11]int

// bitOf gives the bit of a group in a Membership, which is its place in Groups.
func bitOf(g Group) Membership {
	if at := slices.Index(Groups, g); at >= 0 {
		return 1 << at
	}
	return 0
}

// Bits of the groups. Judge is asked for every laptop of a company at once.
var (
	inAll, inDemanded, inEncrypted = bitOf(All), bitOf(Demanded), bitOf(AllEncrypted)
	inEscrowed, inNotEscrowed      = bitOf(Escrowed), bitOf(NotEscrowed)
	inNotEncrypted, inUnable       = bitOf(NotEncrypted), bitOf(Unable)
	inNeverReported, inNotRenewed  = bitOf(NeverReported), bitOf(NotRenewed)
	inTooOld, inOtherSeal          = bitOf(TooOld), bitOf(OtherSeal)
)

// Of gives the count of a group.
func (c *Counts) Of(g Group) int {
	if at := slices.Index(Groups, g); at >= 0 {
		return c[at]
	}
	return 0
}

// Add counts the groups of one laptop.
func (c *Counts) Add(in Membership) {
	for i := range c {
		c[i] += int(in >> i & 1)
	}
}

// Membership is the set of groups that a laptop is in.
type Membership uint16

// In tells whether a group is in the set.
func (m Membership) In(g Group) bool { return m&bitOf(g) != 0 }

// Judge gives the groups that a laptop is in at a moment.
//
// Removable volumes do not count: they are no part of the laptop. A laptop that has reported no
// volume of its own has not reported anything. A volume that cannot be encrypted counts before one
// that is not yet: somebody has to do something about the first.
func Judge(l *Laptop, now time.Time) (in Membership) {
	in = inAll
	if l.Wanted {
		in |= inDemanded
	}
	own := 0
	encrypted, open, unable := true, false, false
	for i := range l.Volumes {
		v := &l.Volumes[i]
		if v.Kind == RemovableVolume {
			continue
		}
		own++
		switch v.State {
		case Encrypted:
			if !l.holds(v) {
				in |= inNotEscrowed
			}
		case Cannot:
			unable, encrypted = true, false
		default:
			open, encrypted = true, false
		}
	}
	switch {
	// Nothing else is known of it, so nothing else is counted.
	case !l.Reported || own == 0:
		if l.Wanted {
			in |= inNeverReported
		}
		return in
	case encrypted:
		in |= inEncrypted
		if in&inNotEscrowed == 0 {
			in |= inEscrowed
		}
	case l.Wanted && unable:
		in |= inUnable
	case l.Wanted && open:
		in |= inNotEncrypted
	}
	for i := range l.Keys {
		k := &l.Keys[i]
		// A key that was replaced opens nothing any more.
		if k.State != Current {
			continue
		}
		// Somebody has seen the key. It must be replaced on the laptop.
		if !k.Used.IsZero() {
			in |= inNotRenewed
		}
		if l.MaxAgeDays > 0 && now.Sub(k.Since) > time.Duration(l.MaxAgeDays)*24*time.Hour {
			in |= inTooOld
		}
		if l.Escrow && !SameRecipients(k.Recipients, l.Recipients) {
			in |= inOtherSeal
		}
	}
	return in
}

// holds tells whether a key that opens a volume is stored, here or at an address of the company.
func (l *Laptop) holds(v *Volume) bool {
	if v.Elsewhere && v.Identifier != "" {
		return true
	}
	for i := range l.Keys {
		k := &l.Keys[i]
		if k.Volume == v.ID && k.Identifier == v.Identifier && k.State == Current {
			return true
		}
	}
	return false
}

// SameRecipients tells whether two lists name the same recipients, in any order. Neither names one
// twice.
func SameRecipients(a, b []string) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(x string) bool { return !slices.Contains(b, x) })
}
