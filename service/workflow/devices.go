// This file has laptops with what they reported, and the states that lists are made of.

package workflow

import (
	"cmp"
	"context"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
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

// DeviceStates are the states by which devices are filtered.
var DeviceStates = []string{"silent", "never-seen", "failed", "pending", "conflict", "problem"}

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

func (l *Live) person(id string) *estate.Person { return l.Plan.Person(estate.PersonID(id)) }

// SourceOf gives the source that has an object; empty where none has.
func (l *Live) SourceOf(kind estate.Kind, id string) string {
	return l.imported.of(objectKey{kind, id}).Source
}

// Clock is the time as the service tells it.
func (s *LaptopService) Clock() time.Time { return s.now() }

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
