// Package service puts the parts of the long-running service together and runs it.
package service

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/console"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/service/announce"
	"zenithridge.example/zridge/service/ca"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/enrolment"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/httpapi"
	"zenithridge.example/zridge/service/malware"
	"zenithridge.example/zridge/service/seal"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// Config says how the service runs. The zero Config listens on loopback, port 8470, and keeps its
// data in zridge.db.
type Config struct {
	Address  string         // host:port
	More     []net.Listener // at which it answers with TLS besides; where Address has none, the certificate is self-signed, for loopback names
	Database string         // file
	Day      estate.Date
	Scanner  string         // place of a ClamAV daemon that searches files for malware, as malware.New takes it; empty: nothing does
	Secrets  string         // folder with the passwords that sources need, a file each; empty: none
	MaxFile  int64          // bytes of the largest file that is kept; 0: 32 MiB
	Space    int64          // bytes that all files together may take; 0: 4 GiB
	Zone     *time.Location // by which days turn; nil: the machine's
	Keep     time.Duration  // how long runs of sources and what they did to objects are kept; 0: workflow.DefaultKeep
	Log      *slog.Logger

	TLS         TLS
	Authority   ca.Config      // of laptops' certificates; the zero Config: the service's own, in authority.pem beside the database
	Withheld    []string       // facts that no laptop is asked for; "*": none is
	BySecret    bool           // laptops may enrol with secrets, too; without TLS they do in any case
	Proxies     []netip.Prefix // that stand in front of the service; their X-Forwarded headers are believed
	Hosts       []string       // names that the service answers to; none: those of the certificate, or of loopback
	Connections int            // of one address at once; 0: 512
	RequireMAC  bool           // laptops have to authenticate each message; without it a session's credentials do

	Audit          AuditLog
	SealPassphrase string        // with which the key for secrets is encrypted; empty: it is not
	Escrow         escrow.Config // of what opens recovery keys; no file: escrow.key beside the database
	// file with the key for secrets in the database; empty: seal.key beside the database. It is made
	// if it is not there
	SealKey         string
	SecondFactorFor []string      // roles that demand a second factor
	LeakedPasswords string        // file of leaked passwords, which nobody may choose: see signin.LeakedPasswords; empty: none
	SessionIdle     time.Duration // after which a session that nobody uses ends; 0: 30 minutes
	OIDC            httpapi.OIDC
	SMTP            announce.SMTP // through which e-mail goes; no address: none is sent
	Webhooks        []string      // HOST:PORT to which webhooks may lead
	Links           string        // address of the console in what is sent; empty: where the service listens
	Clock           *Clock        // that rollouts, check-ins and the live estate count in; nil: real time
}

// Running is a service that answers.
type Running struct {
	Address      string // http://host:port, or https
	SetupCode    string // of the first administrator; empty when there is one
	certificates *certificates
	Certificate  *tls.Certificate // that the service answers with at its start; nil: none
	server       *http.Server
	flow         *workflow.Service
	checkIn      *checkin.Server
	store        *store.Store
	leaked       *signin.LeakedPasswords // nil: none
	stop         context.CancelFunc
	unlock       func() error   // lets another service have the database
	loops        sync.WaitGroup // what runs until stop
	signing      sync.WaitGroup // what signs and forwards the audit log, until all that writes to it has ended
	stopSigning  context.CancelFunc
	done         chan error
}

// leakedPasswords opens the list of leaked passwords, where one is named.
func (c *Config) leakedPasswords() (*signin.LeakedPasswords, error) {
	if c.LeakedPasswords == "" {
		return nil, nil
	}
	return signin.OpenLeakedPasswords(c.LeakedPasswords)
}

// malwareScanner gives the scanner, where one is named. One that does not answer yet is no fault: files
// are refused until it does.
func (c *Config) malwareScanner() (*malware.Scanner, error) {
	if c.Scanner == "" {
		return nil, nil
	}
	scanner, err := malware.New(c.Scanner)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if version, err := scanner.Version(ctx); err != nil {
		c.Log.Warn("the malware scanner does not answer; no files are taken before it does", "place", c.Scanner, "error", err)
	} else {
		c.Log.Info("files are searched for malware", "scanner", version)
	}
	return scanner, nil
}

const stopWithin = 5 * time.Second

// Start opens the database and begins to answer.
func Start(c Config) (*Running, error) {
	if c.Address == "" {
		c.Address = "127.0.0.1:8470"
	}
	if c.Database == "" {
		c.Database = "zridge.db"
	}
	if c.Zone == nil {
		c.Zone = time.Local
	}
	if c.Connections == 0 {
		c.Connections = 512
	}
	if err := c.checkTransport(); err != nil {
		return nil, err
	}
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	now := func() time.Time { return time.Now().UTC() }
	if c.Clock == nil {
		c.Clock = &Clock{}
	}
	if err := store.CheckModes(c.Database); err != nil {
		return nil, err
	}
	unlock, err := store.Lock(c.Database)
	if err != nil {
		return nil, err
	}
	started := false
	defer func() {
		if !started {
			unlock()
		}
	}()
	data, err := store.Open(c.Database)
	if err != nil {
		return nil, err
	}
	key, public, err := c.auditKey()
	if err != nil {
		data.Close()
		return nil, err
	}
	sealed, err := seal.Load(cmp.Or(c.SealKey, filepath.Join(filepath.Dir(c.Database), "seal.key")), c.SealPassphrase)
	if err != nil {
		data.Close()
		return nil, err
	}
	c.Escrow.File = cmp.Or(c.Escrow.File, filepath.Join(filepath.Dir(c.Database), "escrow.key"))
	keyring, err := escrow.Load(c.Escrow)
	if err != nil {
		data.Close()
		return nil, err
	}
	scanner, err := c.malwareScanner()
	if err != nil {
		data.Close()
		return nil, err
	}
	flow, err := workflow.New(
		workflow.Config{
			Store:     data,
			Shipped:   dictionary.Shipped(),
			Log:       c.Log,
			Now:       c.Clock.Now,
			Day:       c.Day,
			MaxFile:   c.MaxFile,
			Space:     c.Space,
			Scanner:   scanner,
			Secrets:   c.Secrets,
			Zone:      c.Zone,
			Keep:      c.Keep,
			AuditKeys: public,
			Escrow:    keyring,
		},
	)
	if err != nil {
		data.Close()
		return nil, err
	}
	if err := flow.AdoptRecipients(context.Background(), "Escrow identity of the service"); err != nil {
		data.Close()
		return nil, err
	}
	signing, err := newSigner(&c, flow, key)
	if err != nil {
		data.Close()
		return nil, err
	}
	forwarders, err := newForwarders(&c, data)
	if err != nil {
		data.Close()
		return nil, err
	}
	leaked, err := c.leakedPasswords()
	if err != nil {
		data.Close()
		return nil, err
	}
	desk := signin.New(data, now, signin.Config{
		Seal:   sealed,
		Demand: c.SecondFactorFor,
		Leaked: leaked,
		Idle:   c.SessionIdle,
		GroupsOf: func(person string) (in []string) {
			for _, id := range flow.Live().Plan.GroupsOfPerson(estate.PersonID(person)) {
				in = append(in, string(id))
			}
			return in
		},
		Today: func() string { return string(flow.Today()) },
		Unit:  func(id string) bool { return flow.Live().Plan.Unit(estate.UnitID(id)) != nil },
		Group: func(id string) bool {
			g, ok := flow.Live().Plan.Snapshot().Object(estate.KindGroup, id).(estate.Group)
			return ok && g.Of == estate.OfPeople
		},
	})
	code, err := desk.OpenSetup(context.Background())
	if err != nil {
		data.Close()
		return nil, err
	}
	listener, err := net.Listen("tcp", c.Address)
	if err != nil {
		data.Close()
		return nil, fmt.Errorf("listening on %s: %w", c.Address, err)
	}
	secured := &certificates{of: &c}
	if c.TLS.plain() && len(c.More) > 0 {
		besides := c
		besides.TLS.SelfSigned = true
		secured.of = &besides
	}
	if !secured.of.TLS.plain() {
		if err := secured.load(); err != nil {
			data.Close()
			listener.Close()
			return nil, err
		}
	}
	enrol, err := c.enrolment(data, flow, sealed, cmp.Or(strings.TrimSuffix(c.Links, "/"), c.laptopsAt(listener)))
	if err != nil {
		data.Close()
		listener.Close()
		return nil, err
	}
	if enrol != nil {
		secured.laptops = enrol
	}
	checkIn := checkin.NewServer(checkin.Config{Store: data, Flow: flow, Seal: sealed, Log: c.Log, Now: now, Clock: c.Clock.Now,
		RequireMAC: c.RequireMAC, Withheld: c.Withheld})
	if err := checkIn.SealCredentials(context.Background()); err != nil {
		data.Close()
		listener.Close()
		return nil, fmt.Errorf("sealing the credentials of laptops: %w", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	signed, stopSigning := context.WithCancel(context.Background())
	r := &Running{
		Address:      c.scheme() + listener.Addr().String(),
		Certificate:  secured.current,
		certificates: secured,
		SetupCode:    code,
		flow:         flow,
		checkIn:      checkIn,
		store:        data,
		leaked:       leaked,
		stop:         stop,
		stopSigning:  stopSigning,
		unlock:       unlock,
		done:         make(chan error, 1+len(c.More)),
	}
	hooks, err := signingKey("webhooks", filepath.Join(filepath.Dir(c.Database), "webhook.key"))
	if err != nil {
		data.Close()
		listener.Close()
		return nil, err
	}
	sender := announce.New(announce.Config{
		Store: data, Mail: flow.AddressOf, SMTP: c.SMTP, Hosts: c.Webhooks, Key: hooks,
		Base: strings.TrimSuffix(cmp.Or(c.Links, r.Address), "/"), Log: c.Log,
	})
	flow.AllowHooks(sender.MayHook)
	r.server = &http.Server{
		Handler: httpapi.New(
			httpapi.Config{
				Flow:    flow,
				SignIn:  desk,
				CheckIn: checkIn,

				Enrolment: enrol,
				BySecret:  c.BySecret || enrol == nil || c.TLS.plain() && len(c.Proxies) == 0,
				Console:   console.Files(),
				Log:       c.Log,
				Ending:    ctx.Done(),
				Proxies:   c.Proxies,
				OIDC:      c.OIDC,
				Clock:     c.Clock,

				HookKey:   base64.StdEncoding.EncodeToString(hooks.Public().(ed25519.PublicKey)),
				SendsMail: c.SMTP.Address != "",
				Mail:      sender.Deliver,
				MayHost:   c.mayHost(secured),
			},
		),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(c.Log.Handler(), slog.LevelWarn),
	}
	r.loops.Go(func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				checkIn.Sweep(context.WithoutCancel(ctx))
				flow.FlushOften(context.WithoutCancel(ctx), true)
				return
			case <-tick.C:
				checkIn.Sweep(context.WithoutCancel(ctx))
				flow.FlushOften(ctx, false)
			}
		}
	})
	r.loops.Go(func() { flow.Run(ctx) })
	r.loops.Go(func() { flow.RunRollouts(ctx) })
	r.loops.Go(func() { flow.RunBaselines(ctx) })
	r.loops.Go(func() { flow.RunCoverage(ctx) })
	r.loops.Go(func() { sender.Run(ctx) })
	r.signing.Go(func() { signing.run(signed) })
	for _, f := range forwarders {
		r.signing.Go(func() { f.run(signed) })
	}
	limited := httpapi.LimitConnections(listener, c.Connections, c.Proxies)
	if !c.TLS.plain() {
		limited = tls.NewListener(limited, secured.config())
	}
	go func() { r.done <- r.server.Serve(limited) }()
	for _, more := range c.More {
		go func() {
			r.done <- r.server.Serve(tls.NewListener(httpapi.LimitConnections(more, c.Connections, c.Proxies), secured.config()))
		}()
	}
	if secured.issuer != nil {
		r.loops.Go(func() { secured.obtain(ctx) })
	}
	started = true
	c.Log.Info("listening", "address", r.Address, "database", c.Database, "revision", flow.Live().Revision)
	return r, nil
}

// enrolment gives what lets laptops enrol by certificate; nil where there is no TLS, to here or to a proxy.
// base is the service's address.
func (c *Config) enrolment(data *store.Store, flow *workflow.Service, sealed *seal.Key, base string) (*enrolment.Service, error) {
	if c.TLS.plain() && len(c.Proxies) == 0 && len(c.More) == 0 {
		return nil, nil
	}
	is := c.Authority
	is.Seal, is.Now = sealed, func() time.Time { return time.Now().UTC() }
	is.OwnKey = cmp.Or(is.OwnKey, filepath.Join(filepath.Dir(c.Database), "authority.pem"))
	is.ListAt = cmp.Or(is.ListAt, base+"/.well-known/crl")
	authority, err := ca.Load(is)
	if err != nil {
		return nil, err
	}
	return enrolment.New(context.Background(), enrolment.Config{Store: data, Flow: flow, Authority: authority, Log: c.Log,
		Now: is.Now, Base: base})
}

// laptopsAt gives the address at which laptops enrol by certificate.
func (c *Config) laptopsAt(first net.Listener) string {
	if c.TLS.plain() && len(c.More) > 0 {
		return "https://" + c.More[0].Addr().String()
	}
	return c.scheme() + first.Addr().String()
}

// Settle writes down who checked in so far and how far laptops are covered, and lets rollouts go on to what the clock shows. It happens
// by itself, too, a moment later.
func (r *Running) Settle(ctx context.Context) error {
	r.checkIn.Sweep(ctx)
	return errors.Join(r.flow.Tick(ctx), r.flow.NoteCoverage(ctx))
}

// Wait blocks until the context ends or the service fails, then stops it: requests that run are
// finished, what runs in the background is ended and waited for, and the database is closed.
func (r *Running) Wait(ctx context.Context) error {
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-r.done:
	}
	r.stop() // ends the streams
	limit, cancel := context.WithTimeout(context.Background(), stopWithin)
	defer cancel()
	err := r.server.Shutdown(limit)
	if errors.Is(err, context.DeadlineExceeded) {
		err = r.server.Close()
	}
	r.loops.Wait()
	r.flow.Close()
	r.stopSigning() // the last checkpoint covers all that was written
	r.signing.Wait()
	return errors.Join(failed, err, r.store.Close(), r.leaked.Close(), r.unlock())
}
