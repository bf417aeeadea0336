// This file has the resources of enrolment by certificate: invitations, laptops that wait for an approval,
// certificates.

package httpapi

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/enrolment"
	"zenithridge.example/zridge/service/store"
)

func (s *server) registerEnrolment() {
	needed := needs(access.Devices)
	huma.Register(s.api, operation("authority", http.MethodGet, "/authority", "The authority that issues certificates to laptops",
		needed), s.authority)
	huma.Register(
		s.api,
		operation("invite", http.MethodPost, "/invitations", "Invite laptops to enrol by certificate", needed, status(http.StatusCreated)),
		s.invite,
	)
	huma.Register(s.api, operation("listInvitations", http.MethodGet, "/invitations", "Invitations, the newest first", needed),
		s.listInvitations)
	huma.Register(
		s.api,
		operation("withdrawInvitation", http.MethodDelete, "/invitations/{id}", "End an invitation: its codes are void", needed,
			status(http.StatusNoContent)),
		s.withdrawInvitation,
	)
	huma.Register(
		s.api, operation("listWaiting", http.MethodGet, "/waiting-laptops", "Laptops that wait for somebody to approve their enrolment",
			needed), s.listWaiting,
	)
	huma.Register(
		s.api,
		operation(
			"decideEnrolment", http.MethodPost, "/waiting-laptops/{id}/decision", "Approve the enrolment of a laptop, or refuse it", needed,
			status(http.StatusNoContent),
		),
		s.decideEnrolment,
	)
	huma.Register(
		s.api, operation("listCertificates", http.MethodGet, "/devices/{id}/certificates",
			"The certificates of a laptop, the newest first", needed),
		s.listCertificates,
	)
	huma.Register(
		s.api,
		operation("revokeCertificates", http.MethodPost, "/devices/{id}/revocation",
			"Make all certificates of a laptop void: it is lost, or retired", needed),
		s.revokeCertificates,
	)
}

// enrolling gives what lets laptops enrol by certificate, or a problem where there is no TLS.
func (s *server) enrolling() (*enrolment.Service, error) {
	if s.Enrolment == nil {
		return nil, problemOf(http.StatusConflict, "not-possible",
			"Laptops enrol by certificate over TLS alone. Start the service with a certificate.")
	}
	return s.Enrolment, nil
}

// authority handles the operation authority: the authority that issues certificates to laptops.
func (s *server) authority(_ context.Context, _ *struct{}) (*output[wire.Authority], error) {
	if s.Enrolment == nil {
		return &output[wire.Authority]{wire.Authority{BySecret: true}}, nil
	}
	chain := s.Enrolment.Chain()
	sum := sha256.Sum256(chain[0].Raw)
	var text strings.Builder
	for _, c := range chain {
		if err := pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}); err != nil {
			return nil, err
		}
	}
	return &output[wire.Authority]{wire.Authority{
		On: true, BySecret: s.BySecret, Subject: chain[0].Subject.String(), NotAfter: chain[0].NotAfter, Fingerprint: hex.EncodeToString(sum[:]),
		PEM: text.String(),
	}}, nil
}

// invite handles the operation invite: invite laptops to enrol by certificate.
func (s *server) invite(ctx context.Context, in *struct{ Body wire.NewInvitation }) (*output[wire.Invitation], error) {
	e, err := s.enrolling()
	if err != nil {
		return nil, err
	}
	b := in.Body
	to, err := s.mailTo(&b)
	if err != nil {
		return nil, err
	}
	made, err := e.Invite(ctx, actorOf(ctx), enrolment.Invite{
		Device: b.Device, Person: b.Person, Unit: b.Unit, Laptops: b.Laptops, Makes: b.Makes, Approval: b.Approval, Days: b.Days,
	})
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := invitationOf(&made)
	if to != "" {
		if err := s.Mail(ctx, to, "Bring your laptop under management", invitationText(&w, b.Device, e.Base())); err != nil {
			s.Log.Warn("an invitation could not be sent", "invitation", w.ID, "error", err)
			w.NotMailed = "The e-mail server did not take it. Give the codes to the person in another way."
		} else {
			w.MailedTo = to
		}
	}
	return &output[wire.Invitation]{w}, nil
}

// mailTo gives the address to which an invitation is to be sent; empty where it is not to be.
func (s *server) mailTo(in *wire.NewInvitation) (string, error) {
	if !in.Mail {
		return "", nil
	}
	refuse := func(found, expected string) error {
		return problemOf(http.StatusUnprocessableEntity, "faults", "found "+found+", expected "+expected)
	}
	if !s.SendsMail {
		return "", refuse("the wish to send an e-mail, and no e-mail server", "a service that was started with one (--smtp)")
	}
	plan := s.Flow.Live().Plan
	person := estate.PersonID(in.Person)
	if d := plan.Device(estate.DeviceID(in.Device)); d != nil {
		person = d.Owner
	}
	p := plan.Person(person)
	if p == nil || p.Mail == "" {
		return "", refuse("nobody with an e-mail address", "an invitation for a person, or for the device of one, whose address is known")
	}
	return p.Mail, nil
}

// invitationText says what a person has to do with an invitation.
func invitationText(w *wire.Invitation, device, base string) string {
	command := "sudo zridge-agent enrol " + base
	if device != "" {
		command += " --device " + device
	}
	var codes strings.Builder
	for _, code := range w.Codes {
		codes.WriteString("    " + command + " --code " + code + "\n")
	}
	return "Your laptop is to get the company's settings from now on. On the laptop:\n\n" +
		"1. Install the package zridge-agent that your company gives you:\n\n    sudo apt install ./zridge-agent.deb\n\n" +
		"2. Enrol, with one line for each laptop:\n\n" + codes.String() +
		"\n3. See what is managed, and why:\n\n    zridge-agent show\n\n" +
		"Each code is good once, until " + w.ExpiresAt.Format("2 January 2006, 15:04 MST") + ". Give it to nobody else. Questions: " +
		w.By + ".\n"
}

func invitationOf(i *enrolment.Invitation) wire.Invitation {
	return wire.Invitation{
		ID: i.ID, Device: i.Device, Person: i.Person, Unit: i.Unit, Makes: i.Makes, Approval: i.Approval, By: i.By, At: i.At,
		ExpiresAt:   i.ExpiresAt,
		WithdrawnAt: i.WithdrawnAt, Ended: i.Ended(time.Now()), Unused: i.Counts[store.CodeUnused],
		Waiting: i.Counts[store.CodeWaiting] + i.Counts[store.CodeApproved], Enrolled: i.Counts[store.CodeIssued], Codes: i.Codes,
	}
}

// listInvitations handles the operation listInvitations: invitations, the newest first.
func (s *server) listInvitations(ctx context.Context, _ *struct{}) (*output[[]wire.Invitation], error) {
	if s.Enrolment == nil {
		return &output[[]wire.Invitation]{[]wire.Invitation{}}, nil
	}
	rows, err := s.Enrolment.Invitations(ctx, actorOf(ctx))
	list := make([]wire.Invitation, len(rows))
	for i := range rows {
		list[i] = invitationOf(&rows[i])
	}
	return out(list, s.fault(ctx, err))
}

// withdrawInvitation handles the operation withdrawInvitation: end an invitation.
func (s *server) withdrawInvitation(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*struct{}, error) {
	e, err := s.enrolling()
	if err != nil {
		return nil, err
	}
	return nil, s.fault(ctx, e.Withdraw(ctx, actorOf(ctx), in.ID))
}

// listWaiting handles the operation listWaiting: laptops that wait for an approval.
func (s *server) listWaiting(ctx context.Context, _ *struct{}) (*output[[]wire.WaitingLaptop], error) {
	if s.Enrolment == nil {
		return &output[[]wire.WaitingLaptop]{[]wire.WaitingLaptop{}}, nil
	}
	rows, err := s.Enrolment.Waiting(ctx, actorOf(ctx))
	list := make([]wire.WaitingLaptop, len(rows))
	for i := range rows {
		list[i] = wire.WaitingLaptop(rows[i])
	}
	return out(list, s.fault(ctx, err))
}

// decideEnrolment handles the operation decideEnrolment: approve the enrolment of a laptop, or refuse it.
func (s *server) decideEnrolment(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.EnrolmentDecision
}) (*struct{}, error) {
	e, err := s.enrolling()
	if err != nil {
		return nil, err
	}
	return nil, s.fault(ctx, e.Decide(ctx, actorOf(ctx), in.ID, in.Body.Approve))
}

// listCertificates handles the operation listCertificates: the certificates of a laptop.
func (s *server) listCertificates(ctx context.Context, in *deviceID) (*output[[]wire.LaptopCertificate], error) {
	if s.Enrolment == nil {
		return &output[[]wire.LaptopCertificate]{[]wire.LaptopCertificate{}}, nil
	}
	rows, err := s.Enrolment.Certificates(ctx, actorOf(ctx), in.ID)
	list := make([]wire.LaptopCertificate, len(rows))
	now := time.Now()
	for i := range rows {
		r := &rows[i]
		list[i] = wire.LaptopCertificate{
			Serial: r.Serial, IssuedAt: r.IssuedAt, NotAfter: r.NotAfter, State: certificateState(r, now), UsedAt: r.UsedAt, EndsAt: r.EndsAt,
			RevokedAt: r.RevokedAt, Reason: r.Reason, RevokedBy: r.RevokedBy,
		}
	}
	return out(list, s.fault(ctx, err))
}

func certificateState(r *store.Certificate, now time.Time) string {
	switch {
	case r.RevokedAt != nil:
		return "revoked"
	case now.After(r.NotAfter):
		return "expired"
	case r.EndsAt != nil:
		return "replaced"
	}
	return "counts"
}

// revokeCertificates handles the operation revokeCertificates: make all certificates of a laptop void.
func (s *server) revokeCertificates(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.Revocation
}) (*output[wire.Revoked], error) {
	e, err := s.enrolling()
	if err != nil {
		return nil, err
	}
	n, err := e.Revoke(ctx, actorOf(ctx), in.ID, in.Body.Reason)
	return out(wire.Revoked{Revoked: n}, s.fault(ctx, err))
}
