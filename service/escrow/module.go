// This file protects the identities by a key in a security module.

package escrow

import (
	"bytes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/ThalesGroup/crypto11"
)

// Module is a security module that is reached by PKCS #11. Its key never leaves it: the module itself encrypts and
// decrypts (AES-256-GCM).
type Module struct {
	Path  string // of the module's library
	Token string // its label
	PIN   string // of the token's user
	Key   string // label of the key; empty: "zridge escrow". It is made if it is not there
}

const usualKey = "zridge escrow"

// wrapped is a file that a security module protects.
type wrapped struct {
	Form  string `json:"form"`
	Token string `json:"token"`
	Key   string `json:"key"`
	Nonce []byte `json:"nonce"`
	Data  []byte `json:"data"`
}

const wrappedForm = "zridge escrow identities, by PKCS #11, AES-256-GCM"

func isWrapped(data []byte) bool {
	return bytes.Contains(data[:min(len(data), 200)], []byte(wrappedForm))
}

// withKey does something with the key of the module.
func (m *Module) withKey(makes bool, do func(cipher.AEAD) error) (err error) {
	session, err := crypto11.Configure(&crypto11.Config{Path: m.Path, TokenLabel: m.Token, Pin: m.PIN, GCMIVLength: nonceSize})
	if err != nil {
		return fmt.Errorf("the security module, token %q: %w", m.Token, err)
	}
	defer func() { err = errors.Join(err, session.Close()) }()
	label := []byte(m.keyLabel())
	keys, err := session.FindKeys(nil, label)
	if err == nil && len(keys) == 0 && makes {
		id := make([]byte, 16)
		rand.Read(id)
		var made *crypto11.SecretKey
		made, err = session.GenerateSecretKeyWithLabel(id, label, 256, crypto11.CipherAES)
		keys = append(keys, made)
	}
	switch {
	case err != nil:
		return fmt.Errorf("the security module, key %q: %w", m.keyLabel(), err)
	case len(keys) == 0:
		return fmt.Errorf("the security module has no key %q", m.keyLabel())
	}
	key := keys[0]
	aead, err := key.NewGCM()
	if err != nil {
		return fmt.Errorf("the security module, key %q: %w", m.keyLabel(), err)
	}
	return do(aead)
}

const nonceSize = 12

func (m *Module) keyLabel() string {
	if m.Key == "" {
		return usualKey
	}
	return m.Key
}

func (m *Module) wrap(plain []byte) ([]byte, error) {
	out := wrapped{Form: wrappedForm, Token: m.Token, Key: m.keyLabel(), Nonce: make([]byte, nonceSize)}
	rand.Read(out.Nonce)
	err := m.withKey(true, func(aead cipher.AEAD) error {
		out.Data = aead.Seal(nil, out.Nonce, plain, []byte(wrappedForm))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(out, "", "  ")
}

func (m *Module) unwrap(data []byte) (plain []byte, err error) {
	var in wrapped
	if err := json.Unmarshal(data, &in); err != nil || in.Form != wrappedForm || len(in.Nonce) != nonceSize {
		return nil, errors.New("expected what a security module protects")
	}
	err = m.withKey(false, func(aead cipher.AEAD) error {
		if plain, err = aead.Open(nil, in.Nonce, in.Data, []byte(wrappedForm)); err != nil {
			return errors.New("the security module's key is another than that with which the file was protected, or the file is damaged")
		}
		return nil
	})
	return plain, err
}
