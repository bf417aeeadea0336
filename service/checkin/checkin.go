// Package checkin is the device side of the service: laptops enrol, and hold OMA Device Management
// sessions in which they are told what is wanted of them and say what they have.
//
// A session goes: credentials; the laptop's digest and revision; where the digest is not the one
// last seen, its reported values; the settings that are due, in Atomics; what they read as
// afterwards; end. What a laptop refuses is recorded with its code, and the rest is sent again
// without it in the same session.
package checkin

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/seal"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

const (
	sessionIdle   = 2 * time.Minute
	challengeLife = 2 * time.Minute
	enrolPurpose  = "enrol"
	enrolLife     = 7 * 24 * time.Hour
	// maxMessage is the longest message that laptops are told to send, in bytes.
	maxMessage = 256 << 10
	// leastMessage is the shortest limit of a laptop that is honoured, in bytes.
	leastMessage = 2 << 10
)

// Server is where laptops check in. It is safe for concurrent use.
type Server struct {
	store *store.Store
	flow  *workflow.Service
	seal  *seal.Key // of the credentials that are stored
	log   *slog.Logger
	now   func() time.Time // of sessions and credentials
	clock func() time.Time // of what is kept: check-ins, and what laptops report
	key   [32]byte         // of challenges; a restart voids them, and laptops ask again

	requireMAC bool
	withheld   []string // facts that no laptop is asked for

	mu         sync.Mutex
	nonces     map[string][]byte    // by device: of its next session
	used       map[string]time.Time // challenges that have been answered, until they expire
	sessions   map[string]*session  // by device: its newest
	seen       map[string]store.Laptop
	observedAt map[string]observation // by device: when it was asked for what baselines want to know
	asking     map[string]bool        // devices that are asked for everything at their next check-in
	listeners  map[string]*Listener   // by device: the connection that it holds for notifications
	settled    map[string]int64       // devices for which nothing was due, by the turn of what was live then
}

// Config is what a server needs.
type Config struct {
	Store *store.Store
	Flow  *workflow.Service
	Seal  *seal.Key // of the credentials that are stored
	Log   *slog.Logger
	Now   func() time.Time // of sessions and credentials
	Clock func() time.Time // of check-ins and what laptops report
	// RequireMAC refuses laptops that give credentials for a session instead of authenticating
	// each message.
	RequireMAC bool
	// Withheld are facts that no laptop is asked for, though a rule looks at them; "*" means all.
	Withheld []string
}

// NewServer gives a server over a store and the use cases.
func NewServer(c Config) *Server {
	d := &Server{
		store:      c.Store,
		flow:       c.Flow,
		seal:       c.Seal,
		log:        c.Log,
		now:        c.Now,
		clock:      c.Clock,
		requireMAC: c.RequireMAC,
		withheld:   c.Withheld,
		nonces:     map[string][]byte{},
		used:       map[string]time.Time{},
		sessions:   map[string]*session{},
		seen:       map[string]store.Laptop{},
		asking:     map[string]bool{},
		observedAt: map[string]observation{},
		settled:    map[string]int64{},
		listeners:  map[string]*Listener{},
	}
	d.flow.OnDue(d.TellDue)
	if d.clock == nil {
		d.clock = d.now
	}
	rand.Read(d.key[:])
	return d
}

// Sweep forgets what is over and writes down who was seen. It is to be called every second or so.
func (d *Server) Sweep(ctx context.Context) {
	now := d.now()
	d.mu.Lock()
	for device, s := range d.sessions {
		if now.Sub(s.touched) > sessionIdle {
			delete(d.sessions, device)
		}
	}
	for c, expires := range d.used {
		if now.After(expires) {
			delete(d.used, c)
		}
	}
	seen := d.seen
	d.seen = map[string]store.Laptop{}
	d.mu.Unlock()
	if len(seen) == 0 {
		return
	}
	if err := d.store.In(ctx).TouchLaptops(seen); err != nil {
		d.log.Error("noting check-ins", "error", err)
	}
	d.flow.Notify(workflow.Event{Topic: "device"})
}

// see notes that a device was seen; Sweep writes it down.
func (d *Server) see(device string, at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	l := d.seen[device]
	l.LastSeen = &at
	l.Sessions++
	d.seen[device] = l
}

// challenge gives the nonce that is handed out when credentials are asked for. It is computed from
// the device, the session and the time, so that nothing is kept for strangers and no number of
// their tries pushes out a laptop's.
func (d *Server) challenge(device, session string, window int64) []byte {
	h := hmac.New(sha256.New, d.key[:])
	fmt.Fprintf(h, "%s\x00%s\x00%d", device, session, window)
	return h.Sum(nil)[:16]
}

func (d *Server) window() int64 { return d.now().UnixMilli() / challengeLife.Milliseconds() }

// authenticate tests what a laptop proves against the nonce of the device's next session and
// against the session's challenges of this window of time and the last. A wrong try changes
// nothing: it does not void a laptop's nonce.
func (d *Server) authenticate(ctx context.Context, device, session string,
	proves func(credential string, nonce []byte) bool) (laptop enrolled, ok bool) {
	if d.flow.Live().Plan.Device(estate.DeviceID(device)) == nil {
		return enrolled{}, false // it left the estate
	}
	laptop, ok = d.enrolled(ctx, device)
	if !ok {
		return enrolled{}, false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if nonce := d.nonces[device]; nonce != nil && proves(laptop.credential, nonce) {
		delete(d.nonces, device) // a nonce is good for one session
		return laptop, true
	}
	for _, window := range []int64{d.window(), d.window() - 1} {
		nonce := d.challenge(device, session, window)
		if _, twice := d.used[string(nonce)]; !twice && proves(laptop.credential, nonce) {
			d.used[string(nonce)] = d.now().Add(2 * challengeLife)
			return laptop, true
		}
	}
	return enrolled{}, false
}

// enrolled is a laptop that has enrolled, and what its credentials are tested with, opened.
type enrolled struct {
	row        store.Laptop
	credential string
}

// enrolled gives a laptop. ok is false where it has not enrolled, and where its credential cannot
// be opened, which is logged.
func (d *Server) enrolled(ctx context.Context, device string) (laptop enrolled, ok bool) {
	row, err := d.store.In(ctx).Laptop(device)
	if err != nil || row.Credential == "" {
		return enrolled{}, false
	}
	credential, err := d.seal.OpenFor(device, row.Credential)
	if err != nil {
		d.log.Error("opening a laptop's credential", "device", device, "error", err)
		return enrolled{}, false
	}
	return enrolled{row, credential}, true
}

// SealCredentials seals the credentials that an earlier version of the service stored in the clear.
func (d *Server) SealCredentials(ctx context.Context) error {
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		laptops, err := tx.Laptops()
		if err != nil {
			return err
		}
		for _, laptop := range laptops {
			if laptop.Credential == "" || seal.IsSealedFor(laptop.Credential) {
				continue
			}
			laptop.Credential = d.seal.SealFor(laptop.Device, laptop.Credential)
			if err := tx.SaveLaptop(laptop); err != nil {
				return err
			}
		}
		return nil
	})
}

// nextNonce makes the nonce of a device's next session.
func (d *Server) nextNonce(device string) []byte {
	nonce := make([]byte, 16)
	rand.Read(nonce)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.nonces[device] = nonce
	return nonce
}

// ErrRefused says that an enrolment code is unknown, used or expired, or made for another device.
// It does not say which.
var ErrRefused = errors.New("the enrolment code is refused")

// EnrolmentCode lets one device enrol, once.
type EnrolmentCode struct {
	Device  string
	Code    string // shown once
	Expires time.Time
}

// OfferCodes makes an enrolment code for each of the devices. A device that enrols again gets a new
// secret.
func (d *Server) OfferCodes(ctx context.Context, by workflow.Actor, devices []string) ([]EnrolmentCode, error) {
	if err := by.Need(access.Devices); err != nil {
		return nil, err
	}
	plan := d.flow.Live().Plan
	now := d.now()
	out := make([]EnrolmentCode, 0, len(devices))
	rows := make([]store.Code, 0, len(devices))
	for _, device := range devices {
		if plan.Device(estate.DeviceID(device)) == nil {
			return nil, &workflow.NotFoundError{Kind: "device", ID: device}
		}
		c := EnrolmentCode{device, signin.OneTimeCode(), now.Add(enrolLife)}
		out = append(out, c)
		rows = append(rows, store.Code{Hash: signin.HashOf(c.Code), Purpose: enrolPurpose, Device: device, CreatedAt: now, ExpiresAt: c.Expires})
	}
	err := d.store.Transaction(ctx, func(tx *store.Store) error {
		for _, device := range devices { // one code a laptop: the last
			if err := tx.DropCodesOf(enrolPurpose, device); err != nil {
				return err
			}
		}
		if err := tx.AddCodes(rows); err != nil {
			return err
		}
		return tx.Audit(
			store.AuditRecord{
				At:      now,
				By:      by.Name,
				Via:     by.Via,
				Request: by.Request,
				Action:  "offer enrolment codes",
				Kind:    string(estate.KindDevice),
				After:   fmt.Sprint(len(rows)),
			},
		)
	})
	return out, err
}

// WithdrawCode makes the unused enrolment code of a device void.
func (d *Server) WithdrawCode(ctx context.Context, by workflow.Actor, device string) error {
	if err := by.Need(access.Devices); err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.DropCodesOf(enrolPurpose, device); err != nil {
			return err
		}
		return tx.Audit(store.AuditRecord{
			At:       d.now(),
			By:       by.Name,
			Via:      by.Via,
			Request:  by.Request,
			Action:   "withdraw enrolment code",
			Kind:     string(estate.KindDevice),
			ObjectID: device,
		})
	})
}

// Enrolment is what a laptop gets when it enrols.
type Enrolment struct {
	Device string `json:"device"`
	Secret string `json:"secret" doc:"Shown once"`
	Nonce  string `json:"nonce" doc:"Of the first session, in base64"`
}

// Enrol takes a laptop in with its one-time code. from is the sender's network address. A refusal
// is recorded; other codes for the laptop are void from now on.
func (d *Server) Enrol(ctx context.Context, code, device, serial, from string) (Enrolment, error) {
	now := d.now()
	var out Enrolment
	err := d.store.Transaction(ctx, func(tx *store.Store) error {
		c, err := tx.UseCode(signin.HashOf(code), enrolPurpose, now)
		if err != nil || c.Device != device || !d.knows(device, serial) {
			return ErrRefused
		}
		out = Enrolment{Device: device, Secret: signin.Secret()}
		laptop, err := tx.Laptop(device)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		laptop.Device, laptop.EnrolledAt, laptop.Digest, laptop.Revision, laptop.Offers = device, &now, "", "", ""
		laptop.Credential = d.seal.SealFor(device, syncml.UserDigest(device, out.Secret))
		if err := tx.SaveLaptop(laptop); err != nil {
			return err
		}
		if err := tx.DropCodesOf(enrolPurpose, device); err != nil {
			return err
		}
		return tx.Audit(store.AuditRecord{At: now, By: device, Via: "device", Action: "enrol", Kind: string(estate.KindDevice), ObjectID: device})
	})
	if errors.Is(err, ErrRefused) {
		d.flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "device"}, "enrolment refused", from)
	}
	if err == nil {
		out.Nonce = base64.StdEncoding.EncodeToString(d.nextNonce(device))
		d.flow.Notify(workflow.Event{Topic: "device", ID: device})
	}
	return out, err
}

// knows tells whether the estate has a device with this serial number; a device without one takes
// any.
func (d *Server) knows(device, serial string) bool {
	dev := d.flow.Live().Plan.Device(estate.DeviceID(device))
	return dev != nil && (dev.Serial == "" || dev.Serial == serial)
}
