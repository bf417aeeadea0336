// This file has the use cases of sources: set one up, propose another set-up, pause it, take it
// away.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
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

// defaultMostLost is the percent of its laptops that an audience or exclusion may lose without review.
const defaultMostLost = 50

// differShown is how many of the laptops that differ a report names.
const differShown = 200

// sources is what the service holds about sources while it runs.
type sources struct {
	secrets string
	mu      sync.Mutex
	running map[string]*Run               // by source: the one that runs or waits to be taken
	scim    sync.Mutex                    // held while a SCIM resource is written
	pending map[string]map[objectKey]bool // by source: what was written since it was last taken in
	wake    chan struct{}
}

// SourceService has the use cases of sources of people, groups and devices: set-ups, readings, what
// left, provisioning.
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
			problem.Fault{Code: problem.BadID, Path: "/id", Found: problem.Quote(id), Expected: "1 to 128 letters, digits, " +
				"'.', '_' or '-'"},
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
	if err := s.allowed(u); err != nil {
		return Source{}, err
	}
	text, err := json.Marshal(u)
	if err != nil {
		return Source{}, err
	}
	err = s.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.Source(id); err == nil {
			return problem.Faults{
				{Code: problem.DoubledID, Path: "/id", Found: problem.Quote(id), Expected: "an id of its own; there is a " +
					"source of that id"},
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

// Propose proposes another set-up. The one in force stays until a dry run with the new one was
// taken.
func (s *SourceService) Propose(ctx context.Context, by Actor, id, title string, u SetUp, expected int64) (Source, error) {
	if err := by.Need(access.Sources); err != nil {
		return Source{}, err
	}
	return s.alterSource(ctx, by, id, expected, func(_ *store.Store, row *store.Source) (store.AuditRecord, error) {
		if faults := u.Check(SourceKind(row.Kind)); len(faults) > 0 {
			return store.AuditRecord{}, faults
		}
		if err := s.allowed(u); err != nil {
			return store.AuditRecord{}, err
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
