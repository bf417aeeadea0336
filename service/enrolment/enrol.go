package enrolment

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/service/ca"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func hashOf(code string) string { return signin.HashOf(code) }

// Enrol issues a certificate to a laptop with an invitation code. user is the device id that the laptop
// gives, or empty; request is a PKCS #10 request in DER; from is the sender's network address. The error is
// ErrRefused, ErrWaits, ErrOtherRequest, a *ca.RequestError, *NotKnownError or *ThrottledError, or one of the
// store. A request that is refused does not use the code up.
func (s *Service) Enrol(ctx context.Context, user, code string, request []byte, from string) (*x509.Certificate, error) {
	now := s.now()
	if wait := s.refusals.waits(from, now); wait > 0 {
		return nil, &ThrottledError{wait}
	}
	c, err := s.enrol(ctx, user, code, request)
	if errors.Is(err, ErrRefused) {
		s.refusals.add(from, now)
		s.flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "device"}, "enrolment refused", from)
	}
	return c, err
}

// attempt is a request with a code that is good.
type attempt struct {
	invitation store.Invitation
	code       store.InvitationCode
	request    *x509.CertificateRequest
	device     string
	made       *estate.Device // that is to be added to the estate; nil: it is there
}

func (s *Service) enrol(ctx context.Context, user, code string, request []byte) (*x509.Certificate, error) {
	for range 3 { // another request may use the code, or add the device, meanwhile
		a, issued, err := s.attempt(ctx, user, code, request)
		if err != nil || issued != nil {
			return issued, err
		}
		c, again, err := s.use(ctx, a)
		if !again {
			return c, err
		}
	}
	return nil, ErrRefused
}

// attempt tells what a request with a code comes to. It gives the certificate where the same request got
// one a moment ago: the answer was lost.
func (s *Service) attempt(ctx context.Context, user, code string, request []byte) (a attempt, issued *x509.Certificate, err error) {
	tx := s.store.In(ctx)
	if a.code, err = tx.InvitationCode(hashOf(code)); err != nil {
		return a, nil, refusedIfNone(err)
	}
	if a.invitation, err = tx.Invitation(a.code.Invitation); err != nil {
		return a, nil, refusedIfNone(err)
	}
	sum := sha256.Sum256(request)
	same := a.code.Request == hex.EncodeToString(sum[:])
	now := s.now()
	switch state := a.code.State; {
	case a.invitation.WithdrawnAt != nil, state == store.CodeRefused:
		return a, nil, ErrRefused
	case state == store.CodeIssued:
		if !same || a.code.UsedAt == nil || now.Sub(*a.code.UsedAt) > sameAgainWithin {
			return a, nil, ErrRefused
		}
		row, err := tx.Certificate(a.code.Certificate)
		if err != nil {
			return a, nil, refusedIfNone(err)
		}
		issued, err := x509.ParseCertificate(row.DER)
		if err == nil && row.RevokedAt != nil {
			return a, nil, ErrRefused
		}
		return a, issued, err
	case now.After(a.invitation.ExpiresAt):
		return a, nil, ErrRefused
	}
	if a.request, err = ca.ReadRequest(request); err != nil {
		return a, nil, err
	}
	if err := s.laptopOf(user, &a); err != nil {
		return a, nil, err
	}
	switch {
	case a.code.State == store.CodeUnused:
		a.code.Request = hex.EncodeToString(sum[:])
	case !same:
		return a, nil, ErrOtherRequest
	case a.code.State == store.CodeWaiting:
		return a, nil, ErrWaits
	}
	return a, nil, nil
}

func refusedIfNone(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return ErrRefused
	}
	return err
}

// laptopOf finds out which laptop enrols: the one that it names itself, else the one with its serial
// number, else one that is added to the estate.
func (s *Service) laptopOf(user string, a *attempt) error {
	plan := s.flow.Live().Plan
	serial := ca.SerialOf(a.request)
	named := user
	if named == "" {
		named = a.invitation.Device
	}
	d := plan.Device(estate.DeviceID(named))
	if d == nil && serial != "" {
		devices := plan.Snapshot().Devices
		if at := slices.IndexFunc(devices, func(d *estate.Device) bool { return d.Serial == serial }); at >= 0 {
			d = devices[at]
		}
	}
	if d == nil {
		return s.newLaptop(user, serial, a)
	}
	is := a.invitation
	switch {
	case user != "" && user != string(d.ID),
		d.Serial != "" && serial != "" && d.Serial != serial,
		is.Device != "" && is.Device != string(d.ID),
		is.Person != "" && is.Person != string(d.Owner),
		is.Unit != "" && !slices.Contains(plan.HomeUnits(d.ID), is.Unit):
		return ErrRefused
	}
	a.device = string(d.ID)
	return nil
}

// newLaptop makes a device of what a laptop says, where the invitation lets it.
func (s *Service) newLaptop(user, serial string, a *attempt) error {
	is := a.invitation
	switch {
	case is.Device != "":
		return ErrRefused // it has left the estate
	case !is.Makes && user != "":
		return &NotKnownError{user}
	case !is.Makes:
		return &NotKnownError{"with the serial number " + serial}
	case serial == "":
		return &ca.RequestError{Found: "no serial number in the subject",
			Expected: "that of the laptop (2.5.4.5), which the estate does not have yet"}
	}
	id := user
	if id == "" {
		id = idOf(serial)
	}
	a.device = id
	a.made = &estate.Device{
		ID: estate.DeviceID(id), Serial: serial, Model: ca.ModelOf(a.request), Owner: estate.PersonID(is.Person), Unit: estate.UnitID(is.Unit),
		OS: "linux", OSVersion: "0", // until the laptop says more
	}
	return nil
}

var notInIDs = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// idOf makes the id of a device from its serial number.
func idOf(serial string) string {
	id := "LT-" + strings.Trim(notInIDs.ReplaceAllString(serial, "-"), "-.")
	return id[:min(len(id), 60)]
}

// use uses a code: the enrolment waits for an approval, or the certificate is issued. again says that the
// code was used meanwhile by another request.
func (s *Service) use(ctx context.Context, a attempt) (issued *x509.Certificate, again bool, err error) {
	was, now := a.code.State, s.now()
	a.code.Device, a.code.SerialNumber, a.code.Model, a.code.UsedAt = a.device, ca.SerialOf(a.request), ca.ModelOf(a.request), &now
	if a.invitation.Approval && was == store.CodeUnused {
		a.code.State = store.CodeWaiting
		altered := false
		err := s.store.Transaction(ctx, func(tx *store.Store) (err error) {
			if altered, err = tx.AlterCode(was, a.code); err != nil || !altered {
				return err
			}
			return audited(tx, byLaptop(a.device), now, store.AuditRecord{
				Action: "ask for enrolment", Kind: string(estate.KindDevice), ObjectID: a.device, After: a.invitation.ID,
			})
		})
		s.flow.Notify(workflow.Event{Topic: "device", ID: a.device})
		if err == nil && altered {
			err = ErrWaits
		}
		return nil, err == nil, err
	}
	enrolment := newUUID()
	if issued, err = s.authority.Issue(a.device, enrolment, a.request.PublicKey); err != nil {
		return nil, false, err
	}
	row := rowOf(issued, a.device, enrolment, now)
	a.code.State, a.code.Certificate = store.CodeIssued, row.Serial
	altered := false
	write := func(tx *store.Store) (err error) {
		if altered, err = tx.AlterCode(was, a.code); err != nil {
			return err
		}
		if !altered {
			return errUsed
		}
		return s.enrolled(tx, a, row, now)
	}
	if a.made != nil {
		err = s.flow.AddDevice(ctx, *a.made, write)
	} else {
		err = s.store.Transaction(ctx, write)
	}
	if errors.Is(err, errUsed) || err != nil && a.made != nil && s.flow.Live().Plan.Device(estate.DeviceID(a.device)) != nil {
		return nil, true, nil
	}
	if err != nil {
		return nil, false, err
	}
	s.mu.Lock()
	s.revoked(a.device, now)
	s.keep(&row)
	s.mu.Unlock()
	s.flow.Notify(workflow.Event{Topic: "device", ID: a.device})
	return issued, false, nil
}

var errUsed = errors.New("the code was used meanwhile")

// byLaptop is a laptop that acts.
func byLaptop(device string) workflow.Actor { return workflow.Actor{Name: device, Via: "device"} }

func rowOf(c *x509.Certificate, device, enrolment string, at time.Time) store.Certificate {
	return store.Certificate{
		Serial: SerialOf(c), Device: device, Enrolment: enrolment, DER: c.Raw, IssuedAt: at, NotBefore: c.NotBefore, NotAfter: c.NotAfter,
	}
}

// enrolled writes down that a laptop has enrolled: what it had before counts no more, and all of its
// settings are sent to it anew.
func (s *Service) enrolled(tx *store.Store, a attempt, row store.Certificate, now time.Time) error {
	old, err := tx.Certificates(a.device)
	if err != nil {
		return err
	}
	for _, c := range old {
		if err := tx.RevokeCertificate(c.Serial, "enrolled again", "service", now); err != nil {
			return err
		}
	}
	if _, err := workflow.RetryFailed(tx, a.device); err != nil { // it may be another laptop inside
		return err
	}
	laptop, err := tx.Laptop(a.device)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	laptop.Device, laptop.EnrolledAt, laptop.Credential = a.device, &now, ""
	laptop.Digest, laptop.Revision, laptop.Offers = "", "", ""
	return errors.Join(
		tx.AddCertificate(row),
		tx.SaveLaptop(laptop),
		audited(tx, byLaptop(a.device), now, store.AuditRecord{
			Action: "enrol by certificate", Kind: string(estate.KindDevice), ObjectID: a.device, Before: a.invitation.ID, After: row.Serial,
		}),
	)
}

// Renew issues a certificate in the place of one that a laptop has, for the same enrolment. The error is an
// *InvalidCertificateError, a *TooEarlyError or a *ca.RequestError, or one of the store.
func (s *Service) Renew(ctx context.Context, old *x509.Certificate, request []byte) (*x509.Certificate, error) {
	device, err := s.Check(old)
	if err != nil {
		return nil, err
	}
	if s.flow.Live().Plan.Device(estate.DeviceID(device)) == nil {
		return nil, &InvalidCertificateError{"its laptop has left the estate"}
	}
	r, err := ca.ReadRequest(request)
	if err != nil {
		return nil, err
	}
	if err := ca.Renews(r, old); err != nil {
		return nil, err
	}
	now := s.now()
	if from := old.NotBefore.Add(old.NotAfter.Sub(old.NotBefore) * 2 / 3); now.Before(from) {
		return nil, &TooEarlyError{from}
	}
	if err := s.Heard(ctx, old); err != nil { // it is used by this
		return nil, err
	}
	serial := SerialOf(old)
	s.mu.Lock()
	enrolment := s.known[serial].enrolment
	s.mu.Unlock()
	issued, err := s.authority.Issue(device, enrolment, r.PublicKey)
	if err != nil {
		return nil, err
	}
	row := rowOf(issued, device, enrolment, now)
	row.Replaces = serial
	ends := now.Add(replacedLasts)
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(
			tx.AddCertificate(row),
			tx.EndCertificate(serial, ends),
			audited(tx, byLaptop(device), now, store.AuditRecord{
				Action: "renew certificate", Kind: string(estate.KindDevice), ObjectID: device, Before: serial, After: row.Serial,
			}),
		)
	})
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keep(&row)
	if is := s.known[serial]; is.ends.IsZero() {
		is.ends = ends
	}
	return issued, nil
}

// Certificates lists the certificates of a laptop, the newest first.
func (s *Service) Certificates(ctx context.Context, by workflow.Actor, device string) ([]store.Certificate, error) {
	if err := by.Need(access.Devices); err != nil {
		return nil, err
	}
	if s.flow.Live().Plan.Device(estate.DeviceID(device)) == nil {
		return nil, &workflow.NotFoundError{Kind: "device", ID: device}
	}
	return s.store.In(ctx).Certificates(device)
}

// Revoke makes all certificates of a laptop void, with the reason. The laptop is out at its next message. It
// needs an invitation to come back.
func (s *Service) Revoke(ctx context.Context, by workflow.Actor, device, reason string) (revoked int, err error) {
	if err := by.Need(access.Devices); err != nil {
		return 0, err
	}
	now := s.now()
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		list, err := tx.Certificates(device)
		if err != nil {
			return err
		}
		for _, c := range list {
			if c.RevokedAt != nil {
				continue
			}
			revoked++
			if err := tx.RevokeCertificate(c.Serial, reason, by.Name, now); err != nil {
				return err
			}
		}
		if len(list) == 0 {
			return &workflow.NotFoundError{Kind: "certificate of the device", ID: device}
		}
		return audited(tx, by, now, store.AuditRecord{
			Action: "revoke certificates", Kind: string(estate.KindDevice), ObjectID: device, After: fmt.Sprintf("%d: %s", revoked, reason),
		})
	})
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.revoked(device, now)
	s.flow.Notify(workflow.Event{Topic: "device", ID: device})
	return revoked, nil
}

// newUUID makes a random UUID (RFC 9562, version 4).
func newUUID() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}
