// This file finds laptops that were retired and of which keys are kept: their disks may hold what the company needs.

package workflow

import (
	"context"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/files"
)

// retiredLaptops is the laptops that were retired and of which keys are kept, as they were published last.
type retiredLaptops struct {
	revision int64 // of the estate from which they are missing
	known    bool
	list     []*estate.Device // in the order of their ids
}

// retired gives the laptops that were retired and of which keys are kept. They are read once after each publication.
func (s *RecoveryService) retired(ctx context.Context, live *Live) ([]*estate.Device, error) {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	if err := s.loadKeys(ctx); err != nil {
		return nil, err
	}
	if is := &s.index.retired; is.known && is.revision == live.Revision {
		return is.list, nil
	}
	var ids []string
	for id, is := range s.index.of {
		if len(is.keys) > 0 && live.Plan.Device(estate.DeviceID(id)) == nil {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	bodies, err := s.store.In(ctx).LastBodies(string(estate.KindDevice), ids)
	if err != nil {
		return nil, err
	}
	list := make([]*estate.Device, 0, len(ids))
	for _, id := range ids {
		d := estate.Device{ID: estate.DeviceID(id)}
		if body := bodies[id]; body != "" {
			object, _, err := files.DecodeJSON(estate.KindDevice, []byte(body))
			if err != nil {
				return nil, fmt.Errorf("reading the last version of %s: %w", id, err)
			}
			d = object.(estate.Device)
		}
		list = append(list, &d)
	}
	s.index.retired = retiredLaptops{live.Revision, true, list}
	return list, nil
}

// laptopOf gives a laptop of the estate, or one that was retired and of which keys are kept. The latter is in no unit: it
// is for those alone who may see keys everywhere. nil: there is none, or not for them.
func (s *RecoveryService) laptopOf(ctx context.Context, by Actor, live *Live, id string) (*estate.Device, error) {
	if d := live.Plan.Device(estate.DeviceID(id)); d != nil {
		return d, nil
	}
	if !by.Held.Everywhere.Has(access.RecoveryKeys) {
		return nil, nil
	}
	list, err := s.retired(ctx, live)
	at := slices.IndexFunc(list, func(d *estate.Device) bool { return string(d.ID) == id })
	if at < 0 {
		return nil, err
	}
	return list[at], nil
}

// isRetired tells whether a laptop is not in the estate any more.
func isRetired(live *Live, id estate.DeviceID) bool { return live.Plan.Device(id) == nil }
