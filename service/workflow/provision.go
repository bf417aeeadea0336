// This file makes people and groups of the estate from what provisioning clients wrote.

package workflow

import (
	"context"
	"errors"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/scim"
	"zenithridge.example/zridge/service/store"
)

// pend notes that a resource of a source was written, so that the estate follows.
func (s *SourceService) pend(key objectKey, source string) {
	s.sources.mu.Lock()
	if s.sources.pending == nil {
		s.sources.pending = map[string]map[objectKey]bool{}
	}
	if s.sources.pending[source] == nil {
		s.sources.pending[source] = map[objectKey]bool{}
	}
	s.sources.pending[source][key] = true
	s.sources.mu.Unlock()
	select {
	case s.sources.wake <- struct{}{}:
	default:
	}
}

// settle takes what is pending, of every source that is on, into the estate. Several writes are
// taken together.
func (s *SourceService) settle(ctx context.Context) {
	s.sources.mu.Lock()
	pending := s.sources.pending
	s.sources.pending = nil
	s.sources.mu.Unlock()
	for source, keys := range pending {
		row, err := s.store.In(ctx).Source(source)
		if err != nil || row.State != SourceOn {
			continue
		}
		list := make([]objectKey, 0, len(keys))
		for key := range keys {
			list = append(list, key)
		}
		if err := s.follow(ctx, row, list); err != nil {
			s.log.Error("taking in what was provisioned", "source", source, "error", err)
		}
	}
}

// follow takes some resources of a source into the estate.
func (s *SourceService) follow(ctx context.Context, row store.Source, keys []objectKey) error {
	u, err := readSetUp(row.Setup)
	if err != nil || u == nil || u.SCIM == nil {
		return err
	}
	reading := &directory.Reading{Kinds: u.Kinds()}
	for _, key := range keys {
		r, err := s.store.In(ctx).SourceRecord(row.ID, string(key.kind), key.id)
		if err != nil {
			return err
		}
		if err := addProvisioned(u.SCIM, reading, r); err != nil {
			return err
		}
	}
	by := actorOfSource(row.ID, "scim")
	r := &Run{Source: row.ID, Way: provisioningRun, By: by.Name, Started: s.now(), setUp: *u}
	s.writing.Lock()
	t, err := s.compareReading(ctx, row, r, reading)
	s.writing.Unlock()
	if err != nil {
		return err
	}
	if len(t.touched) == 0 && len(t.records) == 0 {
		return nil
	}
	r.taking = t
	state, err := s.take(ctx, by, row, r)
	if err == nil && state.State == RunFailed {
		err = errors.New(state.Report.Message)
	}
	return err
}

// takeSCIM takes everything that a source's client has written, as it is now.
func (s *SourceService) takeSCIM(ctx context.Context, by Actor, id string) (RunState, error) {
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return RunState{}, err
	}
	u, err := readSetUp(row.Setup)
	if err != nil || u == nil {
		return RunState{}, err
	}
	r, _, err := s.begin(by, row, HeldRun, *u)
	if err != nil {
		return RunState{}, err
	}
	reading, err := s.readStored(ctx, id, u.SCIM)
	return s.conclude(ctx, by, row, r, reading, err, "", false)
}

// readStored reads everything that a client has written to a source.
func (s *SourceService) readStored(ctx context.Context, source string, u *SCIMSetUp) (*directory.Reading, error) {
	rows, err := s.store.In(ctx).SourceRecords(source, "")
	if err != nil {
		return nil, err
	}
	reading := &directory.Reading{Kinds: []estate.Kind{estate.KindPerson, estate.KindGroup}}
	for _, row := range rows {
		if err := addProvisioned(u, reading, row); err != nil {
			return nil, err
		}
	}
	return reading, nil
}

// addProvisioned adds a resource to a reading; one that was taken away, or is not active, has left.
func addProvisioned(u *SCIMSetUp, to *directory.Reading, row store.SourceRecord) error {
	kind := estate.Kind(row.Kind)
	if row.Resource == "" {
		to.Left = append(to.Left, directory.Gone{Kind: kind, Key: row.Key})
		return nil
	}
	p, err := provisioned(row)
	if err != nil {
		return err
	}
	if p.Resource["active"] == false {
		to.Left = append(to.Left, directory.Gone{Kind: kind, Key: row.Key})
		return nil
	}
	if kind == estate.KindGroup {
		to.Records = append(to.Records, groupRecord(p))
	} else {
		to.Records = append(to.Records, personRecord(u, p))
	}
	return nil
}

func groupRecord(p Provisioned) directory.Record {
	name := scim.Groups.Text(p.Resource, "displayName")
	rec := directory.Record{
		Kind:   estate.KindGroup,
		Key:    p.ID,
		Wants:  slugOr(name, p.ID),
		Fields: map[string]any{"of": "people", "title": name},
		Member: []directory.Ref{},
	}
	for _, m := range membersOf(p.Resource) {
		rec.Member = append(rec.Member, directory.Ref{Key: m})
	}
	return rec
}

func slugOr(text, otherwise string) string {
	if id := directory.ValidSlug(text); id != "" {
		return id
	}
	return otherwise
}

func personRecord(u *SCIMSetUp, p Provisioned) directory.Record {
	text := func(path string) string { return scim.Users.Text(p.Resource, path) }
	id := text(u.ID)
	if u.ID == "" || id == "" {
		id = text("userName")
	}
	id, _, _ = strings.Cut(id, "@")
	rec := directory.Record{Kind: estate.KindPerson, Key: p.ID, Wants: slugOr(id, p.ID), Fields: map[string]any{}}
	name := text("displayName")
	if name == "" {
		name = text("name.formatted")
	}
	if name == "" {
		name = strings.TrimSpace(text("name.givenName") + " " + text("name.familyName"))
	}
	if name != "" {
		rec.Fields["name"] = name
	}
	mail := text("emails")
	if mail == "" && strings.Contains(text("userName"), "@") {
		mail = text("userName")
	}
	if mail != "" {
		rec.Fields["mail"], rec.Match = mail, strings.ToLower(mail)
	}
	attributes := map[string]any{}
	for to, from := range u.Attributes {
		if v := text(from); v != "" {
			attributes[to] = v
		}
	}
	if len(attributes) > 0 {
		rec.Fields["attributes"] = attributes
	}
	if u.Unit != "" {
		rec.Unit = directory.Ref{Name: text(u.Unit)}
	}
	return rec
}
