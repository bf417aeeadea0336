// This file has the use cases of changes: make one, edit in it, see what it does.

package workflow

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/store"
)

// States of a change.
const (
	Open            = "open"
	InReview        = "in-review"   // frozen; approved, or not yet
	RollingOut      = "rolling-out" // its rollout says how far it is, or what it waits for
	Published       = "published"   // part of the live estate
	ChangeTakenBack = "taken-back"
	Discarded       = "discarded"
	removed         = "removed" // is not kept
)

// ChangeStates lists the states of a change.
var ChangeStates = []string{Open, InReview, RollingOut, Published, ChangeTakenBack, Discarded}

// draft is a change laid over the live estate.
type draft struct {
	version  int64 // of the change
	live     *Live
	faults   problem.Faults // with any, the rest is empty
	after    impact.Side
	report   *impact.Report
	snapshot *estate.Snapshot
}

// ChangeService has the use cases of changes: their edits, what they do, publishing, what was
// published.
type ChangeService struct {
	*liveEstate
	files  *FileService
	trying chan struct{} // as many as changes are tried at once
}

// NewChange opens a change.
func (s *ChangeService) NewChange(ctx context.Context, by Actor, title, why string) (store.Change, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return store.Change{}, err
	}
	if err := checkTitle(title); err != nil {
		return store.Change{}, err
	}
	c := s.newChange(by, title, why)
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.SaveChange(c); err != nil {
			return err
		}
		return s.audit(tx, by, store.AuditRecord{Action: "open change", ChangeID: c.ID, After: title})
	})
	s.Notify(Event{Topic: "change", ID: c.ID})
	return c, err
}

// newChange gives a change that is not stored yet.
func (s *ChangeService) newChange(by Actor, title, why string) store.Change {
	now := s.now()
	return store.Change{
		ID:        "C-" + strings.ToLower(rand.Text()[:8]),
		Title:     title,
		Why:       why,
		State:     Open,
		Version:   1,
		CreatedBy: by.Name,
		CreatedAt: now,
		UpdatedAt: now,
	}
}

func checkTitle(title string) error {
	if n := len(strings.TrimSpace(title)); n < 1 || n > 200 {
		return problem.Faults{
			{
				Code:     problem.OutOfRange,
				Path:     "/title",
				Found:    fmt.Sprintf("%d characters", n),
				Expected: "1 to 200 characters that say what the change is for",
			},
		}
	}
	return nil
}

// Change gives a change and its edits, as far as somebody sees what they are of; hidden counts the
// others.
func (s *ChangeService) Change(ctx context.Context, by Actor, id string) (c store.Change, edits []store.Edit, hidden int, err error) {
	if err := by.Need(access.Read); err != nil {
		return store.Change{}, nil, 0, err
	}
	if c, edits, err = s.change(ctx, id); err != nil {
		return c, nil, 0, err
	}
	edits, hidden = s.seenEdits(ctx, by, id, edits)
	return c, edits, hidden, nil
}

func (s *ChangeService) change(ctx context.Context, id string) (store.Change, []store.Edit, error) {
	c, err := s.store.In(ctx).Change(id)
	if err != nil {
		return c, nil, notFound(err, "change", id)
	}
	edits, err := s.store.In(ctx).Edits(id)
	return c, edits, err
}

// Changes lists the changes of a state, all with an empty one.
func (s *ChangeService) Changes(ctx context.Context, by Actor, state string) ([]store.Change, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.store.In(ctx).Changes(state)
}

// open gives a change that can still be edited. One that is in review is open again, and what was
// approved of it is void.
func open(tx *store.Store, id string) (store.Change, error) {
	c, err := tx.Change(id)
	if err != nil {
		return c, notFound(err, "change", id)
	}
	switch c.State {
	case Open:
		return c, nil
	case InReview:
		c.State = Open
		return c, tx.VoidApprovals(id)
	}
	return c, &StateError{id, c.State, Open}
}

// Describe alters a change's title and reason.
func (s *ChangeService) Describe(ctx context.Context, by Actor, id, title, why string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	if err := checkTitle(title); err != nil {
		return err
	}
	return s.alter(ctx, by, id, func(tx *store.Store, c *store.Change) (store.AuditRecord, error) {
		before := c.Title + "\n" + c.Why
		c.Title, c.Why = title, why
		return store.AuditRecord{Action: "describe change", Before: before, After: title + "\n" + why}, nil
	})
}

// Discard ends a change without publishing it. It stays as history, unless nothing was ever put
// into it.
func (s *ChangeService) Discard(ctx context.Context, by Actor, id string) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	return s.alter(ctx, by, id, func(tx *store.Store, c *store.Change) (store.AuditRecord, error) {
		c.State = Discarded
		if c.Version == 1 { // no edit was ever put into it: there is nothing to look back at
			c.State = removed
		}
		return store.AuditRecord{Action: "discard change"}, nil
	})
}

// alter does something to an open change in one transaction and counts its version up.
func (s *ChangeService) alter(
	ctx context.Context,
	by Actor,
	id string,
	do func(*store.Store, *store.Change) (store.AuditRecord, error),
) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	var version int64
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		c, err := open(tx, id)
		if err != nil {
			return err
		}
		if err := s.mayAlter(ctx, tx, by, id); err != nil {
			return err
		}
		record, err := do(tx, &c)
		if err != nil {
			return err
		}
		c.Version++
		version = c.Version
		c.UpdatedAt = s.now()
		if c.State == removed {
			err = tx.RemoveChange(c.ID)
		} else {
			err = tx.SaveChange(c)
		}
		if err != nil {
			return err
		}
		record.ChangeID = id
		return s.audit(tx, by, record)
	})
	if err == nil {
		s.Notify(Event{Topic: "change", ID: id, Version: version})
	}
	return err
}

// draft lays a change over what is live and compares, or gives what was compared already.
func (s *ChangeService) draft(ctx context.Context, id string) (*draft, error) {
	c, edits, err := s.change(ctx, id)
	if err != nil {
		return nil, err
	}
	s.drafting.Lock() // several that ask for it at once wait for the first
	defer s.drafting.Unlock()
	live := s.Live()
	known := s.knownDraft(id)
	if known != nil && known.version >= c.Version && known.live == live {
		return known, nil
	}
	over := s.knownLaid(id)
	if over == nil || over.live != live || over.version != c.Version {
		if over, err = s.lay(ctx, live, edits, over); err != nil {
			return nil, err
		}
	}
	d := s.resolveLaid(over, s.near(id, live))
	d.version = c.Version
	s.mu.Lock()
	if len(s.drafts) >= 4 { // each holds a resolution of the whole estate
		clear(s.drafts)
	}
	s.drafts[id] = d
	s.mu.Unlock()
	return d, nil
}

// knownDraft gives what a change was when it was last looked at, nil where that is not known.
func (s *ChangeService) knownDraft(change string) *draft {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.drafts[change]
}

// near gives the resolution that a change comes to is made of at the least cost: of what the change
// was when it was last looked at, else of what is live.
func (s *ChangeService) near(change string, live *Live) impact.Side {
	if d := s.knownDraft(change); d != nil && d.live == live && len(d.faults) == 0 {
		return d.after
	}
	return live.Side
}

// compare lays edits over what is live, resolves what comes of it, and compares. The edits are
// those of a change or a little more: what is known of the change is not computed again. The
// change's id may be empty.
func (s *ChangeService) compare(ctx context.Context, live *Live, edits []store.Edit, change string) (*draft, error) {
	over, err := s.lay(ctx, live, edits, s.knownLaid(change))
	if err != nil {
		return nil, err
	}
	return s.resolveLaid(over, s.near(change, live)), nil
}

// resolveLaid resolves edits that are laid over what is live, beginning with a resolution that is
// near the outcome, and compares.
func (s *ChangeService) resolveLaid(over *laid, near impact.Side) *draft {
	live := over.live
	d := &draft{live: live, snapshot: over.snapshot, faults: over.faults}
	if len(d.faults) == 0 {
		d.after = near.With(d.snapshot)
		if live.Plan.Spent() {
			s.background(s.renew)
		}
		d.report = impact.Compare(live.Side, d.after)
	}
	return d
}

// Impact says what an open change does to what is live. With faults there is no report.
func (s *ChangeService) Impact(ctx context.Context, by Actor, id string) (*impact.Report, problem.Faults, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, nil, err
	}
	d, err := s.draft(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	d = s.seenBy(by, d)
	return d.report, d.faults, nil
}

// View is an estate to look at: what is live, or a change laid over it.
type View struct {
	impact.Side
	Live *Live
}

// ViewOf gives the live estate for an empty id, else a change's.
func (s *ChangeService) ViewOf(ctx context.Context, by Actor, change string) (View, error) {
	if err := by.Need(access.Read); err != nil {
		return View{}, err
	}
	if change == "" {
		live := s.seenLive(by)
		return View{live.Side, live}, nil
	}
	d, err := s.draft(ctx, change)
	if err != nil {
		return View{}, err
	}
	d = s.seenBy(by, d)
	if len(d.faults) > 0 {
		return View{}, d.faults
	}
	return View{d.after, d.live}, nil
}
