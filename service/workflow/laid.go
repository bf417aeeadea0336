// This file lays the edits of a change over what is live, and keeps what came of it.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// laid is edits laid over the live estate.
type laid struct {
	live     *Live
	version  int64            // of the change with these edits
	objects  map[laidKey]any  // what each edit makes of its object
	snapshot *estate.Snapshot // where there are no faults
	faults   problem.Faults   // paths of faults within an edited object start at its kind and id
}

// laidKey is all of an edit that matters to what it makes of its object, as long as the same estate
// is live.
type laidKey struct{ kind, id, body, local string }

// lay lays edits over the live estate and says what is wrong with the outcome. What was decoded for
// known, which may be nil, is not decoded again.
func (s *liveEstate) lay(ctx context.Context, live *Live, edits []store.Edit, known *laid) (*laid, error) {
	out := &laid{live: live, objects: make(map[laidKey]any, len(edits))}
	over := make([]estate.Edit, 0, len(edits))
	for _, e := range edits {
		one := estate.Edit{Kind: estate.Kind(e.Kind), ID: e.ObjectID}
		if !e.Retire {
			key := laidKey{e.Kind, e.ObjectID, e.Body, e.Local}
			if known != nil && known.live == live && known.objects[key] != nil {
				one.Object = known.objects[key]
			} else {
				object, err := s.laidObject(ctx, live, e)
				if errors.As(err, &out.faults) {
					return out, nil
				}
				if err != nil {
					return nil, fmt.Errorf("laying the edit of %s %s: %w", e.Kind, e.ObjectID, err)
				}
				one.Object = object
			}
			out.objects[key] = one.Object
		} else if one.Kind == estate.KindPolicy { // a retired policy stays in the estate, and reaches nobody
			for _, p := range live.Plan.Snapshot().Policies {
				if string(p.ID) == e.ObjectID {
					p.State = estate.Retired
					one.Object = p
				}
			}
		}
		over = append(over, one)
	}
	ofSource := func(kind estate.Kind, id string) bool {
		return live.imported.has(objectKey{kind, id})
	}
	takenAway := slices.ContainsFunc(over, func(e estate.Edit) bool { return e.Object == nil })
	if !takenAway {
		there := live.there(over)
		for i, e := range over {
			if ofSource(e.Kind, e.ID) {
				over[i], _ = estate.SeverEdit(e, there)
			}
		}
	}
	next := live.Plan.Snapshot().With(over...)
	next = live.withoutStandIn(next, over)
	if takenAway {
		next, _ = next.Sever(ofSource, nil)
	}
	out.snapshot, out.faults = next, live.newFaults(next, over)
	return out, nil
}

// wellFormed lays edits over the live estate, those of a change or a little more, and gives what
// comes of it. What is wrong with it is the error. The change's id may be empty.
func (s *ChangeService) wellFormed(ctx context.Context, live *Live, edits []store.Edit, change string) (*estate.Snapshot, error) {
	over, err := s.lay(ctx, live, edits, s.knownLaid(change))
	if err != nil {
		return nil, err
	}
	if len(over.faults) > 0 {
		return nil, over.faults
	}
	return over.snapshot, nil
}

// knownLaid gives the edits of a change as they were laid over what is live when they were stored
// last; nil where that is not known.
func (s *liveEstate) knownLaid(change string) *laid {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.laid[change]
}

// keepLaid remembers the edits of a change as they are laid over what is live, for the questions
// that follow.
func (s *liveEstate) keepLaid(change string, over *laid) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.laid) >= 64 {
		clear(s.laid)
	}
	s.laid[change] = over
}

// there tells whether units, people and devices are in the live estate with edits laid over it.
func (l *Live) there(laid []estate.Edit) func(estate.Kind, string) bool {
	added := map[objectKey]bool{}
	for _, e := range laid {
		if e.Object != nil {
			added[objectKey{e.Kind, e.ID}] = true
		}
	}
	return func(kind estate.Kind, id string) bool {
		switch kind {
		case estate.KindUnit:
			return added[objectKey{kind, id}] || l.Plan.Unit(estate.UnitID(id)) != nil
		case estate.KindPerson:
			return added[objectKey{kind, id}] || l.Plan.Person(estate.PersonID(id)) != nil
		}
		return added[objectKey{kind, id}] || l.Plan.Device(estate.DeviceID(id)) != nil
	}
}

// newFaults says what is wrong with a snapshot that was not wrong before the edits were laid over
// what is live. An update of the shipped dictionary may leave objects that are live with faults;
// that must not keep anybody from mending others.
func (l *Live) newFaults(next *estate.Snapshot, laid []estate.Edit) problem.Faults {
	if faults, ok := next.ValidateEdits(laid, l.there(laid)); ok && len(faults) == 0 {
		return nil
	}
	faults := faultsOf(next)
	if len(faults) == 0 {
		return nil
	}
	old := map[problem.Fault]bool{}
	for _, f := range faultsOf(l.Plan.Snapshot()) {
		old[f] = true
	}
	edited := map[string]bool{}
	for _, e := range laid {
		edited[problem.Join("", string(e.Kind), e.ID)] = e.Object != nil
	}
	return slices.DeleteFunc(faults, func(f problem.Fault) bool {
		keys := problem.Split(f.Path)
		return old[f] && !(len(keys) >= 2 && edited[problem.Join("", keys[0], keys[1])])
	})
}

// faultsOf validates a snapshot; paths of faults within an object start at its kind and id.
func faultsOf(s *estate.Snapshot) problem.Faults {
	faults := s.Validate()
	for i := range faults {
		faults[i].Path = named(s, faults[i].Path)
	}
	return faults
}

// named puts the ids of objects in the place of their positions in a path.
func named(s *estate.Snapshot, path string) string {
	keys := problem.Split(path)
	if len(keys) < 2 {
		return path
	}
	var at int
	if _, err := fmt.Sscan(keys[1], &at); err != nil {
		return path
	}
	objects := files.AllObjects(s, estate.Kind(keys[0]))
	if at >= len(objects) {
		return path
	}
	out := problem.Join("", keys[0], files.ObjectID(objects[at]))
	for _, k := range keys[2:] {
		out = problem.Join(out, k)
	}
	return out
}
