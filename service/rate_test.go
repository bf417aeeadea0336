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
	"syscall"
	"testing"
	"time"

	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
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
			offered(b, apart, rate, lasts, laptops, checkIn)
		})
	}
}

// offered lets laptops check in at a rate, for some time, and reports how long that took and what it cost the service and
// the laptops.
func offered(b *testing.B, apart *separate, rate int, lasts time.Duration, laptops int, checkIn func(i int) error) {
	b.Helper()
	count := rate * int(lasts/time.Second)
	took := make([]time.Duration, count)
	failed := make([]error, count)
	busy := make([]sync.Mutex, laptops) // a laptop has one session at a time
	var wait sync.WaitGroup
	before, own, began := apart.worked(), ownTime(b), time.Now()
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
	spent, ours, all := apart.worked()-before, ownTime(b)-own, time.Since(began)
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
	b.ReportMetric(float64(ours.Microseconds())/1000/float64(count), "ms-of-the-laptop/check-in")
	b.ReportMetric(float64(count)/all.Seconds(), "check-ins/s")
	b.ReportMetric(float64(failures), "failed")
	b.ReportMetric(0, "ns/op")
}

// ownTime is the processor time that this process has taken: the laptops' own.
func ownTime(b *testing.B) time.Duration {
	b.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkCertifiedCheckIns lets ZRIDGE_RATE (200) laptops a second check in over TLS with certificates of their own, of
// ZRIDGE_LAPTOPS (2,000) that are enrolled in an estate of ZRIDGE_ESTATE (100,000): with a connection that each keeps, and with
// one that is made anew each time, as laptops do that check in every half hour. What the laptops cost is told apart.
func BenchmarkCertifiedCheckIns(b *testing.B) {
	number := func(name string, usual int) int {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			return n
		}
		return usual
	}
	rate, laptops, lasts := number("ZRIDGE_RATE", 200), number("ZRIDGE_LAPTOPS", 2000), 10*time.Second
	s := world.Make(world.Size{Devices: number("ZRIDGE_ESTATE", 100_000), Units: 200, Groups: 500, Policies: 100, Settings: 200}, 1)
	database := filepath.Join(b.TempDir(), "rate.db")
	if err := filled.Database(database, s); err != nil {
		b.Fatal(err)
	}
	apart := startApart(b, database, true)
	fleet, callers := make([]*endpoint.Laptop, laptops), make([]*http.Client, laptops)
	for i := range fleet {
		device := string(s.Devices[i*(len(s.Devices)/laptops)].ID)
		code := posted[wire.Invitation](b, apart.api, "/invitations", wire.NewInvitation{Device: device}).Codes[0]
		request, err := endpoint.NewRequest("", "")
		if err != nil {
			b.Fatal(err)
		}
		certified, err := endpoint.EnrolByCertificate(b.Context(), apart.api.HTTP, apart.api.Base, device, code, request)
		if err != nil {
			b.Fatal(err)
		}
		callers[i], err = certified.Client(apart.trust.RootCAs)
		if err != nil {
			b.Fatal(err)
		}
		fleet[i] = endpoint.New(apart.api.Base, callers[i], endpoint.Identity{Device: device, Certified: certified}, &endpoint.Memory{})
		for range 2 { // takes its values; the next have no news
			if _, err := fleet[i].CheckIn(b.Context()); err != nil {
				b.Fatal(err)
			}
		}
	}
	for _, way := range []struct {
		name string
		each bool
	}{{"a connection that is kept", false}, {"a connection each", true}} {
		b.Run(way.name, func(b *testing.B) {
			if !way.each {
				for i := range fleet { // makes the connections
					if _, err := fleet[i].CheckIn(b.Context()); err != nil {
						b.Fatal(err)
					}
				}
			}
			offered(b, apart, rate, lasts, laptops, func(i int) error {
				_, err := fleet[i].CheckIn(context.Background())
				if way.each {
					callers[i].CloseIdleConnections()
				}
				return err
			})
		})
	}
	b.ReportMetric(apart.keeps(), "MB-kept")
}
