// This file lets many days' worth of check-ins pass, with publications between them, and says
// whether memory stays where it was.

package service_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// BenchmarkCheckInsForDays has 960 laptops check in over loopback until ZRIDGE_CHECKINS are done
// (20,000), while every 1,000 check-ins some laptops are moved to another unit and one policy's
// priority alters, which is published. What is kept in memory after a tenth is compared with what
// is kept in the end, by the service alone: it is a process of its own.
func BenchmarkCheckInsForDays(b *testing.B) {
	total, laptops := 20_000, 960
	if text := os.Getenv("ZRIDGE_CHECKINS"); text != "" {
		total, _ = strconv.Atoi(text)
	}
	s := world.Make(world.Size{Devices: laptops, Units: 20, Groups: 40, Policies: 30, Settings: 60}, 1)
	database := filepath.Join(b.TempDir(), "days.db")
	if err := filled.Database(database, s); err != nil {
		b.Fatal(err)
	}
	apart := startApart(b, database, false)
	api := apart.api
	ctx := context.Background()
	network := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	var fleet []*endpoint.Laptop
	for _, id := range identitiesOf(b, api, s, laptops) {
		fleet = append(fleet, endpoint.New(api.Base, network, id, &endpoint.Memory{}))
	}
	random := rand.New(rand.NewPCG(7, 8))
	publish := func(n int) {
		c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: fmt.Sprint("Moves ", n)})
		if err != nil {
			b.Fatal(err)
		}
		var moved []string
		for range 10 {
			moved = append(moved, string(s.Devices[random.IntN(laptops)].ID))
		}
		if _, err := client.Post[wire.Edited](
			ctx,
			api,
			client.Path("changes", c.ID, "moved-devices"),
			wire.Move{Devices: moved, Unit: string(s.Units[random.IntN(len(s.Units))].ID)},
		); err != nil {
			b.Fatal(err)
		}
		if _, err := client.Post[wire.Publication](ctx, api, client.Path("changes", c.ID, "publish"), nil); err != nil {
			b.Fatal(err)
		}
	}
	var early, late float64
	var failed atomic.Int64
	for b.Loop() {
		for done := 0; done < total; {
			var wait sync.WaitGroup
			var next atomic.Int64
			for range 4 {
				wait.Go(func() {
					for i := int(next.Add(1)) - 1; i < 1000; i = int(next.Add(1)) - 1 {
						if _, err := fleet[(done+i)%laptops].CheckIn(ctx); err != nil {
							failed.Add(1)
						}
					}
				})
			}
			wait.Wait()
			done += 1000
			publish(done)
			if tenth := done * 10 / total; done*10%total < 10_000 {
				late = apart.keeps()
				if tenth == 1 {
					early = late
				}
				fmt.Fprintf(os.Stderr, "%d check-ins: %.1f MB kept\n", done, late)
			}
		}
	}
	b.ReportMetric(early, "MB-after-a-tenth")
	b.ReportMetric(late, "MB-in-the-end")
	b.ReportMetric(late/early, "end/tenth")
	b.ReportMetric(float64(failed.Load()), "failed")
}
