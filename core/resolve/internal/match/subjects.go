package match

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// Subjects is a table of subjects by row, in blocks: laptops with their owners, people by
// themselves, or whatever pairs are asked about.
type Subjects struct {
	Laptops bool                  // every laptop with its owner: the row is the number of the device
	Device  intern.CowList[int32] // by row; nil: no devices, but for Laptops
	Person  intern.CowList[int32] // by row; nil: no people
	Alive   []bitset.Packed       // by block: rows that hold a laptop
	Groups  [][]bitset.Packed     // of people by themselves: by group, by block, who is in it
}

// Laptops is every laptop with its owner.
func (p *Population) Laptops() *Subjects {
	return &Subjects{Laptops: true, Person: p.Owner, Alive: p.Alive}
}

// Everybody is all people by themselves, without their groups.
func (p *Population) Everybody() *Subjects {
	s := &Subjects{Person: make(intern.CowList[int32], len(p.People)), Alive: make([]bitset.Packed, len(p.People))}
	var rows bitset.Set
	for b, block := range p.People {
		rows.Clear()
		s.Person[b] = make([]int32, len(block))
		for row := range block {
			s.Person[b][row] = int32(b<<bitset.Shift + row)
			if block[row].Person != nil {
				rows.Add(row)
			}
		}
		s.Alive[b] = rows.Pack()
	}
	return s
}

// Pair is one pair of a device and a person, either of which may be None.
func Pair(dev, who int) *Subjects {
	return &Subjects{Device: intern.CowList[int32]{{int32(dev)}}, Person: intern.CowList[int32]{{int32(who)}}}
}
