// This file asks a laptop for everything that it has, settings that nothing manages included: what
// a policy can be captured from.

package checkin

import (
	"context"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/workflow"
)

// AskEverything has a laptop asked at its next check-in. A restart of the service forgets it.
func (d *Server) AskEverything(ctx context.Context, by workflow.Actor, device string) error {
	if err := by.Need(access.Devices); err != nil {
		return err
	}
	if d.flow.Live().Plan.Device(estate.DeviceID(device)) == nil {
		return &workflow.NotFoundError{Kind: "device", ID: device}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asking[device] = true
	return nil
}

// asks tells whether a device is asked for everything.
func (d *Server) asks(device string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asking[device]
}

// everything gives the settings that a laptop is to be asked for besides those that are managed;
// none when nobody wants to know.
func (s *session) everything(ctx context.Context) []setting.ID {
	d := s.server
	d.mu.Lock()
	wanted := d.asking[s.device]
	d.mu.Unlock()
	plan := d.flow.Live().Plan
	device := plan.Device(estate.DeviceID(s.device))
	if !wanted || device == nil {
		return s.forBaselines(ctx)
	}
	var ids []setting.ID
	for _, def := range plan.Search("") {
		if _, managed := s.deliveries[def.ID]; !managed && def.SupportOn(device.OS, device.OSVersion, device.Edition) == setting.Supported {
			ids = append(ids, def.ID)
		}
	}
	return ids
}

// observeEach is how often a laptop is asked for what baselines want to know.
const observeEach = 24 * time.Hour

// forBaselines gives the settings that baselines want to know of a laptop and that nothing manages, once a day and when
// baselines altered. A restart of the service forgets when it was asked.
func (s *session) forBaselines(ctx context.Context) (ids []setting.ID) {
	d := s.server
	since := d.flow.BaselinesAltered()
	d.mu.Lock()
	was := d.observedAt[s.device]
	d.mu.Unlock()
	now := d.clock()
	if was.turn >= since && now.Sub(was.at) < observeEach {
		return nil
	}
	wanted := d.flow.Unreported(s.live, s.device)
	if len(wanted) > 0 {
		if s.load(ctx) != nil {
			return nil // the next session asks
		}
		for _, id := range wanted {
			if _, managed := s.deliveries[id]; !managed {
				ids = append(ids, id)
			}
		}
	}
	s.forBaseline = len(ids) > 0
	d.mu.Lock()
	d.observedAt[s.device] = observation{since, now}
	d.mu.Unlock()
	return ids
}

// observation is when a laptop was asked for what baselines want to know, and the turn at which they had altered last.
type observation struct {
	turn int64
	at   time.Time
}

// observed writes down what the laptop said of the settings that nothing manages.
func (s *session) observed(ctx context.Context) error {
	if s.extra == nil {
		return nil
	}
	values := map[setting.ID]setting.Value{}
	for _, id := range s.extra {
		if v, answered := s.reported(id); answered && (!v.IsNothing() || s.forBaseline) {
			values[id] = v
		}
	}
	if s.forBaseline {
		s.extra, s.forBaseline, s.measured = nil, false, true
		return s.server.store.In(ctx).AddObservations(s.device, values, s.server.clock())
	}
	s.extra = nil
	s.server.mu.Lock()
	delete(s.server.asking, s.device)
	s.server.mu.Unlock()
	if err := s.server.store.In(ctx).SaveObservations(s.device, values, s.server.clock()); err != nil {
		return err
	}
	s.server.flow.Notify(workflow.Event{Topic: "device", ID: s.device})
	return nil
}
