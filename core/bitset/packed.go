// This file keeps sets in little memory: few rows as a list, nearly all as a list of those that are
// not there, others as bits.
//
// Most sets of an estate are small or nearly whole: the laptops of one unit, or all but a few. Sets
// are written in the form that takes the least memory, which follows from their number of rows
// alone, so that equal sets are equal words. They are read by a mask where only some rows matter,
// without unpacking the rest. docs/decisions has a comparison with a bitmap library.

package bitset

import (
	"math/bits"
	"slices"
)

// listed is the number of rows below which a list takes less memory than bits.
const listed = Rows / 16

// Packed is a set that is kept: the number of its rows, and then the rows four to a word, or bits.
// nil is empty. A Packed is immutable.
type Packed []uint64

// A form is how the rows of a set are written.
type form int

const (
	asList   form = iota // its rows
	asBits               // a bit for each row of the block
	asAbsent             // the rows that it does not have
)

// formOf gives the form of n rows, and how many are listed. A list holds four rows to a word. Below
// listed rows it takes less than the 64 words of a bit set.
func formOf(n int) (form, int) {
	switch {
	case n < listed:
		return asList, n
	case n > Rows-listed:
		return asAbsent, Rows - n
	}
	return asBits, 0
}

// payload is how many words n rows take.
func payload(n int) int {
	if form, many := formOf(n); form != asBits {
		return (many + 3) / 4
	}
	return words
}

// Pack gives what s holds, in the form that takes least memory.
func (s *Set) Pack() Packed {
	n := s.Len()
	if n == 0 {
		// The first word is the number of rows, from which the form follows.
		return nil
	}
	p := make(Packed, 1+payload(n))
	p[0] = uint64(n)
	s.write(p[1:], n)
	return p
}

// write puts the n rows of s where there is space for them, zeros before.
func (s *Set) write(to []uint64, n int) {
	form, many := formOf(n)
	if form == asBits {
		// s.sum has a bit for each word that is not empty; m is what is left of it.
		for m := s.sum; m != 0; m &= m - 1 {
			i := bits.TrailingZeros64(m) & 63
			to[i] = s.words[i]
		}
		return
	}
	// A list of rows looks at words that hold something, a list of absent rows at all of them.
	look := s.sum
	if form == asAbsent {
		look = ^uint64(0)
	}
	for place := 0; place < many; look &= look - 1 {
		i := bits.TrailingZeros64(look) & 63
		w := s.words[i]
		if form == asAbsent {
			// A word that is not marked holds something old and counts as empty.
			if s.sum>>i&1 == 0 {
				w = 0
			}
			w = ^w
		}
		// The lowest bit that is set is the next row. Rows come in rising order.
		for ; w != 0; w &= w - 1 {
			to[place>>2] |= uint64(i<<6+bits.TrailingZeros64(w)) << (place & 3 * 16)
			place++
		}
	}
}

// at gives the row that is written at a place of a list.
func at(from []uint64, place int) int { return int(from[place>>2] >> (place & 3 * 16) & 0xffff) }

// orInto adds n rows that were written.
func orInto(s *Set, from []uint64, n int) {
	form, many := formOf(n)
	switch form {
	case asList:
		s.addListed(from, many)
		return
	case asAbsent:
		// The absent rows become bits, of which the complement is added.
		var absent [words]uint64
		for i := range many {
			row := at(from, i)
			absent[row>>6] |= 1 << (row & 63)
		}
		for i := range s.words {
			w := absent[i]
			if s.sum>>i&1 != 0 {
				w &^= s.words[i]
			}
			if s.words[i] = ^w; ^w != 0 {
				s.sum |= 1 << i
			}
		}
		return
	}
	for i, w := range from[:words] {
		s.orWord(i, w)
	}
}

// takeWithin makes s those of n rows that were written which mask has, and tells whether there are
// any. What others are written is hardly looked at.
func takeWithin(s *Set, from []uint64, n int, mask *Set) bool {
	form, many := formOf(n)
	if form == asBits {
		// Only the words of mask are read.
		s.sum = 0
		for m := mask.sum; m != 0; m &= m - 1 {
			i := bits.TrailingZeros64(m) & 63
			if w := from[i] & mask.words[i]; w != 0 {
				s.words[i] = w
				s.sum |= 1 << i
			}
		}
		return s.sum != 0
	}
	// A list of absent rows: all of mask, without those of them that are listed.
	if form == asAbsent {
		s.Copy(mask)
	} else {
		s.sum = 0
	}
	if mask.sum == 0 {
		return false
	}
	// Rows below the first and above the last of mask are passed over.
	last := (64-bits.LeadingZeros64(mask.sum))<<6 - 1
	for place := before(from[:(many+3)/4], bits.TrailingZeros64(mask.sum)<<6) << 2; place < many; place += 4 {
		four := from[place>>2]
		if int(four&0xffff) > last {
			break
		}
		for n := min(4, many-place); n > 0; n-- {
			row := int(four & 0xffff)
			four >>= 16
			if mask.sum>>(row>>6&63)&1 == 0 {
				continue
			}
			if form == asAbsent {
				// The row is in mask's word, but perhaps not in mask: Remove does nothing then, and
				// orWord adds the bit only if mask has it.
				s.Remove(row)
			} else {
				s.orWord(row>>6, mask.words[row>>6&63]&(1<<(row&63)))
			}
		}
	}
	return s.sum != 0
}

// before gives a word of a list, in which rows rise, before which there is no row from one on; it
// is among the last such.
func before(from []uint64, row int) int {
	// Binary search: the row that is looked for is not before from[low], nor at or after
	// from[high].
	low := 0
	for high := len(from); high-low > 1; {
		if half := (low + high) / 2; int(from[half]&0xffff) <= row {
			low = half
		} else {
			high = half
		}
	}
	return low
}

// addListed adds rows that are written as a list, word by word: they rise.
func (s *Set) addListed(from []uint64, many int) {
	// bits collects the rows of one word of the set.
	word, bits := 0, uint64(0)
	for place := 0; place < many; place += 4 {
		four := from[place>>2]
		for n := min(4, many-place); n > 0; n-- {
			row := int(four & 0xffff)
			// Each word of the set is written once, when all of its rows are known.
			four >>= 16
			if row>>6 != word {
				s.orWord(word, bits)
				word, bits = row>>6, 0
			}
			bits |= 1 << (row & 63)
		}
	}
	s.orWord(word, bits)
}

// orWord adds rows of one word. A word whose bit in sum is not set holds something old, and is
// replaced.
func (s *Set) orWord(i int, bits uint64) {
	if bits == 0 {
		return
	}
	if s.sum>>i&1 != 0 {
		bits |= s.words[i&63]
	}
	s.words[i&63] = bits
	s.sum |= 1 << i
}

// has tells whether a row is among n rows that were written, without unpacking them.
func has(from []uint64, n, row int) bool {
	form, many := formOf(n)
	if form == asBits {
		return from[row>>6]>>(row&63)&1 != 0
	}
	return lists(from[:(many+3)/4], row) == (form == asList)
}

// Four rows lie in a word. Row numbers are below 1<<15, so that the highest bit of each quarter is
// free.
const (
	quarters = 0x0001_0001_0001_0001 // 1 in each
	highest  = 0x8000_8000_8000_8000
)

// lists tells whether a row is among those that are written as a list, in which they rise.
func lists(from []uint64, row int) bool {
	if row == 0 { // as what fills up the last word
		return len(from) > 0 && from[0]&0xffff == 0
	}
	// Words are ordered by their first row, so half of the list is left out at each step.
	for len(from) > 8 {
		half := len(from) / 2
		if int(from[half]&0xffff) <= row {
			from = from[half:]
		} else {
			from = from[:half]
		}
	}
	for _, four := range from {
		apart := four ^ uint64(row)*quarters // a quarter that is 0 is the row
		if (apart-quarters)&^apart&highest != 0 {
			return true
		}
	}
	return false
}

// Len counts the rows.
func (p Packed) Len() int {
	if p == nil {
		return 0
	}
	return int(p[0])
}

// Has tells whether a row is in p.
func (p Packed) Has(row int) bool { return p != nil && has(p[1:], int(p[0]), row) }

// Into makes s the same as p.
func (p Packed) Into(s *Set) {
	s.sum = 0
	p.OrInto(s)
}

// OrInto adds the rows of p to s.
func (p Packed) OrInto(s *Set) {
	if p != nil {
		orInto(s, p[1:], int(p[0]))
	}
}

// Within makes s the rows of p that mask has, and tells whether there are any.
func (p Packed) Within(mask, s *Set) bool {
	if p == nil {
		s.Clear()
		return false
	}
	return takeWithin(s, p[1:], int(p[0]), mask)
}

// Equal tells whether both hold the same rows.
func (p Packed) Equal(q Packed) bool { return alike(p, q) }

// alike tells whether two hold the same words. What was not worked out again is the very same
// memory.
func alike(p, q []uint64) bool {
	return len(p) == len(q) && (len(p) == 0 || &p[0] == &q[0] || slices.Equal(p, q))
}
