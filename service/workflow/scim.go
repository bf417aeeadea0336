// This file has the use cases of provisioning clients: what they write is kept as they wrote it, at
// once. What it makes of the estate follows a moment later, many writes together (provision.go).

package workflow

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/service/scim"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// Provisioned is a resource that a provisioning client wrote.
type Provisioned struct {
	ID       string
	Version  int64
	Created  time.Time
	Modified time.Time
	Resource scim.Resource
}

var kindOfType = map[*scim.Type]estate.Kind{scim.Users: estate.KindPerson, scim.Groups: estate.KindGroup}

// usedEvery is how often the last use of a token is written down.
const usedEvery = time.Minute

// SourceByToken gives the source that a token writes to. ErrRefused of package signin says that it
// is not a token, or revoked.
func (s *SourceService) SourceByToken(ctx context.Context, secret string) (store.Source, error) {
	t, err := s.store.In(ctx).SourceTokenBy(signin.HashOf(secret))
	if err != nil {
		return store.Source{}, signin.ErrRefused
	}
	if now := s.now(); t.UsedAt == nil || now.Sub(*t.UsedAt) > usedEvery {
		t.UsedAt = &now
		if err := s.store.In(ctx).SaveSourceToken(t); err != nil {
			return store.Source{}, err
		}
	}
	return s.store.In(ctx).Source(t.Source)
}

func provisioned(r store.SourceRecord) (Provisioned, error) {
	p := Provisioned{ID: r.Key, Version: r.Version, Created: r.CreatedAt, Modified: r.AlteredAt}
	return p, json.Unmarshal([]byte(r.Resource), &p.Resource)
}

var errNoResource = &scim.Error{Status: 404, Detail: "there is no such resource"}

// provisionedRecord gives the record of a resource that is there.
func provisionedRecord(tx *store.Store, source string, t *scim.Type, id string) (store.SourceRecord, error) {
	r, err := tx.SourceRecord(source, string(kindOfType[t]), id)
	if errors.Is(err, store.ErrNotFound) || err == nil && r.Resource == "" {
		return r, errNoResource
	}
	return r, err
}

// Provisioned gives one resource.
func (s *SourceService) Provisioned(ctx context.Context, source string, t *scim.Type, id string) (Provisioned, error) {
	r, err := provisionedRecord(s.store, source, t, id)
	if err != nil {
		return Provisioned{}, err
	}
	return provisioned(r)
}

// ProvisionedAll gives the resources that pass a filter, all with nil. A comparison of a name or
// external id is looked up.
func (s *SourceService) ProvisionedAll(ctx context.Context, source string, t *scim.Type, f *scim.Filter) ([]Provisioned, error) {
	var rows []store.SourceRecord
	var err error
	kind := string(kindOfType[t])
	name, text, exact := "", "", false
	if f != nil {
		name, text, exact = f.Equals()
	}
	switch {
	case exact && (t == scim.Users && name == "userName" || t == scim.Groups && name == "displayName"):
		rows, err = s.store.In(ctx).RecordsNamed(source, kind, strings.ToLower(text))
	case exact && name == "externalId":
		rows, err = s.store.In(ctx).RecordsExternal(source, kind, text)
	default:
		rows, err = s.store.In(ctx).SourceRecords(source, kind)
	}
	if err != nil {
		return nil, err
	}
	out := make([]Provisioned, 0, len(rows))
	for _, row := range rows {
		if row.Resource == "" {
			continue
		}
		p, err := provisioned(row)
		if err != nil {
			return nil, err
		}
		if f != nil {
			// What the service itself says of a resource can be asked for as well.
			whole := p.Resource
			whole["id"] = p.ID
			whole["meta"] = t.Meta(p.ID, p.Created, p.Modified, p.Version)
			holds := f.Holds(t, whole)
			delete(whole, "id")
			delete(whole, "meta")
			if !holds {
				continue
			}
		}
		out = append(out, p)
	}
	return out, nil
}

// Provision writes a resource: a new one with an empty id, else what becomes of the one that is
// there. made gets what is there, nil for a new one. expected is the version that the client read,
// -1 where it does not say.
func (s *SourceService) Provision(
	ctx context.Context,
	source string,
	t *scim.Type,
	id string,
	expected int64,
	made func(was scim.Resource) (scim.Resource, error),
) (Provisioned, error) {
	s.sources.scim.Lock()
	defer s.sources.scim.Unlock()
	var out Provisioned
	kind := string(kindOfType[t])
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		now := s.now()
		row := store.SourceRecord{Source: source, Kind: kind, Key: id, CreatedAt: now}
		var was scim.Resource
		if id == "" {
			row.Key = strings.ToLower(rand.Text()[:20])
		} else {
			known, err := provisionedRecord(tx, source, t, id)
			if err != nil {
				return err
			}
			if expected >= 0 && expected != known.Version {
				return &scim.Error{Status: 412, Detail: "the resource was altered since that version"}
			}
			p, err := provisioned(known)
			if err != nil {
				return err
			}
			row, was = known, p.Resource
		}
		is, err := made(was)
		if err != nil {
			return err
		}
		name, _ := is["userName"].(string)
		if t == scim.Groups {
			name, _ = is["displayName"].(string)
		}
		external, _ := is["externalId"].(string)
		if err := unclaimed(tx, source, t, row.Key, name); err != nil {
			return err
		}
		if t == scim.Groups {
			if err := s.membersKnown(tx, source, row.Key, was, is); err != nil {
				return err
			}
		}
		text, err := json.Marshal(is)
		if err != nil {
			return err
		}
		if row.Resource != string(text) { // what alters nothing is no new version
			row.Version++
			row.AlteredAt = now
		}
		row.Resource, row.Name, row.External = string(text), strings.ToLower(name), external
		out = Provisioned{row.Key, row.Version, row.CreatedAt, row.AlteredAt, is}
		return tx.SaveProvisioned(row)
	})
	if err == nil {
		s.pend(objectKey{estate.Kind(kind), out.ID}, source)
	}
	return out, err
}

// unclaimed refuses a user name that another user has.
func unclaimed(tx *store.Store, source string, t *scim.Type, key, name string) error {
	if t != scim.Users {
		return nil
	}
	rows, err := tx.RecordsNamed(source, string(estate.KindPerson), strings.ToLower(name))
	if err != nil {
		return err
	}
	if slices.ContainsFunc(rows, func(r store.SourceRecord) bool { return r.Key != key && r.Resource != "" }) {
		return &scim.Error{Status: 409, Type: scim.Uniqueness, Detail: "another user has this userName"}
	}
	return nil
}

// membersKnown refuses members that are no resources of the source. Those that were there before
// are not looked at again.
func (s *SourceService) membersKnown(tx *store.Store, source, key string, was, is scim.Resource) error {
	before := map[string]bool{}
	for _, m := range membersOf(was) {
		before[m] = true
	}
	for _, m := range membersOf(is) {
		if before[m] {
			continue
		}
		if m == key {
			return &scim.Error{Status: 400, Type: scim.InvalidValue, Detail: "a group can't be its own member"}
		}
		_, err := provisionedRecord(tx, source, scim.Users, m)
		if errors.Is(err, errNoResource) {
			_, err = provisionedRecord(tx, source, scim.Groups, m)
		}
		if errors.Is(err, errNoResource) {
			return &scim.Error{
				Status: 400,
				Type:   scim.InvalidValue,
				Detail: "members: found a value that is the id of no user or group, expected one that was provisioned before",
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func membersOf(r scim.Resource) []string {
	list, _ := r["members"].([]any)
	out := make([]string, 0, len(list))
	for _, v := range list {
		if m, ok := v.(map[string]any); ok {
			if id, _ := m["value"].(string); id != "" {
				out = append(out, id)
			}
		}
	}
	return out
}

// Deprovision takes a resource away for its client, and out of the groups that have it as a member.
// In the estate it is marked as left.
func (s *SourceService) Deprovision(ctx context.Context, source string, t *scim.Type, id string, expected int64) error {
	s.sources.scim.Lock()
	defer s.sources.scim.Unlock()
	touched := []objectKey{{kindOfType[t], id}}
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		row, err := provisionedRecord(tx, source, t, id)
		if err != nil {
			return err
		}
		if expected >= 0 && expected != row.Version {
			return &scim.Error{Status: 412, Detail: "the resource was altered since that version"}
		}
		row.Resource, row.Name, row.External, row.AlteredAt = "", "", "", s.now()
		row.Version++
		if err := tx.SaveProvisioned(row); err != nil {
			return err
		}
		groups, err := tx.RecordsMentioning(source, string(estate.KindGroup), id)
		if err != nil {
			return err
		}
		for _, g := range groups {
			p, err := provisioned(g)
			if err != nil {
				return err
			}
			list, _ := p.Resource["members"].([]any)
			kept := slices.DeleteFunc(list, func(v any) bool { m, ok := v.(map[string]any); return ok && m["value"] == id })
			if p.Resource["members"] = kept; len(kept) == 0 {
				delete(p.Resource, "members")
			}
			text, err := json.Marshal(p.Resource)
			if err != nil {
				return err
			}
			g.Resource, g.AlteredAt = string(text), s.now()
			g.Version++
			if err := tx.SaveProvisioned(g); err != nil {
				return err
			}
			touched = append(touched, objectKey{estate.KindGroup, g.Key})
		}
		return nil
	})
	if err == nil {
		for _, key := range touched {
			s.pend(key, source)
		}
	}
	return err
}

// GroupsOf lists the groups that have each of the given members, by their id: id and name, by id.
func (s *SourceService) GroupsOf(ctx context.Context, source string, ids []string) (map[string][]Membership, error) {
	out := map[string][]Membership{}
	if len(ids) == 0 {
		return out, nil
	}
	var groups []store.SourceRecord
	var err error
	if len(ids) == 1 {
		groups, err = s.store.In(ctx).RecordsMentioning(source, string(estate.KindGroup), ids[0])
	} else {
		groups, err = s.store.In(ctx).SourceRecords(source, string(estate.KindGroup))
	}
	if err != nil {
		return nil, err
	}
	wanted := make(map[string]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	for _, g := range groups {
		if g.Resource == "" {
			continue
		}
		p, err := provisioned(g)
		if err != nil {
			return nil, err
		}
		name, _ := p.Resource["displayName"].(string)
		for _, m := range membersOf(p.Resource) {
			if wanted[m] {
				out[m] = append(out[m], Membership{g.Key, name})
			}
		}
	}
	return out, nil
}

// Membership is a group that a provisioned user is in.
type Membership struct{ Group, Name string }
