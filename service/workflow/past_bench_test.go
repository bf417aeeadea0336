package workflow_test

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/dictionary"
	. "zenithridge.example/zridge/service/workflow"

	"path/filepath"

	"zenithridge.example/zridge/service/store"
)

// BenchmarkPast publishes 200 revisions of the demo estate, or as many as ZRIDGE_LARGE says, and asks what a laptop
// got at moments that nobody asked about before.
func BenchmarkPast(b *testing.B) {
	revisions := 200
	if n, err := strconv.Atoi(os.Getenv("ZRIDGE_LARGE")); err == nil {
		revisions = n
	}
	s, err := store.Open(filepath.Join(b.TempDir(), "z.db"))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { s.Close() })
	var clock atomic.Int64
	clock.Store(start.Unix())
	f, err := New(Config{Store: s, Shipped: dictionary.Shipped(), Now: func() time.Time { return time.Unix(clock.Load(), 0).UTC() }})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(f.Close)
	withDemo(b, f)
	began := time.Now()
	for i := range revisions {
		clock.Add(60)
		c, err := f.NewChange(b.Context(), ines, fmt.Sprint("Change ", i), "")
		if err != nil {
			b.Fatal(err)
		}
		id := fmt.Sprint("lock-", i%50)
		body := fmt.Sprintf(`{"id":%q,"kind":"security","settings":{"screen.lock_after_minutes":%d},"audience":{"include":["unit:slipway"]}}`, id, 1+i%60)
		if _, err := f.PutEdit(b.Context(), ines, c.ID, EditInput{Kind: estate.KindPolicy, ID: id, Body: []byte(body),
			Expected: -1}); err != nil {
			b.Fatal(err)
		}
		if _, err := f.Publish(b.Context(), ines, c.ID, PublishInput{Expected: -1, AtOnce: true}); err != nil {
			b.Fatal(err)
		}
	}
	b.Logf("%d revisions published in %v", revisions, time.Since(began).Round(time.Second))
	for b.Loop() {
		var took []time.Duration
		for i := range 20 {
			at := start.Add(time.Duration(1+(i*7919)%revisions) * time.Minute)
			asked := time.Now()
			if _, err := f.PastOf(b.Context(), ines, "LT-0001", at, ""); err != nil {
				b.Fatal(err)
			}
			took = append(took, time.Since(asked))
		}
		slices.Sort(took)
		b.ReportMetric(float64(took[10].Milliseconds()), "ms-median")
		b.ReportMetric(float64(took[19].Milliseconds()), "ms-worst")
	}
}
