// This file tells what was altered on laptops, and which settings are fought over.

package workflow

import (
	"context"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/service/store"
)

// FoughtOver is how often a setting must have been put right on one laptop within a day for another program to be
// suspected.
const FoughtOver = 3

// Fight is a setting that is put right on laptops again and again.
type Fight struct {
	Setting  string
	Policies []string // that decided it
	Devices  []string // the one on which it was put right most often first
	Times    int      // on all of them, within a day
}

// Drift is what was altered on laptops.
type Drift struct {
	Records []store.Drift // the newest first
	Fights  []Fight       // the worst first
}

const driftLooked = 5000 // pairs of laptop and setting that are looked at for fights

// Drift tells what was altered on laptops, as far as somebody sees them.
func (s *LaptopService) Drift(ctx context.Context, by Actor, f store.DriftFilter, most int) (*Drift, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if f.Device != "" && !s.sees(by, estate.KindDevice, f.Device) {
		return nil, &NotFoundError{"device", f.Device}
	}
	hidden := func(device string) bool { return !s.sees(by, estate.KindDevice, device) }
	out := &Drift{}
	var err error
	if out.Records, err = s.store.In(ctx).Drifts(f, most); err != nil {
		return nil, err
	}
	out.Records = slices.DeleteFunc(out.Records, func(d store.Drift) bool { return hidden(d.Device) })
	out.Fights, err = s.fights(ctx, by, f)
	return out, err
}

// fights lists the settings that were put right more than FoughtOver times on a laptop within the last day.
func (s *LaptopService) fights(ctx context.Context, by Actor, f store.DriftFilter) ([]Fight, error) {
	f.Since = s.now().Add(-24 * time.Hour)
	counts, err := s.store.In(ctx).DriftCounts(f, driftLooked)
	if err != nil {
		return nil, err
	}
	var out []Fight
	at := map[string]int{}
	for _, c := range counts {
		if c.Repaired <= FoughtOver || !s.sees(by, estate.KindDevice, c.Device) {
			continue
		}
		i, known := at[c.Setting]
		if !known {
			i = len(out)
			at[c.Setting] = i
			out = append(out, Fight{Setting: c.Setting, Policies: strings.Fields(c.Policies)})
		}
		out[i].Devices = append(out[i].Devices, c.Device)
		out[i].Times += c.Repaired
	}
	slices.SortStableFunc(out, func(a, b Fight) int { return b.Times - a.Times })
	return out, nil
}
