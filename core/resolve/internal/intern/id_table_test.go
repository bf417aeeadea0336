package intern

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestNumbersStayWithTheirIDs gives numbers to ids that come and go, and compares with a map: a
// number is nobody else's while its id is there, is not given again in the very step in which its
// id went, and the places before stay as they were.
func TestNumbersStayWithTheirIDs(t *testing.T) {
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 1))
		p := &IDTable[string]{}
		has := map[string]int{}
		for step := range 40 {
			var gone, fresh []string
			for id := range has {
				if r.IntN(12) == 0 {
					gone = append(gone, id)
				}
			}
			slices.Sort(gone)
			for range r.IntN(30) * r.IntN(30) / (1 + r.IntN(20)) {
				id := fmt.Sprint("d", r.IntN(2000))
				if _, there := has[id]; !there && !slices.Contains(fresh, id) {
					fresh = append(fresh, id)
				}
			}
			before, had := p, maps.Clone(has)
			p = p.With(gone, fresh)
			freed := map[int]bool{}
			for _, id := range gone {
				freed[has[id]] = true
				delete(has, id)
			}
			for _, id := range fresh {
				n, known := p.Number(id)
				if !known || freed[n] {
					t.Fatalf("seed %d, step %d: %s has %d (%v), which was freed: %v", seed, step, id, n, known, freed[n])
				}
				has[id] = n
			}
			taken := map[int]string{}
			for id, n := range has {
				if now, known := p.Number(id); !known || now != n || p.NumberOf(id) != n {
					t.Fatalf("seed %d, step %d: %s is %d, it was %d", seed, step, id, now, n)
				}
				if other, twice := taken[n]; twice || n >= int(p.N) {
					t.Fatalf("seed %d, step %d: %d is %s and %s, of %d", seed, step, n, id, other, p.N)
				}
				taken[n] = id
			}
			for _, id := range append(gone, "nobody", "") {
				if n, known := p.Number(id); known || p.NumberOf(id) != None {
					t.Fatalf("seed %d, step %d: %q is gone and has %d", seed, step, id, n)
				}
			}
			for id, n := range had {
				if was, known := before.Number(id); !known || was != n {
					t.Fatalf("seed %d, step %d: the places before say %d of %s, they said %d", seed, step, was, id, n)
				}
			}
		}
	}
}

// TestATableIsAMap fills tables of many sizes, with ids that are alike.
func TestATableIsAMap(t *testing.T) {
	for _, n := range []int{0, 1, 2, 3, 100, 1000, 5000} {
		ids, numbers := make([]string, n), make([]int32, n)
		for i := range ids {
			ids[i], numbers[i] = fmt.Sprintf("LT-%07d", i*7), int32(n-i)
		}
		table := newBaseTable(ids, numbers)
		for i := range ids {
			if got, known := table.at(ids[i]); !known || got != numbers[i] {
				t.Fatalf("%d ids: %s has %d, %v", n, ids[i], got, known)
			}
			if _, known := table.at(ids[i] + "x"); known {
				t.Fatalf("%d ids: one that is not there is known", n)
			}
		}
		if _, known := table.at(""); known {
			t.Errorf("%d ids: an empty id is known", n)
		}
	}
}
