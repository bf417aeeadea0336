// This file has the use cases of sources: set one up, propose another set-up, pause, take away, tokens, what has left.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// States of a source.
const (
	SourceNew    = "new"    // nothing was taken from it yet
	SourceOn     = "on"     // what it has is taken
	SourcePaused = "paused" // it keeps what it imported, and nothing new is taken
)

type (
	// SetUp says how a source is read, and what becomes of what has left.
	SetUp = directory.SourceSetUp
	// SCIMSetUp says what is taken of what a provisioning client writes.
	SCIMSetUp = directory.SCIM
	// SourceKind says how a source is read.
	SourceKind = directory.SourceKind
)

// Kinds of source.
const (
	SCIM = directory.KindSCIM
	LDAP = directory.KindLDAP
	CSV  = directory.KindCSV
)

const defaultMostLeft = 20

// sources is what the service holds about sources while it runs.
type sources struct {
	secrets string
	mu      sync.Mutex
	running map[string]*Run               // by source: the one that runs or waits to be taken
	scim    sync.Mutex                    // held while a SCIM resource is written
	pending map[string]map[objectKey]bool // by source: what was written since it was last taken in
	wake    chan struct{}
}

// SourceService has the use cases of sources of people, groups and devices: set-ups, readings, what left, provisioning.
type SourceService struct {
	*liveEstate
	sources sources
	keep    time.Duration // how long runs and what they did are kept
}

// Source is a source with its set-ups and counts.
type Source struct {
	store.Source
	SetUp    *SetUp // nil before the first run was taken
	Proposed *SetUp // nil when there is none
	Counts   []store.RecordCount
	Latest   []store.SourceRun
	Running  *Run
}

func readSetUp(text string) (*SetUp, error) {
	if text == "" {
		return nil, nil
	}
	var u SetUp
	return &u, json.Unmarshal([]byte(text), &u)
}

// Sources lists every source.
func (s *SourceService) Sources(ctx context.Context, by Actor) ([]Source, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		return nil, err
	}
	counts, err := s.store.In(ctx).RecordCounts()
	if err != nil {
		return nil, err
	}
	out := make([]Source, len(rows))
	for i, row := range rows {
		if out[i], err = s.sourceOf(ctx, row, counts); err != nil {
			return nil, err
		}
	}
	return out, nil
}

const runsShown = 30

func (s *SourceService) sourceOf(ctx context.Context, row store.Source, counts []store.RecordCount) (Source, error) {
	out := Source{Source: row}
	var err error
	if out.SetUp, err = readSetUp(row.Setup); err != nil {
		return out, err
	}
	if out.Proposed, err = readSetUp(row.Proposed); err != nil {
		return out, err
	}
	for _, c := range counts {
		if c.Source == row.ID {
			out.Counts = append(out.Counts, c)
		}
	}
	out.Running = s.runOf(row.ID)
	out.Latest, err = s.store.In(ctx).Runs(row.ID, runsShown)
	return out, err
}

// Source gives one source.
func (s *SourceService) Source(ctx context.Context, by Actor, id string) (Source, error) {
	if err := by.Need(access.Read); err != nil {
		return Source{}, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return Source{}, notFound(err, "source", id)
	}
	counts, err := s.store.In(ctx).RecordCounts()
	if err != nil {
		return Source{}, err
	}
	return s.sourceOf(ctx, row, counts)
}

// AddSource adds a source. Nothing is taken from it before somebody has looked at a dry run.
func (s *SourceService) AddSource(ctx context.Context, by Actor, id string, kind SourceKind, title string, u SetUp) (Source, error) {
	if err := by.Need(access.Sources); err != nil {
		return Source{}, err
	}
	faults := u.Check(kind)
	if !estate.ValidID(id) {
		faults = append(
			faults,
			problem.Fault{Code: problem.BadID, Path: "/id", Found: problem.Quote(id), Expected: "1 to 128 letters, digits, '.', '_' or '-'"},
		)
	}
	if kind != SCIM && kind != LDAP && kind != CSV {
		faults = append(
			faults,
			problem.Fault{Code: problem.NotOneOf, Path: "/kind", Found: problem.Quote(string(kind)), Expected: "scim, ldap or csv"},
		)
	}
	if n := len(strings.TrimSpace(title)); n < 1 || n > 200 {
		faults = append(
			faults,
			problem.Fault{Code: problem.OutOfRange, Path: "/title", Found: fmt.Sprintf("%d characters", n), Expected: "1 to 200 characters"},
		)
	}
	if len(faults) > 0 {
		return Source{}, faults
	}
	text, err := json.Marshal(u)
	if err != nil {
		return Source{}, err
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.Source(id); err == nil {
			return problem.Faults{
				{Code: problem.DoubledID, Path: "/id", Found: problem.Quote(id), Expected: "an id of its own; there is a source of that id"},
			}
		}
		if err := tx.SaveSource(
			store.Source{
				ID:        id,
				Kind:      string(kind),
				Title:     title,
				State:     SourceNew,
				Version:   1,
				Proposed:  string(text),
				CreatedBy: by.Name,
				CreatedAt: s.now(),
			},
		); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "add source", Kind: "sources", ObjectID: id, After: string(text)})
	})
	if err != nil {
		return Source{}, err
	}
	s.Notify(Event{Topic: "source", ID: id})
	return s.Source(ctx, by, id)
}

// alterSource does something to a source in one transaction.
func (s *SourceService) alterSource(ctx context.Context,
	by Actor,
	id string,
	expected int64,
	do func(tx *store.Store, row *store.Source) (store.AuditRecord, error),
) (Source, error) {
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		row, err := tx.Source(id)
		if err != nil {
			return notFound(err, "source", id)
		}
		if expected >= 0 && expected != row.Version {
			return &StaleError{What: "source " + id, Version: row.Version, By: "somebody", At: s.now()}
		}
		record, err := do(tx, &row)
		if err != nil {
			return err
		}
		row.Version++
		if err := tx.SaveSource(row); err != nil {
			return err
		}
		record.Kind, record.ObjectID = "sources", id
		return s.audit(tx, by, record)
	})
	if err != nil {
		return Source{}, err
	}
	s.Notify(Event{Topic: "source", ID: id})
	return s.Source(ctx, by, id)
}

// Propose proposes another set-up. The one in force stays until a dry run with the new one was taken.
func (s *SourceService) Propose(ctx context.Context, by Actor, id, title string, u SetUp, expected int64) (Source, error) {
	if err := by.Need(access.Sources); err != nil {
		return Source{}, err
	}
	return s.alterSource(ctx, by, id, expected, func(_ *store.Store, row *store.Source) (store.AuditRecord, error) {
		if faults := u.Check(SourceKind(row.Kind)); len(faults) > 0 {
			return store.AuditRecord{}, faults
		}
		if title = strings.TrimSpace(title); title != "" && len(title) <= 200 {
			row.Title = title
		}
		text, err := json.Marshal(u)
		before := row.Proposed
		if row.Proposed = string(text); row.Proposed == row.Setup {
			row.Proposed = ""
		}
		s.forget(id)
		return store.AuditRecord{Action: "propose set-up of source", Before: before, After: row.Proposed}, err
	})
}

// Pause stops taking from a source; what it imported stays. With on true it goes on.
func (s *SourceService) Pause(ctx context.Context, by Actor, id string, on bool) (Source, error) {
	if err := by.Need(access.Sources); err != nil {
		return Source{}, err
	}
	out, err := s.alterSource(ctx, by, id, -1, func(_ *store.Store, row *store.Source) (store.AuditRecord, error) {
		if row.State == SourceNew {
			return store.AuditRecord{}, &StateError{id, row.State, "a source of which a dry run was taken"}
		}
		before := row.State
		if row.State = SourcePaused; on {
			row.State = SourceOn
		}
		return store.AuditRecord{Action: "pause source", Before: before, After: row.State}, nil
	})
	if err == nil && on && out.Kind == string(SCIM) {
		_, err = s.takeSCIM(ctx, by, id)
	}
	return out, err
}

// DropSource takes a source away. What it imported stays in the estate, from now on edited here.
func (s *SourceService) DropSource(ctx context.Context, by Actor, id string) error {
	if err := by.Need(access.Sources); err != nil {
		return err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return notFound(err, "source", id)
	}
	records, err := s.store.In(ctx).SourceRecords(id, "")
	if err != nil {
		return err
	}
	live := s.Live()
	o := &Preview{live: live, after: live.Side, imported: live.imported.copied()}
	for key, origin := range live.imported.all {
		if origin.Source == id {
			o.imported.drop(key)
		}
	}
	_, err = s.adopt(ctx, by, "Source "+row.Title+" taken away", o, nil, len(records), func(tx *store.Store, next *Live) error {
		var versions []store.ObjectVersion
		for _, r := range records {
			if r.ObjectID == "" || r.Brought == "" {
				continue
			}
			key := objectKey{estate.Kind(r.Kind), r.ObjectID}
			ours, err := tx.Object(r.Kind, r.ObjectID)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if ours.Retired {
				ours.Body, ours.Local = "", ""
			}
			body, err := compose(r.Brought, ours.Body, ours.Local)
			if err != nil {
				return err
			}
			versions = append(
				versions,
				store.ObjectVersion{
					Kind:     r.Kind,
					ID:       r.ObjectID,
					Version:  live.Version(key.kind, key.id) + 1,
					Body:     body,
					Revision: next.Revision,
					By:       by.Name,
					At:       s.now(),
				},
			)
			next.versions.put(key, live.Version(key.kind, key.id)+1)
			next.retired.drop(key)
		}
		if err := tx.PutVersions(versions); err != nil {
			return err
		}
		if err := tx.DropSource(id); err != nil {
			return err
		}
		return s.audit(
			tx,
			by,
			store.AuditRecord{
				Action:   "take source away",
				Kind:     "sources",
				ObjectID: id,
				Before:   row.Setup,
				After:    fmt.Sprintf("%d objects are edited here from now on", len(versions)),
			},
		)
	})
	if err != nil {
		return err
	}
	s.forget(id)
	s.Notify(Event{Topic: "source", ID: id})
	return nil
}

// password reads a password that a set-up names from the folder of secrets.
func (s *SourceService) password(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	if s.sources.secrets == "" || !estate.ValidID(name) || strings.HasPrefix(name, ".") {
		return "", problem.Faults{
			{
				Code:     problem.UnknownFile,
				Path:     "/ldap/password",
				Found:    problem.Quote(name),
				Expected: "a file in the folder of secrets; the service is told of it with --secrets",
			},
		}
	}
	data, err := os.ReadFile(filepath.Join(s.sources.secrets, name))
	if err != nil {
		return "", problem.Faults{
			{
				Code:     problem.UnknownFile,
				Path:     "/ldap/password",
				Found:    problem.Quote(name) + ", which can't be read",
				Expected: "a file of that name in the folder of secrets",
			},
		}
	}
	return strings.TrimRight(string(data), "\r\n"), nil
}

// AddSourceToken makes a token with which a provisioning client writes to a source. The secret is given once.
func (s *SourceService) AddSourceToken(ctx context.Context, by Actor, id, name string) (secret string, t store.SourceToken, err error) {
	if err := by.Need(access.Sources); err != nil {
		return "", store.SourceToken{}, err
	}
	row, err := s.store.In(ctx).Source(id)
	if err != nil {
		return "", t, notFound(err, "source", id)
	}
	if row.Kind != string(SCIM) {
		return "", t, &StateError{id, "of the kind " + row.Kind, "a source of the kind scim"}
	}
	if n := len(strings.TrimSpace(name)); n < 1 || n > 100 {
		return "", t, problem.Faults{
			{
				Code:     problem.OutOfRange,
				Path:     "/name",
				Found:    fmt.Sprintf("%d characters", n),
				Expected: "1 to 100 characters that say which client it is for",
			},
		}
	}
	secret = signin.Secret()
	t = store.SourceToken{
		ID:        "ST-" + strings.ToLower(signin.Secret()[:8]),
		Source:    id,
		Hash:      signin.HashOf(secret),
		Name:      name,
		CreatedBy: by.Name,
		CreatedAt: s.now(),
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.AddSourceToken(t); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "make token of source", Kind: "sources", ObjectID: id, After: t.ID + " " + name})
	})
	return secret, t, err
}

// SourceTokens lists the tokens of a source.
func (s *SourceService) SourceTokens(ctx context.Context, by Actor, id string) ([]store.SourceToken, error) {
	if err := by.Need(access.Sources); err != nil {
		return nil, err
	}
	return s.store.In(ctx).SourceTokens(id)
}

// RevokeSourceToken ends a token.
func (s *SourceService) RevokeSourceToken(ctx context.Context, by Actor, id, token string) error {
	if err := by.Need(access.Sources); err != nil {
		return err
	}
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		tokens, err := tx.SourceTokens(id)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(tokens, func(t store.SourceToken) bool { return t.ID == token })
		if at < 0 {
			return &NotFoundError{"token", token}
		}
		if tokens[at].RevokedAt != nil {
			return nil
		}
		now := s.now()
		tokens[at].RevokedAt = &now
		if err := tx.SaveSourceToken(tokens[at]); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "revoke token of source", Kind: "sources", ObjectID: id, After: token})
	})
}

// LeftObject is something that its source no longer has.
type LeftObject struct {
	Source string
	Kind   estate.Kind
	ID     string
	Title  string
	Since  time.Time
	Due    *time.Time // when it is removed by itself; nil: only by a person
}

// Left lists what has left and is still here, the longest ago first; of one source or of all with an empty id.
func (s *SourceService) Left(ctx context.Context, by Actor, source string) ([]LeftObject, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	records, err := s.store.In(ctx).LeftRecords(source)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		return nil, err
	}
	after := map[string]int{}
	for _, row := range rows {
		if u, err := readSetUp(row.Setup); err == nil && u != nil {
			after[row.ID] = u.RemoveAfter
		}
	}
	titles := s.titlesOfObjects()
	out := make([]LeftObject, len(records))
	for i, r := range records {
		out[i] = LeftObject{
			Source: r.Source,
			Kind:   estate.Kind(r.Kind),
			ID:     r.ObjectID,
			Title:  titles(estate.Kind(r.Kind), r.ObjectID),
			Since:  *r.LeftAt,
		}
		if days := after[r.Source]; days > 0 {
			due := r.LeftAt.AddDate(0, 0, days)
			out[i].Due = &due
		}
	}
	return out, nil
}

// titlesOfObjects looks titles of people, units, groups and devices up.
func (s *SourceService) titlesOfObjects() func(estate.Kind, string) string {
	snapshot := s.Live().Plan.Snapshot()
	byKind := map[estate.Kind]map[string]string{}
	return func(kind estate.Kind, id string) string {
		if byKind[kind] == nil {
			m := map[string]string{}
			switch kind {
			case estate.KindPerson:
				for i := range snapshot.People {
					m[string(snapshot.People[i].ID)] = snapshot.People[i].Name
				}
			case estate.KindUnit:
				for i := range snapshot.Units {
					m[string(snapshot.Units[i].ID)] = snapshot.Units[i].Title
				}
			case estate.KindGroup:
				for i := range snapshot.Groups {
					m[string(snapshot.Groups[i].ID)] = snapshot.Groups[i].Title
				}
			case estate.KindDevice:
				for i := range snapshot.Devices {
					m[string(snapshot.Devices[i].ID)] = snapshot.Devices[i].Serial
				}
			}
			byKind[kind] = m
		}
		return byKind[kind][id]
	}
}

// Remove takes away what has left its source; with look true it only says what that would do. Nothing is removed that a policy, an
// exception or another object still names: the faults say which.
func (s *SourceService) Remove(ctx context.Context, by Actor, source string, objects []store.SourceRecord, look bool) (*Preview, error) {
	if err := by.Need(access.Sources); err != nil {
		return nil, err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	records := make([]store.SourceRecord, 0, len(objects))
	gone := make([]objectKey, 0, len(objects))
	for _, o := range objects {
		r, err := s.store.In(ctx).RecordOf(o.Kind, o.ObjectID)
		if err != nil || r.Source != source {
			return nil, &NotFoundError{o.Kind, o.ObjectID}
		}
		if r.LeftAt == nil {
			return nil, problem.Faults{
				{
					Code:     problem.InUse,
					Path:     problem.Join("", o.Kind, o.ObjectID),
					Found:    "what its source still has",
					Expected: "something that has left",
				},
			}
		}
		records = append(records, r)
		gone = append(gone, objectKey{estate.Kind(r.Kind), r.ObjectID})
	}
	o, err := s.preview(ctx, s.Live(), nil, gone)
	if err != nil {
		return o, err
	}
	if len(o.Named) > 0 {
		for i := range o.Named {
			o.Named[i].Code, o.Named[i].Expected = problem.InUse, "nothing that names it: take it out there first"
		}
		return o, o.Named
	}
	if look {
		return o, nil
	}
	_, err = s.adopt(ctx, by, fmt.Sprintf("Removed what left: %d", len(records)), o, gone, len(records), func(tx *store.Store, _ *Live) error {
		events := make([]store.SourceEvent, len(records))
		audits := make([]store.AuditRecord, len(records))
		for i, r := range records {
			if err := tx.DropRecord(r.Source, r.Kind, r.Key); err != nil {
				return err
			}
			events[i] = store.SourceEvent{Kind: r.Kind, ObjectID: r.ObjectID, Source: source, At: s.now(), What: "removed"}
			audits[i] = store.AuditRecord{Action: "remove what left", Kind: r.Kind, ObjectID: r.ObjectID, Before: r.Brought}
		}
		if err := tx.AddEvents(events); err != nil {
			return err
		}
		return s.audit(tx, by, audits...)
	})
	s.Notify(Event{Topic: "source", ID: source})
	return o, err
}
