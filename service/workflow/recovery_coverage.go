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
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/recovery"
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

// coverageTable is how every laptop is covered. What altered is judged again when somebody asks; all is, when what is live
// alters, and after a while, since keys grow old.
type coverageTable struct {
	mu      sync.Mutex // guards what follows; it is taken before that of the index
	of      *Live
	demands []keyDemand // by laptop, in the order of the plan
	place   map[estate.DeviceID]int
	rows    []CoveredLaptop
	at      time.Time // when all were judged
}

// keyDemand is a laptop with what policies demand of it.
type keyDemand struct {
	device *estate.Device
	unit   estate.UnitID
	handling
}

// coverageGood is how long it is before all laptops are judged again.
const coverageGood = time.Minute

// covered calls f with how all laptops of what is live are covered. The rows are valid as long as f runs.
func (s *RecoveryService) covered(ctx context.Context, live *Live, f func([]CoveredLaptop)) error {
	t := &s.table
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := s.judgeLaptops(ctx, live); err != nil {
		return err
	}
	f(t.rows)
	return nil
}

// judgeLaptops brings the table up to date. s.table.mu must be held.
func (s *RecoveryService) judgeLaptops(ctx context.Context, live *Live) error {
	t := &s.table
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	if err := s.loadKeys(ctx); err != nil {
		return err
	}
	now := s.now()
	judge := func(i int) {
		d := &t.demands[i]
		t.rows[i] = CoveredLaptop{Device: d.device, Unit: d.unit}
		t.rows[i].judge(&d.handling, s.index.of[string(d.device.ID)], now)
	}
	switch {
	case t.of != live:
		t.demands, t.place = keyDemandsOf(live)
		t.of, t.rows = live, make([]CoveredLaptop, len(t.demands))
		fallthrough
	case now.Sub(t.at) >= coverageGood:
		for i := range t.demands {
			judge(i)
		}
		t.at = now
	default:
		for device := range s.index.altered {
			if i, there := t.place[estate.DeviceID(device)]; there {
				judge(i)
			}
		}
	}
	s.index.altered = nil
	return nil
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

// keyDemandsOf gives what policies demand of every laptop, and the place of each.
func keyDemandsOf(live *Live) (out []keyDemand, at map[estate.DeviceID]int) {
	plan := live.Plan
	all := plan.All()
	out = make([]keyDemand, 0, plan.Size())
	at = make(map[estate.DeviceID]int, plan.Size())
	all.All(func(d *estate.Device, unit estate.UnitID) bool {
		at[d.ID] = len(out)
		out = append(out, keyDemand{device: d, unit: unit})
		return true
	})
	each := func(id setting.ID, note func(h *handling, v setting.Value)) {
		for _, is := range live.Resolution.States(id, all) {
			if is.Status != outcome.Set {
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
	return out, at
}

// seenCovered calls f with how each laptop that somebody sees is covered, and gives what they see of what is live.
func (s *RecoveryService) seenCovered(ctx context.Context, by Actor, f func(*CoveredLaptop)) (*Live, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.Live()
	seen := s.boundedLive(live, by)
	return seen, s.covered(ctx, live, func(rows []CoveredLaptop) {
		for i := range rows {
			if seen == live || seen.Plan.Device(rows[i].Device.ID) != nil {
				f(&rows[i])
			}
		}
	})
}

// Coverage counts the laptops that somebody sees by unit, each with what is below it, in the order of a tree: a unit
// comes before those below it.
func (s *RecoveryService) Coverage(ctx context.Context, by Actor) ([]UnitCoverage, error) {
	own := ownCounts{}
	live, err := s.seenCovered(ctx, by, own.add)
	if err != nil {
		return nil, err
	}
	return own.byUnit(live), nil
}

// ownCounts counts laptops by their home unit.
type ownCounts map[estate.UnitID]*recovery.Counts

func (own ownCounts) add(r *CoveredLaptop) {
	c := own[r.Unit]
	if c == nil {
		c = &recovery.Counts{}
		own[r.Unit] = c
	}
	c.Add(r.In)
}

// byUnit adds to each unit what is below it.
func (own ownCounts) byUnit(live *Live) []UnitCoverage {
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
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	plan := s.seenLive(by).Plan
	if unit != "" && plan.Unit(unit) == nil {
		return nil, &NotFoundError{"unit", string(unit)}
	}
	within := map[estate.UnitID]bool{}
	for id, path := range plan.UnitPaths() {
		within[id] = unit == "" || slices.Contains(path, string(unit))
	}
	out := make([]CoveredLaptop, 0, 64)
	_, err := s.seenCovered(ctx, by, func(r *CoveredLaptop) {
		if !r.In.In(cmp.Or(group, recovery.All)) || !within[r.Unit] {
			return
		}
		is := *r
		is.Volumes = slices.Clone(r.Volumes)
		for j := range is.Volumes {
			is.Volumes[j].Identifier = ""
		}
		out = append(out, is)
	})
	if err != nil {
		return nil, err
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
	own := ownCounts{}
	if err := s.covered(ctx, live, func(rows []CoveredLaptop) {
		for i := range rows {
			own.add(&rows[i])
		}
	}); err != nil {
		return err
	}
	units := own.byUnit(live)
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
