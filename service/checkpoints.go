// This file signs the audit log: the key, a checkpoint every hour and at the end, and copies of
// checkpoints elsewhere.

package service

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// AuditLog says how the audit log is signed and how long it is kept.
type AuditLog struct {
	Key    string        // file with the signing key; empty: audit.key beside the database. It is made if it is not there
	Copies []string      // where checkpoints are sent: file:PATH, syslog+tls://HOST:PORT or https://…
	Places []string      // where records are sent as they are written, in the same forms
	Keep   time.Duration // after which records are removed, in whole signed segments; 0: never
}

const (
	checkpointEvery = time.Hour
	sendWithin      = 10 * time.Second
	waitingMost     = 1000 // checkpoints that wait until a copy can be sent
)

// signer signs the audit log of a running service.
type signer struct {
	flow   *workflow.Service
	key    ed25519.PrivateKey
	keep   time.Duration
	copies []*checkpointCopy
	config *Config
}

// checkpointCopy is a place to which checkpoints are sent, with those that wait to be sent.
type checkpointCopy struct {
	to      destination
	waiting []audit.Checkpoint
}

// auditKey reads the signing key, or makes one, and gives it with all public keys by which the log
// was signed.
func (c *Config) auditKey() (key ed25519.PrivateKey, public []ed25519.PublicKey, err error) {
	file := c.Audit.Key
	if file == "" {
		file = filepath.Join(filepath.Dir(c.Database), "audit.key")
	}
	if key, err = signingKey("the audit log", file); err != nil {
		return nil, nil, err
	}
	public, err = publicKeys(strings.TrimSuffix(file, filepath.Ext(file))+".pub", key.Public().(ed25519.PublicKey))
	return key, public, err
}

// signingKey reads the key with which something is signed, and makes it where it is not there.
func signingKey(of, file string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		text, err = newSigningKey(file)
	}
	if err != nil {
		return nil, fmt.Errorf("the key of %s: %w", of, err)
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("the key of %s, %s: found no PEM, expected a PRIVATE KEY of Ed25519", of, file)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("the key of %s, %s: expected a PRIVATE KEY of Ed25519 in PEM", of, file)
	}
	return key, nil
}

// newSigningKey makes a key that only its owner can read.
func newSigningKey(file string) ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	return text, os.WriteFile(file, text, 0o600)
}

// publicKeys gives the keys in a file of public keys, to which a key is added that is not there
// yet: the file has every key by which the log was ever signed.
func publicKeys(file string, key ed25519.PublicKey) ([]ed25519.PublicKey, error) {
	text, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	keys, err := ReadPublicKeys(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if slices.ContainsFunc(keys, func(k ed25519.PublicKey) bool { return k.Equal(key) }) {
		return keys, nil
	}
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, err
	}
	text = append(text, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})...)
	return append(keys, key), os.WriteFile(file, text, 0o600)
}

// ReadPublicKeys reads the Ed25519 keys of a PEM file: public keys, and private ones for their
// public part.
func ReadPublicKeys(text []byte) (keys []ed25519.PublicKey, err error) {
	for {
		block, rest := pem.Decode(text)
		if block == nil {
			if len(bytes.TrimSpace(text)) > 0 {
				return nil, errors.New("found text that is not PEM, expected keys of Ed25519 in PEM")
			}
			return keys, nil
		}
		text = rest
		var parsed any
		if block.Type == "PRIVATE KEY" {
			if parsed, err = x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
				if private, ok := parsed.(ed25519.PrivateKey); ok {
					parsed = private.Public()
				}
			}
		} else {
			parsed, err = x509.ParsePKIXPublicKey(block.Bytes)
		}
		key, ok := parsed.(ed25519.PublicKey)
		if err != nil || !ok {
			return nil, errors.New("found another kind of key, expected Ed25519")
		}
		keys = append(keys, key)
	}
}

// VerifyAudit verifies the audit log in a database file, or in a copy of one. The file is not
// altered, and a service may be running on it. copies are checkpoints that were kept elsewhere.
func VerifyAudit(database string, keys []ed25519.PublicKey, copies []audit.Checkpoint) (audit.Verification, error) {
	data, err := store.OpenToRead(database)
	if err != nil {
		return audit.Verification{}, err
	}
	defer data.Close()
	checkpoints, err := data.AuditCheckpoints()
	if err != nil {
		return audit.Verification{}, fmt.Errorf("%s has no audit log of this version: %w", database, err)
	}
	return audit.Verify(data.AuditChain, append(checkpoints, copies...), keys)
}

// newSigner prepares the copies.
func newSigner(c *Config, flow *workflow.Service, key ed25519.PrivateKey) (*signer, error) {
	s := &signer{flow: flow, key: key, keep: c.Audit.Keep, config: c}
	for _, text := range c.Audit.Copies {
		to, err := destinationOf(text)
		if err != nil {
			return nil, err
		}
		s.copies = append(s.copies, &checkpointCopy{to: to})
	}
	return s, nil
}

// run signs the log now, after a minute, every hour from then on, and when the context ends.
func (s *signer) run(ctx context.Context) {
	next := time.NewTimer(time.Minute)
	defer next.Stop()
	for {
		s.sign(ctx)
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopWithin)
			s.sign(last)
			cancel()
			return
		case <-next.C:
			next.Reset(checkpointEvery)
		}
	}
}

// sign makes a checkpoint, removes what is too old, and sends what waits to be sent.
func (s *signer) sign(ctx context.Context) {
	c, ok, err := s.flow.Checkpoint(ctx, s.key, s.keep)
	if err != nil {
		s.config.Log.Error("signing the audit log", "error", err)
		return
	}
	for _, to := range s.copies {
		if ok {
			to.waiting = append(to.waiting, c)
			to.waiting = to.waiting[max(0, len(to.waiting)-waitingMost):]
		}
		for len(to.waiting) > 0 {
			within, cancel := context.WithTimeout(ctx, sendWithin)
			err := to.to.send(within, entries{checkpointEntry(to.waiting[0])})
			cancel()
			if err != nil {
				s.config.Log.Error("sending a checkpoint of the audit log; it is sent again "+
					"with the next", "to", to.to.String(), "error", err)
				break
			}
			to.waiting = to.waiting[1:]
		}
	}
}
