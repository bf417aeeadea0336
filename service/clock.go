package service

import (
	"sync"
	"time"
)

// Clock is the time that rollouts, check-ins and the live estate count in. It can be set, and go faster
// than real time, so that a demo shows in minutes what takes days. Sessions and credentials count in real
// time. The zero Clock shows the real time.
type Clock struct {
	mu    sync.Mutex
	shown time.Time // at the real time from
	from  time.Time
	speed float64
}

// Set puts the clock to a time, from which on it goes at a speed: 1 is that of real time, 0 stands still.
func (c *Clock) Set(shown time.Time, speed float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.shown, c.from, c.speed = shown, time.Now(), speed
}

// Now gives the time that the clock shows.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	if c.from.IsZero() {
		return now.UTC()
	}
	return c.shown.Add(time.Duration(float64(now.Sub(c.from)) * c.speed)).UTC()
}

// Speed gives how fast the clock goes; 1 is real time.
func (c *Clock) Speed() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.from.IsZero() {
		return 1
	}
	return c.speed
}
