// This file has enrolment by certificate as the API gives it: invitations, laptops that wait, certificates.

package wire

import "time"

type (
	// NewInvitation asks for an invitation: for one of a device, a person and a unit.
	NewInvitation struct {
		Device   string `json:"device,omitempty" maxLength:"128"`
		Person   string `json:"person,omitempty" maxLength:"128" doc:"For laptops of theirs"`
		Unit     string `json:"unit,omitempty" maxLength:"128" doc:"For laptops of the unit and those below"`
		Laptops  int    `json:"laptops,omitempty" minimum:"0" maximum:"1000" doc:"How many may enrol; none: one"`
		Makes    bool   `json:"makes,omitempty" doc:"A laptop that the estate does not have is added to it, from its serial number and model"`
		Approval bool   `json:"approval,omitempty" doc:"Somebody has to approve each laptop"`
		Days     int    `json:"days,omitempty" minimum:"0" maximum:"90" doc:"Until it expires; none: 7"`
		Mail     bool   `json:"mail,omitempty" doc:"Send what to do, with the codes, to the person, or to the owner of the device, by e-mail"`
	}
	// Invitation lets laptops enrol.
	Invitation struct {
		ID          string     `json:"id"`
		Device      string     `json:"device,omitempty"`
		Person      string     `json:"person,omitempty"`
		Unit        string     `json:"unit,omitempty"`
		Makes       bool       `json:"makes"`
		Approval    bool       `json:"approval"`
		By          string     `json:"by"`
		At          time.Time  `json:"at"`
		ExpiresAt   time.Time  `json:"expires_at"`
		MailedTo    string     `json:"mailed_to,omitempty" doc:"Address to which what to do was sent"`
		NotMailed   string     `json:"not_mailed,omitempty" doc:"Why it could not be sent; the codes count all the same"`
		WithdrawnAt *time.Time `json:"withdrawn_at,omitempty"`
		Ended       bool       `json:"ended" doc:"No laptop can enrol with it any more"`
		Unused      int        `json:"unused" doc:"Codes that nobody has used"`
		Waiting     int        `json:"waiting" doc:"Laptops that wait for an approval"`
		Enrolled    int        `json:"enrolled"`
		Codes       []string   `json:"codes,omitempty" doc:"Each for one laptop; shown once, when the invitation is made"`
	}
	// WaitingLaptop is a laptop that waits for somebody to approve its enrolment.
	WaitingLaptop struct {
		ID         string    `json:"id"`
		Invitation string    `json:"invitation"`
		Device     string    `json:"device" doc:"That it will be"`
		New        bool      `json:"new" doc:"The estate does not have it yet"`
		Serial     string    `json:"serial,omitempty" doc:"As the laptop says"`
		Model      string    `json:"model,omitempty"`
		At         time.Time `json:"at"`
	}
	// EnrolmentDecision approves a laptop that waits, or refuses it.
	EnrolmentDecision struct {
		Approve bool `json:"approve"`
	}
	// LaptopCertificate is a certificate of a laptop.
	LaptopCertificate struct {
		Serial    string     `json:"serial" doc:"In hexadecimal"`
		IssuedAt  time.Time  `json:"issued_at"`
		NotAfter  time.Time  `json:"not_after"`
		State     string     `json:"state" enum:"counts,replaced,revoked,expired"`
		UsedAt    *time.Time `json:"used_at,omitempty" doc:"When the laptop was first heard with it"`
		EndsAt    *time.Time `json:"ends_at,omitempty" doc:"When it counts no more since another replaced it"`
		RevokedAt *time.Time `json:"revoked_at,omitempty"`
		Reason    string     `json:"reason,omitempty"`
		RevokedBy string     `json:"revoked_by,omitempty"`
	}
	// Revocation says why the certificates of a laptop are void.
	Revocation struct {
		Reason string `json:"reason" minLength:"1" maxLength:"500"`
	}
	// Revoked says how many certificates were made void.
	Revoked struct {
		Revoked int `json:"revoked"`
	}
	// Authority is the authority that issues the certificates of laptops.
	Authority struct {
		On          bool      `json:"on" doc:"Laptops enrol by certificate. It needs TLS"`
		BySecret    bool      `json:"by_secret" doc:"Laptops may enrol with secrets"`
		Subject     string    `json:"subject,omitempty"`
		NotAfter    time.Time `json:"not_after,omitzero"`
		Fingerprint string    `json:"fingerprint,omitempty" doc:"SHA-256 of its certificate"`
		PEM         string    `json:"pem,omitempty" doc:"Its certificate and those above it"`
	}
)
