// This file reads what was recorded: the overview, objects with their versions, publications, the
// audit log.

package workflow

import (
	"context"
	"errors"
	"slices"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// Overview counts what needs a person.
type Overview struct {
	Revision                         int64
	Units, People, Devices, Policies int
	Conflicts                        []resolve.ConflictFound
	Problems                         []resolve.ProblemFound
	Lints                            []outcome.Lint
	Arisen                           []ConflictEvent
	OpenChanges                      []store.Change
	Enrolled, Silent, NeverSeen      int
	Failed                           []store.FailedDelivery
	Below                            []BaselineRow          // baselines with which too few laptops comply
	Fights                           []Fight                // settings that another program sets, too
	Statuses                         map[rollout.Status]int // of deliveries
	Lapsing                          []estate.Exception     // exceptions that end within two weeks
	Publications                     []store.Publication
	Asked, Left, Missed              int
	DetachDue                        []DetachedPlace // whose day of review has come
	Waiting, FailedRuns              []string
}

// lapseSoon is how many days before its end an exception is called about to lapse.
const lapseSoon = LapseSoon

// Overview looks at everything once.
func (s *Service) Overview(ctx context.Context, by Actor) (*Overview, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	snapshot := live.Plan.Snapshot()
	o := &Overview{
		Revision:  live.Revision,
		Units:     len(snapshot.Units),
		People:    len(snapshot.People),
		Devices:   len(snapshot.Devices),
		Policies:  len(snapshot.Policies),
		Conflicts: live.Resolution.Conflicts(),
		Problems:  live.Resolution.Problems(),
		Statuses:  map[rollout.Status]int{},
	}
	var err error
	if o.Lints, err = s.Lints(ctx, by); err != nil {
		return nil, err
	}
	rows, err := s.DeviceRows(ctx, by)
	if err != nil {
		return nil, err
	}
	now := s.now()
	for i := range rows {
		if rows[i].Enrolled {
			o.Enrolled++
		}
		if rows[i].LastSeen == nil {
			o.NeverSeen++
		}
		if rows[i].Silent(now) {
			o.Silent++
		}
		for status, n := range rows[i].Counts {
			o.Statuses[status] += n
		}
	}
	for _, x := range snapshot.Exceptions {
		if x.CountsOn(snapshot.Day) && x.Until <= daysAfter(snapshot.Day, lapseSoon) {
			o.Lapsing = append(o.Lapsing, x)
		}
	}
	if err := s.overlookNothing(ctx, by, o); err != nil {
		return nil, err
	}
	if o.Fights, err = s.fights(ctx, by, store.DriftFilter{}); err != nil {
		return nil, err
	}
	baselines, err := s.Baselines(ctx, by)
	if err != nil {
		return nil, err
	}
	o.Below = slices.DeleteFunc(baselines, func(r BaselineRow) bool { return !r.Below })
	var errs [4]error
	o.OpenChanges, errs[0] = s.store.In(ctx).Changes(Open)
	o.Failed, errs[1] = s.store.In(ctx).Failed(200)
	o.Failed = slices.DeleteFunc(o.Failed, func(f store.FailedDelivery) bool { return live.Plan.Device(estate.DeviceID(f.Device)) == nil })
	o.Publications, errs[2] = s.store.In(ctx).Publications(0, 8)
	o.Arisen, errs[3] = s.Arisen(ctx, by)
	return o, errors.Join(errs[:]...)
}

// overlookNothing counts what waits for a person besides changes and laptops.
func (s *Service) overlookNothing(ctx context.Context, by Actor, o *Overview) error {
	asked, err := s.Requests(ctx, by, Asked)
	if err != nil {
		return err
	}
	left, err := s.store.In(ctx).LeftRecords("")
	if err != nil {
		return err
	}
	places, err := s.Detached(ctx, by)
	if err != nil {
		return err
	}
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		return err
	}
	o.Asked = len(asked)
	for _, p := range places {
		o.Missed += len(p.Missed)
		if len(p.Due) > 0 {
			o.DetachDue = append(o.DetachDue, p)
		}
	}
	if !by.Held.Everywhere.Has(access.Read) {
		return nil // sources concern everybody
	}
	o.Left = len(left)
	for _, row := range rows {
		if r := s.runOf(row.ID); r != nil && r.State().State == RunWaiting {
			o.Waiting = append(o.Waiting, row.ID)
		}
		runs, err := s.store.In(ctx).Runs(row.ID, 1)
		if err != nil {
			return err
		}
		if len(runs) > 0 && runs[0].State == RunFailed {
			o.FailedRuns = append(o.FailedRuns, row.ID)
		}
	}
	return nil
}

func daysAfter(day estate.Date, days int) estate.Date {
	at, err := time.Parse(time.DateOnly, string(day))
	if err != nil {
		return day
	}
	return estate.Date(at.AddDate(0, 0, days).Format(time.DateOnly))
}

// Lints gives the lints of the live estate.
func (s *Service) Lints(ctx context.Context, by Actor) ([]outcome.Lint, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	live.lintsOnce.Do(func() { live.lints = live.Plan.Lints() })
	return live.lints, nil
}

// Versions gives every published version of an object, the newest first.
func (s *liveEstate) Versions(ctx context.Context, by Actor, kind estate.Kind, id string) ([]store.ObjectVersion, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	if !s.sees(by, kind, id) {
		return nil, &NotFoundError{string(kind), id}
	}
	versions, err := s.store.In(ctx).Versions(string(kind), id)
	if err != nil {
		return nil, err
	}
	if len(versions) == 0 {
		return nil, &NotFoundError{string(kind), id}
	}
	for i := range versions {
		if versions[i].Body, err = s.seenBody(by, kind, versions[i].Body); err != nil {
			return nil, err
		}
	}
	return versions, nil
}

// Object gives a live object's JSON in the estate format, with its version, as far as somebody sees
// it.
func (s *liveEstate) Object(ctx context.Context, by Actor, kind estate.Kind, id string) (body string, version int64, err error) {
	if err := by.Need(access.Read); err != nil {
		return "", 0, err
	}
	if !s.sees(by, kind, id) {
		return "", 0, &NotFoundError{string(kind), id}
	}
	if body, version, err = s.object(ctx, kind, id); err != nil {
		return "", 0, err
	}
	body, err = s.seenBody(by, kind, body)
	return body, version, err
}

// Object gives an object as a view has it, in the estate format, with its version.
func (v View) Object(kind estate.Kind, id string) (body string, version int64, err error) {
	object := v.Plan.Snapshot().Object(kind, id)
	if object == nil {
		return "", 0, &NotFoundError{string(kind), id}
	}
	data, err := files.EncodeJSON(object)
	return string(data), v.Live.Version(kind, id), err
}

// object gives a live object. What was published is read by its key; what is live without having
// been published, shipped definitions and checks, is looked for.
func (s *liveEstate) object(ctx context.Context, kind estate.Kind, id string) (body string, version int64, err error) {
	live := s.Live()
	key := objectKey{kind, id}
	// The store has it as it is without the rollout, and without what its laptop says was taken.
	if _, found := live.rollingEdit(key); found || live.told.has(key) {
		return View{live.Side, live}.Object(kind, id)
	}
	if live.imported.has(key) {
		r, err := s.store.In(ctx).RecordOf(string(kind), id)
		if err != nil {
			return "", 0, err
		}
		var o store.Object
		if live.versions.of(key) > 0 {
			if o, err = s.store.In(ctx).Object(string(kind), id); err != nil {
				return "", 0, err
			}
		}
		body, err := compose(r.Brought, o.Body, o.Local)
		return body, live.Version(kind, id), err
	}
	if live.versions.of(key) > 0 {
		o, err := s.store.In(ctx).Object(string(kind), id)
		return o.Body, o.Version, err
	}
	if kind == estate.KindSetting || kind == estate.KindCheck || live.Revision == 0 {
		for _, o := range files.AllObjects(live.Plan.Snapshot(), kind) {
			if files.ObjectID(o) == id {
				data, err := files.EncodeJSON(o)
				return string(data), 0, err
			}
		}
	}
	return "", 0, &NotFoundError{string(kind), id}
}

// Publications lists publications, the newest first.
func (s *Service) Publications(ctx context.Context, by Actor, below int64, most int) ([]store.Publication, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.store.In(ctx).Publications(below, most)
}

// AuditRecords lists the audit log, the newest first.
func (s *Service) AuditRecords(ctx context.Context, by Actor, f store.AuditFilter, most int) ([]store.AuditRecord, error) {
	if err := by.Need(access.Audit); err != nil {
		return nil, err
	}
	return s.store.In(ctx).AuditRecords(f, most)
}

// Accounts lists those who may sign in.
func (s *Service) Accounts(ctx context.Context, by Actor) ([]store.Account, error) {
	if err := by.Need(access.Accounts); err != nil {
		return nil, err
	}
	return s.store.In(ctx).Accounts()
}

// Record appends to the audit log what was done elsewhere than in a use case of its own.
func (s *Service) Record(ctx context.Context, by Actor, action, after string) error {
	return s.audit(s.store.In(ctx), by, store.AuditRecord{Action: action, After: after})
}
