package rollout_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
)

var monday = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// company makes n laptops that check in each hour.
func company(n int) []rollout.Laptop {
	out := make([]rollout.Laptop, n)
	for i := range out {
		out[i] = rollout.Laptop{
			ID: fmt.Sprintf("LT-%06d", i), OS: []string{"linux", "macos", "windows"}[i%3], Unit: fmt.Sprintf("larkfell/u%02d", i%40),
			Interval: time.Hour, Heard: monday.Add(-time.Duration(i%3600) * time.Second),
		}
	}
	return out
}

func share(id estate.WaveID, percent estate.Percent) estate.Wave {
	w := estate.DefaultWave(id, estate.ByShare)
	w.Share = percent
	return w
}

// TestOneFailureStopsTenPilots is the example of the contract: at 5 % one of ten is too many.
func TestOneFailureStopsTenPilots(t *testing.T) {
	plan := estate.DefaultPlan()
	plan.Waves = []estate.Wave{share("pilots", 10_00)}
	r, _, err := rollout.Start("C-1", plan, company(100), monday)
	if err != nil {
		t.Fatal(err)
	}
	var pilot string
	for _, l := range company(100) {
		for _, happened := range r.Tell(monday.Add(time.Minute), l.ID, rollout.ReportRefused) {
			if happened.Device != "" {
				pilot = happened.Device
			}
		}
		if pilot != "" {
			break
		}
	}
	if is, why := r.Progress(); is != rollout.Stopped || why != rollout.TooManyFailed {
		t.Fatalf("after %s failed the rollout is %s %s", pilot, is, why)
	}
	// People have seen it: going on, the next failure stops again, and the one before does not.
	r.Do(monday.Add(2*time.Minute), rollout.Resume, "")
	if is, _ := r.Progress(); is != rollout.Running {
		t.Errorf("after resuming it is %s", is)
	}
}

// TestWavesMirrorTheEstate fills a fifth: each platform and unit has its fifth in it, one more or
// less.
func TestWavesMirrorTheEstate(t *testing.T) {
	laptops := company(12000)
	plan := estate.DefaultPlan()
	plan.Waves = []estate.Wave{share("fifth", 20_00)}
	_, happened, err := rollout.Start("C-1", plan, laptops, monday)
	if err != nil {
		t.Fatal(err)
	}
	in := map[string]bool{}
	for _, id := range happened[1].Laptops {
		in[id] = true
	}
	of, all := map[string]int{}, map[string]int{}
	for _, l := range laptops {
		all[l.OS+l.Unit]++
		if in[l.ID] {
			of[l.OS+l.Unit]++
		}
	}
	for key, n := range all {
		if got := of[key]; got < n/5-1 || got > n/5+1 {
			t.Errorf("%s has %d of %d in the wave", key, got, n)
		}
	}
	if len(in) != 2400 {
		t.Errorf("%d laptops are in the wave", len(in))
	}
}

// TestLawsOfRollouts: laptops are in one wave each and counts add up whatever happens; asking for
// the next moment and letting time go there minute by minute or at once is the same; and after the
// end nothing is altered.
func TestLawsOfRollouts(t *testing.T) {
	for seed := range uint64(300) {
		plan, laptops, started, events := randomRehearsal(seed)
		at := func() *rollout.Rollout {
			r, _, err := rollout.Start("C", plan, laptops, started)
			var empty *rollout.EmptyWaveError
			if errors.As(err, &empty) {
				return nil
			}
			return r
		}
		once, often := at(), at()
		if once == nil {
			continue
		}
		var a, b []rollout.Transition
		now := started
		for _, e := range events {
			a = append(a, once.Apply(e)...)
			for now.Before(e.At) {
				now = now.Add(7 * time.Minute)
				if now.After(e.At) {
					now = e.At
				}
				b = append(b, often.Advance(now)...)
			}
			b = append(b, often.Apply(e)...)
			total := 0
			for _, w := range once.Waves() {
				for _, n := range w.Counts {
					if n < 0 {
						t.Fatalf("seed %d: a count below zero in %v", seed, w)
					}
					total += n
				}
			}
			if total != len(laptops) {
				t.Fatalf("seed %d: %d of %d laptops are counted", seed, total, len(laptops))
			}
			if next, known := once.Next(); known && !next.After(e.At) {
				t.Fatalf("seed %d: at %s the next moment is %s", seed, e.At, next)
			}
		}
		if fmt.Sprint(lines(a)) != fmt.Sprint(lines(b)) {
			t.Fatalf("seed %d: time at once gives\n%v\nstep by step\n%v", seed, lines(a), lines(b))
		}
		last := events[len(events)-1].At
		once.Do(last, rollout.Finish, "")
		if is, _ := once.Progress(); is == rollout.Finished {
			for _, l := range laptops {
				if got := once.Tell(last.Add(time.Hour), l.ID, rollout.ReportRefused); len(got) > 0 {
					t.Fatalf("seed %d: after the end %v", seed, got)
				}
			}
		}
	}
}

// TestPercentages are exact.
func TestPercentages(t *testing.T) {
	for _, c := range []struct {
		p        estate.Percent
		n        int
		down, up int
		text     string
	}{
		{5_00, 10, 0, 1, "5"}, {5_00, 20, 1, 1, "5"}, {33_33, 3, 0, 1, "33.33"}, {33_34, 3, 1, 2, "33.34"},
		{2_50, 1000, 25, 25, "2.5"}, {100_00, 7, 7, 7, "100"}, {0, 7, 0, 0, "0"}, {1, 1_000_000, 100, 100, "0.01"},
	} {
		if c.p.Of(c.n) != c.down || c.p.AtLeast(c.n) != c.up || c.p.String() != c.text {
			t.Errorf("%s %% of %d: %d and %d, expected %d and %d", c.p, c.n, c.p.Of(c.n), c.p.AtLeast(c.n), c.down, c.up)
		}
	}
}

// BenchmarkHundredThousand measures what a rollout to 100,000 laptops costs: its start, the opening
// of a wave of 20,000, one answer of a laptop, and a tick of which 1,000 laptops turn silent.
func BenchmarkHundredThousand(b *testing.B) {
	laptops := company(100_000)
	plan := estate.DefaultPlan()
	plan.Waves = []estate.Wave{share("pilots", 1), share("fifth", 20_00)}
	plan.StopFailed, plan.StopLost = estate.Whole, estate.Whole
	start := func() *rollout.Rollout {
		r, _, err := rollout.Start("C-1", plan, laptops, monday)
		if err != nil {
			b.Fatal(err)
		}
		return r
	}
	b.Run("start", func(b *testing.B) {
		for b.Loop() {
			start()
		}
	})
	b.Run("wave of 20000", func(b *testing.B) {
		for range b.N {
			b.StopTimer()
			r := start()
			b.StartTimer()
			r.Do(monday.Add(time.Minute), rollout.Go, "")
		}
	})
	b.Run("answer", func(b *testing.B) {
		r := start()
		for range 2 {
			r.Do(monday.Add(time.Minute), rollout.Go, "")
		}
		for i := 0; b.Loop(); i++ {
			r.Tell(
				monday.Add(time.Minute+time.Duration(i/1000)*time.Second),
				laptops[i%len(laptops)].ID,
				[]rollout.Report{rollout.ReportTaken, rollout.ReportRefused}[i/len(laptops)%2],
			)
		}
	})
	b.Run("tick", func(b *testing.B) {
		r := start()
		for range 2 {
			r.Do(monday.Add(time.Minute), rollout.Go, "")
		}
		for i := 0; b.Loop(); i++ {
			// About 28 laptops turn silent in each second of the hour in which they would be silent.
			r.Advance(monday.Add(14*24*time.Hour - time.Hour + time.Duration(36*i)*time.Second))
		}
	})
}
