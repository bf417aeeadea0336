// This file measures laptops by baselines: at their check-ins, when the estate alters, and every hour.

package workflow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/baseline"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// BaselineService has the use cases of baselines.
type BaselineService struct {
	*liveEstate
}

// measured is a baseline with the laptops that it is for.
type measured struct {
	*estate.Baseline
	gets  resolve.Devices
	lacks map[setting.ID][]resolve.Devices // laptops that do not support a setting
}

// supported tells whether a laptop has a setting.
func (m *measured) supported(id setting.ID, device estate.DeviceID) bool {
	return !slices.ContainsFunc(m.lacks[id], func(d resolve.Devices) bool { return d.Has(device) })
}

// measuring is the baselines of what is live, made once for each estate that was live.
type measuring struct {
	mu      sync.Mutex // guards what follows
	of      *Live
	list    []*measured
	altered int64 // the turn of what is live at which baselines were last other than before
}

// measures gives the baselines of what is live.
func (s *liveEstate) measures(live *Live) []*measured {
	list := live.Plan.Snapshot().Baselines
	m := &s.measuring
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of == live {
		return m.list
	}
	out := make([]*measured, len(list))
	for i := range list {
		b := &measured{Baseline: &list[i], gets: live.Plan.ReachOf(list[i].AsPolicy()).Gets, lacks: map[setting.ID][]resolve.Devices{}}
		for _, item := range b.Items {
			b.lacks[item.Setting] = slices.Collect(maps.Values(live.Plan.Lacking(item.Setting)))
		}
		out[i] = b
	}
	if m.of == nil || live.Turn > m.of.Turn { // else it is an older estate, for a session that began with it
		if m.of == nil || !sameList(m.of.Plan.Snapshot().Baselines, list) {
			m.altered = live.Turn
		}
		m.of, m.list = live, out
	}
	return out
}

// BaselinesAltered gives the turn of what is live at which baselines were last other than before.
func (s *BaselineService) BaselinesAltered() int64 {
	s.measures(s.Live())
	s.measuring.mu.Lock()
	defer s.measuring.mu.Unlock()
	return s.measuring.altered
}

// Unreported gives the settings that baselines want to know of on a laptop.
func (s *BaselineService) Unreported(live *Live, device string) (ids []setting.ID) {
	for _, b := range s.measures(live) {
		if !b.gets.Has(estate.DeviceID(device)) {
			continue
		}
		for _, item := range b.Items {
			if b.supported(item.Setting, estate.DeviceID(device)) {
				ids = append(ids, item.Setting)
			}
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// Measure measures a laptop by the baselines that it is in, from what it said last.
func (s *BaselineService) Measure(ctx context.Context, device string) error {
	live := s.Live()
	list := slices.DeleteFunc(slices.Clone(s.measures(live)), func(b *measured) bool { return !b.gets.Has(estate.DeviceID(device)) })
	if len(list) == 0 {
		return nil
	}
	tx := s.store.In(ctx)
	said, err := tx.MeasuredSettings(settingsOf(list), device)
	if err != nil {
		return err
	}
	states := make([]store.BaselineState, len(list))
	for i, b := range list {
		states[i] = b.measure(live, estate.DeviceID(device), said[device], s.now())
	}
	return tx.ReplaceBaselineStates("", device, states)
}

func settingsOf(list []*measured) (ids []setting.ID) {
	for _, b := range list {
		for _, item := range b.Items {
			ids = append(ids, item.Setting)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

func (m *measured) measure(live *Live, device estate.DeviceID, said map[setting.ID]store.Measured, now time.Time) store.BaselineState {
	state, failing := baseline.Measure(m.Baseline, func(id setting.ID) (*setting.Definition, baseline.Observed) {
		is := said[id]
		return live.Plan.Definition(id), baseline.Observed{Said: is.Said, Has: is.Reported, Wanted: is.Wanted, Supported: m.supported(id, device)}
	})
	return store.BaselineState{Baseline: string(m.ID), Device: string(device), Unit: string(live.Plan.HomeUnit(device)),
		State: state, Failing: failing, At: now}
}

// MeasureAll measures all laptops by all baselines, writes the day's shares down, and tells where a share fell below its
// line.
func (s *BaselineService) MeasureAll(ctx context.Context) error {
	live := s.Live()
	list := s.measures(live)
	tx := s.store.In(ctx)
	before, err := s.shares(tx)
	if err != nil {
		return err
	}
	kept := make([]string, len(list))
	for i, b := range list {
		kept[i] = string(b.ID)
	}
	if err := tx.DropBaselineStates(kept); err != nil || len(list) == 0 {
		return err
	}
	said, err := tx.MeasuredSettings(settingsOf(list), "")
	if err != nil {
		return err
	}
	now := s.now()
	for _, b := range list {
		states := make([]store.BaselineState, 0, b.gets.Len())
		for id := range b.gets.Each {
			states = append(states, b.measure(live, id, said[string(id)], now))
		}
		if err := tx.ReplaceBaselineStates(string(b.ID), "", states); err != nil {
			return err
		}
	}
	after, err := s.shares(tx)
	if err != nil {
		return err
	}
	var errs []error
	for _, b := range list {
		was, known := before[string(b.ID)]
		is := after[string(b.ID)]
		if is.Share() < b.AlertBelow && (!known || was.Share() >= b.AlertBelow) {
			errs = append(errs, s.tell(tx, announcement{
				topic: AboutBaseline, path: "/baselines/" + string(b.ID), title: fmt.Sprintf("%s is below its line", cmp.Or(b.Title, string(b.ID))),
				text: fmt.Sprintf("%s %% of %d laptops comply; the line is %s %%.", is.Share(), is.Laptops(), b.AlertBelow),
			}))
		}
	}
	errs = append(errs, s.writeDays(live, tx, now))
	s.Notify(Event{Topic: "device"})
	return errors.Join(errs...)
}

// shares counts how laptops stand to each baseline.
func (s *BaselineService) shares(tx *store.Store) (map[string]baseline.Count, error) {
	counts, err := tx.BaselineCounts()
	out := map[string]baseline.Count{}
	for _, c := range counts {
		is := out[c.Baseline]
		addCount(&is, c)
		out[c.Baseline] = is
	}
	return out, err
}

func addCount(to *baseline.Count, c store.BaselineCount) {
	switch baseline.State(c.State) {
	case baseline.Compliant:
		to.Complies += c.Count
	case baseline.Different:
		to.Differs += c.Count
	default:
		to.Unknown += c.Count
	}
}

// byUnit counts how laptops stand to each baseline, for each unit with what is below it.
func byUnit(live *Live, counts []store.BaselineCount) map[string]map[string]baseline.Count {
	paths := live.Plan.UnitPaths()
	out := map[string]map[string]baseline.Count{}
	for _, c := range counts {
		if out[c.Baseline] == nil {
			out[c.Baseline] = map[string]baseline.Count{}
		}
		for _, unit := range paths[estate.UnitID(c.Unit)] {
			is := out[c.Baseline][unit]
			addCount(&is, c)
			out[c.Baseline][unit] = is
		}
	}
	return out
}

func (s *BaselineService) writeDays(live *Live, tx *store.Store, now time.Time) error {
	counts, err := tx.BaselineCounts()
	if err != nil {
		return err
	}
	var days []store.BaselineDay
	for id, units := range byUnit(live, counts) {
		for unit, c := range units {
			days = append(days, store.BaselineDay{
				Baseline: id, Unit: unit, Day: now.In(s.zone).Format(time.DateOnly), Complies: c.Complies, Differs: c.Differs, Unknown: c.Unknown,
			})
		}
	}
	return tx.SaveBaselineDays(days, now)
}

// Laptops are measured again when the estate altered, at most as often as this, and otherwise every hour.
const (
	measureEach  = 2 * time.Second
	measureHours = time.Hour
	measureShare = 20 // of the time that measuring may take: one part of so many
)

// RunBaselines measures laptops until the context ends.
func (s *BaselineService) RunBaselines(ctx context.Context) {
	tick := time.NewTicker(measureEach)
	defer tick.Stop()
	var turn int64 // that was measured last
	var last, next time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		began := time.Now()
		if is := s.Live().Turn; (is == turn || began.Before(next)) && began.Sub(last) < measureHours {
			continue
		}
		turn = s.Live().Turn
		if err := s.MeasureAll(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("measuring laptops by baselines", "error", err)
		}
		last = time.Now()
		next = last.Add(measureShare * last.Sub(began))
	}
}
