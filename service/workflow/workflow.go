// Package workflow has the use cases of the service: load a snapshot, call the core, save, record the audit entry.
// It is the only place where the core and the store meet.
//
// What is live is one compiled plan, swapped as a whole when a change is published. A change is a set of
// edits laid over it; its impact is the comparison of the two.
package workflow

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/files"
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
	MaxFile int64          // bytes of the largest file that is kept; 0: DefaultMaxFile
	Secrets string         // folder with the passwords that sources need, a file each; empty: none
	Zone    *time.Location // by which days turn: exceptions, days of review; nil: UTC
	Keep    time.Duration  // how long runs of sources and what they did to objects are kept; 0: DefaultKeep
}

// DefaultKeep is how long runs of sources and what they did to objects are kept unless the configuration says otherwise.
const DefaultKeep = 400 * 24 * time.Hour

// Service runs the use cases. It is safe for concurrent use.
type Service struct {
	store   *store.Store
	shipped files.Dictionary
	log     *slog.Logger
	now     func() time.Time
	fixed   estate.Date
	zone    *time.Location
	bus     bus

	ctx     context.Context // ends when the service is closed
	stop    context.CancelFunc
	running sync.WaitGroup // goroutines in the background

	maxFile  int64
	keep     time.Duration // of runs of sources and what they did
	reading  chan struct{} // as many as files are read at once
	trying   chan struct{} // as many as are tried at once
	drafting sync.Mutex    // held while it is worked out what a change comes to
	writing  sync.Mutex    // held while a change is edited or published, or a source taken in
	turning  sync.Mutex    // held while the estate is resolved on a new day
	renewing sync.Mutex    // held while what is live is compiled anew
	sources  sources

	mu        sync.Mutex // guards what follows; see live.go for the order of locks
	live      *Live
	turns     []turn            // how what is live altered lately, the oldest first
	delivered map[string]int64  // by device: the turn of what was live when its deliveries were last brought up to date
	drafts    map[string]*draft // by change: what it would be, until it or the live estate alters
	board     *laptopStates
}

// New makes a service over a store and loads what is live.
func New(c Config) (*Service, error) {
	s := &Service{store: c.Store, shipped: c.Shipped, log: c.Log, now: c.Now, fixed: c.Day, maxFile: c.MaxFile, reading: make(chan struct{}, 2), trying: make(chan struct{}, runtime.NumCPU()), drafts: map[string]*draft{},
		zone: c.Zone, delivered: map[string]int64{}}
	s.ctx, s.stop = context.WithCancel(context.Background())
	if s.zone == nil {
		s.zone = time.UTC
	}
	s.sources.secrets, s.sources.running, s.sources.wake = c.Secrets, map[string]*Run{}, make(chan struct{}, 1)
	if s.keep = c.Keep; s.keep == 0 {
		s.keep = DefaultKeep
	}
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

// background runs f in a goroutine that Close waits for. Once the service is closed nothing is begun any more.
func (s *Service) background(f func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx.Err() == nil {
		s.running.Go(f)
	}
}

// Close stops what runs in the background and waits until it is over. The store stays open.
func (s *Service) Close() {
	s.mu.Lock()
	s.stop()
	s.mu.Unlock()
	s.running.Wait()
}

// audit appends records of what an actor does.
func (s *Service) audit(tx *store.Store, by Actor, records ...store.AuditRecord) error {
	now := s.now()
	for i := range records {
		records[i].At, records[i].By, records[i].Via = now, by.Name, by.Via
	}
	return tx.Audit(records...)
}
