// This file ends a session: what was delivered is recorded, and what altered is told.

package checkin

import (
	"context"
	"errors"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// end writes down what the session brought.
func (s *session) end(ctx context.Context) error {
	outcome := "in order"
	if s.failed > 0 {
		outcome = fmt.Sprintf("%d settings failed", s.failed)
	}
	return s.finish(ctx, outcome)
}

// altered gives the deliveries that are otherwise than before the session, judged by what is wanted
// now, and all of them by setting; no map where nothing had to be looked up.
func (s *session) altered(ctx context.Context, now time.Time) (altered []rollout.Delivery, final map[setting.ID]rollout.Delivery,
	err error) {
	live := s.server.flow.Live()
	if s.deliveries == nil {
		if s.server.flow.SameSince(s.live.Turn, estate.DeviceID(s.device)) {
			s.deliveredAt = live.Turn
			return nil, nil, nil
		}
		if err := s.load(ctx); err != nil {
			return nil, nil, err
		}
	}
	result := s.result
	if live != s.live || result == nil {
		if result, err = s.server.flow.PlanFor(live, s.device).Reasons(estate.DeviceID(s.device), ""); err != nil {
			return nil, nil, err
		}
	}
	final, _ = workflow.Wanted(result, s.deliveries, now)
	settled := true
	for id, d := range final {
		settled = settled && d.Status != rollout.Pending && d.Status != rollout.Failed && d.Status != rollout.Drifted
		was, had := s.before[id]
		if !had || was.Status != d.Status || was.Reason != d.Reason || !was.Wanted.Equal(d.Wanted) || !was.Reported.Equal(d.Reported) ||
			!was.ReportedAt.Equal(d.ReportedAt) {
			altered = append(altered, d)
		}
	}
	for id, d := range s.before {
		if _, still := final[id]; !still {
			altered = append(altered, rollout.Delivery{Setting: d.Setting, ReportedAt: now})
		}
	}
	if settled {
		s.settledAs = live.Turn
	}
	s.deliveredAt = live.Turn
	return altered, final, nil
}

// settle notes what nothing is due of, once all is written down.
func (d *Server) settle(s *session) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.flow.Delivered(s.device, s.deliveredAt)
	if s.settledAs != 0 {
		d.settled[s.device] = s.settledAs
	} else if s.deliveries != nil {
		delete(d.settled, s.device)
	}
}

// finish ends the session and saves what altered, judged by what is wanted now: a change may have
// been published meanwhile.
func (s *session) finish(ctx context.Context, outcome string) error {
	s.over = true
	now := s.server.clock()
	s.server.see(s.device, now)
	altered, final, err := s.altered(ctx, now)
	var left *resolve.UnknownError
	if errors.As(err, &left) {
		return nil // it left the estate: nothing is wanted of it, and nothing is kept
	}
	if err != nil {
		return fmt.Errorf("ending the session of %s: %w", s.device, err)
	}
	quiet := s.sent == 0 && len(altered) == 0 && s.begun == s.laptop && s.facts == nil && len(s.drifts) == 0
	if quiet && outcome == "in order" {
		s.server.settle(s)
		if s.measured {
			if err := s.server.flow.Measure(ctx, s.device); err != nil {
				return err
			}
		}
		return s.server.flow.Heard(ctx, s.device) // nothing worth a record: the time is noted with others
	}
	stored, err := s.server.store.In(ctx).Laptop(s.device)
	if err != nil {
		return err
	}
	stored.Revision, stored.Digest, stored.Offers, stored.LastSeen = s.laptop.Revision, s.laptop.Digest, s.laptop.Offers, &now
	stored.FactsAt = s.laptop.FactsAt
	came := workflow.CheckedIn{Device: s.device, Before: s.before, After: final}
	err = s.server.flow.Reported(ctx, came, func(tx *store.Store) error {
		return errors.Join(
			tx.SaveLaptop(stored),
			tx.SaveDeliveries(s.device, altered),
			tx.AddDrifts(s.drifts),
			tx.AddCheckIn(
				store.CheckIn{
					Device:   s.device,
					At:       now,
					Outcome:  outcome,
					Sent:     s.sent,
					Applied:  s.applied,
					Failed:   s.failed,
					Messages: s.messages,
					Revision: s.laptop.Revision,
				},
			),
		)
	})
	if err == nil {
		s.server.settle(s)
		err = s.server.flow.Measure(ctx, s.device)
	}
	s.server.flow.Notify(workflow.Event{Topic: "device", ID: s.device})
	return err
}
