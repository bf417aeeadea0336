package intern

import (
	"math/rand/v2"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/bitset"
)

// TestBlockedListsAreAsPlainOnes makes lists of lists, longer and altered here and there, and
// compares each with a plain one. Blocks in which nothing altered are the very same.
func TestBlockedListsAreAsPlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	type version struct {
		list  CowList[int]
		plain []int
	}
	versions := []version{{}}
	for range 60 {
		from := versions[r.IntN(len(versions))]
		n := len(from.plain) + []int{0, 0, 1, 500, 5000}[r.IntN(5)]
		next := EditList(from.list, n, -1)
		plain := slices.Clone(from.plain)
		for len(plain) < n {
			plain = append(plain, -1)
		}
		touched := map[int]bool{}
		for range r.IntN(4) {
			if n > 0 {
				at := r.IntN(n)
				next.Put(at, at*3)
				plain[at] = at * 3
				touched[at>>bitset.Shift] = true
				if *next.At(at) != at*3 {
					t.Fatal("what was put is not there")
				}
			}
		}
		for b := range from.list {
			if len(from.list[b]) == len(next.List[b]) && !touched[b] && &from.list[b][0] != &next.List[b][0] {
				t.Fatalf("block %d was copied and not altered", b)
			}
		}
		versions = append(versions, version{next.List, plain})
	}
	for _, v := range versions {
		if v.list.Len() != len(v.plain) || !slices.Equal(slices.Concat(v.list...), v.plain) {
			t.Fatalf("%d are kept, expected %d", v.list.Len(), len(v.plain))
		}
		for range 20 {
			if n := len(v.plain); n > 0 {
				if at := r.IntN(n); *v.list.At(at) != v.plain[at] {
					t.Fatalf("at %d is %d, expected %d", at, *v.list.At(at), v.plain[at])
				}
			}
		}
	}
}

// TestMarkedNumbers marks numbers and asks for them.
func TestMarkedNumbers(t *testing.T) {
	m := make(DeviceSet, BlocksOf(10_000))
	if m.Any() {
		t.Error("something is marked before")
	}
	for at := 0; at < 10_000; at += 777 {
		m.Add(at)
	}
	for at := range 10_000 {
		if m.Has(at) != (at%777 == 0) {
			t.Fatalf("%d: %v", at, m.Has(at))
		}
	}
	if !m.Any() {
		t.Error("nothing is marked")
	}
}
