// Package seal keeps small secrets in the database so that the database alone does not give them
// away: they are encrypted with a key that is kept in a file of its own.
//
// There are two forms. Seal and Open use that of age (https://age-encryption.org), so that its tools
// can read what was sealed. SealFor and OpenFor are for secrets of which there are many and which
// are needed with every request: they take microseconds, and a secret that was sealed for one owner
// cannot be opened for another.
package seal

import (
	"bytes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"
)

// Key seals and opens secrets. It is safe for concurrent use.
type Key struct {
	identity *age.X25519Identity
	owned    cipher.AEAD // of SealFor
}

// keyOf gives the key of an identity. The key of SealFor is derived from it (HKDF, RFC 5869).
func keyOf(identity *age.X25519Identity) (*Key, error) {
	derived, err := hkdf.Key(sha256.New, []byte(identity.String()), nil, "zridge secrets of laptops", chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	owned, err := chacha20poly1305.NewX(derived)
	return &Key{identity, owned}, err
}

// Load reads a key file, or makes one that only its owner can read.
func Load(file string) (*Key, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(file, []byte(identity.String()+"\n"), 0o600); err != nil {
			return nil, err
		}
		return keyOf(identity)
	}
	if err != nil {
		return nil, fmt.Errorf("the key for secrets: %w", err)
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, fmt.Errorf("the key for secrets, %s: expected one line that begins with AGE-SECRET-KEY-", file)
	}
	return keyOf(identity)
}

// Seal encrypts a secret. The result is text.
func (k *Key) Seal(secret string) (string, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, k.identity.Recipient())
	if err != nil {
		return "", err
	}
	if _, err := io.WriteString(w, secret); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(out.Bytes()), nil
}

// Open gives a secret that was sealed. The error does not say what was sealed.
func (k *Key) Open(sealed string) (string, error) {
	data, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return "", errors.New("a sealed secret is damaged")
	}
	r, err := age.Decrypt(bytes.NewReader(data), k.identity)
	if err != nil {
		return "", errors.New("a secret was sealed with another key than that of this service")
	}
	secret, err := io.ReadAll(io.LimitReader(r, 1<<16))
	if err != nil {
		return "", errors.New("a sealed secret is damaged")
	}
	return string(secret), nil
}

// ownedPrefix marks what SealFor gives.
const ownedPrefix = "owned:"

// SealFor encrypts a secret for an owner, such as a laptop (XChaCha20-Poly1305 with the owner as
// associated data). The result is text.
func (k *Key) SealFor(owner, secret string) string {
	nonce := make([]byte, k.owned.NonceSize(), k.owned.NonceSize()+len(secret)+k.owned.Overhead())
	rand.Read(nonce)
	return ownedPrefix + base64.RawStdEncoding.EncodeToString(k.owned.Seal(nonce, nonce, []byte(secret), []byte(owner)))
}

// IsSealedFor tells whether a text is what SealFor gives.
func IsSealedFor(text string) bool { return strings.HasPrefix(text, ownedPrefix) }

// OpenFor gives a secret that was sealed for an owner. The error does not say what was sealed.
func (k *Key) OpenFor(owner, sealed string) (string, error) {
	text, is := strings.CutPrefix(sealed, ownedPrefix)
	data, err := base64.RawStdEncoding.DecodeString(text)
	if !is || err != nil || len(data) < k.owned.NonceSize() {
		return "", errors.New("a sealed secret is damaged")
	}
	secret, err := k.owned.Open(nil, data[:k.owned.NonceSize()], data[k.owned.NonceSize():], []byte(owner))
	if err != nil {
		return "", errors.New("a secret was sealed with another key than that of this service, or for somebody else")
	}
	return string(secret), nil
}
