// Package threads spreads work over all threads.
package threads

import (
	"iter"
	"runtime"
	"sync"
	"sync/atomic"
)

// Share goes through the numbers below n on all threads: do is called once on each, with the
// numbers that are this thread's, and Share returns when all are done.
func Share(n int, do func(mine iter.Seq[int])) {
	Among(make([]struct{}, min(runtime.GOMAXPROCS(0), n)), n, func(_ struct{}, mine iter.Seq[int]) { do(mine) })
}

// Among is Share with workers that are there already: each has a thread of its own.
func Among[W any](workers []W, n int, do func(by W, mine iter.Seq[int])) {
	// Numbers are handed out one by one, so that a thread with short tasks takes more of them.
	var taken atomic.Int64
	mine := func(yield func(int) bool) {
		for i := int(taken.Add(1)) - 1; i < n && yield(i); i = int(taken.Add(1)) - 1 {
		}
	}
	var wait sync.WaitGroup
	for _, by := range workers {
		wait.Go(func() { do(by, mine) })
	}
	wait.Wait()
}
