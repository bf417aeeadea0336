// This file has several sets of one block in one piece.
//
// It is how the outcomes of a setting are kept: for each block, which rows have outcome 3, which
// have outcome 7. One piece of memory for all of them can be shared between plans, compared by its
// address, and patched where some rows differ.

package bitset

import "slices"

// Parts is several sets of one block, each with a number: how many there are, then number and rows
// of each, then the rows. The numbers rise. nil has no parts. A Parts is immutable.
type Parts []uint64

// PackParts gives sets by number. The numbers must rise; empty sets are left out.
func PackParts(numbers []int32, sets []*Set) Parts {
	// Up to 64 parts need no memory of their own for their counts.
	var lens [64]int
	counts := lens[:0]
	// size counts the words of the outcome, n its parts.
	size, n := 1, 0
	for _, s := range sets {
		rows := s.Len()
		counts = append(counts, rows)
		if rows > 0 {
			n++
			size += 1 + payload(rows)
		}
	}
	if n == 0 {
		return nil
	}
	p := make(Parts, size)
	p[0] = uint64(n)
	head, at := 1, 1+n
	for i, s := range sets {
		if counts[i] == 0 {
			continue
		}
		// Heads come first, so that numbers and counts can be read without passing over rows.
		p[head] = uint64(numbers[i])<<32 | uint64(counts[i])
		head++
		s.write(p[at:], counts[i])
		at += payload(counts[i])
	}
	return p
}

// Patch gives parts in which the rows of mask are in the sets of some numbers alone; other rows are
// where they were. The numbers must rise, and the sets have rows of mask only. ok is false where
// all is as it was: out is p then. Parts that the mask does not alter are copied as they are
// written.
func (p Parts) Patch(mask *Set, numbers []int32, sets []*Set) (out Parts, ok bool) {
	// Both lists rise, so they are merged in one pass. First the heads of the outcome are found,
	// then its size is known, and its rows are written.
	type part struct {
		head uint64
		was  uint64 // how it is written in p, from at on; 0: not at all
		at   int
		set  *Set // its rows of mask, where they are others; nil: it stands as it is written
	}
	var scratch [64]part
	parts, here := scratch[:0], Set{}
	size, at := 1, 1+p.Count()
	for i, j := 0, 0; i < p.Count() || j < len(sets); {
		one := part{head: p.head(i), at: at}
		if j < len(sets) && sets[j].Empty() {
			j++
			continue
		}
		fresh := j < len(sets) && uint64(uint32(numbers[j])) <= one.head>>32
		// A number that p does not have.
		if fresh && uint64(uint32(numbers[j])) < one.head>>32 {
			one.head = uint64(numbers[j])<<32 | uint64(sets[j].Len())
			one.set = sets[j]
			j++
		} else {
			// A number that p has: its rows of mask are compared with those of the new set, which
			// is empty if there is none.
			one.was = one.head
			rows := int(one.head & 0xffffffff)
			takeWithin(&here, p[at:], rows, mask)
			at += payload(rows)
			i++
			is := &none
			if fresh {
				is = sets[j]
				j++
			}
			// The same rows of mask: the part is copied as it stands.
			if !here.Equal(is) {
				one.set = is
				one.head += uint64(is.Len()) - uint64(here.Len())
			}
		}
		ok = ok || one.set != nil
		// A part that lost all of its rows is left out.
		if rows := int(one.head & 0xffffffff); rows > 0 {
			parts = append(parts, one)
			size += 1 + payload(rows)
		}
	}
	// Nothing differs, or nothing is left.
	if !ok || len(parts) == 0 {
		if ok {
			p = nil
		}
		return p, ok
	}
	out = make(Parts, size)
	out[0] = uint64(len(parts))
	at = 1 + len(parts)
	for i := range parts {
		one := &parts[i]
		rows := int(one.head & 0xffffffff)
		out[1+i] = one.head
		// Rows outside of mask are taken from p, rows of mask from the new set.
		if one.set == nil {
			copy(out[at:], p[one.at:one.at+payload(rows)])
		} else {
			here.Clear()
			if one.was != 0 {
				orInto(&here, p[one.at:], int(one.was&0xffffffff))
			}
			here.AndNot(mask)
			here.Or(one.set)
			here.write(out[at:], rows)
		}
		at += payload(rows)
	}
	return out, true
}

// none is the empty set.
var none Set

// Count is how many parts there are.
func (p Parts) Count() int {
	if p == nil {
		return 0
	}
	return int(p[0])
}

// Numbers gives the number of each part and how many rows it has.
func (p Parts) Numbers(yield func(number int32, rows int) bool) {
	for i := range p.Count() {
		if !yield(int32(p[1+i]>>32), int(p[1+i]&0xffffffff)) {
			return
		}
	}
}

// Each gives each part as a set, which holds until the next.
func (p Parts) Each(into *Set, f func(number int32)) {
	at := 1 + p.Count()
	// Rows of a part lie directly behind those of the part before.
	for i := range p.Count() {
		rows := int(p[1+i] & 0xffffffff)
		into.Clear()
		orInto(into, p[at:], rows)
		f(int32(p[1+i] >> 32))
		at += payload(rows)
	}
}

// Within gives those of each part's rows that mask has, where there are any, in a set. f gives the
// set for the next part, nil where no more are wanted.
func (p Parts) Within(mask, into *Set, f func(number int32, rows *Set) (next *Set)) {
	at := 1 + p.Count()
	for i := range p.Count() {
		rows := int(p[1+i] & 0xffffffff)
		if takeWithin(into, p[at:], rows, mask) {
			if into = f(int32(p[1+i]>>32), into); into == nil {
				return
			}
		}
		at += payload(rows)
	}
}

// OrInto adds the rows of one part to s, where there is one of that number.
func (p Parts) OrInto(s *Set, number int32) {
	at := 1 + p.Count()
	for i := range p.Count() {
		rows := int(p[1+i] & 0xffffffff)
		// Numbers rise, but there are few parts: a loop is enough.
		if int32(p[1+i]>>32) == number {
			orInto(s, p[at:], rows)
			return
		}
		at += payload(rows)
	}
}

// At gives the numbers of the parts that a row is in, appended to those given.
func (p Parts) At(row int, numbers []int32) []int32 {
	at := 1 + p.Count()
	for i := range p.Count() {
		rows := int(p[1+i] & 0xffffffff)
		if has(p[at:], rows, row) {
			numbers = append(numbers, int32(p[1+i]>>32))
		}
		at += payload(rows)
	}
	return numbers
}

// Unlike makes into the rows that are in the part of some number on one side only. Parts that are
// written alike are passed over.
func (p Parts) Unlike(q Parts, into *Set) {
	into.Clear()
	var a, b Set
	// i and j go through the parts of both sides in the order of numbers; x and y are where their
	// rows lie.
	i, j, x, y := 0, 0, 1+p.Count(), 1+q.Count()
	for i < p.Count() || j < q.Count() {
		mine, theirs := p.head(i), q.head(j)
		one, other := mine>>32, theirs>>32
		n, m := payload(int(mine&0xffffffff)), payload(int(theirs&0xffffffff))
		a.Clear()
		b.Clear()
		if one <= other {
			// Written alike: the same rows.
			if one == other && mine == theirs && slices.Equal(p[x:x+n], q[y:y+m]) {
				i, j, x, y = i+1, j+1, x+n, y+m
				continue
			}
			orInto(&a, p[x:], int(mine&0xffffffff))
			i, x = i+1, x+n
		}
		if other <= one {
			orInto(&b, q[y:], int(theirs&0xffffffff))
			j, y = j+1, y+m
		}
		into.orUnlike(&a, &b)
	}
}

// head gives number and rows of a part; after the last, a number that no part has.
func (p Parts) head(i int) uint64 {
	if i < p.Count() {
		return p[1+i]
	}
	return ^uint64(0)
}

// Equal tells whether both have the same parts.
func (p Parts) Equal(q Parts) bool { return alike(p, q) }
