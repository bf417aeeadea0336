// This file finds the rows that a target matches: everyone, a unit, a group, a laptop or a person.
//
// Answers are kept for the block. Units are found together, since all policies of an estate name
// the same few units over and over. Groups were computed before policies are matched, and are read
// here.

package match

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Unit gives the rows whose home is a unit or below it; nil where there are none.
func (m *Matcher) Unit(at int) *bitset.Set {
	// Rows of all units are found together, by one pass over the rows, when the first unit is asked
	// for.
	if m.unitsAt != m.within {
		m.findUnits()
	}
	if u := &m.units[at]; u.Epoch == m.within {
		return u.Set
	}
	return nil
}

// findUnits finds the rows of every unit. Rows of one unit lie side by side.
//
// First the rows of each home unit, then every unit above it gets the same rows: a laptop is in its
// home unit and in all units above.
func (m *Matcher) findUnits() {
	m.unitsAt = m.within
	for len(m.units) < len(m.Pop.Units) {
		m.units = append(m.units, bitset.Dated{})
	}
	last, set := intern.None, (*bitset.Set)(nil)
	homes := map[int]*bitset.Set{}
	for row := range m.Dom.All() {
		dev := m.DeviceAt(row)
		if dev == intern.None {
			continue
		}
		home := m.Pop.Devices.At(dev).HomeAt
		// Numbers are given in the order of units, so most rows have the home of the row before,
		// and no map is asked.
		if home != last {
			if last, set = home, homes[home]; set == nil {
				set = m.Keep()
				homes[home] = set
			}
		}
		set.Add(row)
	}
	for home, rows := range homes {
		for _, u := range m.Pop.Units[home].Path {
			if is := &m.units[u]; is.Epoch != m.within {
				*is = bitset.Dated{Epoch: m.within, Set: m.Keep()}
			}
			m.units[u].Set.Or(rows)
		}
	}
}

// Group gives the rows that are in a group; nil where there are none.
func (m *Matcher) Group(at int) *bitset.Set {
	g := m.groupRoom(at)
	if g.Epoch != m.Epoch {
		var packed bitset.Packed
		if m.Subjects.Laptops {
			packed = m.Pop.Groups[at].Rows[m.Block]
		} else if at < len(m.Subjects.Groups) && m.Subjects.Groups[at] != nil {
			packed = m.Subjects.Groups[at][m.Block]
		}
		// For laptops the plan has the group's rows; for people by themselves the table of subjects
		// has them.
		*g = bitset.Dated{Epoch: m.Epoch}
		if !m.Subjects.Laptops && m.Subjects.Device != nil { // pairs are looked up one by one
			g.Set = m.Keep()
			for row := range m.Dom.All() {
				if m.Pop.InGroup(m.DeviceAt(row), m.PersonAt(row), at) {
					g.Set.Add(row)
				}
			}
		} else if packed != nil {
			g.Set = m.Keep()
			packed.Into(g.Set)
		}
	}
	return g.Set
}

// groupRoom gives the place where the rows of a group are kept for the block.
func (m *Matcher) groupRoom(at int) *bitset.Dated {
	for len(m.groups) < len(m.Pop.Groups) {
		m.groups = append(m.groups, bitset.Dated{})
	}
	return &m.groups[at]
}

// SetGroup says who of the block is in a group from now on; nil: nobody.
func (m *Matcher) SetGroup(at int, rows *bitset.Set) {
	*m.groupRoom(at) = bitset.Dated{Epoch: m.Epoch, Set: rows}
}

// ShareGroups takes over what another matcher knows of the groups of the same block. Its sets must
// stay good as long.
func (m *Matcher) ShareGroups(from *Matcher) {
	m.groups = slices.Grow(m.groups[:0], len(from.groups))[:len(from.groups)]
	for i := range from.groups {
		m.groups[i] = bitset.Dated{}
		if g := &from.groups[i]; g.Epoch == from.Epoch {
			m.groups[i] = bitset.Dated{Epoch: m.Epoch, Set: g.Set}
		}
	}
}

// Target gives the rows that a target matches; nil where there are none. Audiences, exceptions,
// detached places and questions about a target all ask here.
func (m *Matcher) Target(t *Target) *bitset.Set {
	switch t.Kind {
	case estate.ToEveryone:
		return &m.Dom
	case estate.ToUnit:
		return m.Unit(t.At)
	case estate.ToGroup:
		return m.Group(t.At)
	}
	// A target that names a laptop or a person.
	out := m.Keep()
	if t.Kind == estate.ToDevice && m.Subjects.Laptops {
		// Laptops are rows by their own number, so a single laptop needs no search.
		if t.At>>bitset.Shift != m.Block {
			return nil
		}
		out.Add(t.At & (bitset.Rows - 1))
	} else {
		by := m.person
		if t.Kind == estate.ToDevice {
			by = m.device
		}
		// A person may own several laptops of the block.
		for row, at := range by {
			if int(at) == t.At {
				out.Add(row)
			}
		}
	}
	out.And(&m.Dom)
	return out
}

// DeviceLook is what a test looks at that looks at a field of the device.
func DeviceLook(field string) rule.Look { return rule.Look{Variable: "device", Field: field} }

// Platforms makes into the rows on some platforms; all rows with none named.
func (m *Matcher) Platforms(named []setting.Platform, into *bitset.Set) {
	into.Copy(&m.Dom)
	if len(named) == 0 {
		return
	}
	into.Clear()
	os := m.Pop.Gen.Column(DeviceLook("os"))
	// The rows of the block by their platform, of which there are three.
	values := os.Known()
	m.Part(os, &m.Dom, func(code uint32, rows *bitset.Set) {
		if s, _ := values[code].(string); slices.Contains(named, setting.Platform(s)) {
			into.Or(rows)
		}
	})
}
