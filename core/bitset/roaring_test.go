package bitset_test

import (
	"math/rand/v2"
	"testing"

	"github.com/RoaringBitmap/roaring/v2"

	"zenithridge.example/zridge/core/bitset"
)

// laptopsOfBenchmark is how many rows the sets of BenchmarkSetOperations are over.
const laptopsOfBenchmark = 100_000

// BenchmarkSetOperations intersects and subtracts sets of laptops, as the engine does for each
// entry of each setting, with the sets of this package and with compressed bitmaps of a library
// that is made for many large sets. docs/decisions has what came out.
func BenchmarkSetOperations(b *testing.B) {
	for _, share := range []struct {
		name string
		part float64
	}{{"few", 0.002}, {"some", 0.1}, {"most", 0.95}} {
		random := rand.New(rand.NewPCG(3, 4))
		blocks := (laptopsOfBenchmark + bitset.Rows - 1) / bitset.Rows
		ours, mask := make([]bitset.Packed, blocks), make([]bitset.Packed, blocks)
		theirs, theirMask := roaring.New(), roaring.New()
		var set, other bitset.Set
		for block := range blocks {
			set.Clear()
			other.Clear()
			for row := range min(bitset.Rows, laptopsOfBenchmark-block*bitset.Rows) {
				at := uint32(block*bitset.Rows + row)
				if random.Float64() < share.part {
					set.Add(row)
					theirs.Add(at)
				}
				if random.Float64() < 0.5 {
					other.Add(row)
					theirMask.Add(at)
				}
			}
			ours[block], mask[block] = set.Pack(), other.Pack()
		}
		theirs.RunOptimize()
		b.Run(share.name+"/ours", func(b *testing.B) {
			b.ReportAllocs()
			var rest, here, is bitset.Set
			count := 0
			for b.Loop() {
				count = 0
				for block := range ours {
					rest.Clear()
					mask[block].OrInto(&rest)
					is.Clear()
					ours[block].OrInto(&is)
					here.SetAnd(&rest, &is)
					rest.AndNot(&is)
					count += here.Len() + rest.Len()
				}
			}
			if want := int(theirMask.GetCardinality()); count != want {
				b.Fatalf("%d rows, expected %d", count, want)
			}
		})
		b.Run(share.name+"/library", func(b *testing.B) {
			b.ReportAllocs()
			count := 0
			for b.Loop() {
				here := roaring.And(theirMask, theirs)
				rest := roaring.AndNot(theirMask, theirs)
				count = int(here.GetCardinality() + rest.GetCardinality())
			}
			if want := int(theirMask.GetCardinality()); count != want {
				b.Fatalf("%d rows, expected %d", count, want)
			}
		})
	}
}
