// This file maps what use cases give to wire types.

package httpapi

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"time"

	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// sampleSize is how many devices of a long list are named; the count says how many there are.
const sampleSize = 50

// paged cuts a page out of a list. A cursor is the place of its first item, as an opaque text.
func paged[T, W any](list []T, cursor string, limit int, item func(T) W) (wire.Page[W], error) {
	return pagedRows(len(list), cursor, limit, func(i int) W { return item(list[i]) })
}

// pageOf finds where a page begins and ends, and the cursor of the next.
func pageOf(n int, cursor string, limit int) (start, end int, next string, err error) {
	if cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(cursor)
		if err == nil {
			start, err = strconv.Atoi(string(text))
		}
		if err != nil || start < 0 {
			return 0, 0, "", problem.Faults{
				{Code: problem.OutOfRange, Path: "/query/cursor", Found: problem.Quote(cursor), Expected: "a cursor as `next` gave it"},
			}
		}
	}
	start = min(start, n)
	end = min(n, start+limit)
	if end < n {
		next = base64.RawURLEncoding.EncodeToString([]byte(strconv.Itoa(end)))
	}
	return start, end, next, nil
}

// titled looks titles up in a view.
type titled struct {
	settings map[setting.ID]*setting.Definition
	policies map[string]string
}

func titlesOf(v impact.Side) titled {
	s := v.Plan.Snapshot()
	t := titled{make(map[setting.ID]*setting.Definition, len(s.Settings)), make(map[string]string, len(s.Policies))}
	for i := range s.Settings {
		t.settings[s.Settings[i].ID] = &s.Settings[i]
	}
	for i := range s.Policies {
		t.policies[string(s.Policies[i].ID)] = s.Policies[i].Title
	}
	return t
}

func (t titled) setting(id setting.ID) string {
	if d := t.settings[id]; d != nil {
		return d.Title
	}
	return ""
}

func (t titled) conflicts(found []resolve.ConflictFound, most int) []wire.Conflict {
	return wire.Conflicts(found, func(id setting.ID) *setting.Definition { return t.settings[id] }, most)
}

func statuses(counts map[rollout.Status]int) wire.Statuses {
	return wire.Statuses{
		Pending: counts[rollout.Pending], Applied: counts[rollout.Applied], Failed: counts[rollout.Failed],
		Unsupported: counts[rollout.Unsupported], Conflict: counts[rollout.Conflict], Drifted: counts[rollout.Drifted],
	}
}

func deviceOf(r *workflow.DeviceRow, now time.Time) wire.Device {
	d := r.Device
	return wire.Device{
		ID:        string(d.ID),
		Serial:    d.Serial,
		Owner:     string(d.Owner),
		OwnerName: r.OwnerName,
		Unit:      r.Unit,
		OS:        string(d.OS),
		OSVersion: d.OSVersion,
		Edition:   d.Edition,
		Model:     d.Model,
		Tags: append(
			[]string{},
			d.Tags...),
		Enrolled: r.Enrolled,
		Silent:   r.Silent(now),
		LastSeen: r.LastSeen,
		Revision: r.Revision,
		Statuses: statuses(r.Counts),
		Problems: r.Problems,
		Origin:   originWire(r.Origin, nil, nil),
	}
}

func value(v setting.Value) *setting.Value {
	if v.IsNothing() {
		return nil
	}
	return &v
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func devicePage(p *workflow.DevicePage, now time.Time) wire.DevicePage {
	out := wire.DevicePage{
		Device:     deviceOf(&p.Row, now),
		Units:      p.Row.Units,
		Users:      wire.Names(p.Row.Device.Users),
		Facts:      p.Row.Device.Facts,
		Effective:  files.Explained(p.Result),
		Deliveries: []wire.Delivery{},
		CheckIns:   []wire.CheckIn{},
		History:    eventsWire(p.History),
		Applies:    []wire.AppliedPolicy{},
		Groups:     []wire.Membership{},
		Exceptions: []wire.Exception{},
		Offers:     make([]wire.Offer, len(p.Offers)),
		Tells:      p.Tells,
	}
	for i, o := range p.Offers {
		out.Offers[i] = wire.Offer{Policy: string(o.Policy.ID), Title: o.Policy.Title, Taken: o.Taken, Since: o.Since}
	}
	out.Device.Origin = originWire(p.Row.Origin, p.Brings, p.Local)
	if out.Facts == nil {
		out.Facts = map[string]setting.Value{}
	}
	for _, d := range p.Deliveries {
		out.Deliveries = append(out.Deliveries, wire.Delivery{
			Setting:    string(d.Setting),
			Wanted:     value(d.Wanted),
			Reported:   value(d.Reported),
			Status:     string(d.Status),
			Code:       d.Code,
			Reason:     d.Reason,
			WantedAt:   moment(d.WantedAt),
			ReportedAt: moment(d.ReportedAt),
		})
	}
	slices.SortFunc(out.Deliveries, func(a, b wire.Delivery) int { return cmp.Compare(a.Setting, b.Setting) })
	for _, c := range p.CheckIns {
		out.CheckIns = append(
			out.CheckIns,
			wire.CheckIn{
				At:       c.At,
				Outcome:  c.Outcome,
				Sent:     c.Sent,
				Applied:  c.Applied,
				Failed:   c.Failed,
				Messages: c.Messages,
				Revision: c.Revision,
			},
		)
	}
	return out
}

func changeOf(c store.Change) wire.Change {
	return wire.Change{
		ID:        c.ID,
		Title:     c.Title,
		Why:       c.Why,
		State:     c.State,
		Version:   c.Version,
		CreatedBy: c.CreatedBy,
		CreatedAt: c.CreatedAt,
		UpdatedAt: c.UpdatedAt,
		Revision:  c.Revision,
	}
}

func publicationOf(p store.Publication) wire.Publication {
	return wire.Publication{Revision: p.Revision, Change: p.ChangeID, Title: p.Title, By: p.By, At: p.At, Edits: p.Edits}
}

func stateOf(s impact.State) wire.State {
	return wire.State{Status: string(s.Status), Value: value(s.Value)}
}

func policyUse(u *workflow.Trial) *wire.PolicyUse {
	use, plan := u.Use, u.After.Plan
	r := use.Reach
	devices := u.After.Resolution.Len()
	out := &wire.PolicyUse{
		Reach: wire.Reach{
			Gets:        r.Gets.Len(),
			Excluded:    r.Excluded.Len(),
			Condition:   r.Condition.Len(),
			NotTaken:    r.NotTaken.Len(),
			Platform:    r.Platform.Len(),
			Outside:     r.Outside.Len(),
			Unknown:     r.Unknown.Len(),
			NotIncluded: r.NotIncluded.Len(),
			Unsupported: r.Unsupported.Len(),
			People:      r.People,
			Everyone: devices > 0 &&
				r.Gets.Len() == devices,
			Sample:  wire.Devices(r.Gets, sampleSize),
			LeftOut: wire.Devices(r.Excluded, sampleSize),
		},
		AlsoSet:  wire.AlsoSets(use.AlsoSet, plan),
		Findings: wire.Findings(u.Findings, plan),
		Fates:    map[string]map[string]int{},
		Lacking:  map[string]map[string]int{},
		NotKnown: wire.ByID(use.NotKnown),
		Forced:   map[string]int{},
		Problems: wire.Problems(use.Problems, sampleSize),
	}
	for id, fates := range use.Mine {
		out.Fates[string(id)] = map[string]int{}
		for fate, n := range fates {
			out.Fates[string(id)][fate.String()] = n
		}
	}
	for id, lacking := range use.Lacking {
		out.Lacking[string(id)] = wire.Lacking(lacking)
	}
	for id, n := range use.Forced {
		out.Forced[string(id)] = n
	}
	return out
}

func auditOf(r store.AuditRecord) wire.AuditRecord {
	return wire.AuditRecord{
		Seq:     r.Seq,
		At:      r.At,
		By:      r.By,
		Via:     r.Via,
		Request: r.Request,
		Action:  r.Action,
		Kind:    r.Kind,
		ID:      r.ObjectID,
		Change:  r.ChangeID,
		Before:  r.Before,
		After:   r.After,
		Hash:    r.Hash,
	}
}

func etag(version int64) string { return fmt.Sprintf(`"%d"`, version) }

// expectedOf reads If-Match: -1 when it is absent.
func expectedOf(header string) (int64, error) {
	if header == "" || header == "*" { // whatever version there is
		return -1, nil
	}
	var version int64
	if _, err := fmt.Sscanf(header, `"%d"`, &version); err != nil || version < 0 {
		return 0, problem.Faults{
			{
				Code:     problem.BadVersion,
				Path:     "/header/If-Match",
				Found:    problem.Quote(header),
				Expected: `a version in quotes as ETag gave it, such as "3"`,
			},
		}
	}
	return version, nil
}

// object gives an object as it is stored; nil where there is none.
func object(text string) wire.EstateObject {
	if text == "" {
		return nil
	}
	return wire.EstateObject(text)
}
