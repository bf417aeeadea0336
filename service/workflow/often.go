// This file records what strangers can do as often as they like, such as wrong passwords, without
// letting them fill the audit log.

package workflow

import (
	"context"
	"fmt"
	"sync"
	"time"

	"zenithridge.example/zridge/service/store"
)

const (
	foldFor   = time.Minute // the first is recorded at once; those that follow within this time are recorded as one
	foldsKept = 1000        // addresses that are told apart at once
)

// folds counts what happens often.
type folds struct {
	mu sync.Mutex
	by map[foldKey]*fold
}

type foldKey struct{ action, address, by string }

// fold is what happened since it was recorded last.
type fold struct {
	actor       Actor
	first, last time.Time
	count       int
}

// RecordOften appends to the audit log what somebody who may be a stranger did from an address. A
// flood of it becomes a few records with a count: FlushOften writes them.
func (s *Service) RecordOften(ctx context.Context, by Actor, action, address string) {
	now := s.now()
	key := foldKey{action, address, by.Name}
	s.folds.mu.Lock()
	if s.folds.by == nil {
		s.folds.by = map[foldKey]*fold{}
	}
	f := s.folds.by[key]
	if f == nil && len(s.folds.by) >= foldsKept {
		key.address = "other addresses"
		f = s.folds.by[key]
	}
	isFirst := f == nil
	if isFirst {
		s.folds.by[key] = &fold{actor: by, first: now, last: now}
	} else {
		if f.count == 0 {
			f.first = now
		}
		f.count, f.last = f.count+1, now
	}
	s.folds.mu.Unlock()
	if isFirst {
		s.recordOften(ctx, by, action, "from "+key.address)
	}
}

// FlushOften writes what happened often and was not written yet. It is to be called every second or
// so, and with all at the end.
func (s *Service) FlushOften(ctx context.Context, all bool) {
	now := s.now()
	type due struct {
		foldKey
		fold
	}
	var list []due
	s.folds.mu.Lock()
	for key, f := range s.folds.by {
		if !all && now.Sub(f.first) < foldFor {
			continue
		}
		if f.count > 0 {
			list = append(list, due{key, *f})
		}
		delete(s.folds.by, key)
	}
	s.folds.mu.Unlock()
	for _, d := range list {
		text := fmt.Sprintf("%d more from %s between %s and %s", d.count, d.address, d.first.Format(time.RFC3339), d.last.Format(time.RFC3339))
		s.recordOften(ctx, Actor{Name: d.actor.Name, Via: d.actor.Via}, d.action, text)
	}
}

func (s *Service) recordOften(ctx context.Context, by Actor, action, text string) {
	if err := s.audit(s.store.In(ctx), by, store.AuditRecord{Action: action, After: text}); err != nil {
		s.log.Error("writing to the audit log", "action", action, "error", err)
	}
}
