// This file simulates laptops: each keeps its values in memory, and some behave as laptops do.

package endpoint

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// Behaviour is how a simulated laptop differs from one that does as it is told.
type Behaviour string

const (
	Ordinary Behaviour = "ordinary"
	Slow     Behaviour = "slow"    // checks in at a fifth of the pace
	Offline  Behaviour = "offline" // checked in once, and never again
	Refusing Behaviour = "refuses" // refuses one of the settings that it is sent
	Wrong    Behaviour = "wrong"   // takes one of the settings, and reports something else

	RefusingAll Behaviour = "refuses-all" // refuses every value that it is sent
)

// Shares says how many of 100 laptops behave otherwise than ordinary, and how many of 100 people take a
// policy that is offered to them.
type Shares struct{ Slow, Offline, Refusing, Wrong, Taking int }

// takes tells whether a laptop's person takes an offered policy: always the same for the same names.
func (s Shares) takes(device, policy string) bool {
	h := fnv.New32a()
	h.Write([]byte(device + "/takes/" + policy))
	return int(h.Sum32()%100) < s.Taking
}

// BehaviourOf gives a laptop's behaviour: always the same for the same name and shares.
func (s Shares) BehaviourOf(device string) Behaviour {
	h := fnv.New32a()
	h.Write([]byte(device + "/behaviour"))
	n := int(h.Sum32() % 100)
	for _, each := range []struct {
		share int
		is    Behaviour
	}{{s.Slow, Slow}, {s.Offline, Offline}, {s.Refusing, Refusing}, {s.Wrong, Wrong}} {
		if n < each.share {
			return each.is
		}
		n -= each.share
	}
	return Ordinary
}

// Memory is a platform that keeps values in memory. The zero Memory is ready to use.
type Memory struct {
	Behaviour Behaviour
	Own       map[setting.ID]setting.Value // what somebody set at the laptop, in force where nothing manages it
	Lacks     map[setting.ID]bool          // settings that it says it does not have
	Takes     func(policy string) bool     // whether its person takes an offered policy; nil: they take none
	Device    string                       // its id; empty: it has no disk that could be encrypted

	mu     sync.Mutex
	values map[setting.ID]setting.Value
	disk   simulatedDisk
	offers map[string]syncml.Offer // that it shows
	taken  map[string]bool         // what its person chose, of all that it ever showed
}

// ShowOffer implements Chooser: the person decides at once, and for good.
func (m *Memory) ShowOffer(policy string, o syncml.Offer) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.offers == nil {
		m.offers, m.taken = map[string]syncml.Offer{}, map[string]bool{}
	}
	m.offers[policy] = o
	if _, chosen := m.taken[policy]; !chosen {
		m.taken[policy] = m.Takes != nil && m.Takes(policy)
	}
}

// HideOffer implements Chooser.
func (m *Memory) HideOffer(policy string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.offers, policy)
}

// Taken implements Chooser.
func (m *Memory) Taken() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	for policy, is := range m.taken {
		if is {
			out = append(out, policy)
		}
	}
	slices.Sort(out)
	return out
}

// Choose lets the person take an offered policy, or leave it. It tells whether the policy is offered.
func (m *Memory) Choose(policy string, take bool) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, shown := m.offers[policy]; !shown {
		return false
	}
	m.taken[policy] = take
	return true
}

// Offers gives what is shown to the person, by policy.
func (m *Memory) Offers() map[string]syncml.Offer {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.offers)
}

// odd tells whether a setting is the one in six that a refusing or wrong laptop stumbles over.
func (m *Memory) odd(id setting.ID) bool {
	h := fnv.New32a()
	h.Write([]byte(id))
	return h.Sum32()%6 == 0
}

// Apply implements Platform.
func (m *Memory) Apply(id setting.ID, v setting.Value) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.values == nil {
		m.values = map[setting.ID]setting.Value{}
	}
	if v.IsNothing() {
		delete(m.values, id)
		return syncml.OK
	}
	switch {
	case m.Lacks[id]:
		return syncml.NotSupported
	case m.Behaviour == Refusing && m.odd(id), m.Behaviour == RefusingAll:
		return syncml.Denied
	case m.Behaviour == Wrong && m.odd(id):
		v = otherThan(v)
	}
	m.values[id] = v
	return syncml.OK
}

// otherThan gives another value of the same kind.
func otherThan(v setting.Value) setting.Value {
	switch v.Kind() {
	case setting.Bool:
		return setting.BoolValue(!v.Bool())
	case setting.Integer:
		return setting.IntegerValue(v.Integer() + 1)
	case setting.List, setting.Table:
		return setting.ListValue(nil)
	case setting.FileKind:
		return setting.FileValue(setting.File{SHA256: strings.Repeat("0", 64), Name: "another file"})
	}
	return setting.TextValue(v.Text() + " (as found)")
}

// Alter puts a value into a laptop as somebody at its keyboard would.
func (m *Memory) Alter(id setting.ID, v setting.Value) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.values[id] = v
}

// Observe implements Observer.
func (m *Memory) Observe(id setting.ID) (setting.Value, bool) {
	v, known := m.Own[id]
	return v, known
}

// SetUpByHand gives what somebody set at a laptop before anything managed it: always the same for
// the same name.
func SetUpByHand(device string) map[setting.ID]setting.Value {
	h := fnv.New32a()
	h.Write([]byte(device + "/by hand"))
	n := h.Sum32()
	own := map[setting.ID]setting.Value{
		"system.keyboard": setting.TextValue(
			[]string{"gb", "is", "no"}[n%3],
		),
		"power.display_plugged_minutes": setting.IntegerValue(int64(5 + n%4*5)),
		"media.printing":                setting.BoolValue(true),
		"signin.fingerprint":            setting.BoolValue(n%2 == 0),
	}
	if n%4 == 0 { // a display that somebody set up to stay on
		own["power.lid_plugged"] = setting.TextValue("nothing")
		own["power.sleep_plugged_minutes"] = setting.IntegerValue(0)
		own["media.printers"] = setting.TableValue(
			[]setting.Row{{"name": setting.TextValue("Chart room"), "address": setting.TextValue("ipps://print.larkfell.example/chart-room")}},
		)
	}
	return own
}

// Reported implements Platform.
func (m *Memory) Reported() map[setting.ID]setting.Value {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.values)
}

// Fleet runs simulated laptops.
type Fleet struct {
	Base     string         // address of the service
	Interval time.Duration  // between two check-ins of a laptop
	Roots    *x509.CertPool // by which the service is trusted; nil: those of the machine
	Shares   Shares
	Report   func(device string, o Outcome, err error) // called after each session; may be nil
	Keep     func(Identity)                            // called when a laptop's next nonce is known; may be nil
	Pace     func(device string) float64               // how many intervals lie between two check-ins of a laptop; nil: 1
	Holds    func(device string) bool                  // whether a laptop holds a connection for notifications; nil: none does
	Lacks    func(device string) map[setting.ID]bool   // settings that a laptop says it does not have; nil: none

	once    sync.Once
	client  *http.Client
	held    *http.Client // of connections that are held
	mu      sync.Mutex
	laptops map[string]*Laptop
}

// Client gives an HTTP client for many laptops on one machine.
func Client(connections int) *http.Client {
	return &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		MaxIdleConns:        connections,
		MaxIdleConnsPerHost: connections,
		MaxConnsPerHost:     connections,
		IdleConnTimeout:     time.Minute,
	}}
}

// laptop gives a laptop of the fleet; it is the same one at every call.
func (f *Fleet) laptop(id Identity) *Laptop {
	f.once.Do(func() { f.client, f.laptops = Client(16), map[string]*Laptop{} })
	f.mu.Lock()
	defer f.mu.Unlock()
	l := f.laptops[id.Device]
	if l == nil {
		m := &Memory{Behaviour: f.Shares.BehaviourOf(id.Device), Own: SetUpByHand(id.Device), Device: id.Device}
		m.Takes = func(policy string) bool { return f.Shares.takes(id.Device, policy) }
		if f.Lacks != nil {
			m.Lacks = f.Lacks(id.Device)
		}
		l = New(f.Base, f.callerOf(id), id, m)
		l.Model = "simulated"
		f.laptops[id.Device] = l
	}
	return l
}

// callerOf gives what a laptop calls the service with: its own, which shows its certificate, or that of all
// laptops with secrets.
func (f *Fleet) callerOf(id Identity) *http.Client {
	if id.Certified == nil {
		return f.client
	}
	caller, err := id.Certified.Client(f.Roots)
	if err != nil {
		return f.client // its check-ins say what is wrong: it shows no certificate
	}
	return caller
}

// CheckIn lets laptops check in once each, a few at a time. The error is the first one.
func (f *Fleet) CheckIn(ctx context.Context, ids []Identity) error {
	const atOnce = 8
	next := make(chan Identity)
	errs := make([]error, atOnce)
	var wait sync.WaitGroup
	for i := range atOnce {
		wait.Go(func() {
			for id := range next {
				l := f.laptop(id)
				if _, err := l.CheckInFully(ctx); err != nil && errs[i] == nil {
					errs[i] = fmt.Errorf("%s: %w", id.Device, err)
				}
			}
		})
	}
	for _, id := range ids {
		next <- id
	}
	close(next)
	wait.Wait()
	return errors.Join(errs...)
}

// Run lets each laptop check in until the context ends. Their first sessions are spread over one
// interval.
func (f *Fleet) Run(ctx context.Context, ids []Identity) {
	var wait sync.WaitGroup
	for i, id := range ids {
		wait.Go(func() {
			l := f.laptop(id)
			behaviour := f.Shares.BehaviourOf(id.Device)
			interval := f.Interval
			if f.Pace != nil {
				interval = time.Duration(float64(interval) * f.Pace(id.Device))
			}
			pause := interval * time.Duration(i) / time.Duration(max(1, len(ids)))
			told := make(chan struct{}, 1)
			if f.Holds != nil && f.Holds(id.Device) && behaviour != Offline {
				wait.Go(func() { f.listen(ctx, id, told) })
			}
			for f.sleep(ctx, pause, told, l) {
				out, err := l.CheckInFully(ctx)
				l.Told = false
				if ctx.Err() != nil {
					return
				}
				if f.Report != nil {
					f.Report(id.Device, out, err)
				}
				if f.Keep != nil {
					f.Keep(l.Identity)
				}
				pause = interval - interval/20 + time.Duration(rand.Int64N(int64(interval/10)+1))
				switch {
				case behaviour == Offline && err == nil:
					return
				case behaviour == Slow:
					pause *= 5
				}
			}
		})
	}
	wait.Wait()
}

// listen holds a connection for notifications until the context ends; one that breaks is made anew.
func (f *Fleet) listen(ctx context.Context, id Identity, told chan<- struct{}) {
	caller := f.holding()
	if id.Certified != nil {
		caller = f.callerOf(id)
	}
	l := New(f.Base, caller, id, nil)
	for ctx.Err() == nil {
		l.Listen(ctx, func() { // why it broke does not matter: it is tried again
			select {
			case told <- struct{}{}:
			default:
			}
		})
		select {
		case <-ctx.Done():
		case <-time.After(2*time.Second + time.Duration(rand.Int64N(int64(3*time.Second)))):
		}
	}
}

// holding gives the client of connections that are held, of which each laptop has one.
func (f *Fleet) holding() *http.Client {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.held == nil {
		f.held = &http.Client{Transport: &http.Transport{DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext}}
	}
	return f.held
}

// sleep waits until a laptop is to check in, or is told to. It tells whether it is to go on.
func (f *Fleet) sleep(ctx context.Context, d time.Duration, told <-chan struct{}, l *Laptop) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-told:
		l.Told = true
		return true
	case <-timer.C:
		return true
	}
}

// String sums up a session for people.
func (o Outcome) String() string {
	return fmt.Sprintf("%d messages, %d applied, %d refused", o.Messages, o.Applied, o.Refused)
}
