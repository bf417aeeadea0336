// This file has the slow reading of the contract that the state machine is compared with: it looks
// at every laptop in every minute, and shares no code with it but the types.

package rollout_test

import (
	"crypto/sha256"
	"fmt"
	"math/big"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // the test does not depend on the machine's zones

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
)

// slow is a rollout as the oracle keeps it.
type slow struct {
	plan     estate.RolloutPlan
	waves    []estate.Wave
	members  [][]string
	opened   []time.Time
	laptops  map[string]rollout.Laptop
	state    map[string]string
	heard    map[string]time.Time
	progress string
	f0, l0   int
	lines    []string
}

func (s *slow) say(at time.Time, format string, args ...any) {
	s.lines = append(s.lines, at.UTC().Format(time.DateTime)+" "+fmt.Sprintf(format, args...))
}

// rational gives a percentage of n exactly.
func rational(p estate.Percent, n int) *big.Rat { return big.NewRat(int64(p)*int64(n), 10000) }

func ids(laptops map[string]rollout.Laptop) []string {
	var out []string
	for id := range laptops {
		out = append(out, id)
	}
	sort.Strings(out)
	return out
}

// fillSlow fills the waves as section 3 says; it gives the id of a wave that is empty.
func (s *slow) fill(id string) (empty estate.WaveID) {
	waves := slices.Clone(s.plan.Waves)
	if len(waves) == 0 || waves[len(waves)-1].Kind != estate.ForRest {
		waves = append(waves, estate.Wave{ID: "rest", Kind: estate.ForRest, Enough: 9000})
	}
	placed := map[string]bool{}
	for _, w := range waves {
		var in []string
		var free []string
		for _, d := range ids(s.laptops) {
			if !placed[d] {
				free = append(free, d)
			}
		}
		switch w.Kind {
		case estate.ByAudience:
			for _, d := range free {
				if slices.Contains(s.laptops[d].Matches, w.ID) {
					in = append(in, d)
				}
			}
		case estate.ByShare:
			key := func(d string) string {
				return s.laptops[d].OS + "\x00" + s.laptops[d].Unit + "\x00" + fmt.Sprintf("%x", sha256.Sum256([]byte(id+"/"+d)))
			}
			sort.Slice(free, func(i, j int) bool { return key(free[i]) < key(free[j]) })
			n := 0
			for new(big.Rat).SetInt64(int64(n)).Cmp(rational(w.Share, len(s.laptops))) < 0 {
				n++
			}
			m := min(n, len(free))
			for i := range m {
				in = append(in, free[(2*i+1)*len(free)/(2*m)])
			}
			sort.Strings(in)
		case estate.ForRest:
			in = free
		}
		if len(in) == 0 {
			if w.Kind == estate.ForRest {
				continue
			}
			return w.ID
		}
		for _, d := range in {
			placed[d] = true
		}
		s.waves, s.members = append(s.waves, w), append(s.members, in)
	}
	return ""
}

func (s *slow) within(at time.Time) bool {
	if len(s.plan.Hours) == 0 {
		return true
	}
	local := at.In(s.plan.Zone)
	now := local.Format("15:04")
	for _, w := range s.plan.Hours {
		for _, d := range w.Days {
			if d == local.Weekday() && w.From.String() <= now && now < w.To.String() {
				return true
			}
		}
	}
	return false
}

func (s *slow) tally(wave int) map[string]int {
	of := map[string]int{}
	for _, d := range s.members[wave] {
		of[s.state[d]]++
	}
	return of
}

func (s *slow) move(at time.Time, d, to string) {
	if s.state[d] != to {
		s.say(at, "%s %s -> %s", d, s.state[d], to)
		s.state[d] = to
	}
}

func (s *slow) open(at time.Time) {
	n := len(s.opened)
	s.opened = append(s.opened, at)
	var due []string
	for _, d := range s.members[n] {
		if s.state[d] == "waiting" {
			s.state[d] = "due"
			due = append(due, d)
		}
	}
	s.say(at, "opened %s %v", s.waves[n].ID, due)
	for _, d := range s.members[n] {
		if s.state[d] == "due" && !at.Before(s.heard[d].Add(s.plan.SilentAfter)) {
			s.move(at, d, "silent")
		}
	}
}

func (s *slow) become(at time.Time, progress, reason string) {
	s.progress = progress
	s.say(at, "is %s %s", progress, reason)
}

// look does what happens by itself now, until nothing does.
func (s *slow) look(at time.Time) {
	for s.progress == "running" {
		m, f, l := 0, 0, 0
		for i := range s.opened {
			of := s.tally(i)
			m += len(s.members[i]) - of["excused"]
			f += of["failed"]
			l += of["lost"]
		}
		floor := func(r *big.Rat) int { return int(new(big.Int).Quo(r.Num(), r.Denom()).Int64()) }
		if f-s.f0 > floor(rational(s.plan.StopFailed, m)) {
			s.become(at, "stopped", "failed")
			return
		}
		if l-s.l0 > floor(rational(s.plan.StopLost, m)) {
			s.become(at, "stopped", "lost")
			return
		}
		if len(s.opened) == 0 {
			if !s.within(at) {
				return
			}
			s.open(at)
			continue
		}
		last := len(s.opened) - 1
		of, w := s.tally(last), s.waves[last]
		n := len(s.members[last]) - of["silent"] - of["excused"]
		passed := n > 0 && new(big.Rat).SetInt64(int64(of["taken"])).Cmp(rational(w.Enough, n)) >= 0 && at.Sub(s.opened[last]) >= w.Least
		if !passed {
			return
		}
		if len(s.opened) == len(s.waves) {
			s.become(at, "finished", "")
			return
		}
		if s.waves[len(s.opened)].ByHand || !s.within(at) {
			return
		}
		s.open(at)
	}
	if s.progress == "taking-back" {
		for d := range s.state {
			if slices.Contains([]string{"taken", "failed", "lost"}, s.state[d]) {
				return
			}
		}
		s.become(at, "taken-back", "")
	}
}

func (s *slow) time(at time.Time) {
	if slices.Contains([]string{"running", "paused", "stopped"}, s.progress) {
		for _, d := range ids(s.laptops) {
			switch s.state[d] {
			case "due":
				if !at.Before(s.heard[d].Add(s.plan.SilentAfter)) {
					s.move(at, d, "silent")
				}
			case "taken":
				if !at.Before(s.heard[d].Add(max(s.plan.LostAfter, 3*s.laptops[d].Interval))) {
					s.move(at, d, "lost")
				}
			}
		}
	}
	s.look(at)
}

func (s *slow) event(e rollout.Event) {
	over := s.progress == "finished" || s.progress == "taken-back"
	under := slices.Contains([]string{"running", "paused", "stopped"}, s.progress)
	refused := false
	switch {
	case e.End:
		return
	case e.Report != "" && !over:
		d := e.Device
		s.heard[d] = e.At
		is, to := s.state[d], ""
		if s.progress == "taking-back" {
			switch {
			case e.Report == "taken" && (is == "due" || is == "silent"):
				to = "taken"
			case e.Report == "reverted" && slices.Contains([]string{"taken", "failed", "lost"}, is):
				to = "returned"
			case e.Report != "failed" && is == "lost":
				to = "taken"
			}
		} else {
			to = map[string]string{
				"taken due": "taken", "taken silent": "taken", "taken failed": "taken", "taken lost": "taken",
				"failed due": "failed", "failed silent": "failed", "failed taken": "failed", "failed lost": "failed",
				"heard silent": "due", "heard lost": "taken", "reverted silent": "due", "reverted lost": "taken",
			}[string(e.Report)+" "+is]
		}
		if to != "" {
			s.move(e.At, d, to)
		}
	case e.Report != "":
	case e.Act == "go":
		if refused = s.progress != "running" || len(s.opened) == len(s.waves); !refused {
			s.open(e.At)
		}
	case e.Act == "pause":
		if refused = s.progress != "running"; !refused {
			s.become(e.At, "paused", "")
		}
	case e.Act == "resume":
		if refused = s.progress != "paused" && s.progress != "stopped"; !refused {
			s.f0, s.l0 = 0, 0
			for i := range s.opened {
				of := s.tally(i)
				s.f0 += of["failed"]
				s.l0 += of["lost"]
			}
			s.become(e.At, "running", "")
		}
	case e.Act == "finish":
		if refused = !under; !refused {
			s.become(e.At, "finished", "")
		}
	case e.Act == "take-back":
		if refused = !under; !refused {
			s.become(e.At, "taking-back", "")
		}
	case e.Act == "excuse":
		if refused = over; !refused {
			s.move(e.At, e.Device, "excused")
		}
	}
	if refused {
		s.say(e.At, "refused %s", e.Act)
	}
	s.look(e.At)
}

// rehearseSlowly gives what happens, line by line, or the id of a wave that is empty.
func rehearseSlowly(
	id string,
	plan estate.RolloutPlan,
	laptops []rollout.Laptop,
	started time.Time,
	events []rollout.Event,
) ([]string, estate.WaveID) {
	s := &slow{plan: plan, laptops: map[string]rollout.Laptop{}, state: map[string]string{}, heard: map[string]time.Time{}}
	for _, l := range laptops {
		s.laptops[l.ID], s.state[l.ID], s.heard[l.ID] = l, "waiting", l.Heard
	}
	s.become(started, "running", "")
	if len(laptops) == 0 {
		s.become(started, "finished", "")
	} else if empty := s.fill(id); empty != "" {
		return nil, empty
	}
	s.look(started)
	end := events[len(events)-1].At
	for at := started; !at.After(end); at = at.Add(time.Minute) {
		s.time(at)
		for len(events) > 0 && events[0].At.Equal(at) {
			s.event(events[0])
			events = events[1:]
		}
	}
	return s.lines, ""
}

// lines writes transitions as the oracle does.
func lines(transitions []rollout.Transition) (out []string) {
	for _, t := range transitions {
		at := t.At.UTC().Format(time.DateTime) + " "
		switch {
		case t.Progress != "":
			out = append(out, fmt.Sprintf("%sis %s %s", at, t.Progress, t.Reason))
		case t.Opened != "":
			out = append(out, fmt.Sprintf("%sopened %s %v", at, t.Opened, t.Laptops))
		case t.Device != "":
			out = append(out, fmt.Sprintf("%s%s %s -> %s", at, t.Device, t.From, t.To))
		default:
			out = append(out, at+"refused "+string(t.Refused))
		}
	}
	return out
}

// randomRehearsal makes a plan, laptops and events from a seed. Some begin where clocks are put back
// or forward.
func randomRehearsal(seed uint64) (plan estate.RolloutPlan, laptops []rollout.Laptop, started time.Time, events []rollout.Event) {
	r := rand.New(rand.NewPCG(seed, 17))
	pick := func(of ...time.Duration) time.Duration { return of[r.IntN(len(of))] }
	plan = estate.DefaultPlan()
	plan.SilentAfter = pick(time.Hour, 6*time.Hour, 24*time.Hour, 72*time.Hour)
	plan.LostAfter = pick(30*time.Minute, 4*time.Hour, 24*time.Hour)
	plan.StopFailed = []estate.Percent{0, 500, 1250, 3333, 10000}[r.IntN(5)]
	plan.StopLost = []estate.Percent{0, 200, 2550, 10000}[r.IntN(4)]
	for i := range r.IntN(4) {
		w := estate.DefaultWave(estate.WaveID(fmt.Sprintf("w%d", i)), estate.ByShare)
		w.Share = []estate.Percent{1, 1000, 2050, 3333, 10000}[r.IntN(5)]
		if r.IntN(2) == 0 {
			w.Kind = estate.ByAudience
		}
		w.Enough = []estate.Percent{0, 5000, 6667, 9000, 10000}[r.IntN(5)]
		w.Least = pick(0, 0, time.Hour, 26*time.Hour)
		w.ByHand = r.IntN(3) == 0
		plan.Waves = append(plan.Waves, w)
	}
	if r.IntN(2) == 0 {
		plan.Waves = append(plan.Waves, estate.DefaultWave("last", estate.ForRest))
	}
	zones := []string{"UTC", "Europe/Lisbon", "America/St_Johns", "Asia/Kathmandu", "Australia/Lord_Howe"}
	plan.Zone, _ = time.LoadLocation(zones[r.IntN(len(zones))])
	for range r.IntN(3) {
		w := estate.Window{From: estate.Clock(r.IntN(1380)), Days: []time.Weekday{time.Weekday(r.IntN(7)), time.Sunday}}
		w.To = w.From + 1 + estate.Clock(r.IntN(1440-int(w.From)))
		plan.Hours = append(plan.Hours, w)
	}
	started = [...]time.Time{
		time.Date(2026, 10, 24, 20, 13, 0, 0, time.UTC), time.Date(2026, 3, 28, 22, 7, 0, 0, time.UTC),
		time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
	}[r.IntN(3)]
	for i := range r.IntN(14) {
		l := rollout.Laptop{
			ID: fmt.Sprintf(
				"LT-%02d",
				i,
			), OS: []string{"linux", "macos", "windows"}[r.IntN(3)], Unit: []string{"a", "a/b", "a-b", "c"}[r.IntN(4)],
			Interval: pick(time.Minute, time.Hour, 9*time.Hour), Heard: started.Add(-time.Duration(r.IntN(4000)) * time.Minute),
		}
		for _, w := range plan.Waves {
			if w.Kind == estate.ByAudience && r.IntN(3) > 0 {
				l.Matches = append(l.Matches, w.ID)
			}
		}
		laptops = append(laptops, l)
	}
	at := started
	for range r.IntN(60) {
		at = at.Add(time.Duration(r.IntN(4)*r.IntN(120)) * time.Minute)
		e := rollout.Event{At: at}
		if len(laptops) > 0 && r.IntN(8) > 0 {
			e.Device = laptops[r.IntN(len(laptops))].ID
			e.Report = []rollout.Report{"heard", "taken", "taken", "taken", "failed", "reverted"}[r.IntN(6)]
		} else {
			e.Act = []rollout.Act{"go", "go", "pause", "resume", "resume", "finish", "take-back"}[r.IntN(7)]
			if len(laptops) > 0 && r.IntN(4) == 0 {
				e.Act, e.Device = rollout.Excuse, laptops[r.IntN(len(laptops))].ID
			}
		}
		events = append(events, e)
	}
	events = append(events, rollout.Event{At: at.Add(time.Duration(r.IntN(9000)) * time.Minute), End: true})
	return plan, laptops, started, events
}

// agree compares the state machine with the oracle.
func agree(t *testing.T, seed uint64) (empty bool, progress rollout.Progress) {
	t.Helper()
	plan, laptops, started, events := randomRehearsal(seed)
	id := fmt.Sprintf("C-%d", seed)
	want, emptyWave := rehearseSlowly(id, plan, laptops, started, events)
	r, happened, err := rollout.Rehearse(id, plan, laptops, started, events)
	if emptyWave != "" {
		if e, is := err.(*rollout.EmptyWaveError); !is || e.Wave != emptyWave {
			t.Fatalf("seed %d: %v, expected the empty wave %s", seed, err, emptyWave)
		}
		return true, ""
	}
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	if got := lines(happened); !slices.Equal(got, want) {
		at := 0
		for at < min(len(got), len(want)) && got[at] == want[at] {
			at++
		}
		t.Fatalf(
			"seed %d differs from line %d on:\n%s\nexpected:\n%s",
			seed,
			at,
			strings.Join(got[max(0, at-3):], "\n"),
			strings.Join(want[max(0, at-3):], "\n"),
		)
	}
	progress, _ = r.Progress()
	return false, progress
}

// TestRehearsalsAgreeWithTheOracle compares random rehearsals line by line.
func TestRehearsalsAgreeWithTheOracle(t *testing.T) {
	cases := uint64(1500)
	if testing.Short() {
		cases = 150
	}
	ends := map[rollout.Progress]int{}
	for seed := range cases {
		if empty, progress := agree(t, seed); empty {
			ends["empty"]++
		} else {
			ends[progress]++
		}
	}
	// Each way to end must be among them, or the comparison says little.
	for _, p := range []rollout.Progress{"empty", rollout.Running, rollout.Paused, rollout.Stopped, rollout.Finished,
		rollout.TakingBack, rollout.TakenBack} {
		if ends[p] < int(cases)/150 {
			t.Errorf("%d of %d end %s: %v", ends[p], cases, p, ends)
		}
	}
}

func FuzzRehearsals(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { agree(t, seed) })
}
