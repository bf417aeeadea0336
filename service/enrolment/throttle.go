package enrolment

import (
	"sync"
	"time"
)

// An address from which so many requests were refused within refusedWithin has to wait.
const (
	refusedMost   = 20
	refusedWithin = time.Minute
	addressesKept = 10_000
)

// refusals counts refused requests by network address, so that nobody can try codes.
type refusals struct {
	mu sync.Mutex
	by map[string][]time.Time // the last few, the oldest first
}

// waits says for how long an address has to wait; 0: it need not.
func (r *refusals) waits(address string, now time.Time) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	if last := r.by[address]; len(last) == refusedMost {
		return max(0, refusedWithin-now.Sub(last[0]))
	}
	return 0
}

// add notes that a request of an address was refused.
func (r *refusals) add(address string, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.by == nil || len(r.by) >= addressesKept { // a flood of addresses is not kept
		r.by = map[string][]time.Time{}
	}
	last := append(r.by[address], now)
	r.by[address] = last[max(0, len(last)-refusedMost):]
}
