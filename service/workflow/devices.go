// This file has what people look at about devices: the board of all of them, and one with its deliveries.

package workflow

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// SilentAfter is how long a laptop may go without a check-in before it is called silent.
const SilentAfter = 15 * time.Minute

// While laptops keep checking in, the board may be half a second old, or twenty times as old as it took to make: with
// 100,000 laptops that is some seconds, and pages in between cost a look through memory.
const (
	boardAge    = 500 * time.Millisecond
	boardFactor = 20
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
	Counts    map[rollout.Status]int
	Problems  int
}

// Silent tells whether an enrolled laptop has not been seen for long.
func (r *DeviceRow) Silent(now time.Time) bool {
	return r.Enrolled && (r.LastSeen == nil || now.Sub(*r.LastSeen) > SilentAfter)
}

// deviceBoard is every device with its state, by id, as it was at a time.
type deviceBoard struct {
	at   time.Time
	live *Live
	rows []DeviceRow
	good time.Duration // how long it may be shown
}

// Board gives every device with its state, by id, as it was a moment ago.
func (s *Service) Board() ([]DeviceRow, error) {
	live, now := s.Live(), s.now()
	s.mu.Lock()
	b := s.board
	s.mu.Unlock()
	if b != nil && b.live == live && now.Sub(b.at) < b.good {
		return b.rows, nil
	}
	laptops, err := s.store.Laptops()
	if err != nil {
		return nil, err
	}
	counts, err := s.store.StatusCounts()
	if err != nil {
		return nil, err
	}
	b = &deviceBoard{at: now, live: live, rows: boardRows(live, laptops, counts)}
	b.good = max(boardAge, boardFactor*s.now().Sub(now))
	s.mu.Lock()
	s.board = b
	s.mu.Unlock()
	return b.rows, nil
}

func boardRows(live *Live, laptops []store.Laptop, counts []store.StatusCount) []DeviceRow {
	snapshot := live.Plan.Snapshot()
	names := make(map[estate.PersonID]string, len(snapshot.People))
	for i := range snapshot.People {
		names[snapshot.People[i].ID] = cmp.Or(snapshot.People[i].Name, string(snapshot.People[i].ID))
	}
	at := make(map[string]int, len(snapshot.Devices))
	rows := make([]DeviceRow, len(snapshot.Devices))
	for i := range snapshot.Devices {
		d := &snapshot.Devices[i]
		rows[i] = DeviceRow{Device: d, OwnerName: names[d.Owner], Units: live.Plan.HomeUnits(d.ID), Counts: map[rollout.Status]int{}}
		rows[i].Unit = rows[i].Units[len(rows[i].Units)-1]
	}
	slices.SortFunc(rows, func(a, b DeviceRow) int { return cmp.Compare(a.Device.ID, b.Device.ID) })
	for i := range rows {
		at[string(rows[i].Device.ID)] = i
		rows[i].Problems = len(live.Whole.Results[i].Problems)
	}
	for _, l := range laptops {
		if i, known := at[l.Device]; known {
			rows[i].Enrolled, rows[i].LastSeen, rows[i].Revision = l.EnrolledAt != nil, l.LastSeen, l.Revision
		}
	}
	for _, c := range counts {
		if i, known := at[c.Device]; known {
			rows[i].Counts[rollout.Status(c.Status)] = c.Count
		}
	}
	for i := range rows { // nothing is noted of what never enrolled but what is live
		if rows[i].Enrolled {
			continue
		}
		clashes := 0
		for j := range live.Whole.Results[i].Settings {
			if live.Whole.Results[i].Settings[j].Status == resolve.Conflict {
				clashes++
			}
		}
		if clashes > 0 {
			rows[i].Counts[rollout.Conflict] = clashes
		}
	}
	return rows
}

// DeviceFilter narrows the board. Zero fields narrow nothing.
type DeviceFilter struct {
	Text  string // in the id, serial, owner, model or a tag
	Unit  string // this unit or below
	OS    string
	Group string
	State string // one of DeviceStates
	Sort  string // one of DeviceSorts; a leading '-' turns the order round
}

// DeviceStates are the states by which devices are filtered.
var DeviceStates = []string{"silent", "never-seen", "failed", "pending", "conflict", "problem"}

// DeviceSorts are the orders in which devices are listed.
var DeviceSorts = []string{"id", "owner", "unit", "os", "last_seen", "failed", "pending"}

// Devices filters and sorts the board.
func (s *Service) Devices(f DeviceFilter) ([]DeviceRow, error) {
	rows, err := s.Board()
	if err != nil {
		return nil, err
	}
	now := s.now()
	var inGroup map[string]bool
	if f.Group != "" {
		if inGroup, err = s.devicesOfGroup(f.Group, rows); err != nil {
			return nil, err
		}
	}
	text := strings.ToLower(f.Text)
	var out []DeviceRow
	for i := range rows {
		r := &rows[i]
		if f.OS != "" && string(r.Device.OS) != f.OS || f.Unit != "" && !slices.Contains(r.Units, f.Unit) || inGroup != nil && !inGroup[string(r.Device.ID)] ||
			!r.hasState(f.State, now) || text != "" && !r.mentions(text) {
			continue
		}
		out = append(out, *r)
	}
	key, down := strings.CutPrefix(f.Sort, "-")
	slices.SortStableFunc(out, func(a, b DeviceRow) int {
		order := compareRows(key, &a, &b)
		if down {
			order = -order
		}
		return cmp.Or(order, cmp.Compare(a.Device.ID, b.Device.ID))
	})
	return out, nil
}

func (s *Service) devicesOfGroup(id string, rows []DeviceRow) (map[string]bool, error) {
	plan := s.Live().Plan
	for _, g := range plan.Snapshot().Groups {
		if string(g.ID) != id {
			continue
		}
		members := map[string]bool{}
		for _, m := range plan.GroupMembers(g.ID) {
			members[m] = true
		}
		if g.Of == estate.OfDevices {
			return members, nil
		}
		devices := map[string]bool{}
		for i := range rows {
			devices[string(rows[i].Device.ID)] = members[string(rows[i].Device.Owner)]
		}
		return devices, nil
	}
	return nil, &NotFoundError{"group", id}
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

func (r *DeviceRow) mentions(text string) bool {
	for _, field := range append([]string{string(r.Device.ID), r.Device.Serial, r.OwnerName, string(r.Device.Owner), r.Device.Model}, r.Device.Tags...) {
		if strings.Contains(strings.ToLower(field), text) {
			return true
		}
	}
	return false
}

func compareRows(key string, a, b *DeviceRow) int {
	switch key {
	case "id":
		return cmp.Compare(a.Device.ID, b.Device.ID)
	case "owner":
		return cmp.Compare(a.OwnerName, b.OwnerName)
	case "unit":
		return cmp.Compare(a.Unit, b.Unit)
	case "os":
		return cmp.Or(cmp.Compare(a.Device.OS, b.Device.OS), cmp.Compare(a.Device.OSVersion, b.Device.OSVersion))
	case "last_seen":
		return compareTimes(a.LastSeen, b.LastSeen)
	case "failed", "pending":
		return cmp.Compare(a.Counts[rollout.Status(key)], b.Counts[rollout.Status(key)])
	}
	return 0
}

func compareTimes(a, b *time.Time) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return -1
	case b == nil:
		return 1
	}
	return a.Compare(*b)
}

// DevicePage is all that is known of one device.
type DevicePage struct {
	Row        DeviceRow
	Result     *resolve.Result
	Deliveries map[setting.ID]rollout.Delivery
	CheckIns   []store.CheckIn
}

// Device gives a device with what it gets, what it reported and when it checked in.
func (s *Service) Device(id string) (DevicePage, error) {
	rows, err := s.Board()
	if err != nil {
		return DevicePage{}, err
	}
	at, found := slices.BinarySearchFunc(rows, id, func(r DeviceRow, id string) int { return cmp.Compare(string(r.Device.ID), id) })
	if !found {
		return DevicePage{}, &NotFoundError{"device", id}
	}
	page := DevicePage{Row: rows[at]}
	if page.Result, err = s.Live().Plan.Effective(estate.DeviceID(id), ""); err != nil {
		return page, err
	}
	if page.Deliveries, err = s.store.Deliveries(id); err != nil {
		return page, err
	}
	page.CheckIns, err = s.store.CheckIns(id, 50)
	return page, err
}

// Retry asks that what failed on a device is tried again at its next check-in.
func (s *Service) Retry(by Actor, id string) (int, error) {
	if s.Live().Plan.Device(estate.DeviceID(id)) == nil {
		return 0, &NotFoundError{"device", id}
	}
	again := 0
	err := s.store.Transaction(func(tx *store.Store) error {
		known, err := tx.Deliveries(id)
		if err != nil {
			return err
		}
		for _, d := range known {
			if d.Status == rollout.Failed {
				if err := tx.SaveDeliveries(id, []rollout.Delivery{d.Retry()}); err != nil {
					return err
				}
				again++
			}
		}
		return s.audit(tx, by, store.AuditRecord{Action: "retry failed settings", Kind: string(estate.KindDevice), ObjectID: id})
	})
	s.Notify(Event{"device", id})
	return again, err
}
