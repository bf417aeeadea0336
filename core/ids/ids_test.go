package ids_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	. "zenithridge.example/zridge/core/ids"
)

// TestPlacesAreAsAMapSays lets lists of all lengths grow, and compares every place with a map's.
func TestPlacesAreAsAMapSays(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var none *Index
	if _, known := Find(none, "a", func(int) string { panic("asked") }); known || none.Len() != 0 {
		t.Error("an empty list has something")
	}
	for range 60 {
		var list []string
		at := func(place int) string { return list[place] }
		places := map[string]int{}
		x := Of(0, at)
		for range 1 + r.IntN(12) {
			before, had := x, len(list)
			for range r.IntN([]int{3, 400}[r.IntN(2)]) {
				id := fmt.Sprintf("id-%d", r.IntN(100_000))
				if _, twice := places[id]; !twice {
					places[id] = len(list)
					list = append(list, id)
				}
			}
			if x = With(x, len(list), at); x.Len() != len(list) || before.Len() != had {
				t.Fatalf("%d of %d; the one before has %d of %d", x.Len(), len(list), before.Len(), had)
			}
			for id, want := range places {
				if place, known := Find(x, id, at); !known || place != want {
					t.Fatalf("%s is at %d, expected %d of %d", id, place, want, len(list))
				}
				if _, known := Find(before, id, at); known != (want < had) {
					t.Fatalf("%s came later, and is there before: %v", id, known)
				}
			}
			for range 20 {
				if _, known := Find(x, fmt.Sprintf("no-%d", r.IntN(1000)), at); known {
					t.Fatal("what is not there is found")
				}
			}
		}
	}
}
