package workflow

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"testing"
)

// TestKeptIsAMap alters copies of copies, and compares each with a map that was copied whole.
func TestKeptIsAMap(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2))
	key := func() objectKey { return objectKey{"devices", fmt.Sprint(r.IntN(300))} }
	for range 20 {
		plain := map[objectKey]int{}
		for range r.IntN(200) {
			plain[key()] = r.IntN(9)
		}
		is := newCowMap(maps.Clone(plain))
		type version struct {
			is    cowMap[int]
			plain map[objectKey]int
		}
		versions := []version{{is, plain}}
		for range 40 {
			from := versions[r.IntN(len(versions))]
			is, plain := from.is.copied(), maps.Clone(from.plain)
			for range r.IntN(30) {
				if k := key(); r.IntN(3) == 0 {
					is.drop(k)
					delete(plain, k)
				} else {
					n := r.IntN(9)
					is.put(k, n)
					plain[k] = n
				}
			}
			versions = append(versions, version{is, plain})
		}
		for _, v := range versions {
			if v.is.size != len(v.plain) || !maps.Equal(maps.Collect(v.is.all), v.plain) {
				t.Fatalf("%d are kept, expected %d", v.is.size, len(v.plain))
			}
			for range 20 {
				k := key()
				want, known := v.plain[k]
				if got, is := v.is.at(k); got != want || is != known || v.is.has(k) != known || v.is.of(k) != want {
					t.Fatalf("%v is %d, %v; expected %d, %v", k, got, is, want, known)
				}
			}
		}
	}
}
