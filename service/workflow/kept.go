// This file has maps by object that are shared with what was live before, but for what altered.

package workflow

import (
	"maps"
)

// kept is something of each object. A copy costs what altered since the map that it shares was made, not what the estate has.
type kept[V any] struct {
	base  map[objectKey]V        // shared
	later map[objectKey]after[V] // what was put or dropped since
	size  int
}

type after[V any] struct {
	is   V
	gone bool
}

// keep makes one of a map, which is its own from then on.
func keep[V any](base map[objectKey]V) kept[V] { return kept[V]{base: base, size: len(base)} }

// copied gives one that can be altered by itself.
func (k kept[V]) copied() kept[V] {
	if len(k.later) > 100+len(k.base)/8 {
		whole := make(map[objectKey]V, k.size)
		for key, is := range k.all {
			whole[key] = is
		}
		return keep(whole)
	}
	k.later = maps.Clone(k.later)
	return k
}

// at gives what is kept of an object; known is false where nothing is.
func (k kept[V]) at(key objectKey) (is V, known bool) {
	if later, altered := k.later[key]; altered {
		return later.is, !later.gone
	}
	is, known = k.base[key]
	return is, known
}

// of is at without telling nothing from zero.
func (k kept[V]) of(key objectKey) V {
	is, _ := k.at(key)
	return is
}

func (k kept[V]) has(key objectKey) bool {
	_, known := k.at(key)
	return known
}

func (k *kept[V]) put(key objectKey, is V) { k.alter(key, after[V]{is: is}) }

func (k *kept[V]) drop(key objectKey) { k.alter(key, after[V]{gone: true}) }

func (k *kept[V]) alter(key objectKey, to after[V]) {
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
func (k kept[V]) all(yield func(objectKey, V) bool) {
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
