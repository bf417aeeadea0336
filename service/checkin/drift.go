// This file takes what was altered on a laptop: what it says itself, and what shows when its values are read.

package checkin

import (
	"context"
	"slices"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/store"
)

// Limits of what a laptop may say was altered on it, in one session.
const (
	maxDrifts      = 50
	maxDriftAuthor = 200                 // bytes
	oldestDrift    = 60 * 24 * time.Hour // what is said to have happened earlier is taken for as old as this
)

// noteDrifts notes what a laptop says was altered on it. It gives false where that cannot be understood.
func (s *session) noteDrifts(c *syncml.Command) bool {
	now := s.server.clock()
	for _, item := range c.Items {
		if item.Meta.Type != syncml.DriftType {
			continue // other alerts mean nothing to us
		}
		said, err := syncml.ReadDrifts(item.Data)
		if err != nil || len(said) > maxDrifts || len(s.drifts)+len(said) > maxDrifts {
			s.server.log.Warn("what a laptop says was altered can't be understood", "device", s.device, "error", err)
			return false
		}
		for _, d := range said {
			if len(d.By) > maxDriftAuthor {
				d.By = d.By[:maxDriftAuthor]
			}
			at := d.At.UTC()
			if at.After(now) { // its clock is wrong
				at = now
			}
			if at.Before(now.Add(-oldestDrift)) {
				at = now.Add(-oldestDrift)
			}
			s.drifts = append(s.drifts, store.Drift{Device: s.device, Setting: string(d.Setting), Found: d.Found, At: at, By: d.By,
				Repaired: d.Repaired, Said: true})
		}
	}
	return true
}

// hearDrifts keeps of what the laptop said what is about settings that are managed on it, and notes what was wanted.
func (s *session) hearDrifts(ctx context.Context) error {
	if len(s.drifts) == 0 {
		return nil
	}
	if err := s.load(ctx); err != nil {
		return err
	}
	s.drifts = slices.DeleteFunc(s.drifts, func(d store.Drift) bool {
		_, managed := s.deliveries[setting.ID(d.Setting)]
		return !managed
	})
	for i := range s.drifts {
		id := setting.ID(s.drifts[i].Setting)
		s.drifts[i].Wanted, s.drifts[i].Policies = s.deliveries[id].Wanted, s.decidedBy(id)
	}
	return nil
}

// noticed takes a value that a laptop reports. One that was altered there is put right or left, as its policies say.
// A laptop that lost everything, its revision included, is made anew: nothing was altered on it.
func (s *session) noticed(d rollout.Delivery, reported setting.Value, now time.Time) rollout.Delivery {
	is := d.Report(reported, now)
	if !d.Altered(reported) || s.revisionNow == "" {
		return is
	}
	only := s.onlyReports(d.Setting)
	if !slices.ContainsFunc(s.drifts, func(x store.Drift) bool { return x.Setting == string(d.Setting) }) {
		s.drifts = append(s.drifts, store.Drift{
			Device: s.device, Setting: string(d.Setting), Found: reported, Wanted: d.Wanted, At: now, Repaired: !only,
			Policies: s.decidedBy(d.Setting),
		})
	}
	if only {
		return is.Drift()
	}
	return is
}

// mendDrifts lets what was only to be reported be put right where its policies say so now.
func (s *session) mendDrifts() {
	for id, d := range s.deliveries {
		if d.Status == rollout.Drifted && !s.onlyReports(id) {
			s.deliveries[id] = d.Mend()
		}
	}
}

// onlyReports tells whether all policies that decided a setting want its drift only reported.
func (s *session) onlyReports(id setting.ID) bool {
	if s.result == nil {
		return false
	}
	from := s.result.DecidedBy(id)
	return len(from) > 0 && !slices.ContainsFunc(from, func(policy string) bool {
		p := s.live.Plan.Policy(estate.PolicyID(policy)) // nil: an exception
		return p == nil || p.OnDrift != estate.Report
	})
}

// decidedBy lists the policies that decided a setting.
func (s *session) decidedBy(id setting.ID) []string {
	if s.result == nil {
		return nil
	}
	return s.result.DecidedBy(id)
}
