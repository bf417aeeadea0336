// This file has the use cases of detaching: a unit or group that does not inherit some kinds of
// policy or some areas.

package workflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// DetachLook is what detaching would cost, and the edits that would do it.
type DetachLook struct {
	review.Detaching
	Policy *estate.Policy // with today's values, where it is asked for
	Side   impact.Side
	edits  []EditInput
}

// Detach says what a unit or group would lose that detaches kinds of policy or areas of the
// dictionary; with none it inherits everything again. With keep today's values become a policy of
// the change. With look nothing is stored.
func (s *AudienceService) Detach(
	ctx context.Context,
	by Actor,
	change string,
	place estate.Target,
	detach []estate.Detachment,
	keep, look bool,
) (*DetachLook, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return nil, err
	}
	v, err := s.changes.ViewOf(ctx, by, change)
	if err != nil {
		return nil, err
	}
	in, err := detached(v.Plan.Snapshot(), place, detach)
	if err != nil {
		return nil, err
	}
	object, _, err := files.DecodeJSON(in.Kind, in.Body)
	if err != nil {
		return nil, err
	}
	after := v.Plan.Snapshot().With(estate.Edit{Kind: in.Kind, ID: in.ID, Object: object})
	if faults := v.Live.newFaults(after, []estate.Edit{{Kind: in.Kind, ID: in.ID, Object: object}}); len(faults) > 0 {
		return nil, faults
	}
	side := v.Side.With(after)
	out := &DetachLook{Detaching: review.Detach(v.Side, side, place), Side: v.Side, edits: []EditInput{in}}
	if keep && len(out.Today) > 0 {
		p := estate.Policy{
			ID:       freshPolicy(v, place.ID+"-own-values"),
			Title:    "Own values of " + place.ID,
			State:    estate.Active,
			Why:      "Values of the day on which " + place.String() + " stopped inheriting them",
			Audience: estate.Audience{Include: []estate.Target{place}},
		}
		for _, t := range out.Today {
			p.Entries = append(p.Entries, estate.Entry{Setting: t.Setting, Value: t.Value})
		}
		p.Kind = kindOf(v, p.Entries)
		out.Policy = &p
		in, err := inputOf(estate.KindPolicy, p)
		if err != nil {
			return nil, err
		}
		out.edits = append(out.edits, in)
	}
	if look {
		return out, nil
	}
	_, err = s.putAll(ctx, by, change, "detach", func(*estate.Snapshot) ([]EditInput, error) { return out.edits, nil })
	return out, err
}

func freshPolicy(v View, wanted string) estate.PolicyID {
	id := wanted
	for n := 2; ; n++ {
		if _, err := v.Policy(estate.PolicyID(id)); err != nil {
			return estate.PolicyID(id)
		}
		id = fmt.Sprintf("%s-%d", wanted, n)
	}
}

// detached gives the edit that lets a place detach something.
func detached(s *estate.Snapshot, place estate.Target, detach []estate.Detachment) (EditInput, error) {
	switch place.Kind {
	case estate.ToUnit:
		for _, u := range s.Units {
			if string(u.ID) == place.ID {
				u.Detach = detach
				return inputOf(estate.KindUnit, u)
			}
		}
	case estate.ToGroup:
		for _, g := range s.Groups {
			if string(g.ID) == place.ID {
				g.Detach = detach
				return inputOf(estate.KindGroup, g)
			}
		}
	default:
		return EditInput{}, problem.Faults{
			{Code: problem.BadTarget, Path: "/place", Found: problem.Quote(place.String()), Expected: "unit:ID or group:ID"},
		}
	}
	return EditInput{}, &NotFoundError{"unit or group", place.String()}
}

// DetachedPlace is a unit or group that detaches something.
type DetachedPlace struct {
	Place   estate.Target
	Title   string
	Detach  []estate.Detachment
	Due     []estate.Detachment  // those of Detach whose day of review has come
	Since   *store.ObjectVersion // the version that detached it; nil where that is not known
	Missed  []review.Missed
	Devices int
}

// Detached lists the places that detach something, and what each of them missed since.
func (s *AudienceService) Detached(ctx context.Context, by Actor) ([]DetachedPlace, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.detached(ctx, s.seenLive(by))
}

// detached lists what is detached where.
func (s *liveEstate) detached(ctx context.Context, live *Live) ([]DetachedPlace, error) {
	var out []DetachedPlace
	snapshot := live.Plan.Snapshot()
	for _, u := range snapshot.Units {
		if len(u.Detach) > 0 {
			out = append(out, DetachedPlace{Place: estate.Target{Kind: estate.ToUnit, ID: string(u.ID)}, Title: u.Title, Detach: u.Detach})
		}
	}
	for _, g := range snapshot.Groups {
		if len(g.Detach) > 0 {
			out = append(out, DetachedPlace{Place: estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}, Title: g.Title, Detach: g.Detach})
		}
	}
	for i := range out {
		for _, d := range out[i].Detach {
			if d.ReviewOn != "" && d.ReviewOn <= snapshot.Day {
				out[i].Due = append(out[i].Due, d)
			}
		}
		if err := s.missed(ctx, live, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *liveEstate) missed(ctx context.Context, live *Live, p *DetachedPlace) error {
	kind := estate.KindUnit
	if p.Place.Kind == estate.ToGroup {
		kind = estate.KindGroup
	}
	versions, err := s.store.In(ctx).Versions(string(kind), p.Place.ID)
	if err != nil {
		return err
	}
	for i := range versions { // the newest first: the last one in an unbroken row that is detached
		var doc struct{ Detach []files.DetachDoc }
		if json.Unmarshal([]byte(versions[i].Body), &doc) != nil || len(doc.Detach) == 0 || versions[i].Retired {
			break
		}
		p.Since = &versions[i]
	}
	p.Devices = live.Plan.Matching(p.Place).Len()
	since := int64(0)
	if p.Since != nil {
		since = p.Since.Revision
	}
	var failed error
	p.Missed = review.MissedSince(live.Plan, p.Place, func(id estate.PolicyID) *estate.Policy {
		list, err := s.store.In(ctx).Versions(string(estate.KindPolicy), string(id))
		failed = errors.Join(failed, err)
		for _, v := range list {
			if v.Revision <= since {
				object, _, err := files.DecodeJSON(estate.KindPolicy, []byte(v.Body))
				if err != nil {
					return nil
				}
				policy := object.(estate.Policy)
				return &policy
			}
		}
		return nil
	})
	kinds := map[estate.PolicyID]setting.PolicyKind{}
	for _, policy := range live.Plan.Snapshot().Policies {
		kinds[policy.ID] = policy.Kind
	}
	p.Missed = slices.DeleteFunc(p.Missed, func(m review.Missed) bool { // what a place around it misses is said there
		area := ""
		if d := live.Plan.Definition(m.Setting); d != nil {
			area = d.Area
		}
		return !slices.ContainsFunc(p.Detach, func(d estate.Detachment) bool { return d.Covers(kinds[m.Policy], area) })
	})
	return failed
}
