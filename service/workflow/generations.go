// This file holds what the estate is while changes are rolled out: the live estate with those of the
// changes that have reached a laptop. Each combination that occurs is a generation of its own, and
// costs what differs.

package workflow

import (
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/service/store"
)

// maxRolling is how many rollouts may be under way at once.
const maxRolling = 32

// rolling is a rollout under way whose change is part of what will be live.
type rolling struct {
	id    string
	edits []store.Edit
	back  []estate.Edit // what takes the change out again

	// Kept here, too, and not only in liveEstate.machines: a session of a laptop goes on with the Live that it
	// began with when the rollout is over.
	machine *machine
}

// reached is a set of rollouts under way, by their places in Live.rolling: those that have reached a
// laptop.
type reached uint64

func (r reached) has(place int) bool        { return r>>place&1 == 1 }
func (r reached) with(place int) reached    { return r | 1<<place }
func (r reached) without(place int) reached { return r &^ (1 << place) }

// generations are the estates of the combinations of rollouts that occur, of one Live.
type generations struct {
	mu sync.Mutex
	by map[reached]*generation
}

// generation is the estate with some of the rollouts under way.
type generation struct {
	plan     func() *resolve.Plan
	resolved func() impact.Side
}

// all is the set of all rollouts under way.
func (l *Live) all() reached { return 1<<len(l.rolling) - 1 }

// earlier is the set of the rollouts that were published before the one at a place.
func (l *Live) earlier(place int) reached { return 1<<place - 1 }

// generation gives the estate with some of the rollouts under way.
func (l *Live) generation(r reached) *generation {
	l.generations.mu.Lock()
	defer l.generations.mu.Unlock()
	if known := l.generations.by[r]; known != nil {
		return known
	}
	g := &generation{}
	if r == l.all() {
		g.plan = func() *resolve.Plan { return l.Plan }
		g.resolved = func() impact.Side { return l.Side }
	} else {
		g.plan = sync.OnceValue(func() *resolve.Plan { return l.Plan.Beside(l.snapshotWith(r)) })
		g.resolved = sync.OnceValue(func() impact.Side { return impact.Side{Plan: g.plan(), Resolution: g.plan().Estate()} })
	}
	if l.generations.by == nil {
		l.generations.by = map[reached]*generation{}
	}
	l.generations.by[r] = g
	return g
}

// planWith gives the plan of the estate with some of the rollouts under way.
func (l *Live) planWith(r reached) *resolve.Plan { return l.generation(r).plan() }

// sideWith gives the resolution of the estate with some of the rollouts under way.
func (l *Live) sideWith(r reached) impact.Side { return l.generation(r).resolved() }

// snapshotWith takes the changes of all other rollouts out of what will be live.
func (l *Live) snapshotWith(r reached) *estate.Snapshot {
	// No two rollouts under way edit the same object: each can be taken out by itself.
	var edits []estate.Edit
	for i := range l.rolling {
		if !r.has(i) {
			edits = append(edits, l.rolling[i].back...)
		}
	}
	next := l.Plan.Snapshot().With(edits...)
	// What a change brought may be named by what a source brought since. Publications that name it wait.
	named := func(e estate.Edit) bool {
		return e.Object == nil && (e.Kind == estate.KindUnit || e.Kind == estate.KindPerson || e.Kind == estate.KindDevice)
	}
	if slices.ContainsFunc(edits, named) {
		next, _ = next.Sever(nil, nil)
	}
	return next
}

// takingOut gives the edits that put the objects that are edited back as they are in an estate.
func takingOut(before *estate.Snapshot, edits []store.Edit) []estate.Edit {
	out := make([]estate.Edit, len(edits))
	for i, e := range edits {
		kind := estate.Kind(e.Kind)
		out[i] = estate.Edit{Kind: kind, ID: e.ObjectID, Object: before.Object(kind, e.ObjectID)}
	}
	return out
}

// rollingEdit gives the edit of an object that is being rolled out; found is false where none is.
func (l *Live) rollingEdit(key objectKey) (e store.Edit, found bool) {
	for i := range l.rolling {
		for _, e := range l.rolling[i].edits {
			if e.Kind == string(key.kind) && e.ObjectID == key.id {
				return e, true
			}
		}
	}
	return store.Edit{}, false
}
