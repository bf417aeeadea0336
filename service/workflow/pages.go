// This file has all that is known of one device, and of one person.

package workflow

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// DevicePage is all that is known of one device.
type DevicePage struct {
	Row        DeviceRow
	Result     *outcome.Result
	Deliveries map[setting.ID]rollout.Delivery
	CheckIns   []store.CheckIn
	Groups     []resolve.Membership
	Exceptions []Exceptional
	Baselines  []store.BaselineState // that it is in, and how it stands to each
	Drift      []store.Drift         // what was altered on it, the newest first
	Offers     []OfferView           // policies that are offered on it, by id
	Tells      bool                  // it says itself what was taken on it
	History    []store.SourceEvent
	Brings     []string // fields that its source brings
	Local      []string // of those, the ones that are edited here
}

// Device gives a device with what it gets, what it reported and when it checked in.
func (s *LaptopService) Device(ctx context.Context, by Actor, id string) (DevicePage, error) {
	if err := by.Need(access.Read); err != nil {
		return DevicePage{}, err
	}
	states, err := s.states(ctx)
	if err != nil {
		return DevicePage{}, err
	}
	live := s.seenLive(by)
	if live.Plan.Device(estate.DeviceID(id)) == nil {
		return DevicePage{}, &NotFoundError{"device", id}
	}
	page := DevicePage{Row: live.row(id, states)}
	if page.Result, err = s.PlanFor(live, id).Effective(estate.DeviceID(id), ""); err != nil {
		return page, err
	}
	if page.Deliveries, err = s.store.In(ctx).Deliveries(id); err != nil {
		return page, err
	}
	if page.Row.Enrolled {
		if page.Deliveries, err = s.pending(s.Live(), id, page.Deliveries); err != nil {
			return page, err
		}
	}
	page.Tells = live.told.of(objectKey{estate.KindDevice, id}).Chooses
	if page.Offers, err = s.offersOn(ctx, live, id); err != nil {
		return page, err
	}
	if page.Drift, err = s.store.In(ctx).Drifts(store.DriftFilter{Device: id}, historyShown); err != nil {
		return page, err
	}
	if page.Baselines, err = s.store.In(ctx).BaselineStates("", id); err != nil {
		return page, err
	}
	if page.CheckIns, err = s.store.In(ctx).CheckIns(id, 50); err != nil {
		return page, err
	}
	page.Groups = live.Plan.Memberships(estate.DeviceID(id))
	for _, x := range (View{live.Side, live}).Exceptions() {
		if x.Days >= 0 && live.Plan.Matches(x.Target, estate.DeviceID(id)) {
			page.Exceptions = append(page.Exceptions, x)
		}
	}
	if page.History, err = s.store.In(ctx).Events(string(estate.KindDevice), id, historyShown); err != nil {
		return page, err
	}
	page.Brings, page.Local, err = s.fieldsImported(ctx, live, objectKey{estate.KindDevice, id})
	return page, err
}

// historyShown is how much of what sources did to an object is shown.
const historyShown = 50

// fieldsImported lists the fields of an object that its source brings, and those of them that are
// edited here.
func (s *LaptopService) fieldsImported(ctx context.Context, live *Live, key objectKey) (brings, local []string, err error) {
	if !live.imported.has(key) {
		return nil, nil, nil
	}
	record, err := s.store.In(ctx).RecordOf(string(key.kind), key.id)
	if err != nil {
		return nil, nil, err
	}
	all, err := files.AlteredFields(nil, []byte(record.Brought))
	if err != nil {
		return nil, nil, err
	}
	for _, f := range all {
		if f.Field != "id" {
			brings = append(brings, f.Field)
		}
	}
	if e, found := live.rollingEdit(key); found {
		local = localFields(e.Local)
	} else if live.versions.of(key) > 0 {
		o, err := s.store.In(ctx).Object(string(key.kind), key.id)
		if err != nil {
			return nil, nil, err
		}
		local = localFields(o.Local)
	}
	return brings, local, nil
}

// PersonPage is all that is known of one person.
type PersonPage struct {
	Person        *estate.Person
	Units         []string
	Groups        []resolve.Membership
	Devices       []DeviceRow
	History       []store.SourceEvent
	Origin        *Origin
	Brings, Local []string
}

// Person gives a person with groups and laptops.
func (s *LaptopService) Person(ctx context.Context, by Actor, id string) (PersonPage, error) {
	if err := by.Need(access.Read); err != nil {
		return PersonPage{}, err
	}
	live := s.seenLive(by)
	snapshot := live.Plan.Snapshot()
	p := live.person(id)
	if p == nil {
		return PersonPage{}, &NotFoundError{"person", id}
	}
	states, err := s.states(ctx)
	if err != nil {
		return PersonPage{}, err
	}
	out := PersonPage{Person: p, Units: live.Plan.UnitPaths()[p.Unit], Groups: live.Plan.PersonMemberships(p.ID)}
	for i := range snapshot.Devices {
		if d := snapshot.Devices[i]; d.Owner == p.ID || slices.Contains(d.Users, p.ID) {
			out.Devices = append(out.Devices, live.row(string(d.ID), states))
		}
	}
	key := objectKey{estate.KindPerson, id}
	if o, imported := live.imported.at(key); imported {
		out.Origin = &o
	}
	if out.History, err = s.store.In(ctx).Events(string(estate.KindPerson), id, historyShown); err != nil {
		return out, err
	}
	out.Brings, out.Local, err = s.fieldsImported(ctx, live, key)
	return out, err
}

// OriginOf says which source has an object; nil where none has.
func (s *liveEstate) OriginOf(kind estate.Kind, id string) *Origin {
	if o, imported := s.Live().imported.at(objectKey{kind, id}); imported {
		return &o
	}
	return nil
}

// MayTouch gives an error where somebody may not do something with a laptop, or where there is no such
// laptop.
func (s *LaptopService) MayTouch(_ context.Context, by Actor, right access.Right, id string) error {
	if err := by.NeedSomewhere(right); err != nil {
		return err
	}
	live := s.Live()
	if live.Plan.Device(estate.DeviceID(id)) == nil {
		return &NotFoundError{"device", id}
	}
	return s.mayTouch(by, right, live, estate.DeviceID(id))
}

// RetryFailed lets what failed on a laptop be tried again at its next check-in, and tells how much that is.
func RetryFailed(tx *store.Store, device string) (again int, err error) {
	known, err := tx.Deliveries(device)
	if err != nil {
		return 0, err
	}
	var retried []rollout.Delivery
	for _, d := range known {
		if d.Status == rollout.Failed {
			retried = append(retried, d.Retry())
		}
	}
	return len(retried), tx.SaveDeliveries(device, retried)
}

// Retry asks that what failed on a device is tried again at its next check-in.
func (s *LaptopService) Retry(ctx context.Context, by Actor, id string) (int, error) {
	if err := s.MayTouch(ctx, by, access.Devices, id); err != nil {
		return 0, err
	}
	again := 0
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		var err error
		if again, err = RetryFailed(tx, id); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "retry failed settings", Kind: string(estate.KindDevice), ObjectID: id})
	})
	s.Notify(Event{Topic: "device", ID: id})
	return again, err
}
