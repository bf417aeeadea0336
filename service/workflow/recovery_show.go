// This file shows a recovery key to somebody who may see it, once, after what was compared at the laptop.

package workflow

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
	sealed "zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/service/store"
)

// ShownFor is how long a key stays on a screen.
const ShownFor = 60 * time.Second

// requestLife is how long a request to see a key is good, from its beginning and again from a second person's consent.
const requestLife = 15 * time.Minute

// Limits of what is said when somebody asks for a key, in characters.
const (
	leastReason = 10
	mostReason  = 500
)

// KeyAsk is what somebody says who asks to see a key: what the locked screen shows, who stands before it, and why.
type KeyAsk struct {
	Device     string
	Identifier string // as the locked screen shows it
	Person     string // id of the person who stands before it
	Model      string // as it is printed on the laptop
	Reason     string
}

// ComparisonError says that what was compared at a laptop is not what the service has. It does not say what the service
// has.
type ComparisonError struct{ Differs []string }

// What can differ.
const (
	DiffersIdentifier = "identifier"
	DiffersPerson     = "person"
	DiffersModel      = "model"
)

func (e *ComparisonError) Error() string {
	said := map[string]string{
		DiffersIdentifier: "No key of this laptop has the identifier that you entered.",
		DiffersPerson:     "The person you named is not the laptop's owner and does not use it.",
		DiffersModel:      "The laptop is another model than you entered.",
	}
	texts := make([]string, len(e.Differs))
	for i, what := range e.Differs {
		texts[i] = said[what]
	}
	return strings.Join(texts, " ") + " Compare again, at the laptop. This attempt is recorded."
}

// KeyRequestError says why a request for a key cannot go on.
type KeyRequestError struct{ Text string }

func (e *KeyRequestError) Error() string { return e.Text }

// AskForKey makes a request to see a key. It waits for a second person where a policy of the laptop demands one. Whether
// what was compared is right is looked at here; each attempt is recorded. The error is a *ComparisonError where it is not.
func (s *RecoveryService) AskForKey(ctx context.Context, by Actor, in KeyAsk) (store.KeyRequest, error) {
	live := s.Live()
	device, err := s.laptopOf(ctx, by, live, in.Device)
	if err != nil {
		return store.KeyRequest{}, err
	}
	if device == nil || !s.maySeeKey(by, live, device) {
		if !by.Held.Anywhere().Has(access.RecoveryKeys) {
			return store.KeyRequest{}, &access.DeniedError{Right: access.RecoveryKeys}
		}
		if device != nil && s.sees(by, estate.KindDevice, in.Device) {
			return store.KeyRequest{}, s.mayTouch(by, access.RecoveryKeys, live, device.ID)
		}
		return store.KeyRequest{}, &NotFoundError{"device", in.Device}
	}
	id, err := in.check()
	if err != nil {
		return store.KeyRequest{}, err
	}
	if isAnybodys(live, device) && live.Plan.Person(estate.PersonID(in.Person)) == nil {
		return store.KeyRequest{}, problem.Faults{{
			Code: problem.UnknownReference, Path: "/person", Found: problem.Quote(in.Person),
			Expected: "the id of a person of the estate, who stands before the laptop",
		}}
	}
	keys, err := s.store.In(ctx).RecoveryKeys(in.Device)
	if err != nil {
		return store.KeyRequest{}, err
	}
	at := slices.IndexFunc(keys, func(k store.RecoveryKey) bool { return k.Identifier == id })
	if differs := compared(live, device, at >= 0, in); len(differs) > 0 {
		err := s.audit(s.store.In(ctx), by, store.AuditRecord{
			Action: "recovery key refused", Kind: string(estate.KindDevice), ObjectID: in.Device, After: "another " +
				strings.Join(differs, ", another "),
		})
		return store.KeyRequest{}, errors.Join(&ComparisonError{differs}, err)
	}
	now := s.now()
	r := store.KeyRequest{
		ID: "K-" + strings.ToLower(rand.Text()[:12]), KeySeq: keys[at].Seq, Device: in.Device, Volume: keys[at].Volume, Identifier: id,
		Person: in.Person,
		Reason: in.Reason, By: by.Name, At: now, ExpiresAt: now.Add(requestLife), State: store.RequestOpen,
	}
	if handlingOf(live, device.ID).secondPerson {
		r.State = store.RequestWaits
	}
	record := keyRecord("ask for recovery key", in.Device, r.Volume, id)
	record.After += ", for " + in.Person + ": " + in.Reason
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.AddKeyRequest(r), s.audit(tx, by, record))
	})
	if err == nil && r.State == store.RequestWaits {
		s.Notify(Event{Topic: "key", ID: r.ID})
	}
	return r, err
}

// maySeeKey tells whether somebody may see the keys of a laptop: by their right, or as its owner where a policy lets
// owners see their own.
func (s *RecoveryService) maySeeKey(by Actor, live *Live, device *estate.Device) bool {
	if by.Held.For(access.RecoveryKeys, live.Plan.HomeUnits(device.ID)) {
		return true
	}
	return device.Owner != "" && by.Name == string(device.Owner) && handlingOf(live, device.ID).ownKeyShown
}

// check reads what was said, before anything is looked up.
func (in *KeyAsk) check() (recovery.Identifier, error) {
	var faults problem.Faults
	id, err := recovery.ParseIdentifier(in.Identifier)
	if err != nil {
		faults = append(faults, problem.Fault{
			Code: problem.PatternMismatch, Path: "/identifier", Found: problem.Quote(in.Identifier),
			Expected: "the 12 digits that the locked screen shows",
		})
	}
	reason := strings.TrimSpace(in.Reason)
	if n := len([]rune(reason)); n < leastReason || n > mostReason {
		faults = append(faults, problem.Fault{
			Code: problem.OutOfRange, Path: "/reason", Found: fmt.Sprintf("%d characters", n),
			Expected: fmt.Sprintf("%d to %d: why the key is needed", leastReason, mostReason),
		})
	}
	for _, each := range []struct{ path, text, what string }{
		{"/person", in.Person, "the person who stands before the laptop"},
		{"/model", in.Model, "the model, as it is printed on the laptop"},
	} {
		if strings.TrimSpace(each.text) == "" {
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: each.path, Found: "nothing", Expected: each.what})
		}
	}
	if len(faults) > 0 {
		return "", faults
	}
	in.Reason = reason
	return id, nil
}

// isAnybodys tells whether anybody of the estate may stand before a laptop: it has no owner and nobody who uses it, or was
// retired.
func isAnybodys(live *Live, device *estate.Device) bool {
	return device.Owner == "" && len(device.Users) == 0 || isRetired(live, device.ID)
}

// compared lists what is otherwise than the service has it. Where a laptop's model is not known, any model is taken.
func compared(live *Live, device *estate.Device, known bool, in KeyAsk) (differs []string) {
	if !known {
		differs = append(differs, DiffersIdentifier)
	}
	person := estate.PersonID(in.Person)
	if person != device.Owner && !slices.Contains(device.Users, person) && !isAnybodys(live, device) {
		differs = append(differs, DiffersPerson)
	}
	if device.Model != "" && !strings.EqualFold(strings.Join(strings.Fields(device.Model), " "), strings.Join(strings.Fields(in.Model), " ")) {
		differs = append(differs, DiffersModel)
	}
	return differs
}

// KeyRequests lists the requests that wait for a second person, as far as somebody may decide them: those for laptops of
// their units, but not their own.
func (s *RecoveryService) KeyRequests(ctx context.Context, by Actor) ([]store.KeyRequest, error) {
	if err := by.NeedSomewhere(access.RecoveryKeys); err != nil {
		return nil, err
	}
	list, err := s.store.In(ctx).KeyRequestsIn(store.RequestWaits, s.now())
	live := s.Live()
	return slices.DeleteFunc(list, func(r store.KeyRequest) bool {
		return s.mayTouch(by, access.RecoveryKeys, live, estate.DeviceID(r.Device)) != nil
	}), err
}

// KeyRequest gives a request, to whoever made it and to whoever may decide it.
func (s *RecoveryService) KeyRequest(ctx context.Context, by Actor, id string) (store.KeyRequest, error) {
	r, err := s.store.In(ctx).KeyRequest(id)
	if err == nil && r.By != by.Name && s.mayTouch(by, access.RecoveryKeys, s.Live(), estate.DeviceID(r.Device)) != nil {
		r, err = store.KeyRequest{}, store.ErrNotFound
	}
	return r, noRequest(by, id, err)
}

// noRequest says that there is no request that somebody may know of. Whoever has no right at all, and owns no laptop whose
// key they may see, is told that they lack it.
func noRequest(by Actor, id string, err error) error {
	if errors.Is(err, store.ErrNotFound) && by.Held.Anywhere() == 0 {
		return &access.DeniedError{Right: access.RecoveryKeys}
	}
	return notFound(err, "request", id)
}

// DecideKeyRequest lets a second person consent to a request, or refuse it.
func (s *RecoveryService) DecideKeyRequest(ctx context.Context, by Actor, id string, consents bool) (store.KeyRequest, error) {
	if err := by.NeedSomewhere(access.RecoveryKeys); err != nil {
		return store.KeyRequest{}, err
	}
	r, err := s.KeyRequest(ctx, by, id)
	if err != nil {
		return r, err
	}
	if err := s.mayTouch(by, access.RecoveryKeys, s.Live(), estate.DeviceID(r.Device)); err != nil {
		return store.KeyRequest{}, err
	}
	now := s.now()
	switch {
	case r.By == by.Name:
		return store.KeyRequest{}, &KeyRequestError{"You asked for this key; somebody else must consent."}
	case r.State != store.RequestWaits || now.After(r.ExpiresAt):
		return store.KeyRequest{}, requestOver(&r, now)
	}
	action := "consent to recovery key"
	if r.State, r.ExpiresAt = store.RequestOpen, now.Add(requestLife); !consents {
		r.State, action = store.RequestRefused, "refuse recovery key"
	}
	r.ConsentBy, r.ConsentAt = by.Name, &now
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		altered, err := tx.AlterKeyRequest(store.RequestWaits, r)
		if err == nil && !altered {
			err = &KeyRequestError{"Somebody else has decided this request meanwhile."}
		}
		record := keyRecord(action, r.Device, r.Volume, r.Identifier)
		record.After += ", asked by " + r.By
		return errors.Join(err, s.audit(tx, by, record))
	})
	if err == nil {
		s.Notify(Event{Topic: "key", ID: r.ID})
	}
	return r, err
}

// requestOver says why nothing more can be done with a request.
func requestOver(r *store.KeyRequest, now time.Time) error {
	switch {
	case r.State == store.RequestShown:
		return &KeyRequestError{"The key was shown. It is shown once: ask again if it is needed again."}
	case r.State == store.RequestRefused:
		return &KeyRequestError{r.ConsentBy + " refused this request."}
	case now.After(r.ExpiresAt):
		return &KeyRequestError{"The request has expired. Ask again."}
	case r.State == store.RequestWaits:
		return &KeyRequestError{"The request waits for a second person."}
	}
	return &KeyRequestError{"The request has been decided."}
}

// ShownKey is what somebody sees of a key.
type ShownKey struct {
	Request store.KeyRequest
	Name    string // of the volume
	Key     recovery.Key
	// Sealed is the key as it is stored, in base64, where the service cannot open it: it is sealed to a company's identity
	// alone. Who has that opens it with `age -d`.
	Sealed     string
	Recipients []string
}

// ShowKey gives the key of a request, once. The key counts as used from then on: the laptop is to put another in its place
// at its next check-in, and its owner is told.
func (s *RecoveryService) ShowKey(ctx context.Context, by Actor, id string) (*ShownKey, error) {
	r, err := s.store.In(ctx).KeyRequest(id)
	if err == nil && r.By != by.Name {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, noRequest(by, id, err)
	}
	now := s.now()
	live := s.Live()
	device, err := s.laptopOf(ctx, by, live, r.Device)
	switch {
	case err != nil:
		return nil, err
	case device == nil || !s.maySeeKey(by, live, device): // rights may have ended meanwhile
		return nil, &access.DeniedError{Right: access.RecoveryKeys}
	case r.State != store.RequestOpen || now.After(r.ExpiresAt):
		return nil, requestOver(&r, now)
	}
	row, err := s.store.In(ctx).RecoveryKey(r.KeySeq)
	if err != nil {
		return nil, err
	}
	out := &ShownKey{Name: row.Name, Recipients: row.Recipients}
	action := "show recovery key"
	if out.Key, err = s.keyring.Open(row.Sealed, row.Device, row.Volume); errors.Is(err, sealed.ErrNotFor) {
		out.Sealed, action = base64.StdEncoding.EncodeToString(row.Sealed), "hand out sealed recovery key"
	} else if err != nil {
		return nil, fmt.Errorf("opening the recovery key %s of %s: %w", row.Identifier, row.Device, err)
	}
	r.State, r.ShownAt = store.RequestShown, &now
	out.Request = r
	if row.UsedAt == nil {
		row.UsedAt, row.UsedBy = &now, by.Name
	}
	if row.State == recovery.Current && !isRetired(live, device.ID) {
		row.RenewalAt = &now
	}
	err = s.alterKeys(ctx, r.Device, func(tx *store.Store) error {
		altered, err := tx.AlterKeyRequest(store.RequestOpen, r)
		if err == nil && !altered {
			err = requestOver(&r, now)
		}
		if err != nil {
			return err
		}
		record := keyRecord(action, r.Device, r.Volume, r.Identifier)
		record.After += ", for " + r.Person + ": " + r.Reason
		if r.ConsentBy != "" {
			record.After += ", consent of " + r.ConsentBy
		}
		return errors.Join(tx.UpdateRecoveryKey(row), s.tellOwner(tx, live, device, &r), s.audit(tx, by, record))
	})
	if err != nil {
		return nil, err
	}
	// The laptop is not asked to check in now: whoever was told the key is about to type it.
	return out, nil
}

// tellOwner notes that the owner of a laptop, and those who use it, are told that a key of it was shown.
func (s *RecoveryService) tellOwner(tx *store.Store, live *Live, device *estate.Device, r *store.KeyRequest) error {
	people := slices.Clone(device.Users)
	if device.Owner != "" && !slices.Contains(people, device.Owner) {
		people = append(people, device.Owner)
	}
	then := "The laptop makes a new key when it is next connected; the one that was shown is worth nothing afterwards. "
	if isRetired(live, device.ID) {
		then = ""
	}
	var list []store.Announcement
	for _, id := range people {
		who := live.Plan.Person(id)
		if who == nil || who.Mail == "" {
			continue
		}
		list = append(list, store.Announcement{
			Account: string(id), Topic: AboutKeyShown, Channel: "mail", At: s.now(), State: store.AnnouncementDue, NextAt: time.Now().UTC(),
			Title: fmt.Sprintf("The recovery key of %s was shown", r.Device),
			Text: fmt.Sprintf("%s was shown the recovery key of the laptop %s (%s), for %s. The reason given: %s\n\n%s"+
				"If you know nothing of this, tell your service desk.", r.By, r.Device, device.Model, r.Person, r.Reason, then),
		})
	}
	return tx.AddAnnouncements(list)
}

// AboutKeyShown is told to the owner of a laptop, whatever they chose to be told.
const AboutKeyShown = "recovery-key-shown"

// askNow asks a laptop to check in, where it holds a connection for notifications.
func (s *RecoveryService) askNow(ctx context.Context, device string) {
	if s.onDue != nil {
		s.onDue(context.WithoutCancel(ctx), []string{device})
	}
}

// RenewKey asks a laptop to put another key in the place of one, or of all that it has where id is empty. It gives how
// many that are.
func (s *RecoveryService) RenewKey(ctx context.Context, by Actor, device string, id recovery.Identifier) (int, error) {
	if err := by.NeedSomewhere(access.RecoveryKeys); err != nil {
		return 0, err
	}
	live := s.Live()
	if live.Plan.Device(estate.DeviceID(device)) == nil {
		return 0, &NotFoundError{"device", device}
	}
	if err := s.mayTouch(by, access.RecoveryKeys, live, estate.DeviceID(device)); err != nil {
		return 0, err
	}
	n, now := 0, s.now()
	err := s.alterKeys(ctx, device, func(tx *store.Store) error {
		n = 0
		keys, err := tx.RecoveryKeys(device)
		if err != nil {
			return err
		}
		for _, k := range keys {
			if k.State != recovery.Current || id != "" && k.Identifier != id {
				continue
			}
			n++
			if k.RenewalAt == nil {
				k.RenewalAt = &now
			}
			if err := errors.Join(tx.UpdateRecoveryKey(k),
				s.audit(tx, by, keyRecord("ask for new recovery key", device, k.Volume, k.Identifier))); err != nil {
				return err
			}
		}
		if n == 0 {
			return &KeyRequestError{"The laptop has no key in force that could be replaced."}
		}
		return nil
	})
	if err == nil {
		s.askNow(ctx, device)
	}
	return n, err
}

// KeyHistory is the keys of a laptop with the time in which each was valid, who asked for them, and how its volumes are.
type KeyHistory struct {
	Device     *estate.Device
	Volumes    []recovery.Volume
	ReportedAt time.Time           // zero: never
	Keys       []store.RecoveryKey // the newest first, without what is sealed
	Requests   []store.KeyRequest  // the newest first
	MaySee     bool                // whoever asks may ask for a key of the laptop
	Recipients []string            // to which a policy wants its keys to be sealed
	Second     bool                // a second person has to consent before a key is shown
}

const requestsShown = 50

// KeyHistory gives the keys of a laptop, but not what is sealed. Whoever sees the laptop sees how its volumes are and how
// old its keys are; who may see its keys sees the identifiers of those that were replaced, and who asked for them.
func (s *RecoveryService) KeyHistory(ctx context.Context, by Actor, id string) (*KeyHistory, error) {
	if err := by.Need(access.Read); err != nil && by.NeedSomewhere(access.RecoveryKeys) != nil {
		return nil, err
	}
	live := s.Live()
	device, err := s.laptopOf(ctx, by, live, id)
	if err != nil {
		return nil, err
	}
	if device == nil || !isRetired(live, device.ID) && !s.sees(by, estate.KindDevice, id) {
		return nil, &NotFoundError{"device", id}
	}
	is, err := s.keysOf(ctx, id)
	if err != nil {
		return nil, err
	}
	keys, err := s.store.In(ctx).RecoveryKeys(id)
	if err != nil {
		return nil, err
	}
	h := handlingOf(live, device.ID)
	out := &KeyHistory{
		Device: device, Volumes: slices.Clone(is.volumes), ReportedAt: is.at, Keys: keys, MaySee: s.maySeeKey(by, live, device),
		Recipients: h.recipients,
		Second:     h.secondPerson,
	}
	for i := range out.Volumes { // it is read out at the locked laptop, and not copied from here
		out.Volumes[i].Identifier = ""
	}
	for i := range keys {
		k := &keys[i]
		if k.Sealed = nil; k.State != recovery.Replaced || !out.MaySee {
			k.Identifier = ""
		}
	}
	if out.MaySee {
		out.Requests, err = s.store.In(ctx).KeyRequestsOf(id, requestsShown)
		for i := range out.Requests {
			out.Requests[i].Identifier = ""
		}
	}
	return out, err
}
