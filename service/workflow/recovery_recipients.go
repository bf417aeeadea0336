// This file has those to whom keys are sealed: the service's own escrow identities, and those of a company whose private
// halves are kept elsewhere.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
	sealed "zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/service/store"
)

// Recipient is somebody to whom keys are sealed, with how far that is.
type Recipient struct {
	store.EscrowRecipient
	Usable  bool // the service has its private half
	Named   int  // laptops whose policies name it
	Keys    int  // keys in force, or stored, that are sealed to it
	Alone   int  // of these, those that are sealed to nobody else
	Earlier int  // keys that were replaced and are sealed to it
	Blocks  string
}

// Recipients lists those to whom keys are sealed, the oldest first. One that a policy names and that nobody registered is
// listed, too: it has no date.
func (s *RecoveryService) Recipients(ctx context.Context, by Actor) ([]Recipient, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.recipients(ctx)
}

func (s *RecoveryService) recipients(ctx context.Context) ([]Recipient, error) {
	rows, err := s.store.In(ctx).EscrowRecipients()
	if err != nil {
		return nil, err
	}
	counts, err := s.store.In(ctx).SealedTo()
	if err != nil {
		return nil, err
	}
	out := make([]Recipient, len(rows))
	for i, r := range rows {
		out[i] = Recipient{EscrowRecipient: r, Usable: s.keyring.Has(r.Recipient)}
	}
	at := func(text string) *Recipient {
		i := slices.IndexFunc(out, func(r Recipient) bool { return r.Recipient == text })
		if i < 0 {
			i = len(out)
			out = append(out, Recipient{EscrowRecipient: store.EscrowRecipient{Recipient: text}, Usable: s.keyring.Has(text)})
		}
		return &out[i]
	}
	live := s.Live()
	for _, is := range live.Resolution.States(recovery.RecipientsOfEscrow, live.Plan.All()) {
		if is.Status != outcome.Set {
			continue
		}
		for _, text := range is.Value.Items() {
			at(text).Named += is.Devices.Len()
		}
	}
	for _, c := range counts {
		for _, text := range c.Recipients {
			r := at(text)
			switch {
			case c.Replaced:
				r.Earlier += c.Keys
			default:
				r.Keys += c.Keys
				if len(c.Recipients) == 1 {
					r.Alone += c.Keys
				}
			}
		}
	}
	for i := range out {
		out[i].Blocks = out[i].blocks()
	}
	return out, nil
}

// blocks says why the private half of a recipient cannot be destroyed yet; empty: it can.
func (r *Recipient) blocks() string {
	switch {
	case r.DestroyedAt != nil:
		return "It is destroyed."
	case r.Named > 0:
		return fmt.Sprintf("The policies of %d laptops name it.", r.Named)
	case r.Keys > 0:
		return fmt.Sprintf("%d keys in force are sealed to it; their laptops have not sealed new ones yet.", r.Keys)
	}
	return ""
}

const (
	mostTitle    = 100 // characters
	replaceSoon  = 60 * 24 * time.Hour
	maxRecipient = 200 // bytes
)

// NewRecipient is somebody to whom keys are to be sealed.
type NewRecipient struct {
	Title     string
	Recipient string // of a company: its public half. Empty: the service makes an identity of its own
	ReplaceOn string // the day by which another is to take its place; empty: none
}

// AddRecipient registers a recipient, or makes an escrow identity of the service. Keys are sealed to it once a policy
// names it.
func (s *RecoveryService) AddRecipient(ctx context.Context, by Actor, in NewRecipient) (store.EscrowRecipient, error) {
	row := store.EscrowRecipient{Title: strings.TrimSpace(in.Title), Holder: store.HeldByCompany, MadeAt: s.now(), MadeBy: by.Name,
		ReplaceOn: in.ReplaceOn, Recipient: in.Recipient}
	if err := by.Need(access.Service); err != nil {
		return row, err
	}
	var faults problem.Faults
	if n := len([]rune(row.Title)); n == 0 || n > mostTitle {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: "/title", Found: fmt.Sprintf("%d characters", n),
			Expected: fmt.Sprintf("1 to %d", mostTitle)})
	}
	if _, err := time.Parse(time.DateOnly, in.ReplaceOn); in.ReplaceOn != "" && err != nil {
		faults = append(faults, problem.Fault{Code: problem.BadDate, Path: "/replace_on", Found: problem.Quote(in.ReplaceOn),
			Expected: "a day such as 2027-03-01"})
	}
	if in.Recipient != "" {
		if _, err := sealed.Recipients([]string{in.Recipient}); err != nil || len(in.Recipient) > maxRecipient {
			found := "a text that is none"
			if strings.HasPrefix(strings.ToUpper(in.Recipient), "AGE-SECRET-KEY-") {
				found = "a private half, which must not leave where it is kept"
			}
			faults = append(faults, problem.Fault{Code: problem.PatternMismatch, Path: "/recipient", Found: found,
				Expected: "the public half: a text that begins with age1"})
		}
	}
	known, err := s.store.In(ctx).EscrowRecipients()
	if err != nil {
		return row, err
	}
	if slices.ContainsFunc(known, func(r store.EscrowRecipient) bool { return r.Recipient == in.Recipient }) {
		faults = append(faults, problem.Fault{Code: problem.DoubledItem, Path: "/recipient", Found: problem.Quote(in.Recipient),
			Expected: "a recipient that is not registered yet"})
	}
	if len(faults) > 0 {
		return row, faults
	}
	if in.Recipient == "" {
		row.Holder = store.HeldByService
		if row.Recipient, err = s.keyring.Make(s.now()); err != nil {
			return row, err
		}
	}
	return row, s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.SaveEscrowRecipient(row), s.audit(tx, by, store.AuditRecord{
			Action: "add escrow recipient", Kind: "escrow recipients", ObjectID: row.Recipient, After: row.Title + ", held by the " + row.Holder,
		}))
	})
}

// AdoptRecipients registers the service's own identities that nobody registered, such as those that were taken in from a
// file.
func (s *RecoveryService) AdoptRecipients(ctx context.Context, title string) error {
	known, err := s.store.In(ctx).EscrowRecipients()
	if err != nil {
		return err
	}
	for _, text := range s.keyring.Recipients() {
		if slices.ContainsFunc(known, func(r store.EscrowRecipient) bool { return r.Recipient == text }) {
			continue
		}
		row := store.EscrowRecipient{Recipient: text, Title: title, Holder: store.HeldByService, MadeAt: s.now(), MadeBy: "service"}
		if err := s.store.In(ctx).SaveEscrowRecipient(row); err != nil {
			return err
		}
	}
	return nil
}

// ReplaceRecipient says by which day another recipient is to take the place of one; empty: by none.
func (s *RecoveryService) ReplaceRecipient(ctx context.Context, by Actor, recipient, day string) error {
	if err := by.Need(access.Service); err != nil {
		return err
	}
	if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
		return problem.Faults{{Code: problem.BadDate, Path: "/replace_on", Found: problem.Quote(day), Expected: "a day such as 2027-03-01"}}
	}
	return s.alterRecipient(ctx, by, recipient, "plan replacement of escrow recipient", func(r *Recipient) error {
		r.ReplaceOn = day
		return nil
	})
}

// DestroyRecipient destroys the private half of a recipient that the service holds, or notes that a company destroyed its
// own. It is refused as long as a policy names it, or a key in force is sealed to it. Earlier keys that are sealed to it
// alone can never be opened again.
func (s *RecoveryService) DestroyRecipient(ctx context.Context, by Actor, recipient string) error {
	if err := by.Need(access.Service); err != nil {
		return err
	}
	now := s.now()
	s.index.mu.Lock() // nobody stores a key that is sealed to it meanwhile
	defer s.index.mu.Unlock()
	return s.alterRecipient(ctx, by, recipient, "destroy escrow recipient", func(r *Recipient) error {
		if r.Blocks != "" {
			return &KeyRequestError{"The escrow recipient cannot be destroyed. " + r.Blocks}
		}
		r.DestroyedAt, r.DestroyedBy = &now, by.Name
		return s.keyring.Destroy(recipient)
	})
}

func (s *RecoveryService) alterRecipient(ctx context.Context, by Actor, recipient, action string, alter func(*Recipient) error) error {
	list, err := s.recipients(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(r Recipient) bool { return r.Recipient == recipient && !r.MadeAt.IsZero() })
	if at < 0 {
		return &NotFoundError{"escrow recipient", recipient}
	}
	r := &list[at]
	before := r.ReplaceOn
	if err := alter(r); err != nil {
		return err
	}
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.SaveEscrowRecipient(r.EscrowRecipient), s.audit(tx, by, store.AuditRecord{
			Action: action, Kind: "escrow recipients", ObjectID: recipient, Before: before, After: r.ReplaceOn,
		}))
	})
}

// RecoveryFinding is something about recovery keys that somebody has to look at.
type RecoveryFinding struct {
	Code    string // one of those below
	Laptops int
	Devices []estate.DeviceID // some of them
	What    string            // a recipient or a person, by its title
	Day     string            // by which something is to be done
}

// Codes of findings.
const (
	FindNoRecipient = "no-recipient"      // encryption with escrow is demanded, and nobody is named to whom keys are sealed
	FindNoEscrow    = "no-escrow"         // encryption is demanded, and keys go nowhere
	FindUnknown     = "unknown-recipient" // a policy names somebody whom nobody registered
	FindDestroyed   = "destroyed-recipient"
	FindReplace     = "recipient-due" // another recipient is to take its place soon, or should have
	FindOwnerLeft   = "owner-left"    // an encrypted laptop whose owner has left the source that they came from
	FindNotRenewed  = "not-renewed"   // a key was shown more than a day ago, and still opens its laptop
	FindWeak        = "weak-volume"
)

const (
	findingDevices = 100
	renewedWithin  = 24 * time.Hour
)

// RecoveryFindings looks for what has to be looked at, over the laptops that somebody sees.
func (s *RecoveryService) RecoveryFindings(ctx context.Context, by Actor) ([]RecoveryFinding, error) {
	recipients, err := s.recipients(ctx)
	if err != nil {
		return nil, err
	}
	left, err := s.peopleWhoLeft(ctx)
	if err != nil {
		return nil, err
	}
	now := s.now()
	var out []RecoveryFinding
	note := func(code, what, day string, devices []estate.DeviceID) {
		if len(devices) > 0 {
			out = append(out, RecoveryFinding{code, len(devices), devices[:min(len(devices), findingDevices)], what, day})
		}
	}
	var noRecipient, noEscrow, notRenewed, weak []estate.DeviceID
	named, ownerless := map[string][]estate.DeviceID{}, map[estate.PersonID][]estate.DeviceID{}
	whole := s.Live()
	_, err = s.seenCovered(ctx, by, func(r *CoveredLaptop) {
		id := r.Device.ID
		h := handlingOf(whole, id)
		switch {
		case h.wanted && h.escrow && len(h.recipients) == 0:
			noRecipient = append(noRecipient, id)
		case h.wanted && whole.Resolution.State(recovery.EscrowTo, id).Value.Text() == recovery.EscrowOff:
			noEscrow = append(noEscrow, id)
		}
		for _, text := range h.recipients {
			named[text] = append(named[text], id)
		}
		if r.In.In(recovery.NotRenewed) && now.Sub(r.Used) > renewedWithin {
			notRenewed = append(notRenewed, id)
		}
		if slices.ContainsFunc(r.Volumes, func(v recovery.Volume) bool { return v.Weak != "" }) {
			weak = append(weak, id)
		}
		if owner := r.Device.Owner; left[owner] && r.In.In(recovery.AllEncrypted) {
			ownerless[owner] = append(ownerless[owner], id)
		}
	})
	if err != nil {
		return nil, err
	}
	note(FindNoRecipient, "", "", noRecipient)
	note(FindNoEscrow, "", "", noEscrow)
	for _, r := range recipients {
		what := r.Title
		if what == "" {
			what = r.Recipient
		}
		due, err := time.Parse(time.DateOnly, r.ReplaceOn)
		switch {
		case r.MadeAt.IsZero():
			note(FindUnknown, what, "", named[r.Recipient])
		case r.DestroyedAt != nil:
			note(FindDestroyed, what, "", named[r.Recipient])
		case err == nil && due.Sub(now) < replaceSoon:
			note(FindReplace, what, r.ReplaceOn, named[r.Recipient])
		}
	}
	for _, owner := range slices.Sorted(maps.Keys(ownerless)) {
		note(FindOwnerLeft, string(owner), "", ownerless[owner])
	}
	note(FindNotRenewed, "", "", notRenewed)
	note(FindWeak, "", "", weak)
	return out, nil
}

// peopleWhoLeft gives the people whom their source no longer has, and who are still in the estate.
func (s *RecoveryService) peopleWhoLeft(ctx context.Context) (map[estate.PersonID]bool, error) {
	records, err := s.store.In(ctx).LeftRecords("")
	out := map[estate.PersonID]bool{}
	for _, r := range records {
		if r.Kind == string(estate.KindPerson) {
			out[estate.PersonID(r.ObjectID)] = true
		}
	}
	return out, err
}
