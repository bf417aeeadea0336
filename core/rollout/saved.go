// This file has a rollout as it is stored, so that it goes on where it was after a restart; and
// which laptops get the change, which laptops come and go, while it runs.
//
// A rollout is a state machine over waves of laptops (rollout.go). It is kept in memory and saved
// after each transition. Saved has no derived data: counts of waves and timers of laptops are made
// again by place. Restore(r.Save()) behaves as r does, which a test shows with random histories.
//
// Laptops are in the order of their ids, so that one is found by binary search, and lists of
// laptops are gone through side by side.

package rollout

import (
	"container/heap"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
)

// Saved is a rollout at a moment: all that it needs to go on. Timers are not in it, since they
// follow from when laptops were heard.
type Saved struct {
	Plan                 estate.RolloutPlan
	Waves                []SavedWave // those that were filled, in order
	Laptops              []Member
	Progress             Progress
	Reason               StopReason
	SeenFailed, SeenLost int       // at the last resume
	Now                  time.Time // of the last transition, or later
}

// SavedWave is a wave that was filled.
type SavedWave struct {
	estate.Wave
	Opened time.Time // zero: it is not open
}

// Member is a laptop of a rollout, as it is stored and shown.
type Member struct {
	ID       string
	Wave     estate.WaveID
	State    State
	Heard    time.Time
	Interval time.Duration // usual time between two check-ins

	given bool // it got the change when Turned was asked last
}

// Restore gives the rollout that was saved, at the moment at which it was. Advance brings it up to
// date. A member whose wave is not there is left out.
func Restore(s Saved) *Rollout {
	r := &Rollout{
		plan: s.Plan, silentAfter: int64(s.Plan.SilentAfter / time.Second), lostAfter: int64(s.Plan.LostAfter / time.Second),
		progress: s.Progress, reason: s.Reason, seenFailed: s.SeenFailed, seenLost: s.SeenLost, now: s.Now,
		waves: make([]wave, len(s.Waves)),
	}
	// Waves open in order: the last one with a time tells how many are open.
	for i, w := range s.Waves {
		r.waves[i].Wave, r.waves[i].openedAt = w.Wave, w.Opened
		if !w.Opened.IsZero() {
			r.opened = i + 1
		}
	}
	r.place(s.Laptops)
	// Laptops that got the change when it was saved must not be told of as if they got it now.
	r.Turned()
	r.tidy()
	return r
}

// Progressed gives what is stored of the rollout as a whole, without its laptops and waves.
func (r *Rollout) Progressed() Saved {
	return Saved{Plan: r.plan, Progress: r.progress, Reason: r.reason, SeenFailed: r.seenFailed, SeenLost: r.seenLost, Now: r.now}
}

// Save gives the rollout as it is, its laptops by id. Restore of it behaves as the rollout does.
func (r *Rollout) Save() Saved {
	s := r.Progressed()
	s.Waves, s.Laptops = make([]SavedWave, len(r.waves)), make([]Member, len(r.laptops))
	for i := range r.waves {
		s.Waves[i] = SavedWave{r.waves[i].Wave, r.waves[i].openedAt}
	}
	for i := range r.laptops {
		s.Laptops[i] = r.member(int32(i))
	}
	return s
}

// Member gives a laptop of the rollout; known is false where it is in no wave.
func (r *Rollout) Member(device string) (m Member, known bool) {
	i, known := r.find(device)
	if !known {
		return Member{}, false
	}
	return r.member(i), true
}

// member gives the laptop at a place.
func (r *Rollout) member(i int32) Member {
	l := &r.laptops[i]
	m := Member{ID: l.id, Wave: r.waves[l.wave].ID, State: l.state, Interval: time.Duration(l.interval) * time.Second, given: l.given}
	if l.heard > 0 {
		m.Heard = time.Unix(int64(l.heard), 0).UTC()
	}
	return m
}

// Each gives the laptops of the rollout by id.
func (r *Rollout) Each(yield func(Member) bool) {
	for i := range r.laptops {
		if !yield(r.member(int32(i))) {
			return
		}
	}
}

// Gets tells whether a laptop gets the change now. Its wave must be open. While the rollout is
// paused or stopped, only laptops that took the change, or tried to, keep it; while it is taken
// back, none does.
func (r *Rollout) Gets(device string) bool {
	i, known := r.find(device)
	return known && r.gets(i)
}

// gets is Gets for the laptop at a place. A laptop that gave the change back does not get it again,
// unless the rollout is finished: then the change is part of the estate for everybody.
func (r *Rollout) gets(i int32) bool {
	l := &r.laptops[i]
	switch r.progress {
	case Finished:
		return true
	case Running:
		return int(l.wave) < r.opened && l.state != Returned
	case Paused, Stopped:
		return l.state == Taken || l.state == Refused || l.state == Lost
	}
	return false
}

// Given tells whether a laptop got the change when Turned was asked last.
func (r *Rollout) Given(device string) bool {
	i, known := r.find(device)
	return known && r.laptops[i].given
}

// GivenAmong tells the same of many laptops, which are sorted by id. It goes through both lists
// once.
func (r *Rollout) GivenAmong(devices []string) []bool {
	out := make([]bool, len(devices))
	// Invariant: every laptop of the rollout before at has an id below the one that is looked for.
	at := 0
	for i, device := range devices {
		for at < len(r.laptops) && r.laptops[at].id < device {
			at++
		}
		out[i] = at < len(r.laptops) && r.laptops[at].id == device && r.laptops[at].given
	}
	return out
}

// Turned gives, by id, the laptops that get the change now and did not when it was asked last, and
// those that no longer get it. At first no laptop gets it; after Restore, those that got it then.
func (r *Rollout) Turned() (turned []string) {
	for i := range r.laptops {
		if l := &r.laptops[i]; r.gets(int32(i)) != l.given {
			l.given = !l.given
			turned = append(turned, l.id)
		}
	}
	return turned
}

// TurnedAmong gives the same of some laptops alone, in their order.
func (r *Rollout) TurnedAmong(devices ...string) (turned []string) {
	for _, device := range devices {
		if i, known := r.find(device); known && r.gets(i) != r.laptops[i].given {
			r.laptops[i].given = !r.laptops[i].given
			turned = append(turned, device)
		}
	}
	return turned
}

// Alter takes in, at a moment, laptops that the change touches now and did not before, and lets
// others go that left the estate. Those that come belong to the last wave, since nobody decided
// that they should be among the first. A rollout that is over or taken back takes nobody in. A
// joined laptop that is due at once is told as a transition from waiting.
func (r *Rollout) Alter(at time.Time, joined []Laptop, left []string) []Transition {
	r.advance(at)
	if r.progress.over() || len(r.waves) == 0 {
		return r.took()
	}
	gone := make(map[string]bool, len(left))
	for _, id := range left {
		gone[id] = true
	}
	// Members of the rollout are listed anew with their states, without those that left.
	members := make([]Member, 0, len(r.laptops)+len(joined))
	for i := range r.laptops {
		if !gone[r.laptops[i].id] {
			members = append(members, r.member(int32(i)))
		}
	}
	var came []string
	if r.progress != TakingBack {
		for _, l := range joined {
			if !r.Has(l.ID) && !gone[l.ID] {
				members = append(members, Member{l.ID, r.waves[len(r.waves)-1].ID, Waiting, l.Heard, l.Interval, false})
				came = append(came, l.ID)
			}
		}
	}
	// Places follow the order of ids, so all of them are given anew.
	r.place(members)
	// The last wave is open already: whoever joins it is due at once.
	if r.opened == len(r.waves) {
		slices.Sort(came)
		for _, id := range came {
			i, _ := r.find(id)
			r.turn(i, Due)
			if int64(r.turnsAt(i)) <= r.now.Unix() {
				r.turn(i, Silent)
			}
		}
	}
	r.settle()
	return r.took()
}

// place puts laptops into their waves, in the order of their ids, counts them, and sets their
// timers. It takes the place of all laptops that there were.
func (r *Rollout) place(members []Member) {
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(a.ID, b.ID) })
	at := make(map[estate.WaveID]int16, len(r.waves))
	for i := range r.waves {
		w := &r.waves[i]
		w.members, w.counts = nil, [states]int{}
		at[w.ID] = int16(i)
	}
	r.laptops, r.timers = make([]laptop, 0, len(members)), nil
	for _, m := range members {
		place, known := at[m.Wave]
		if !known {
			continue
		}
		i := int32(len(r.laptops))
		l := newLaptop(Laptop{ID: m.ID, Heard: m.Heard, Interval: m.Interval}, place)
		l.state, l.given = m.State, m.given
		r.laptops = append(r.laptops, l)
		w := &r.waves[place]
		w.members = append(w.members, i)
		w.counts[m.State]++
		if turns := r.turnsAt(i); turns < never {
			r.laptops[i].timer = turns
			r.timers = append(r.timers, timer{turns, i})
		}
	}
	heap.Init(&r.timers)
}
