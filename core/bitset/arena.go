// This file lends sets: whoever works on one block after the other uses the same ones again and
// again.
//
// A set has 512 bytes, and deciding one block takes many of them for a short time each. Making them
// anew would leave most of the work to the garbage collector.

package bitset

// Arena lends sets for as long as they are needed, of three kinds. The zero Arena is ready. It is
// for one thread.
//
//	Temp   a set that holds anything, until the mark that was made before it is released
//	Keep   an empty set, until Reset: as long as one block is worked on
//	Aside  an empty set, until DropAside: as long as the outcome of one question is looked at
type Arena struct {
	temps []*Set // used like a stack
	temp  int
	kept  []*Set
	keep  int
	sides []*Set
	side  int
}

// Reset takes all temporary and kept sets back.
func (a *Arena) Reset() { a.temp, a.keep = 0, 0 }

// Temp lends a set that holds anything.
func (a *Arena) Temp() *Set {
	if a.temp == len(a.temps) {
		a.temps = append(a.temps, &Set{})
	}
	a.temp++
	return a.temps[a.temp-1]
}

// Mark notes which temporary sets are lent, for Release.
func (a *Arena) Mark() int { return a.temp }

// Release takes the temporary sets back that were lent since the mark was made.
func (a *Arena) Release(mark int) { a.temp = mark }

// Keep lends an empty set until Reset.
func (a *Arena) Keep() *Set {
	if a.keep == len(a.kept) {
		more := make([]Set, 64)
		for i := range more {
			a.kept = append(a.kept, &more[i])
		}
	}
	a.keep++
	s := a.kept[a.keep-1]
	s.Clear()
	return s
}

// Unkeep takes the kept set back that was lent last.
func (a *Arena) Unkeep() { a.keep-- }

// Aside lends an empty set until DropAside.
func (a *Arena) Aside() *Set {
	if a.side == len(a.sides) {
		a.sides = append(a.sides, &Set{})
	}
	a.side++
	s := a.sides[a.side-1]
	s.Clear()
	return s
}

// DropAside takes all sets back that were put aside.
func (a *Arena) DropAside() { a.side = 0 }

// Dated is a set that is good for one epoch, such as the time in which one block is worked on. The
// zero Dated is good for none.
type Dated struct {
	Epoch int32
	Set   *Set // nil: empty
}
