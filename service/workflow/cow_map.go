// This file has maps by object that are shared with what was live before, but for what altered.

package workflow

import (
	"maps"
)

// cowMap is something of each object: a copy-on-write map. A copy costs what altered since the map
// that it shares was made, not what the estate has.
type cowMap[V any] struct {
	base  map[objectKey]V        // shared
	later map[objectKey]after[V] // what was put or dropped since
	size  int
}

type after[V any] struct {
	is   V
	gone bool
}

// keep makes one of a map, which is its own from then on.
func newCowMap[V any](base map[objectKey]V) cowMap[V] { return cowMap[V]{base: base, size: len(base)} }

// copied gives one that can be altered by itself.
func (k cowMap[V]) copied() cowMap[V] {
	if len(k.later) > 100+len(k.base)/8 {
		whole := make(map[objectKey]V, k.size)
		for key, is := range k.all {
			whole[key] = is
		}
		return newCowMap(whole)
	}
	k.later = maps.Clone(k.later)
	return k
}

// at gives what is kept of an object; known is false where nothing is.
func (k cowMap[V]) at(key objectKey) (is V, known bool) {
	if later, altered := k.later[key]; altered {
		return later.is, !later.gone
	}
	is, known = k.base[key]
	return is, known
}

// of is at without telling nothing from zero.
func (k cowMap[V]) of(key objectKey) V {
	is, _ := k.at(key)
	return is
}

func (k cowMap[V]) has(key objectKey) bool {
	_, known := k.at(key)
	return known
}

func (k *cowMap[V]) put(key objectKey, is V) { k.alter(key, after[V]{is: is}) }

func (k *cowMap[V]) drop(key objectKey) { k.alter(key, after[V]{gone: true}) }

func (k *cowMap[V]) alter(key objectKey, to after[V]) {
	if k.has(key) {
		k.size--
	}
	if !to.gone {
		k.size++
	}
	if k.later == nil {
		k.later = map[objectKey]after[V]{}
	}
	k.later[key] = to
}

// all gives every object with what is kept of it, in no order.
func (k cowMap[V]) all(yield func(objectKey, V) bool) {
	for key, is := range k.base {
		if _, altered := k.later[key]; !altered && !yield(key, is) {
			return
		}
	}
	for key, later := range k.later {
		if !later.gone && !yield(key, later.is) {
			return
		}
	}
}
