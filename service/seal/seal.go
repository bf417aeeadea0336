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
	"path/filepath"
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

// Load reads a key file, or makes one that only its owner can read. With a passphrase, the file is
// encrypted by it in the form of age; a file that was not is encrypted from then on. Without one,
// an encrypted file is refused.
func Load(file, passphrase string) (*Key, error) {
	data, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := keep(file, identity, passphrase); err != nil {
			return nil, err
		}
		return keyOf(identity)
	case err != nil:
		return nil, fmt.Errorf("the key for secrets: %w", err)
	}
	encrypted := IsEncrypted(data)
	switch {
	case encrypted && passphrase == "":
		return nil, fmt.Errorf("the key for secrets, %s, is encrypted with a passphrase: give it with --seal-passphrase", file)
	case encrypted:
		if data, err = Decrypt(data, passphrase); err != nil {
			return nil, fmt.Errorf("the key for secrets, %s: %w", file, err)
		}
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(data)))
	if err != nil {
		return nil, fmt.Errorf("the key for secrets, %s: expected one line that begins with AGE-SECRET-KEY-", file)
	}
	if !encrypted && passphrase != "" {
		if err := keep(file, identity, passphrase); err != nil {
			return nil, err
		}
	}
	return keyOf(identity)
}

// keep writes an identity to a file that only its owner can read; encrypted, where there is a
// passphrase.
func keep(file string, identity *age.X25519Identity, passphrase string) error {
	data := []byte(identity.String() + "\n")
	if passphrase != "" {
		var err error
		if data, err = Encrypt(data, passphrase); err != nil {
			return err
		}
	}
	return ReplaceFile(file, data)
}

// ReplaceFile writes a file that only its owner can read. What was there before is replaced as a
// whole: whoever reads it finds the one or the other.
func ReplaceFile(file string, data []byte) error {
	next, err := os.CreateTemp(filepath.Dir(file), ".seal-*") // of mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(next.Name()) // without effect once it has its name
	_, err = next.Write(data)
	if err := errors.Join(err, next.Sync(), next.Close()); err != nil {
		return err
	}
	return os.Rename(next.Name(), file)
}

// Encrypt encrypts data with a passphrase, in the form of age.
func Encrypt(data []byte, passphrase string) ([]byte, error) {
	recipient, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	return encrypt(data, recipient)
}

func encrypt(data []byte, to age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close() // writes the end
	return out.Bytes(), err
}

// IsEncrypted tells whether data is what Encrypt gives.
func IsEncrypted(data []byte) bool { return bytes.HasPrefix(data, []byte("age-encryption.org/")) }

// Decrypt gives what was encrypted with a passphrase.
func Decrypt(data []byte, passphrase string) ([]byte, error) {
	identity, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(data), identity)
	if err != nil {
		return nil, errors.New("the passphrase is another than that with which it was encrypted, or the file is damaged")
	}
	return io.ReadAll(io.LimitReader(r, maxDecrypted))
}

// maxDecrypted is how many bytes of an encrypted file are read at most.
const maxDecrypted = 64 << 10

// Seal encrypts a secret. The result is text.
func (k *Key) Seal(secret string) (string, error) {
	data, err := encrypt([]byte(secret), k.identity.Recipient())
	if err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(data), nil
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
