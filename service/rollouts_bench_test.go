// This file measures rollouts at 100,000 laptops.

package service_test

import (
	"context"
	"fmt"
	"net/http"
	"runtime"
	"slices"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// heap gives what is live on the heap, in MB.
func heap() float64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc) / (1 << 20)
}

// quiet lets laptops that have no news check in, rounds times, and gives how long one takes on average, in
// microseconds: the best of three measurements.
func quiet(b *testing.B, fleet []*endpoint.Laptop, rounds int) float64 {
	b.Helper()
	best := time.Duration(1 << 62)
	for range 3 {
		began := time.Now()
		for range rounds {
			for _, l := range fleet {
				if _, err := l.CheckIn(context.Background()); err != nil {
					b.Fatal(err)
				}
			}
		}
		best = min(best, time.Since(began))
	}
	return float64(best.Microseconds()) / float64(rounds*len(fleet))
}

// largeFleet is a service over the large estate of benchmarks, and 200 of its laptops, which have checked in.
func largeFleet(b *testing.B) (*client.Client, *estate.Snapshot, []*endpoint.Laptop) {
	b.Helper()
	s, database := largeEstate(b)
	if err := filled.Enrolled(database, s, 0, 0); err != nil {
		b.Fatal(err)
	}
	api := over(b, database)
	network := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	var fleet []*endpoint.Laptop
	for _, id := range identitiesOf(b, api, s, 200) {
		l := endpoint.New(api.Base, network, id, &endpoint.Memory{})
		if _, err := l.CheckIn(context.Background()); err != nil {
			b.Fatal(err)
		}
		fleet = append(fleet, l)
	}
	return api, s, fleet
}

// BenchmarkRollouts starts five rollouts, each of which touches every one of 100,000 laptops, or as many as
// ZRIDGE_LARGE says, and compares check-ins and memory with and without them, side by side.
func BenchmarkRollouts(b *testing.B) {
	ctx := context.Background()
	api, s, fleet := largeFleet(b)
	var texts []setting.ID
	for _, d := range s.Settings {
		if d.Type == setting.TypeText && d.Combine == setting.Closest && len(d.Supports) == 0 {
			texts = append(texts, d.ID)
		}
	}
	publish := func(i int, how wire.PublishRequest) wire.Published {
		b.Helper()
		change := posted[wire.Change](b, api, "/changes", wire.NewChange{Title: fmt.Sprint("Change ", i)})
		body := map[string]any{
			"id": fmt.Sprint("everybody-", i), "kind": "security", "priority": 1_000_000,
			"audience": map[string]any{"include": []string{"everyone"}},
			"settings": map[string]any{string(texts[i]): map[string]any{"value": "text00", "lock": true}},
		}
		path := client.Path("changes", change.ID, "edits", "policies", fmt.Sprint("everybody-", i))
		if _, err := api.Call(ctx, http.MethodPut, path, nil, body, nil); err != nil {
			b.Fatal(err)
		}
		return posted[wire.Published](b, api, client.Path("changes", change.ID, "publish"), how)
	}
	// Each goes to a fifth first, which is 20,000; the next wave is opened by a person.
	plan := files.RolloutPlanDoc{ID: "own", Waves: []files.WaveDoc{{ID: "fifth", Share: "20"},
		{ID: "second", Share: "20", Go: "by-hand", Enough: "0"}}}
	for b.Loop() {
		before, memory := quiet(b, fleet, 5), heap()
		var ids []string
		var starting []time.Duration
		for i := range 5 {
			began := time.Now()
			ids = append(ids, publish(i, wire.PublishRequest{Own: &plan}).Rollout)
			starting = append(starting, time.Since(began))
		}
		for range 2 { // those of the first waves take the changes
			for _, l := range fleet {
				if _, err := l.CheckIn(ctx); err != nil {
					b.Fatal(err)
				}
			}
		}
		after, with := quiet(b, fleet, 5), heap()
		var opening []time.Duration
		for _, id := range ids {
			began := time.Now()
			posted[wire.Rollout](b, api, client.Path("rollouts", id, "acts"), wire.RolloutAct{Act: "go"})
			opening = append(opening, time.Since(began))
		}
		var page []time.Duration
		for range 10 {
			began := time.Now()
			if _, err := client.Get[wire.Rollout](ctx, api, client.Path("rollouts", ids[0]), nil); err != nil {
				b.Fatal(err)
			}
			page = append(page, time.Since(began))
		}
		slices.Sort(opening)
		slices.Sort(page)
		slices.Sort(starting)
		b.ReportMetric(before, "µs-check-in-without")
		b.ReportMetric(after, "µs-check-in-with-five")
		b.ReportMetric(after/before, "times")
		b.ReportMetric(memory, "MB-without")
		b.ReportMetric(with, "MB-with-five")
		b.ReportMetric(with/memory, "times-memory")
		b.ReportMetric(float64(starting[2].Milliseconds()), "ms-start")
		b.ReportMetric(float64(opening[2].Milliseconds()), "ms-open-20000")
		b.ReportMetric(float64(opening[4].Milliseconds()), "ms-open-worst")
		b.ReportMetric(float64(page[5].Microseconds())/1000, "ms-page")
	}
}
