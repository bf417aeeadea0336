// This file compares a reading of a source with what is known: what is new, altered, left, back;
// which object each thing is.

package workflow

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// comparing is the work of compareReading.
type comparing struct {
	*SourceService
	row     store.Source
	reading *directory.Reading
	known   map[recordKey]*store.SourceRecord
	live    *Live
	objects map[recordKey]string    // the object of every key, known or new
	owners  map[objectKey]recordKey // of this source
	taken   map[objectKey]string    // objects that records got in this reading
	// people by mail and devices by serial number, in lower case; made when it is first asked
	byMatch  func() map[estate.Kind]map[string]string
	byTitle  map[string]string // units by title, in lower case; empty where it is doubled
	out      *taking
	shown    map[string]int
	now      time.Time
	adopting map[recordKey]bool
	missing  func(recordKey) bool // tells whether a reading of everything does not have what is known by a key
}

type recordKey struct {
	kind estate.Kind
	key  string
}

// compareReading finds what differs between a reading and what is known, and what taking it would
// do.
func (s *SourceService) compareReading(ctx context.Context, row store.Source, r *Run, reading *directory.Reading) (*taking, error) {
	existing, err := s.store.In(ctx).SourceRecords(row.ID, "")
	if err != nil {
		return nil, err
	}
	c := &comparing{
		SourceService: s,
		row:           row,
		reading:       reading,
		known:         make(map[recordKey]*store.SourceRecord, len(existing)),
		live:          s.Live(),
		owners:        map[objectKey]recordKey{},
		objects:       make(map[recordKey]string, len(reading.Records)),
		now:           s.now(),
		out: &taking{
			mark:   reading.Mark,
			full:   reading.Full,
			report: &RunReport{Read: len(reading.Records), Items: []RunItem{}},
		},
		shown:    map[string]int{},
		adopting: map[recordKey]bool{},
	}
	for i := range existing {
		rec := &existing[i]
		key := recordKey{estate.Kind(rec.Kind), rec.Key}
		c.known[key] = rec
		if rec.ObjectID != "" {
			c.objects[key] = rec.ObjectID
			c.owners[objectKey{key.kind, rec.ObjectID}] = key
		}
	}
	c.indexLive()
	c.out.report.Faults = append(c.out.report.Faults, reading.Faults...)
	c.missing = func(recordKey) bool { return false }
	if reading.Full {
		read := make(map[recordKey]bool, len(reading.Records))
		for i := range reading.Records {
			read[recordKey{reading.Records[i].Kind, reading.Records[i].Key}] = true
		}
		c.missing = func(key recordKey) bool { return slices.Contains(reading.Kinds, key.kind) && !read[key] }
	}
	for i := range reading.Records {
		c.assign(&reading.Records[i])
	}
	c.openCircles(reading.Records)
	seen := make(map[recordKey]bool, len(reading.Records))
	for i := range reading.Records {
		rec := &reading.Records[i]
		seen[recordKey{rec.Kind, rec.Key}] = true
		if err := c.one(rec); err != nil {
			return nil, err
		}
	}
	if len(reading.MemberOf) > 0 {
		if err := c.memberships(); err != nil {
			return nil, err
		}
	}
	if reading.Full {
		for i := range existing {
			rec := &existing[i]
			if key := (recordKey{estate.Kind(rec.Kind), rec.Key}); !seen[key] && slices.Contains(reading.Kinds, key.kind) &&
				rec.LeftAt == nil && rec.ObjectID != "" {
				c.left(*rec)
			}
		}
	}
	for _, gone := range reading.Left {
		if rec := c.known[recordKey{gone.Kind, gone.Key}]; rec != nil && rec.LeftAt == nil && rec.Brought != "" {
			c.left(*rec)
		}
	}
	if r.state.Load() != nil {
		s.step(r, "foreseeing", 0, 0)
	}
	if c.out.preview, err = s.preview(ctx, c.live, c.out.touched, nil); err != nil {
		return nil, err
	}
	report := c.out.report
	refused := make([]objectKey, 0, len(c.out.preview.Refused))
	for key := range c.out.preview.Refused {
		refused = append(refused, key)
	}
	slices.SortFunc(refused, func(a, b objectKey) int { return cmp.Or(cmp.Compare(a.kind, b.kind), cmp.Compare(a.id, b.id)) })
	for _, key := range refused {
		report.Faulty++
		report.Faults = append(report.Faults, c.out.preview.Refused[key]...)
	}
	if n := len(report.Faults); n > faultsKept {
		report.Faults, report.MoreFaults = report.Faults[:faultsKept], n-faultsKept
	}
	foresee(report, c.out.preview, r.setUp)
	return c.out, nil
}

// indexLive finds how things of the live estate may be known to a source.
func (c *comparing) indexLive() {
	snapshot := c.live.Plan.Snapshot()
	c.taken = map[objectKey]string{}
	c.byMatch = sync.OnceValue(func() map[estate.Kind]map[string]string {
		people, devices := map[string]string{}, map[string]string{}
		for _, p := range snapshot.People {
			if p.Mail != "" {
				people[strings.ToLower(p.Mail)] = string(p.ID)
			}
		}
		for _, d := range snapshot.Devices {
			if d.Serial != "" {
				devices[strings.ToLower(d.Serial)] = string(d.ID)
			}
		}
		return map[estate.Kind]map[string]string{estate.KindPerson: people, estate.KindDevice: devices}
	})
	c.byTitle = map[string]string{}
	for i := range snapshot.Units {
		u := &snapshot.Units[i]
		for _, name := range []string{strings.ToLower(u.Title), strings.ToLower(string(u.ID))} {
			if _, twice := c.byTitle[name]; name != "" && !twice {
				c.byTitle[name] = string(u.ID)
			}
		}
	}
}

// takenBy gives the source that has an object already, or gets it in this reading; empty: none
// does.
func (c *comparing) takenBy(object objectKey) string {
	if source := c.taken[object]; source != "" {
		return source
	}
	return c.live.imported.of(object).Source
}

// there tells whether the live estate has an object.
func (c *comparing) there(kind estate.Kind, id string) bool {
	key := objectKey{kind, id}
	return c.live.imported.has(key) || c.live.versions.of(key) > 0
}

// assign finds the object of a record: the one that it has, one that is known by its id, mail or
// serial number, or a new one.
func (c *comparing) assign(rec *directory.Record) {
	key := recordKey{rec.Kind, rec.Key}
	if c.objects[key] != "" || rec.Faulty {
		return
	}
	candidates := []string{}
	if rec.Match != "" {
		if id := c.byMatch()[rec.Kind][rec.Match]; id != "" {
			candidates = append(candidates, id)
		}
	}
	if c.there(rec.Kind, rec.Wants) {
		candidates = append(candidates, rec.Wants)
	}
	for _, id := range candidates {
		object := objectKey{rec.Kind, id}
		switch owner := c.takenBy(object); {
		case owner == "":
			c.adopting[key] = true
			c.own(key, object)
			return
		case owner == c.row.ID && c.isGone(object): // another entry for what had left
			c.own(key, object)
			return
		case owner != c.row.ID:
			rec.Faulty = true
			c.out.report.Faults = append(
				c.out.report.Faults,
				problem.Fault{
					Code:     problem.DoubledID,
					Path:     problem.Join("", string(rec.Kind), id),
					Place:    problem.Place{Line: rec.Line},
					Found:    problem.Quote(rec.Key),
					Expected: "something that no other source has; the source " + problem.Quote(owner) + " brings " + id + " already",
				},
			)
			return
		}
	}
	id := rec.Wants
	for n := 2; c.takenBy(objectKey{rec.Kind, id}) != "" || c.there(rec.Kind, id); n++ {
		id = fmt.Sprintf("%s-%d", rec.Wants, n)
	}
	c.own(key, objectKey{rec.Kind, id})
}

func (c *comparing) own(key recordKey, object objectKey) {
	c.objects[key] = object.id
	c.taken[object] = c.row.ID
}

// isGone tells whether an object of this source belongs to a record that has left, or that is missing
// in this reading of everything, and lets that record go: whoever is hired again has another entry.
func (c *comparing) isGone(object objectKey) bool {
	key, known := c.owners[object]
	rec := c.known[key]
	if !known || rec.LeftAt == nil && !c.missing(key) {
		return false
	}
	released := *rec
	released.ObjectID, released.Brought = "", ""
	c.out.release = append(c.out.release, released)
	*rec = released
	delete(c.objects, key)
	delete(c.owners, object)
	return true
}

// resolve gives the id of what a reference names; what nobody knows stays as it is written, to be
// left out when it is laid.
func (c *comparing) resolve(kind estate.Kind, ref directory.Ref) string {
	if ref.Key != "" {
		return c.objects[recordKey{kind, ref.Key}]
	}
	if ref.Name == "" {
		return ""
	}
	name := strings.ToLower(ref.Name)
	if kind == estate.KindUnit {
		if id := c.byTitle[name]; id != "" {
			return id
		}
	}
	if c.there(kind, ref.Name) {
		return ref.Name
	}
	if id := c.byMatch()[kind][name]; id != "" {
		return id
	}
	return directory.ValidSlug(ref.Name)
}

// imported gives the fields of a record in the estate format.
func (c *comparing) imported(rec *directory.Record) (string, error) {
	out := make(map[string]any, len(rec.Fields)+3)
	for name, v := range rec.Fields {
		out[name] = v
	}
	out["id"] = c.objects[recordKey{rec.Kind, rec.Key}]
	if id := c.resolve(estate.KindUnit, rec.Unit); id != "" {
		out["unit"] = id
	}
	if rec.Kind == estate.KindUnit {
		delete(out, "unit")
		parent := c.resolve(estate.KindUnit, rec.Unit)
		if parent == "" {
			parent = c.root()
		}
		if parent != out["id"] && parent != "" {
			out["parent"] = parent
		}
	}
	if id := c.resolve(estate.KindPerson, rec.Owner); id != "" {
		out["owner"] = id
	}
	if users := c.all(estate.KindPerson, rec.Users); len(users) > 0 {
		out["users"] = users
	}
	if rec.Member != nil {
		var people, groups []directory.Ref
		for _, ref := range rec.Member {
			if _, isGroup := c.objects[recordKey{estate.KindGroup, ref.Key}]; isGroup && ref.Key != "" {
				groups = append(groups, ref)
			} else {
				people = append(people, ref)
			}
		}
		out["members"] = append([]string{}, c.all(estate.KindPerson, people)...)
		if len(groups) > 0 {
			out["groups"] = c.all(estate.KindGroup, groups)
		}
	}
	if was := c.known[recordKey{rec.Kind, rec.Key}]; rec.Kind == estate.KindGroup && rec.Member == nil && was != nil &&
		was.Brought != "" { // people say who is in it
		var old files.GroupDoc
		if err := json.Unmarshal([]byte(was.Brought), &old); err != nil {
			return "", err
		}
		out["members"] = append([]string{}, old.Members...)
	}
	text, err := json.Marshal(out)
	return string(text), err
}

func (c *comparing) root() string {
	for _, u := range c.live.Plan.Snapshot().Units {
		if u.Parent == "" && u.ID != standIn {
			return string(u.ID)
		}
	}
	return ""
}

func (c *comparing) all(kind estate.Kind, refs []directory.Ref) (ids []string) {
	for _, ref := range refs {
		if id := c.resolve(kind, ref); id != "" {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// one compares a record with what is known of it.
func (c *comparing) one(rec *directory.Record) error {
	if rec.Faulty {
		c.out.report.Faulty++
		return nil
	}
	key := recordKey{rec.Kind, rec.Key}
	is := store.SourceRecord{
		Source:    c.row.ID,
		Kind:      string(rec.Kind),
		Key:       rec.Key,
		ObjectID:  c.objects[key],
		Place:     rec.Place,
		Name:      rec.Match,
		Version:   1,
		CreatedAt: c.now,
		AlteredAt: c.now,
	}
	var err error
	if is.Brought, err = c.imported(rec); err != nil {
		return err
	}
	if rec.Rest != nil {
		text, err := json.Marshal(rec.Rest)
		if err != nil {
			return err
		}
		is.Resource = string(text)
	}
	was := c.known[key]
	if was != nil {
		is.CreatedAt, is.Version, is.External = was.CreatedAt, was.Version+1, was.External
		if rec.Rest == nil {
			is.Resource = was.Resource
		}
		if c.row.Kind == string(SCIM) { // what the client reads again stays as it wrote it
			is.Name, is.Version, is.AlteredAt = was.Name, was.Version, was.AlteredAt
		}
	}
	what := ""
	var altered []files.AlteredField
	switch {
	case was == nil || was.Brought == "":
		what = "new"
		c.out.report.New++
		if c.adopting[key] {
			c.out.report.Adopted++
		}
	case was.LeftAt != nil:
		what = "back"
		c.out.report.Back++
	case was.Brought != is.Brought:
		what = "altered"
		c.out.report.Altered++
	default:
		c.out.report.Same++
		if was.Place != is.Place || was.Fault != "" {
			c.out.records = append(c.out.records, is)
		}
		return nil
	}
	if was != nil {
		if altered, err = files.AlteredFields([]byte(was.Brought), []byte(is.Brought)); err != nil {
			return err
		}
	}
	c.out.records = append(c.out.records, is)
	c.out.touched = append(c.out.touched, is)
	c.note(what, &is, rec.Line, altered, c.adopting[key])
	return nil
}

// note adds to the history of an object, and to what is shown.
func (c *comparing) note(what string, is *store.SourceRecord, line int, altered []files.AlteredField, adopts bool) {
	fields := ""
	if len(altered) > 0 {
		if text, err := json.Marshal(altered); err == nil {
			fields = string(text)
		}
	}
	if what == "new" {
		fields = ""
	}
	c.out.events = append(
		c.out.events,
		store.SourceEvent{Kind: is.Kind, ObjectID: is.ObjectID, Source: c.row.ID, At: c.now, What: what, Fields: fields},
	)
	if c.shown[what]++; c.shown[what] <= itemsShown {
		if what == "new" {
			altered = nil
		}
		c.out.report.Items = append(
			c.out.report.Items,
			RunItem{What: what, Kind: is.Kind, ID: is.ObjectID, Key: is.Key, Line: line, Fields: altered, Adopts: adopts},
		)
	}
}

// left marks a record as left. What it imported stays.
func (c *comparing) left(rec store.SourceRecord) {
	rec.LeftAt, rec.AlteredAt, rec.Version = &c.now, c.now, rec.Version+1
	c.out.records = append(c.out.records, rec)
	if rec.ObjectID == "" || rec.Brought == "" {
		return
	}
	c.out.report.Left++
	c.out.touched = append(c.out.touched, rec)
	c.note("left", &rec, 0, nil, false)
}
