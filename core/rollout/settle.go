// This file has what a rollout does by itself: waves open, it stops or finishes.
//
// Three questions are asked after each event, in this order. Did too many laptops fail or get lost?
// Then it stops. Did enough laptops of the last open wave take the change, and was the wave open
// for long enough? Then the next one opens, unless a person opens it or the hour does not allow it.
// Are all waves open, and is the last gate passed? Then it is finished.

package rollout

import (
	"slices"
	"time"
)

// settle looks at the rollout until nothing happens any more. Stop rules come first: a wave does
// not open over laptops that fail. Each round opens one wave at most, since an empty or silent wave
// may let the next one open at once.
func (r *Rollout) settle() {
	for r.progress == Running {
		open, failed, lost := r.counted()
		switch {
		case failed-r.seenFailed > r.plan.StopFailed.Of(open):
			r.stop(TooManyFailed)
			return
		case lost-r.seenLost > r.plan.StopLost.Of(open):
			r.stop(TooManyLost)
			return
		}
		switch at, known := r.mayGoOn(); {
		// The gate is not passed, or the wave was not open for long enough.
		case !known || at.After(r.now):
			return
		case r.opened == len(r.waves):
			r.become(Finished)
		case r.opened > 0 && r.waves[r.opened].ByHand || !r.plan.Open(r.now):
			return
		default:
			r.open()
		}
	}
	if r.progress == TakingBack && !r.anyHas() {
		r.become(TakenBack)
	}
}

// mayGoOn gives the moment from which on the gate of the last open wave is passed, the plan's hours
// aside; known is false while laptops do not pass it. Before the first wave there is no gate.
func (r *Rollout) mayGoOn() (at time.Time, known bool) {
	if r.opened == 0 {
		return r.now, true
	}
	w := &r.waves[r.opened-1]
	// The gate asks for a share of the laptops that can be expected to answer. Where none can,
	// nothing is learned, and the gate is not passed: a person has to open the next wave.
	n := len(w.members) - w.counts[Silent] - w.counts[Excused]
	if n == 0 || w.counts[Taken] < w.Enough.AtLeast(n) {
		return time.Time{}, false
	}
	return w.openedAt.Add(w.Least), true
}

// nextOpening gives when the next wave opens, or the rollout finishes, if nothing else happens. It
// is never now: what can happen now has happened (settle).
func (r *Rollout) nextOpening() (at time.Time, known bool) {
	if r.progress != Running {
		return time.Time{}, false
	}
	at, known = r.mayGoOn()
	if !known {
		return time.Time{}, false
	}
	if at.Before(r.now) {
		at = r.now
	}
	if r.opened < len(r.waves) {
		if r.opened > 0 && r.waves[r.opened].ByHand {
			return time.Time{}, false
		}
		if at, known = r.plan.NextOpen(at); !known {
			return time.Time{}, false
		}
	}
	return at, at.After(r.now) // what can happen now has happened
}

// open opens the next wave. All of its laptops are due in one transition. Those that were not heard
// for too long are silent at once, each with a transition of its own; the others get a timer.
func (r *Rollout) open() {
	w := &r.waves[r.opened]
	r.opened++
	w.openedAt = r.now
	t := Transition{At: r.now, Opened: w.ID, Laptops: []string{}}
	for _, i := range w.members {
		if r.laptops[i].state == Waiting {
			r.count(i, Due)
			t.Laptops = append(t.Laptops, r.laptops[i].id)
		}
	}
	r.out = append(r.out, t)
	for _, i := range w.members {
		if l := &r.laptops[i]; l.state == Due {
			if int64(r.turnsAt(i)) <= r.now.Unix() {
				r.turn(i, Silent)
			} else {
				r.watch(i)
			}
		}
	}
}

// stop stops the rollout by a stop rule. A person resumes it, finishes it or takes it back.
func (r *Rollout) stop(reason StopReason) {
	r.progress, r.reason = Stopped, reason
	r.out = append(r.out, Transition{At: r.now, Progress: Stopped, Reason: reason})
}

// become brings the rollout as a whole into another progress, and says so.
func (r *Rollout) become(p Progress) {
	r.progress, r.reason = p, ""
	r.out = append(r.out, Transition{At: r.now, Progress: p})
}

// counted counts the laptops of open waves that are not excused, and of them those that failed and
// that are lost. Stop rules are shares of the first.
func (r *Rollout) counted() (open, failed, lost int) {
	for i := range r.waves[:r.opened] {
		w := &r.waves[i]
		open += len(w.members) - w.counts[Excused]
		failed += w.counts[Refused]
		lost += w.counts[Lost]
	}
	return open, failed, lost
}

// anyHas tells whether a laptop may still have the change. A lost laptop may, and so may one that
// refused: it may have taken a part.
func (r *Rollout) anyHas() bool {
	return slices.ContainsFunc(r.waves, func(w wave) bool { return w.counts[Taken]+w.counts[Refused]+w.counts[Lost] > 0 })
}
