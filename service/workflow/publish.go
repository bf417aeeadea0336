// This file publishes changes: whole or not at all, in one transaction of the store. Everything
// that takes time is worked out before the transaction begins, and nothing in it depends on how
// many laptops there are: what a laptop is to get is worked out when it checks in.

package workflow

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// prepared is a publication that is worked out and not written yet.
type prepared struct {
	change store.Change
	edits  []store.Edit
	live   *Live
	draft  *draft
	action string // of the audit record
}

// PublishInput says how a change is published.
type PublishInput struct {
	Expected int64               // version of the change that was looked at; -1: whatever it is
	Plan     string              // id of a rollout plan; empty: the default, where there is one
	Own      *estate.RolloutPlan // a plan for this rollout alone
	AtOnce   bool                // to all laptops at once, without waves
	Urgent   string              // why the approvals that are missing need not be waited for
}

// Publishing is what became of a change that was published.
type Publishing struct {
	store.Publication               // where it went to all laptops at once
	Rollout           store.Rollout // else; not started where it waits
	WaitsFor          []Waiting
}

// Publish makes a change live at once where no plan is chosen, else starts its rollout. It is refused
// when approvals are missing, when another change has published one of its objects since its edit began,
// and when the estate would not be well-formed. Where a rollout under way edits one of its objects, it
// waits.
func (s *ChangeService) Publish(ctx context.Context, by Actor, id string, in PublishInput) (Publishing, error) {
	if err := by.NeedSomewhere(access.Publish); err != nil {
		return Publishing{}, err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	c, edits, err := s.change(ctx, id)
	if err != nil {
		return Publishing{}, err
	}
	if c.State != Open && c.State != InReview {
		return Publishing{}, &StateError{id, c.State, Open}
	}
	if in.Expected >= 0 && in.Expected != c.Version {
		return Publishing{}, &StaleError{What: "change " + id, Version: c.Version, By: "somebody", At: c.UpdatedAt}
	}
	p, err := s.prepare(ctx, c, edits)
	if err != nil {
		return Publishing{}, err
	}
	if err := s.checkScope(by, access.Publish, p.live, p.draft.snapshot, edits...); err != nil {
		return Publishing{}, err
	}
	if err := s.needApprovals(ctx, by, p, in.Urgent); err != nil {
		return Publishing{}, err
	}
	plan, err := chosenPlan(p.live, in)
	if err != nil {
		return Publishing{}, err
	}
	waits, err := s.waitsFor(ctx, p.live, edits)
	if err != nil {
		return Publishing{}, err
	}
	switch {
	case len(waits) > 0 && plan == nil:
		return Publishing{}, &WaitsError{id, waits}
	case len(waits) > 0:
		row, err := s.waitToStart(ctx, by, p, *plan, waits)
		return Publishing{Rollout: row, WaitsFor: waits}, err
	case plan != nil:
		p.action = "rollout: start"
		row, err := s.startRollout(ctx, by, p, *plan)
		return Publishing{Rollout: row}, err
	}
	published, err := s.publish(ctx, by, p, nil)
	return Publishing{Publication: published}, err
}

// publishAtOnce opens a change, puts inputs into it and publishes it, all in one transaction
// together with what more writes.
func (s *ChangeService) publishAtOnce(ctx context.Context,
	by Actor,
	title, why, action string,
	inputs []EditInput,
	more func(tx *store.Store, p store.Publication) error,
) (store.Publication, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := checkTitle(title); err != nil {
		return store.Publication{}, err
	}
	live := s.Live()
	c := s.newChange(by, title, why)
	edits := make([]store.Edit, len(inputs))
	for i, in := range inputs {
		body, err := s.canonical(ctx, in, s.definitionsWith(live, edits[:i]))
		if err != nil {
			return store.Publication{}, err
		}
		edits[i] = store.Edit{
			ChangeID:    c.ID,
			Kind:        string(in.Kind),
			ObjectID:    in.ID,
			Retire:      in.Retire,
			Body:        body,
			BaseVersion: live.Version(in.Kind, in.ID),
			Version:     1,
			By:          by.Name,
			At:          c.CreatedAt,
		}
	}
	p, err := s.prepare(ctx, c, edits)
	if err != nil {
		return store.Publication{}, err
	}
	p.action = action
	if waits, err := s.waitsFor(ctx, live, edits); err != nil {
		return store.Publication{}, err
	} else if len(waits) > 0 {
		return store.Publication{}, &WaitsError{c.ID, waits}
	}
	return s.publish(ctx, by, p, func(tx *store.Store, published store.Publication) error {
		if err := tx.SaveEdits(edits...); err != nil {
			return err
		}
		return more(tx, published)
	})
}

// prepare works out what publishing edits comes to. s.writing must be held until it is published.
func (s *ChangeService) prepare(ctx context.Context, c store.Change, edits []store.Edit) (*prepared, error) {
	if len(edits) == 0 {
		return nil, problem.Faults{{Code: problem.MissingField, Path: "/edits", Found: "a change without edits", Expected: "at least one edit"}}
	}
	live := s.Live()
	if err := s.overtaken(ctx, live, edits); err != nil {
		return nil, err
	}
	d := s.knownDraft(c.ID)
	if d == nil || d.live != live || d.version != c.Version {
		var err error
		if d, err = s.compare(ctx, live, edits, c.ID); err != nil {
			return nil, err
		}
	}
	if len(d.faults) > 0 {
		return nil, d.faults
	}
	return &prepared{c, edits, live, d, "publish"}, nil
}

// publish writes a publication in one transaction, with what more writes, and makes it live.
// s.writing must be held.
func (s *ChangeService) publish(ctx context.Context,
	by Actor,
	p *prepared,
	more func(tx *store.Store, published store.Publication) error,
) (store.Publication, error) {
	c, d := p.change, p.draft
	published := store.Publication{ChangeID: c.ID, Title: c.Title, By: by.Name, At: s.now(), Edits: len(p.edits)}
	events := conflictEvents(p.live.Side, d.after, d.report, published)
	var next *Live
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		var err error
		if published.Revision, err = addPublication(tx, published, events); err != nil {
			return err
		}
		next = p.live.after(published.Revision, d)
		if err := s.publishEdits(tx, by, p.live, next, published, p.edits); err != nil {
			return err
		}
		c.State, c.Revision, c.UpdatedAt = Published, published.Revision, published.At
		if err := tx.SaveChange(c); err != nil {
			return err
		}
		if more != nil {
			if err := more(tx, published); err != nil {
				return err
			}
		}
		return s.audit(
			tx,
			by,
			store.AuditRecord{Action: p.action, ChangeID: c.ID, After: fmt.Sprintf("revision %d, %d edits", published.Revision, len(p.edits))},
		)
	})
	if err != nil {
		return published, err
	}
	s.mu.Lock()
	s.goLive(next, d.report)
	delete(s.drafts, c.ID)
	delete(s.laid, c.ID)
	s.mu.Unlock()
	s.alignRollouts()
	s.log.Info("published", "change", c.ID, "revision", published.Revision, "edits", published.Edits, "by", by.Name)
	s.Notify(Event{Topic: "estate", ID: fmt.Sprint(published.Revision)})
	return published, nil
}

// addPublication writes a publication with the conflicts that begin and end with it, and gives its
// revision.
func addPublication(tx *store.Store, p store.Publication, events []store.ConflictEvent) (revision int64, err error) {
	if revision, err = tx.AddPublication(p); err != nil {
		return 0, err
	}
	for i := range events {
		events[i].Revision = revision
	}
	return revision, tx.AddConflictEvents(events)
}

// overtaken finds edits that began with another version than is live.
func (s *ChangeService) overtaken(ctx context.Context, live *Live, edits []store.Edit) error {
	var found []Overtaken
	for _, e := range edits {
		is := live.Version(estate.Kind(e.Kind), e.ObjectID)
		if is == e.BaseVersion {
			continue
		}
		o := Overtaken{Kind: e.Kind, ID: e.ObjectID, Base: e.BaseVersion, Live: is}
		versions, err := s.store.In(ctx).Versions(e.Kind, e.ObjectID)
		if err != nil {
			return err
		}
		if len(versions) > 0 {
			o.By, o.At, o.Revision = versions[0].By, versions[0].At, versions[0].Revision
			if p, err := s.store.In(ctx).Publications(versions[0].Revision+1, 1); err == nil && len(p) == 1 {
				o.Change = p[0].ChangeID
			}
		}
		found = append(found, o)
	}
	if found != nil {
		return &OvertakenError{found}
	}
	return nil
}

// after is what is live once a draft is published.
func (l *Live) after(revision int64, d *draft) *Live {
	return &Live{
		Revision: revision, Side: d.after, versions: l.versions.copied(), retired: l.retired.copied(), imported: l.imported, told: l.told,
		rolling: l.rolling, generations: &generations{},
	}
}

// publishEdits writes the new version of each object, and the audit record of each.
func (s *ChangeService) publishEdits(tx *store.Store, by Actor, live, next *Live, p store.Publication, edits []store.Edit) error {
	versions := make([]store.ObjectVersion, len(edits))
	records := make([]store.AuditRecord, len(edits))
	for i, e := range edits {
		var err error
		if versions[i], records[i], err = publishEdit(tx, live, next, p, e); err != nil {
			return err
		}
	}
	if err := tx.PutVersions(versions); err != nil {
		return err
	}
	return s.audit(tx, by, records...)
}

// publishEdit gives the version that an edit makes, and notes its number in what will be live.
func publishEdit(tx *store.Store, live, next *Live, p store.Publication, e store.Edit) (store.ObjectVersion, store.AuditRecord, error) {
	key := objectKey{estate.Kind(e.Kind), e.ObjectID}
	v := store.ObjectVersion{
		Kind:     e.Kind,
		ID:       e.ObjectID,
		Version:  live.Version(key.kind, key.id) + 1,
		Retired:  e.Retire,
		Body:     e.Body,
		Revision: p.Revision,
		By:       p.By,
		At:       p.At,
	}
	r := store.AuditRecord{Action: "publish: create", Kind: e.Kind, ObjectID: e.ObjectID, ChangeID: p.ChangeID}
	if live.versions.of(key) > 0 {
		was, err := tx.Object(e.Kind, e.ObjectID)
		if err != nil {
			return v, r, err
		}
		r.Before = was.Body
	}
	switch {
	case e.Retire:
		r.Action = "publish: retire"
		if v.Body = r.Before; key.kind == estate.KindPolicy { // a retired policy stays in the estate, and reaches nobody
			v.Retired = false
			body, err := bodyOf(next, key)
			if err != nil {
				return v, r, err
			}
			v.Body = body
		}
	case r.Before != "":
		r.Action = "publish: alter"
	}
	if live.imported.has(key) && !e.Retire {
		record, err := tx.RecordOf(e.Kind, e.ObjectID)
		if err != nil {
			return v, r, err
		}
		part, err := files.LocalPart([]byte(record.Brought), []byte(e.Body), localFields(e.Local))
		if err != nil {
			return v, r, err
		}
		v.Body, v.Local = string(part), e.Local
	}
	next.versions.drop(key)
	next.retired.drop(key)
	if v.Retired {
		next.retired.put(key, v.Version)
	} else {
		next.versions.put(key, v.Version)
		r.After = v.Body
	}
	return v, r, nil
}

// bodyOf gives a policy of an estate as JSON.
func bodyOf(l *Live, key objectKey) (string, error) {
	for _, pol := range l.Plan.Snapshot().Policies {
		if string(pol.ID) == key.id {
			body, err := files.EncodeJSON(pol)
			return string(body), err
		}
	}
	return "", &NotFoundError{string(key.kind), key.id}
}

// Wanted brings a laptop's deliveries up to date with what was resolved for it: all of them by
// setting, and those that altered.
func Wanted(
	r *resolve.Reasons,
	known map[setting.ID]rollout.Delivery,
	at time.Time,
) (all map[setting.ID]rollout.Delivery, altered []rollout.Delivery) {
	all = make(map[setting.ID]rollout.Delivery, r.Len())
	take := func(id setting.ID, decided *outcome.Setting) {
		was, had := known[id]
		was.Setting = id
		is := was.Want(decided, at)
		if is.Gone() && !had {
			return
		}
		all[id] = is
		if !had || is.Status != was.Status || !is.Wanted.Equal(was.Wanted) || is.Reason != was.Reason {
			altered = append(altered, is)
		}
	}
	for s := range r.Outcomes {
		take(s.ID, &s)
	}
	for id := range known {
		if _, appears := r.Outcome(id); !appears {
			take(id, nil)
		}
	}
	slices.SortFunc(altered, func(a, b rollout.Delivery) int { return cmp.Compare(a.Setting, b.Setting) })
	return all, altered
}

// AddDevice publishes a device that the estate does not have, together with what write writes: a laptop that
// enrols brings itself.
func (s *ChangeService) AddDevice(ctx context.Context, device estate.Device, write func(tx *store.Store) error) error {
	by := Actor{Name: string(device.ID), Via: "device"}
	body, err := files.EncodeJSON(device)
	if err != nil {
		return err
	}
	edit := EditInput{Kind: estate.KindDevice, ID: string(device.ID), Body: body}
	_, err = s.publishAtOnce(ctx, by, "Laptop "+string(device.ID)+" enrolled", "", "enrol", []EditInput{edit},
		func(tx *store.Store, _ store.Publication) error { return write(tx) },
	)
	return err
}
