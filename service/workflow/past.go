// This file gives the past: the estate as it was decided at a moment, and what a laptop reported then.
//
// Objects are read from the versions that are kept, what sources brought by taking back what they altered
// since, and which rollouts had reached a laptop from what happened in them. The shipped dictionary is the
// one of this program.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// pastKept is how many past estates are kept: pages ask several questions of the same moment.
const pastKept = 4

// past keeps the estates of moments that were asked about last.
type past struct {
	mu   sync.Mutex // held while one is made: whoever asks for the same waits for it
	kept []pastEstate
}

type pastEstate struct {
	key  string // moment, and the rollouts that had reached a laptop
	live *Live
}

// ParseMoment reads a moment: RFC 3339, or a day with a time such as 2026-10-03T14:00 in the service's zone,
// or a day alone: its end.
func (s *RolloutService) ParseMoment(_ context.Context, by Actor, text string) (time.Time, error) {
	if err := by.Need(access.Read); err != nil {
		return time.Time{}, err
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		at, err = time.ParseInLocation("2006-01-02T15:04", text, s.zone)
	}
	if err != nil {
		if at, err = time.ParseInLocation(time.DateOnly, text, s.zone); err == nil {
			at = at.AddDate(0, 0, 1).Add(-time.Second)
		}
	}
	switch {
	case err != nil:
		return at, problem.Faults{{
			Code: problem.BadDate, Path: "/query/at", Found: problem.Quote(text), Expected: "a moment such as 2026-10-03T14:00, or a day",
		}}
	case at.After(s.now()):
		return at, problem.Faults{{Code: problem.OutOfRange, Path: "/query/at", Found: problem.Quote(text), Expected: "a moment that has passed"}}
	}
	return at.UTC(), nil
}

// DayOf gives the day of a moment in the service's zone.
func (s *liveEstate) DayOf(at time.Time) estate.Date {
	return estate.Date(at.In(s.zone).Format(time.DateOnly))
}

// ViewAt gives the estate as it was decided at a moment, for whoever may read everywhere.
func (s *ChangeService) ViewAt(ctx context.Context, by Actor, at time.Time) (View, error) {
	if err := needEverywhere(by); err != nil {
		return View{}, err
	}
	live, err := s.estateAt(ctx, at, "")
	if err != nil {
		return View{}, err
	}
	return View{live.Side, live}, nil
}

// needEverywhere refuses those who may read for some units alone: what they might have seen then is not
// known.
func needEverywhere(by Actor) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	if !by.Held.Everywhere.Has(access.Read) {
		return &access.OutsideError{Right: access.Read, Units: by.Held.UnitsWith(access.Read), What: "the past"}
	}
	return nil
}

// estateAt gives the estate at a moment as a laptop had it; an empty device: as it was live, without
// rollouts under way.
func (s *ChangeService) estateAt(ctx context.Context, at time.Time, device string) (*Live, error) {
	revision, err := s.store.In(ctx).RevisionAt(at)
	if err != nil {
		return nil, err
	}
	var reached []string
	if device != "" {
		if reached, err = s.reachedAt(ctx, at, device); err != nil {
			return nil, err
		}
	}
	key := fmt.Sprint(at.Format(time.DateOnly), revision, at.Unix(), reached)
	s.past.mu.Lock()
	defer s.past.mu.Unlock()
	for _, p := range s.past.kept {
		if p.key == key {
			return p.live, nil
		}
	}
	live, err := s.readAt(ctx, at, revision)
	if err != nil {
		return nil, err
	}
	for _, id := range reached {
		edits, err := s.store.In(ctx).Edits(id)
		if err != nil {
			return nil, err
		}
		over, err := s.lay(ctx, live, edits, nil)
		if err != nil {
			return nil, err
		}
		if over.snapshot != nil {
			live.Side = live.Side.With(over.snapshot)
		}
	}
	s.past.kept = append(s.past.kept, pastEstate{key, live})
	if len(s.past.kept) > pastKept {
		s.past.kept = slices.Delete(s.past.kept, 0, 1)
	}
	return live, nil
}

// readAt reads the estate as it was live at a moment.
func (s *ChangeService) readAt(ctx context.Context, at time.Time, revision int64) (*Live, error) {
	brought, err := s.broughtAt(ctx, at)
	if err != nil {
		return nil, err
	}
	live := &Live{Revision: revision, generations: &generations{}}
	versions, origins := map[objectKey]int64{}, map[objectKey]Origin{}
	decoding := startDecoding()
	for o, err := range s.store.In(ctx).ObjectsAt(revision) {
		if err != nil {
			decoding.stop()
			return nil, err
		}
		key := objectKey{estate.Kind(o.Kind), o.ID}
		if o.Retired {
			continue
		}
		decoding.add(body{key, brought[key], o.Body, o.Local})
		versions[key] = o.Version
		delete(brought, key)
	}
	for key, text := range brought {
		decoding.add(body{objectKey: key, imported: text})
	}
	objects, err := decoding.finish()
	if err != nil {
		return nil, err
	}
	taken, err := s.store.In(ctx).TakenOffersAt(at)
	if err != nil {
		return nil, err
	}
	facts, err := s.store.In(ctx).FactsAt(at)
	if err != nil {
		return nil, err
	}
	if live.told, err = readTold(taken, facts); err != nil {
		return nil, err
	}
	live.allAsTold(objects)
	day := s.DayOf(at)
	snapshot := files.Assemble(objects, s.shipped).On(day)
	snapshot.Sort()
	if len(snapshot.Units) == 0 {
		snapshot.Units = []estate.Unit{{ID: standIn, Title: "Company"}}
	}
	snapshot, _ = snapshot.Sever(nil, nil)
	live.Side = impact.Resolve(snapshot)
	live.versions, live.retired, live.imported = newCowMap(versions), newCowMap(map[objectKey]int64{}), newCowMap(origins)
	return live, nil
}

// broughtAt gives what sources had brought at a moment: what they have brought now, with what they altered
// since taken back. Of long lists it is kept only how much altered: those are as they are now.
func (s *ChangeService) broughtAt(ctx context.Context, at time.Time) (map[objectKey]string, error) {
	records, err := s.store.In(ctx).AllBrought()
	if err != nil {
		return nil, err
	}
	out := make(map[objectKey]string, len(records))
	for _, r := range records {
		out[objectKey{estate.Kind(r.Kind), r.ObjectID}] = r.Brought
	}
	events, err := s.store.In(ctx).EventsAfter(at)
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		key := objectKey{estate.Kind(e.Kind), e.ObjectID}
		switch e.What {
		case "new":
			delete(out, key)
		case "altered", "back":
			if text := out[key]; text != "" && e.Fields != "" {
				var fields []files.AlteredField
				if err := json.Unmarshal([]byte(e.Fields), &fields); err != nil {
					return nil, err
				}
				back, err := files.TakeBack([]byte(text), fields)
				if err != nil {
					return nil, err
				}
				out[key] = string(back)
			}
		}
	}
	return out, nil
}

// reachedAt gives the rollouts that had reached a laptop at a moment, in the order of their publication, and
// were no part of the live estate yet.
func (s *ChangeService) reachedAt(ctx context.Context, at time.Time, device string) (reached []string, err error) {
	rows, err := s.store.In(ctx).Rollouts(true)
	if err != nil {
		return nil, err
	}
	mine, err := s.store.In(ctx).RolloutsOf(device)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		in := slices.IndexFunc(mine, func(l store.RolloutLaptop) bool { return l.Rollout == row.ID })
		if row.StartedAt == nil || row.StartedAt.After(at) || in < 0 {
			continue
		}
		is, err := s.rolloutAt(ctx, row.ID, mine[in], at)
		if err != nil {
			return nil, err
		}
		if is.gets {
			reached = append(reached, row.ID)
		}
	}
	return reached, nil
}

// rolloutThen is a rollout as it was at a moment, for one laptop.
type rolloutThen struct {
	progress rollout.Progress
	opened   bool // the laptop's wave was open
	state    string
	gets     bool // the laptop got the change, which was no part of the live estate yet
}

// rolloutAt reads from what happened in a rollout how it was for a laptop at a moment.
func (s *liveEstate) rolloutAt(ctx context.Context, id string, l store.RolloutLaptop, at time.Time) (is rolloutThen, err error) {
	events, err := s.store.In(ctx).EventsOfLaptop(id, l.Device, at)
	if err != nil {
		return is, err
	}
	is.progress, is.state = rollout.Running, rollout.Waiting.String()
	for _, e := range events {
		switch {
		case e.What == "state":
			is.progress = rollout.Progress(e.To)
		case e.What == "opened" && e.Wave == l.Wave:
			is.opened, is.state = true, rollout.Due.String()
		case e.Device == l.Device:
			is.state = e.To
		}
	}
	has := is.state == rollout.Taken.String() || is.state == rollout.Refused.String() || is.state == rollout.Lost.String()
	switch is.progress {
	case rollout.Running:
		is.gets = is.opened
	case rollout.Paused, rollout.Stopped:
		is.gets = has
	}
	return is, nil
}

// Decision is what decided a setting at a moment: a policy as it was then, who published it so, and who
// approved that.
type Decision struct {
	Policy    estate.PolicyID
	Title     string
	Version   int64         // 0: it was being rolled out
	Change    *store.Change // that brought the policy as it was then; nil: it is older than changes
	By        string        // who published it
	At        time.Time
	Rollout   string // by which it came, where that was under way
	Approvals []store.Approval
}

// PastSetting is a setting of a laptop at a moment: what was decided, by what, and what the laptop reported.
type PastSetting struct {
	outcome.Setting
	Definition *setting.Definition
	Decisions  []Decision
	Exception  *estate.Exception // that decided
	Reported   *store.Reported   // nil: nothing was reported
}

// InForce tells whether the laptop reported what was decided.
func (p *PastSetting) InForce() bool {
	return p.Status == outcome.Set && p.Reported != nil && p.Reported.Value.Equal(p.Value)
}

// Past is a laptop at a moment.
type Past struct {
	At         time.Time
	Day        estate.Date
	Revision   int64
	Device     *estate.Device
	Units      []string
	Settings   []PastSetting
	Exceptions []estate.Exception // that counted for the laptop
	Presence   *store.Presence    // nil: it had never checked in
	Reached    []string           // rollouts under way that had reached it
	Result     *outcome.Result
}

// NotThenError says that a laptop was not in the estate at a moment.
type NotThenError struct {
	Device string
	At     time.Time
}

func (e *NotThenError) Error() string {
	return fmt.Sprintf("There was no device %s at %s.", problem.Quote(e.Device), e.At.UTC().Format("2006-01-02 15:04 UTC"))
}

// PastOf answers the auditor's question: what was decided for a laptop at a moment, by whom, and what did
// the laptop report? area narrows the settings; empty: all.
func (s *RolloutService) PastOf(ctx context.Context, by Actor, device string, at time.Time, area string) (*Past, error) {
	if err := needEverywhere(by); err != nil {
		return nil, err
	}
	live, err := s.changes.estateAt(ctx, at, device)
	if err != nil {
		return nil, err
	}
	id := estate.DeviceID(device)
	is := live.Plan.Device(id)
	if is == nil {
		return nil, &NotThenError{device, at}
	}
	out := &Past{At: at, Day: live.Plan.Snapshot().Day, Revision: live.Revision, Device: is, Units: live.Plan.HomeUnits(id)}
	if out.Reached, err = s.changes.reachedAt(ctx, at, device); err != nil {
		return nil, err
	}
	if out.Result, err = live.Plan.Effective(id, ""); err != nil {
		return nil, err
	}
	if out.Presence, err = s.store.In(ctx).PresenceAt(device, at); err != nil {
		return nil, err
	}
	reported, err := s.store.In(ctx).ReportedAt(device, at)
	if err != nil {
		return nil, err
	}
	for _, x := range live.Plan.Snapshot().Exceptions {
		if x.CountsOn(out.Day) && live.Plan.Matches(x.Target, id) {
			out.Exceptions = append(out.Exceptions, x)
		}
	}
	for _, decided := range out.Result.Settings {
		p := PastSetting{Setting: decided, Definition: live.Plan.Definition(decided.ID)}
		if area != "" && (p.Definition == nil || p.Definition.Area != area && string(p.Definition.Kind) != area) {
			continue
		}
		if r, known := reported[decided.ID]; known {
			p.Reported = &r
		}
		if err := s.decidedBy(ctx, out, live.Plan, &p); err != nil {
			return nil, err
		}
		out.Settings = append(out.Settings, p)
	}
	slices.SortFunc(out.Settings, func(a, b PastSetting) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// decidedBy adds what decided a setting: the exception, or the policies as they were then.
func (s *RolloutService) decidedBy(ctx context.Context, of *Past, plan *resolve.Plan, p *PastSetting) error {
	if p.How == outcome.ByException {
		for i := range of.Exceptions {
			if slices.Contains(p.From, string(of.Exceptions[i].ID)) {
				p.Exception = &of.Exceptions[i]
			}
		}
		return nil
	}
	for _, id := range p.From {
		d := Decision{Policy: estate.PolicyID(id)}
		if policy := plan.Policy(d.Policy); policy != nil {
			d.Title = policy.Title
		}
		if err := s.whoDecided(ctx, of, &d); err != nil {
			return err
		}
		p.Decisions = append(p.Decisions, d)
	}
	return nil
}

// whoDecided adds who brought a policy as it was at a moment, and who approved it.
func (s *RolloutService) whoDecided(ctx context.Context, of *Past, d *Decision) error {
	change := ""
	for _, id := range of.Reached {
		edits, err := s.store.In(ctx).Edits(id)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(edits, func(e store.Edit) bool { return e.Kind == string(estate.KindPolicy) && e.ObjectID == string(d.Policy) }) {
			row, err := s.store.In(ctx).Rollout(id)
			if err != nil {
				return err
			}
			d.Rollout, d.By, d.At, change = id, row.By, row.PublishedAt, id
		}
	}
	if change == "" {
		versions, err := s.store.In(ctx).Versions(string(estate.KindPolicy), string(d.Policy))
		if err != nil {
			return err
		}
		at := slices.IndexFunc(versions, func(v store.ObjectVersion) bool { return v.Revision <= of.Revision })
		if at < 0 {
			return nil
		}
		d.Version, d.By, d.At = versions[at].Version, versions[at].By, versions[at].At
		published, err := s.store.In(ctx).Publication(versions[at].Revision)
		if err != nil {
			return err
		}
		change = published.ChangeID
	}
	c, err := s.store.In(ctx).Change(change)
	if errors.Is(err, store.ErrNotFound) { // what sources bring has no change
		return nil
	} else if err != nil {
		return err
	}
	d.Change = &c
	d.Approvals, err = s.store.In(ctx).Approvals(change)
	return err
}
