// This file has the use cases around one policy: its history, bringing two edits together, its
// summary, splitting it, capturing a laptop, and what is known of a setting where it is written.

package workflow

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strconv"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// PolicyVersion is a published version of a policy, with what it altered.
type PolicyVersion struct {
	store.ObjectVersion
	Policy estate.Policy
	Title  string // of the change that imported it
	Why    string
	Change string
	Before []review.Difference // from the version before; empty for the first
}

// History gives every published version of a policy, the newest first.
func (s *ChangeService) History(ctx context.Context, by Actor, id estate.PolicyID) ([]PolicyVersion, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.Versions(ctx, by, estate.KindPolicy, string(id))
	if err != nil {
		return nil, err
	}
	out := make([]PolicyVersion, len(rows))
	for i, row := range rows {
		out[i] = PolicyVersion{ObjectVersion: row}
		if row.Body == "" { // retired away altogether
			continue
		}
		var err error
		if out[i].Policy, err = policyOf(row); err != nil {
			return nil, err
		}
		publication, err := s.store.In(ctx).Publication(row.Revision)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		out[i].Title, out[i].Change = publication.Title, publication.ChangeID
		if c, err := s.store.In(ctx).Change(publication.ChangeID); err == nil {
			out[i].Why = c.Why
		}
	}
	for i := range len(out) - 1 {
		if out[i].Body != "" && out[i+1].Body != "" {
			out[i].Before = review.Diff(&out[i+1].Policy, &out[i].Policy)
		}
	}
	return out, nil
}

// policyOf reads a published version that has a body.
func policyOf(row store.ObjectVersion) (estate.Policy, error) {
	object, _, err := files.DecodeJSON(estate.KindPolicy, []byte(row.Body))
	if err != nil {
		return estate.Policy{}, err
	}
	return object.(estate.Policy), nil
}

// Differences compares two published versions of a policy.
func (s *ChangeService) Differences(ctx context.Context, by Actor, id estate.PolicyID, from, to int64) ([]review.Difference, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	rows, err := s.Versions(ctx, by, estate.KindPolicy, string(id))
	if err != nil {
		return nil, err
	}
	version := func(n int64) (*estate.Policy, error) {
		at := slices.IndexFunc(rows, func(v store.ObjectVersion) bool { return v.Version == n && v.Body != "" })
		if at < 0 {
			return nil, &NotFoundError{"version of policy " + string(id), strconv.FormatInt(n, 10)}
		}
		p, err := policyOf(rows[at])
		return &p, err
	}
	a, err := version(from)
	if err != nil {
		return nil, err
	}
	b, err := version(to)
	if err != nil {
		return nil, err
	}
	return review.Diff(a, b), nil
}

// Merged is what two edits of one policy give together.
type Merged struct {
	Body      []byte // JSON in the estate format
	Conflicts []review.Conflict
	Version   int64 // of the edit in the change that was merged with
	By        string
}

// MergeEdit brings an edit of a policy that began from base together with the one that a change has
// by now. Nothing is stored.
func (s *ChangeService) MergeEdit(ctx context.Context, by Actor, change string, id estate.PolicyID, base, mine []byte) (*Merged, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return nil, err
	}
	e, err := s.store.In(ctx).Edit(change, string(estate.KindPolicy), string(id))
	if err != nil {
		return nil, notFound(err, "edit", string(id))
	}
	if e.Retire {
		return nil, problem.Faults{
			{
				Code:     problem.OtherKind,
				Found:    e.By + " retires the policy in this change",
				Expected: "an edit of it: take the retirement out of the change first",
			},
		}
	}
	var policies [3]estate.Policy
	for i, body := range [][]byte{base, mine, []byte(e.Body)} {
		object, err := decoded(EditInput{Kind: estate.KindPolicy, ID: string(id), Body: body})
		if err != nil {
			return nil, err
		}
		policies[i] = object.(estate.Policy)
	}
	merged, conflicts := review.Merge(&policies[0], &policies[1], &policies[2])
	body, err := files.EncodeJSON(merged)
	return &Merged{Body: body, Conflicts: conflicts, Version: e.Version, By: e.By}, err
}

// Summary gathers what a change board wants to know of a policy in a view.
func (s *ChangeService) Summary(ctx context.Context, by Actor, v View, id estate.PolicyID) (*review.Summary, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	out, ok := review.Summarise(v.Side, id, s.files.known(ctx, id))
	if !ok {
		return nil, &NotFoundError{"policy", string(id)}
	}
	return out, nil
}

// Split moves settings of a policy into a new policy of the same audience, in a change.
func (s *ChangeService) Split(
	ctx context.Context,
	by Actor,
	change string,
	id, newID estate.PolicyID,
	title string,
	ids []setting.ID,
) error {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return err
	}
	v, err := s.ViewOf(ctx, by, change)
	if err != nil {
		return err
	}
	policies := v.Plan.Snapshot().Policies
	at := slices.IndexFunc(policies, func(p estate.Policy) bool { return p.ID == id })
	if at < 0 {
		return &NotFoundError{"policy", string(id)}
	}
	if slices.ContainsFunc(policies, func(p estate.Policy) bool { return p.ID == newID }) ||
		v.Live.Version(estate.KindPolicy, string(newID)) > 0 {
		return problem.Faults{
			{Code: problem.DoubledID, Path: "/new_id", Found: problem.Quote(string(newID)), Expected: "an id that no policy has"},
		}
	}
	stays, goes := policies[at], policies[at]
	goes.ID, goes.Title = newID, title
	stays.Entries, goes.Entries = nil, nil
	for _, e := range policies[at].Entries {
		if slices.Contains(ids, e.Setting) {
			goes.Entries = append(goes.Entries, e)
		} else {
			stays.Entries = append(stays.Entries, e)
		}
	}
	if len(goes.Entries) != len(ids) || len(stays.Entries) == 0 || len(ids) == 0 {
		return problem.Faults{
			{Code: problem.OutOfRange, Path: "/settings", Found: joinIDs(ids), Expected: "some of the policy's settings, and not " +
				"all of them"},
		}
	}
	if kind := kindOf(v, goes.Entries); kind != "" {
		goes.Kind = kind
	}
	return s.putTogether(ctx, by, change, goes, stays)
}

// kindOf gives the kind that all settings of entries share, empty when they share none.
func kindOf(v View, entries []estate.Entry) (kind setting.PolicyKind) {
	for i, e := range entries {
		d := v.Plan.Definition(e.Setting)
		if d == nil || i > 0 && d.Kind != kind {
			return ""
		}
		kind = d.Kind
	}
	return kind
}

func joinIDs(ids []setting.ID) string {
	text := ""
	for i, id := range ids {
		if i > 0 {
			text += ", "
		}
		text += string(id)
	}
	return problem.Quote(text)
}

// putTogether puts policies into a change in one step: all of them or none.
func (s *ChangeService) putTogether(ctx context.Context, by Actor, change string, policies ...estate.Policy) error {
	return s.alter(ctx, by, change, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		edits, err := tx.Edits(change)
		if err != nil {
			return store.AuditRecord{}, err
		}
		live := s.Live()
		record := store.AuditRecord{Action: "split policy", Kind: string(estate.KindPolicy)}
		var saved []store.Edit
		for _, p := range policies {
			body, err := files.EncodeJSON(p)
			if err != nil {
				return record, err
			}
			next := store.Edit{
				ChangeID:    change,
				Kind:        string(estate.KindPolicy),
				ObjectID:    string(p.ID),
				Body:        string(body),
				BaseVersion: live.Version(estate.KindPolicy, string(p.ID)),
				Version:     1,
				By:          by.Name,
				At:          s.now(),
			}
			at := slices.IndexFunc(edits, func(e store.Edit) bool { return e.Kind == next.Kind && e.ObjectID == next.ObjectID })
			if at >= 0 {
				next.BaseVersion, next.Version = edits[at].BaseVersion, edits[at].Version+1
				edits[at] = next
			} else {
				edits = append(edits, next)
			}
			saved = append(saved, next)
			record.ObjectID, record.After = string(p.ID), record.After+string(body)+"\n"
		}
		after, err := s.wellFormed(ctx, live, edits, change)
		if err != nil {
			return record, err
		}
		if err := s.checkScope(by, access.Write, live, after, saved...); err != nil {
			return record, err
		}
		return record, tx.SaveEdits(saved...)
	})
}

// Captured is a setting that a laptop reports, which a policy could be made of.
type Captured struct {
	Definition *setting.Definition
	Reported   setting.Value
	Wanted     setting.Value // what it should have; nothing when that is left to it
	From       []string      // the policies that it comes from
	Default    bool          // it is what an unmanaged laptop does
}

// Capture lists what a laptop last reported, and what it said when it was asked for everything, by
// area and setting. What the dictionary does not know, or what no longer fits it, is left out.
func (s *ChangeService) Capture(ctx context.Context, by Actor, id estate.DeviceID) ([]Captured, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	live := s.seenLive(by)
	effective, err := live.Plan.Effective(id, "")
	if err != nil {
		return nil, err
	}
	deliveries, err := s.store.In(ctx).Deliveries(string(id))
	if err != nil {
		return nil, err
	}
	reported, err := s.store.In(ctx).Observations(string(id))
	if err != nil {
		return nil, err
	}
	for _, d := range deliveries { // what is managed was reported last
		reported[d.Setting] = d.Reported
	}
	out := []Captured{}
	for id, v := range reported {
		def := live.Plan.Definition(id)
		if def == nil || v.IsNothing() || len(def.Check("", v)) > 0 {
			continue
		}
		c := Captured{Definition: def, Reported: v, Default: v.Equal(def.Default)}
		if is := effective.Setting(id); is != nil && is.Status == outcome.Set {
			c.Wanted, c.From = is.Value, is.From
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Captured) int {
		return cmp.Or(cmp.Compare(a.Definition.Area, b.Definition.Area), cmp.Compare(a.Definition.ID, b.Definition.ID))
	})
	return out, nil
}

// SettingUse is what is known of a setting where somebody writes a policy.
type SettingUse struct {
	Definition *setting.Definition
	Elsewhere  []review.AlsoSet // other than in the policy that is written
	Reached    int              // laptops that the policy reaches; all of them without one
	Lacking    review.Lacking   // of those, laptops that do not support it
	NotKnown   int              // of those, laptops of which it is not known
	Exceptions int              // that count today
}

// SettingUse looks a setting up in a view, beside a policy where one is named.
func (v View) SettingUse(id setting.ID, policy estate.PolicyID) (*SettingUse, error) {
	d := v.Plan.Definition(id)
	if d == nil {
		return nil, &NotFoundError{"setting", string(id)}
	}
	devices := v.Plan.All()
	var mine *setting.Value
	if policy != "" {
		reach, ok := v.Plan.Reach(policy)
		if !ok {
			return nil, &NotFoundError{"policy", string(policy)}
		}
		devices = reach.Gets
		if e := v.Plan.Policy(policy).Entry(id); e != nil {
			mine = &e.Value
		}
	}
	use := &SettingUse{
		Definition: d,
		Elsewhere:  review.ElsewhereOf(v.Side, id, policy, mine, devices),
		Reached:    devices.Len(),
		Lacking:    review.LackingOn(v.Side, id, devices),
		NotKnown:   v.Plan.SupportUnknown(id).And(devices).Len(),
	}
	snapshot := v.Plan.Snapshot()
	for i := range snapshot.Exceptions {
		if x := &snapshot.Exceptions[i]; x.Setting == id && x.CountsOn(snapshot.Day) {
			use.Exceptions++
		}
	}
	return use, nil
}

// Areas lists the areas of the live dictionary: the shipped ones in their order, then those of
// definitions that were added.
func (s *ChangeService) Areas(shipped []string) []string {
	out := slices.Clone(shipped)
	var added []string
	for _, d := range s.Live().Plan.Snapshot().Settings {
		if d.Area != "" && !slices.Contains(shipped, d.Area) && !slices.Contains(added, d.Area) {
			added = append(added, d.Area)
		}
	}
	slices.Sort(added)
	return append(out, added...)
}
