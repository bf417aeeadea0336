// This file holds what is live: one generation of the estate, resolved, that is swapped as a whole,
// and how it altered lately.
//
// Locks are taken in this order, and none is held while a later one is waited for the other way
// round:
//
//	writing   a change is edited or published, or a source is taken in
//	moving    something happens in a rollout (rollouts.go)
//	drafting  it is worked out what a change comes to
//	turning   the estate is resolved on a new day
//	mu        the fields of this file are read or written; nothing is computed and nothing is stored while it is held
//
// Whoever only reads takes no lock but mu, for as long as it takes to copy a pointer.

package workflow

import (
	"context"
	"log/slog"
	"net/url"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// liveEstate holds what is live, with what every part of the service needs: the store, the clock,
// the audit log, the events.
type liveEstate struct {
	store   *store.Store
	shipped files.Dictionary
	log     *slog.Logger
	now     func() time.Time
	fixed   estate.Date // the day that exceptions are judged on; empty: that of the clock
	zone    *time.Location
	bus     bus

	ctx     context.Context // ends when the service is closed
	stop    context.CancelFunc
	running sync.WaitGroup // goroutines in the background

	// dayTurned is called in the background after the estate was resolved on a new day.
	dayTurned func(ctx context.Context, before, after impact.Side, report *impact.Report, revision int64, day estate.Date)

	writing  sync.Mutex // see the order of locks at the top of this file
	drafting sync.Mutex
	turning  sync.Mutex
	renewing sync.Mutex // held while what is live is compiled anew

	tellings  tellings       // see told.go
	bounded   boundedEstates // see reading.go
	past      past           // see past.go
	measuring measuring      // see baselines.go

	moving       sync.RWMutex        // guards the machines, and all that is in them
	machines     map[string]*machine // by id: rollouts whose end is not written down yet; see rollouts.go
	rolloutsWake chan struct{}       // a rollout ended: the loop looks sooner
	onDue        func(ctx context.Context, devices []string)
	mayHook      func(*url.URL) bool // see announce.go

	mu     sync.Mutex // guards what follows
	live   *Live
	turns  []turn            // how what is live altered lately, the oldest first
	drafts map[string]*draft // by change: what it would be, until it or the live estate alters
	laid   map[string]*laid  // by change: its edits over what is live, as they were stored last
	board  *laptopStates     // what laptops reported, until what is live alters
}

// Live is the estate as it is published, resolved on a day: as it will be once all rollouts under way
// have finished.
type Live struct {
	Revision int64
	Turn     int64 // rises by one whenever what is live alters
	impact.Side
	versions cowMap[int64]
	retired  cowMap[int64]
	imported cowMap[Origin] // objects that a source has, or had
	told     cowMap[Told]   // what laptops say of their devices; see told.go

	// The side is what will be live once all rollouts under way have finished. These are the rollouts,
	// in the order of their publication, and the estates without some of them.
	rolling     []rolling
	generations *generations

	countsOnce  sync.Once
	clashing    []int32 // by device in the order of ids: settings that policies conflict on
	wrong       []int32 // checks that find something
	lintsOnce   sync.Once
	lints       []outcome.Lint
	devicesOnce sync.Once
	deviceTable *listing.Table
	peopleOnce  sync.Once
	personTable *listing.Table
}

type objectKey struct {
	kind estate.Kind
	id   string
}

// Version is the live version of an object; 0 when there is none and never was.
func (l *Live) Version(kind estate.Kind, id string) int64 {
	return l.versions.of(objectKey{kind, id}) + l.retired.of(objectKey{kind, id})
}

// Today is the day that exceptions are judged on, in the service's time zone.
func (s *liveEstate) Today() estate.Date {
	if s.fixed != "" {
		return s.fixed
	}
	return estate.Date(s.now().In(s.zone).Format(time.DateOnly))
}

// current gives what is live, on whatever day it was resolved.
func (s *liveEstate) current() *Live {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.live
}

// Live gives what is live today. When the day has changed since it was resolved, the first who asks
// resolves it anew; whoever asks meanwhile gets what was live before, without waiting.
func (s *liveEstate) Live() *Live {
	live, today := s.current(), s.Today()
	if live.Plan.Snapshot().Day == today || !s.turning.TryLock() {
		return live
	}
	defer s.turning.Unlock()
	for {
		was := s.current()
		if was.Plan.Snapshot().Day == today {
			return was
		}
		next := was.sameAgain()
		next.Side = was.Side.With(was.Plan.Snapshot().On(today))
		next.generations = &generations{}
		report := impact.Compare(was.Side, next.Side)
		s.mu.Lock()
		if s.live != was { // something was published meanwhile
			s.mu.Unlock()
			continue
		}
		s.goLive(next, report)
		s.mu.Unlock()
		s.alignRollouts()
		s.background(func() { s.dayTurned(context.WithoutCancel(s.ctx), was.Side, next.Side, report, next.Revision, today) })
		return next
	}
}

// renew compiles what is live anew where plans that were tried have left much behind: the memory of
// conditions and values that were never published is let go with the plans of the generation
// before.
func (s *liveEstate) renew() {
	if !s.renewing.TryLock() {
		return // somebody does it
	}
	defer s.renewing.Unlock()
	for s.ctx.Err() == nil {
		was := s.current()
		if !was.Plan.Spent() {
			return
		}
		plan := was.Plan.Renewed()
		next := was.sameAgain()
		next.Side = impact.Side{Plan: plan, Resolution: plan.Estate()}
		next.generations = &generations{}
		s.mu.Lock()
		turns := slices.Clone(s.turns)
		s.mu.Unlock()
		for i := range turns {
			turns[i].devices = turns[i].devices.On(was.Plan).In(plan).Bare()
			turns[i].altered = slices.Clone(turns[i].altered)
			for j := range turns[i].altered {
				a := &turns[i].altered[j]
				a.Devices = a.Devices.On(was.Plan).In(plan).Bare()
			}
		}
		s.mu.Lock()
		if s.live == was {
			s.live, s.turns = next, turns
			clear(s.drafts)
			clear(s.laid)
			s.mu.Unlock()
			return
		}
		s.mu.Unlock() // something was published meanwhile
	}
}

// turn is one altering of what is live, with what laptops get otherwise by it.
type turn struct {
	number  int64 // of what was live before
	at      time.Time
	devices resolve.Devices
	altered []resolve.Alteration
}

// turnsKept is how far back it is known which laptops what is live altered for.
const turnsKept = 256

// goLive puts what is live in the place of what was. s.mu must be held.
func (s *liveEstate) goLive(next *Live, report *impact.Report) {
	t := turn{number: s.live.Turn, at: s.now()}
	if report != nil {
		t.devices = report.Devices.Bare()
		t.altered = make([]resolve.Alteration, len(report.Transitions))
		for i := range report.Transitions {
			t.altered[i] = *report.Transitions[i].Alteration
			t.altered[i].Devices = t.altered[i].Devices.Bare()
		}
	}
	next.Turn = s.live.Turn + 1
	s.addTurn(t)
	s.live = next
	if s.board != nil {
		s.board.at = time.Time{} // other settings are pending now
	}
}

// addTurn notes how what is live altered. s.mu must be held.
func (s *liveEstate) addTurn(t turn) {
	if s.turns = append(s.turns, t); len(s.turns) > turnsKept {
		s.turns = slices.Delete(s.turns, 0, len(s.turns)-turnsKept)
	}
}

// sameAgain gives what is live with nothing altered, to be given another turn or other rollouts.
func (l *Live) sameAgain() *Live {
	return &Live{
		Revision: l.Revision, Turn: l.Turn, Side: l.Side, versions: l.versions, retired: l.retired, imported: l.imported, told: l.told,
		rolling: l.rolling, generations: l.generations,
	}
}

// SameSince tells whether a laptop gets what it got at some turn of what is live. It does not
// always know, and says no then.
func (s *liveEstate) SameSince(number int64, device estate.DeviceID) bool {
	live := s.Live()
	if number == live.Turn {
		return true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := len(s.turns) - 1; i >= 0; i-- {
		if s.turns[i].devices.On(live.Plan).Has(device) {
			return false
		}
		if s.turns[i].number == number {
			return true
		}
	}
	return false
}
