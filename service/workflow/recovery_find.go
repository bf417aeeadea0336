// This file finds the laptop that somebody calls about.

package workflow

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
)

// KeySearch says which laptop is looked for. What is empty does not count; all that is given has to fit.
type KeySearch struct {
	Serial     string // as it is read from the label; a question mark stands for what cannot be read
	Owner      string // a part of the name or id of who owns or uses it
	Identifier string // that the locked screen shows; a question mark stands for a digit that cannot be read
	Device     string // its id
}

// FoundLaptop is a laptop that may be the one that is looked for.
type FoundLaptop struct {
	Device  *estate.Device
	Unit    estate.UnitID
	Match   recovery.Match // of its serial number
	Volumes []recovery.Volume
	Keys    []recovery.Held // current ones, without identifiers
	Retired bool            // it is told as it was published last
}

const (
	foundMost  = 20
	mostUnread = 2 // digits of an identifier
	leastName  = 2 // bytes of a name
)

// FindKeys finds laptops among those whose keys somebody may see, the most likely first. The identifiers of keys are not
// told.
func (s *RecoveryService) FindKeys(ctx context.Context, by Actor, q KeySearch) ([]FoundLaptop, error) {
	if err := by.NeedSomewhere(access.RecoveryKeys); err != nil {
		return nil, err
	}
	live := s.Live()
	s.index.mu.Lock()
	err := s.loadKeys(ctx)
	s.index.mu.Unlock()
	if err != nil {
		return nil, err
	}
	identified, err := s.identified(ctx, q.Identifier)
	if err != nil {
		return nil, err
	}
	fits := s.keyFilter(live, by, q, identified)
	var devices []*estate.Device
	for _, d := range live.Plan.Snapshot().Devices {
		if fits(d) {
			devices = append(devices, d)
			if q.Serial == "" && len(devices) == foundMost {
				break
			}
		}
	}
	if by.Held.Everywhere.Has(access.RecoveryKeys) {
		retired, err := s.retired(ctx, live)
		if err != nil {
			return nil, err
		}
		devices = append(devices, slices.DeleteFunc(slices.Clone(retired), func(d *estate.Device) bool { return !fits(d) })...)
		if q.Serial == "" {
			devices = devices[:min(len(devices), foundMost)]
		}
	}
	found := make([]FoundLaptop, 0, min(len(devices), foundMost))
	if q.Serial != "" {
		serials := make([]string, len(devices))
		for i, d := range devices {
			serials[i] = d.Serial
		}
		for _, m := range recovery.Similar(q.Serial, serials) {
			found = append(found, FoundLaptop{Device: devices[m.At], Match: m})
		}
	} else {
		for _, d := range devices {
			found = append(found, FoundLaptop{Device: d})
		}
	}
	for i := range found {
		f := &found[i]
		f.Unit, f.Retired = live.Plan.HomeUnit(f.Device.ID), isRetired(live, f.Device.ID)
		is, err := s.keysOf(ctx, string(f.Device.ID))
		if err != nil {
			return nil, err
		}
		f.Volumes = slices.Clone(is.volumes)
		for j := range f.Volumes {
			f.Volumes[j].Identifier = ""
		}
		for _, k := range is.keys {
			if k.State == recovery.Current {
				k.Identifier = ""
				f.Keys = append(f.Keys, k)
			}
		}
	}
	return found, nil
}

// keyFilter tells of laptops whether they fit everything but the serial number, and whether somebody may see their keys.
func (s *RecoveryService) keyFilter(live *Live, by Actor, q KeySearch, identified map[string]bool) func(*estate.Device) bool {
	people := map[estate.PersonID]bool{}
	if owner := strings.ToLower(strings.TrimSpace(q.Owner)); owner != "" {
		for _, p := range live.Plan.Snapshot().People {
			if len(owner) >= leastName && (strings.Contains(strings.ToLower(p.Name), owner) ||
				strings.Contains(strings.ToLower(string(p.ID)), owner)) {
				people[p.ID] = true
			}
		}
	}
	everywhere := by.Held.Everywhere.Has(access.RecoveryKeys)
	return func(d *estate.Device) bool {
		switch {
		case q.Device != "" && !strings.EqualFold(string(d.ID), strings.TrimSpace(q.Device)),
			q.Owner != "" && !people[d.Owner] && !slices.ContainsFunc(d.Users, func(u estate.PersonID) bool { return people[u] }),
			q.Identifier != "" && !identified[string(d.ID)],
			q == KeySearch{}:
			return false
		}
		return everywhere || by.Held.For(access.RecoveryKeys, live.Plan.HomeUnits(d.ID))
	}
}

// identified gives the laptops that have a key with an identifier, an earlier one included. Two digits may be question
// marks: with more, somebody could find identifiers out that nobody read to them.
func (s *RecoveryService) identified(ctx context.Context, text string) (map[string]bool, error) {
	out := map[string]bool{}
	if text == "" {
		return out, nil
	}
	asked, err := recovery.ParsePattern(text)
	if err != nil || asked.Unread() > mostUnread {
		return nil, problem.Faults{{
			Code: problem.PatternMismatch, Path: "/identifier", Found: problem.Quote(text),
			Expected: fmt.Sprintf("the 12 digits that the locked screen shows; a question mark for each that nobody can read, at most %d",
				mostUnread),
		}}
	}
	if asked.Unread() == 0 {
		keys, err := s.store.In(ctx).RecoveryKeysNamed(recovery.Identifier(asked))
		for _, k := range keys {
			out[k.Device] = true
		}
		return out, err
	}
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	for device, is := range s.index.of {
		for _, k := range is.keys {
			if asked.Fits(k.Identifier) {
				out[device] = true
			}
		}
	}
	return out, nil
}
