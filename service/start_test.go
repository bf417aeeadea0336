package service_test

import (
	"context"
	"runtime"
	"testing"
	"time"

	"zenithridge.example/zridge/service"
)

// BenchmarkStart starts the service over a database of 100,000 laptops (ZRIDGE_LARGE) and reports
// how long that takes and how much memory is in use when it is idle.
func BenchmarkStart(b *testing.B) {
	_, database := largeEstate(b)
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for b.Loop() {
		began := time.Now()
		running, err := service.Start(service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23", Secrets: secretsOf(b)})
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s-start")
		runtime.GC()
		runtime.ReadMemStats(&after)
		ctx, stop := context.WithCancel(b.Context())
		stop()
		if err := running.Wait(ctx); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(after.HeapAlloc-min(before.HeapAlloc, after.HeapAlloc))/(1<<20), "MB-heap")
}
