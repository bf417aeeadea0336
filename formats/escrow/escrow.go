// Package escrow seals recovery keys to those who may open them, in the form of age (https://age-encryption.org/v1) with
// X25519 recipients.
//
// What is sealed says for which laptop and volume the key is. So a sealed key that was moved to another laptop in a
// database is noticed when it is opened. Sealed keys can be opened without this program: `age -d -i FILE` gives the JSON
// text that Content describes.
package escrow

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"zenithridge.example/zridge/core/recovery"
)

// Limits of what is sealed.
const (
	MaxRecipients = 8
	MaxSealed     = 8 << 10 // bytes
	maxContent    = 4 << 10
)

// Content is what is sealed.
type Content struct {
	Device     string              `json:"device"`
	Volume     string              `json:"volume"`
	Identifier recovery.Identifier `json:"identifier"`
	Key        string              `json:"key"` // as it is typed at the locked laptop
	MadeAt     time.Time           `json:"made_at"`
}

// Recipients reads the recipients that a key is sealed to: texts that begin with age1. At least one is needed, and each
// may be named once.
func Recipients(texts []string) ([]age.Recipient, error) {
	if len(texts) == 0 || len(texts) > MaxRecipients {
		return nil, fmt.Errorf("found %d escrow recipients, expected 1 to %d", len(texts), MaxRecipients)
	}
	out := make([]age.Recipient, len(texts))
	for i, text := range texts {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("found %.80q, expected an escrow recipient: a text that begins with age1", text)
		}
		if slices.Contains(texts[:i], text) {
			return nil, fmt.Errorf("the escrow recipient %s is named twice", text)
		}
		out[i] = r
	}
	return out, nil
}

// Seal seals a key to recipients.
func Seal(key recovery.Key, device, volume string, madeAt time.Time, to []age.Recipient) ([]byte, error) {
	text, err := json.Marshal(Content{device, volume, key.Identifier(), string(key.Passphrase()), madeAt.UTC().Truncate(time.Second)})
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	err = w.Close() // writes the end
	return out.Bytes(), err
}

// ErrNotFor says that a sealed key is sealed to others.
var ErrNotFor = errors.New("the recovery key is sealed to other escrow recipients")

// Open gives a key that was sealed for a volume of a laptop. The error never says the key. It is ErrNotFor where none of
// the identities is one of the recipients.
func Open(sealed []byte, device, volume string, identities ...age.Identity) (recovery.Key, error) {
	if len(identities) == 0 {
		return recovery.Key{}, ErrNotFor
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), identities...)
	var other *age.NoIdentityMatchError
	switch {
	case errors.As(err, &other):
		return recovery.Key{}, ErrNotFor
	case err != nil:
		return recovery.Key{}, errors.New("the sealed recovery key is damaged")
	}
	text, err := io.ReadAll(io.LimitReader(r, maxContent))
	var c Content
	if err != nil || json.Unmarshal(text, &c) != nil {
		return recovery.Key{}, errors.New("the sealed recovery key is damaged")
	}
	key, err := recovery.Parse(c.Key)
	switch {
	case err != nil || key.Identifier() != c.Identifier:
		return recovery.Key{}, errors.New("what is sealed is no recovery key")
	case c.Device != device || c.Volume != volume:
		return recovery.Key{}, errors.New("the sealed recovery key is for another laptop or volume")
	}
	return key, nil
}

// IsSealed tells whether data has the form of something that is sealed. It cannot tell for whom.
func IsSealed(data []byte) bool {
	return len(data) <= MaxSealed && strings.HasPrefix(string(data[:min(len(data), 64)]), "age-encryption.org/v1\n")
}
