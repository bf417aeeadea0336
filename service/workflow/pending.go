// This file counts what is on its way to laptops. Nothing is written for a laptop when something is
// published: its deliveries say what was wanted when it last checked in. What is wanted otherwise
// since is added to the counts from the turns of what is live.

package workflow

import (
	"context"
	"maps"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
)

// Delivered notes that the deliveries of a laptop are up to date with what was live at a turn.
func (s *LaptopService) Delivered(device string, number int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.delivered[device] = number
}

// since gives the turns of what is live after a laptop's deliveries were last brought up to date.
// Of a laptop that has not checked in since the service started these are all that are known.
func (s *LaptopService) since(device string) []turn {
	s.mu.Lock()
	defer s.mu.Unlock()
	return turnsFrom(s.turns, s.delivered[device])
}

// turnsFrom gives the turns from a number on.
func turnsFrom(turns []turn, number int64) []turn {
	for i := range turns {
		if turns[i].number >= number {
			return turns[i:]
		}
	}
	return nil
}

// pending gives a laptop's deliveries as they are with what is wanted now: what altered since it
// checked in is pending.
func (s *LaptopService) pending(live *Live, device string, known map[setting.ID]rollout.Delivery) (map[setting.ID]rollout.Delivery, error) {
	r, err := s.PlanFor(live, device).Reasons(estate.DeviceID(device), "")
	if err != nil {
		return nil, err
	}
	at := s.now()
	for _, t := range s.since(device) {
		if t.devices.On(live.Plan).Has(estate.DeviceID(device)) {
			at = t.at
		}
	}
	all, _ := Wanted(r, known, at)
	return all, nil
}

// alterations are how a setting altered for some laptops over some turns, the oldest first.
type alterations []struct {
	number int64 // of the turn
	*resolve.Alteration
}

// addPending adds to the counts what is wanted otherwise since each laptop checked in. It costs as
// much as the turns altered.
func (s *LaptopService) addPending(ctx context.Context, b *laptopStates) error {
	live := s.Live()
	s.mu.Lock()
	turns := s.turns[:len(s.turns):len(s.turns)]
	delivered := maps.Clone(s.delivered)
	s.mu.Unlock()
	bySetting := map[setting.ID]alterations{}
	for i := range turns {
		for j := range turns[i].altered {
			a := &turns[i].altered[j]
			bySetting[a.Setting] = append(bySetting[a.Setting], struct {
				number int64
				*resolve.Alteration
			}{turns[i].number, a})
		}
	}
	if len(bySetting) == 0 {
		return nil
	}
	open, err := s.store.In(ctx).OpenDeliveries()
	if err != nil {
		return err
	}
	behind := func(device string, number int64) bool {
		return b.laptops[device].EnrolledAt != nil && b.counts[device] != nil && delivered[device] <= number
	}
	for id, list := range bySetting {
		move := func(device string, from, to outcome.State) {
			if from.Equal(to) {
				return
			}
			was, known := open[device][string(id)]
			if !known {
				was = inOrder(from)
			}
			is := nextStatus(to, was)
			if counts := b.counts[device]; was != is {
				if counts[was] > 0 {
					counts[was]--
				}
				if is != "" {
					counts[is]++
				}
			}
		}
		type span struct{ from, to outcome.State }
		spans := map[string]span{}
		for _, a := range list {
			for d := range a.Devices.On(live.Plan).Each {
				device := string(d)
				if !behind(device, a.number) {
					continue
				}
				sp, seen := spans[device]
				if !seen {
					sp.from = a.From
				}
				sp.to = a.To
				spans[device] = sp
			}
		}
		for device, sp := range spans {
			move(device, sp.from, sp.to)
		}
	}
	return nil
}

// inOrder gives the status of a delivery that the laptop has as it was decided; empty where nothing
// was wanted.
func inOrder(decided outcome.State) rollout.Status {
	switch decided.Status {
	case outcome.Conflict:
		return rollout.Conflict
	case outcome.Unsupported:
		return rollout.Unsupported
	case outcome.Set:
		return rollout.Applied
	}
	return ""
}

// nextStatus gives the status of a delivery once it is decided otherwise; was is its status before.
func nextStatus(decided outcome.State, was rollout.Status) rollout.Status {
	switch is := inOrder(decided); {
	case is == rollout.Applied:
		return rollout.Pending
	case is == "" && (was == rollout.Applied || was == rollout.Pending || was == rollout.Failed): // it is to be taken off the laptop
		return rollout.Pending
	default:
		return is
	}
}
