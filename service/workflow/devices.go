// This file has the lists of all devices and of all people, with what the devices reported.

package workflow

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
	"zenithridge.example/zridge/service/store"
)

// LaptopService has the use cases of laptops and people: lists, pages, what is pending.
type LaptopService struct {
	*liveEstate
	delivered map[string]int64 // by device: the turn of what was live when its deliveries were last brought up to date; guarded by mu
}

// SilentAfter is how long a laptop may go without a check-in before it is called silent. One that usually
// checks in less often may go three of its intervals.
const SilentAfter = 15 * time.Minute

// While laptops keep checking in, the board may be half a second old, or twenty times as old as it
// took to make: with 100,000 laptops that is some seconds, and pages in between cost a look through
// memory.
const (
	boardAge    = 500 * time.Millisecond
	boardFactor = 20
	// slowBoard is how long what laptops reported may be shown where finding out takes too long to
	// wait for.
	slowBoard = 2 * time.Second
)

// DeviceRow is a device on the board.
type DeviceRow struct {
	Device    *estate.Device
	OwnerName string
	Unit      string // home unit
	Units     []string
	Enrolled  bool
	LastSeen  *time.Time
	Revision  string
	Usual     time.Duration // between two check-ins; 0: not known
	Counts    map[rollout.Status]int
	Problems  int
	Origin    *Origin // nil: no source has it
}

// Silent tells whether an enrolled laptop has not been seen for long.
func (r *DeviceRow) Silent(now time.Time) bool {
	return r.Enrolled && (r.LastSeen == nil || now.Sub(*r.LastSeen) > max(SilentAfter, 3*r.Usual))
}

// laptopStates is what laptops reported, as it was at a time.
type laptopStates struct {
	at      time.Time
	good    time.Duration // how long it may be shown
	laptops map[string]store.Laptop
	counts  map[string]map[rollout.Status]int
	filling bool // a newer one is being made
}

// states gives what laptops reported, as it was a moment ago. Where finding out takes long it is
// done in the background, and watchers are told when it is there.
func (s *LaptopService) states(ctx context.Context) (*laptopStates, error) {
	now, fill := s.now(), false
	s.mu.Lock()
	b := s.board
	stale := b == nil || now.Sub(b.at) >= b.good
	if b != nil && stale && b.good > slowBoard {
		if !b.filling {
			b.filling = true
			fill = true
		}
		stale = false
	}
	s.mu.Unlock()
	if fill {
		s.background(func() {
			if _, err := s.readStates(s.ctx); err != nil {
				s.log.Error("reading what laptops reported", "error", err)
			}
			s.Notify(Event{Topic: "device"})
		})
	}
	if !stale {
		return b, nil
	}
	return s.readStates(ctx)
}

func (s *LaptopService) readStates(ctx context.Context) (*laptopStates, error) {
	now := s.now()
	laptops, err := s.store.In(ctx).Laptops()
	if err != nil {
		return nil, err
	}
	counts, err := s.store.In(ctx).StatusCounts()
	if err != nil {
		return nil, err
	}
	b := &laptopStates{at: now, laptops: make(map[string]store.Laptop, len(laptops)), counts: map[string]map[rollout.Status]int{}}
	for _, l := range laptops {
		b.laptops[l.Device] = l
	}
	for _, c := range counts {
		if b.counts[c.Device] == nil {
			b.counts[c.Device] = map[rollout.Status]int{}
		}
		b.counts[c.Device][rollout.Status(c.Status)] = c.Count
	}
	if err := s.addPending(ctx, b); err != nil {
		return nil, err
	}
	b.good = max(boardAge, boardFactor*s.now().Sub(now))
	s.mu.Lock()
	s.board = b
	s.mu.Unlock()
	return b, nil
}

// DeviceRows gives every device with its state, by id, as it was a moment ago.
func (s *LaptopService) DeviceRows(ctx context.Context, by Actor) ([]DeviceRow, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	list, err := s.Devices(ctx, by, DeviceFilter{})
	if err != nil {
		return nil, err
	}
	rows := make([]DeviceRow, list.Len())
	for i := range rows {
		rows[i] = list.Row(i)
	}
	return rows, nil
}

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

// DeviceStates are the states by which devices are filtered.
var DeviceStates = []string{"silent", "never-seen", "failed", "pending", "conflict", "problem"}

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

func (l *Live) row(id string, states *laptopStates) DeviceRow {
	d := l.Plan.Device(estate.DeviceID(id))
	r := DeviceRow{Device: d, Units: l.Plan.HomeUnits(d.ID), Counts: states.counts[id], OwnerName: l.ownerName(d.Owner)}
	r.Unit = r.Units[len(r.Units)-1]
	laptop := states.laptops[id]
	r.Enrolled, r.LastSeen, r.Revision = laptop.EnrolledAt != nil, laptop.LastSeen, laptop.Revision
	r.Usual = time.Duration(laptop.Usual) * time.Second
	if row, found := l.devices().Row(id); found {
		var conflicts int
		conflicts, r.Problems = l.counts(row)
		if !r.Enrolled { // nothing is noted of what never enrolled but what is live
			r.Counts = conflictCounts(conflicts)
		}
	}
	if origin, imported := l.imported.at(objectKey{estate.KindDevice, id}); imported {
		r.Origin = &origin
	}
	return r
}

// counts gives how many settings conflict on a device, and how many checks find something; row is
// its place in the order of ids.
func (l *Live) counts(row int) (conflicts, problems int) {
	l.countsOnce.Do(func() { l.clashing, l.wrong = l.Resolution.ConflictCounts(), l.Resolution.ProblemCounts() })
	return int(l.clashing[row]), int(l.wrong[row])
}

// conflictCounts is what counts of a laptop that never enrolled: nothing is noted of it but what is
// live.
func conflictCounts(n int) map[rollout.Status]int {
	if n > 0 {
		return map[rollout.Status]int{rollout.Conflict: n}
	}
	return nil
}

func (l *Live) ownerName(id estate.PersonID) string {
	if id == "" {
		return ""
	}
	people := l.people()
	if row, found := people.Row(string(id)); found {
		return cmp.Or(listing.Plain(people.Of("name")(row)), string(id))
	}
	return string(id)
}

// devices is the table of all devices, made when it is first asked for.
func (l *Live) devices() *listing.Table {
	l.devicesOnce.Do(func() { l.deviceTable = listing.Devices(l.Plan) })
	return l.deviceTable
}

// people is the table of all people.
func (l *Live) people() *listing.Table {
	l.peopleOnce.Do(func() { l.personTable = listing.People(l.Plan) })
	return l.personTable
}

// reported are the columns of what laptops reported and of where devices come from.
func (l *Live) reported(table *listing.Table, states *laptopStates, now time.Time) map[string]listing.Column {
	count := func(status rollout.Status) listing.Column {
		return func(row int) setting.Value {
			id := table.ID(row)
			if status == rollout.Conflict && states.laptops[id].EnrolledAt == nil {
				conflicts, _ := l.counts(row)
				return setting.IntegerValue(int64(conflicts))
			}
			return setting.IntegerValue(int64(states.counts[id][status]))
		}
	}
	out := map[string]listing.Column{
		"failed":        count(rollout.Failed),
		"pending":       count(rollout.Pending),
		"applied":       count(rollout.Applied),
		"conflict":      count(rollout.Conflict),
		"not_supported": count(rollout.Unsupported),
		"enrolled":      func(row int) setting.Value { return setting.BoolValue(states.laptops[table.ID(row)].EnrolledAt != nil) },
		"last_seen": func(row int) setting.Value {
			if at := states.laptops[table.ID(row)].LastSeen; at != nil {
				return setting.TextValue(at.UTC().Format(time.RFC3339))
			}
			return setting.Value{}
		},
		"problems": func(row int) setting.Value {
			_, problems := l.counts(row)
			return setting.IntegerValue(int64(problems))
		},
		"state": func(row int) setting.Value {
			id := table.ID(row)
			laptop := states.laptops[id]
			conflicts, problems := l.counts(row)
			r := DeviceRow{Enrolled: laptop.EnrolledAt != nil, LastSeen: laptop.LastSeen, Counts: states.counts[id], Problems: problems,
				Usual: time.Duration(laptop.Usual) * time.Second}
			if !r.Enrolled {
				r.Counts = conflictCounts(conflicts)
			}
			var in []string
			for _, state := range DeviceStates {
				if r.hasState(state, now) {
					in = append(in, state)
				}
			}
			if in == nil {
				return setting.Value{}
			}
			return setting.ListValue(in)
		},
	}
	l.addOrigin(out, table, estate.KindDevice)
	return out
}

// addOrigin adds the columns of where things come from.
func (l *Live) addOrigin(to map[string]listing.Column, table *listing.Table, kind estate.Kind) {
	to["source"] = func(row int) setting.Value {
		if o, imported := l.imported.at(objectKey{kind, table.ID(row)}); imported {
			return setting.TextValue(o.Source)
		}
		return setting.Value{}
	}
	to["left"] = func(row int) setting.Value {
		if o := l.imported.of(objectKey{kind, table.ID(row)}); o.Left != nil {
			return setting.TextValue(o.Left.UTC().Format(time.DateOnly))
		}
		return setting.Value{}
	}
}

// ReportedFields are the fields of devices that are not facts: what laptops reported, and where
// they come from.
var ReportedFields = []string{
	"state",
	"enrolled",
	"last_seen",
	"applied",
	"pending",
	"failed",
	"conflict",
	"not_supported",
	"problems",
	"source",
	"left",
}

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
					Code:     problem.Syntax,
					Path:     problem.Join("/query/where", i),
					Found:    problem.Quote(text),
					Expected: "a field, one of = != >= <= > < ~ and a value, or a field and ? or !?; such as os=linux|macos or facts/ram_gb>=16",
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

func (l *Live) person(id string) *estate.Person { return l.Plan.Person(estate.PersonID(id)) }

// SourceOf gives the source that has an object; empty where none has.
func (l *Live) SourceOf(kind estate.Kind, id string) string {
	return l.imported.of(objectKey{kind, id}).Source
}

// Clock is the time as the service tells it.
func (s *LaptopService) Clock() time.Time { return s.now() }

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

func (r *DeviceRow) hasState(state string, now time.Time) bool {
	switch state {
	case "silent":
		return r.Silent(now)
	case "never-seen":
		return r.LastSeen == nil
	case "failed", "pending", "conflict":
		return r.Counts[rollout.Status(state)] > 0
	case "problem":
		return r.Problems > 0
	}
	return true
}
