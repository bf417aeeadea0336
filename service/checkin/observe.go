// This file asks a laptop for everything that it has, settings that nothing manages included: what
// a policy can be captured from.

package checkin

import (
	"context"

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
func (s *session) everything() []setting.ID {
	d := s.server
	d.mu.Lock()
	wanted := d.asking[s.device]
	d.mu.Unlock()
	plan := d.flow.Live().Plan
	device := plan.Device(estate.DeviceID(s.device))
	if !wanted || device == nil {
		return nil
	}
	var ids []setting.ID
	for _, def := range plan.Search("") {
		if _, managed := s.deliveries[def.ID]; !managed && def.SupportOn(device.OS, device.OSVersion, device.Edition) == setting.Supported {
			ids = append(ids, def.ID)
		}
	}
	return ids
}

// observed writes down what the laptop said of the settings that nothing manages.
func (s *session) observed(ctx context.Context) error {
	if s.extra == nil {
		return nil
	}
	values := map[setting.ID]setting.Value{}
	for _, id := range s.extra {
		if v, answered := s.reported(id); answered && !v.IsNothing() {
			values[id] = v
		}
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
