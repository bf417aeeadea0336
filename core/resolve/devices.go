// This file has sets of laptops of a plan.
//
// Devices is the type in which all answers of the core give laptops. It is a list of packed sets of
// rows, block by block, with the plan that gives rows their ids. Counting and combining sets needs
// no ids; they are looked up when somebody lists the laptops. A set that comes out of a comparison
// may have laptops that one of the two plans lacks, so it knows both.

package resolve

import (
	"cmp"
	"fmt"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
)

// Devices is a set of laptops of a plan. The zero Devices is empty. It is a value: no operation
// alters it, and it may be copied and kept.
type Devices struct {
	plan   *Plan
	from   int // the first of the blocks; those that are not written have none
	blocks []bitset.Packed
	was    *Plan // of the two sides of a comparison, the one before: it knows the laptops that are gone
}

// block gives the laptops of a block.
func (d Devices) block(b int) bitset.Packed {
	if b < d.from || b-d.from >= len(d.blocks) {
		return nil
	}
	return d.blocks[b-d.from]
}

// end is the block after the last.
func (d Devices) end() int { return d.from + len(d.blocks) }

// orInto adds the laptops to others, by block.
func (d Devices) orInto(rows intern.DeviceSet) {
	for b, packed := range d.blocks {
		packed.OrInto(&rows[d.from+b])
	}
}

// equal tells whether two sets have the same laptops, by their numbers.
func (d Devices) equal(e Devices) bool {
	for b := min(d.from, e.from); b < max(d.end(), e.end()); b++ {
		if !d.block(b).Equal(e.block(b)) {
			return false
		}
	}
	return true
}

// Len counts the laptops.
func (d Devices) Len() (n int) {
	for _, b := range d.blocks {
		n += b.Len()
	}
	return n
}

// Has tells whether a laptop is in the set.
func (d Devices) Has(id estate.DeviceID) bool {
	if d.plan == nil {
		return false
	}
	at, known := d.plan.DeviceAt.Number(id)
	// A laptop that is gone is known to the plan before.
	if !known && d.was != nil {
		at, known = d.was.DeviceAt.Number(id)
	}
	return known && d.block(at>>bitset.Shift).Has(at&(bitset.Rows-1))
}

// each calls f for the number of every laptop.
func (d Devices) each(f func(at int)) {
	var rows bitset.Set
	for b, packed := range d.blocks {
		if packed == nil {
			continue
		}
		packed.Into(&rows)
		for row := range rows.All() {
			f((d.from+b)<<bitset.Shift + row)
		}
	}
}

// ranks gives the places of the laptops in the order of all ids, unsorted; ok is false where some
// are gone. Ranks are sorted instead of ids, which is much faster. A laptop that is gone has no
// rank.
func (d Devices) ranks() (out []int32, ok bool) {
	out, ok = make([]int32, 0, d.Len()), true
	if d.nobodyGone() {
		d.each(func(at int) { out = append(out, d.plan.rank[at]) })
		return out, true
	}
	d.each(func(at int) {
		if at >= d.plan.Devices.Len() || d.plan.Devices.At(at).Device == nil {
			ok = false
			return
		}
		out = append(out, d.plan.rank[at])
	})
	return out, ok
}

// nobodyGone tells whether it is sure that the plan has all laptops of the set.
func (d Devices) nobodyGone() bool {
	return d.was == nil || intern.SameList(d.plan.Devices, d.was.Devices)
}

// device gives a laptop by its number.
func (d Devices) device(at int) *match.Device {
	if d.was != nil && (at >= d.plan.Devices.Len() || d.plan.Devices.At(at).Device == nil) {
		return d.was.Devices.At(at)
	}
	return d.plan.Devices.At(at)
}

// IDs lists the laptops by id.
func (d Devices) IDs() []estate.DeviceID { return d.First(1 << 62) }

// First lists the first n of the laptops by id.
func (d Devices) First(n int) []estate.DeviceID {
	ranks, ok := d.ranks()
	// Some are gone: their ids are sorted.
	if !ok {
		var out []estate.DeviceID
		d.each(func(at int) { out = append(out, d.device(at).ID) })
		slices.Sort(out)
		return out[:min(n, len(out))]
	}
	// Keeping the n least in order costs less than sorting all, where n is small.
	if n < len(ranks)/8 { // the least few without sorting all
		// Invariant: least has the lowest ranks of those seen so far, at most n of them, in order.
		least := ranks[:0:0]
		for _, r := range ranks {
			if len(least) == n && r > least[n-1] {
				continue // which holds for nearly all
			}
			at, _ := slices.BinarySearch(least, r)
			least = slices.Insert(least, at, r)
			least = least[:min(n, len(least))]
		}
		ranks = least
	} else {
		slices.Sort(ranks)
	}
	out := make([]estate.DeviceID, min(n, len(ranks)))
	for i := range out {
		out[i] = d.plan.Devices.At(int(d.plan.byDevice[ranks[i]])).ID
	}
	return out
}

// ByUnit counts the laptops by home unit, most first.
func (d Devices) ByUnit() []Count[estate.UnitID] {
	if d.plan == nil {
		return nil
	}
	if d.nobodyGone() && d.Len() > len(d.plan.Units) {
		return d.manyByUnit()
	}
	var out []Count[estate.UnitID]
	var scratch [8]int
	// Nearly all rows have the unit of the row before. Few sets have laptops of more than eight
	// units.
	homes, last := scratch[:0], 0
	d.each(func(at int) { // laptops of one unit lie side by side
		home := d.device(at).HomeAt
		if last >= len(homes) || homes[last] != home {
			if last = slices.Index(homes, home); last < 0 {
				last = len(homes)
				homes, out = append(homes, home), append(out, Count[estate.UnitID]{Of: d.plan.Units[home].ID})
			}
		}
		out[last].Devices++
	})
	sortCounts(out)
	return out
}

// manyByUnit is ByUnit for sets of which no laptop is gone. It takes fewer steps for each laptop,
// and looks at every unit.
func (d Devices) manyByUnit() []Count[estate.UnitID] {
	homes, counts := d.plan.homePlaces(), make([]int, len(d.plan.Units))
	d.each(func(at int) { counts[homes[at]]++ })
	var out []Count[estate.UnitID]
	for home, n := range counts {
		if n > 0 {
			out = append(out, Count[estate.UnitID]{d.plan.Units[home].ID, n})
		}
	}
	sortCounts(out)
	return out
}

// sortCounts sorts counts by unit, the most first.
func sortCounts(list []Count[estate.UnitID]) {
	slices.SortFunc(list, func(a, b Count[estate.UnitID]) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Of, b.Of))
	})
}

// Count is how many laptops belong to something: a unit, a group or a target.
type Count[T any] struct {
	Of      T
	Devices int
}

// ByGroup counts the laptops that are in each group, or whose owners are, most first. Groups that
// have none of them are left out.
func (d Devices) ByGroup() []Count[*estate.Group] {
	if d.plan == nil {
		return nil
	}
	// The set is unpacked once and then compared with each group.
	sets := make(intern.DeviceSet, d.end())
	d.orInto(sets)
	var out []Count[*estate.Group]
	var rows bitset.Set
	for at := range d.plan.Groups {
		g := &d.plan.Groups[at]
		n := 0
		for b := range min(len(sets), len(g.Rows)) {
			if !sets[b].Empty() && g.Rows[b] != nil {
				g.Rows[b].Into(&rows)
				rows.And(&sets[b])
				n += rows.Len()
			}
		}
		if g.Group != nil && n > 0 {
			out = append(out, Count[*estate.Group]{g.Group, n})
		}
	}
	slices.SortFunc(out, func(a, b Count[*estate.Group]) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Of.ID, b.Of.ID))
	})
	return out
}

// combine makes a set of two, block by block.
func (d Devices) combine(e Devices, do func(a, b *bitset.Set)) Devices {
	// Blocks before from are empty: combining starts at block 0, which is simple, and empty blocks
	// cost nothing.
	out := Devices{plan: cmp.Or(d.plan, e.plan), was: cmp.Or(d.was, e.was), blocks: make([]bitset.Packed, max(d.end(), e.end()))}
	var a, b bitset.Set
	for i := range out.blocks {
		d.block(i).Into(&a)
		e.block(i).Into(&b)
		do(&a, &b)
		out.blocks[i] = a.Pack()
	}
	return out
}

// Or gives the laptops of any of the sets. All must be of plans that are made of one another, as in
// all that follow.
func (d Devices) Or(others ...Devices) (out Devices) {
	var rows intern.DeviceSet
	// Sets are added up in one table of unpacked blocks and packed once, which is faster than one
	// after the other.
	for _, e := range append([]Devices{d}, others...) {
		// The zero Devices has no plan; the first set that has one gives it.
		out.plan, out.was = cmp.Or(out.plan, e.plan), cmp.Or(out.was, e.was)
		if more := e.end() - len(rows); more > 0 {
			rows = append(rows, make(intern.DeviceSet, more)...)
		}
		e.orInto(rows)
	}
	out.blocks = packAll(rows)
	return out
}

// And gives the laptops that both sets have.
func (d Devices) And(e Devices) Devices { return d.combine(e, (*bitset.Set).And) }

// Without gives the laptops that e does not have.
func (d Devices) Without(e Devices) Devices { return d.combine(e, (*bitset.Set).AndNot) }

// All is every laptop of a plan.
func (p *Plan) All() Devices { return Devices{plan: p, blocks: p.Alive} }

// gatherer collects sets of laptops by what they come out as, over all blocks.
type gatherer[K comparable] struct {
	plan *Plan
	sets map[K]*Devices
}

// newGatherer gives a gatherer that has no laptops.
func newGatherer[K comparable](p *Plan) *gatherer[K] { return &gatherer[K]{p, map[K]*Devices{}} }

// add adds rows of a block to the laptops of a key. The set is copied.
func (g *gatherer[K]) add(key K, block int, rows *bitset.Set) {
	d := g.sets[key]
	if d == nil {
		d = &Devices{plan: g.plan}
		g.sets[key] = d
	}
	d.add(block, rows)
}

// devices gives the laptops of a key that was added.
func (g *gatherer[K]) devices(key K) Devices { return *g.sets[key] }

// add adds rows of a block to a set that nobody else has.
func (d *Devices) add(block int, rows *bitset.Set) {
	switch {
	// The first block that has anything is where the list begins.
	case len(d.blocks) == 0:
		d.from = block
	// An earlier block: the list grows in front.
	case block < d.from:
		d.blocks = append(make([]bitset.Packed, d.from-block), d.blocks...)
		d.from = block
	}
	if more := block + 1 - d.end(); more > 0 {
		d.blocks = append(d.blocks, make([]bitset.Packed, more)...)
	}
	at := &d.blocks[block-d.from]
	// Rows of the block were added before.
	if *at != nil {
		var both bitset.Set
		both.Copy(rows)
		at.OrInto(&both)
		rows = &both
	}
	*at = rows.Pack()
}

// String lists the laptops, as messages and tests show them.
func (d Devices) String() string { return fmt.Sprint(d.IDs()) }

// All gives the laptops with their home units, in no particular order.
func (d Devices) All(yield func(*estate.Device, estate.UnitID) bool) {
	var rows bitset.Set
	for b, packed := range d.blocks {
		packed.Into(&rows)
		for row := range rows.All() {
			is := d.device((d.from+b)<<bitset.Shift + row)
			home := d.plan.Units[is.HomeAt].Unit
			// A unit that is gone is known to the plan before.
			if home == nil {
				home = d.was.Units[is.HomeAt].Unit
			}
			if !yield(is.Device, home.ID) {
				return
			}
		}
	}
}

// Each gives the ids of the laptops, in no particular order. Laptops that the plan no longer has
// are passed over.
func (d Devices) Each(yield func(estate.DeviceID) bool) {
	var rows bitset.Set
	for b, packed := range d.blocks {
		packed.Into(&rows)
		for row := range rows.All() {
			at := (d.from+b)<<bitset.Shift + row
			if at < d.plan.Devices.Len() && d.plan.Devices.At(at).Device != nil && !yield(d.plan.Devices.At(at).ID) {
				return
			}
		}
	}
}

// Bare gives the set without the plan that it is of, for keeping: On gives it one again.
func (d Devices) Bare() Devices { return Devices{from: d.from, blocks: d.blocks} }

// In gives the same laptops as a plan of another lineage knows them; those that it does not have
// are left out. Numbers of plans of different lineages have nothing in common, so laptops are found
// by id, unless the two plans share them in memory.
func (d Devices) In(p *Plan) Devices {
	if d.plan != nil && d.nobodyGone() && intern.SameList(d.plan.Devices, p.Devices) {
		return d.On(p)
	}
	return p.Set(d.Each)
}

// Set gives the laptops with some ids; those that the plan does not have are left out.
func (p *Plan) Set(ids iter.Seq[estate.DeviceID]) Devices {
	out := make(intern.DeviceSet, p.Blocks())
	for id := range ids {
		if at, known := p.DeviceAt.Number(id); known {
			out.Add(at)
		}
	}
	return Devices{plan: p, blocks: packAll(out)}
}

// On gives the set as another plan made of the same knows it.
func (d Devices) On(p *Plan) Devices { return Devices{plan: p, from: d.from, blocks: d.blocks} }
