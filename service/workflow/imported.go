// This file keeps what sources imported and what was edited here together as one estate.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// Origin says which source has an object.
type Origin struct {
	Source string
	Left   *time.Time // since when the source no longer has it
}

func originOf(r store.SourceRecord) Origin { return Origin{r.Source, r.LeftAt} }

// standIn is the unit that is there while no other is.
const standIn = "company"

// withoutStandIn takes the stand-in away once another unit without a parent is laid.
func (l *Live) withoutStandIn(next *estate.Snapshot, laid []estate.Edit) *estate.Snapshot {
	if l.versions.of(objectKey{estate.KindUnit, standIn}) > 0 {
		return next
	}
	if l.imported.has(objectKey{estate.KindUnit, standIn}) {
		return next
	}
	for _, e := range laid {
		if u, ok := e.Object.(estate.Unit); ok && u.Parent == "" && u.ID != standIn {
			return next.With(estate.Edit{Kind: estate.KindUnit, ID: standIn})
		}
	}
	return next
}

// localFields reads the list of fields that are edited here.
func localFields(text string) (list []string) {
	if text != "" {
		json.Unmarshal([]byte(text), &list) // it was written by keepLocal
	}
	return list
}

// compose lays what a source imported over what was edited here.
func compose(imported, body, local string) (string, error) {
	if imported == "" {
		return body, nil
	}
	if body == "" {
		return imported, nil
	}
	out, err := files.Compose([]byte(imported), []byte(body), localFields(local))
	return string(out), err
}

// laidObject gives what an edit makes of an object; what a source imported of it stands but for the
// fields that the edit keeps from it.
func (s *liveEstate) laidObject(ctx context.Context, live *Live, e store.Edit) (any, error) {
	key := objectKey{estate.Kind(e.Kind), e.ObjectID}
	body := e.Body
	if live.imported.has(key) {
		record, err := s.store.In(ctx).RecordOf(e.Kind, e.ObjectID)
		if err != nil {
			return nil, err
		}
		if body, err = compose(record.Brought, body, e.Local); err != nil {
			return nil, err
		}
	}
	object, _, err := files.DecodeJSON(key.kind, []byte(body))
	return live.asTold(object), err
}

// keepLocal notes in an edit of a imported object which fields are not as its source has them.
// Retiring one is refused: it goes when its source no longer has it.
func (s *liveEstate) keepLocal(ctx context.Context, live *Live, e *store.Edit) error {
	origin, imported := live.imported.at(objectKey{estate.Kind(e.Kind), e.ObjectID})
	if !imported {
		return nil
	}
	if e.Retire {
		return problem.Faults{
			{
				Code:     problem.InUse,
				Path:     problem.Join("", e.Kind, e.ObjectID),
				Found:    "what the source " + problem.Quote(origin.Source) + " has",
				Expected: "that it goes there first; here it is then marked as left, and can be removed on the source's page",
			},
		}
	}
	record, err := s.store.In(ctx).RecordOf(e.Kind, e.ObjectID)
	if err != nil {
		return err
	}
	local, err := files.LocalFields([]byte(record.Brought), []byte(e.Body))
	if err != nil {
		return err
	}
	text, err := json.Marshal(local)
	e.Local = string(text)
	return err
}

// Preview is what becomes of the live estate when records of sources alter.
type Preview struct {
	live     *Live
	after    impact.Side
	imported cowMap[Origin]

	back map[objectKey]any // what objects that are being rolled out are without the rollout

	Report  *impact.Report
	Loose   []estate.Loose               // references that lead nowhere, among what altered
	Refused map[objectKey]problem.Faults // objects that can't be taken as they are; they stay as they were
	Named   problem.Faults               // what keeps things from being removed: who names them
}

// preview lays records, as they will be, over what is live, and takes objects away. Objects that
// would not fit are left as they are.
func (s *SourceService) preview(ctx context.Context, live *Live, records []store.SourceRecord, gone []objectKey) (*Preview, error) {
	bodies := map[objectKey]store.Object{}
	if len(records) > 500 {
		for o, err := range s.store.In(ctx).Objects() {
			if err != nil {
				return nil, err
			}
			bodies[objectKey{estate.Kind(o.Kind), o.ID}] = o
		}
	}
	out := &Preview{live: live, imported: live.imported.copied(), back: map[objectKey]any{}, Refused: map[objectKey]problem.Faults{}}
	edits := make([]estate.Edit, 0, len(records)+len(gone))
	for _, key := range gone {
		out.imported.drop(key)
		edits = append(edits, estate.Edit{Kind: key.kind, ID: key.id})
	}
	for i := range records {
		r := &records[i]
		if r.ObjectID == "" || r.Brought == "" {
			continue
		}
		key := objectKey{estate.Kind(r.Kind), r.ObjectID}
		body := r.Brought
		if e, found := live.rollingEdit(key); found {
			var err error
			if body, err = out.withoutRollout(ctx, s.liveEstate, r, e); err != nil {
				return nil, err
			}
		} else if live.versions.of(key) > 0 {
			o, known := bodies[key]
			if !known {
				var err error
				if o, err = s.store.In(ctx).Object(r.Kind, r.ObjectID); err != nil {
					return nil, err
				}
			}
			var err error
			if body, err = compose(r.Brought, o.Body, o.Local); err != nil {
				return nil, err
			}
		}
		object, _, err := files.DecodeJSON(key.kind, []byte(body))
		if err != nil {
			out.refuse(key, err)
			continue
		}
		out.imported.put(key, originOf(*r))
		edits = append(edits, estate.Edit{Kind: key.kind, ID: key.id, Object: live.asTold(object)})
	}
	next, err := out.lay(ctx, live, edits)
	if err != nil || len(out.Named) > 0 {
		return out, err
	}
	if len(edits) == 0 {
		out.after = live.Side
	} else {
		out.after = live.Side.With(next)
	}
	out.Report = impact.Compare(live.Side, out.after)
	return out, nil
}

// withoutRollout gives an object that is being rolled out as its source has it now, with what the rollout
// keeps from the source, and notes what it is without the rollout.
func (o *Preview) withoutRollout(ctx context.Context, s *liveEstate, r *store.SourceRecord, e store.Edit) (body string, err error) {
	was, err := s.store.In(ctx).Object(r.Kind, r.ObjectID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	before, err := compose(r.Brought, was.Body, was.Local)
	if err != nil {
		return "", err
	}
	key := objectKey{estate.Kind(r.Kind), r.ObjectID}
	object, _, err := files.DecodeJSON(key.kind, []byte(before))
	if err != nil {
		return "", err
	}
	o.back[key] = o.live.asTold(object)
	return compose(r.Brought, e.Body, e.Local)
}

// rollingNow gives the rollouts under way once the preview is live.
func (o *Preview) rollingNow() []rolling {
	if len(o.back) == 0 {
		return o.live.rolling
	}
	out := slices.Clone(o.live.rolling)
	for i := range out {
		out[i].back = slices.Clone(out[i].back)
		for j := range out[i].back {
			b := &out[i].back[j]
			if object, altered := o.back[objectKey{b.Kind, b.ID}]; altered {
				b.Object = object
			}
		}
	}
	return out
}

func (o *Preview) refuse(key objectKey, err error) {
	faults, ok := err.(problem.Faults)
	if !ok {
		faults = problem.Faults{
			{Code: problem.Syntax, Path: problem.Join("", string(key.kind), key.id), Found: err.Error(), Expected: "an object of the estate"},
		}
	}
	o.Refused[key] = append(o.Refused[key], faults...)
	o.imported.drop(key)
	if was, known := o.live.imported.at(key); known {
		o.imported.put(key, was)
	}
}

// lay lays the edits, without those that do not fit: a few rounds, since one that is left out may
// be what another needs.
func (o *Preview) lay(ctx context.Context, live *Live, edits []estate.Edit) (*estate.Snapshot, error) {
	const rounds = 5
	for range rounds {
		laid := map[objectKey]bool{}
		for _, e := range edits {
			laid[objectKey{e.Kind, e.ID}] = e.Object != nil
		}
		severed, loose := live.severed(edits, laid)
		faults := live.newFaults(severed, edits)
		if len(faults) == 0 {
			o.Loose = slices.DeleteFunc(loose, func(l estate.Loose) bool { return !laid[objectKey{l.Kind, l.ID}] }) // others were loose before
			return severed, nil
		}
		before := len(o.Refused)
		for _, f := range faults {
			keys := problem.Split(f.Path)
			if len(keys) >= 2 && laid[objectKey{estate.Kind(keys[0]), keys[1]}] {
				o.refuse(objectKey{estate.Kind(keys[0]), keys[1]}, problem.Faults{f})
			} else {
				o.Named = append(o.Named, f)
			}
		}
		if len(o.Refused) == before {
			return nil, nil // what is removed is named, or the estate would not hold together
		}
		o.Named = nil
		edits = slices.DeleteFunc(edits, func(e estate.Edit) bool { return o.Refused[objectKey{e.Kind, e.ID}] != nil })
	}
	return nil, fmt.Errorf("what the source has does not become an estate: %v", o.Refused)
}

// severed lays edits over what is live, without references that lead nowhere. Where nothing is
// taken away only the edits themselves can have some.
func (l *Live) severed(edits []estate.Edit, laid map[objectKey]bool) (*estate.Snapshot, []estate.Loose) {
	if slices.ContainsFunc(edits, func(e estate.Edit) bool { return e.Object == nil }) {
		next := l.withoutStandIn(l.Plan.Snapshot().With(edits...), edits)
		return next.Sever(nil, func(kind estate.Kind, id string) bool { return laid[objectKey{kind, id}] })
	}
	var loose []estate.Loose
	there := l.there(edits)
	whole := make([]estate.Edit, len(edits))
	for i, e := range edits {
		var found []estate.Loose
		whole[i], found = estate.SeverEdit(e, there)
		loose = append(loose, found...)
	}
	return l.withoutStandIn(l.Plan.Snapshot().With(whole...), whole), loose
}

// adopt makes an preview live in one transaction, with what else is to be written with it.
func (s *liveEstate) adopt(ctx context.Context,
	by Actor,
	title string,
	o *Preview,
	gone []objectKey,
	edits int,
	write func(tx *store.Store, next *Live) error,
) (int64, error) {
	var next *Live
	now := s.now()
	published := store.Publication{Title: title, By: by.Name, At: now, Edits: edits}
	events := conflictEvents(o.live.Side, o.after, o.Report, published)
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		revision, err := addPublication(tx, published, events)
		if err != nil {
			return err
		}
		next = o.live.after(revision, &draft{after: o.after})
		next.imported, next.rolling = o.imported, o.rollingNow()
		var versions []store.ObjectVersion
		for _, key := range gone {
			if v := o.live.versions.of(key); v > 0 {
				was, err := tx.Object(string(key.kind), key.id)
				if err != nil {
					return err
				}
				versions = append(
					versions,
					store.ObjectVersion{
						Kind:     was.Kind,
						ID:       was.ID,
						Version:  v + 1,
						Retired:  true,
						Body:     was.Body,
						Revision: revision,
						By:       by.Name,
						At:       now,
					},
				)
				next.versions.drop(key)
				next.retired.put(key, v+1)
			}
		}
		if err := tx.PutVersions(versions); err != nil {
			return err
		}
		return write(tx, next)
	})
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	s.goLive(next, o.Report)
	clear(s.drafts)
	clear(s.laid)
	s.mu.Unlock()
	s.alignRollouts()
	s.Notify(Event{Topic: "estate", ID: fmt.Sprint(next.Revision)})
	return next.Revision, nil
}
