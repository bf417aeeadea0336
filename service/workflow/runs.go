// This file runs readings of sources: it reads in the background and says what differs.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"runtime/debug"
	"sync/atomic"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/store"
)

// Ways of a run.
const (
	FullRun         = "full"         // everything is compared
	RecentRun       = "recent"       // what altered since the last reading
	UploadRun       = "upload"       // a table that was sent
	HeldRun         = "stored"       // what a provisioning client has written so far
	provisioningRun = "provisioning" // what it writes, as it writes it
)

// States of a run.
const (
	RunReading = "reading"
	RunWaiting = "waiting" // for somebody to look at what it would do and take it
	RunTaken   = "taken"
	RunFailed  = "failed"
	RunDropped = "dropped"
)

// Run is a reading of a source while it runs or waits.
type Run struct {
	Source  string
	Way     string
	By      string
	Started time.Time
	state   atomic.Pointer[RunState]
	cancel  context.CancelFunc

	setUp   SetUp
	taking  *taking
	waiting bool
}

// RunState is how far a run is.
type RunState struct {
	State  string
	Step   string // reading, comparing, foreseeing, writing
	Done   int64
	Of     int64 // 0: not known
	Report *RunReport
}

// State gives how far the run is.
func (r *Run) State() RunState { return *r.state.Load() }

type (
	// RunReport says what a run found and did, or would do.
	RunReport = directory.SourceReport
	// RunItem is one thing that differs.
	RunItem = directory.SourceItem
)

const (
	itemsShown = 100 // of each sort
	faultsKept = 1000
	looseShown = 50
)

// taking is a reading compared with what is known: all that is to be written when it is taken.
type taking struct {
	records []store.SourceRecord
	touched []store.SourceRecord // those whose objects alter
	release []store.SourceRecord // records of other keys that give up their object
	events  []store.SourceEvent
	mark    string
	full    bool
	preview *Preview
	report  *RunReport
}

func (s *SourceService) runOf(id string) *Run {
	s.sources.mu.Lock()
	defer s.sources.mu.Unlock()
	return s.sources.running[id]
}

func (s *SourceService) forget(id string) {
	s.sources.mu.Lock()
	defer s.sources.mu.Unlock()
	if r := s.sources.running[id]; r != nil && r.waiting {
		delete(s.sources.running, id)
	}
}

// BusyError says that a source is being read already.
type BusyError struct{ Source string }

func (e *BusyError) Error() string {
	return "the source " + e.Source + " is being read already; wait for that, or stop it"
}

// begin notes a run as running; it takes the place of a waiting one.
func (s *SourceService) begin(by Actor, row store.Source, way string, u SetUp) (*Run, context.Context, error) {
	s.sources.mu.Lock()
	defer s.sources.mu.Unlock()
	if r := s.sources.running[row.ID]; r != nil && !r.waiting {
		return nil, nil, &BusyError{row.ID}
	}
	ctx, cancel := context.WithCancel(s.ctx)
	r := &Run{Source: row.ID, Way: way, By: by.Name, Started: s.now(), cancel: cancel, setUp: u}
	r.state.Store(&RunState{State: RunReading, Step: "reading"})
	s.sources.running[row.ID] = r
	return r, ctx, nil
}

func (s *SourceService) step(r *Run, step string, done, of int64) {
	r.state.Store(&RunState{State: RunReading, Step: step, Done: done, Of: of})
	s.Notify(Event{Topic: "source", ID: r.Source})
}

// pick gives the set-up by which a run reads: a proposed one is tried first, and waits to be looked
// at.
func pick(row store.Source) (u SetUp, reason string, err error) {
	text := row.Setup
	switch {
	case row.Proposed != "" && row.Setup == "":
		text, reason = row.Proposed, "first"
	case row.Proposed != "":
		text, reason = row.Proposed, "set-up"
	}
	return u, reason, json.Unmarshal([]byte(text), &u)
}

// Upload reads a table that is sent to a source of the kind csv. It blocks until the run is taken,
// waits or failed. size is what is to come in bytes, 0 where that is not known; look makes it wait
// in any case.
func (s *SourceService) Upload(ctx context.Context, by Actor, id, name string, in io.Reader, size int64, look bool) (RunState, error) {
	if err := by.Need(access.Sources); err != nil {
		return RunState{}, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return RunState{}, notFound(err, "source", id)
	}
	if row.Kind != string(CSV) {
		return RunState{}, &StateError{id, "of the kind " + row.Kind, "a source of the kind csv"}
	}
	u, reason, err := pick(row)
	if err != nil {
		return RunState{}, err
	}
	if row.State == SourcePaused {
		return RunState{}, &StateError{id, row.State, SourceOn}
	}
	r, running, err := s.begin(by, row, UploadRun, u)
	if err != nil {
		return RunState{}, err
	}
	stop := context.AfterFunc(ctx, r.cancel)
	defer stop()
	if look && reason == "" {
		reason = "asked"
	}
	counted := &countingReader{in: in, ctx: running, told: func(n int64) { s.step(r, "reading", n, size) }}
	reading, err := u.Table.Read(name, counted)
	if err == nil && running.Err() != nil {
		err = running.Err()
	}
	return s.conclude(ctx, by, row, r, reading, err, reason, false)
}

// countingReader tells how far a reading is, now and then, and stops when it is told to.
type countingReader struct {
	in   io.Reader
	ctx  context.Context
	n    int64
	last time.Time
	told func(int64)
}

func (c *countingReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.in.Read(p)
	c.n += int64(n)
	if now := time.Now(); now.Sub(c.last) > 200*time.Millisecond {
		c.last = now
		c.told(c.n)
	}
	return n, err
}

// StartReading reads a source of the kind ldap, or what a provisioning client has written, in the
// background.
func (s *SourceService) StartReading(ctx context.Context, by Actor, id, way string, look bool) (*Run, error) {
	if err := by.Need(access.Sources); err != nil {
		return nil, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return nil, notFound(err, "source", id)
	}
	if row.State == SourcePaused {
		return nil, &StateError{id, row.State, SourceOn}
	}
	u, reason, err := pick(row)
	if err != nil {
		return nil, err
	}
	if reason != "" || row.Mark == "" {
		way = FullRun
	}
	switch SourceKind(row.Kind) {
	case SCIM:
		way = HeldRun
	case CSV:
		return nil, &StateError{id, "of the kind csv", "a source that can be asked; send it a table"}
	}
	if look && reason == "" {
		reason = "asked"
	}
	r, ctx, err := s.begin(by, row, way, u)
	if err != nil {
		return nil, err
	}
	s.background(func() {
		reading, err := s.readGuarded(ctx, row, r)
		s.conclude(ctx, by, row, r, reading, err, reason, false)
	})
	return r, nil
}

// readGuarded is read for data of another server: if it makes the reader panic, the run fails and
// the service goes on. No lock is held while it reads.
func (s *SourceService) readGuarded(ctx context.Context, row store.Source, r *Run) (reading *directory.Reading, err error) {
	defer func() {
		if value := recover(); value != nil {
			s.log.Error("panic while reading a source", "source", row.ID, "panic", value, "stack", string(debug.Stack()))
			reading, err = nil, errors.New("the service failed while it read the source; its log says where")
		}
	}()
	return s.read(ctx, row, r)
}

func (s *SourceService) read(ctx context.Context, row store.Source, r *Run) (*directory.Reading, error) {
	if r.setUp.SCIM != nil {
		return s.readStored(ctx, row.ID, r.setUp.SCIM)
	}
	if err := s.allowed(r.setUp); err != nil { // the operator may have taken it off the list
		return nil, err
	}
	password, err := s.password(r.setUp.LDAP.Password)
	if err != nil {
		return nil, err
	}
	since, known := "", directory.Known{}
	if r.Way == RecentRun {
		since = row.Mark
		records, err := s.store.In(ctx).SourceRecords(row.ID, "")
		if err != nil {
			return nil, err
		}
		known = directory.Known{Keys: make(map[string]string, len(records)), Units: map[string]bool{}}
		for _, rec := range records {
			known.Keys[rec.Place] = rec.Key
			if rec.Kind == string(estate.KindUnit) {
				known.Units[rec.Place] = true
			}
		}
	}
	return r.setUp.LDAP.Read(ctx, password, since, known, func(done, of int64) { s.step(r, "reading", done, of) })
}

// conclude compares a reading, foresees what it does, and takes it unless somebody has to look
// first.
func (s *SourceService) conclude(
	ctx context.Context,
	by Actor,
	row store.Source,
	r *Run,
	reading *directory.Reading,
	err error,
	reason string,
	skipFaulty bool,
) (RunState, error) {
	ctx = context.WithoutCancel(ctx) // whatever ended the reading, what came of it is written down
	if err == nil {
		s.step(r, "comparing", 0, 0)
		s.writing.Lock()
		r.taking, err = s.compareReading(ctx, row, r, reading)
		s.writing.Unlock()
	}
	if err != nil {
		return s.failed(ctx, by, row, r, err), nil
	}
	report := r.taking.report
	report.Milliseconds = s.now().Sub(r.Started).Milliseconds()
	switch most := cmp.Or(r.setUp.MostLeft, defaultMostLeft); {
	case reason != "":
	case report.Faulty > 0 || len(report.Faults) > 0:
		reason = "faults"
	case report.Left > 1 && report.Left*100 > most*(report.Left+report.Same+report.Altered):
		reason, report.MostLeft = "many-left", most
	case len(report.Shrunk) > 0:
		reason = "shrunk"
	}
	if reason != "" {
		report.Reason = reason
		s.sources.mu.Lock()
		r.waiting = true
		s.sources.mu.Unlock()
		state := &RunState{State: RunWaiting, Report: report}
		r.state.Store(state)
		s.Notify(Event{Topic: "source", ID: row.ID})
		return *state, nil
	}
	return s.take(ctx, by, row, r)
}

// failed records a run that imported nothing. What is live is as it was.
func (s *SourceService) failed(ctx context.Context, by Actor, row store.Source, r *Run, err error) RunState {
	report := &RunReport{Items: []RunItem{}, Reason: "failed", Message: err.Error(), Milliseconds: s.now().Sub(r.Started).Milliseconds()}
	var faults problem.Faults
	var trouble *directory.ErrTrouble
	switch {
	case errors.As(err, &faults):
		report.Faults, report.Message = faults, ""
	case errors.As(err, &trouble):
	case errors.Is(err, context.Canceled):
		report.Message = "it was stopped"
	default:
		s.log.Error("reading a source", "source", row.ID, "error", err)
		report.Message = "the service failed; its log says more"
	}
	state := RunState{State: RunFailed, Report: report}
	s.close(ctx, by, r, state)
	return state
}

// close writes a run down and lets the next one begin.
func (s *SourceService) close(ctx context.Context, by Actor, r *Run, state RunState) {
	ctx = context.WithoutCancel(ctx) // a run that is not closed would keep the next one from beginning
	text, _ := json.Marshal(state.Report)
	now := s.now()
	if _, err := s.store.In(ctx).AddRun(
		store.SourceRun{Source: r.Source, Way: r.Way, State: state.State, By: by.Name, StartedAt: r.Started, EndedAt: &now, Report: string(text)},
	); err != nil {
		s.log.Error("writing a run of a source down", "source", r.Source, "error", err)
	}
	r.state.Store(&state)
	s.sources.mu.Lock()
	if s.sources.running[r.Source] == r {
		delete(s.sources.running, r.Source)
	}
	s.sources.mu.Unlock()
	s.Notify(Event{Topic: "source", ID: r.Source})
}
