// This file has what time brings to laptops: one that is due turns silent, one that took the change
// is lost, if it is not heard for too long. A laptop has one timer at most, kept in a heap. A timer
// is not moved when a laptop is heard, but when it comes: laptops are heard far more often than
// they turn silent.

package rollout

import (
	"container/heap"
	"math"
)

// timer says that something becomes of a laptop at a moment unless it is heard before.
type timer struct {
	at     second
	laptop int32
}

// timers is a heap of timers, the earliest first.
type timers []timer

// Len, Less, Swap, Push and Pop are those of heap.Interface. Timers of one moment come in any
// order: whoever takes them sorts the laptops.
func (t timers) Len() int           { return len(t) }
func (t timers) Less(i, j int) bool { return t[i].at < t[j].at }
func (t timers) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }
func (t *timers) Push(x any)        { *t = append(*t, x.(timer)) }
func (t *timers) Pop() any {
	last := (*t)[len(*t)-1]
	*t = (*t)[:len(*t)-1]
	return last
}

// never is the moment of a laptop of which time alone makes nothing.
const never = second(math.MaxUint32)

// turnsAt gives when time alone makes something else of a laptop.
func (r *Rollout) turnsAt(i int32) second {
	l := &r.laptops[i]
	switch l.state {
	case Due:
		return secondOf(int64(l.heard) + r.silentAfter)
	case Taken:
		return secondOf(int64(l.heard) + max(r.lostAfter, 3*int64(l.interval)))
	}
	return never
}

// watch sets the timer of a laptop whose state or last word altered. A timer that is earlier than
// needed stays: when it comes, the moment is looked at again. So a laptop that checks in often costs
// nothing here.
func (r *Rollout) watch(i int32) {
	if at := r.turnsAt(i); at < r.laptops[i].timer {
		r.laptops[i].timer = at
		heap.Push(&r.timers, timer{at, i})
	}
}

// tidy takes timers away that come first and count no more, so that Next, which several may call at
// once, alters nothing.
func (r *Rollout) tidy() { r.nextTimer() }

// nextTimer gives when the next laptop turns by time alone; known is false when none does.
func (r *Rollout) nextTimer() (at second, known bool) {
	for len(r.timers) > 0 {
		first := r.timers[0]
		l := &r.laptops[first.laptop]
		if first.at == l.timer {
			if at := r.turnsAt(first.laptop); at == first.at {
				return at, true
			}
			l.timer = never
			heap.Pop(&r.timers)
			r.watch(first.laptop)
			continue
		}
		heap.Pop(&r.timers) // another timer of the laptop came in its place
	}
	return 0, false
}
