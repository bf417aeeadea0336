// This file makes the tables of devices and of people: which fields they have, and where values
// come from.
//
// A table has one row for each object, in the order of ids, and a column for each field. A column
// is a function from the row to its value. It is made when the field is first asked for: a list
// shows a few of its columns, and must appear at once where there are 100,000 rows. A column that
// costs one pass over the estate, such as groups, makes that pass then and is kept.

package listing

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// table gives a table of n rows without ids and columns. Its fields are the fixed ones, followed by
// the names of facts or attributes, sorted, with the prefix in front.
func table(n int, fixed []string, facts map[string]bool, prefix string) *Table {
	t := &Table{
		Rows:    n,
		ids:     make([]string, n),
		columns: map[string]Column{},
		orders:  map[string][]int32{},
		grouped: map[string][]bool{},
		values:  map[string]func() Field{},
		fields:  slices.Clone(fixed),
	}
	// Names come from a map. They are sorted, so that fields are always in the same order.
	names := make([]string, 0, len(facts))
	for name := range facts {
		names = append(names, prefix+name)
	}
	slices.Sort(names)
	t.fields = append(t.fields, names...)
	return t
}

// text gives a text as a value. An empty text is nothing, so that rows without it are not counted,
// and are last in any order.
func text(s string) setting.Value {
	if s == "" {
		return setting.Value{}
	}
	return setting.TextValue(s)
}

// DeviceFields are the fields of devices besides their facts. "unit" is the home unit and "units"
// its path from the root; "groups" are those that the device is in, by itself or through its owner.
var DeviceFields = []string{
	"id",
	"serial",
	"owner",
	"owner_name",
	"unit",
	"units",
	"os",
	"os_version",
	"edition",
	"model",
	"tags",
	"users",
	"groups",
}

// PersonFields are the fields of people besides their attributes. "devices" is how many laptops the
// person owns.
var PersonFields = []string{"id", "name", "mail", "unit", "units", "groups", "devices"}

// Devices makes the table of a plan's devices. It sorts the devices and looks at the names of their
// facts; all else waits until it is asked for.
func Devices(plan *resolve.Plan) *Table {
	snapshot := plan.Snapshot()
	devices := slices.Clone(snapshot.Devices)
	// Which facts there are is only known from the devices: agents and sources may report any.
	facts := map[string]bool{}
	for i := range devices {
		for name := range devices[i].Facts {
			facts[name] = true
		}
	}
	// Rows are in the order of ids, so that Row can search and an unsorted list needs no order.
	slices.SortFunc(devices, func(a, b *estate.Device) int { return cmp.Compare(a.ID, b.ID) })
	// An owner is found by name as well as by id.
	names := make(map[estate.PersonID]string, len(snapshot.People))
	for i := range snapshot.People {
		names[snapshot.People[i].ID] = cmp.Or(snapshot.People[i].Name, string(snapshot.People[i].ID))
	}
	t := table(len(devices), DeviceFields, facts, "facts/")
	t.paths = plan.UnitPaths()
	for i, d := range devices {
		t.ids[i] = string(d.ID)
	}
	t.words = func(row int) []string {
		d := devices[row]
		out := append([]string{string(d.ID), d.Serial, string(d.Owner), names[d.Owner], d.Model, d.OSVersion, d.Edition}, d.Tags...)
		for _, v := range d.Facts {
			if v.Kind() == setting.Text {
				out = append(out, v.Text())
			}
		}
		return append(out, plan.HomeUnits(d.ID)...)
	}
	// Groups of all laptops are gathered when a field that needs them is first asked for.
	groups := sync.OnceValue(plan.GroupsOfDevices)
	t.values["groups"] = sync.OnceValue(func() Field { return groupSizes(groups().Sizes()) })
	t.make = func(field string) Column {
		// A device without the fact gives the zero value, which counts as nothing.
		if fact, ok := strings.CutPrefix(field, "facts/"); ok {
			return func(row int) setting.Value { return devices[row].Facts[fact] }
		}
		switch field {
		case "id":
			return func(row int) setting.Value { return text(string(devices[row].ID)) }
		case "serial":
			return func(row int) setting.Value { return text(devices[row].Serial) }
		case "owner":
			return func(row int) setting.Value { return text(string(devices[row].Owner)) }
		case "owner_name":
			return func(row int) setting.Value { return text(names[devices[row].Owner]) }
		case "unit":
			homes := homesOf(plan, devices)
			return func(row int) setting.Value { return text(homes[row]) }
		case "units":
			// Laptops of one unit share one value: there are few units.
			paths := map[string]setting.Value{}
			for unit, path := range plan.UnitPaths() {
				paths[string(unit)] = setting.ListValue(path)
			}
			homes := homesOf(plan, devices)
			return func(row int) setting.Value { return paths[homes[row]] }
		case "os":
			return func(row int) setting.Value { return text(string(devices[row].OS)) }
		case "os_version":
			return func(row int) setting.Value { return text(devices[row].OSVersion) }
		case "edition":
			return func(row int) setting.Value { return text(devices[row].Edition) }
		case "model":
			return func(row int) setting.Value { return text(devices[row].Model) }
		case "tags":
			return func(row int) setting.Value { return list(devices[row].Tags) }
		case "users":
			return func(row int) setting.Value { return list(ids(devices[row].Users)) }
		default:
			in := groups()
			return func(row int) setting.Value { return list(ids(in.Of(devices[row].ID))) }
		}
	}
	return t
}

// homesOf gives the id of each device's home unit, by row. It is empty for a device that has none.
func homesOf(plan *resolve.Plan, devices []*estate.Device) []string {
	out := make([]string, len(devices))
	for i, d := range devices {
		out[i] = string(plan.HomeUnit(d.ID))
	}
	return out
}

// People makes the table of a plan's people, in the same way as Devices.
func People(plan *resolve.Plan) *Table {
	snapshot := plan.Snapshot()
	people := slices.Clone(snapshot.People)
	attributes := map[string]bool{}
	for i := range people {
		for name := range people[i].Attributes {
			attributes[name] = true
		}
	}
	slices.SortFunc(people, func(a, b *estate.Person) int { return cmp.Compare(a.ID, b.ID) })
	// Counted in one pass over all laptops. Laptops without an owner count for the empty id, which
	// nobody has.
	owned := make(map[estate.PersonID]int64, len(people))
	for i := range snapshot.Devices {
		owned[snapshot.Devices[i].Owner]++
	}
	paths := plan.UnitPaths()
	t := table(len(people), PersonFields, attributes, "attributes/")
	t.paths = paths
	for i, p := range people {
		t.ids[i] = string(p.ID)
	}
	t.words = func(row int) []string {
		p := people[row]
		out := append([]string{string(p.ID), p.Name, p.Mail}, paths[p.Unit]...)
		for _, v := range p.Attributes {
			if v.Kind() == setting.Text {
				out = append(out, v.Text())
			}
		}
		return out
	}
	groups := sync.OnceValue(plan.GroupsOfPeople)
	t.values["groups"] = sync.OnceValue(func() Field { return groupSizes(groups().Sizes()) })
	t.make = func(field string) Column {
		if name, ok := strings.CutPrefix(field, "attributes/"); ok {
			return func(row int) setting.Value { return people[row].Attributes[name] }
		}
		switch field {
		case "id":
			return func(row int) setting.Value { return text(string(people[row].ID)) }
		case "name":
			return func(row int) setting.Value { return text(people[row].Name) }
		case "mail":
			return func(row int) setting.Value { return text(people[row].Mail) }
		case "unit":
			return func(row int) setting.Value { return text(string(people[row].Unit)) }
		case "units":
			return func(row int) setting.Value { return list(paths[people[row].Unit]) }
		case "devices":
			return func(row int) setting.Value { return setting.IntegerValue(owned[people[row].ID]) }
		default:
			in := groups()
			return func(row int) setting.Value { return list(ids(in.Of(people[row].ID))) }
		}
	}
	return t
}

// list gives a list as a value; an empty one is nothing.
func list(items []string) setting.Value {
	if len(items) == 0 {
		return setting.Value{}
	}
	return setting.ListValue(items)
}

// ids gives ids of any kind as texts.
func ids[T ~string](from []T) []string {
	out := make([]string, len(from))
	for i, id := range from {
		out[i] = string(id)
	}
	return out
}
