// Package enrolment lets laptops enrol by certificate: invitations with one-time codes, certificates that are
// issued, renewed and revoked, and which of them counts. It is the registration authority behind the
// operations of EST (RFC 7030); their form on the wire is that of package httpapi.
package enrolment

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/service/ca"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

const (
	sameAgainWithin = 10 * time.Minute   // in which the same request with the same code gets the same certificate
	replacedLasts   = 7 * 24 * time.Hour // after which a certificate that was renewed counts no more
	listEach        = 20 * time.Second   // how old the list of revoked certificates may be
)

var (
	// ErrRefused says that a code is unknown, used, expired, withdrawn or for another laptop. It does not
	// say which.
	ErrRefused = errors.New("the invitation code is refused")
	// ErrWaits says that somebody has to approve the enrolment first. The same request again fetches the
	// certificate.
	ErrWaits = errors.New("the enrolment waits for an approval")
	// ErrOtherRequest says that another request has used the code and waits for its approval.
	ErrOtherRequest = errors.New("another request with this code waits for an approval")
)

// NotKnownError says that the estate has no such laptop, and that the invitation adds none to it.
type NotKnownError struct{ Named string }

func (e *NotKnownError) Error() string {
	return "The estate has no laptop " + e.Named + ", and the invitation adds none to it."
}

// InvalidCertificateError says why a certificate does not count.
type InvalidCertificateError struct{ Reason string }

func (e *InvalidCertificateError) Error() string {
	return "The certificate does not count: " + e.Reason + "."
}

// TooEarlyError says that a certificate is not to be renewed yet.
type TooEarlyError struct{ From time.Time }

func (e *TooEarlyError) Error() string {
	return "The certificate is to be renewed from " + e.From.UTC().Format(time.RFC3339) + " on."
}

// ThrottledError says that an address was refused too often.
type ThrottledError struct{ After time.Duration }

func (e *ThrottledError) Error() string {
	return fmt.Sprintf("Too many refused requests from this address. Try again after %s.", e.After.Round(time.Second))
}

// Service enrols laptops. It is safe for concurrent use.
type Service struct {
	store     *store.Store
	flow      *workflow.Service
	authority *ca.Authority
	log       *slog.Logger
	now       func() time.Time
	base      string // address at which laptops enrol
	refusals  refusals

	mu     sync.Mutex              // guards what follows
	known  map[string]*certificate // by serial number
	of     map[string][]string     // by laptop: the serial numbers of its certificates
	list   []byte                  // of what is revoked, as it was signed last
	listed time.Time
}

// certificate is what is kept in memory of an issued certificate: each message of a laptop asks for it.
type certificate struct {
	device, enrolment, replaces string
	used                        bool
	ends, revoked               time.Time // zero: they do not
	left                        time.Time // when it was noticed that the estate has its laptop no more; zero: it has
	notAfter                    time.Time
}

// Config is what a Service is made of.
type Config struct {
	Store     *store.Store
	Flow      *workflow.Service
	Authority *ca.Authority
	Log       *slog.Logger
	Now       func() time.Time
	Base      string // address at which laptops enrol
}

// New makes a Service and reads which certificates there are.
func New(ctx context.Context, c Config) (*Service, error) {
	s := &Service{base: c.Base, store: c.Store, flow: c.Flow, authority: c.Authority, log: c.Log, now: c.Now,
		known: map[string]*certificate{}, of: map[string][]string{}}
	rows, err := c.Store.In(ctx).Certificates("")
	if err != nil {
		return nil, err
	}
	for i := range rows {
		s.keep(&rows[i])
	}
	return s, nil
}

// keep notes a certificate. s.mu must be held, or the service not be in use yet.
func (s *Service) keep(row *store.Certificate) {
	is := &certificate{device: row.Device, enrolment: row.Enrolment, replaces: row.Replaces, used: row.UsedAt != nil, notAfter: row.NotAfter}
	if row.EndsAt != nil {
		is.ends = *row.EndsAt
	}
	if row.RevokedAt != nil {
		is.revoked = *row.RevokedAt
	}
	s.known[row.Serial] = is
	s.of[row.Device] = append(s.of[row.Device], row.Serial)
}

// revoked notes that the certificates of a laptop are void. s.mu must be held.
func (s *Service) revoked(device string, at time.Time) {
	for _, serial := range s.of[device] {
		if is := s.known[serial]; is.revoked.IsZero() {
			is.revoked = at
		}
	}
	s.listed = time.Time{}
}

// Chain gives the authority's certificate and those above it.
func (s *Service) Chain() []*x509.Certificate { return s.authority.Chain() }

// Pool gives the authority whose certificates are believed.
func (s *Service) Pool() *x509.CertPool { return s.authority.Pool() }

// SerialOf gives the serial number of a certificate as it is stored.
func SerialOf(c *x509.Certificate) string { return c.SerialNumber.Text(16) }

// Verify checks a certificate that a proxy passes on: that the authority issued it, and that it counts.
func (s *Service) Verify(c *x509.Certificate) (device string, err error) {
	_, err = c.Verify(x509.VerifyOptions{Roots: s.authority.Pool(), CurrentTime: s.now(),
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	if err != nil {
		return "", &InvalidCertificateError{"it is expired, or of another authority"}
	}
	return s.Check(c)
}

// Check tells which laptop a certificate of the authority is for. The error is an *InvalidCertificateError:
// it is revoked, or was replaced, or is not one that was issued here.
func (s *Service) Check(c *x509.Certificate) (device string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	is := s.known[SerialOf(c)]
	now := s.now()
	switch {
	case is == nil:
		return "", &InvalidCertificateError{"it was not issued here"}
	case !is.revoked.IsZero():
		return "", &InvalidCertificateError{"it is revoked"}
	case !is.ends.IsZero() && now.After(is.ends):
		return "", &InvalidCertificateError{"another has replaced it"}
	case now.After(is.notAfter):
		return "", &InvalidCertificateError{"it has expired"}
	}
	return is.device, nil
}

// Heard notes that a laptop uses a certificate. The one that it replaces counts no more.
func (s *Service) Heard(ctx context.Context, c *x509.Certificate) error {
	serial := SerialOf(c)
	s.mu.Lock()
	is := s.known[serial]
	if is == nil || is.used {
		s.mu.Unlock()
		return nil
	}
	replaces := is.replaces
	s.mu.Unlock()
	now := s.now()
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.UseCertificate(serial, now); err != nil || replaces == "" {
			return err
		}
		return tx.RevokeCertificate(replaces, "replaced by another", "service", now)
	})
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	is.used = true
	if old := s.known[replaces]; old != nil && old.revoked.IsZero() {
		old.revoked = now
		s.listed = time.Time{}
	}
	return nil
}

// Base is the address at which laptops enrol.
func (s *Service) Base() string { return s.base }

// RevocationList gives the signed list of the certificates that are revoked, or whose laptop left the estate, and that would
// count otherwise, in DER (RFC 5280). It is at most half a minute behind.
func (s *Service) RevocationList() ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	if s.list != nil && now.Sub(s.listed) < listEach {
		return s.list, nil
	}
	var revoked []ca.Revoked
	plan := s.flow.Live().Plan
	for serial, is := range s.known {
		switch there := plan.Device(estate.DeviceID(is.device)) != nil; {
		case there:
			is.left = time.Time{}
		case is.left.IsZero():
			is.left = now
		}
		ended := is.revoked
		if ended.IsZero() {
			ended = is.left
		}
		if ended.IsZero() && !is.ends.IsZero() && now.After(is.ends) {
			ended = is.ends
		}
		if ended.IsZero() || now.After(is.notAfter) {
			continue
		}
		if number, ok := new(big.Int).SetString(serial, 16); ok {
			revoked = append(revoked, ca.Revoked{Serial: number, At: ended})
		}
	}
	list, err := s.authority.RevocationList(now.UnixNano(), revoked)
	if err != nil {
		return nil, err
	}
	s.list, s.listed = list, now
	return list, nil
}
