package threads

import (
	"iter"
	"strings"
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

// A panic of a thread reaches whoever called, after the other threads have ended.
func TestAPanicReachesTheCaller(t *testing.T) {
	var done atomic.Int32
	defer func() {
		failed, ok := recover().(*Panic)
		if !ok || failed.Value != "broken" || !strings.Contains(failed.Error(), "threads_test.go") {
			t.Errorf("the panic is %v, expected the thread's with its stack", failed)
		}
		if got := done.Load(); got != 99 {
			t.Errorf("%d numbers were done, expected all but one", got)
		}
	}()
	Among(make([]struct{}, 2), 100, func(_ struct{}, mine iter.Seq[int]) {
		for i := range mine {
			if i == 7 {
				panic("broken")
			}
			done.Add(1)
		}
	})
	t.Error("the panic is lost")
}
