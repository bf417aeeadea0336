package audit

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

var start = time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)

// written gives a log of n records, with a checkpoint at every tenth.
func written(n int) (log []Record, checkpoints []Checkpoint, key ed25519.PrivateKey) {
	key = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	before := ""
	for i := range n {
		r := Record{
			Number: int64(i + 1), At: start.Add(time.Duration(i) * time.Minute), By: "ines.okafor", Via: "console",
			Action: "edit", Kind: "policies", ID: fmt.Sprintf("p%d", i%7), Before: "a", After: fmt.Sprint(i),
		}
		r.Hash = r.HashAfter(before)
		before = r.Hash
		log = append(log, r)
		if r.Number%10 == 0 {
			checkpoints = append(checkpoints, Sign(r, r.At, key))
		}
	}
	return log, checkpoints, key
}

func each(log []Record) iter.Seq2[Record, error] {
	return func(yield func(Record, error) bool) {
		for _, r := range log {
			if !yield(r, nil) {
				return
			}
		}
	}
}

// verified verifies a log with the key of written.
func verified(t *testing.T, log []Record, checkpoints []Checkpoint, key ed25519.PrivateKey) Verification {
	t.Helper()
	v, err := Verify(each(log), checkpoints, []ed25519.PublicKey{key.Public().(ed25519.PublicKey)})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func TestALogAsWrittenIsIntact(t *testing.T) {
	log, checkpoints, key := written(45)
	v := verified(t, log, slices.Concat(checkpoints, checkpoints), key)
	if !v.Intact() || v.Records != 45 || v.First != 1 || v.Last != 45 || v.Covered != 40 || !v.CoveredAt.Equal(log[39].At) {
		t.Errorf("found %+v", v)
	}
	if v := verified(t, nil, nil, key); !v.Intact() || v.Records != 0 {
		t.Errorf("an empty log: %+v", v)
	}
}

// TestEveryAlterationIsFound alters one thing of a log in every way there is, at random places
// before the last checkpoint. Whoever alters may compute all hashes anew, but cannot sign.
func TestEveryAlterationIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	rehash := func(log []Record) {
		before := ""
		for i := range log {
			log[i].Hash = log[i].HashAfter(before)
			before = log[i].Hash
		}
	}
	renumber := func(log []Record) {
		for i := range log {
			log[i].Number = int64(i + 1)
		}
	}
	alterations := map[string]func(log []Record, at int) []Record{
		"by":      func(log []Record, at int) []Record { log[at].By = "tomas.reyes"; return log },
		"time":    func(log []Record, at int) []Record { log[at].At = log[at].At.Add(time.Nanosecond); return log },
		"after":   func(log []Record, at int) []Record { log[at].After += " "; return log },
		"shifted": func(log []Record, at int) []Record { log[at].Before, log[at].After = "", "a"+log[at].After; return log },
		"removed": func(log []Record, at int) []Record { return slices.Delete(log, at, at+1) },
		"removed and renumbered": func(log []Record, at int) []Record {
			log = slices.Delete(log, at, at+1)
			renumber(log)
			return log
		},
		"inserted": func(log []Record, at int) []Record { return slices.Insert(log, at, log[r.IntN(len(log))]) },
		"swapped": func(log []Record, at int) []Record {
			log[at], log[(at+1)%20] = log[(at+1)%20], log[at]
			return log
		},
		"hash gone": func(log []Record, at int) []Record { log[at].Hash = ""; return log },
		"all hashes gone": func(log []Record, at int) []Record {
			for i := range log {
				log[i].Hash = ""
			}
			return log
		},
		"begins later": func(log []Record, at int) []Record { return log[max(1, at|1):] },
		"ends early":   func(log []Record, at int) []Record { return log[:at] },
		"altered and hashed anew": func(log []Record, at int) []Record {
			log[at].By = "nobody"
			rehash(log)
			return log
		},
		"removed, renumbered and hashed anew": func(log []Record, at int) []Record {
			log = slices.Delete(log, at, at+1)
			renumber(log)
			rehash(log)
			return log
		},
	}
	for name, alter := range alterations {
		for range 40 {
			log, checkpoints, key := written(45)
			at := r.IntN(20)
			if v := verified(t, alter(slices.Clone(log), at), checkpoints, key); v.Intact() {
				t.Errorf("%s at %d is not found", name, at)
			} else if v.At < 1 || v.Detail == "" {
				t.Errorf("%s at %d: found %+v", name, at, v)
			}
		}
	}
}

func TestTheFirstAlteredRecordIsNamed(t *testing.T) {
	log, checkpoints, key := written(30)
	log[11].By = "tomas.reyes"
	log[20].By = "tomas.reyes"
	if v := verified(t, log, checkpoints, key); v.Fault != Altered || v.At != 12 {
		t.Errorf("found %+v", v)
	}
	log, checkpoints, key = written(30)
	if v := verified(t, slices.Delete(log, 11, 14), checkpoints, key); v.Fault != Missing || v.At != 15 {
		t.Errorf("found %+v", v)
	}
}

func TestCheckpointsMustBeSigned(t *testing.T) {
	log, checkpoints, key := written(30)
	_, other, _ := ed25519.GenerateKey(rand.NewChaCha8([32]byte{1}))
	for name, alter := range map[string]func(c *Checkpoint){
		"another hash":     func(c *Checkpoint) { c.Hash = log[3].Hash },
		"another number":   func(c *Checkpoint) { c.Number = 11 },
		"another time":     func(c *Checkpoint) { c.At = c.At.Add(time.Second) },
		"no signature":     func(c *Checkpoint) { c.Signature = "" },
		"not base64":       func(c *Checkpoint) { c.Signature = "***" },
		"another key":      func(c *Checkpoint) { *c = Sign(log[9], start, other) },
		"another key's id": func(c *Checkpoint) { c.Key = KeyID(other.Public().(ed25519.PublicKey)) },
	} {
		altered := slices.Clone(checkpoints)
		alter(&altered[0])
		if v := verified(t, log, altered, key); v.Fault != BadCheckpoint {
			t.Errorf("%s: found %+v", name, v)
		}
	}
}

// A log whose oldest records were removed by rule begins right after a checkpoint.
func TestALogMayBeginAfterACheckpoint(t *testing.T) {
	log, checkpoints, key := written(45)
	if v := verified(t, log[20:], checkpoints[1:], key); !v.Intact() || v.First != 21 || v.Covered != 40 {
		t.Errorf("found %+v", v)
	}
	if v := verified(t, log[19:], checkpoints[1:], key); v.Fault != Missing {
		t.Errorf("a log that begins elsewhere: %+v", v)
	}
	if v := verified(t, log[20:], checkpoints[2:], key); v.Fault != Missing {
		t.Errorf("without the checkpoint before: %+v", v)
	}
}

// Logs from before records had hashes are read, and said to be unprotected.
func TestRecordsWithoutHashesAtTheBeginning(t *testing.T) {
	log, _, key := written(20)
	before := ""
	for i := range log {
		if log[i].Hash = ""; i >= 8 {
			log[i].Hash = log[i].HashAfter(before)
			before = log[i].Hash
		}
	}
	if v := verified(t, log, nil, key); !v.Intact() || v.Unchained != 8 || v.Covered != 0 {
		t.Errorf("found %+v", v)
	}
}

func TestWhatCannotBeReadIsAnError(t *testing.T) {
	broken := errors.New("the disk is gone")
	_, err := Verify(func(yield func(Record, error) bool) { yield(Record{}, broken) }, nil, nil)
	if !errors.Is(err, broken) {
		t.Errorf("found %v", err)
	}
}
