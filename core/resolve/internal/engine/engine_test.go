package engine

import (
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"zenithridge.example/zridge/core/bitset"
)

// A table of the tests: by object, by block, a number. Its Worker computes twice what the table
// before has, where that differs.
type doubling struct {
	was     [][]uint64
	patches []Patch
	blocks  *[]int // in the order in which blocks begin
	guard   *sync.Mutex
}

func (d *doubling) Update(block int) {
	d.guard.Lock()
	*d.blocks = append(*d.blocks, block)
	d.guard.Unlock()
	for at := range d.was {
		if v := d.was[at][block]; v != 0 {
			d.patches = append(d.patches, Patch{At: at, Block: block, Words: []uint64{2 * v}})
		}
	}
}

func (d *doubling) Patches() []Patch { return d.patches }

// TestARunWritesEveryBlockOnceAndSharesTheRest runs over some blocks of a table, and compares with
// the obvious.
func TestARunWritesEveryBlockOnceAndSharesTheRest(t *testing.T) {
	const objects, blocks = 17, 40
	r := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		was := make([][]uint64, objects)
		for at := range was {
			was[at] = make([]uint64, blocks)
			for b := range was[at] {
				if r.IntN(4) == 0 {
					was[at][b] = 1 + uint64(r.IntN(9))
				}
			}
		}
		run := r.Perm(blocks)[:r.IntN(blocks)]
		next, want := slices.Clone(was), make([][]uint64, objects)
		for at := range was {
			want[at] = slices.Clone(was[at])
			for _, b := range run {
				want[at][b] *= 2
			}
		}
		var began []int
		var guard sync.Mutex
		var idle Idle
		ended := 0
		patches := Run(slices.Clone(run), func(b int) int { return b }, &idle,
			func() *doubling { return &doubling{was: was, blocks: &began, guard: &guard} },
			func(*doubling) { guard.Lock(); ended++; guard.Unlock() })
		if len(run) > 0 && (ended != len(patches) || ended == 0) {
			t.Fatalf("%d workers ended, %d gave patches", ended, len(patches))
		}
		Apply(patches, func(p Patch) { next[p.At] = SetBlock(next[p.At], was[p.At], p.Block, p.Words[0]) })
		slices.Sort(began)
		slices.Sort(run)
		if !slices.Equal(began, run) {
			t.Fatalf("blocks %v began, expected %v", began, run)
		}
		for at := range want {
			if !slices.Equal(next[at], want[at]) {
				t.Fatalf("object %d: found %v, expected %v", at, next[at], want[at])
			}
			if shared := &next[at][0] == &was[at][0]; shared != slices.Equal(was[at], want[at]) {
				t.Fatalf("object %d is shared: %v", at, shared)
			}
		}
		if got := Any(patches, 0); got != slices.ContainsFunc(patches, func(l []Patch) bool { return len(l) > 0 }) || Any(patches, 1) {
			t.Fatal("Any found patches of another table")
		}
	}
}

// A single block leaves the other threads idle, which a worker can read.
func TestIdleCountsThreadsWithoutABlock(t *testing.T) {
	var idle Idle
	var began []int
	var guard sync.Mutex
	blocks := make([]int, 1000)
	Run(blocks, func(int) int { return 0 }, &idle,
		func() *doubling {
			if idle.Threads() < 0 {
				t.Error("fewer than no threads are idle")
			}
			return &doubling{blocks: &began, guard: &guard}
		},
		func(*doubling) {})
	if len(began) != len(blocks) || idle.Threads() < 1 {
		t.Errorf("%d blocks were done; %d threads are idle at the end", len(began), idle.Threads())
	}
}

func TestPaddingCopiesWhatOthersHold(t *testing.T) {
	spare := make([]int, 2, 10)
	longer := PadBlocks(spare, 4)
	longer[3] = 7
	if spare[:4][3] != 0 {
		t.Error("padding wrote into the capacity of another list")
	}
	if again := PadBlocks(longer, 2); &again[0] != &longer[0] {
		t.Error("a list that is long enough was copied")
	}
	if ListAt([][]int{{1}}, 1) != nil || len(ListAt([][]int{{1}}, 0)) != 1 {
		t.Error("ListAt gives another object's list")
	}
}

// TestMergeIsTheObvious compares with a map, for masks of few rows and of many.
func TestMergeIsTheObvious(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	random := func(n int) (*bitset.Set, map[int]bool) {
		s, m := &bitset.Set{}, map[int]bool{}
		for range n {
			row := r.IntN(60)
			s.Add(row)
			m[row] = true
		}
		return s, m
	}
	var sets bitset.Arena
	for range 2000 {
		sets.Reset()
		was, before := random(r.IntN(40))
		mask, masked := random(r.IntN(8) * r.IntN(8))
		is, now := random(r.IntN(40))
		want, differ := maps.Clone(before), map[int]bool{}
		for row := range masked {
			if now[row] != before[row] {
				differ[row] = true
			}
			delete(want, row)
			if now[row] {
				want[row] = true
			}
		}
		differs := &bitset.Set{}
		out, ok := Merge(&sets, was.Pack(), mask, is, differs)
		if ok != (len(differ) > 0) || ok != (out != nil) {
			t.Fatalf("merged: %v, with %d rows that differ", ok, len(differ))
		}
		if got := slices.Collect(differs.All()); !slices.Equal(got, slices.Sorted(maps.Keys(differ))) {
			t.Fatalf("rows %v differ, expected %v", got, slices.Sorted(maps.Keys(differ)))
		}
		if ok {
			if got := slices.Collect(out.All()); !slices.Equal(got, slices.Sorted(maps.Keys(want))) {
				t.Fatalf("merged to %v, expected %v", got, slices.Sorted(maps.Keys(want)))
			}
		}
	}
}

// A set of an earlier block is not seen in a later one.
func TestRowSetsForgetTheBlockBefore(t *testing.T) {
	var sets bitset.Arena
	var rows RowSets
	rows.Of(3, 1, &sets).Add(5)
	if s := rows.Known(3, 1); s == nil || !s.Has(5) {
		t.Error("a set that was used is not known")
	}
	if rows.Known(3, 2) != nil || rows.Known(2, 1) != nil || rows.Known(9, 1) != nil {
		t.Error("a set is known that was not used in this block")
	}
	if !rows.Of(3, 2, &sets).Empty() {
		t.Error("a set begins with the rows of another block")
	}
}
