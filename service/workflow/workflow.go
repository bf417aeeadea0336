// Package workflow has the use cases of the service: load a snapshot, call the core, save, record the audit entry.
// It is the only place where the core and the store meet.
//
// What is live is one compiled plan, swapped as a whole when a change is published. A change is a set of
// edits laid over it; its impact is the comparison of the two.
package workflow

import (
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"runtime"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/threads"
	"zenithridge.example/zridge/files"
	"zenithridge.example/zridge/service/store"
)

// Actor is who does something, and through what.
type Actor struct{ Name, Via string }

// Config says how a Service is made. Now defaults to the clock; Day, when set, is the day that exceptions are judged on.
type Config struct {
	Store   *store.Store
	Shipped files.Dictionary
	Log     *slog.Logger
	Now     func() time.Time
	Day     estate.Date
	MaxFile int64  // bytes of the largest file that is kept; 0: DefaultMaxFile
	Secrets string // folder with the passwords that sources need, a file each; empty: none
}

// Service runs the use cases. It is safe for concurrent use.
type Service struct {
	store   *store.Store
	shipped files.Dictionary
	log     *slog.Logger
	now     func() time.Time
	fixed   estate.Date
	bus     bus

	maxFile  int64
	reading  chan struct{} // as many as files are read at once
	trying   chan struct{} // as many as are tried at once
	drafting sync.Mutex    // held while it is worked out what a change comes to
	writing  sync.Mutex    // held while a change is edited or published, or a source taken in
	sources  sources

	mu     sync.Mutex
	live   *Live
	turns  []turn            // how what is live altered lately, the oldest first
	drafts map[string]*draft // by change: what it would be, until it or the live estate alters
	board  *laptopStates
}

// Live is the estate as it is published, resolved on a day.
type Live struct {
	Revision int64
	Turn     int64 // rises by one whenever what is live alters
	impact.Side
	versions kept[int64]
	retired  kept[int64]
	imported kept[Origin] // objects that a source has, or had

	countsOnce  sync.Once
	clashing    []int32 // by device in the order of ids: settings that policies conflict on
	wrong       []int32 // checks that find something
	lintsOnce   sync.Once
	lints       []resolve.Lint
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

// New makes a service over a store and loads what is live.
func New(c Config) (*Service, error) {
	s := &Service{store: c.Store, shipped: c.Shipped, log: c.Log, now: c.Now, fixed: c.Day, maxFile: c.MaxFile, reading: make(chan struct{}, 2), trying: make(chan struct{}, runtime.NumCPU()), drafts: map[string]*draft{}}
	s.sources.secrets, s.sources.running, s.sources.wake = c.Secrets, map[string]*Run{}, make(chan struct{}, 1)
	if s.maxFile == 0 {
		s.maxFile = DefaultMaxFile
	}
	if s.now == nil {
		s.now = func() time.Time { return time.Now().UTC() }
	}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	live, err := s.load()
	if err != nil {
		return nil, fmt.Errorf("loading the live estate: %w", err)
	}
	s.live = live
	return s, nil
}

// Today is the day that exceptions are judged on.
func (s *Service) Today() estate.Date {
	if s.fixed != "" {
		return s.fixed
	}
	return estate.Date(s.now().Format(time.DateOnly))
}

// Live gives what is live today. When the day has changed since it was resolved, it is resolved anew.
func (s *Service) Live() *Live {
	today := s.Today()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live.Plan.Snapshot().Day != today {
		was := s.live
		next := &Live{Revision: was.Revision, Side: was.Side.With(was.Plan.Snapshot().On(today)), versions: was.versions, retired: was.retired, imported: was.imported}
		report := impact.Compare(was.Side, next.Side)
		s.goLive(next, report)
		go s.dayTurned(was.Side, next.Side, report, next.Revision, today)
	}
	return s.live
}

// turn is one altering of what is live, with the laptops that get something else by it.
type turn struct {
	number  int64 // of what was live before
	devices resolve.Devices
}

// turnsKept is how far back it is known which laptops what is live altered for.
const turnsKept = 256

// goLive puts what is live in the place of what was. s.mu must be held.
func (s *Service) goLive(next *Live, report *impact.Report) {
	t := turn{number: s.live.Turn}
	if report != nil {
		t.devices = report.Devices.Bare()
	}
	next.Turn = s.live.Turn + 1
	if s.turns = append(s.turns, t); len(s.turns) > turnsKept {
		s.turns = slices.Delete(s.turns, 0, len(s.turns)-turnsKept)
	}
	s.live = next
}

// SameSince tells whether a laptop gets what it got at some turn of what is live. It does not always know, and says no then.
func (s *Service) SameSince(number int64, device estate.DeviceID) bool {
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

// load reads the live estate from the store.
func (s *Service) load() (*Live, error) {
	objects, err := s.store.Objects()
	if err != nil {
		return nil, err
	}
	live := &Live{Turn: 1}
	versions, retired := make(map[objectKey]int64, len(objects)), map[objectKey]int64{}
	if live.Revision, err = s.store.Revision(); err != nil {
		return nil, err
	}
	imported, err := s.store.AllBrought()
	if err != nil {
		return nil, err
	}
	records := make(map[objectKey]store.SourceRecord, len(imported))
	origins := make(map[objectKey]Origin, len(imported))
	for _, r := range imported {
		key := objectKey{estate.Kind(r.Kind), r.ObjectID}
		records[key], origins[key] = r, originOf(r)
	}
	bodies := make([]body, 0, len(objects)+len(imported))
	for _, o := range objects {
		key := objectKey{estate.Kind(o.Kind), o.ID}
		if o.Retired {
			retired[key] = o.Version
			continue
		}
		text, err := compose(records[key].Brought, o.Body, o.Local)
		if err != nil {
			return nil, err
		}
		bodies = append(bodies, body{key, text})
		versions[key] = o.Version
		delete(records, key)
	}
	for key, r := range records {
		bodies = append(bodies, body{key, r.Brought})
	}
	live.versions, live.retired, live.imported = keep(versions), keep(retired), keep(origins)
	decoded, err := decodeAll(bodies)
	if err != nil {
		return nil, err
	}
	snapshot := files.Assemble(decoded, s.shipped).On(s.Today())
	snapshot.Sort()
	if len(snapshot.Units) == 0 { // before the first import
		snapshot.Units = []estate.Unit{{ID: standIn, Title: "Company"}}
	}
	snapshot, _ = snapshot.Sever(nil, nil)
	live.Side = impact.Resolve(snapshot)
	return live, nil
}

// body is an object as it is written.
type body struct {
	objectKey
	text string
}

// decodeAll reads objects on all threads.
func decodeAll(bodies []body) ([]any, error) {
	objects, errs := make([]any, len(bodies)), make([]error, len(bodies))
	threads.Share(len(bodies), func(mine iter.Seq[int]) {
		for i := range mine {
			var err error
			if objects[i], _, err = files.DecodeJSON(bodies[i].kind, []byte(bodies[i].text)); err != nil {
				errs[i] = fmt.Errorf("%s %s: %w", bodies[i].kind, bodies[i].id, err)
			}
		}
	})
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return objects, nil
}

// audit appends records of what an actor does.
func (s *Service) audit(tx *store.Store, by Actor, records ...store.AuditRecord) error {
	now := s.now()
	for i := range records {
		records[i].At, records[i].By, records[i].Via = now, by.Name, by.Via
	}
	return tx.Audit(records...)
}

// NotFoundError says that something is not there.
type NotFoundError struct{ Kind, ID string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("no %s %q", e.Kind, e.ID) }

func notFound(err error, kind, id string) error {
	if errors.Is(err, store.ErrNotFound) {
		return &NotFoundError{kind, id}
	}
	return err
}

// StaleError says that what is being altered was altered by somebody else since it was read.
type StaleError struct {
	What    string
	Version int64 // as it is now
	By      string
	At      time.Time
}

func (e *StaleError) Error() string {
	return fmt.Sprintf("%s was altered by %s at %s; it is version %d now", e.What, e.By, e.At.Format(time.RFC3339), e.Version)
}

// NeedVersionError says that an alteration must name the version that it starts from.
type NeedVersionError struct{ What string }

func (e *NeedVersionError) Error() string {
	return e.What + " is there already; say with If-Match which version is altered"
}

// StateError says that a change is not in a state in which this can be done.
type StateError struct{ Change, State, Expected string }

func (e *StateError) Error() string {
	return fmt.Sprintf("change %s is %s, expected %s", e.Change, e.State, e.Expected)
}

// Overtaken is an object that was published otherwise since a change began to edit it.
type Overtaken struct {
	Kind     string
	ID       string
	Base     int64
	Live     int64
	By       string
	At       time.Time
	Change   string
	Revision int64
}

// OvertakenError says that a change can't be published because of others that were.
type OvertakenError struct{ Objects []Overtaken }

func (e *OvertakenError) Error() string {
	o := e.Objects[0]
	return fmt.Sprintf("%s %s was published otherwise by %s in change %s (version %d, this change began with %d)", o.Kind, o.ID, o.By, o.Change, o.Live, o.Base)
}
