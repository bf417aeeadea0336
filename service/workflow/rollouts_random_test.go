package workflow_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	. "zenithridge.example/zridge/service/workflow"
)

// TestTheServiceRollsOutAsTheCoreSays does random things with a rollout of the service: time passes, laptops check in
// and refuse, people act, the service starts anew. A rollout of the core that is told the same is in the same
// states after every step. In the end the past of the rollout is at each moment what it was then.
func TestTheServiceRollsOutAsTheCoreSays(t *testing.T) {
	t.Parallel()
	played := uint64(25)
	if testing.Short() {
		played = 4
	}
	ends := map[string]int{}
	for seed := range played {
		ends[playBeside(t, seed)]++
	}
	if testing.Short() {
		return
	}
	if ends["finished"] == 0 || ends["taken-back"] == 0 || ends["stopped"] == 0 {
		t.Errorf("the rollouts ended as %v, expected some of each", ends)
	}
}

// playBeside plays one rollout, and gives its progress in the end.
func playBeside(t *testing.T, seed uint64) string {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 23))
	c := companyOf(t, tenLaptops)
	plan := estate.DefaultPlan()
	plan.ID = "own"
	plan.SilentAfter, plan.LostAfter = 6*time.Hour, 4*time.Hour
	plan.StopFailed, plan.StopLost = []estate.Percent{0, 2_500, 10_000}[r.IntN(3)], []estate.Percent{2_000, 10_000}[r.IntN(2)]
	for i := range 1 + r.IntN(3) {
		w := estate.DefaultWave(estate.WaveID(fmt.Sprintf("w%d", i)), estate.ByShare)
		w.Share, w.Enough, w.ByHand = []estate.Percent{1_000, 3_000}[r.IntN(2)], []estate.Percent{0, 5_000, 9_000}[r.IntN(3)], r.IntN(3) == 0
		w.Least = time.Duration(r.IntN(3)) * time.Hour
		plan.Waves = append(plan.Waves, w)
	}
	now := func() time.Time { return time.Unix(c.clock.Load(), 0).UTC() }
	var laptops []rollout.Laptop
	for i := range 10 {
		laptops = append(laptops, rollout.Laptop{
			ID: fmt.Sprintf("D%d", i), OS: "linux", Unit: []string{"r", "r/labs"}[i%2], Interval: time.Hour, Heard: now(),
		})
	}
	change := c.edits(nine)
	shadow, _, err := rollout.Start(change, plan, laptops, now())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(t.Context(), mara, change, PublishInput{Expected: -1, Own: &plan}); err != nil {
		t.Fatal(err)
	}
	has := map[string]bool{}      // laptops that have the change in force
	was := map[time.Time]string{} // how the rollout was, by the second
	for step := range 60 {
		c.passes(time.Duration(r.IntN(70)) * time.Minute)
		shadow.Advance(now())
		if r.IntN(6) == 0 {
			c.restart()
		}
		device := fmt.Sprintf("D%d", r.IntN(10))
		what := "check-in of " + device
		switch r.IntN(9) {
		case 0:
			act := []rollout.Act{rollout.Go, rollout.Go, rollout.Pause, rollout.Resume, rollout.Resume, rollout.Excuse, rollout.Finish,
				rollout.TakeBack}[r.IntN(8)]
			if step < 20 && (act == rollout.Finish || act == rollout.TakeBack) {
				act = rollout.Go
			}
			what = fmt.Sprint(act, " ", device)
			_, err := c.Act(t.Context(), piet, change, ActInput{Act: act, Device: device, Note: "why not"})
			var refused *RefusedActError
			if err != nil && !errors.As(err, &refused) {
				t.Fatalf("seed %d, step %d, %s: %v", seed, step, what, err)
			}
			for _, x := range shadow.Do(now(), act, device) {
				if (x.Refused != "") != (refused != nil) {
					t.Fatalf("seed %d, step %d, %s: the service says %v, the core %+v", seed, step, what, err, x)
				}
			}
		default:
			var refuses []setting.ID
			if r.IntN(6) == 0 {
				refuses = append(refuses, "minutes")
			}
			report := reportOf(shadow, device, has, len(refuses) > 0)
			what = fmt.Sprint(what, ", which says ", report)
			c.checksIn(device, refuses...)
			shadow.Tell(now(), device, report)
		}
		v := c.is(change)
		p, reason := shadow.Progress()
		if v.Progress != string(p) || v.Reason != string(reason) {
			t.Fatalf("seed %d, step %d, %s: the service is %s %s, the core %s %s", seed, step, what, v.Progress, v.Reason, p, reason)
		}
		was[now()] = inWords(v)
		list, err := c.RolloutLaptops(t.Context(), piet, change, "", "")
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range list {
			is, _ := shadow.Member(l.Device)
			if rollout.State(l.State) != is.State || l.Wave != string(is.Wave) {
				t.Fatalf("seed %d, step %d, %s: %s of wave %s is %s, in the core it is %s in wave %s", seed, step, what, l.Device, l.Wave,
					rollout.State(l.State), is.State, is.Wave)
			}
		}
		if p == rollout.Finished || p == rollout.TakenBack {
			break
		}
	}
	for at, want := range was {
		v, err := c.RolloutAt(t.Context(), piet, change, at)
		if err != nil {
			t.Fatal(err)
		}
		if is := inWords(v); is != want {
			t.Errorf("seed %d: at %s the rollout was %s, and is told as %s", seed, at.Format(time.TimeOnly), want, is)
		}
	}
	p, _ := shadow.Progress()
	return string(p)
}

// inWords says how a rollout is.
func inWords(v RolloutView) string {
	text := fmt.Sprint(v.Progress, " ", v.Counts)
	for i := range v.Waves {
		text += fmt.Sprint(" ", v.Waves[i].ID, v.Waves[i].Counts, v.Waves[i].Opened.Unix())
	}
	return text
}

// reportOf is what a laptop is going to say of the change when it checks in: it takes what it is sent, but for
// what it refuses.
func reportOf(r *rollout.Rollout, device string, has map[string]bool, refuses bool) rollout.Report {
	is, _ := r.Member(device)
	p, _ := r.Progress()
	gets, had := r.Gets(device), has[device]
	if !refuses {
		has[device] = gets // else it is sent what was before
	}
	took := is.State == rollout.Taken || is.State == rollout.Refused || is.State == rollout.Lost
	switch {
	case is.State == rollout.Waiting || is.State == rollout.Excused:
		return rollout.Heard
	case p == rollout.TakingBack && took && (!had || !refuses):
		return rollout.ReportUndone
	case p == rollout.TakingBack:
		return rollout.Heard
	case has[device]:
		return rollout.ReportTaken
	case gets:
		return rollout.ReportRefused
	}
	return rollout.Heard
}
