// This file keeps invitations to enrol, and the certificates of laptops.

package store

import "time"

// Invitation lets laptops enrol by certificate: one, those of a person, or those of a unit.
type Invitation struct {
	ID          string `gorm:"primaryKey"`
	Device      string // that it is for; empty: Person or Unit is set
	Person      string
	Unit        string
	Makes       bool // a laptop that the estate does not have is added to it
	Approval    bool // somebody has to approve each laptop
	By          string
	At          time.Time
	ExpiresAt   time.Time
	WithdrawnAt *time.Time
}

// States of a code.
const (
	CodeUnused   = "unused"
	CodeWaiting  = "waiting" // for an approval
	CodeApproved = "approved"
	CodeIssued   = "issued"
	CodeRefused  = "refused"
)

// InvitationCode is a code of an invitation, good for one laptop.
type InvitationCode struct {
	Hash         string `gorm:"primaryKey"`
	Invitation   string
	State        string
	Device       string // that used it
	SerialNumber string // of the laptop, as its request says
	Model        string
	Request      string // SHA-256 of the request
	UsedAt       *time.Time
	Certificate  string // serial number of what was issued
	DecidedBy    string
	DecidedAt    *time.Time
}

// Certificate is a certificate of a laptop.
type Certificate struct {
	Serial    string `gorm:"primaryKey"` // in hexadecimal
	Device    string
	Enrolment string // UUID
	DER       []byte
	IssuedAt  time.Time
	NotBefore time.Time
	NotAfter  time.Time
	Replaces  string     // serial number of the certificate before; empty: the laptop enrolled with this one
	UsedAt    *time.Time // when the laptop was first heard with it
	EndsAt    *time.Time // when it counts no more since another replaced it
	RevokedAt *time.Time
	Reason    string
	RevokedBy string
}

// AddInvitation adds an invitation with its codes.
func (s *Store) AddInvitation(i Invitation, codes []InvitationCode) error {
	if err := s.db.Create(&i).Error; err != nil {
		return err
	}
	return s.db.CreateInBatches(codes, batch).Error
}

// Invitations lists invitations, the newest first.
func (s *Store) Invitations() ([]Invitation, error) {
	return many[Invitation](s.db.Order("at DESC, id"))
}

// Invitation gives one invitation.
func (s *Store) Invitation(id string) (Invitation, error) {
	return one[Invitation](s.db.Where("id = ?", id))
}

// WithdrawInvitation ends an invitation that has not ended.
func (s *Store) WithdrawInvitation(id string, at time.Time) error {
	return s.db.Exec(`UPDATE invitations SET withdrawn_at = ? WHERE id = ? AND withdrawn_at IS NULL`, at, id).Error
}

// CodeCount is how many codes of an invitation are in a state.
type CodeCount struct {
	Invitation, State string
	Count             int
}

// CodeCounts counts the codes of all invitations.
func (s *Store) CodeCounts() ([]CodeCount, error) {
	var out []CodeCount
	err := s.db.Raw(`SELECT invitation, state, count(*) AS count FROM invitation_codes GROUP BY invitation, state`).Scan(&out).Error
	return out, err
}

// InvitationCode gives a code by its hash.
func (s *Store) InvitationCode(hash string) (InvitationCode, error) {
	return one[InvitationCode](s.db.Where("hash = ?", hash))
}

// CodesIn lists the codes in a state, those that were used first coming first.
func (s *Store) CodesIn(state string) ([]InvitationCode, error) {
	return many[InvitationCode](s.db.Where("state = ?", state).Order("used_at, hash"))
}

// AlterCode writes a code that is in a state; altered is false where it is in another by now.
func (s *Store) AlterCode(from string, c InvitationCode) (altered bool, err error) {
	q := s.db.Model(&InvitationCode{}).Where("hash = ? AND state = ?", c.Hash, from).Select("*").Omit("hash").Updates(&c)
	return q.RowsAffected == 1, q.Error
}

// AddCertificate adds a certificate.
func (s *Store) AddCertificate(c Certificate) error { return s.db.Create(&c).Error }

// Certificate gives a certificate by its serial number.
func (s *Store) Certificate(serial string) (Certificate, error) {
	return one[Certificate](s.db.Where("serial = ?", serial))
}

// Certificates lists the certificates of a laptop, the newest first; all laptops' without one.
func (s *Store) Certificates(device string) ([]Certificate, error) {
	q := s.db.Order("issued_at DESC, serial")
	if device != "" {
		q = q.Where("device = ?", device)
	}
	return many[Certificate](q)
}

// UseCertificate notes that a laptop was heard with a certificate for the first time.
func (s *Store) UseCertificate(serial string, at time.Time) error {
	return s.db.Exec(`UPDATE certificates SET used_at = ? WHERE serial = ? AND used_at IS NULL`, at, serial).Error
}

// EndCertificate says when a certificate counts no more since another replaced it.
func (s *Store) EndCertificate(serial string, at time.Time) error {
	return s.db.Exec(`UPDATE certificates SET ends_at = ? WHERE serial = ? AND ends_at IS NULL`, at, serial).Error
}

// RevokeCertificate revokes a certificate that counts.
func (s *Store) RevokeCertificate(serial, reason, by string, at time.Time) error {
	return s.db.Exec(
		`UPDATE certificates SET revoked_at = ?, reason = ?, revoked_by = ? WHERE serial = ? AND revoked_at IS NULL`, at, reason, by, serial,
	).Error
}
