// This file finds out whether a log is as it was written. Each record has the hash of the record
// before it, so that altering, leaving out or inserting a record breaks the chain. Somebody who has
// the whole database could make the chain anew; checkpoints, which are signed and also kept
// elsewhere, show that.

package audit

import (
	"crypto/ed25519"
	"fmt"
	"iter"
	"slices"
	"time"
)

// Fault says what is wrong with a log.
type Fault string

const (
	Altered       Fault = "altered"        // the record is not as it was written
	Missing       Fault = "missing"        // records before this one are not there
	Inserted      Fault = "inserted"       // the record is not in the chain
	BadCheckpoint Fault = "bad-checkpoint" // a checkpoint is not signed by a known key, or does not fit the log
	Shortened     Fault = "shortened"      // the log ends before a checkpoint
)

// Verification is what Verify found.
type Verification struct {
	Records     int       `json:"records"`             // that were read
	First       int64     `json:"first"`               // number of the first record; 0: the log is empty
	Last        int64     `json:"last"`                // number of the last record
	Unchained   int       `json:"unchained"`           // at the beginning of the log: written before records had hashes
	Checkpoints int       `json:"checkpoints"`         // that were compared
	Covered     int64     `json:"covered"`             // number of the last record that a good checkpoint covers; 0: none
	CoveredAt   time.Time `json:"covered_at,omitzero"` // when that checkpoint was signed

	Fault  Fault  `json:"fault,omitempty" enum:"altered,missing,inserted,bad-checkpoint,shortened"` // the first; empty: the log is intact
	At     int64  `json:"at,omitempty"`                                                             // number of the record with the fault
	Detail string `json:"detail,omitempty"`
}

// Intact tells whether no fault was found.
func (v *Verification) Intact() bool { return v.Fault == "" }

// Verify reads a log from its first record on, and compares it with checkpoints. A log that begins
// after record 1, since older records were removed by rule, must begin right after a checkpoint.
// Checkpoints may come in any order, and the same one more than once, for example from the database
// and from a copy. Verify stops at the first fault; err is that of reading records.
func Verify(records iter.Seq2[Record, error], checkpoints []Checkpoint, keys []ed25519.PublicKey) (v Verification, err error) {
	checkpoints = slices.Clone(checkpoints)
	slices.SortStableFunc(checkpoints, func(a, b Checkpoint) int { return int(a.Number - b.Number) })
	v.Checkpoints = len(checkpoints)
	// A checkpoint without a good signature proves nothing: whoever altered the log may have made
	// it.
	for _, c := range checkpoints {
		if !c.SignedBy(keys) {
			return v.with(BadCheckpoint, c.Number, fmt.Sprintf("the checkpoint of %s is not signed by a known key", when(c.At))), nil
		}
	}
	var before string
	var last Record
	for r, err := range records {
		if err != nil {
			return v, err
		}
		if fault, detail := v.follows(&r, &last, &before, checkpoints); fault != "" {
			return v.with(fault, r.Number, detail), nil
		}
		// Records rise, and so do checkpoints: each checkpoint is compared when its record comes.
		for len(checkpoints) > 0 && checkpoints[0].Number <= r.Number {
			c := checkpoints[0]
			checkpoints = checkpoints[1:]
			if c.Number < r.Number {
				continue // of records that were removed by rule, see follows
			}
			if c.Hash != r.Hash {
				return v.with(Altered, r.Number, fmt.Sprintf("the checkpoint of %s has another hash", when(c.At))), nil
			}
			v.Covered, v.CoveredAt = c.Number, c.At
		}
		before, last = r.Hash, r
	}
	// Checkpoints are left that cover records behind the last one.
	if len(checkpoints) > 0 {
		c := checkpoints[0]
		return v.with(Shortened, c.Number, fmt.Sprintf("the log ends at record %d, and a checkpoint of %s covers record %d",
			v.Last, when(c.At), c.Number)), nil
	}
	return v, nil
}

// follows takes a record in and says what is wrong with it as the one after last. before is the
// hash that it must follow; for the first record of a log without its beginning it is set to the
// hash of the checkpoint before.
func (v *Verification) follows(r, last *Record, before *string, checkpoints []Checkpoint) (Fault, string) {
	v.Records++
	first := v.First == 0
	if first {
		v.First = r.Number
	}
	previous := v.Last
	v.Last = r.Number
	switch {
	// Records before this one are gone. Where they were removed by rule, the last of them has a
	// checkpoint, and its hash goes on the chain.
	case first && r.Number > 1:
		at := slices.IndexFunc(checkpoints, func(c Checkpoint) bool { return c.Number == r.Number-1 })
		if at < 0 {
			return Missing, fmt.Sprintf("the log begins at record %d, and no checkpoint covers record %d", r.Number, r.Number-1)
		}
		*before = checkpoints[at].Hash
	case !first && r.Number <= previous:
		return Inserted, fmt.Sprintf("record %d comes after record %d", r.Number, previous)
	case !first && r.Number != previous+1:
		return Missing, fmt.Sprintf("record %d is followed by record %d", previous, r.Number)
	}
	// Records that were written before the log had hashes are at its beginning. After the first
	// hash there is none without.
	if r.Hash == "" {
		if *before != "" {
			return Altered, "the record has no hash, and the one before has"
		}
		v.Unchained++
		return "", ""
	}
	// The chain is broken here. A record that is older than the one before was most likely put in
	// between.
	if want := r.HashAfter(*before); want != r.Hash {
		if !first && !last.At.IsZero() && r.At.Before(last.At.Add(-time.Hour)) {
			return Inserted, "the record does not follow the one before, and is older"
		}
		return Altered, "the record, or the one before it, is not as it was written"
	}
	return "", ""
}

// with gives the verification with the first fault that was found. Nothing behind it is looked at:
// its hashes follow from a record that is wrong.
func (v Verification) with(fault Fault, at int64, detail string) Verification {
	v.Fault, v.At, v.Detail = fault, at, detail
	return v
}

// when writes a time as records have it.
func when(t time.Time) string { return t.UTC().Format(time.RFC3339) }
