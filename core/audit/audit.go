// Package audit makes tampering with the audit log visible. Each record carries a hash over itself
// and the hash of the record before, so that a record cannot be altered, removed or inserted
// without altering every hash after it. From time to time a [Checkpoint] signs the hash of the last
// record: whoever alters the log afterwards would need the signing key, which is not kept with the
// log.
//
// The package computes hashes and checks them. It keeps nothing, and it reads no clock.
//
// # What is found, and what is not
//
// [Verify] finds every alteration before the last checkpoint. Records that were removed from the
// end, after the last checkpoint, leave no trace. Checkpoints that are kept elsewhere protect
// against somebody who has both the log and the key.
package audit

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"time"
)

// Record is one record of the log. Number is its place: records are numbered from 1 without gaps.
type Record struct {
	Number  int64     `json:"number"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Via     string    `json:"via"`
	Request string    `json:"request,omitempty"`
	Action  string    `json:"action"`
	Kind    string    `json:"kind,omitempty"`
	ID      string    `json:"id,omitempty"`
	Change  string    `json:"change,omitempty"`
	Before  string    `json:"before,omitempty"`
	After   string    `json:"after,omitempty"`
	Hash    string    `json:"hash,omitempty"` // 64 hexadecimal digits; empty: written before records had hashes
}

// HashAfter gives the hash of a record that follows one with the hash before. It is SHA-256 over
// the text "zridge-audit-1", the hash before, the number and the time in nanoseconds since 1970 (8
// bytes each, the highest first), and every text with its length (8 bytes) in front. The first
// record follows the empty hash. Texts carry their lengths so that no text can move from one field
// into the next.
func (r *Record) HashAfter(before string) string {
	h := sha256.New()
	number := func(n int64) {
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], uint64(n))
		h.Write(b[:])
	}
	text := func(s string) {
		number(int64(len(s)))
		h.Write([]byte(s))
	}
	text("zridge-audit-1")
	text(before)
	number(r.Number)
	number(r.At.UnixNano())
	for _, s := range []string{r.By, r.Via, r.Request, r.Action, r.Kind, r.ID, r.Change, r.Before, r.After} {
		text(s)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Checkpoint says which hash the log had at a record, signed.
type Checkpoint struct {
	Number    int64     `json:"number"` // of the last record that it covers
	Hash      string    `json:"hash"`   // of that record
	At        time.Time `json:"at"`
	Key       string    `json:"key"`       // names the key that signed: see KeyID
	Signature string    `json:"signature"` // Ed25519 over the other fields, in base64
}

// signed gives the bytes that are signed.
func (c *Checkpoint) signed() []byte {
	return fmt.Appendf(nil, "zridge-audit-checkpoint-1\n%d\n%s\n%d\n%s\n", c.Number, c.Hash, c.At.UnixNano(), c.Key)
}

// Sign makes a checkpoint of a record.
func Sign(r Record, at time.Time, key ed25519.PrivateKey) Checkpoint {
	c := Checkpoint{Number: r.Number, Hash: r.Hash, At: at.UTC(), Key: KeyID(key.Public().(ed25519.PublicKey))}
	c.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, c.signed()))
	return c
}

// SignedBy tells whether one of some keys signed the checkpoint as it is.
func (c *Checkpoint) SignedBy(keys []ed25519.PublicKey) bool {
	signature, err := base64.StdEncoding.DecodeString(c.Signature)
	if err != nil {
		return false
	}
	for _, key := range keys {
		if KeyID(key) == c.Key && ed25519.Verify(key, c.signed(), signature) {
			return true
		}
	}
	return false
}

// KeyID names a key: the first 16 hexadecimal digits of the SHA-256 of the public key.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return hex.EncodeToString(sum[:8])
}
