// This file collects what a setting comes out as. A decision emits the same outcome several times,
// as for entries of equal values, so rows are joined by the number of their outcome.

package decide

import "zenithridge.example/zridge/core/bitset"

// Emitted is what a setting came out as: numbers of outcomes, each with the laptops that have it.
// The zero Emitted is empty. Its scratch space is used again after Reset.
type Emitted struct {
	numbers []int32
	sets    []*bitset.Set
	n       int
}

// Reset makes it empty.
func (e *Emitted) Reset() { e.n = 0 }

// Len counts the outcomes.
func (e *Emitted) Len() int { return e.n }

// Lists gives the numbers and their sets. Both may be put in another order together; they are good
// until the next Add.
func (e *Emitted) Lists() (numbers []int32, sets []*bitset.Set) { return e.numbers[:e.n], e.sets[:e.n] }

// Add notes that the setting comes out so on some laptops, besides those that have it already.
func (e *Emitted) Add(number int32, rows *bitset.Set) {
	if rows.Empty() {
		return
	}
	for i := e.n - 1; i >= 0; i-- {
		if e.numbers[i] == number {
			e.sets[i].Or(rows)
			return
		}
	}
	e.AddNew(number, rows)
}

// AddNew is Add for a number that was not added yet.
func (e *Emitted) AddNew(number int32, rows *bitset.Set) {
	if e.n == len(e.sets) {
		e.sets, e.numbers = append(e.sets, &bitset.Set{}), append(e.numbers, 0)
	}
	e.numbers[e.n] = number
	e.sets[e.n].Copy(rows)
	e.n++
}
