// This file says when laptops of a wave can be expected to check in.

package rollout

import (
	"slices"
	"time"
)

// Forecast says within what time of its opening laptops of a wave usually check in: half of them,
// and 95 of 100. It is made of the usual intervals between check-ins, and is 0 where none is known.
// Unknown counts those whose usual interval is not known; they are left out.
type Forecast struct {
	Half, Most time.Duration
	Unknown    int
}

// Forecast gives the forecast of a wave by its place.
func (r *Rollout) Forecast(wave int) (f Forecast) {
	intervals := make([]int64, 0, len(r.waves[wave].members))
	for _, i := range r.waves[wave].members {
		if usual := r.laptops[i].interval; usual > 0 {
			intervals = append(intervals, int64(usual))
		} else {
			f.Unknown++
		}
	}
	slices.Sort(intervals)
	within := func(percent int) time.Duration {
		if len(intervals) == 0 {
			return 0
		}
		return time.Duration(intervals[(percent*len(intervals)+99)/100-1]) * time.Second
	}
	f.Half, f.Most = within(50), within(95)
	return f
}
