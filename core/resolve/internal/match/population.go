// This file has the population: the objects of an estate by number, in the form in which matching
// reads them. It belongs to a plan, which shares with the plan before whatever did not alter. It
// also says what expressions see of a laptop and of a person.

package match

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Population is the units, people, devices and groups of an estate by number. Numbers stay with ids
// from one plan to the next. Where something was removed its number is free: the object there is
// nil. A Population is immutable once it is made.
type Population struct {
	// Every list below is by number. Numbers are given by the tables named …At.
	Gen *intern.Generation

	Units  []Unit
	UnitAt *intern.IDTable[estate.UnitID]
	Root   int

	People   intern.CowList[Person]
	PersonAt *intern.IDTable[estate.PersonID]
	Devices  intern.CowList[Device]
	DeviceAt *intern.IDTable[estate.DeviceID]
	Owner    intern.CowList[int32] // by device: its owner, None without
	Alive    []bitset.Packed       // by block: the devices that are there

	Groups     []Group
	GroupAt    *intern.IDTable[estate.GroupID]
	GroupOrder []int // every group after those that it has as members

	DetachingUnits  []int           // units that detach something
	DetachingGroups []int           // groups that detach something
	DetachedAreas   map[string]bool // areas of the dictionary that some unit or group detaches

	Codes   [][][]uint32     // by column, by block of devices or of people: the codes of what they have
	Persons func() *Subjects // everybody with their groups, made when it is first asked for
}

// Unit is a unit with its place in the tree.
type Unit struct {
	*estate.Unit
	Depth int
	Path  []int // from the root down to this one
}

// Person is a person with the unit that they are in.
type Person struct {
	*estate.Person
	UnitAt int // None: in no unit
}

// Device is a device with its home unit and its owner.
type Device struct {
	*estate.Device
	HomeAt  int
	OwnerAt int // None: without
}

// Group is a group with who is in it, by block.
type Group struct {
	*estate.Group
	Nested  []int // member groups
	Formula *intern.Formula
	Listed  []bitset.Packed // devices by listing, of the device or of its owner
	People  []bitset.Packed // people by listing, of a group of people
	Absent  bool            // it lists somebody or something that is not there, and may come (back)
	Rows    []bitset.Packed // devices that are in it, or whose owners are
}

// Blocks is how many blocks the devices fill.
func (p *Population) Blocks() int { return len(p.Alive) }

// AnyDetached tells whether some unit or group detaches something.
func (p *Population) AnyDetached() bool {
	return len(p.DetachingUnits) > 0 || len(p.DetachingGroups) > 0
}

// GatherDetachedAreas finds the areas that some unit or group detaches.
func (p *Population) GatherDetachedAreas() {
	add := func(list []estate.Detachment) {
		for _, d := range list {
			if d.Area != "" {
				if p.DetachedAreas == nil {
					p.DetachedAreas = map[string]bool{}
				}
				p.DetachedAreas[d.Area] = true
			}
		}
	}
	for _, u := range p.DetachingUnits {
		add(p.Units[u].Detach)
	}
	for _, g := range p.DetachingGroups {
		add(p.Groups[g].Detach)
	}
}

// Target is an estate.Target with the number of what it names.
type Target struct {
	estate.Target
	At    int // None: nothing of that id is there
	Level outcome.Level
}

// Target finds what a target names.
func (p *Population) Target(t estate.Target) Target {
	switch t.Kind {
	case estate.ToEveryone:
		// Everyone is the root unit: the same laptops, at the same level.
		return Target{Target: t, At: p.Root, Level: 0}
	case estate.ToUnit:
		at := p.UnitAt.NumberOf(estate.UnitID(t.ID))
		if at == intern.None {
			return Target{Target: t, At: intern.None}
		}
		// The level of a unit is its depth, so it follows when units move.
		return Target{Target: t, At: at, Level: outcome.Level(p.Units[at].Depth)}
	case estate.ToGroup:
		return Target{Target: t, At: p.GroupAt.NumberOf(estate.GroupID(t.ID)), Level: outcome.GroupLevel}
	case estate.ToDevice:
		return Target{Target: t, At: p.DeviceAt.NumberOf(estate.DeviceID(t.ID)), Level: outcome.IndividualLevel}
	default:
		return Target{Target: t, At: p.PersonAt.NumberOf(estate.PersonID(t.ID)), Level: outcome.IndividualLevel}
	}
}

// InGroup tells whether a device or a person is in a group; either may be None.
//
// The plan has the members of groups for laptops with their owners. For another person who signs
// in, a group of people is asked for that person.
func (p *Population) InGroup(dev, who, group int) bool {
	g := &p.Groups[group]
	// The plan has the rows of every group for each laptop with its owner. That answers for groups
	// of laptops, and for the owner.
	if g.Of == estate.OfDevices || dev != intern.None && who == p.Devices.At(dev).OwnerAt {
		if g.Of == estate.OfPeople && who == intern.None {
			return false
		}
		return dev != intern.None && g.Rows[dev>>bitset.Shift].Has(dev&(bitset.Rows-1))
	}
	// Another person than the owner: the table of people by themselves is asked.
	return who != intern.None && p.PersonIn(who, group)
}

// PersonIn tells whether a person is in a group of people.
func (p *Population) PersonIn(who, group int) bool {
	list := p.Persons().Groups[group]
	return list != nil && list[who>>bitset.Shift].Has(who&(bitset.Rows-1))
}

// deviceValue gives what expressions see as a field of a device; nothing where that is not known.
func (p *Population) deviceValue(d *Device, field string) setting.Value {
	switch field {
	case "id":
		return setting.TextValue(string(d.ID))
	case "os":
		return setting.TextValue(string(d.OS))
	case "os_version":
		return setting.TextValue(d.OSVersion)
	// Fields that may be empty are absent in expressions where they are, so that a rule can ask
	// whether there is one.
	case "serial":
		return known(d.Serial)
	case "edition":
		return known(d.Edition)
	case "model":
		return known(d.Model)
	case "tags":
		return setting.ListValue(d.Tags)
	case "unit":
		return setting.TextValue(string(p.Units[d.HomeAt].ID))
	case "units":
		return setting.ListValue(p.PathIDs(d.HomeAt))
	}
	return d.Facts[field]
}

// personValue gives what expressions see as a field of a person; nothing where that is not known.
func (p *Population) personValue(who *Person, field string) setting.Value {
	switch field {
	case "id":
		return setting.TextValue(string(who.ID))
	case "name":
		return known(who.Name)
	case "mail":
		return known(who.Mail)
	case "unit", "units":
		// A person without a unit has no path either.
		if who.UnitAt == intern.None {
			return setting.Value{}
		}
		if field == "unit" {
			return setting.TextValue(string(p.Units[who.UnitAt].ID))
		}
		return setting.ListValue(p.PathIDs(who.UnitAt))
	}
	return who.Attributes[field]
}

// ValueIn gives what the device, or the person, of a number has in a column; nothing where there is
// nobody.
func (p *Population) ValueIn(c *intern.Column, at int) setting.Value {
	if c.Look.Variable == "person" {
		if who := p.People.At(at); who.Person != nil {
			return p.personValue(who, c.Look.Field)
		}
	} else if d := p.Devices.At(at); d.Device != nil {
		return p.deviceValue(d, c.Look.Field)
	}
	return setting.Value{}
}

// known gives a text as a value; an empty one is nothing, so that expressions see the field as
// absent.
func known(text string) setting.Value {
	if text == "" {
		return setting.Value{}
	}
	return setting.TextValue(text)
}

// PathIDs gives the ids of the units from the root down to one, that one included.
func (p *Population) PathIDs(unit int) []string {
	ids := make([]string, len(p.Units[unit].Path))
	for i, u := range p.Units[unit].Path {
		ids[i] = string(p.Units[u].ID)
	}
	return ids
}

// DeviceVariables is what expressions see as `device`. What is not known is absent; None gives an
// empty map.
func (p *Population) DeviceVariables(at int) map[string]any {
	if at == intern.None {
		return map[string]any{}
	}
	d := p.Devices.At(at)
	return variables(d.Facts, estate.DeviceNames, func(field string) setting.Value { return p.deviceValue(d, field) })
}

// PersonVariables is what expressions see as `person`; None gives an empty map.
func (p *Population) PersonVariables(at int) map[string]any {
	if at == intern.None {
		return map[string]any{}
	}
	who := p.People.At(at)
	return variables(who.Attributes, estate.PersonNames, func(field string) setting.Value { return p.personValue(who, field) })
}

// variables puts facts or attributes together with the fields that everybody has.
func variables(more map[string]setting.Value, names []string, value func(field string) setting.Value) map[string]any {
	out := make(map[string]any, len(more)+len(names))
	// A fact cannot have the name of a field: validation refuses it.
	for name, v := range more {
		out[name] = v.Any()
	}
	for _, name := range names {
		if v := value(name); !v.IsNothing() {
			out[name] = v.Any()
		}
	}
	return out
}
