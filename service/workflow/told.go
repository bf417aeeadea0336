// This file keeps what laptops say of themselves: which offered policies their people took, and facts. It stands
// in place of what a source or an edit has of their devices, and alters the live estate without a revision.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// Told is what a laptop says of its device.
type Told struct {
	Chooses bool              // it says what its person took
	Taken   []estate.PolicyID // by id
	Facts   Facts
}

// Facts is what a laptop knows of itself. What it does not say is as a source or an edit has it.
type Facts struct {
	OSVersion string                   `json:"os_version,omitempty"`
	Edition   string                   `json:"edition,omitempty"`
	Model     string                   `json:"model,omitempty"`
	Others    map[string]setting.Value `json:"facts,omitempty"`
}

// on gives a device as it is with what its laptop says.
func (t *Told) on(d estate.Device) estate.Device {
	if t.Chooses {
		d.Taken = t.Taken
	}
	for _, f := range []struct {
		is   *string
		said string
	}{{&d.OSVersion, t.Facts.OSVersion}, {&d.Edition, t.Facts.Edition}, {&d.Model, t.Facts.Model}} {
		if f.said != "" {
			*f.is = f.said
		}
	}
	if len(t.Facts.Others) > 0 {
		all := map[string]setting.Value{}
		maps.Copy(all, d.Facts)
		maps.Copy(all, t.Facts.Others)
		d.Facts = all
	}
	return d
}

// tellings are what laptops say, as long as it is not live.
type tellings struct {
	mu      sync.Mutex // guards what follows
	waiting []*telling
}

// telling is what one laptop says, on its way into the live estate.
type telling struct {
	device estate.DeviceID
	says   func(was Told) Told
	done   bool // guarded by liveEstate.writing, as what follows
	err    error
}

// readTold gives what laptops say from what is stored of it.
func readTold(taken store.TakenOffers, facts map[string]string) (cowMap[Told], error) {
	out := make(map[objectKey]Told, len(taken)+len(facts))
	for device, policies := range taken {
		out[objectKey{estate.KindDevice, device}] = Told{Chooses: true, Taken: converted[estate.PolicyID](policies)}
	}
	for device, text := range facts {
		key := objectKey{estate.KindDevice, device}
		t := out[key]
		if err := json.Unmarshal([]byte(text), &t.Facts); err != nil {
			return cowMap[Told]{}, fmt.Errorf("facts of %s: %w", device, err)
		}
		out[key] = t
	}
	return newCowMap(out), nil
}

// converted gives ids as those of another type.
func converted[To, From ~string](ids []From) []To {
	out := make([]To, len(ids))
	for i, id := range ids {
		out[i] = To(id)
	}
	return out
}

// asTold gives an object as it is with what laptops say: every object but devices is as it was.
func (l *Live) asTold(object any) any {
	if d, is := object.(estate.Device); is {
		if said, tells := l.told.at(objectKey{estate.KindDevice, string(d.ID)}); tells {
			return said.on(d)
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

// TellTaken takes what a laptop says was taken on it into the live estate, and waits until it is there. Policies
// that the estate does not have are left out. altered is false where nothing is otherwise than before.
func (s *LaptopService) TellTaken(ctx context.Context, device string, taken []string) (altered bool, err error) {
	live := s.Live()
	var known []estate.PolicyID
	for _, id := range slices.Compact(slices.Sorted(slices.Values(taken))) {
		if live.Plan.Policy(estate.PolicyID(id)) != nil {
			known = append(known, estate.PolicyID(id))
		}
	}
	return s.tell(ctx, device, func(was Told) Told {
		was.Chooses, was.Taken = true, known
		return was
	})
}

// TellFacts takes what a laptop says of itself into the live estate, as TellTaken does.
func (s *LaptopService) TellFacts(ctx context.Context, device string, facts Facts) (altered bool, err error) {
	return s.tell(ctx, device, func(was Told) Told {
		was.Facts = facts
		return was
	})
}

// sameTold tells whether a laptop says the same.
func sameTold(a, b Told) bool {
	return a.Chooses == b.Chooses && slices.Equal(a.Taken, b.Taken) && a.Facts.OSVersion == b.Facts.OSVersion &&
		a.Facts.Edition == b.Facts.Edition &&
		a.Facts.Model == b.Facts.Model && maps.EqualFunc(a.Facts.Others, b.Facts.Others, setting.Value.Equal)
}

// sameDevice tells whether a device is the same in all that a laptop may say.
func sameDevice(a, b *estate.Device) bool {
	return slices.Equal(a.Taken, b.Taken) && a.OSVersion == b.OSVersion && a.Edition == b.Edition && a.Model == b.Model &&
		maps.EqualFunc(a.Facts, b.Facts, setting.Value.Equal)
}

// tell takes what a laptop says into the live estate. Laptops that tell while others are being taken in are taken
// in together: the estate alters once for all of them.
func (s *LaptopService) tell(ctx context.Context, device string, says func(was Told) Told) (altered bool, err error) {
	if was := s.Live().told.of(objectKey{estate.KindDevice, device}); sameTold(was, says(was)) {
		return false, nil
	}
	t := &telling{device: estate.DeviceID(device), says: says}
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
			key := objectKey{estate.KindDevice, string(t.device)}
			was := next.told.of(key)
			said := t.says(was)
			next.told.put(key, said)
			if is := said.on(*d); !sameDevice(&is, d) {
				edits = append(edits, estate.Edit{Kind: estate.KindDevice, ID: string(t.device), Object: is})
			}
			if err := s.writeTold(tx, d, was, said, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(edits) > 0 {
		s.alterTold(live, next, edits)
		return nil
	}
	s.mu.Lock() // all is as it was, but for who says so
	defer s.mu.Unlock()
	s.live = next
	return nil
}

// writeTold stores what a laptop says, and records what its person took or left.
func (s *LaptopService) writeTold(tx *store.Store, d *estate.Device, was, said Told, now time.Time) error {
	device := string(d.ID)
	if !sameTold(Told{Facts: was.Facts}, Told{Facts: said.Facts}) {
		text, err := json.Marshal(said.Facts)
		if err != nil {
			return err
		}
		if err := tx.SaveFacts(device, string(text), now); err != nil {
			return err
		}
	}
	if !said.Chooses {
		return nil
	}
	by := Actor{Name: device, Via: "device"}
	record := func(action string, policies []estate.PolicyID) error {
		for _, id := range policies {
			r := store.AuditRecord{Action: action, Kind: string(estate.KindDevice), ObjectID: device, After: string(id)}
			if err := s.audit(tx, by, r); err != nil {
				return err
			}
		}
		return nil
	}
	return errors.Join(
		tx.SaveTakenOffers(device, converted[string](without(said.Taken, was.Taken)), converted[string](without(was.Taken, said.Taken)), now),
		record("take offered policy", without(said.Taken, d.Taken)), // before it told, a source or an edit said so
		record("leave offered policy", without(d.Taken, said.Taken)),
	)
}

// without gives the ids that are not among others.
func without(ids, others []estate.PolicyID) []estate.PolicyID {
	return slices.DeleteFunc(slices.Clone(ids), func(id estate.PolicyID) bool { return slices.Contains(others, id) })
}

// alterTold makes live what devices are with what their laptops say. s.writing must be held.
func (s *liveEstate) alterTold(live, next *Live, edits []estate.Edit) {
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
		Revision: live.Revision, Title: "Laptops said otherwise of themselves", By: "laptops", At: s.now(),
	})
	if err := s.store.In(s.ctx).AddConflictEvents(events); err != nil {
		s.log.Error("recording what conflicts with what laptops said", "error", err)
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
