// This file keeps which offered policies people took at their laptops. What a laptop says was taken on it
// stands in place of the field taken of its device, whatever a source or an edit has there. It alters the
// live estate without a revision.

package workflow

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// tellings are what laptops say, as long as it is not live.
type tellings struct {
	mu      sync.Mutex // guards what follows
	waiting []*telling
}

// telling is what one laptop says, on its way into the live estate.
type telling struct {
	device estate.DeviceID
	taken  []estate.PolicyID
	done   bool // guarded by liveEstate.writing, as what follows
	err    error
}

// toldFrom gives what laptops say was taken on them from what is stored of it.
func toldFrom(stored store.TakenOffers) cowMap[[]estate.PolicyID] {
	out := make(map[objectKey][]estate.PolicyID, len(stored))
	for device, policies := range stored {
		out[objectKey{estate.KindDevice, device}] = converted[estate.PolicyID](policies)
	}
	return newCowMap(out)
}

// converted gives ids as those of another type.
func converted[To, From ~string](ids []From) []To {
	out := make([]To, len(ids))
	for i, id := range ids {
		out[i] = To(id)
	}
	return out
}

// asTold gives an object as it is with what laptops say: a device of a laptop that tells has what was taken
// on it, and every other object is as it was.
func (l *Live) asTold(object any) any {
	if d, is := object.(estate.Device); is {
		if said, tells := l.told.at(objectKey{estate.KindDevice, string(d.ID)}); tells {
			d.Taken = said
			return d
		}
	}
	return object
}

// allAsTold lets the devices among objects have what laptops say.
func (l *Live) allAsTold(objects []any) {
	for i := range objects {
		objects[i] = l.asTold(objects[i])
	}
}

// toldOtherwise refuses an edit of what a laptop says was taken on it: its person decides that.
func (l *Live) toldOtherwise(object any) error {
	d, is := object.(estate.Device)
	if !is {
		return nil
	}
	if said := l.asTold(d).(estate.Device); !slices.Equal(said.Taken, d.Taken) {
		return problem.Faults{{
			Code: problem.InUse, Path: problem.Join("", string(estate.KindDevice), string(d.ID), "taken"), Found: listOrNone(d.Taken),
			Expected: "what its person took there: " + listOrNone(said.Taken),
		}}
	}
	return nil
}

func listOrNone(ids []estate.PolicyID) string {
	if len(ids) == 0 {
		return "none"
	}
	return problem.Quote(strings.Join(converted[string](ids), " "))
}

// Tell takes what a laptop says was taken on it into the live estate, and waits until it is there. Policies
// that the estate does not have are left out. altered is false where nothing is otherwise than before.
//
// Laptops that tell while others are being taken in are taken in together: the estate alters once for all
// of them.
func (s *LaptopService) Tell(ctx context.Context, device string, taken []string) (altered bool, err error) {
	live := s.Live()
	t := &telling{device: estate.DeviceID(device)}
	for _, id := range slices.Compact(slices.Sorted(slices.Values(taken))) {
		if live.Plan.Policy(estate.PolicyID(id)) != nil {
			t.taken = append(t.taken, estate.PolicyID(id))
		}
	}
	if said, tells := live.told.at(objectKey{estate.KindDevice, device}); tells && slices.Equal(said, t.taken) {
		return false, nil
	}
	s.tellings.mu.Lock()
	s.tellings.waiting = append(s.tellings.waiting, t)
	s.tellings.mu.Unlock()
	s.writing.Lock()
	defer s.writing.Unlock()
	if !t.done {
		s.tellings.mu.Lock()
		all := s.tellings.waiting
		s.tellings.waiting = nil
		s.tellings.mu.Unlock()
		err := s.takeIn(context.WithoutCancel(ctx), all)
		for _, one := range all {
			one.done, one.err = true, err
		}
	}
	return true, t.err
}

// takeIn writes what laptops say, and makes it live. s.writing must be held.
func (s *LaptopService) takeIn(ctx context.Context, all []*telling) error {
	live, now := s.Live(), s.now()
	next := live.sameAgain()
	next.told = live.told.copied()
	var edits []estate.Edit
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		for _, t := range all {
			d := live.Plan.Device(t.device)
			if d == nil {
				continue // it left the estate meanwhile
			}
			next.told.put(objectKey{estate.KindDevice, string(t.device)}, t.taken)
			if !slices.Equal(d.Taken, t.taken) {
				is := *d
				is.Taken = t.taken
				edits = append(edits, estate.Edit{Kind: estate.KindDevice, ID: string(t.device), Object: is})
			}
			if err := s.write(tx, live, d, t, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(edits) > 0 {
		s.alterTaken(live, next, edits)
		return nil
	}
	s.mu.Lock() // all is as it was, but for who says so
	defer s.mu.Unlock()
	s.live = next
	return nil
}

// write stores what a laptop says, and records what its person took or left.
func (s *LaptopService) write(tx *store.Store, live *Live, d *estate.Device, t *telling, now time.Time) error {
	by := Actor{Name: string(t.device), Via: "device"}
	record := func(action string, policies []estate.PolicyID) error {
		for _, id := range policies {
			r := store.AuditRecord{Action: action, Kind: string(estate.KindDevice), ObjectID: string(t.device), After: string(id)}
			if err := s.audit(tx, by, r); err != nil {
				return err
			}
		}
		return nil
	}
	said := live.told.of(objectKey{estate.KindDevice, string(t.device)})
	return errors.Join(
		tx.SaveTakenOffers(string(t.device), converted[string](without(t.taken, said)), converted[string](without(said, t.taken)), now),
		record("take offered policy", without(t.taken, d.Taken)), // before it told, a source or an edit said so
		record("leave offered policy", without(d.Taken, t.taken)),
	)
}

// without gives the ids that are not among others.
func without(ids, others []estate.PolicyID) []estate.PolicyID {
	return slices.DeleteFunc(slices.Clone(ids), func(id estate.PolicyID) bool { return slices.Contains(others, id) })
}

// alterTaken makes live what devices are with what was taken on them. s.writing must be held.
func (s *liveEstate) alterTaken(live, next *Live, edits []estate.Edit) {
	next.generations = &generations{}
	next.Side = live.Side.With(live.Plan.Snapshot().With(edits...))
	next.rolling = slices.Clone(live.rolling)
	for i := range next.rolling { // a device that a rollout alters has it without the rollout, too
		next.rolling[i].back = slices.Clone(next.rolling[i].back)
		for j := range next.rolling[i].back {
			b := &next.rolling[i].back[j]
			b.Object = next.asTold(b.Object)
		}
	}
	report := impact.Compare(live.Side, next.Side)
	events := conflictEvents(live.Side, next.Side, report, store.Publication{
		Revision: live.Revision, Title: "Offered policies were taken, or left", By: "people at their laptops", At: s.now(),
	})
	if err := s.store.In(s.ctx).AddConflictEvents(events); err != nil {
		s.log.Error("recording what conflicts with what was taken", "error", err)
	}
	s.mu.Lock()
	s.goLive(next, report)
	clear(s.drafts)
	clear(s.laid)
	s.mu.Unlock()
	devices := make([]estate.DeviceID, len(edits))
	for i, e := range edits {
		devices[i] = estate.DeviceID(e.ID)
		s.Notify(Event{Topic: "device", ID: e.ID})
	}
	if len(next.rolling) > 0 {
		s.background(func() {
			if err := s.alignDevices(s.ctx, devices); err != nil && s.ctx.Err() == nil {
				s.log.Error("taking laptops into rollouts", "error", err)
			}
		})
	}
	s.Notify(Event{Topic: "estate"})
}

// OfferView is a policy that is offered on a laptop.
type OfferView struct {
	Policy *estate.Policy
	Taken  bool
	Since  *time.Time // when it was taken, where the laptop says that
}

// offersOn gives what is offered on a laptop, and what of it was taken.
func (s *LaptopService) offersOn(ctx context.Context, live *Live, device string) ([]OfferView, error) {
	offers, err := s.PlanFor(live, device).Offers(estate.DeviceID(device))
	if err != nil || len(offers) == 0 {
		return nil, err
	}
	since, err := s.store.In(ctx).TakenOffersSince(device)
	if err != nil {
		return nil, err
	}
	out := make([]OfferView, len(offers))
	for i, o := range offers {
		out[i] = OfferView{Policy: o.Policy, Taken: o.Taken}
		if at, known := since[string(o.Policy.ID)]; known && o.Taken {
			out[i].Since = &at
		}
	}
	return out, nil
}
