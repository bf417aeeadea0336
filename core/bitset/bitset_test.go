package bitset_test

import (
	"maps"
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"

	. "zenithridge.example/zridge/core/bitset"
)

// plain is a set as a map: the obvious way.
type plain map[int]bool

func (p plain) rows() []int {
	out := []int{}
	for row := range p {
		out = append(out, row)
	}
	slices.Sort(out)
	return out
}

func made(r *rand.Rand) (*Set, plain) {
	s, p := &Set{}, plain{}
	n := []int{0, 1, 5, 200, 255, 256, 257, 2000, Rows, Rows - 1}[r.IntN(10)]
	if n == Rows {
		s.Fill(Rows - r.IntN(70))
		for row := range s.All() {
			p[row] = true
		}
		return s, p
	}
	from := r.IntN(Rows)
	for range n {
		row := r.IntN(Rows)
		if r.IntN(2) == 0 { // close together
			row = (from + r.IntN(300)) % Rows
		}
		s.Add(row)
		p[row] = true
	}
	return s, p
}

func same(t *testing.T, what string, s *Set, p plain) {
	t.Helper()
	rows := slices.Collect(s.All())
	if rows == nil {
		rows = []int{}
	}
	if want := p.rows(); !slices.Equal(rows, want) || s.Len() != len(want) || s.Empty() != (len(want) == 0) {
		t.Fatalf("%s: %d rows, expected %d", what, len(rows), len(want))
	}
	if first := s.First(); len(rows) > 0 && first != rows[0] || len(rows) == 0 && first != -1 {
		t.Fatalf("%s: the first is %d", what, first)
	}
}

// TestSetsAreAsMapsSay compares every operation with the obvious one, over sets of all sizes.
func TestSetsAreAsMapsSay(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		a, pa := made(r)
		b, pb := made(r)
		both, either, only := plain{}, plain{}, plain{}
		for row := range pa {
			either[row] = true
			if pb[row] {
				both[row] = true
			} else {
				only[row] = true
			}
		}
		for row := range pb {
			either[row] = true
		}
		var out, again Set
		if a.Meets(b) != (len(both) > 0) || out.SetAnd(a, b) != (len(both) > 0) {
			t.Fatal("whether they meet")
		}
		same(t, "and", &out, both)
		if out.SetAndNot(a, b) != (len(only) > 0) {
			t.Fatal("whether any is left")
		}
		same(t, "without", &out, only)
		out.Copy(a)
		out.Or(b)
		same(t, "or", &out, either)
		out.Copy(a)
		out.And(b)
		same(t, "and in place", &out, both)
		again.Copy(a)
		again.AndNot(b)
		same(t, "without in place", &again, only)
		if a.In(b) != (len(only) == 0) || !out.In(a) || !out.In(b) || !again.In(a) {
			t.Fatal("whether one is in the other")
		}
		if a.Equal(b) != slices.Equal(pa.rows(), pb.rows()) || !a.Equal(a) {
			t.Fatal("equal")
		}
		for range 20 {
			row := r.IntN(Rows)
			if a.Has(row) != pa[row] {
				t.Fatalf("whether %d is in it", row)
			}
			a.Remove(row)
			delete(pa, row)
		}
		same(t, "removed", a, pa)

		packed := a.Pack()
		packed.Into(&out)
		same(t, "packed", &out, pa)
		if packed.Len() != len(pa) || !packed.Equal(a.Pack()) {
			t.Fatal("what is packed")
		}
		found := 0
		for word, is := range out.Words {
			if is == 0 {
				t.Fatalf("there are none from %d on", word*64)
			}
			for bit := range 64 {
				if is>>bit&1 != 0 != pa[word*64+bit] {
					t.Fatalf("whether %d is in it", word*64+bit)
				}
			}
			found += bits.OnesCount64(is)
		}
		if found != len(pa) {
			t.Fatalf("%d of %d rows", found, len(pa))
		}
		for range 20 {
			if row := r.IntN(Rows); packed.Has(row) != pa[row] {
				t.Fatalf("whether %d is packed", row)
			}
		}
		b.Pack().OrInto(&out)
		for row := range pb {
			pa[row] = true
		}
		same(t, "packed together", &out, pa)
	}
}

// TestPartsKeepTheirNumbers packs several sets together and reads them one by one, and row by row.
func TestPartsKeepTheirNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		var numbers []int32
		var sets []*Set
		plains := map[int32]plain{}
		number := int32(-1)
		for range r.IntN(12) {
			number += 1 + int32(r.IntN(1000))
			s, p := made(r)
			numbers, sets = append(numbers, number), append(sets, s)
			if len(p) > 0 {
				plains[number] = p
			}
		}
		parts := PackParts(numbers, sets)
		if parts.Count() != len(plains) || (parts == nil) != (len(plains) == 0) || !parts.Equal(PackParts(numbers, sets)) {
			t.Fatalf("%d parts, expected %d", parts.Count(), len(plains))
		}
		var one Set
		seen := 0
		parts.Each(&one, func(n int32) {
			seen++
			same(t, "a part", &one, plains[n])
		})
		for n, rows := range parts.Numbers {
			if rows != len(plains[n]) {
				t.Fatalf("part %d says it has %d rows", n, rows)
			}
			one.Clear()
			parts.OrInto(&one, n)
			same(t, "a part by its number", &one, plains[n])
		}
		if seen != len(plains) {
			t.Fatalf("%d parts were read", seen)
		}
		mask, of := made(r)
		wanted := map[int32]plain{} // what the parts have of some rows
		for n, p := range plains {
			for row := range p {
				if of[row] {
					if wanted[n] == nil {
						wanted[n] = plain{}
					}
					wanted[n][row] = true
				}
			}
		}
		read := 0
		enough := r.IntN(2 * (len(wanted) + 1))
		parts.Within(mask, &one, func(n int32, rows *Set) *Set {
			read++
			if wanted[n] == nil {
				t.Fatalf("part %d has none of the rows", n)
			}
			same(t, "a part of a part", rows, wanted[n])
			if read == enough {
				return nil
			}
			return &Set{}
		})
		want := len(wanted)
		if enough > 0 {
			want = min(want, enough)
		}
		if read != want {
			t.Fatalf("%d parts have some of the rows, expected %d", read, want)
		}
		for range 20 {
			row := r.IntN(Rows)
			var want []int32
			for _, n := range numbers {
				if plains[n][row] {
					want = append(want, n)
				}
			}
			if got := parts.At(row, nil); !slices.Equal(got, want) {
				t.Fatalf("row %d is in %v, expected %v", row, got, want)
			}
		}
	}
	if PackParts([]int32{1}, []*Set{{}}) != nil {
		t.Error("an empty set was kept")
	}
}

// TestPartsThatArePatched puts some rows in other parts than they were, and compares with parts
// that are packed from nothing.
func TestPartsThatArePatched(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	sets := func(of int) (numbers []int32, sets []*Set) {
		for n := range of {
			if s, _ := made(r); r.IntN(3) > 0 {
				numbers, sets = append(numbers, int32(2*n+r.IntN(2))), append(sets, s)
			}
		}
		return numbers, sets
	}
	asMap := func(p Parts) map[int32][]int {
		out, one := map[int32][]int{}, Set{}
		p.Each(&one, func(n int32) { out[n] = slices.Collect(one.All()) })
		return out
	}
	for range 150 {
		numbers, was := sets(r.IntN(80))
		parts := PackParts(numbers, was)
		mask, _ := made(r)
		fresh, is := sets(r.IntN(80))
		if r.IntN(3) == 0 { // as it was, or nearly
			fresh, is = nil, nil
			for i := range numbers {
				s := &Set{}
				s.Copy(was[i])
				fresh, is = append(fresh, numbers[i]), append(is, s)
			}
			if len(is) > 0 && r.IntN(2) == 0 && !mask.Empty() {
				is[r.IntN(len(is))].Add(mask.First())
			}
		}
		want, one := map[int32][]int{}, Set{}
		for i := range is {
			is[i].And(mask)
		}
		for n := range int32(200) {
			one.Clear()
			if at := slices.Index(numbers, n); at >= 0 {
				one.SetAndNot(was[at], mask)
			}
			if at := slices.Index(fresh, n); at >= 0 {
				one.Or(is[at])
			}
			if !one.Empty() {
				want[n] = slices.Collect(one.All())
			}
		}
		before := asMap(parts)
		got, altered := parts.Patch(mask, fresh, is)
		if now := asMap(got); !maps.EqualFunc(now, want, slices.Equal) || (got == nil) != (len(want) == 0) {
			t.Fatalf("patched to %d parts, expected %d", len(now), len(want))
		}
		if altered == maps.EqualFunc(before, want, slices.Equal) || !altered && !got.Equal(parts) {
			t.Fatalf("says that it altered: %v", altered)
		}
		if !maps.EqualFunc(asMap(parts), before, slices.Equal) {
			t.Fatal("patching altered what was patched")
		}
		var again []*Set
		var all []int32
		for _, n := range slices.Sorted(maps.Keys(want)) {
			s := &Set{}
			for _, row := range want[n] {
				s.Add(row)
			}
			again, all = append(again, s), append(all, n)
		}
		if !got.Equal(PackParts(all, again)) {
			t.Fatal("patched parts are written otherwise than parts from nothing")
		}
	}
}

// TestFormsMeetAtTheirEdges packs sets of sizes around those at which another form is taken, with
// rows that are there already.
func TestFormsMeetAtTheirEdges(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for _, n := range []int{1, 255, 256, 257, Rows / 2, Rows - 257, Rows - 256, Rows - 255, Rows - 64, Rows - 1, Rows} {
		var s Set
		rows := r.Perm(Rows)
		for _, row := range rows[:n] {
			s.Add(row)
		}
		packed := s.Pack()
		if packed.Len() != n {
			t.Fatalf("%d rows are %d when packed", n, packed.Len())
		}
		var back Set
		back.Fill(700) // what Into finds there does not stay
		if packed.Into(&back); !back.Equal(&s) {
			t.Fatalf("%d rows come back as others", n)
		}
		var other, both Set
		for _, row := range r.Perm(Rows)[:r.IntN(900)] {
			other.Add(row)
		}
		both.Copy(&other)
		packed.OrInto(&both)
		for row := range Rows {
			if packed.Has(row) != s.Has(row) || both.Has(row) != (s.Has(row) || other.Has(row)) {
				t.Fatalf("%d rows: row %d is %v, packed %v, with others %v", n, row, s.Has(row), packed.Has(row), both.Has(row))
			}
		}
		if n > Rows-256 && len(packed) > 1+64 || n == Rows && len(packed) != 1 {
			t.Errorf("%d rows take %d words", n, len(packed))
		}
	}
}

// TestPartsThatDiffer compares what is unlike in two lists of parts with the obvious, where they
// share many parts.
func TestPartsThatDiffer(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 400 {
		var numbers [2][]int32
		var sets [2][]*Set
		want := plain{}
		for number := range int32(8) {
			s, p := made(r)
			var there [2]plain
			for side := range 2 {
				rows, is := s, p
				switch r.IntN(6) {
				case 0:
					rows, is = &Set{}, plain{}
				case 1:
					rows, is = made(r)
				case 2:
					row := r.IntN(Rows)
					more := &Set{}
					more.Copy(s)
					more.Add(row)
					rows, is = more, maps.Clone(p)
					is[row] = true
				}
				there[side] = is
				numbers[side], sets[side] = append(numbers[side], number), append(sets[side], rows)
			}
			for row := range Rows {
				if there[0][row] != there[1][row] {
					want[row] = true
				}
			}
		}
		a, b := PackParts(numbers[0], sets[0]), PackParts(numbers[1], sets[1])
		var into Set
		into.Fill(99)
		a.Unlike(b, &into)
		same(t, "what is unlike", &into, want)
		b.Unlike(a, &into)
		same(t, "the other way round", &into, want)
		if a.Unlike(a, &into); !into.Empty() {
			t.Fatal("parts are unlike themselves")
		}
		all := plain{}
		for n := range a.Numbers {
			var one Set
			a.OrInto(&one, n)
			for row := range one.All() {
				all[row] = true
			}
		}
		a.Unlike(nil, &into)
		same(t, "what is unlike nothing", &into, all)
	}
}
