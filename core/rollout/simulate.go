// This file plays a plan on the laptops of an estate: what happens when laptops check in as they
// usually do, and a share of them refuses the change?
//
// It drives the real state machine with made-up check-ins, so that hours, gates and stop rules work
// as they will. The answer is a forecast, not a promise: it says how long a plan takes at best, and
// at which share of failures it stops.

package rollout

import (
	"container/heap"
	"crypto/sha256"
	"encoding/binary"
	"time"

	"zenithridge.example/zridge/core/estate"
)

// Simulation is how a rollout goes. The same input gives the same simulation: whether and when a
// laptop answers follows from a hash of its id.
type Simulation struct {
	Waves    []WaveCount
	Points   []Point // in the order of time; at most simulationPoints of them
	Ended    time.Time
	Progress Progress // Finished, Stopped, or Running where nothing more happens
	Reason   StopReason
}

// Point is how many laptops are in which state at a moment.
type Point struct {
	At     time.Time
	Counts [states]int
}

// simulationPoints is how many points a simulation has at most: enough for a chart.
const simulationPoints = 200

// usualInterval is taken for laptops whose habits are not known.
const usualInterval = time.Hour

// Simulate plays a plan: laptops check in as they usually do, a share of them refuses the change,
// and a person opens each wave that waits for one as soon as it is ready. Laptops that were never
// heard do not check in. It ends with the rollout, or after the horizon. The error is an
// *EmptyWaveError.
func Simulate(id string, plan estate.RolloutPlan, laptops []Laptop, started time.Time, failing estate.Percent,
	horizon time.Duration) (*Simulation, error) {
	plan.LostAfter = horizon + time.Hour // nobody is lost who checks in as usual
	r, happened, err := Start(id, plan, laptops, started)
	if err != nil {
		return nil, err
	}
	s := simulator{r: r, id: id, failing: failing, laptops: map[string]Laptop{}}
	for _, l := range laptops {
		s.laptops[l.ID] = l
	}
	until := started.Add(horizon)
	s.note(started)
	s.plan(happened)
	// Each round goes to the next moment at which something happens. At that moment, time comes
	// first, then check-ins, then the person who opens waves.
	for {
		at, known := s.next()
		if !known || at.After(until) {
			break
		}
		happened := r.Advance(at)
		for len(s.coming) > 0 && !s.coming[0].at.After(at) {
			c := heap.Pop(&s.coming).(checkIn)
			happened = append(happened, r.Tell(at, c.device, s.report(c.device))...)
		}
		if w, more := r.NextWave(); more && w.ByHand {
			if from, passed := r.Gate(); passed && !from.After(at) {
				happened = append(happened, r.Do(at, Go, "")...)
			}
		}
		s.plan(happened)
		s.note(at)
		if r.progress != Running {
			break
		}
	}
	out := &Simulation{Waves: r.Waves(), Points: thinned(s.points), Ended: r.now, Progress: r.progress, Reason: r.reason}
	return out, nil
}

// simulator plays a rollout: it has the laptops as they usually are, and the check-ins that are to
// come.
type simulator struct {
	r       *Rollout
	id      string
	failing estate.Percent
	laptops map[string]Laptop
	coming  checkIns
	points  []Point
}

// next gives when something happens next: a check-in, what time brings, or a person opens a wave.
func (s *simulator) next() (at time.Time, known bool) {
	at, known = s.r.Next()
	if len(s.coming) > 0 && (!known || s.coming[0].at.Before(at)) {
		at, known = s.coming[0].at, true
	}
	if w, more := s.r.NextWave(); more && w.ByHand {
		if from, passed := s.r.Gate(); passed && from.After(s.r.now) && (!known || from.Before(at)) {
			at, known = from, true
		}
	}
	return at, known
}

// plan has the laptops of waves that opened check in: a laptop does at any moment of its interval.
func (s *simulator) plan(happened []Transition) {
	for _, t := range happened {
		for _, device := range t.Laptops {
			l := s.laptops[device]
			if l.Heard.IsZero() {
				continue
			}
			interval := l.Interval
			if interval == 0 {
				interval = usualInterval
			}
			// A moment within the interval, the same whenever the plan is played. Check-ins are
			// whole seconds, and come after the wave opened.
			within := time.Duration(s.chance(device, "when")) * interval / 1_00_00
			heap.Push(&s.coming, checkIn{t.At.Add(within).Truncate(time.Second).Add(time.Second), device})
		}
	}
}

// report says whether a laptop takes or refuses the change.
func (s *simulator) report(device string) Report {
	if estate.Percent(s.chance(device, "whether")) < s.failing {
		return ReportRefused
	}
	return ReportTaken
}

// chance gives a number below 10,000 that is always the same for a laptop in a rollout, and differs
// by what it is for. Shares are kept in hundredths of a percent, of which 10,000 are the whole.
func (s *simulator) chance(device, of string) uint64 {
	sum := sha256.Sum256([]byte(s.id + "/" + device + "/" + of))
	return binary.BigEndian.Uint64(sum[:]) % 1_00_00
}

// note adds the counts at a moment. Of two notes at one moment, the later one counts.
func (s *simulator) note(at time.Time) {
	p := Point{At: at}
	for _, w := range s.r.Waves() {
		for state, n := range w.Counts {
			p.Counts[state] += n
		}
	}
	if n := len(s.points); n > 0 && s.points[n-1].At.Equal(at) {
		s.points[n-1] = p
		return
	}
	s.points = append(s.points, p)
}

// thinned leaves out points where there are too many, and keeps the first and the last.
func thinned(points []Point) []Point {
	if len(points) <= simulationPoints {
		return points
	}
	out := make([]Point, simulationPoints)
	for i := range out {
		// Evenly over the list: i = 0 gives the first point, the greatest i the last.
		out[i] = points[i*(len(points)-1)/(simulationPoints-1)]
	}
	return out
}

// checkIn is a check-in that is to come.
type checkIn struct {
	at     time.Time
	device string
}

// checkIns is a heap of check-ins, the earliest first.
type checkIns []checkIn

// Len, Less, Swap, Push and Pop are those of heap.Interface. Check-ins of one moment come by id, so
// that the same plan is always played in the same way.
func (c checkIns) Len() int { return len(c) }
func (c checkIns) Less(i, j int) bool {
	return c[i].at.Before(c[j].at) || c[i].at.Equal(c[j].at) && c[i].device < c[j].device
}
func (c checkIns) Swap(i, j int) { c[i], c[j] = c[j], c[i] }
func (c *checkIns) Push(x any)   { *c = append(*c, x.(checkIn)) }
func (c *checkIns) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}
