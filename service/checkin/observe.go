// This file asks a laptop for everything that it has, settings that nothing manages included: what a policy can be captured from.

package checkin

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/workflow"
)

// AskEverything has a laptop asked at its next check-in. A restart of the service forgets it.
func (d *Desk) AskEverything(device string) error {
	if d.flow.Live().Plan.Device(estate.DeviceID(device)) == nil {
		return &workflow.NotFoundError{Kind: "device", ID: device}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asking[device] = true
	return nil
}

// asks tells whether a device is asked for everything.
func (d *Desk) asks(device string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asking[device]
}

// everything gives the settings that a laptop is to be asked for besides those that are managed; none when nobody wants to know.
func (s *session) everything() []setting.ID {
	d := s.desk
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
func (s *session) observed() error {
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
	s.desk.mu.Lock()
	delete(s.desk.asking, s.device)
	s.desk.mu.Unlock()
	if err := s.desk.store.SaveObservations(s.device, values, s.desk.now()); err != nil {
		return err
	}
	s.desk.flow.Notify(workflow.Event{Topic: "device", ID: s.device})
	return nil
}
