// This file watches on disagreement: when what is live alters, whether by an edit, by a source or because the day has changed, clashes
// that begin and end are recorded with what caused them.

package workflow

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// clashSample is how many laptops of a clash are recorded by name.
const clashSample = 10

// arisenFor is how long a clash that arose without an edit is shown as news.
const arisenFor = 14 * 24 * time.Hour

// ClashDevice is a laptop on which a clash began, with what altered about it.
type ClashDevice struct {
	ID     string         `json:"id"`
	Causes []review.Cause `json:"causes,omitempty"`
}

// ClashEvent is the beginning or end of a clash on some laptops.
type ClashEvent struct {
	store.ClashEvent
	Setting  setting.ID
	Policies []string
	Sample   []ClashDevice
	Standing bool // the clash stands today
}

// clashEvents gives the records of the clashes that begin and end when what is live alters.
func clashEvents(before, after impact.Side, report *impact.Report, p store.Publication) (out []store.ClashEvent) {
	if report == nil || len(report.ConflictsGained)+len(report.ConflictsCleared) == 0 {
		return nil
	}
	had, has := clashKeys(before.Whole), clashKeys(after.Whole)
	add := func(list []resolve.ConflictFound, gained bool, there map[clashKey]bool) {
		for i := range list {
			c := &list[i]
			var sample []ClashDevice
			for _, id := range c.Devices.First(clashSample) {
				sample = append(sample, ClashDevice{string(id), review.Causes(before.Plan, after.Plan, id)})
			}
			text, _ := json.Marshal(sample) // ids and words always have a JSON form
			out = append(out, store.ClashEvent{
				At: p.At, Setting: string(c.Setting), Policies: strings.Join(c.Policies, " "), Gained: gained, Fresh: !there[keyOfClash(c)], Revision: p.Revision, ChangeID: p.ChangeID, Title: p.Title, By: p.By,
				Devices: c.Devices.Len(), Sample: string(text),
			})
		}
	}
	add(report.ConflictsCleared, false, has)
	add(report.ConflictsGained, true, had)
	return out
}

type clashKey struct{ setting, policies string }

func keyOfClash(c *resolve.ConflictFound) clashKey {
	return clashKey{string(c.Setting), strings.Join(c.Policies, " ")}
}

func clashKeys(w *resolve.Whole) map[clashKey]bool {
	out := map[clashKey]bool{}
	for _, c := range w.Clashes() {
		out[keyOfClash(&c)] = true
	}
	return out
}

// ClashEvents lists what is recorded since a time, the newest first; of one setting where it is named.
func (s *Service) ClashEvents(since time.Time, id setting.ID, most int) ([]ClashEvent, error) {
	rows, err := s.store.ClashEvents(since, string(id), most)
	if err != nil {
		return nil, err
	}
	standing := clashKeys(s.Live().Whole)
	out := make([]ClashEvent, len(rows))
	for i, row := range rows {
		out[i] = ClashEvent{ClashEvent: row, Setting: setting.ID(row.Setting), Policies: strings.Fields(row.Policies), Standing: standing[clashKey{row.Setting, row.Policies}]}
		json.Unmarshal([]byte(row.Sample), &out[i].Sample) // it was written by clashEvents
	}
	return out, nil
}

// Arisen lists the clashes of late that no edit brought about, and that stand.
func (s *Service) Arisen() ([]ClashEvent, error) {
	list, err := s.ClashEvents(s.now().Add(-arisenFor), "", 200)
	return slices.DeleteFunc(list, func(e ClashEvent) bool { return !e.Gained || e.ChangeID != "" || !e.Standing }), err
}

// ClashBegan says since when a clash stands; nil where that is not known: it is older than the record.
func (s *Service) ClashBegan(c *resolve.ConflictFound) (*store.ClashEvent, error) {
	key := keyOfClash(c)
	e, err := s.store.ClashBegan(key.setting, key.policies)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &e, err
}

// dayTurned records the clashes that begin and end because exceptions began or lapsed with the day.
func (s *Service) dayTurned(before, after impact.Side, report *impact.Report, revision int64, day estate.Date) {
	if err := s.store.AddClashEvents(clashEvents(before, after, report, store.Publication{Revision: revision, Title: "The day turned to " + string(day), By: "the calendar", At: s.now()})); err != nil {
		s.log.Error("recording what clashes with the day", "error", err)
	}
}

// WayOut is a way to settle a clash with what it would do.
type WayOut struct {
	review.Way
	Inputs  []EditInput
	Report  *impact.Report
	Devices int // laptops that the clash touches
	Left    int // of those, laptops on which policies would still clash on the setting
}

// WaysOut proposes ways to settle a clash of a view, none where these policies do not clash, each with its effect on what is live together with the rest of the change.
func (s *Service) WaysOut(change string, id setting.ID, policies []string) ([]WayOut, error) {
	v, err := s.ViewOf(change)
	if err != nil {
		return nil, err
	}
	if v.Plan.Definition(id) == nil {
		return nil, &NotFoundError{"setting", string(id)}
	}
	policies = slices.Sorted(slices.Values(policies))
	list := v.Whole.Clashes()
	at := slices.IndexFunc(list, func(c resolve.ConflictFound) bool { return c.Setting == id && slices.Equal(c.Policies, policies) })
	if at < 0 {
		return nil, nil // settled by now
	}
	c := v.Plan.WithCandidates(list[at])
	var out []WayOut
	for _, w := range review.Ways(v.Plan, &c) {
		one := WayOut{Way: w, Devices: c.Devices.Len()}
		for _, e := range w.Edits {
			in, err := inputOf(e.Kind, e.Object)
			if err != nil {
				return nil, err
			}
			one.Inputs = append(one.Inputs, in)
		}
		side := v.Side.With(v.Plan.Snapshot().With(w.Edits...))
		one.Report = impact.Compare(v.Side, side)
		for _, h := range side.Whole.States(id, c.Devices) {
			if h.Status == resolve.Conflict {
				one.Left += h.Devices.Len()
			}
		}
		out = append(out, one)
	}
	return out, nil
}
