// This file measures the service at 100,000 laptops: its start, what a change would do while 200
// laptops a second check in, and memory.

package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// identitiesOf enrols the first laptops of an estate.
func identitiesOf(b *testing.B, api *client.Client, s *estate.Snapshot, count int) []endpoint.Identity {
	b.Helper()
	caller := api.HTTP
	if caller == nil {
		caller = endpoint.Client(4)
	}
	ids := make([]endpoint.Identity, 0, count)
	for at := 0; at < count; at += 240 {
		var names []string
		for i := at; i < at+240; i++ {
			names = append(names, string(s.Devices[i].ID))
		}
		codes, err := client.Post[[]wire.EnrolmentCode](context.Background(), api, "/enrolment-codes", map[string]any{"devices": names})
		if err != nil {
			b.Fatal(err)
		}
		for _, c := range codes {
			id, err := endpoint.Enrol(context.Background(), caller, api.Base, c.Code, c.Device, "")
			if err != nil {
				b.Fatal(err)
			}
			ids = append(ids, id)
		}
	}
	return ids
}

// resident reads the process's resident memory, now and at its highest, in MB. The benchmark and
// its laptops are part of it.
func resident(b *testing.B) (now, highest float64) {
	b.Helper()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip("no /proc to read the memory from")
	}
	for _, line := range strings.Split(string(text), "\n") {
		var kB float64
		if n, _ := fmt.Sscanf(line, "VmRSS: %f kB", &kB); n == 1 {
			now = kB / 1024
		}
		if n, _ := fmt.Sscanf(line, "VmHWM: %f kB", &kB); n == 1 {
			highest = kB / 1024
		}
	}
	return now, highest
}

// checkingIn lets laptops check in at a rate until the context ends; wait gives how many did in a
// second, and how many failed.
func checkingIn(ctx context.Context, fleet []*endpoint.Laptop, rate float64) (wait func() (perSecond float64, failed int64)) {
	var sessions, failed atomic.Int64
	var group sync.WaitGroup
	tick := make(chan *endpoint.Laptop)
	for range 32 { // laptops don't wait for one another
		group.Go(func() {
			for laptop := range tick {
				if _, err := laptop.CheckIn(ctx); err != nil && ctx.Err() == nil {
					failed.Add(1)
				}
				sessions.Add(1)
			}
		})
	}
	began := time.Now()
	group.Go(func() {
		defer close(tick)
		clock := time.NewTicker(10 * time.Millisecond)
		defer clock.Stop()
		for i := 0; ctx.Err() == nil; {
			<-clock.C
			for due := int(time.Since(began).Seconds() * rate); i < due; i++ { // those that are due come, late or not
				select {
				case tick <- fleet[i%len(fleet)]:
				case <-ctx.Done():
					return
				}
			}
		}
	})
	return func() (float64, int64) {
		elapsed := time.Since(began).Seconds()
		group.Wait()
		return float64(sessions.Load()) / elapsed, failed.Load()
	}
}

// largeEstate makes an estate of 100,000 laptops, or as many as ZRIDGE_LARGE says, and a database
// that holds it.
func largeEstate(b *testing.B) (s *estate.Snapshot, database string) {
	b.Helper()
	laptops := 100_000
	if text := os.Getenv("ZRIDGE_LARGE"); text != "" {
		laptops, _ = strconv.Atoi(text)
	}
	s = world.Make(world.Of(laptops), 1)
	database = filepath.Join(b.TempDir(), "large.db")
	if err := filled.Database(database, s); err != nil {
		b.Fatal(err)
	}
	return s, database
}

// BenchmarkPublish publishes changes that touch every one of 100,000 enrolled laptops, of which
// 1,000 have 600 deliveries each, while 200 others a second check in.
func BenchmarkPublish(b *testing.B) {
	s, database := largeEstate(b)
	if err := filled.Enrolled(database, s, 1000, 600); err != nil {
		b.Fatal(err)
	}
	api := over(b, database)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	ids := identitiesOf(b, api, s, 240)
	fleet := make([]*endpoint.Laptop, len(ids))
	for i, id := range ids {
		fleet[i] = endpoint.New(api.Base, http.DefaultClient, id, &endpoint.Memory{})
		if _, err := fleet[i].CheckIn(ctx); err != nil {
			b.Fatal(err)
		}
	}
	load := checkingIn(ctx, fleet, 200)
	var definition string
	for _, d := range s.Settings {
		if d.Type == setting.TypeText && d.Combine == setting.Closest {
			definition = string(d.ID)
		}
	}
	var took []time.Duration
	touched := 0
	for b.Loop() {
		for i := range 20 {
			change, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: fmt.Sprint("Everybody ", i)})
			if err != nil {
				b.Fatal(err)
			}
			body := map[string]any{
				"id": "everybody", "kind": "security", "priority": 1_000_000, "audience": map[string]any{"include": []string{"everyone"}},
				"settings": map[string]any{definition: map[string]any{"value": fmt.Sprintf("text%02d", 40+i%2), "lock": true}},
			}
			if _, err := api.Call(
				ctx,
				http.MethodPut,
				client.Path("changes", change.ID, "edits", "policies", "everybody"),
				nil,
				body,
				nil,
			); err != nil {
				b.Fatal(err)
			}
			impact, err := client.Get[wire.Impact](ctx, api, client.Path("changes", change.ID, "impact"), nil)
			if err != nil {
				b.Fatal(err)
			}
			touched = max(touched, impact.Devices)
			at := time.Now()
			if _, err := client.Post[wire.Publication](ctx, api, client.Path("changes", change.ID, "publish"), nil); err != nil {
				b.Fatal(err)
			}
			took = append(took, time.Since(at))
		}
	}
	stop()
	sessions, failed := load()
	slices.Sort(took)
	b.ReportMetric(float64(touched), "laptops-touched")
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-publish")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-publish-worst")
	b.ReportMetric(sessions, "check-ins/s")
	b.ReportMetric(float64(failed), "failed")
}

// BenchmarkLarge measures the service with 100,000 laptops.
func BenchmarkLarge(b *testing.B) {
	const rate, asked = 200, 200
	s, database := largeEstate(b)
	began := time.Now()
	api := over(b, database)
	started := time.Since(began)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()

	ids := identitiesOf(b, api, s, 240)
	fleet := make([]*endpoint.Laptop, len(ids))
	for i, id := range ids { // the first session of each brings everything: it is not what is measured
		fleet[i] = endpoint.New(api.Base, http.DefaultClient, id, &endpoint.Memory{})
		if _, err := fleet[i].CheckIn(ctx); err != nil {
			b.Fatal(err)
		}
	}
	load := checkingIn(ctx, fleet, rate)
	random := rand.New(rand.NewPCG(3, 4))
	var took []time.Duration
	for b.Loop() {
		for range asked {
			p := s.Policies[random.IntN(len(s.Policies))]
			p.Priority = int64(1 + random.IntN(1000))
			body, err := files.EncodeJSON(p)
			if err != nil {
				b.Fatal(err)
			}
			edit := map[string]any{"edits": []any{map[string]any{"kind": "policies", "id": string(p.ID), "body": json.RawMessage(body)}}}
			at := time.Now()
			if answer, err := client.Post[wire.Impact](ctx, api, "/impact", edit); err != nil || len(answer.Faults) > 0 {
				b.Fatal(answer.Faults, err)
			}
			took = append(took, time.Since(at))
			time.Sleep(20 * time.Millisecond) // as somebody types, not as a load test
		}
	}
	stop()
	sessions, failed := load()
	slices.Sort(took)
	now, highest := resident(b)
	b.ReportMetric(started.Seconds(), "s-start")
	b.ReportMetric(sessions, "check-ins/s")
	b.ReportMetric(float64(failed), "failed")
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-impact")
	b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "ms-impact-p95")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-impact-worst")
	b.ReportMetric(now, "MB-resident")
	b.ReportMetric(highest, "MB-highest")
}

// BenchmarkScreens asks for what the console's screens show of 100,000 laptops, once after a
// publication and once again, and says which take longer than a person notices.
func BenchmarkScreens(b *testing.B) {
	s, database := largeEstate(b)
	api := over(b, database)
	policy, group, id := s.Policies[7], s.Groups[9].ID, s.Policies[7].Entries[0].Setting
	paths := []string{
		"/overview",
		"/conflicts",
		"/problems",
		"/lints",
		"/units",
		"/policies",
		"/groups",
		"/settings?q=a",
		"/detached",
		"/devices?limit=200",
		"/people?limit=200",
		"/changes",
		fmt.Sprintf("/units/%s/inherits", s.Units[0].ID),
		fmt.Sprintf("/units/%s/inherits", s.Units[50].ID),
		fmt.Sprintf("/unit-matrix?unit=%s", s.Units[0].ID),
		fmt.Sprintf("/groups/%s/inherits", group),
		fmt.Sprintf("/settings/%s", id),
		fmt.Sprintf("/settings/%s?policy=%s", id, policy.ID),
		fmt.Sprintf("/settings/%s/places", id),
		fmt.Sprintf("/policies/%s/use", policy.ID),
		fmt.Sprintf("/policies/%s/summary", policy.ID),
		fmt.Sprintf("/groups/%s", group),
		fmt.Sprintf("/devices/%s", s.Devices[5].ID),
	}
	if conflicts := get[[]wire.Conflict](b, api, "/conflicts"); len(conflicts) > 0 {
		paths = append(
			paths,
			fmt.Sprintf("/conflicts/ways?setting=%s&policies=%s", conflicts[0].Setting, strings.Join(conflicts[0].Policies, "&policies=")),
		)
	}
	var took []time.Duration
	for b.Loop() {
		for _, path := range paths {
			var times [2]time.Duration
			for i := range times {
				at := time.Now()
				get[any](b, api, path)
				times[i] = time.Since(at)
				took = append(took, times[i])
			}
			if times[0] > 100*time.Millisecond {
				fmt.Printf("%8s, then %8s: %s\n", times[0].Round(time.Millisecond), times[1].Round(time.Millisecond), path)
			}
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
}
