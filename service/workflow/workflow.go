// Package workflow has the use cases of the service: load a snapshot, call the core, save, record
// the audit entry. It is the only place where the core and the store meet.
//
// What is live is one compiled plan, swapped as a whole when a change is published. A change is a
// set of edits laid over it; its impact is the comparison of the two.
package workflow

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"fmt"
	"log/slog"
	"runtime"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/malware"
	"zenithridge.example/zridge/service/store"
)

// Actor is who does something, through what, and what they may do.
type Actor struct {
	Name    string
	Via     string // console, cli, api, or what the service itself does it for
	Request string // id of the request, which the log has, too; empty: none
	Held    access.Held
	Roles   []string // roles that are granted to them, anywhere
}

// Need gives an error where a right is not held everywhere: an access.DeniedError, or an
// access.OutsideError if it is held for some units. The right to read is enough for some units: the
// use case gives what is seen of these (reading.go).
func (a Actor) Need(r access.Right) error {
	if a.Held.Everywhere.Has(r) || r == access.Read && a.Held.Anywhere().Has(r) {
		return nil
	}
	if units := a.Held.UnitsWith(r); len(units) > 0 {
		return &access.OutsideError{Right: r, Units: units, What: "this"}
	}
	return &access.DeniedError{Right: r}
}

// Config says how a Service is made. Now defaults to the clock; Day, when set, is the day that
// exceptions are judged on.
type Config struct {
	Store   *store.Store
	Shipped files.Dictionary
	Log     *slog.Logger
	Now     func() time.Time
	Day     estate.Date
	MaxFile int64            // bytes of the largest file that is kept; 0: DefaultMaxFile
	Space   int64            // bytes that all files together may take; 0: DefaultFileSpace
	Scanner *malware.Scanner // searches files for malware; nil: nothing does
	Secrets string           // folder with the passwords that sources need, a file each; empty: none
	Zone    *time.Location   // by which days turn: exceptions, days of review; nil: UTC
	Keep    time.Duration    // how long runs of sources and what they did to objects are kept; 0: DefaultKeep

	AuditKeys []ed25519.PublicKey // by which the audit log is signed
	Escrow    *escrow.Keyring     // opens the recovery keys that are sealed to the service; nil: it opens none
}

// DefaultKeep is how long runs of sources and what they did to objects are kept unless the
// configuration says otherwise.
const DefaultKeep = 400 * 24 * time.Hour

// Service is the use cases of the service, a part for each group of them. Their methods are methods
// of the Service. It is safe for concurrent use.
//
// Parts know the live estate, and the parts in the order of this list before them.
type Service struct {
	*liveEstate      // what is live, and how it is replaced
	*FileService     // files that values name
	*ChangeService   // changes: edits, what they do, publishing, history
	*SourceService   // sources of people and devices
	*AudienceService // groups, audiences, detaching, saved views
	*ConflictService // conflicts, questions about them, exceptions
	*LaptopService   // lists and pages of laptops and people, what is pending on them
	*RolloutService  // rollouts: waves, what laptops report of them, taking back
	*BaselineService // baselines, and how laptops stand to them
	*RecoveryService // recovery keys: taking them in, showing them, how far laptops are covered

	folds     folds // what happens often and is not written down yet
	auditKeys []ed25519.PublicKey
}

// New makes a service over a store and loads what is live.
func New(c Config) (*Service, error) {
	live := newLiveEstate(c)
	if c.MaxFile == 0 {
		c.MaxFile = DefaultMaxFile
	}
	if c.Keep == 0 {
		c.Keep = DefaultKeep
	}
	if c.Escrow == nil {
		c.Escrow = &escrow.Keyring{}
	}
	files := &FileService{liveEstate: live, maxFile: c.MaxFile, space: cmp.Or(c.Space, DefaultFileSpace), reading: make(chan struct{}, 2),
		search: newFileSearch(c.Scanner)}
	changes := &ChangeService{liveEstate: live, files: files, trying: make(chan struct{}, runtime.NumCPU())}
	conflicts := &ConflictService{liveEstate: live, changes: changes}
	live.dayTurned = conflicts.dayTurned
	s := &Service{
		liveEstate: live, FileService: files, ChangeService: changes, ConflictService: conflicts,
		SourceService: &SourceService{
			liveEstate: live, keep: c.Keep, sources: sources{secrets: c.Secrets, running: map[string]*Run{}, wake: make(chan struct{}, 1)},
		},
		AudienceService: &AudienceService{liveEstate: live, changes: changes},
		LaptopService:   &LaptopService{liveEstate: live, delivered: map[string]int64{}},
		RolloutService:  &RolloutService{liveEstate: live, changes: changes},
		BaselineService: &BaselineService{live},
		RecoveryService: &RecoveryService{liveEstate: live, keyring: c.Escrow},
		auditKeys:       c.AuditKeys,
	}
	loaded, err := live.load(live.ctx)
	if err != nil {
		return nil, fmt.Errorf("loading the live estate: %w", err)
	}
	live.live = loaded
	if err := live.loadRollouts(live.ctx); err != nil {
		return nil, fmt.Errorf("loading the rollouts under way: %w", err)
	}
	return s, nil
}

// newLiveEstate gives the live estate before it is loaded.
func newLiveEstate(c Config) *liveEstate {
	s := &liveEstate{
		store:   c.Store,
		shipped: c.Shipped,
		log:     c.Log,
		now:     c.Now,
		fixed:   c.Day,
		zone:    c.Zone,
		drafts:  map[string]*draft{},
		laid:    map[string]*laid{},

		machines:     map[string]*machine{},
		rolloutsWake: make(chan struct{}, 1),
	}
	s.ctx, s.stop = context.WithCancel(context.Background())
	if s.zone == nil {
		s.zone = time.UTC
	}
	if s.now == nil {
		s.now = func() time.Time { return time.Now().UTC() }
	}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	return s
}

// background runs f in a goroutine that Close waits for. Once the service is closed nothing is
// begun any more.
func (s *liveEstate) background(f func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx.Err() == nil {
		s.running.Go(f)
	}
}

// Close stops what runs in the background and waits until it is over. The store stays open.
func (s *liveEstate) Close() {
	s.mu.Lock()
	s.stop()
	s.mu.Unlock()
	s.running.Wait()
}

// audit appends records of what an actor does.
func (s *liveEstate) audit(tx *store.Store, by Actor, records ...store.AuditRecord) error {
	now := s.now()
	for i := range records {
		records[i].At, records[i].By, records[i].Via, records[i].Request = now, by.Name, by.Via, by.Request
	}
	return tx.Audit(records...)
}
