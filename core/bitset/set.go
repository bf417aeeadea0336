// Package bitset has sets of rows of one block of a large table: working sets, on which questions
// about 4,096 rows are answered with a few dozen word operations, and packed ones, which are kept.
//
// A table of any length is a slice of blocks. What is asked of a few rows only costs a few words: a
// set knows which of its words hold something, and every operation passes over the others.
package bitset

import (
	"iter"
	"math/bits"
)

// Rows is how many rows a block has.
const Rows = 1 << Shift

// Shift turns a row of the table into its block: row >> Shift, and row & (Rows-1) within it.
const Shift = 12

// words is how many words a set has, with 64 rows each.
const words = Rows / 64

// Set is a set of rows of a block. The zero Set is empty. Copying one by value copies all of its
// words; Copy copies only those that hold something.
type Set struct {
	// Operations look only at the words that sum marks. A word that becomes zero loses its mark, so
	// that Empty and Equal need not look at words.
	sum   uint64 // bit i tells that words[i] is not zero; what the other words hold says nothing
	words [words]uint64
}

// Clear makes s empty.
func (s *Set) Clear() { s.sum = 0 }

// Empty tells whether s has no rows.
func (s *Set) Empty() bool { return s.sum == 0 }

// Fill makes s the rows below n.
func (s *Set) Fill(n int) {
	s.sum = 0
	for i := 0; i<<6 < n; i++ {
		s.words[i] = ^uint64(0)
		// The last word has fewer rows than 64.
		if rest := n - i<<6; rest < 64 {
			s.words[i] = 1<<rest - 1
		}
		s.sum |= 1 << i
	}
}

// Has tells whether a row is in s.
func (s *Set) Has(row int) bool {
	return s.sum>>(row>>6)&1 != 0 && s.words[row>>6]>>(row&63)&1 != 0
}

// Add adds a row.
func (s *Set) Add(row int) {
	i := row >> 6
	// The word holds something old: it is cleared before its first row.
	if s.sum>>i&1 == 0 {
		s.sum |= 1 << i
		s.words[i] = 0
	}
	s.words[i] |= 1 << (row & 63)
}

// Remove takes a row out.
func (s *Set) Remove(row int) {
	if i := row >> 6; s.sum>>i&1 != 0 {
		if s.words[i] &^= 1 << (row & 63); s.words[i] == 0 {
			s.sum &^= 1 << i
		}
	}
}

// Copy makes s the same as t.
func (s *Set) Copy(t *Set) {
	// All words hold something: one copy of the whole array is faster than a loop.
	s.sum = t.sum
	if t.sum == ^uint64(0) {
		s.words = t.words
		return
	}
	// m &= m - 1 takes the lowest bit out, so this goes through the marked words in order. The & 63
	// tells the compiler that i is in bounds.
	for m := t.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		s.words[i] = t.words[i]
	}
}

// Or adds the rows of t.
func (s *Set) Or(t *Set) {
	// Words that both have are joined; of words that only t has, s may hold something old, so they
	// are copied.
	both := s.sum & t.sum
	for m := both; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		s.words[i] |= t.words[i]
	}
	for m := t.sum &^ both; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		s.words[i] = t.words[i]
	}
	s.sum |= t.sum
}

// And leaves the rows that are in t too.
func (s *Set) And(t *Set) {
	// Words that only one of them has become empty without being looked at.
	sum := s.sum & t.sum
	for m := sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if s.words[i] &= t.words[i]; s.words[i] == 0 {
			sum &^= 1 << i
		}
	}
	s.sum = sum
}

// AndNot takes out the rows of t.
func (s *Set) AndNot(t *Set) {
	for m := s.sum & t.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if s.words[i] &^= t.words[i]; s.words[i] == 0 {
			s.sum &^= 1 << i
		}
	}
}

// SetAnd makes s the rows that a and b have in common, and tells whether there are any.
func (s *Set) SetAnd(a, b *Set) bool {
	sum := a.sum & b.sum
	for m := sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		w := a.words[i] & b.words[i]
		s.words[i] = w
		if w == 0 {
			sum &^= 1 << i
		}
	}
	s.sum = sum
	return sum != 0
}

// SetAndNot makes s the rows of a that are not in b, and tells whether there are any.
func (s *Set) SetAndNot(a, b *Set) bool {
	sum := a.sum
	for m := sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		w := a.words[i]
		if b.sum>>i&1 != 0 {
			w &^= b.words[i]
		}
		s.words[i] = w
		if w == 0 {
			sum &^= 1 << i
		}
	}
	s.sum = sum
	return sum != 0
}

// Meets tells whether s and t have a row in common.
func (s *Set) Meets(t *Set) bool {
	for m := s.sum & t.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if s.words[i]&t.words[i] != 0 {
			return true
		}
	}
	return false
}

// In tells whether t has every row of s.
func (s *Set) In(t *Set) bool {
	// A word that s has and t has not: some row of s is missing in t.
	if s.sum&^t.sum != 0 {
		return false
	}
	for m := s.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if s.words[i]&^t.words[i] != 0 {
			return false
		}
	}
	return true
}

// Words gives the rows 64 at a time, a bit for each, where there are any: of i those from 64 times
// i on.
func (s *Set) Words(yield func(i int, rows uint64) bool) {
	for m := s.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if !yield(i, s.words[i]) {
			return
		}
	}
}

// Equal tells whether s and t have the same rows.
func (s *Set) Equal(t *Set) bool {
	// Marks are exact, so sets with different marks differ.
	if s.sum != t.sum {
		return false
	}
	for m := s.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		if s.words[i] != t.words[i] {
			return false
		}
	}
	return true
}

// Len counts the rows.
func (s *Set) Len() (n int) {
	for m := s.sum; m != 0; m &= m - 1 {
		n += bits.OnesCount64(s.words[bits.TrailingZeros64(m)&63])
	}
	return n
}

// First gives the lowest row; -1 when s is empty.
func (s *Set) First() int {
	if s.sum == 0 {
		return -1
	}
	i := bits.TrailingZeros64(s.sum)
	return i<<6 + bits.TrailingZeros64(s.words[i])
}

// All gives the rows, the lowest first.
func (s *Set) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for m := s.sum; m != 0; m &= m - 1 {
			i := bits.TrailingZeros64(m) & 63
			for w := s.words[i]; w != 0; w &= w - 1 {
				if !yield(i<<6 + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}

// orUnlike adds what only one of two sets has.
func (s *Set) orUnlike(a, b *Set) {
	for m := a.sum | b.sum; m != 0; m &= m - 1 {
		i := bits.TrailingZeros64(m) & 63
		var w uint64
		if a.sum>>i&1 != 0 {
			w = a.words[i]
		}
		if b.sum>>i&1 != 0 {
			w ^= b.words[i]
		}
		s.orWord(i, w)
	}
}
