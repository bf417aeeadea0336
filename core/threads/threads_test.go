package threads

import (
	"iter"
	"sync/atomic"
	"testing"
)

func TestShareGivesEveryNumberOnce(t *testing.T) {
	for _, n := range []int{0, 1, 2, 1000} {
		seen := make([]atomic.Int32, n)
		Share(n, func(mine iter.Seq[int]) {
			for i := range mine {
				seen[i].Add(1)
			}
		})
		for i := range seen {
			if got := seen[i].Load(); got != 1 {
				t.Errorf("of %d numbers, %d came %d times, expected once", n, i, got)
			}
		}
	}
}

// A thread that stops asking leaves the rest to the others.
func TestShareGoesOnWhereOneStops(t *testing.T) {
	var first atomic.Bool
	var taken atomic.Int32
	Share(100, func(mine iter.Seq[int]) {
		for range mine {
			taken.Add(1)
			if first.CompareAndSwap(false, true) {
				return
			}
		}
	})
	if got := taken.Load(); got < 1 || got > 100 {
		t.Errorf("%d numbers were taken, expected 1 to 100", got)
	}
}

// Each worker is given to one thread alone, and together they do all.
func TestAmongGivesEachWorkerItsOwn(t *testing.T) {
	var done [3]int
	Among([]*int{&done[0], &done[1], &done[2]}, 1000, func(by *int, mine iter.Seq[int]) {
		for range mine {
			*by++
		}
	})
	if done[0]+done[1]+done[2] != 1000 {
		t.Errorf("%v were done, expected 1000 together", done)
	}
}
