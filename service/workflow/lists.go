// This file lists devices and people: filtered, sorted, with what sources brought.

package workflow

import (
	"cmp"
	"context"
	"iter"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// DeviceFilter narrows the list of devices. Zero fields narrow nothing.
type DeviceFilter struct {
	Text  string   // words that are all in it: id, serial, owner, model, facts, units, tags
	Where []string // conditions as package listing reads them
	Unit  string   // this unit or below
	OS    string
	Group string
	State string // one of DeviceStates
	Sort  string // a field; a leading '-' turns the order round
}

// DeviceList is the devices that pass a filter, in its order.
type DeviceList struct {
	*listed
	live   *Live
	states *laptopStates
}

// listed is rows of a table that were found, with the columns that the table does not have.
type listed struct {
	table   *listing.Table
	rows    []int32
	besides map[string]listing.Column
}

// Len counts the rows.
func (l *listed) Len() int { return len(l.rows) }

// Value gives a row's value in a field; nothing where it has none.
func (l *listed) Value(i int, field string) setting.Value {
	of := l.besides[field]
	if of == nil {
		of = l.table.Of(field)
	}
	if of == nil {
		return setting.Value{}
	}
	return of(int(l.rows[i]))
}

// ID gives a row's id.
func (l *listed) ID(i int) string { return l.table.ID(int(l.rows[i])) }

// Has tells whether there is such a field.
func (l *listed) Has(field string) bool { return l.besides[field] != nil || l.table.Of(field) != nil }

// Row gives a device with its state.
func (l *DeviceList) Row(i int) DeviceRow { return l.live.row(l.ID(i), l.states) }

// conditions reads conditions as people write them.
func conditions(written []string) ([]listing.Condition, error) {
	var faults problem.Faults
	out := make([]listing.Condition, len(written))
	for i, text := range written {
		c, ok := listing.ParseCondition(text)
		if !ok {
			faults = append(
				faults,
				problem.Fault{
					Code:  problem.Syntax,
					Path:  problem.Join("/query/where", i),
					Found: problem.Quote(text),
					Expected: "a field, one of = != >= <= > < ~ and a value, or a field and ? or !?; such as os=linux|macos or " +
						"facts/ram_gb>=16",
				},
			)
		}
		out[i] = c
	}
	if faults != nil {
		return nil, faults
	}
	return out, nil
}

// Devices filters and sorts the devices.
func (s *LaptopService) Devices(ctx context.Context, by Actor, f DeviceFilter) (*DeviceList, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	states, err := s.states(ctx)
	if err != nil {
		return nil, err
	}
	table := live.devices()
	besides := live.reported(table, states, s.now())
	q := listing.Query{Words: f.Text, Sort: f.Sort, Besides: besides}
	if q.Conditions, err = conditions(f.Where); err != nil {
		return nil, err
	}
	is := func(field, word string) {
		if word != "" {
			q.Conditions = append(q.Conditions, listing.Condition{Field: field, Op: listing.Is, Words: []string{word}})
		}
	}
	if f.Unit != "" && live.Plan.Unit(estate.UnitID(f.Unit)) == nil {
		return nil, &NotFoundError{"unit", f.Unit}
	}
	is("unit", f.Unit)
	is("os", f.OS)
	is("state", f.State)
	if f.Group != "" {
		if !slices.ContainsFunc(live.Plan.Snapshot().Groups, func(g estate.Group) bool { return string(g.ID) == f.Group }) {
			return nil, &NotFoundError{"group", f.Group}
		}
		is("groups", f.Group)
	}
	rows, err := table.Find(q)
	if err != nil {
		return nil, err
	}
	return &DeviceList{&listed{table, rows, besides}, live, states}, nil
}

// PersonFilter narrows the list of people.
type PersonFilter struct {
	Text  string
	Where []string
	Sort  string
}

// PersonList is the people that pass a filter, in its order.
type PersonList struct {
	*listed
	live *Live
}

// Person gives a row's person.
func (l *PersonList) Person(i int) *estate.Person {
	return l.live.person(l.ID(i))
}

// Origin says which source has a row's person; nil where none has.
func (l *PersonList) Origin(i int) *Origin {
	if o, imported := l.live.imported.at(objectKey{estate.KindPerson, l.ID(i)}); imported {
		return &o
	}
	return nil
}

// People filters and sorts the people.
func (s *LaptopService) People(ctx context.Context, by Actor, f PersonFilter) (*PersonList, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	table := live.people()
	besides := map[string]listing.Column{}
	live.addOrigin(besides, table, estate.KindPerson)
	q := listing.Query{Words: f.Text, Sort: f.Sort, Besides: besides}
	var err error
	if q.Conditions, err = conditions(f.Where); err != nil {
		return nil, err
	}
	rows, err := table.Find(q)
	if err != nil {
		return nil, err
	}
	return &PersonList{&listed{table, rows, besides}, live}, nil
}

// Fields says which fields devices or people have, and their most frequent values among those that
// pass a filter. Fields of which nearly every row has another value give few of them.
func (s *LaptopService) Fields(ctx context.Context, by Actor, of estate.Kind, only []string, most int) ([]listing.Field, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	table := live.devices()
	if of == estate.KindPerson {
		table = live.people()
	}
	names := table.Fields()
	if len(only) > 0 {
		names = only
	}
	out := make([]listing.Field, len(names))
	errs := make([]error, len(names))
	threads.Share(len(names), func(mine iter.Seq[int]) {
		for i := range mine {
			if out[i], errs[i] = table.Values(names[i], nil, most); errs[i] != nil {
				errs[i] = &NotFoundError{"field", names[i]}
			}
		}
	})
	return out, cmp.Or(errs...)
}
