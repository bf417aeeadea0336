// This file measures how many laptops can check in a second, in plain HTTP and over TLS.

package service_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/endpoint"
)

// BenchmarkCheckInsASecond lets ZRIDGE_RATE (200) laptops check in a second, for ten seconds, at a
// service in a process of its own. Check-ins begin when they are due, whether or not those before
// have ended. The time of one is from when it was due to the end of its session, with the laptop's
// own work; it has two exchanges. Service and laptops share the machine, so what the service can do
// follows from its processor time for one.
func BenchmarkCheckInsASecond(b *testing.B) {
	rate, laptops, lasts := 200, 960, 10*time.Second
	if text := os.Getenv("ZRIDGE_RATE"); text != "" {
		rate, _ = strconv.Atoi(text)
	}
	s := world.Make(world.Size{Devices: laptops, Units: 20, Groups: 40, Policies: 30, Settings: 60}, 1)
	for _, way := range []struct {
		name      string
		tls, each bool
	}{
		{"plain", false, false},
		{"plain, a connection each", false, true},
		{"TLS", true, false},
		{"TLS, a connection each", true, true},
	} {
		b.Run(way.name, func(b *testing.B) {
			database := filepath.Join(b.TempDir(), "rate.db")
			if err := filled.Database(database, s); err != nil {
				b.Fatal(err)
			}
			apart := startApart(b, database, way.tls)
			caller := func() *http.Client {
				return &http.Client{Transport: &http.Transport{TLSClientConfig: apart.trust, MaxIdleConnsPerHost: 64, MaxConnsPerHost: 256}}
			}
			shared := caller()
			ids := identitiesOf(b, apart.api, s, laptops)
			memories := make([]*endpoint.Memory, laptops)
			checkIn := func(i int) error {
				network := shared
				if way.each {
					network = caller()
					defer network.CloseIdleConnections()
				}
				l := endpoint.New(apart.api.Base, network, ids[i], memories[i])
				_, err := l.CheckIn(context.Background())
				ids[i] = l.Identity
				return err
			}
			for i := range laptops { // takes its values; the next have no news
				memories[i] = &endpoint.Memory{}
				if err := checkIn(i); err != nil {
					b.Fatal(err)
				}
			}
			count := rate * int(lasts/time.Second)
			took := make([]time.Duration, count)
			failed := make([]error, count)
			busy := make([]sync.Mutex, laptops) // a laptop has one session at a time
			var wait sync.WaitGroup
			before, began := apart.worked(), time.Now()
			for n := range count {
				due := began.Add(time.Duration(n) * time.Second / time.Duration(rate))
				time.Sleep(time.Until(due))
				wait.Go(func() {
					busy[n%laptops].Lock()
					defer busy[n%laptops].Unlock()
					failed[n] = checkIn(n % laptops)
					took[n] = time.Since(due)
				})
			}
			wait.Wait()
			spent, all := apart.worked()-before, time.Since(began)
			failures := 0
			for _, err := range failed {
				if err != nil {
					failures++
				}
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[count/2].Microseconds())/1000, "ms-median")
			b.ReportMetric(float64(took[count*99/100].Microseconds())/1000, "ms-p99")
			b.ReportMetric(float64(spent.Microseconds())/1000/float64(count), "ms-of-a-processor/check-in")
			b.ReportMetric(float64(count)/all.Seconds(), "check-ins/s")
			b.ReportMetric(float64(failures), "failed")
			b.ReportMetric(0, "ns/op")
		})
	}
}
