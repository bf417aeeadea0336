// This file reads one directory: pages of entries, made into units, people and groups.

package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// ldapRead is one reading of a directory.
type ldapRead struct {
	*LDAP
	conn     *ldap.Conn
	since    string // only what was altered at this time or later; empty: all
	out      *Reading
	keys     map[string]string // by normalised place: the key of every entry that is known
	units    map[string]bool   // places that are units
	progress Progress
	read     int64
}

// Known is what earlier readings know: the keys of entries by their places, and which of them are
// units.
type Known struct {
	Keys  map[string]string
	Units map[string]bool
}

// Read reads the directory: all of it, or with since only what was altered at that time or later,
// over what is known.
func (l *LDAP) Read(ctx context.Context, password, since string, known Known, progress Progress) (*Reading, error) {
	conn, err := l.connect(ctx, password)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	r := &ldapRead{
		LDAP:     l,
		conn:     conn,
		since:    since,
		out:      &Reading{Full: since == "", Mark: since, MemberOf: map[string][]string{}},
		keys:     map[string]string{},
		units:    map[string]bool{},
		progress: progress,
	}
	if since != "" {
		for place, key := range known.Keys {
			r.keys[place] = key
		}
		for place := range known.Units {
			r.units[place] = true
		}
	}
	var units, people, groups []*ldap.Entry
	for _, part := range []struct {
		kind    estate.Kind
		filter  string
		wanted  []string
		entries *[]*ldap.Entry
	}{
		{estate.KindUnit, l.Units.Filter, []string{or(l.Units.ID, "ou"), or(l.Units.Title, "description")}, &units},
		{estate.KindPerson, l.People.Filter, l.peopleAttributes(), &people},
		{estate.KindGroup, l.Groups.Filter, l.groupAttributes(), &groups},
	} {
		if part.filter == "" {
			continue
		}
		r.out.Kinds = append(r.out.Kinds, part.kind)
		if *part.entries, err = r.search(ctx, part.kind, part.filter, part.wanted); err != nil {
			return nil, err
		}
	}
	// Places first, of everything: a reference may lead to an entry that comes later.
	for _, list := range [][]*ldap.Entry{units, people, groups} {
		for _, e := range list {
			if key := r.keyOf(e); key != "" {
				for place, k := range r.keys { // moved: it is no longer where it was
					if k == key && since != "" {
						delete(r.keys, place)
						delete(r.units, place)
						break
					}
				}
				r.keys[placeOf(e.DN)] = key
			}
		}
	}
	for _, e := range units {
		r.units[placeOf(e.DN)] = true
	}
	for _, e := range units {
		r.unit(e)
	}
	for _, e := range people {
		r.person(e)
	}
	for _, e := range groups {
		r.group(e)
	}
	if r.out.Full && l.Groups.Members == ByMemberOf {
		r.turnRound()
	}
	sorted(r.out.Records)
	return r.out, nil
}

func (l *LDAP) peopleAttributes() []string {
	out := []string{or(l.People.ID, "uid"), or(l.People.Name, "cn"), or(l.People.Mail, "mail")}
	for _, name := range l.People.Attributes {
		out = append(out, name)
	}
	if l.Groups.Members == ByMemberOf {
		out = append(out, or(l.Groups.Member, "memberOf"))
	}
	return out
}

func (l *LDAP) groupAttributes() []string {
	out := []string{or(l.Groups.ID, "cn"), or(l.Groups.Title, "cn")}
	if l.Groups.Members != ByMemberOf {
		out = append(out, or(l.Groups.Member, "member"))
	}
	return out
}

// search reads entries in pages (RFC 2696). A page that can't be read ends the whole reading: half
// of a directory is none.
func (r *ldapRead) search(ctx context.Context, kind estate.Kind, filter string, wanted []string) ([]*ldap.Entry, error) {
	wanted = append(slices.Clone(wanted), or(r.Key, "entryUUID"), or(r.Modified, "modifyTimestamp"))
	if r.since != "" {
		filter = fmt.Sprintf("(&%s(%s>=%s))", filter, or(r.Modified, "modifyTimestamp"), ldap.EscapeFilter(r.since))
	}
	size := r.PageSize
	if size == 0 {
		size = 500
	}
	pages := ldap.NewControlPaging(uint32(size))
	var entries []*ldap.Entry
	for {
		request := ldap.NewSearchRequest(
			r.Base,
			ldap.ScopeWholeSubtree,
			ldap.NeverDerefAliases,
			0,
			0,
			false,
			filter,
			wanted,
			[]ldap.Control{pages},
		)
		answer, err := r.conn.Search(request)
		if err != nil {
			if ctx.Err() != nil {
				err = ctx.Err()
			}
			return nil, &ErrTrouble{"reading " + string(kind), err}
		}
		entries = append(entries, answer.Entries...)
		r.read += int64(len(answer.Entries))
		if r.progress != nil {
			r.progress(r.read, 0)
		}
		next, _ := ldap.FindControl(answer.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if next == nil || len(next.Cookie) == 0 {
			break
		}
		pages.SetCookie(next.Cookie)
	}
	for _, e := range entries {
		if at := e.GetEqualFoldAttributeValue(or(r.Modified, "modifyTimestamp")); at > r.out.Mark {
			r.out.Mark = at
		}
	}
	return entries, nil
}

// placeOf writes a distinguished name so that equal ones are equal texts (RFC 4514, names and
// values without regard to case).
func placeOf(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return strings.ToLower(parsed.String())
}

// above gives the place that an entry stands below; empty at the top.
func above(place string) string {
	parsed, err := ldap.ParseDN(place)
	if err != nil || len(parsed.RDNs) < 2 {
		return ""
	}
	return strings.ToLower((&ldap.DN{RDNs: parsed.RDNs[1:]}).String())
}

func (r *ldapRead) keyOf(e *ldap.Entry) string {
	key := e.GetEqualFoldAttributeValue(or(r.Key, "entryUUID"))
	return strings.ToLower(key)
}

// begin starts a record; ok is false where the entry has no key.
func (r *ldapRead) begin(kind estate.Kind, e *ldap.Entry, id string) (Record, bool) {
	rec := Record{
		Kind:   kind,
		Key:    r.keyOf(e),
		Place:  placeOf(e.DN),
		Wants:  ValidSlug(e.GetEqualFoldAttributeValue(id)),
		Fields: map[string]any{},
	}
	if rec.Key == "" {
		r.out.Faults = append(
			r.out.Faults,
			problem.Fault{
				Code:     problem.MissingField,
				Path:     e.DN,
				Found:    "an entry without " + or(r.Key, "entryUUID"),
				Expected: "the attribute by which an entry is known again",
			},
		)
		r.out.Full = false
		return rec, false
	}
	if rec.Wants == "" {
		r.out.Faults = append(
			r.out.Faults,
			problem.Fault{Code: problem.MissingField, Path: e.DN, Found: "an entry without " + id, Expected: "the attribute that " +
				"becomes its id"},
		)
		rec.Faulty = true
	}
	return rec, true
}

func (r *ldapRead) unitAbove(place string) Ref {
	for at := above(place); at != ""; at = above(at) {
		if r.units[at] {
			return Ref{Key: r.keys[at]}
		}
	}
	return Ref{}
}

func (r *ldapRead) unit(e *ldap.Entry) {
	rec, ok := r.begin(estate.KindUnit, e, or(r.Units.ID, "ou"))
	if !ok {
		return
	}
	rec.Fields["title"] = or(
		e.GetEqualFoldAttributeValue(or(r.Units.Title, "description")),
		e.GetEqualFoldAttributeValue(or(r.Units.ID, "ou")),
	)
	if rec.Unit = r.unitAbove(rec.Place); rec.Unit.IsZero() {
		rec.Unit = Ref{Name: r.Units.Under}
	}
	r.out.Records = append(r.out.Records, rec)
}

func (r *ldapRead) person(e *ldap.Entry) {
	rec, ok := r.begin(estate.KindPerson, e, or(r.People.ID, "uid"))
	if !ok {
		return
	}
	if name := e.GetEqualFoldAttributeValue(or(r.People.Name, "cn")); name != "" {
		rec.Fields["name"] = name
	}
	if mail := e.GetEqualFoldAttributeValue(or(r.People.Mail, "mail")); mail != "" {
		rec.Fields["mail"], rec.Match = mail, strings.ToLower(mail)
	}
	attributes := map[string]any{}
	for name, from := range r.People.Attributes {
		switch values := e.GetEqualFoldAttributeValues(from); {
		case len(values) == 1:
			attributes[name] = values[0]
		case len(values) > 1:
			slices.Sort(values)
			attributes[name] = slices.Compact(values)
		}
	}
	if len(attributes) > 0 {
		rec.Fields["attributes"] = attributes
	}
	if r.Units.Filter != "" {
		rec.Unit = r.unitAbove(rec.Place)
	}
	if r.Groups.Members == ByMemberOf && r.Groups.Filter != "" {
		groups := []string{}
		for _, dn := range e.GetEqualFoldAttributeValues(or(r.Groups.Member, "memberOf")) {
			if key := r.keys[placeOf(dn)]; key != "" {
				groups = append(groups, key)
			}
		}
		slices.Sort(groups)
		r.out.MemberOf[rec.Key] = slices.Compact(groups)
	}
	r.out.Records = append(r.out.Records, rec)
}

func (r *ldapRead) group(e *ldap.Entry) {
	rec, ok := r.begin(estate.KindGroup, e, or(r.Groups.ID, "cn"))
	if !ok {
		return
	}
	rec.Fields["of"] = string(estate.OfPeople)
	if title := e.GetEqualFoldAttributeValue(or(r.Groups.Title, "cn")); title != "" {
		rec.Fields["title"] = title
	}
	if r.Groups.Members != ByMemberOf {
		rec.Member = []Ref{}
		for _, dn := range e.GetEqualFoldAttributeValues(or(r.Groups.Member, "member")) {
			if key := r.keys[placeOf(dn)]; key != "" {
				rec.Member = append(rec.Member, Ref{Key: key})
			}
		}
	}
	r.out.Records = append(r.out.Records, rec)
}

// turnRound makes the members of groups of what people say.
func (r *ldapRead) turnRound() {
	members := map[string][]Ref{}
	for person, groups := range r.out.MemberOf {
		for _, g := range groups {
			members[g] = append(members[g], Ref{Key: person})
		}
	}
	for i := range r.out.Records {
		if rec := &r.out.Records[i]; rec.Kind == estate.KindGroup {
			rec.Member = append([]Ref{}, members[rec.Key]...)
			slices.SortFunc(rec.Member, func(a, b Ref) int { return strings.Compare(a.Key, b.Key) })
		}
	}
	r.out.MemberOf = nil
}
