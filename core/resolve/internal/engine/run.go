// This file computes blocks on all threads and applies what comes of it. No worker writes to a
// table: each collects patches, and these are applied when all blocks are done. So workers read
// tables of the plan before without locks.

package engine

import (
	"cmp"
	"iter"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/threads"
)

// Patch is a new result for one object of a table in one block.
type Patch struct {
	Table int // which table; the caller numbers them
	At    int // which object of the table
	Part  int // which of the object's lists, where it has several; otherwise 0
	Block int
	Words []uint64 // the result: a bitset.Packed or a bitset.Parts, by the kind of table
}

// Worker computes one block after the other on one thread. It does not write to any table.
type Worker interface {
	// Update computes a block.
	Update(block int)
	// Patches gives the results that differ, of all blocks that were updated. It is called once,
	// after the last Update.
	Patches() []Patch
}

// Idle counts the threads that have no block left. A Worker with much work in one block can ask for
// it and use these threads too. The count is a hint: it may have changed when the Worker acts on
// it, which costs time but does no harm. The zero Idle is zero.
type Idle struct{ n atomic.Int32 }

// Threads gives the number of threads without a block.
func (i *Idle) Threads() int { return int(i.n.Load()) }

// Run computes blocks on all threads and gives the patches, in one list for each thread. The blocks
// with the greatest weight begin first, so that no thread begins a long block when the others are
// done. begin is called once on each thread; end is called with the same Worker when the thread has
// no block left.
func Run[W Worker](blocks []int, weight func(block int) int, idle *Idle, begin func() W, end func(W)) [][]Patch {
	slices.SortStableFunc(blocks, func(a, b int) int { return cmp.Compare(weight(b), weight(a)) })
	idle.n.Store(int32(max(0, runtime.GOMAXPROCS(0)-len(blocks))))
	var guard sync.Mutex
	var patches [][]Patch
	threads.Share(len(blocks), func(mine iter.Seq[int]) {
		w := begin()
		defer end(w)
		for i := range mine {
			w.Update(blocks[i])
		}
		idle.n.Add(1)
		guard.Lock()
		defer guard.Unlock()
		patches = append(patches, w.Patches())
	})
	return patches
}

// Apply calls write for every patch, on all threads. Patches of objects with the same At are
// written by one thread, whatever their table, part and block: patches of several blocks go into
// one list, which must not be written by two threads at once.
func Apply(patches [][]Patch, write func(Patch)) {
	n := len(patches)
	threads.Share(n, func(mine iter.Seq[int]) {
		for i := range mine {
			for _, list := range patches {
				for _, p := range list {
					if p.At%n == i {
						write(p)
					}
				}
			}
		}
	})
}

// Any tells whether some patch belongs to a table.
func Any(patches [][]Patch, table int) bool {
	of := func(p Patch) bool { return p.Table == table }
	return slices.ContainsFunc(patches, func(list []Patch) bool { return slices.ContainsFunc(list, of) })
}
