// This file takes a reading of a source in, whole or not at all.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/store"
)

// Take takes what waits, as it was looked at. With faulty things among it, they are left as they
// are.
func (s *SourceService) Take(ctx context.Context, by Actor, id string) (RunState, error) {
	if err := by.Need(access.Sources); err != nil {
		return RunState{}, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return RunState{}, notFound(err, "source", id)
	}
	s.sources.mu.Lock()
	r := s.sources.running[id]
	if r == nil || !r.waiting {
		s.sources.mu.Unlock()
		return RunState{}, &StateError{id, "without a run that waits", "a run to take; read the source anew"}
	}
	r.waiting = false
	s.sources.mu.Unlock()
	return s.take(ctx, by, row, r)
}

// Drop lets what waits go, or stops what runs. Nothing is taken.
func (s *SourceService) Drop(ctx context.Context, by Actor, id string) error {
	if err := by.Need(access.Sources); err != nil {
		return err
	}
	s.sources.mu.Lock()
	r := s.sources.running[id]
	waits := r != nil && r.waiting
	if waits {
		r.waiting = false // nobody else takes or drops it
	}
	s.sources.mu.Unlock()
	if r == nil {
		return &StateError{id, "without a run", "one that runs or waits"}
	}
	r.cancel()
	if waits {
		state := r.State()
		state.State = RunDropped
		s.close(ctx, by, r, state)
	}
	return nil
}

// take writes a reading: records, history, what is live, all in one transaction.
func (s *SourceService) take(ctx context.Context, by Actor, row store.Source, r *Run) (RunState, error) {
	if r.Way != provisioningRun {
		s.step(r, "writing", 0, 0)
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	t := r.taking
	if t.preview.live != s.Live() { // something was published since: what it does is worked out anew
		o, err := s.preview(ctx, s.Live(), t.touched, nil)
		if err != nil {
			return s.failed(ctx, by, row, r, err), nil
		}
		t.preview = o
		foresee(t.report, o, r.setUp)
	}
	now := s.now()
	run := store.SourceRun{Source: row.ID, Way: r.Way, State: RunTaken, By: by.Name, StartedAt: r.Started, EndedAt: &now}
	write := func(tx *store.Store) error {
		t.report.Reason = ""
		t.report.Milliseconds = s.now().Sub(r.Started).Milliseconds()
		text, err := json.Marshal(t.report)
		if err != nil {
			return err
		}
		run.Report = string(text)
		if run.Seq, err = tx.AddRun(run); err != nil {
			return err
		}
		if err := tx.SaveTaken(t.release); err != nil {
			return err
		}
		save := tx.SaveRecords
		if row.Kind == string(SCIM) { // what clients wrote since stays
			save = tx.SaveTaken
		}
		if err := save(t.withRefused()); err != nil {
			return err
		}
		for i := range t.events {
			t.events[i].Run = run.Seq
		}
		if err := tx.AddEvents(t.events); err != nil {
			return err
		}
		is, err := tx.Source(row.ID)
		if err != nil {
			return err
		}
		setup, err := json.Marshal(r.setUp)
		if err != nil {
			return err
		}
		if is.Setup != string(setup) {
			is.Version++
		}
		is.Setup, is.State, is.Mark, is.ReadAt = string(setup), SourceOn, cmp.Or(t.mark, is.Mark), &now
		if is.Proposed == is.Setup {
			is.Proposed = ""
		}
		if t.full {
			is.ComparedAt = &now
		}
		if err := tx.SaveSource(is); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "take from source", Kind: "sources", ObjectID: row.ID, After: line(t.report)})
	}
	var err error
	if len(t.touched) == 0 {
		err = s.store.Transaction(ctx, write)
	} else {
		_, err = s.adopt(ctx,
			by,
			"Source "+row.Title+": "+line(t.report),
			t.preview,
			nil,
			len(t.touched),
			func(tx *store.Store, _ *Live) error { return write(tx) },
		)
	}
	if err != nil {
		return s.failed(ctx, by, row, r, err), nil
	}
	state := RunState{State: RunTaken, Report: t.report}
	r.state.Store(&state)
	s.sources.mu.Lock()
	if s.sources.running[row.ID] == r {
		delete(s.sources.running, row.ID)
	}
	s.sources.mu.Unlock()
	s.log.Info("taken from source", "source", row.ID, "report", line(t.report))
	s.Notify(Event{Topic: "source", ID: row.ID})
	return state, nil
}

// withRefused gives the records to write: those that the estate could not take keep what they had
// and say why.
func (t *taking) withRefused() []store.SourceRecord {
	if len(t.preview.Refused) == 0 {
		return t.records
	}
	out := slices.Clone(t.records)
	for i := range out {
		key := objectKey{estate.Kind(out[i].Kind), out[i].ObjectID}
		if faults := t.preview.Refused[key]; faults != nil {
			out[i].Fault = faults[0].Error()
			if !t.preview.imported.has(key) {
				out[i].Brought, out[i].ObjectID = "", ""
			}
		}
	}
	return out
}

func line(r *RunReport) string {
	parts := []string{}
	for _, p := range []struct {
		n    int
		word string
	}{{r.New, "new"}, {r.Altered, "altered"}, {r.Back, "back"}, {r.Left, "left"}, {r.Faulty, "faulty"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
		}
	}
	if len(parts) == 0 {
		return "nothing altered"
	}
	return strings.Join(parts, ", ")
}

// foresee notes what a reading would do to laptops.
func foresee(r *RunReport, o *Preview, setUp directory.SourceSetUp) {
	if o.Report == nil {
		return
	}
	r.Devices, r.Weaker, r.Conflicts, r.Problems = o.Report.Devices.Len(), o.Report.Weaker().
		Len(),
		distinct(o.Report), len(o.Report.ProblemsGained)
	r.Audiences, r.Shrunk, r.MostLost = nil, nil, 0
	r.Differ = nil
	for _, id := range o.Report.Devices.First(differShown) {
		r.Differ = append(r.Differ, string(id))
	}
	titles := map[estate.PolicyID]string{}
	for _, p := range o.after.Plan.Snapshot().Policies {
		titles[p.ID] = p.Title
	}
	for _, m := range o.Report.Audiences {
		r.Audiences = append(
			r.Audiences,
			directory.AudienceShift{Policy: string(m.Policy), Title: titles[m.Policy], Gained: m.Gained.Len(), Dropped: m.Dropped.Len()},
		)
	}
	most := cmp.Or(setUp.MostLost, defaultMostLost)
	for _, s := range review.Shrinkages(o.live.Side, o.after, most) {
		r.MostLost = most
		shrunk := directory.Shrunk{Policy: string(s.Policy), Title: titles[s.Policy], Before: s.Before, After: s.After}
		if s.Exclusion != (estate.Target{}) {
			shrunk.Exclusion = s.Exclusion.String()
		}
		r.Shrunk = append(r.Shrunk, shrunk)
	}
	r.LooseCount, r.Loose = len(o.Loose), nil
	for _, l := range o.Loose[:min(len(o.Loose), looseShown)] {
		r.Loose = append(r.Loose, fmt.Sprintf("%s %s: %s %s", l.Kind, l.ID, l.Field, l.Names))
	}
}

func distinct(r *impact.Report) int { return len(r.ConflictsGained) }
