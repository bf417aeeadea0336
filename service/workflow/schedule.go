// This file does what is due by itself: sources are read, what left long ago is removed, what was
// provisioned is taken in.

package workflow

import (
	"context"
	"errors"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// Writes of provisioning clients are taken in when none came for quiet, and at the latest after
// atLatest.
const (
	quiet    = 250 * time.Millisecond
	atLatest = 2 * time.Second
	lookEach = 20 * time.Second
)

// Run does what is due until the context ends. What was provisioned while the service was not
// running is taken in first.
func (s *SourceService) Run(ctx context.Context) {
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		s.log.Error("listing sources", "error", err)
	}
	for _, row := range rows {
		if row.Kind == string(SCIM) && row.State == SourceOn {
			if _, err := s.takeSCIM(ctx, actorOfSource(row.ID, "schedule"), row.ID); err != nil {
				s.log.Error("taking in what was provisioned", "source", row.ID, "error", err)
			}
		}
	}
	tick := time.NewTicker(lookEach)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.Due(ctx)
		case <-s.sources.wake:
			s.gather(ctx)
			s.settle(ctx)
		}
	}
}

// gather waits until no write came for a moment.
func (s *SourceService) gather(ctx context.Context) {
	end := time.After(atLatest)
	for {
		select {
		case <-ctx.Done():
			return
		case <-end:
			return
		case <-time.After(quiet):
			return
		case <-s.sources.wake:
		}
	}
}

// Due reads the sources that are due, and removes what left long enough ago and history that is
// older than is kept.
func (s *SourceService) Due(ctx context.Context) {
	if err := s.store.In(ctx).TrimSources(s.now().Add(-s.keep)); err != nil {
		s.log.Error("trimming the history of sources", "error", err)
	}
	rows, err := s.store.In(ctx).Sources()
	if err != nil {
		s.log.Error("listing sources", "error", err)
		return
	}
	now := s.now()
	for _, row := range rows {
		u, err := readSetUp(row.Setup)
		if err != nil || u == nil || row.State != SourceOn || row.Proposed != "" {
			continue // a set-up that nobody looked at is not read by
		}
		by := actorOfSource(row.ID, "schedule")
		if way := due(row, u, now.In(s.zone)); way != "" {
			var busy *BusyError
			if r := s.runOf(row.ID); r == nil {
				if _, err := s.StartReading(ctx, by, row.ID, way, false); err != nil && !errors.As(err, &busy) {
					s.log.Error("reading a source", "source", row.ID, "error", err)
				}
			}
		}
		s.removeDue(ctx, by, row.ID, now)
	}
}

// actorOfSource is a source that does something by itself, through a schedule or its own interface.
func actorOfSource(id, via string) Actor {
	return Actor{Name: "source " + id, Via: via, Held: access.Held{Everywhere: access.Of(access.Read, access.Sources)}}
}

// due says in which way a source is to be read now; empty: not yet.
func due(row store.Source, u *SetUp, now time.Time) string {
	if u.LDAP == nil {
		return ""
	}
	hour := time.Date(now.Year(), now.Month(), now.Day(), u.CompareAt, 0, 0, 0, now.Location())
	if hour.After(now) {
		hour = hour.AddDate(0, 0, -1)
	}
	switch {
	case row.ComparedAt == nil || row.ComparedAt.Before(hour):
		return FullRun
	case u.ReadEvery > 0 && (row.ReadAt == nil || now.Sub(*row.ReadAt) >= time.Duration(u.ReadEvery)*time.Minute):
		return RecentRun
	}
	return ""
}

// removeDue removes what has been gone for as long as the set-up says. What is still named stays
// until a person looks.
func (s *SourceService) removeDue(ctx context.Context, by Actor, source string, now time.Time) {
	left, err := s.Left(ctx, by, source)
	if err != nil {
		s.log.Error("listing what left", "source", source, "error", err)
		return
	}
	for _, l := range left {
		if l.Due == nil || l.Due.After(now) {
			continue
		}
		_, err := s.Remove(ctx, by, source, []store.SourceRecord{{Kind: string(l.Kind), ObjectID: l.ID}}, false)
		var named problem.Faults
		if err != nil && !errors.As(err, &named) {
			s.log.Error("removing what left", "source", source, "kind", l.Kind, "id", l.ID, "error", err)
		}
	}
}
