// Package seal keeps small secrets in the database so that the database alone does not give them
// away: they are encrypted with a key that is kept in a file of its own. The form is that of age
// (https://age-encryption.org), so that its tools can read what was sealed.
package seal

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"filippo.io/age"
)

// Key seals and opens secrets. It is safe for concurrent use.
type Key struct{ identity *age.X25519Identity }

// Load reads a key file, or makes one that only its owner can read.
func Load(file string) (*Key, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		return &Key{identity}, os.WriteFile(file, []byte(identity.String()+"\n"), 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key for secrets: %w", err)
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, fmt.Errorf("the key for secrets, %s: expected one line that begins with AGE-SECRET-KEY-", file)
	}
	return &Key{identity}, nil
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
