package rollout_test

import (
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
)

// TestARestartAltersNothing plays random rehearsals twice, once with a restart before every event:
// the same things happen at the same moments.
func TestARestartAltersNothing(t *testing.T) {
	for seed := range uint64(300) {
		plan, laptops, started, events := randomRehearsal(seed)
		whole, happened, err := rollout.Start("C-1", plan, laptops, started)
		if err != nil {
			continue
		}
		parts := rollout.Restore(whole.Save())
		for n, e := range events {
			happened = whole.Apply(e)
			parts = rollout.Restore(parts.Save())
			if again := parts.Apply(e); fmt.Sprint(again) != fmt.Sprint(happened) {
				t.Fatalf("seed %d, event %d: after a restart %v, expected %v", seed, n, again, happened)
			}
		}
		if fmt.Sprint(parts.Waves()) != fmt.Sprint(whole.Waves()) {
			t.Fatalf("seed %d: after restarts %v, expected %v", seed, parts.Waves(), whole.Waves())
		}
	}
}

func TestLaptopsThatJoinAndLeave(t *testing.T) {
	started := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	laptop := func(id string) rollout.Laptop {
		return rollout.Laptop{ID: id, OS: "linux", Unit: "r", Interval: time.Hour, Heard: started}
	}
	pilots := estate.DefaultWave("pilots", estate.ByShare)
	pilots.Share = 50_00
	plan := estate.DefaultPlan()
	plan.Waves = []estate.Wave{pilots}
	r, _, err := rollout.Start("C-1", plan, []rollout.Laptop{laptop("A"), laptop("B")}, started)
	if err != nil {
		t.Fatal(err)
	}
	if got := r.Alter(started, []rollout.Laptop{laptop("C"), laptop("A")}, nil); len(got) != 0 {
		t.Errorf("a laptop that joins a wave that is not open: %v", got)
	}
	if c, known := r.Member("C"); !known || c.Wave != estate.RestID || c.State != rollout.Waiting || r.Gets("C") {
		t.Errorf("found %v", c)
	}
	var first string
	for m := range r.Each {
		if m.State == rollout.Due {
			first = m.ID
		}
	}
	if !r.Gets(first) {
		t.Errorf("%s is due and gets nothing", first)
	}
	r.Do(started, rollout.Pause, "")
	if r.Gets(first) {
		t.Errorf("%s is due and gets the change of a paused rollout", first)
	}
	r.Do(started, rollout.Resume, "")
	r.Tell(started.Add(time.Hour), first, rollout.ReportTaken)
	later := started.Add(2 * time.Hour)
	silent := laptop("E")
	silent.Heard = started.Add(-30 * 24 * time.Hour)
	var states []string
	for _, x := range r.Alter(later, []rollout.Laptop{laptop("D"), silent}, []string{"C", "nobody"}) {
		states = append(states, fmt.Sprint(x.Device, " ", x.From, " ", x.To))
	}
	if want := []string{"D waiting due", "E waiting due", "E due silent"}; !slices.Equal(states, want) {
		t.Errorf("found %q, expected %q", states, want)
	}
	if r.Has("C") {
		t.Error("C left and is in the rollout")
	}
	r.Do(later, rollout.TakeBack, "")
	if got := r.Alter(later, []rollout.Laptop{laptop("F")}, nil); len(got) != 0 || r.Has("F") {
		t.Errorf("a rollout that is taken back takes a laptop in: %v", got)
	}
	// The only laptop that has the change leaves: nobody is left to wait for.
	got := r.Alter(later, nil, []string{first})
	if p, _ := r.Progress(); p != rollout.TakenBack || len(got) != 1 {
		t.Errorf("found %s, %v", p, got)
	}
}

// TestAskingAltersNothing asks a rollout from several sides at once, as pages do; the race detector
// says whether something is written.
func TestAskingAltersNothing(t *testing.T) {
	for seed := range uint64(40) {
		plan, laptops, started, events := randomRehearsal(seed)
		r, _, err := rollout.Start("C-1", plan, laptops, started)
		if err != nil {
			continue
		}
		for _, e := range events {
			r.Apply(e)
			var asking sync.WaitGroup
			for range 3 {
				asking.Go(func() {
					r.Next()
					r.Gate()
					for i := range r.Waves() {
						r.Forecast(i)
					}
					for m := range r.Each {
						r.Given(m.ID)
						r.Gets(m.ID)
					}
				})
			}
			asking.Wait()
		}
	}
}

// TestTurnedIsWhatGetsAlters plays random rehearsals and follows who gets the change by what Turned
// and TurnedAmong say, through restarts.
func TestTurnedIsWhatGetsAlters(t *testing.T) {
	played, turns := 0, 0
	for seed := range uint64(300) {
		plan, laptops, started, events := randomRehearsal(seed)
		r, _, err := rollout.Start("C-1", plan, laptops, started)
		if err != nil {
			continue
		}
		played++
		gets := map[string]bool{}
		follow := func(turned []string) {
			for _, id := range turned {
				gets[id] = !gets[id]
				turns++
			}
		}
		follow(r.Turned())
		for n, e := range events {
			happened := r.Apply(e)
			if slices.ContainsFunc(happened, func(x rollout.Transition) bool { return x.Progress != "" || x.Opened != "" }) {
				follow(r.Turned())
			} else {
				for _, x := range happened {
					follow(r.TurnedAmong(x.Device))
				}
			}
			var ids []string
			for m := range r.Each {
				ids = append(ids, m.ID)
				if gets[m.ID] != r.Gets(m.ID) || gets[m.ID] != r.Given(m.ID) {
					t.Fatalf("seed %d, event %d: %s gets the change: %v; Turned says %v "+
						"and Given %v", seed, n, m.ID, r.Gets(m.ID), gets[m.ID],
						r.Given(m.ID))
				}
			}
			ids = append(ids, "~nobody")
			for i, given := range r.GivenAmong(ids) {
				if given != gets[ids[i]] {
					t.Fatalf("seed %d, event %d: GivenAmong says %v of %s", seed, n, given, ids[i])
				}
			}
			if n%3 == 0 {
				r = rollout.Restore(r.Save())
			}
		}
	}
	if played < 100 || turns < 100 {
		t.Fatalf("only %d rehearsals were played, with %d turns", played, turns)
	}
}
