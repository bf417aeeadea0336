package enrolment

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

const (
	mostCodes   = 1000 // of an invitation
	mostDays    = 90   // until it expires
	defaultDays = 7
)

// Invite says for whom an invitation is: one of Device, Person and Unit.
type Invite struct {
	Device   string
	Person   string
	Unit     string
	Laptops  int  // how many may enrol with it; 0: one
	Makes    bool // a laptop that the estate does not have is added to it, from its serial number and model
	Approval bool // somebody has to approve each laptop
	Days     int  // until it expires; 0: 7
}

// Invitation is an invitation as people look at it.
type Invitation struct {
	store.Invitation
	Counts map[string]int // codes by state
	Codes  []string       // shown once, when it is made
}

// Ended tells whether no laptop can enrol with it any more.
func (i *Invitation) Ended(now time.Time) bool {
	return i.WithdrawnAt != nil || now.After(i.ExpiresAt) ||
		i.Counts[store.CodeUnused]+i.Counts[store.CodeWaiting]+i.Counts[store.CodeApproved] == 0
}

// Invite makes an invitation with its codes.
func (s *Service) Invite(ctx context.Context, by workflow.Actor, in Invite) (Invitation, error) {
	if err := by.Need(access.Devices); err != nil {
		return Invitation{}, err
	}
	if in.Laptops == 0 {
		in.Laptops = 1
	}
	if in.Days == 0 {
		in.Days = defaultDays
	}
	if err := s.checkInvite(in); err != nil {
		return Invitation{}, err
	}
	now := s.now()
	out := Invitation{Invitation: store.Invitation{
		ID: "I-" + strings.ToLower(rand.Text()[:8]), Device: in.Device, Person: in.Person, Unit: in.Unit, Makes: in.Makes, Approval: in.Approval,
		By: by.Name, At: now, ExpiresAt: now.AddDate(0, 0, in.Days),
	}, Counts: map[string]int{store.CodeUnused: in.Laptops}}
	rows := make([]store.InvitationCode, in.Laptops)
	for i := range rows {
		code := signin.OneTimeCode()
		out.Codes = append(out.Codes, code)
		rows[i] = store.InvitationCode{Hash: hashOf(code), Invitation: out.ID, State: store.CodeUnused}
	}
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.AddInvitation(out.Invitation, rows); err != nil {
			return err
		}
		return audited(tx, by, now, store.AuditRecord{Action: "invite to enrol", Kind: "invitations", ObjectID: out.ID, After: in.String()})
	})
	return out, err
}

// String says for whom an invitation is, for the audit log.
func (in Invite) String() string {
	text := fmt.Sprintf("%d for ", in.Laptops)
	switch {
	case in.Device != "":
		text += "the device " + in.Device
	case in.Person != "":
		text += "the person " + in.Person
	default:
		text += "the unit " + in.Unit
	}
	if in.Makes {
		text += ", adds laptops"
	}
	if in.Approval {
		text += ", each to be approved"
	}
	return text
}

func (s *Service) checkInvite(in Invite) error {
	plan := s.flow.Live().Plan
	named := 0
	for _, is := range []string{in.Device, in.Person, in.Unit} {
		if is != "" {
			named++
		}
	}
	switch {
	case named != 1:
		return problem.Faults{{Code: problem.MissingField, Path: "/", Found: fmt.Sprintf("%d of device, person and unit", named),
			Expected: "one of them"}}
	case in.Device != "" && plan.Device(estate.DeviceID(in.Device)) == nil:
		return &workflow.NotFoundError{Kind: "device", ID: in.Device}
	case in.Person != "" && plan.Person(estate.PersonID(in.Person)) == nil:
		return &workflow.NotFoundError{Kind: "person", ID: in.Person}
	case in.Unit != "" && plan.Unit(estate.UnitID(in.Unit)) == nil:
		return &workflow.NotFoundError{Kind: "unit", ID: in.Unit}
	case in.Device != "" && (in.Laptops != 1 || in.Makes):
		return problem.Faults{{Code: problem.OutOfRange, Path: "/laptops", Found: "several laptops, or new ones",
			Expected: "one: the device that is named"}}
	case in.Laptops < 1 || in.Laptops > mostCodes:
		return problem.Faults{{Code: problem.OutOfRange, Path: "/laptops", Found: fmt.Sprint(in.Laptops),
			Expected: fmt.Sprintf("1 to %d", mostCodes)}}
	case in.Days < 1 || in.Days > mostDays:
		return problem.Faults{{Code: problem.OutOfRange, Path: "/days", Found: fmt.Sprint(in.Days), Expected: fmt.Sprintf("1 to %d", mostDays)}}
	}
	return nil
}

// Invitations lists the invitations, the newest first.
func (s *Service) Invitations(ctx context.Context, by workflow.Actor) ([]Invitation, error) {
	if err := by.Need(access.Devices); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Invitations()
	if err != nil {
		return nil, err
	}
	counts, err := s.store.In(ctx).CodeCounts()
	if err != nil {
		return nil, err
	}
	of := map[string]map[string]int{}
	for _, c := range counts {
		if of[c.Invitation] == nil {
			of[c.Invitation] = map[string]int{}
		}
		of[c.Invitation][c.State] = c.Count
	}
	out := make([]Invitation, len(rows))
	for i, r := range rows {
		out[i] = Invitation{Invitation: r, Counts: of[r.ID]}
	}
	return out, nil
}

// Withdraw ends an invitation: its codes are void, and what waits for an approval is refused.
func (s *Service) Withdraw(ctx context.Context, by workflow.Actor, id string) error {
	if err := by.Need(access.Devices); err != nil {
		return err
	}
	now := s.now()
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.Invitation(id); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				return &workflow.NotFoundError{Kind: "invitation", ID: id}
			}
			return err
		}
		if err := tx.WithdrawInvitation(id, now); err != nil {
			return err
		}
		return audited(tx, by, now, store.AuditRecord{Action: "withdraw invitation", Kind: "invitations", ObjectID: id})
	})
}

// Waiting is a laptop that waits for somebody to approve its enrolment.
type Waiting struct {
	ID         string // names it, as long as it waits
	Invitation string
	Device     string // that it will be
	New        bool   // the estate does not have it yet
	Serial     string // as the laptop says
	Model      string
	At         time.Time
}

// waitingID names a code without telling it.
func waitingID(c *store.InvitationCode) string { return c.Hash[:12] }

// Waiting lists the laptops that wait for an approval.
func (s *Service) Waiting(ctx context.Context, by workflow.Actor) ([]Waiting, error) {
	if err := by.Need(access.Devices); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).CodesIn(store.CodeWaiting)
	if err != nil {
		return nil, err
	}
	out := make([]Waiting, len(rows))
	for i := range rows {
		c := &rows[i]
		out[i] = Waiting{
			ID: waitingID(c), Invitation: c.Invitation, Device: c.Device, New: s.flow.Live().Plan.Device(estate.DeviceID(c.Device)) == nil,
			Serial: c.SerialNumber, Model: c.Model,
		}
		if c.UsedAt != nil {
			out[i].At = *c.UsedAt
		}
	}
	return out, nil
}

// Decide approves the enrolment of a laptop that waits, or refuses it.
func (s *Service) Decide(ctx context.Context, by workflow.Actor, id string, approve bool) error {
	if err := by.Need(access.Devices); err != nil {
		return err
	}
	now := s.now()
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		rows, err := tx.CodesIn(store.CodeWaiting)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(rows, func(c store.InvitationCode) bool { return strings.HasPrefix(c.Hash, id) && len(id) == 12 })
		if at < 0 {
			return &workflow.NotFoundError{Kind: "enrolment that waits", ID: id}
		}
		c := rows[at]
		action := "approve enrolment"
		if c.State = store.CodeApproved; !approve {
			c.State, action = store.CodeRefused, "refuse enrolment"
		}
		c.DecidedBy, c.DecidedAt = by.Name, &now
		if _, err := tx.AlterCode(store.CodeWaiting, c); err != nil {
			return err
		}
		return audited(tx, by, now, store.AuditRecord{Action: action, Kind: string(estate.KindDevice), ObjectID: c.Device, After: c.Invitation})
	})
}

// audited appends a record of what an actor does.
func audited(tx *store.Store, by workflow.Actor, at time.Time, r store.AuditRecord) error {
	r.At, r.By, r.Via, r.Request = at, by.Name, by.Via, by.Request
	return tx.Audit(r)
}
