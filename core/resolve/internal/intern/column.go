// This file gives codes to values. Two values that expressions can tell apart have different codes;
// values that are equal to an expression share one. Codes are only added as long as a generation
// lives, so that what was read without a lock stays right.

package intern

import (
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Column numbers the values that something has: a fact of devices, an attribute of people, or a
// setting. The numbers are called codes; code 0 is absent. It is safe for concurrent use.
type Column struct {
	Number int
	Look   rule.Look // what it is a column of

	count *atomic.Int64 // of the generation
	tests []*Test       // that look at it

	mu     sync.RWMutex
	codes  map[string]uint32
	values []any // by code, as expressions see them
}

// Code gives the code of a value; what differs for an expression differs in its code. key is
// scratch space, and is given back.
func (c *Column) Code(value setting.Value, key []byte) (uint32, []byte) {
	if value.IsNothing() {
		return 0, key
	}
	// The identity of a value leaves out how it is written. Expressions can see that for tables and
	// files, so it is added for these.
	key = value.AppendIdentity(key[:0])
	if kind := value.Kind(); kind == setting.Table || kind == setting.FileKind { // equal ones may be written differently
		text, _ := value.MarshalJSON() // values always have a JSON form
		key = append(append(key, 0), text...)
	}
	c.mu.RLock()
	code, known := c.codes[string(key)]
	c.mu.RUnlock()
	// Nearly all values are known, so reading comes first, with a lock that readers share.
	if known {
		return code, key
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	// Another thread may have added it in between. Codes rise in the order in which values are met,
	// so a list of values that somebody reads stays valid while it grows.
	if code, known = c.codes[string(key)]; !known {
		code = uint32(len(c.values))
		c.codes[string(key)] = code
		c.values = append(c.values, value.Any())
		c.count.Add(1)
	}
	return code, key
}

// Known gives every value that has a code, by code, as expressions see them.
func (c *Column) Known() []any {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.values
}
