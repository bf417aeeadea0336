// Package recovery has recovery keys: how they are written and told from one another, how a laptop
// is found by a serial number that is hard to read, and how far a company's laptops are encrypted
// with a key that somebody can find again.
//
// A recovery key opens a disk when the chip, the PIN or the person's password no longer does. It is
// 32 letters, 128 random bits. Its identifier is 12 digits, computed from the key: the locked
// screen shows the identifier, and the service keeps it in the clear.
//
//	key, err := recovery.New(rand.Reader)
//	key.Reveal()             // "bnrt hvce …", to be typed at the locked laptop
//	key.Identifier().Spaced() // "4821 0937 5512"
//
// The package keeps nothing and seals nothing: package escrow does that.
package recovery

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// letters are what keys are written with, four bits each. They are at the same place on the usual
// Latin keyboards, so that a key can be typed before the system has loaded the layout of the
// keyboard.
const letters = "bcdefghjknprstuv"

// Length is how many letters a key has.
const Length = 32

const (
	group      = 4 // letters, or digits of an identifier, that are shown together
	digits     = 12
	maxEntered = 200 // bytes of what somebody enters as a key or an identifier
)

// Key is a recovery key. However it is printed or logged, it is not shown: only Reveal and
// Passphrase give it.
type Key struct{ text string }

// New makes a key of random bytes.
func New(random io.Reader) (Key, error) {
	var raw [Length / 2]byte
	if _, err := io.ReadFull(random, raw[:]); err != nil {
		return Key{}, fmt.Errorf("making a recovery key: %w", err)
	}
	var text strings.Builder
	for _, b := range raw {
		text.WriteByte(letters[b>>4])
		text.WriteByte(letters[b&15])
	}
	return Key{text.String()}, nil
}

// ErrNoKey says that a text is no recovery key. It does not say the text.
var ErrNoKey = errors.New("expected a recovery key: 32 of the letters " + letters)

// Parse reads a key as somebody wrote it: spaces, hyphens and capital letters do not matter.
func Parse(text string) (Key, error) {
	if len(text) > maxEntered {
		return Key{}, ErrNoKey
	}
	text = strings.ToLower(unspaced(text))
	if len(text) != Length || strings.Trim(text, letters) != "" {
		return Key{}, ErrNoKey
	}
	return Key{text}, nil
}

// unspaced gives a text without blanks and hyphens, which people write to keep groups apart.
func unspaced(text string) string {
	return strings.NewReplacer(" ", "", "-", "", "\t", "", "\n", "", "\u00a0", "").Replace(text)
}

// Reveal gives the key in groups of four letters, to be read out. It is typed without the spaces.
func (k Key) Reveal() string { return spaced(k.text) }

// Passphrase gives the key as the disk takes it.
func (k Key) Passphrase() []byte { return []byte(k.text) }

// IsZero tells whether there is no key.
func (k Key) IsZero() bool { return k.text == "" }

// String does not give the key.
func (k Key) String() string { return "(a recovery key)" }

// GoString does not give the key.
func (k Key) GoString() string { return k.String() }

// MarshalJSON refuses: a key is written nowhere by accident.
func (k Key) MarshalJSON() ([]byte, error) {
	return nil, errors.New("a recovery key is not written as JSON")
}

// Identifier tells keys from one another: 12 digits. The empty Identifier names no key.
type Identifier string

// Identifier gives the identifier of the key: the first 64 bits of a SHA-256 over it, as a decimal
// number of 12 digits.
func (k Key) Identifier() Identifier {
	sum := sha256.Sum256([]byte("zridge recovery key " + k.text))
	return Identifier(fmt.Sprintf("%0*d", digits, binary.BigEndian.Uint64(sum[:])%1_000_000_000_000))
}

// ParseIdentifier reads an identifier as somebody wrote it: spaces and hyphens do not matter.
func ParseIdentifier(text string) (Identifier, error) {
	is := unspaced(text)
	if len(text) > maxEntered || len(is) != digits || strings.Trim(is, "0123456789") != "" {
		return "", fmt.Errorf("found %.40q, expected the 12 digits that the locked screen shows", text)
	}
	return Identifier(is), nil
}

// Pattern is an identifier as far as somebody could read it: 12 digits, or question marks for those
// that nobody can read.
type Pattern string

// ParsePattern reads a pattern as somebody wrote it: spaces and hyphens do not matter.
func ParsePattern(text string) (Pattern, error) {
	if _, err := ParseIdentifier(strings.ReplaceAll(text, string(unread), "0")); err != nil {
		return "", err
	}
	return Pattern(unspaced(text)), nil
}

// Unread counts the digits that nobody can read. A Pattern without one is an Identifier.
func (p Pattern) Unread() int { return strings.Count(string(p), string(unread)) }

// Fits tells whether an identifier may be the one that somebody read.
func (p Pattern) Fits(id Identifier) bool {
	if len(p) != len(id) {
		return false
	}
	for i := range len(p) {
		if p[i] != id[i] && p[i] != unread {
			return false
		}
	}
	return true
}

// Spaced gives the identifier in groups of four digits, as the locked screen shows it.
func (id Identifier) Spaced() string { return spaced(string(id)) }

// spaced gives a text in groups of four characters with blanks between them.
func spaced(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if i > 0 && i%group == 0 {
			out.WriteByte(' ')
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// SealedKey is a key on its way to where it is stored, sealed to whoever may open it.
type SealedKey struct {
	Volume     string     `json:"volume"` // UUID of its header, or its path
	Name       string     `json:"name"`   // of the volume, as people know it
	Identifier Identifier `json:"identifier"`
	Sealed     []byte     `json:"sealed"` // in the form of age; base64 in JSON
	Recipients []string   `json:"recipients"`
	MadeAt     time.Time  `json:"made_at"`
}
