package service_test

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/service"
)

// BenchmarkStart starts the service over a database of 100,000 laptops (ZRIDGE_LARGE) and reports how long that takes and how much memory
// is in use when it is idle.
func BenchmarkStart(b *testing.B) {
	laptops := 100_000
	if text := os.Getenv("ZRIDGE_LARGE"); text != "" {
		laptops, _ = strconv.Atoi(text)
	}
	database := filepath.Join(b.TempDir(), "start.db")
	if err := filled.Database(database, world.Make(world.Of(laptops), 1)); err != nil {
		b.Fatal(err)
	}
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
