// This file has rollout plans: the waves in which a change goes to laptops.
//
// A plan is part of the estate and has no state: how a change goes on is a rollout (package
// rollout), which begins with a copy of the plan. Times of the day count in the zone of the moments
// that are asked about.

package estate

import (
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/problem"
)

// WaveID is the id of a wave within its plan.
type WaveID string

// RestID is the id of the wave that is added to a plan that does not end with a wave for the rest.
const RestID WaveID = "rest"

// Percent is a percentage in hundredths: 2.5 % is 250. It is exact; a percentage has at most two
// decimals.
type Percent int64

// Whole is all there is.
const Whole Percent = 100_00

// String gives the percentage without a sign: 2.5.
func (p Percent) String() string {
	switch {
	case p%100 == 0:
		return fmt.Sprint(int64(p / 100))
	case p%10 == 0:
		return fmt.Sprintf("%d.%d", p/100, p%100/10)
	}
	return fmt.Sprintf("%d.%02d", p/100, p%100)
}

// Of gives how many of n laptops a percentage is, rounded down.
func (p Percent) Of(n int) int { return int(int64(p) * int64(n) / int64(Whole)) }

// AtLeast gives how many of n laptops are at least a percentage of them: rounded up.
func (p Percent) AtLeast(n int) int {
	return int((int64(p)*int64(n) + int64(Whole) - 1) / int64(Whole))
}

// RolloutPlan says in what waves a change goes to laptops, when it stops by itself, and when waves
// may open. What is left out has a default, which DefaultPlan gives.
type RolloutPlan struct {
	ID          RolloutPlanID
	Title       string
	Default     bool // chosen where a publication names no plan; at most one plan is
	Waves       []Wave
	StopFailed  Percent // of the laptops in open waves; more failed ones stop the rollout
	StopLost    Percent // the same of lost ones
	Hours       []Window
	Zone        *time.Location // of the hours
	SilentAfter time.Duration  // without a word of a laptop that is due
	LostAfter   time.Duration  // without a word of a laptop that took the change
}

// Wave is a part of the laptops that a change touches: those that an audience matches, a share, or
// the rest.
type Wave struct {
	ID     WaveID
	Kind   WaveKind
	Who    Audience      // with ByAudience, in the estate after the change
	Share  Percent       // with Share
	Least  time.Duration // that it stays open at least before the next one
	Enough Percent       // of its laptops that must have taken the change before the next one
	ByHand bool          // a person opens it
}

// WaveKind says which laptops a wave is for.
type WaveKind string

const (
	ByAudience WaveKind = "who"   // those that an audience matches
	ByShare    WaveKind = "share" // a percentage of all that the change touches
	ForRest    WaveKind = "rest"  // all that are left; the last wave
)

// What a plan has where it says nothing.
const (
	defaultEnough      Percent = 90_00
	defaultStopFailed  Percent = 5_00
	defaultStopLost    Percent = 2_00
	defaultSilentAfter         = 14 * 24 * time.Hour
	defaultLostAfter           = 4 * time.Hour
)

// DefaultPlan is a plan that says nothing: one wave for everybody.
func DefaultPlan() RolloutPlan {
	return RolloutPlan{
		StopFailed: defaultStopFailed, StopLost: defaultStopLost,
		Zone: time.UTC, SilentAfter: defaultSilentAfter, LostAfter: defaultLostAfter,
	}
}

// DefaultWave is a wave that says nothing but its id and which laptops it is for.
func DefaultWave(id WaveID, kind WaveKind) Wave {
	return Wave{ID: id, Kind: kind, Enough: defaultEnough}
}

// AllWaves gives the waves of the plan, the last one for the rest.
func (p *RolloutPlan) AllWaves() []Wave {
	if n := len(p.Waves); n > 0 && p.Waves[n-1].Kind == ForRest {
		return p.Waves
	}
	return append(slices.Clone(p.Waves), DefaultWave(RestID, ForRest))
}

// Wave gives one of all waves by its id; known is false where the plan has none of that id.
func (p *RolloutPlan) Wave(id WaveID) (w Wave, known bool) {
	all := p.AllWaves()
	at := slices.IndexFunc(all, func(w Wave) bool { return w.ID == id })
	if at < 0 {
		return Wave{}, false
	}
	return all[at], true
}

// Window is a time of the day, on some days of the week, at which waves may open: From ≤ time < To.
type Window struct {
	Days     []time.Weekday
	From, To Clock
}

// Clock is a time of the day in minutes after midnight; 24:00 is 1440.
type Clock int

// String gives the time as hours and minutes: 09:30.
func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", int(c)/60, int(c)%60) }

// Open tells whether waves may open at a moment.
func (p *RolloutPlan) Open(at time.Time) bool {
	if len(p.Hours) == 0 {
		return true
	}
	local := at.In(p.Zone)
	clock := Clock(local.Hour()*60 + local.Minute())
	return slices.ContainsFunc(p.Hours, func(w Window) bool {
		return slices.Contains(w.Days, local.Weekday()) && w.From <= clock && clock < w.To
	})
}

// NextOpen gives the first moment at or after another at which waves may open; known is false where
// there is none within two weeks, as for hours that no day has.
func (p *RolloutPlan) NextOpen(at time.Time) (moment time.Time, known bool) {
	if p.Open(at) {
		return at, true
	}
	// Hours begin at whole minutes of the local time, and zones differ from UTC by whole minutes: it
	// is enough to look at each minute, also where clocks are put forward or back.
	const horizon = 15 * 24 * 60
	minute := at.Truncate(time.Minute)
	for range horizon {
		minute = minute.Add(time.Minute)
		if p.Open(minute) {
			return minute, true
		}
	}
	return time.Time{}, false
}

// rolloutPlans checks what plans name, and that at most one is the default.
func (v *validator) rolloutPlans(plans []RolloutPlan) {
	first := -1
	for i := range plans {
		p, at := &plans[i], problem.Join("", string(KindRolloutPlan), i)
		for j := range p.Waves {
			who := &p.Waves[j].Who
			v.targets(problem.Join(at, "waves", j, "who", "include"), who.Include)
			v.targets(problem.Join(at, "waves", j, "who", "exclude"), who.Exclude)
		}
		switch {
		case p.Default && first >= 0:
			v.add(problem.Fault{
				Code: problem.EitherOr, Path: at + "/default", Found: "a second default",
				Expected: fmt.Sprintf("at most one plan as the default; %s is one already", problem.Quote(string(plans[first].ID))),
			})
		case p.Default:
			first = i
		}
	}
}
