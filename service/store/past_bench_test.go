package store_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// BenchmarkTenCheckInsEach stores ten check-ins of each of 2,000 laptops, or as many as ZRIDGE_LARGE says, of
// which one in a hundred reports another value, and says by how much the database grows.
func BenchmarkTenCheckInsEach(b *testing.B) {
	laptops := 2_000
	if n, err := strconv.Atoi(os.Getenv("ZRIDGE_LARGE")); err == nil {
		laptops = n
	}
	const rounds, settings = 10, 5
	for b.Loop() {
		path := filepath.Join(b.TempDir(), "z.db")
		s, err := store.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
		id := func(i int) string { return fmt.Sprintf("LT-%06d", i) }
		delivery := func(n int64) rollout.Delivery {
			return rollout.Delivery{
				Setting: setting.ID(fmt.Sprintf("screen.lock_after_minutes_%d", n%settings)), Wanted: setting.IntegerValue(n),
				Reported: setting.IntegerValue(n),
				Status:   rollout.Applied, WantedAt: at, ReportedAt: at,
			}
		}
		err = s.Transaction(b.Context(), func(tx *store.Store) error {
			for i := range laptops {
				if err := tx.SaveLaptop(store.Laptop{Device: id(i), EnrolledAt: &at, LastSeen: &at, Usual: 3600}); err != nil {
					return err
				}
				var all []rollout.Delivery
				for n := range int64(settings) {
					all = append(all, delivery(n))
				}
				if err := tx.SaveDeliveries(id(i), all); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			b.Fatal(err)
		}
		before := size(b, path)
		for round := range rounds {
			at = at.Add(time.Hour)
			seen := map[string]store.Laptop{}
			err := s.Transaction(b.Context(), func(tx *store.Store) error {
				for i := range laptops {
					if (i+round)%100 != 0 {
						seen[id(i)] = store.Laptop{LastSeen: &at, Sessions: 1}
						continue
					}
					if err := tx.SaveDeliveries(id(i), []rollout.Delivery{delivery(int64(10 + round))}); err != nil {
						return err
					}
					if err := tx.AddCheckIn(store.CheckIn{Device: id(i), At: at, Outcome: "in order", Sent: 1, Applied: 1, Messages: 4,
						Revision: "12"}); err != nil {
						return err
					}
				}
				return nil
			})
			if err == nil {
				err = s.TouchLaptops(seen)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
		after := size(b, path)
		b.ReportMetric(float64(rounds*laptops), "check-ins")
		b.ReportMetric(float64(before)/1e6, "MB-before")
		b.ReportMetric(float64(after-before)/1e6, "MB-more")
		if err := s.Close(); err != nil {
			b.Fatal(err)
		}
	}
}

// size is that of the database with its write-ahead log.
func size(b *testing.B, path string) (bytes int64) {
	b.Helper()
	for _, name := range []string{path, path + "-wal"} {
		if info, err := os.Stat(name); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}
