// This file watches on disagreement: when what is live alters, whether by an edit, by a source or
// because the day has changed, conflicts that begin and end are recorded with what caused them.

package workflow

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// ConflictService has the use cases of conflicts and problems: ways to settle them, their history,
// questions about them, exceptions.
type ConflictService struct {
	*liveEstate
	changes *ChangeService
}

// conflictSample is how many laptops of a conflict are recorded by name.
const conflictSample = 10

// arisenFor is how long a conflict that arose without an edit is shown as news.
const arisenFor = 14 * 24 * time.Hour

// ConflictDevice is a laptop on which a conflict began, with what altered about it.
type ConflictDevice struct {
	ID     string         `json:"id"`
	Causes []review.Cause `json:"causes,omitempty"`
}

// ConflictEvent is the beginning or end of a conflict on some laptops.
type ConflictEvent struct {
	store.ConflictEvent
	Setting  setting.ID
	Policies []string
	Sample   []ConflictDevice
	Current  bool // the conflict exists today
}

// conflictEvents gives the records of the conflicts that begin and end when what is live alters.
func conflictEvents(before, after impact.Side, report *impact.Report, p store.Publication) (out []store.ConflictEvent) {
	if report == nil || len(report.ConflictsGained)+len(report.ConflictsCleared) == 0 {
		return nil
	}
	had, has := conflictKeys(before.Resolution), conflictKeys(after.Resolution)
	add := func(list []resolve.ConflictFound, gained bool, there map[conflictKey]bool) {
		for i := range list {
			c := &list[i]
			var sample []ConflictDevice
			for _, id := range c.Devices.First(conflictSample) {
				sample = append(sample, ConflictDevice{string(id), review.Causes(before.Plan, after.Plan, id)})
			}
			text, _ := json.Marshal(sample) // ids and words always have a JSON form
			out = append(out, store.ConflictEvent{
				At:       p.At,
				Setting:  string(c.Setting),
				Policies: strings.Join(c.Policies, " "),
				Gained:   gained,
				Fresh:    !there[keyOfConflict(c)],
				Revision: p.Revision,
				ChangeID: p.ChangeID,
				Title:    p.Title,
				By:       p.By,
				Devices:  c.Devices.Len(),
				Sample:   string(text),
			})
		}
	}
	add(report.ConflictsCleared, false, has)
	add(report.ConflictsGained, true, had)
	return out
}

type conflictKey struct{ setting, policies string }

func keyOfConflict(c *resolve.ConflictFound) conflictKey {
	return conflictKey{string(c.Setting), strings.Join(c.Policies, " ")}
}

func conflictKeys(w *resolve.EstateResolution) map[conflictKey]bool {
	out := map[conflictKey]bool{}
	for _, c := range w.ConflictList() {
		out[keyOfConflict(&c)] = true
	}
	return out
}

// ConflictEvents lists what is recorded since a time, the newest first; of one setting where it is
// named.
func (s *ConflictService) ConflictEvents(ctx context.Context, by Actor, since time.Time, id setting.ID, most int) ([]ConflictEvent, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).ConflictEvents(since, string(id), most)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(row store.ConflictEvent) bool { return !s.seesPolicies(by, strings.Fields(row.Policies)) })
	live := s.seenLive(by)
	standing := conflictKeys(live.Resolution)
	out := make([]ConflictEvent, len(rows))
	for i, row := range rows {
		out[i] = ConflictEvent{
			ConflictEvent: row,
			Setting:       setting.ID(row.Setting),
			Policies:      strings.Fields(row.Policies),
			Current:       standing[conflictKey{row.Setting, row.Policies}],
		}
		json.Unmarshal([]byte(row.Sample), &out[i].Sample) // it was written by conflictEvents
		if !by.Held.Everywhere.Has(access.Read) {
			out[i].Sample = slices.DeleteFunc(out[i].Sample, func(d ConflictDevice) bool { return live.Plan.Device(estate.DeviceID(d.ID)) == nil })
		}
	}
	return out, nil
}

// Arisen lists the conflicts of late that no edit caused, and that still exist.
func (s *ConflictService) Arisen(ctx context.Context, by Actor) ([]ConflictEvent, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	list, err := s.ConflictEvents(ctx, by, s.now().Add(-arisenFor), "", 200)
	return slices.DeleteFunc(list, func(e ConflictEvent) bool { return !e.Gained || e.ChangeID != "" || !e.Current }), err
}

// ConflictsBegan says since when each of some conflicts exists in what is live; those that do not,
// or that are older than the record, are left out.
func (s *ConflictService) ConflictsBegan(ctx context.Context, by Actor, of []resolve.ConflictFound) (map[int]*store.ConflictEvent, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	out := map[int]*store.ConflictEvent{}
	if len(of) == 0 {
		return out, nil
	}
	events, err := s.store.In(ctx).ConflictsBegan()
	if err != nil {
		return nil, err
	}
	began := make(map[conflictKey]*store.ConflictEvent, len(events))
	for i := range events {
		began[conflictKey{events[i].Setting, events[i].Policies}] = &events[i]
	}
	standing := conflictKeys(s.seenLive(by).Resolution)
	for i := range of {
		key := keyOfConflict(&of[i])
		if e := began[key]; e != nil && standing[key] {
			out[i] = e
		}
	}
	return out, nil
}

// dayTurned records the conflicts that begin and end because exceptions began or lapsed with the
// day.
func (s *ConflictService) dayTurned(
	ctx context.Context,
	before, after impact.Side,
	report *impact.Report,
	revision int64,
	day estate.Date,
) {
	if err := s.store.In(ctx).AddConflictEvents(
		conflictEvents(
			before,
			after,
			report,
			store.Publication{Revision: revision, Title: "The day turned to " + string(day), By: "the calendar", At: s.now()},
		),
	); err != nil {
		s.log.Error("recording what conflicts with the day", "error", err)
	}
	if err := s.tellLapses(ctx, after.Plan.Snapshot().Exceptions, day); err != nil {
		s.log.Error("telling of exceptions that lapse", "error", err)
	}
}

// Disagreement names a conflict by its setting, or a problem by its check, with the policies.
type Disagreement struct{ setting, check, policies string }

// NameDisagreement names a conflict, or a problem; policies come sorted.
func NameDisagreement(setting setting.ID, check estate.CheckID, policies []string) Disagreement {
	return Disagreement{string(setting), string(check), strings.Join(policies, " ")}
}

// disagreements gives all conflicts and problems.
func disagreements(w *resolve.EstateResolution) map[Disagreement]bool {
	out := map[Disagreement]bool{}
	for key := range conflictKeys(w) {
		out[Disagreement{key.setting, "", key.policies}] = true
	}
	for _, p := range w.Problems() {
		out[NameDisagreement("", p.Check, p.From)] = true
	}
	return out
}

// ConflictsOf gives the conflicts of just some policies on some settings of a view, with the
// laptops of all of them. Settings on which they do not conflict are passed over.
func (v View) ConflictsOf(settings []setting.ID, policies []string) (conflicts []resolve.ConflictFound, touched resolve.Devices) {
	policies = slices.Sorted(slices.Values(policies))
	var on []resolve.Devices
	for _, c := range v.Resolution.ConflictList() {
		if slices.Contains(settings, c.Setting) && slices.Equal(c.Policies, policies) {
			conflicts, on = append(conflicts, c), append(on, c.Devices)
		}
	}
	return conflicts, resolve.Devices{}.Or(on...)
}

// ProblemOf gives what a check finds wrong that comes from just some policies; nil where there is
// no such problem.
func (v View) ProblemOf(check estate.CheckID, policies []string) *resolve.ProblemFound {
	policies = slices.Sorted(slices.Values(policies))
	for _, p := range v.Resolution.Problems() {
		if p.Check == check && slices.Equal(p.From, policies) {
			return &p
		}
	}
	return nil
}

// WayOut is a way to settle something with what it would do.
type WayOut struct {
	review.Way
	Inputs  []EditInput
	Report  *impact.Report
	Devices int // laptops that are touched
	Left    int // of those, laptops on which it would still be so
}

// WaysOut proposes ways to settle the conflicts of some policies on settings of a view, none where
// they do not conflict on one of these, each with its effect on what is live together with the rest
// of the change.
func (s *ConflictService) WaysOut(
	ctx context.Context,
	by Actor,
	change string,
	settings []setting.ID,
	policies []string,
) ([]WayOut, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	v, err := s.changes.ViewOf(ctx, by, change)
	if err != nil {
		return nil, err
	}
	for _, id := range settings {
		if v.Plan.Definition(id) == nil {
			return nil, &NotFoundError{"setting", string(id)}
		}
	}
	conflicts, touched := v.ConflictsOf(settings, policies)
	for i := range conflicts {
		conflicts[i] = v.Plan.WithCandidates(conflicts[i])
	}
	return v.tried(ctx, review.Ways(v.Plan, conflicts...), touched, func(after impact.Side) (left resolve.Devices) {
		for _, c := range conflicts {
			for _, h := range after.Resolution.States(c.Setting, c.Devices) {
				if h.Status == outcome.Conflict {
					left = left.Or(h.Devices)
				}
			}
		}
		return left
	})
}

// WaysRight proposes ways to make right what a check of a view finds wrong from some policies, each
// with its effect.
func (s *ConflictService) WaysRight(
	ctx context.Context,
	by Actor,
	change string,
	check estate.CheckID,
	policies []string,
) ([]WayOut, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	v, err := s.changes.ViewOf(ctx, by, change)
	if err != nil {
		return nil, err
	}
	f := v.ProblemOf(check, policies)
	if f == nil { // made right by now
		return nil, nil
	}
	return v.tried(ctx, review.WaysRight(v.Plan, f), f.Devices, func(after impact.Side) (left resolve.Devices) {
		for _, p := range after.Resolution.Problems() {
			if p.Check == check {
				left = left.Or(p.Devices.And(f.Devices))
			}
		}
		return left
	})
}

// tried computes what each way would do; left gives the laptops on which what it is to settle would
// still be so.
func (v View) tried(
	ctx context.Context,
	ways []review.Way,
	touched resolve.Devices,
	left func(after impact.Side) resolve.Devices,
) ([]WayOut, error) {
	var out []WayOut
	for _, w := range ways {
		one := WayOut{Way: w, Devices: touched.Len()}
		for _, e := range w.Edits {
			in, err := inputOf(e.Kind, e.Object)
			if err != nil {
				return nil, err
			}
			one.Inputs = append(one.Inputs, in)
		}
		side := v.Side.With(v.Plan.Snapshot().With(w.Edits...))
		one.Report = impact.Compare(v.Side, side)
		one.Left = left(side).Len()
		out = append(out, one)
	}
	return out, nil
}
