// This file keeps sets in little room: few rows as a list, nearly all as a list of those that are not there, others as bits.

package rowset

import (
	"math/bits"
	"slices"
)

// listed is the number of rows below which a list takes less room than bits.
const listed = Rows / 16

// Packed is a set that is kept: the number of its rows, and then the rows four to a word, or bits. nil is empty.
// A Packed is immutable.
type Packed []uint64

// A form is how the rows of a set are written.
type form int

const (
	asList   form = iota // its rows
	asBits               // a bit for each row of the block
	asAbsent             // the rows that it does not have
)

// formOf gives the form of n rows, and how many are listed.
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

// Pack gives what s holds.
func (s *Set) Pack() Packed {
	n := s.Len()
	if n == 0 {
		return nil
	}
	p := make(Packed, 1+payload(n))
	p[0] = uint64(n)
	s.write(p[1:], n)
	return p
}

// write puts the n rows of s where there is room for them, zeros before.
func (s *Set) write(to []uint64, n int) {
	form, many := formOf(n)
	if form == asBits {
		for m := s.sum; m != 0; m &= m - 1 {
			i := bits.TrailingZeros64(m) & 63
			to[i] = s.words[i]
		}
		return
	}
	look := s.sum
	if form == asAbsent {
		look = ^uint64(0)
	}
	for place := 0; place < many; look &= look - 1 {
		i := bits.TrailingZeros64(look) & 63
		w := s.words[i]
		if form == asAbsent {
			if s.sum>>i&1 == 0 {
				w = 0
			}
			w = ^w
		}
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
		if w == 0 {
			continue
		}
		if s.sum>>i&1 != 0 {
			w |= s.words[i]
		}
		s.words[i] = w
		s.sum |= 1 << i
	}
}

// takeWithin makes s those of n rows that were written which mask has, and tells whether there are any. What others are written is hardly looked at.
func takeWithin(s *Set, from []uint64, n int, mask *Set) bool {
	form, many := formOf(n)
	if form == asBits {
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
	if form == asAbsent {
		s.Copy(mask)
	} else {
		s.sum = 0
	}
	if mask.sum == 0 {
		return false
	}
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
				s.Remove(row)
			} else {
				s.orWord(row>>6, mask.words[row>>6&63]&(1<<(row&63)))
			}
		}
	}
	return s.sum != 0
}

// before gives a word of a list, in which rows rise, before which there is no row from one on; it is among the last such.
func before(from []uint64, row int) int {
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
	word, bits := 0, uint64(0)
	for place := 0; place < many; place += 4 {
		four := from[place>>2]
		for n := min(4, many-place); n > 0; n-- {
			row := int(four & 0xffff)
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

func has(from []uint64, n, row int) bool {
	form, many := formOf(n)
	if form == asBits {
		return from[row>>6]>>(row&63)&1 != 0
	}
	return lists(from[:(many+3)/4], row) == (form == asList)
}

// Four rows lie in a word. Row numbers are below 1<<15, so that the highest bit of each quarter is free.
const (
	quarters = 0x0001_0001_0001_0001 // 1 in each
	highest  = 0x8000_8000_8000_8000
)

// lists tells whether a row is among those that are written as a list, in which they rise.
func lists(from []uint64, row int) bool {
	if row == 0 { // as what fills up the last word
		return len(from) > 0 && from[0]&0xffff == 0
	}
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

// alike tells whether two hold the same words. What was not worked out again is the very same memory.
func alike(p, q []uint64) bool {
	return len(p) == len(q) && (len(p) == 0 || &p[0] == &q[0] || slices.Equal(p, q))
}

// Parts is several sets of one block, each with a number: how many there are, then number and rows of each, then the rows.
// The numbers rise. nil has no parts. A Parts is immutable.
type Parts []uint64

// PackParts gives sets by number. The numbers must rise; empty sets are left out.
func PackParts(numbers []int32, sets []*Set) Parts {
	var lens [64]int
	counts := lens[:0]
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
		p[head] = uint64(numbers[i])<<32 | uint64(counts[i])
		head++
		s.write(p[at:], counts[i])
		at += payload(counts[i])
	}
	return p
}

// Patch gives parts in which the rows of mask are in the sets of some numbers alone; other rows are where they were. The numbers must
// rise, and the sets have rows of mask only. ok is false where all is as it was: out is p then.
func (p Parts) Patch(mask *Set, numbers []int32, sets []*Set) (out Parts, ok bool) {
	type part struct {
		head uint64
		was  uint64 // how it is written in p, from at on; 0: not at all
		at   int
		set  *Set // its rows of mask, where they are others; nil: it stands as it is written
	}
	var room [64]part
	parts, here := room[:0], Set{}
	size, at := 1, 1+p.Count()
	for i, j := 0, 0; i < p.Count() || j < len(sets); {
		one := part{head: p.head(i), at: at}
		if j < len(sets) && sets[j].Empty() {
			j++
			continue
		}
		fresh := j < len(sets) && uint64(uint32(numbers[j])) <= one.head>>32
		if fresh && uint64(uint32(numbers[j])) < one.head>>32 {
			one.head = uint64(numbers[j])<<32 | uint64(sets[j].Len())
			one.set = sets[j]
			j++
		} else {
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
			if !here.Equal(is) {
				one.set = is
				one.head += uint64(is.Len()) - uint64(here.Len())
			}
		}
		ok = ok || one.set != nil
		if rows := int(one.head & 0xffffffff); rows > 0 {
			parts = append(parts, one)
			size += 1 + payload(rows)
		}
	}
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
	for i := range p.Count() {
		rows := int(p[1+i] & 0xffffffff)
		into.Clear()
		orInto(into, p[at:], rows)
		f(int32(p[1+i] >> 32))
		at += payload(rows)
	}
}

// Within gives those of each part's rows that mask has, where there are any, in a set. f gives the set for the next part, nil where no
// more are wanted.
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

// Unlike makes into the rows that are in the part of some number on one side only. Parts that are written alike are passed over.
func (p Parts) Unlike(q Parts, into *Set) {
	into.Clear()
	var a, b Set
	i, j, x, y := 0, 0, 1+p.Count(), 1+q.Count()
	for i < p.Count() || j < q.Count() {
		mine, theirs := p.head(i), q.head(j)
		one, other := mine>>32, theirs>>32
		n, m := payload(int(mine&0xffffffff)), payload(int(theirs&0xffffffff))
		a.Clear()
		b.Clear()
		if one <= other {
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
		if w == 0 {
			continue
		}
		if s.sum>>i&1 != 0 {
			w |= s.words[i]
		}
		s.words[i] = w
		s.sum |= 1 << i
	}
}

// Equal tells whether both have the same parts.
func (p Parts) Equal(q Parts) bool { return alike(p, q) }
