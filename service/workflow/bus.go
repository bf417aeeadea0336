// This file tells those who watch what has changed.

package workflow

import "sync"

// Event says that something of a topic has changed: "estate", "change", "device",
// "source" or "rollout", with
// an id where one is meant.
type Event struct {
	Topic string `json:"topic" enum:"estate,change,device,source,rollout,key" doc:"What has changed"`
	ID    string `json:"id,omitempty"`

	Version int64 `json:"version,omitempty" doc:"Of a change: its version now"`
}

// bus hands events to watchers. A watcher that does not keep up gets one event that means all it
// missed.
type bus struct {
	mu       sync.Mutex
	watchers map[chan Event]bool
}

// Watch gives a channel of events until stop is called.
func (s *liveEstate) Watch() (events <-chan Event, stop func()) {
	b := &s.bus
	c := make(chan Event, 64)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.watchers == nil {
		b.watchers = map[chan Event]bool{}
	}
	b.watchers[c] = true
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.watchers, c)
	}
}

// Notify tells all watchers.
func (s *liveEstate) Notify(e Event) {
	s.bus.mu.Lock()
	defer s.bus.mu.Unlock()
	for c := range s.bus.watchers {
		select {
		case c <- e:
		default: // full: what waits there already makes the watcher look again
		}
	}
}
