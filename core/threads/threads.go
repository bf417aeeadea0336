// Package threads spreads work over all threads. It is for work on many independent things that is
// done when all of them are done. Numbers are given out one by one, so that a thread that has a
// long one does not keep the others from going on. A panic on one of the threads becomes a panic of
// the caller.
package threads

import (
	"fmt"
	"iter"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// Share goes through the numbers below n on all threads: do is called once on each, with the
// numbers that are this thread's, and Share returns when all are done. Where do panics, Share panics
// with a *Panic once the other threads have ended, so that whoever called may recover: a panic of a
// goroutine that nobody recovers ends the process.
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
	var failed atomic.Pointer[Panic]
	for _, by := range workers {
		wait.Go(func() {
			defer func() {
				if value := recover(); value != nil {
					failed.CompareAndSwap(nil, &Panic{value, debug.Stack()})
				}
			}()
			do(by, mine)
		})
	}
	wait.Wait()
	if first := failed.Load(); first != nil {
		panic(first)
	}
}

// Panic is the panic of another goroutine: the first, where there are several.
type Panic struct {
	Value any
	Stack []byte // of that goroutine
}

// Error says what the panic was and where.
func (p *Panic) Error() string { return fmt.Sprintf("%v\n%s", p.Value, p.Stack) }
