// This file tells how far laptops are encrypted with a key that can be found again: now, by unit, and over time.

package workflow

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// UnitCoverage is how far the laptops of a unit are covered, with those of the units below it.
type UnitCoverage struct {
	Unit   estate.UnitID
	Depth  int // how many units are above it
	Counts recovery.Counts
}

// CoveredLaptop is a laptop with the groups of coverage that it is in.
type CoveredLaptop struct {
	Device  *estate.Device
	Unit    estate.UnitID
	In      recovery.Membership
	Volumes []recovery.Volume // without identifiers
	Since   time.Time         // of its oldest key in force; zero: it has none
	Used    time.Time         // when a key that is still in force was shown; zero: none was
	Seen    time.Time         // when it reported its volumes; zero: never
}

// coverageTable is how every laptop is covered, until the estate or a key alters.
type coverageTable struct {
	mu      sync.Mutex
	of      *Live
	demands []keyDemand // by laptop, in the order of the plan
	version int64       // of the keys
	at      time.Time
	rows    []CoveredLaptop
}

// keyDemand is a laptop with what policies demand of it.
type keyDemand struct {
	device *estate.Device
	unit   estate.UnitID
	handling
}

// coverageGood is how long a table may be shown: keys grow old with time.
const coverageGood = time.Minute

// covered judges all laptops of what is live.
func (s *RecoveryService) covered(ctx context.Context, live *Live) ([]CoveredLaptop, error) {
	t := &s.table
	t.mu.Lock()
	defer t.mu.Unlock()
	now := s.now()
	if t.of != live {
		t.of, t.demands, t.rows = live, keyDemandsOf(live), nil
	}
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	if err := s.loadKeys(ctx); err != nil {
		return nil, err
	}
	if t.rows != nil && t.version == s.index.version && now.Sub(t.at) < coverageGood {
		return t.rows, nil
	}
	rows := make([]CoveredLaptop, len(t.demands)) // what was given before is not altered
	for i := range t.demands {
		d := &t.demands[i]
		rows[i].Device, rows[i].Unit = d.device, d.unit
		rows[i].judge(&d.handling, s.index.of[string(d.device.ID)], now)
	}
	t.rows, t.version, t.at = rows, s.index.version, now
	return rows, nil
}

// judge fills in what is known of a laptop. is may be nil: nothing is known.
func (r *CoveredLaptop) judge(h *handling, is *laptopKeys, now time.Time) {
	l := recovery.Laptop{Wanted: h.wanted, Escrow: h.escrow, Recipients: h.recipients, MaxAgeDays: h.maxAge}
	if is != nil {
		l.Reported, l.Volumes, l.Keys = !is.at.IsZero(), is.volumes, is.keys
		r.Volumes, r.Seen = is.volumes, is.at
	}
	r.In = recovery.Judge(&l, now)
	for i := range l.Keys {
		k := &l.Keys[i]
		if k.State != recovery.Current {
			continue
		}
		if r.Since.IsZero() || k.Since.Before(r.Since) {
			r.Since = k.Since
		}
		if !k.Used.IsZero() {
			r.Used = k.Used
		}
	}
}

// keyDemandsOf gives what policies demand of every laptop.
func keyDemandsOf(live *Live) []keyDemand {
	plan := live.Plan
	all := plan.All()
	out := make([]keyDemand, 0, plan.Size())
	at := make(map[estate.DeviceID]int, plan.Size())
	all.All(func(d *estate.Device, unit estate.UnitID) bool {
		at[d.ID] = len(out)
		out = append(out, keyDemand{device: d, unit: unit})
		return true
	})
	each := func(id setting.ID, note func(h *handling, v setting.Value)) {
		for _, is := range live.Resolution.States(id, all) {
			if is.Status != resolve.Set {
				continue
			}
			for device := range is.Devices.Each {
				note(&out[at[device]].handling, is.Value)
			}
		}
	}
	each(recovery.EncryptionRequired, func(h *handling, v setting.Value) { h.wanted = v.Bool() })
	each(recovery.EscrowTo, func(h *handling, v setting.Value) { h.escrow = v.Text() == recovery.EscrowService })
	each(recovery.RecipientsOfEscrow, func(h *handling, v setting.Value) { h.recipients = v.Items() })
	each(recovery.MaxAgeDays, func(h *handling, v setting.Value) { h.maxAge = v.Integer() })
	return out
}

// seenCovered judges the laptops that somebody sees.
func (s *RecoveryService) seenCovered(ctx context.Context, by Actor) (*Live, []CoveredLaptop, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, nil, err
	}
	live := s.Live()
	rows, err := s.covered(ctx, live)
	if err != nil || by.Held.Everywhere.Has(access.Read) {
		return live, rows, err
	}
	seen := s.boundedLive(live, by)
	out := make([]CoveredLaptop, 0, seen.Plan.Size())
	for _, r := range rows {
		if seen.Plan.Device(r.Device.ID) != nil {
			out = append(out, r)
		}
	}
	return seen, out, nil
}

// Coverage counts the laptops that somebody sees by unit, each with what is below it, in the order of a tree: a unit
// comes before those below it.
func (s *RecoveryService) Coverage(ctx context.Context, by Actor) ([]UnitCoverage, error) {
	live, rows, err := s.seenCovered(ctx, by)
	if err != nil {
		return nil, err
	}
	return coverageByUnit(live, rows), nil
}

func coverageByUnit(live *Live, rows []CoveredLaptop) []UnitCoverage {
	own := map[estate.UnitID]*recovery.Counts{}
	for i := range rows {
		c := own[rows[i].Unit]
		if c == nil {
			c = &recovery.Counts{}
			own[rows[i].Unit] = c
		}
		c.Add(rows[i].In)
	}
	paths := live.Plan.UnitPaths()
	sums := map[estate.UnitID]*UnitCoverage{}
	for unit, counts := range own {
		for depth, above := range paths[unit] {
			id := estate.UnitID(above)
			if sums[id] == nil {
				sums[id] = &UnitCoverage{Unit: id, Depth: depth}
			}
			for i, n := range counts {
				sums[id].Counts[i] += n
			}
		}
	}
	out := make([]UnitCoverage, 0, len(sums))
	for _, u := range sums {
		out = append(out, *u)
	}
	slices.SortFunc(out, func(a, b UnitCoverage) int { return slices.Compare(paths[a.Unit], paths[b.Unit]) })
	return out
}

// CoveredLaptops lists the laptops of a group that somebody sees, in a unit or below it; empty means everywhere. They are
// in the order of their ids.
func (s *RecoveryService) CoveredLaptops(ctx context.Context, by Actor, unit estate.UnitID, group recovery.Group) ([]CoveredLaptop, error) {
	live, rows, err := s.seenCovered(ctx, by)
	if err != nil {
		return nil, err
	}
	if unit != "" && live.Plan.Unit(unit) == nil {
		return nil, &NotFoundError{"unit", string(unit)}
	}
	within := map[estate.UnitID]bool{}
	for id, path := range live.Plan.UnitPaths() {
		within[id] = unit == "" || slices.Contains(path, string(unit))
	}
	out := make([]CoveredLaptop, 0, 64)
	for i := range rows {
		if !rows[i].In.In(cmp.Or(group, recovery.All)) || !within[rows[i].Unit] {
			continue
		}
		r := rows[i]
		r.Volumes = slices.Clone(r.Volumes)
		for j := range r.Volumes {
			r.Volumes[j].Identifier = ""
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b CoveredLaptop) int { return strings.Compare(string(a.Device.ID), string(b.Device.ID)) })
	return out, nil
}

// CoverageDays gives how far the laptops of a unit were covered, day by day. Whoever may not read everywhere has to name a
// unit that they see.
func (s *RecoveryService) CoverageDays(ctx context.Context, by Actor, unit estate.UnitID, days int) ([]store.CoverageDay, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if unit == "" {
		for id, path := range s.seenLive(by).Plan.UnitPaths() {
			if len(path) == 1 {
				unit = id
			}
		}
	}
	if !by.Held.Everywhere.Has(access.Read) && !by.Held.For(access.Read, s.Live().Plan.UnitPaths()[unit]) {
		return nil, nil // the days of units above have laptops in them that are not seen
	}
	return s.store.In(ctx).CoverageDays(string(unit), s.now().In(s.zone).AddDate(0, 0, -days).Format(time.DateOnly))
}

// NoteCoverage writes down how far laptops are covered today.
func (s *RecoveryService) NoteCoverage(ctx context.Context) error {
	live := s.Live()
	rows, err := s.covered(ctx, live)
	if err != nil {
		return err
	}
	units := coverageByUnit(live, rows)
	today := s.now().In(s.zone).Format(time.DateOnly)
	days := make([]store.CoverageDay, len(units))
	for i, u := range units {
		days[i] = store.CoverageDay{Day: today, Unit: string(u.Unit), Counts: u.Counts}
	}
	return s.store.In(ctx).SaveCoverageDays(days)
}

// coverageEach is how often it is written down how far laptops are covered. The last of a day stays.
const coverageEach = 15 * time.Minute

// RunCoverage writes down how far laptops are covered until the context ends, and once more then.
func (s *RecoveryService) RunCoverage(ctx context.Context) {
	tick := time.NewTicker(coverageEach)
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
		if err := s.NoteCoverage(context.WithoutCancel(ctx)); err != nil {
			s.log.Error("writing down how far laptops are covered", "error", err)
		}
	}
}
