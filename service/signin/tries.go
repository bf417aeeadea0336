// This file counts wrong passwords.

package signin

import (
	"strings"
	"sync"
	"time"

	"github.com/trustelem/zxcvbn"
)

const (
	triesWithin  = 5 * time.Minute
	accountTries = 8      // wrong passwords of an account, or of a browser that it is known by, within that time
	addressTries = 40     // of an address: an office may share one
	triesKept    = 10_000 // accounts and addresses that are remembered at once
)

// try is one try of somebody, and how many of them count.
type try struct {
	of   string
	most int
}

// try counts by the address.
func (f From) try() try { return try{"address " + f.Address, addressTries} }

// tries remembers when passwords were tried. A flood of made-up names makes it forget some of what
// it remembers, and never stop counting.
type tries struct {
	mu sync.Mutex
	at map[string][]time.Time
}

// count makes a try that counts unless it is right, or cannot be made. The error may be a
// TooManyError.
func (t *tries) count(now time.Time, of []try, make func() (right bool, err error)) (bool, error) {
	if wait := t.reserve(now, of...); wait > 0 {
		return false, &TooManyError{wait}
	}
	right, err := make()
	if err != nil || right {
		t.release(now, of...)
	}
	return right, err
}

// reserve counts a try before it is made, for all that it is counted by, so that many at once do
// not slip through. Where one has had too many, none is counted and the time to wait is given.
func (t *tries) reserve(now time.Time, of ...try) (wait time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.at == nil {
		t.at = map[string][]time.Time{}
	}
	for _, one := range of {
		recent := t.recent(one.of, now)
		if len(recent) >= one.most {
			wait = max(wait, triesWithin-now.Sub(recent[0]))
		}
	}
	if wait > 0 {
		return wait
	}
	for _, one := range of {
		if _, known := t.at[one.of]; !known && len(t.at) >= triesKept {
			t.forget(now)
		}
		t.at[one.of] = append(t.at[one.of], now)
	}
	return 0
}

// release takes back a try that was right.
func (t *tries) release(at time.Time, of ...try) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range of {
		list := t.at[one.of]
		for i := range list {
			if list[i].Equal(at) {
				t.at[one.of] = append(list[:i], list[i+1:]...)
				break
			}
		}
		if len(t.at[one.of]) == 0 {
			delete(t.at, one.of)
		}
	}
}

// recent gives the tries that still count, and forgets the others. t.mu must be held.
func (t *tries) recent(of string, now time.Time) []time.Time {
	list := t.at[of]
	for len(list) > 0 && now.Sub(list[0]) >= triesWithin {
		list = list[1:]
	}
	if len(list) == 0 {
		delete(t.at, of)
	} else {
		t.at[of] = list
	}
	return list
}

// forget makes room: what no longer counts goes, and where all of it counts, the accounts and
// addresses with the fewest tries. t.mu must be held.
func (t *tries) forget(now time.Time) {
	for of := range t.at {
		t.recent(of, now)
	}
	for few := 1; len(t.at) >= triesKept; few++ {
		for of, list := range t.at {
			if len(list) <= few && len(t.at) >= triesKept/2 {
				delete(t.at, of)
			}
		}
	}
}

// easyScore is the score of zxcvbn below which a password is refused: 2 is guessed in about ten
// million tries.
const easyScore = 2

// judged is how much of a password is judged: what is longer takes long to judge, and is not
// easier.
const judged = 64

// tooEasy tells whether a password is easily guessed: made of common words, names, dates, runs of
// keys, or of the account's own name.
func tooEasy(password, name string) bool {
	runes := []rune(password)
	own := append(strings.FieldsFunc(name, func(r rune) bool { return r == '.' || r == '-' || r == '_' }), name, "zenith", "ridge", "zridge")
	return zxcvbn.PasswordStrength(string(runes[:min(judged, len(runes))]), own).Score < easyScore
}
