// This file has the use cases of who gets a policy: audiences, groups, units, detaching, comparing laptops.

package workflow

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// AudienceService has the use cases of groups, audiences, detaching, and saved views.
type AudienceService struct {
	*liveEstate
	changes *ChangeService
}

// WideShare is the share of the estate, in percent, above which an audience is called wide.
const WideShare = 25

// Audience says who would get a policy, as it is written, in a view.
func (v View) Audience(policy *estate.Policy) *review.Audience {
	return review.LookAt(v.Side, policy, WideShare)
}

// Policy gives a policy of a view.
func (v View) Policy(id estate.PolicyID) (*estate.Policy, error) {
	if p := v.Plan.Policy(id); p != nil {
		return p, nil
	}
	return nil, &NotFoundError{"policy", string(id)}
}

// Group gives a group of a view.
func (v View) Group(id string) (*estate.Group, error) {
	groups := v.Plan.Snapshot().Groups
	for i := range groups {
		if string(groups[i].ID) == id {
			return &groups[i], nil
		}
	}
	return nil, &NotFoundError{"group", id}
}

// Pasted is what a list of serial numbers or ids names.
type Pasted struct {
	Devices []estate.DeviceID // in the order of the list
	Unknown []string
	Doubled []string
}

// Paste finds devices by serial number or id, without regard to case.
func (v View) Paste(words []string) Pasted {
	at := map[string]estate.DeviceID{}
	devices := v.Plan.Snapshot().Devices
	for i := range devices {
		at[strings.ToLower(string(devices[i].ID))] = devices[i].ID
	}
	for i := range devices { // a serial number says more than an id
		if devices[i].Serial != "" {
			at[strings.ToLower(devices[i].Serial)] = devices[i].ID
		}
	}
	var out Pasted
	seen := map[estate.DeviceID]bool{}
	for _, word := range words {
		word = strings.Trim(strings.TrimSpace(word), `"',;`)
		id, known := at[strings.ToLower(word)]
		switch {
		case word == "":
		case !known:
			out.Unknown = append(out.Unknown, word)
		case seen[id]:
			out.Doubled = append(out.Doubled, word)
		default:
			seen[id] = true
			out.Devices = append(out.Devices, id)
		}
	}
	return out
}

// GroupTrial is who a group would have, compared with now.
type GroupTrial struct {
	*resolve.GroupTrial
	Joins, Leaves []string
	Titles        func(id string) string // of members
}

// TryGroup says who a group would have, as it is written.
func (v View) TryGroup(g *estate.Group) (*GroupTrial, error) {
	for i, id := range g.Groups {
		other, err := v.Group(string(id))
		if err != nil {
			return nil, problem.Faults{
				{
					Code:     problem.UnknownReference,
					Path:     problem.Join("/groups", i),
					Found:    problem.Quote(string(id)),
					Expected: "the id of a group of this estate",
				},
			}
		}
		if other.Of != g.Of {
			return nil, problem.Faults{
				{
					Code:     problem.OtherKind,
					Path:     problem.Join("/groups", i),
					Found:    "a group of " + string(other.Of),
					Expected: "a group of " + string(g.Of),
				},
			}
		}
	}
	t := &GroupTrial{GroupTrial: v.Plan.TryGroup(g)}
	now := v.Live.Plan.GroupMembers(g.ID)
	is := make(map[string]bool, len(t.Members))
	for _, m := range t.Members {
		is[m] = true
	}
	was := make(map[string]bool, len(now))
	for _, m := range now {
		if was[m] = true; !is[m] {
			t.Leaves = append(t.Leaves, m)
		}
	}
	for _, m := range t.Members {
		if !was[m] {
			t.Joins = append(t.Joins, m)
		}
	}
	return t, nil
}

// GroupUse says where a group is used.
type GroupUse struct {
	Includes   []estate.PolicyID
	Excludes   []estate.PolicyID
	Exceptions []estate.ExceptionID
	Groups     []estate.GroupID // that have it as a member
}

// Used tells whether it is used anywhere.
func (u GroupUse) Used() bool {
	return len(u.Includes)+len(u.Excludes)+len(u.Exceptions)+len(u.Groups) > 0
}

// UseOf says where a target is used; of a group, also the groups that have it as a member.
func (v View) UseOf(t estate.Target) GroupUse {
	var u GroupUse
	s := v.Plan.Snapshot()
	for i := range s.Policies {
		p := &s.Policies[i]
		if p.State == estate.Retired {
			continue
		}
		if slices.Contains(p.Audience.Include, t) {
			u.Includes = append(u.Includes, p.ID)
		}
		if slices.Contains(p.Audience.Exclude, t) {
			u.Excludes = append(u.Excludes, p.ID)
		}
	}
	for i := range s.Exceptions {
		if s.Exceptions[i].Target == t {
			u.Exceptions = append(u.Exceptions, s.Exceptions[i].ID)
		}
	}
	for i := range s.Groups {
		if t.Kind == estate.ToGroup && slices.Contains(s.Groups[i].Groups, estate.GroupID(t.ID)) {
			u.Groups = append(u.Groups, s.Groups[i].ID)
		}
	}
	slices.Sort(u.Includes)
	slices.Sort(u.Excludes)
	slices.Sort(u.Exceptions)
	slices.Sort(u.Groups)
	return u
}

// putAll puts many edits into a change at once, if the estate is still well-formed with all of them. An edit that is there already
// for one of the objects is replaced. made gets the estate with the change in it.
func (s *AudienceService) putAll(ctx context.Context, by Actor, change, action string, made func(s *estate.Snapshot) ([]EditInput, error)) (int, error) {
	n := 0
	err := s.changes.alter(ctx, by, change, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		record := store.AuditRecord{Action: action}
		edits, err := tx.Edits(change)
		if err != nil {
			return record, err
		}
		live := s.Live()
		before, err := s.changes.wellFormed(ctx, live, edits, change)
		if err != nil {
			return record, err
		}
		inputs, err := made(before)
		if err != nil {
			return record, err
		}
		at := make(map[objectKey]int, len(edits))
		for i, e := range edits {
			at[objectKey{estate.Kind(e.Kind), e.ObjectID}] = i
		}
		next := make([]store.Edit, 0, len(inputs))
		for _, in := range inputs {
			body, err := s.changes.canonical(ctx, in, s.changes.definitionsWith(live, edits))
			if err != nil {
				return record, err
			}
			e := store.Edit{
				ChangeID:    change,
				Kind:        string(in.Kind),
				ObjectID:    in.ID,
				Retire:      in.Retire,
				Body:        body,
				BaseVersion: live.Version(in.Kind, in.ID),
				Version:     1,
				By:          by.Name,
				At:          s.now(),
			}
			i, there := at[objectKey{in.Kind, in.ID}]
			if there {
				e.BaseVersion, e.Version = edits[i].BaseVersion, edits[i].Version+1
			}
			if err := s.keepLocal(ctx, live, &e); err != nil {
				return record, err
			}
			if there {
				edits[i] = e
			} else {
				edits = append(edits, e)
			}
			next = append(next, e)
		}
		if _, err := s.changes.wellFormed(ctx, live, edits, change); err != nil {
			return record, err
		}
		n = len(next)
		record.After = fmt.Sprintf("%d edits", n)
		return record, tx.SaveEdits(next...)
	})
	return n, err
}

func inputOf(kind estate.Kind, object any) (EditInput, error) {
	body, err := files.EncodeJSON(object)
	return EditInput{Kind: kind, ID: files.ObjectID(object), Body: body}, err
}

// MaxMoved bounds how many laptops are moved with one call.
const MaxMoved = 20_000

// Move puts edits into a change that give laptops another unit of their own; with an empty unit they follow their owners again.
func (s *AudienceService) Move(ctx context.Context, by Actor, change string, devices []string, unit string) (int, error) {
	if err := by.Need(access.Write); err != nil {
		return 0, err
	}
	if len(devices) == 0 || len(devices) > MaxMoved {
		return 0, problem.Faults{
			{Code: problem.OutOfRange, Path: "/devices", Found: fmt.Sprint(len(devices)), Expected: fmt.Sprintf("1 to %d laptops", MaxMoved)},
		}
	}
	return s.putAll(ctx, by, change, "move devices", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		snapshot = snapshot.Indexed(snapshot)
		var inputs []EditInput
		var faults problem.Faults
		for i, id := range devices {
			d := snapshot.Device(estate.DeviceID(id))
			if d == nil {
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.UnknownReference,
						Path:     problem.Join("/devices", i),
						Found:    problem.Quote(id),
						Expected: "the id of a device of this estate",
					},
				)
				continue
			}
			if string(d.Unit) == unit {
				continue
			}
			moved := *d
			moved.Unit = estate.UnitID(unit)
			in, err := inputOf(estate.KindDevice, moved)
			if err != nil {
				return nil, err
			}
			inputs = append(inputs, in)
		}
		if faults != nil {
			return nil, faults
		}
		return inputs, nil
	})
}

// MoveUnit puts an edit into a change that puts a unit, with all below it, below another.
func (s *AudienceService) MoveUnit(ctx context.Context, by Actor, change, unit, parent string) error {
	if err := by.Need(access.Write); err != nil {
		return err
	}
	_, err := s.putAll(ctx, by, change, "move unit", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		at := slices.IndexFunc(snapshot.Units, func(u estate.Unit) bool { return string(u.ID) == unit })
		if at < 0 {
			return nil, &NotFoundError{"unit", unit}
		}
		moved := snapshot.Units[at]
		if moved.Parent == "" {
			return nil, problem.Faults{{Code: problem.ManyRoots, Path: "/unit", Found: "the organisation itself", Expected: "a unit below it"}}
		}
		moved.Parent = estate.UnitID(parent)
		in, err := inputOf(estate.KindUnit, moved)
		return []EditInput{in}, err
	})
	return err
}

// RetireGroup puts edits into a change that take a group away together with all that names it: it goes from audiences and groups,
// and exceptions for it end.
func (s *AudienceService) RetireGroup(ctx context.Context, by Actor, change, id string) (int, error) {
	if err := by.Need(access.Write); err != nil {
		return 0, err
	}
	target := estate.Target{Kind: estate.ToGroup, ID: id}
	return s.putAll(ctx, by, change, "retire group", func(snapshot *estate.Snapshot) ([]EditInput, error) {
		if !slices.ContainsFunc(snapshot.Groups, func(g estate.Group) bool { return string(g.ID) == id }) {
			return nil, &NotFoundError{"group", id}
		}
		var inputs []EditInput
		var failed error
		add := func(kind estate.Kind, object any) {
			in, err := inputOf(kind, object)
			failed = errors.Join(failed, err)
			inputs = append(inputs, in)
		}
		not := func(t estate.Target) bool { return t == target }
		for _, p := range snapshot.Policies {
			if slices.Contains(p.Audience.Include, target) || slices.Contains(p.Audience.Exclude, target) {
				p.Audience.Include = slices.DeleteFunc(slices.Clone(p.Audience.Include), not)
				p.Audience.Exclude = slices.DeleteFunc(slices.Clone(p.Audience.Exclude), not)
				add(estate.KindPolicy, p)
			}
		}
		for _, g := range snapshot.Groups {
			if slices.Contains(g.Groups, estate.GroupID(id)) {
				g.Groups = slices.DeleteFunc(slices.Clone(g.Groups), func(m estate.GroupID) bool { return string(m) == id })
				add(estate.KindGroup, g)
			}
		}
		for _, x := range snapshot.Exceptions {
			if x.Target == target {
				inputs = append(inputs, EditInput{Kind: estate.KindException, ID: string(x.ID), Retire: true})
			}
		}
		return append(inputs, EditInput{Kind: estate.KindGroup, ID: id, Retire: true}), failed
	})
}

// DetachLook is what detaching would cost, and the edits that would do it.
type DetachLook struct {
	review.Detaching
	Policy *estate.Policy // with today's values, where it is asked for
	Side   impact.Side
	edits  []EditInput
}

// Detach says what a unit or group would lose that detaches kinds of policy or areas of the dictionary; with none it inherits everything
// again. With keep today's values become a policy of the change. With look nothing is stored.
func (s *AudienceService) Detach(ctx context.Context, by Actor, change string, place estate.Target, detach []estate.Detachment, keep, look bool) (*DetachLook, error) {
	if err := by.Need(access.Write); err != nil {
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
	return s.detached(ctx)
}

// detached lists what is detached where.
func (s *liveEstate) detached(ctx context.Context) ([]DetachedPlace, error) {
	live := s.Live()
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

// Beside compares two laptops of a view.
func (v View) Beside(a, b string) (review.Pair, error) {
	x, err := v.Plan.Effective(estate.DeviceID(a), "")
	if err != nil {
		return review.Pair{}, err
	}
	y, err := v.Plan.Effective(estate.DeviceID(b), "")
	if err != nil {
		return review.Pair{}, err
	}
	return review.Beside(x, y, v.Plan, v.Plan), nil
}

// SaveView keeps a list as somebody looks at it.
func (s *AudienceService) SaveView(ctx context.Context, by Actor, page, title, query string, shared bool) (store.SavedView, error) {
	if err := by.Need(access.Read); err != nil {
		return store.SavedView{}, err
	}
	if n := len(strings.TrimSpace(title)); n < 1 || n > 100 {
		return store.SavedView{}, problem.Faults{
			{Code: problem.OutOfRange, Path: "/title", Found: fmt.Sprintf("%d characters", n), Expected: "1 to 100 characters"},
		}
	}
	v := store.SavedView{
		ID:        "V-" + strings.ToLower(rand.Text()[:8]),
		Page:      page,
		Title:     strings.TrimSpace(title),
		Query:     query,
		Owner:     by.Name,
		Shared:    shared,
		CreatedAt: s.now(),
	}
	return v, s.store.In(ctx).SaveView(v)
}

// Views lists the views of a page that somebody may see.
func (s *AudienceService) Views(ctx context.Context, by Actor, page string) ([]store.SavedView, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.store.In(ctx).Views(page, by.Name)
}

// DropView takes somebody's own view away.
func (s *AudienceService) DropView(ctx context.Context, by Actor, id string) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	there, err := s.store.In(ctx).DropView(id, by.Name)
	if err == nil && !there {
		err = &NotFoundError{"view of yours", id}
	}
	return err
}
