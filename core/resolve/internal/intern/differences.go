// This file finds what differs between two lists of objects. Snapshots are made of one another, so
// that nearly all objects are the same ones at the same places: those are passed over by comparing
// addresses.

package intern

// Differences is what differs between two lists of objects.
type Differences[K comparable] struct {
	Gone           []K
	Fresh, Altered []int // places in the next list
	Same           bool  // it is the very same list
	Aligned        bool  // every object is at the place where it was
}

// Compare finds what differs between a list and the one that comes after it. Lists that stand in
// one order are gone through side by side.
func Compare[T any, K comparable](was, next []T, id func(*T) K, equal func(a, b *T) bool) Differences[K] {
	if SameList(was, next) {
		return Differences[K]{Same: true}
	}
	return compareAt(len(was), len(next), func(i int) *T { return &was[i] }, func(i int) *T { return &next[i] }, id, equal)
}

// SameList tells whether two lists are the very same.
func SameList[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// CompareKept is Compare for lists of what is kept elsewhere: what is the very same object is
// passed over.
func CompareKept[T any, K comparable](was, next []*T, id func(*T) K, equal func(a, b *T) bool) Differences[K] {
	if SameList(was, next) {
		return Differences[K]{Same: true}
	}
	return compareAt(len(was), len(next), func(i int) *T { return was[i] }, func(i int) *T { return next[i] }, id, equal)
}

// compareAt compares lists of so many objects, which are given by place. It goes through them side
// by side, and then looks for the objects that are at another place.
func compareAt[T any, K comparable](before, after int, was, next func(int) *T, id func(*T) K, equal func(a, b *T) bool) (d Differences[K]) {
	// Most edits touch few objects of a long list, and objects keep their places: one pass over
	// both lists is enough then. Pointers are compared first.
	side := min(before, after)
	var apart []int
	for i := range side {
		x, y := was(i), next(i)
		switch {
		case x == y:
		case id(x) != id(y):
			apart = append(apart, i)
		case !equal(x, y):
			d.Altered = append(d.Altered, i)
		}
	}
	if len(apart) == 0 && before == after {
		// Every place has the object that it had.
		d.Aligned = true
		return d
	}
	// What is left moved, or is on one side only. places has the old objects that are not accounted
	// for, by id.
	places := make(map[K]int, len(apart))
	for _, i := range apart {
		places[id(was(i))] = i
	}
	for i := side; i < before; i++ {
		places[id(was(i))] = i
	}
	for i := side; i < after; i++ {
		apart = append(apart, i)
	}
	for _, i := range apart {
		at, known := places[id(next(i))]
		if !known {
			d.Fresh = append(d.Fresh, i)
			continue
		}
		// What is found is taken out of places, so that what remains there at the end is gone.
		delete(places, id(next(i)))
		if !equal(was(at), next(i)) {
			d.Altered = append(d.Altered, i)
		}
	}
	for id := range places {
		d.Gone = append(d.Gone, id)
	}
	return d
}

// KeptAt is IDsAt for a list of what is kept elsewhere.
func KeptAt[T any, K comparable](list []*T, at []int, id func(*T) K) []K {
	return IDsAt(list, at, func(one **T) K { return id(*one) })
}

// IDsAt gives the ids of some objects of a list.
func IDsAt[T any, K comparable](list []T, at []int, id func(*T) K) []K {
	out := make([]K, len(at))
	for i, j := range at {
		out[i] = id(&list[j])
	}
	return out
}
