package agent

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
)

// Agent checks in, and does what it is told.
type Agent struct {
	Folder   Folder
	Host     *adapter.Host
	Log      *slog.Logger
	Interval time.Duration // between two check-ins
	Page     string        // address of the laptop itself at which people see what is managed; empty: nowhere

	Encryption *Encryption // encrypts volumes; nil: none are

	mu   sync.Mutex
	told chan struct{} // lets the agent check in soon; nil: it does not run
}

// ErrNotEnrolled says that the laptop has not enrolled.
var ErrNotEnrolled = errors.New("this laptop is not enrolled; run: zridge-agent enrol ADDRESS --code CODE")

// roots gives the certificates by which the service is trusted; nil: those of the machine.
func (id *Identity) roots() (*x509.CertPool, error) {
	if id.Roots == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(id.Roots)) {
		return nil, errors.New("the certificates by which the service is trusted can't be read")
	}
	return pool, nil
}

// client gives an HTTP client that shows the certificate. The laptop must have enrolled.
func (id *Identity) client() (*http.Client, error) {
	roots, err := id.roots()
	if err != nil {
		return nil, err
	}
	return id.Certified.Client(roots)
}

// Enrol gets a certificate. The same call again goes on where somebody had to approve it first; the error is an
// *endpoint.WaitError as long as nobody has.
func (a *Agent) Enrol(ctx context.Context, id Identity) (device string, err error) {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return "", err
	}
	defer unlock()
	known, err := a.Folder.ReadIdentity()
	if err != nil {
		return "", err
	}
	if known.Request != nil && known.Base == id.Base && known.Code == id.Code {
		id.Request = known.Request // the same request again
	} else {
		request, err := endpoint.NewRequest(a.serial(), a.model())
		if err != nil {
			return "", err
		}
		id.Request = &request
	}
	if err := a.Folder.WriteIdentity(id); err != nil {
		return "", err
	}
	roots, err := id.roots()
	if err != nil {
		return "", err
	}
	caller := &http.Client{Timeout: 30 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}}
	id.Certified, err = endpoint.EnrolByCertificate(ctx, caller, id.Base, id.Device, id.Code, *id.Request)
	if err != nil {
		return "", err
	}
	id.Request, id.Code, id.Device = nil, "", ""
	return id.Certified.Device, a.Folder.WriteIdentity(id)
}

func (a *Agent) serial() string { return firmware(a.Host, "product_serial") }
func (a *Agent) model() string  { return firmware(a.Host, "product_name") }

// CheckIn holds one session with the service.
func (a *Agent) CheckIn(ctx context.Context, told bool) (endpoint.Outcome, error) {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return endpoint.Outcome{}, err
	}
	defer unlock()
	l, p, err := a.laptop(ctx)
	if err != nil {
		return endpoint.Outcome{}, err
	}
	if err := p.checkDrift(bootID(a.Host), time.Now().UTC()); err != nil {
		return endpoint.Outcome{}, err
	}
	l.Told = told
	out, err := l.CheckIn(ctx)
	for n := 1; err == nil && n < sessionsForKeys && a.encrypt(ctx, l); n++ {
		_, err = l.CheckIn(ctx)
	}
	if p.state.Revision = l.Revision; err == nil {
		p.state.Last = time.Now().UTC()
	}
	return out, errors.Join(err, a.Folder.WriteState(p.state))
}

// sessionsForKeys is how many sessions follow one another while keys are made, stored and put into force.
const sessionsForKeys = 4

// encrypt takes volumes as far as they go, and tells whether the service is to hear of it at once.
func (a *Agent) encrypt(ctx context.Context, l *endpoint.Laptop) (news bool) {
	if a.Encryption == nil {
		return false
	}
	for range 2 { // what is stored at a company's address goes on at once
		if err := a.Encryption.Advance(ctx, l.Device, a.wake); err != nil {
			a.Log.Warn("encrypting volumes", "error", err)
		}
		if err := a.Encryption.StoreElsewhere(ctx, l.Device, l.Caller()); err != nil {
			a.Log.Warn("storing recovery keys", "error", err)
		}
	}
	return len(a.Encryption.Tells(ctx)) > 0
}

// wake lets the agent check in soon.
func (a *Agent) wake() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.told != nil {
		select {
		case a.told <- struct{}{}:
		default:
		}
	}
}

// laptop gives the client of the protocol with the state that is kept. The folder must be locked.
func (a *Agent) laptop(ctx context.Context) (*endpoint.Laptop, *platform, error) {
	id, err := a.Folder.ReadIdentity()
	if err != nil {
		return nil, nil, err
	}
	if id.Certified == nil {
		return nil, nil, ErrNotEnrolled
	}
	caller, err := a.caller(ctx, &id)
	if err != nil {
		return nil, nil, err
	}
	p, err := a.open()
	if err != nil {
		return nil, nil, err
	}
	l := endpoint.New(id.Base, caller, endpoint.Identity{Device: id.Certified.Device}, p)
	l.Model, l.Revision = a.model(), p.state.Revision
	return l, p, nil
}

// open reads the state and does again what was interrupted.
func (a *Agent) open() (*platform, error) { return open(a.Folder, a.Host, a.Log, a.Encryption) }

// caller gives an HTTP client that shows the laptop's certificate. It renews the certificate when that is due.
func (a *Agent) caller(ctx context.Context, id *Identity) (*http.Client, error) {
	caller, err := id.client()
	if err != nil {
		return nil, err
	}
	due, err := id.Certified.DueAt()
	if err != nil || time.Now().Before(due) {
		return caller, err
	}
	next, err := id.Certified.Renew(ctx, caller, id.Base)
	if err != nil {
		a.Log.Warn("renewing the certificate", "error", err) // the old one counts for a while
		return caller, nil
	}
	id.Certified = next
	if err := a.Folder.WriteIdentity(*id); err != nil {
		return nil, err
	}
	a.Log.Info("certificate renewed")
	return id.client()
}

const (
	firstPause = 5 * time.Second // after a check-in that failed; each further one waits twice as long
	holdPause  = 10 * time.Second
)

// Run checks in until the context ends: at the interval, with some chance in it so that laptops do not all come at
// once, and when the service says so. After a failure it waits longer and longer, up to the interval.
func (a *Agent) Run(ctx context.Context) error {
	told := make(chan struct{}, 1)
	a.mu.Lock()
	a.told = told
	a.mu.Unlock()
	// What runs beside ends with this, and is waited for: it writes into the folder.
	var beside sync.WaitGroup
	ctx, end := context.WithCancel(ctx)
	defer func() {
		end()
		beside.Wait()
	}()
	beside.Go(func() { a.listen(ctx, told) })
	beside.Go(func() {
		if err := a.watch(ctx); err != nil {
			a.Log.Warn("watching files", "error", err) // what is altered shows at the next check-in
		}
	})
	if a.Page != "" {
		beside.Go(func() {
			if err := a.servePage(ctx, told); err != nil {
				a.Log.Warn("the page can't be shown", "error", err)
			}
		})
	}
	pause, backoff := time.Duration(0), firstPause
	byService := false
	for {
		timer := time.NewTimer(pause)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil
		case <-told:
			timer.Stop()
			byService = true
		case <-timer.C:
			byService = false
		}
		out, err := a.CheckIn(ctx, byService)
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, ErrNotEnrolled):
			return err
		case err != nil:
			a.Log.Warn("checking in", "error", err, "again in", backoff)
			pause, backoff = spread(backoff), min(2*backoff, a.Interval)
		default:
			if out.Applied+out.Refused > 0 {
				a.Log.Info("checked in", "outcome", out.String())
			}
			pause, backoff = spread(a.Interval), firstPause
		}
	}
}

// spread gives a time that differs by a tenth at most.
func spread(d time.Duration) time.Duration {
	return d - d/10 + time.Duration(rand.Int64N(int64(d/5)+1))
}

// listen holds a connection on which the service says when to check in. It is made anew when it breaks.
func (a *Agent) listen(ctx context.Context, told chan<- struct{}) {
	for ctx.Err() == nil {
		if err := a.hold(ctx, told); err != nil && ctx.Err() == nil {
			a.Log.Debug("the connection for notifications broke", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(spread(holdPause)):
		}
	}
}

func (a *Agent) hold(ctx context.Context, told chan<- struct{}) error {
	id, err := a.Folder.ReadIdentity()
	if err != nil || id.Certified == nil {
		return err
	}
	caller, err := id.client()
	if err != nil {
		return err
	}
	return endpoint.New(id.Base, caller, endpoint.Identity{Device: id.Certified.Device}, nil).Listen(ctx, func() {
		select {
		case told <- struct{}{}:
		default:
		}
	})
}

// Setting is a setting that is managed, as its laptop has it.
type Setting struct {
	ID       setting.ID    `json:"setting"`
	Wanted   setting.Value `json:"wanted"`
	Observed setting.Value `json:"observed"` // read just now from where it really lives; nothing: it is not in force
	InForce  bool          `json:"in_force"`
	Why      syncml.Why    `json:"why"`
	Since    time.Time     `json:"since,omitzero"`
	Failed   string        `json:"failed,omitempty"` // why the last value was not put into force
}

// Report is what the laptop knows of how it is managed.
type Report struct {
	Device   string                  `json:"device"`
	Service  string                  `json:"service"`
	Last     time.Time               `json:"last,omitzero"`
	Settings []Setting               `json:"settings"`
	Offers   map[string]syncml.Offer `json:"offers"`
	Taken    []string                `json:"taken"`
	Volumes  []recovery.Volume       `json:"volumes,omitempty"`
	// Facts is what the service was told of the laptop.
	Facts map[string]setting.Value `json:"facts"`
}

// Report reads what is managed, and what is in force now.
func (a *Agent) Report() (Report, error) {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return Report{}, err
	}
	defer unlock()
	id, err := a.Folder.ReadIdentity()
	if err != nil {
		return Report{}, err
	}
	if id.Certified == nil {
		return Report{}, ErrNotEnrolled
	}
	p, err := a.open()
	if err != nil {
		return Report{}, err
	}
	out := Report{Device: id.Certified.Device, Service: id.Base, Last: p.state.Last, Offers: p.state.Offers, Taken: p.Taken(),
		Facts: p.state.Facts}
	observed := p.Reported()
	if a.Encryption != nil {
		out.Volumes = a.Encryption.Volumes(context.Background())
	}
	for _, at := range p.state.managedIDs() {
		s := Setting{ID: at, Wanted: p.state.Managed[at], Observed: observed[at], Failed: p.state.Failed[at], Why: p.state.Why[at],
			Since: p.state.Since[at]}
		s.InForce = s.Observed.Equal(s.Wanted)
		out.Settings = append(out.Settings, s)
	}
	return out, nil
}

// Choose lets the laptop's person take an offered policy, or leave it. The service hears of it at the next
// check-in.
func (a *Agent) Choose(policy string, take bool) error {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	state, err := a.Folder.ReadState()
	if err != nil {
		return err
	}
	if _, offered := state.Offers[policy]; !offered {
		return fmt.Errorf("no policy %q is offered on this laptop", policy)
	}
	state.Taken[policy] = take
	return a.Folder.WriteState(state)
}

// Leave withdraws all that is managed, and forgets the service: the laptop is as it was before.
func (a *Agent) Leave() error {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	p, err := a.open()
	if err != nil {
		return err
	}
	var errs []error
	for _, id := range p.state.managedIDs() {
		if code := p.Apply(id, setting.Value{}); code != syncml.OK {
			errs = append(errs, fmt.Errorf("withdrawing %s: %s", id, p.state.Failed[id]))
		}
	}
	if err := errors.Join(errs...); err != nil {
		return err // what is left can be withdrawn later
	}
	if a.Encryption != nil {
		if err := a.Encryption.Forget(context.Background()); err != nil {
			return fmt.Errorf("leaving encrypted volumes: %w", err)
		}
	}
	return errors.Join(a.Folder.WriteState(State{}), a.Folder.WriteIdentity(Identity{}))
}
