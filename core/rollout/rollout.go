// This file has the state machine of a rollout: what goes in (time, reports of laptops, acts of
// people) and what comes out. settle.go has what it does by itself, timers.go what time brings,
// waves.go how laptops are distributed, saved.go how it is stored.

package rollout

import (
	"container/heap"
	"math"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
)

// Rollout is a change on its way to laptops, wave by wave. It is a state machine: what time brings,
// what laptops report and what people do go in, and transitions come out, in the order in which they
// happen. It asks no clock: every call says what time it is, and time does not go back. Times are
// whole seconds.
//
// After each event, and after what time brings, the rollout is looked at (settle): it stops where
// too many laptops failed or are lost; else it opens the next wave or finishes, where the gate of
// the last open wave is passed.
type Rollout struct {
	plan                   estate.RolloutPlan
	silentAfter, lostAfter int64 // seconds

	waves    []wave
	opened   int // how many of the waves are open
	laptops  []laptop
	progress Progress
	reason   StopReason

	// What failed and was lost at the last resume: people have seen it, it does not stop the rollout
	// again.
	seenFailed, seenLost int

	now    time.Time
	timers timers
	out    []Transition
}

// wave is a wave with its laptops. counts is kept up to date with every change of a state, so that
// gates and stop rules are looked at without going through laptops.
type wave struct {
	estate.Wave
	members  []int32 // by id
	openedAt time.Time
	counts   [states]int
}

// laptop is a laptop of the rollout. It is kept small: a rollout may have 100,000, and many
// rollouts may be under way. Laptops are in the order of their ids, and are referred to by their
// places.
type laptop struct {
	id       string
	heard    second // 0: never
	timer    second // moment of its timer; never: it has none
	interval int32  // seconds
	wave     int16
	state    State
	given    bool // it got the change when Turned was asked last
}

// second is a moment in seconds since 1970. It reaches to the year 2106; what is later comes never.
type second uint32

// secondOf gives a moment as a second. What is before 1970 is 0.
func secondOf(unix int64) second { return second(min(max(unix, 0), int64(never))) }

// newLaptop gives a laptop that is in a wave and has no timer.
func newLaptop(l Laptop, wave int16) laptop {
	return laptop{
		id: l.ID, wave: wave, heard: secondOf(l.Heard.Unix()), timer: never,
		interval: int32(min(int64(l.Interval/time.Second), math.MaxInt32)),
	}
}

// Start starts a rollout and gives its first transitions: it is running, and its first wave is open
// where the plan's hours allow. Laptops are those that the change touches; their ids are different.
// The id is part of how laptops are distributed to waves by share, so that it is not always the
// same laptops that come first. A change that touches no laptop is finished at once. The error is
// an *EmptyWaveError.
func Start(id string, plan estate.RolloutPlan, laptops []Laptop, at time.Time) (*Rollout, []Transition, error) {
	laptops = slices.Clone(laptops)
	slices.SortFunc(laptops, func(a, b Laptop) int { return strings.Compare(a.ID, b.ID) })
	r := &Rollout{
		plan: plan, silentAfter: int64(plan.SilentAfter / time.Second), lostAfter: int64(plan.LostAfter / time.Second),
		laptops: make([]laptop, len(laptops)), now: at,
	}
	r.become(Running)
	if len(laptops) == 0 {
		r.become(Finished)
		return r, r.took(), nil
	}
	// fill distributes the laptops; waves that got none are left out.
	waveOf, filled, err := fill(id, plan.AllWaves(), laptops)
	if err != nil {
		return nil, nil, err
	}
	r.waves = make([]wave, len(filled))
	for i := range filled {
		r.waves[i].Wave = filled[i]
	}
	for i := range laptops {
		l := &laptops[i]
		r.laptops[i] = newLaptop(*l, int16(waveOf[i]))
		w := &r.waves[waveOf[i]]
		w.members = append(w.members, int32(i))
		w.counts[Waiting]++
	}
	r.settle()
	return r, r.took(), nil
}

// Progress says how the rollout is, and why where it is Stopped. The reason is empty otherwise.
func (r *Rollout) Progress() (Progress, StopReason) { return r.progress, r.reason }

// Has tells whether a laptop is in the rollout.
func (r *Rollout) Has(device string) bool {
	_, known := r.find(device)
	return known
}

// WaveCount is a wave with how many of its laptops are in which state.
type WaveCount struct {
	ID     estate.WaveID
	Opened time.Time // zero: not yet
	Counts [states]int
}

// Waves counts the laptops of each wave by state, in the order in which waves open.
func (r *Rollout) Waves() []WaveCount {
	out := make([]WaveCount, len(r.waves))
	for i := range r.waves {
		out[i] = WaveCount{r.waves[i].ID, r.waves[i].openedAt, r.waves[i].counts}
	}
	return out
}

// Next gives the next moment at which time alone brings something: a laptop turns silent or is
// lost, or a wave opens. known is false when it never does. Whoever keeps rollouts calls Advance at
// that moment.
func (r *Rollout) Next() (at time.Time, known bool) {
	if r.progress.over() || r.progress == TakingBack {
		return time.Time{}, false
	}
	// Timers count in both cases; the opening of a wave only where nothing but time is missing.
	// The earliest timer is the next moment at which a laptop turns silent or is lost.
	var turn int64
	turns := len(r.timers) > 0
	if turns {
		turn = int64(r.timers[0].at) // it counts: tidy has been called since anything altered
	}
	opens, opening := r.nextOpening()
	switch {
	case turns && (!opening || turn <= opens.Unix()):
		return time.Unix(turn, 0).UTC(), true
	case opening:
		return opens, true
	}
	return time.Time{}, false
}

// Advance lets time go on to a moment, that moment included. It goes from one moment at which
// something happens to the next, so that the transitions are the same however long nobody asked.
func (r *Rollout) Advance(until time.Time) []Transition {
	r.advance(until)
	return r.took()
}

// advance is Advance; the transitions stay in out.
func (r *Rollout) advance(until time.Time) {
	for {
		r.tidy()
		next, known := r.Next()
		if !known || next.After(until) {
			break
		}
		// What time brings is done at the moment when it is due, not at the moment when somebody
		// asked.
		r.now = next
		r.bring()
		r.settle()
	}
	r.now = until
}

// bring does what time brings to laptops now, by id. A laptop that is due and was not heard for too
// long turns silent; one that took the change and was not heard since then is lost.
func (r *Rollout) bring() {
	var turning []int32
	for {
		// Timers are in a heap, the earliest first.
		at, known := r.nextTimer()
		if !known || int64(at) > r.now.Unix() {
			break
		}
		first := heap.Pop(&r.timers).(timer)
		r.laptops[first.laptop].timer = never
		turning = append(turning, first.laptop)
	}
	slices.Sort(turning) // places are in the order of ids
	for _, i := range turning {
		switch r.laptops[i].state {
		case Due:
			r.turn(i, Silent)
		case Taken:
			r.turn(i, Lost)
		}
	}
}

// Tell takes what a laptop says at a moment. A laptop that is not in the rollout alters nothing,
// and neither does any laptop once the rollout is over.
func (r *Rollout) Tell(at time.Time, device string, report Report) []Transition {
	r.advance(at)
	if i, known := r.find(device); known && !r.progress.over() {
		r.tell(i, report)
		r.settle()
	}
	return r.took()
}

// tell brings a laptop into the state that its report says. Its own timer begins anew, since it was
// heard.
func (r *Rollout) tell(i int32, report Report) {
	l := &r.laptops[i]
	l.heard = secondOf(r.now.Unix())
	to := l.state
	// While the change is taken back, laptops that have it turn Returned once they say that it is
	// undone. A laptop that refused it keeps its state: it has nothing to undo, or cannot undo it.
	if r.progress == TakingBack {
		switch {
		case report == ReportTaken && (l.state == Due || l.state == Silent): // it was on its way
			to = Taken
		case report == ReportUndone && (l.state == Taken || l.state == Refused || l.state == Lost):
			to = Returned
		case report != ReportRefused && l.state == Lost: // heard
			to = Taken
		}
	} else {
		switch l.state {
		// A laptop that is not to have the change yet, or any more, alters nothing by reporting.
		case Waiting, Excused, Returned:
		default:
			switch report {
			case ReportTaken:
				to = Taken
			case ReportRefused:
				to = Refused
			default:
				switch l.state {
				case Silent:
					to = Due
				case Lost:
					to = Taken
				}
			}
		}
	}
	r.turn(i, to)
}

// Do does what a person asks for at a moment; device is whom to excuse, and is empty for other
// acts. What does not fit the progress is refused: it alters nothing, and a transition says so.
func (r *Rollout) Do(at time.Time, act Act, device string) []Transition {
	r.advance(at)
	if !r.do(act, device) {
		r.out = append(r.out, Transition{At: r.now, Refused: act})
	}
	r.settle()
	return r.took()
}

// do tells whether an act fits, and does it if so.
func (r *Rollout) do(act Act, device string) (done bool) {
	under := r.progress == Running || r.progress == Paused || r.progress == Stopped
	switch act {
	case Go:
		if r.progress != Running || r.opened == len(r.waves) {
			return false
		}
		r.open()
	case Pause:
		if r.progress != Running {
			return false
		}
		r.become(Paused)
	case Resume:
		if r.progress != Paused && r.progress != Stopped {
			return false
		}
		// Whoever resumes has seen what failed so far. Only what fails from now on counts for the
		// stop rules.
		_, r.seenFailed, r.seenLost = r.counted()
		r.become(Running)
	case Finish:
		if !under {
			return false
		}
		r.become(Finished)
	case TakeBack:
		if !under {
			return false
		}
		r.become(TakingBack)
	case Excuse:
		i, known := r.find(device)
		if !known || r.progress.over() {
			return false
		}
		r.turn(i, Excused)
	default:
		return false
	}
	return true
}

// turn brings a laptop into a state and says so, unless it is in it. Its timer is set anew in any
// case: it may have been heard.
func (r *Rollout) turn(i int32, to State) {
	l := &r.laptops[i]
	if from := l.state; from != to {
		r.count(i, to)
		r.out = append(r.out, Transition{At: r.now, Device: l.id, From: from, To: to})
	}
	r.watch(i)
}

// count brings a laptop into a state and counts it there.
func (r *Rollout) count(i int32, to State) {
	l := &r.laptops[i]
	counts := &r.waves[l.wave].counts
	counts[l.state]--
	counts[to]++
	l.state = to
}

// find gives the place of a laptop, by binary search.
func (r *Rollout) find(device string) (i int32, known bool) {
	at, known := slices.BinarySearchFunc(r.laptops, device, func(l laptop, id string) int { return strings.Compare(l.id, id) })
	return int32(at), known
}

// took gives what happened since it was asked last, and tidies the timers, as Next expects.
func (r *Rollout) took() []Transition {
	r.tidy()
	out := r.out
	r.out = nil
	return out
}

// NextWave gives the wave that opens next; known is false when all are open.
func (r *Rollout) NextWave() (w estate.Wave, known bool) {
	if r.opened == len(r.waves) {
		return estate.Wave{}, false
	}
	return r.waves[r.opened].Wave, true
}

// Gate tells whether the laptops of the last open wave pass its gate, and the moment from which on
// it has been open for long enough. Hours are not looked at.
func (r *Rollout) Gate() (from time.Time, passed bool) {
	if r.opened == 0 {
		return time.Time{}, false
	}
	from, passed = r.mayGoOn()
	if !passed {
		w := &r.waves[r.opened-1]
		from = w.openedAt.Add(w.Least)
	}
	return from, passed
}
