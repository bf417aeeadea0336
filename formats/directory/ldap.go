// This file reads people, units and groups from a directory server over LDAP (RFC 4511), encrypted always.

package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// LDAP says how a directory is read. The password of the account is not part of it: Password names a file of the service's folder of
// secrets.
type LDAP struct {
	Address   string     `json:"address" maxLength:"300" doc:"ldaps://HOST:PORT, or ldap://HOST:PORT, which is encrypted with StartTLS before anything else is sent"`
	Authority string     `json:"authority,omitempty" maxLength:"100000" doc:"The certificates that may vouch for the server, as PEM; those that the system trusts where it is left out"`
	BindAs    string     `json:"bind_as,omitempty" maxLength:"500" doc:"The distinguished name of the account that reads; nobody where it is left out"`
	Password  string     `json:"password,omitempty" maxLength:"128" doc:"The name of the file with the account's password, in the service's folder of secrets"`
	Base      string     `json:"base" maxLength:"500" doc:"Where to look, as a distinguished name"`
	PageSize  int        `json:"page_size,omitempty" minimum:"10" maximum:"1000" doc:"Entries a page; 500 where it is left out"`
	Key       string     `json:"key,omitempty" maxLength:"100" doc:"The attribute that is stable when an entry is renamed or moved: entryUUID where it is left out"`
	Modified  string     `json:"modified,omitempty" maxLength:"100" doc:"The attribute with the time of the last alteration: modifyTimestamp where it is left out"`
	People    LDAPPeople `json:"people"`
	Units     LDAPUnits  `json:"units"`
	Groups    LDAPGroups `json:"groups"`
}

// LDAPPeople says which entries are people and what of them is brought.
type LDAPPeople struct {
	Filter     string            `json:"filter,omitempty" maxLength:"2000" doc:"Empty: no people are read"`
	ID         string            `json:"id,omitempty" maxLength:"100" doc:"The attribute that becomes the id: uid where it is left out"`
	Name       string            `json:"name,omitempty" maxLength:"100" doc:"cn where it is left out"`
	Mail       string            `json:"mail,omitempty" maxLength:"100" doc:"mail where it is left out"`
	Attributes map[string]string `json:"attributes,omitempty" doc:"From the name in the estate to the attribute of the directory"`
}

// LDAPUnits says which entries are units. A unit's parent is the nearest entry above it that is a unit, a person's unit too.
type LDAPUnits struct {
	Filter string `json:"filter,omitempty" maxLength:"2000" doc:"Empty: no units are read, and people have none from here"`
	ID     string `json:"id,omitempty" maxLength:"100" doc:"ou where it is left out"`
	Title  string `json:"title,omitempty" maxLength:"100" doc:"description where it is left out"`
	Under  string `json:"under,omitempty" maxLength:"128" doc:"The unit of the estate below which the outermost ones stand: the organisation where it is left out"`
}

// LDAPGroups says which entries are groups, and who says who is in them.
type LDAPGroups struct {
	Filter  string `json:"filter,omitempty" maxLength:"2000" doc:"Empty: no groups are read"`
	ID      string `json:"id,omitempty" maxLength:"100" doc:"cn where it is left out"`
	Title   string `json:"title,omitempty" maxLength:"100" doc:"description where it is left out"`
	Members string `json:"members,omitempty" enum:"member,memberOf" doc:"member: groups list people; memberOf: people list groups"`
	Member  string `json:"member,omitempty" maxLength:"100" doc:"The attribute that lists: member or memberOf where it is left out"`
}

// Ways of membership.
const (
	ByMember   = "member"
	ByMemberOf = "memberOf"
)

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// Check says what is wrong with the set-up by itself.
func (l *LDAP) Check() problem.Faults {
	var faults problem.Faults
	refuse := func(code problem.Code, path, found, expected string) {
		faults = append(faults, problem.Fault{Code: code, Path: "/ldap/" + path, Found: found, Expected: expected})
	}
	if at, err := url.Parse(
		l.Address,
	); err != nil || at.Scheme != "ldap" && at.Scheme != "ldaps" || at.Host == "" || at.User != nil ||
		strings.Trim(at.Path, "/") != "" {
		refuse(problem.Syntax, "address", problem.Quote(l.Address), "ldaps://HOST:PORT or ldap://HOST:PORT")
	}
	if _, err := ldap.ParseDN(l.Base); err != nil || l.Base == "" {
		refuse(problem.Syntax, "base", problem.Quote(l.Base), "a distinguished name such as dc=larkfell,dc=example")
	}
	if _, err := ldap.ParseDN(l.BindAs); err != nil {
		refuse(problem.Syntax, "bind_as", problem.Quote(l.BindAs), "a distinguished name")
	}
	if (l.BindAs == "") != (l.Password == "") {
		refuse(problem.EitherOr, "password", "one of bind_as and password without the other", "both, or neither to read as nobody")
	}
	if l.Password != "" && !estate.ValidID(l.Password) {
		refuse(problem.BadID, "password", "a text that is no file's name", "the name of a file in the service's folder of secrets")
	}
	if l.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(l.Authority)) {
		refuse(problem.Syntax, "authority", "no certificate", "certificates as PEM")
	}
	for name, filter := range map[string]string{"people/filter": l.People.Filter, "units/filter": l.Units.Filter, "groups/filter": l.Groups.Filter} {
		if filter == "" {
			continue
		}
		if _, err := ldap.CompileFilter(filter); err != nil {
			refuse(problem.Syntax, name, problem.Quote(filter), "a filter (RFC 4515) such as (objectClass=inetOrgPerson)")
		}
	}
	if l.People.Filter == "" && l.Units.Filter == "" && l.Groups.Filter == "" {
		refuse(problem.MissingField, "people/filter", "no filter at all", "a filter for people, units or groups")
	}
	for name := range l.People.Attributes {
		if name == "" || slices.Contains(estate.PersonNames, name) {
			refuse(
				problem.ReservedName,
				"people/attributes/"+name,
				problem.Quote(name),
				"a name of its own; these are taken: "+strings.Join(estate.PersonNames, ", "),
			)
		}
	}
	if m := l.Groups.Members; m != "" && m != ByMember && m != ByMemberOf {
		refuse(problem.NotOneOf, "groups/members", problem.Quote(m), "member or memberOf")
	}
	faults.Sort()
	return faults
}

// ErrTrouble wraps what went wrong while talking to a directory.
type ErrTrouble struct {
	Step string // connecting, securing, signing in, reading people …
	Err  error
}

func (e *ErrTrouble) Error() string { return e.Step + ": " + e.Err.Error() }

// Unwrap gives what was wrong.
func (e *ErrTrouble) Unwrap() error { return e.Err }

const (
	dialWithin = 10 * time.Second
	pageWithin = 60 * time.Second
)

// connect opens an encrypted connection and signs in. The server's certificate is checked, always.
func (l *LDAP) connect(ctx context.Context, password string) (*ldap.Conn, error) {
	at, err := url.Parse(l.Address)
	if err != nil {
		return nil, err
	}
	trust := &tls.Config{ServerName: at.Hostname(), MinVersion: tls.VersionTLS12}
	if l.Authority != "" {
		trust.RootCAs = x509.NewCertPool()
		trust.RootCAs.AppendCertsFromPEM([]byte(l.Authority))
	}
	conn, err := ldap.DialURL(l.Address, ldap.DialWithTLSConfig(trust), ldap.DialWithDialer(&net.Dialer{Timeout: dialWithin}))
	if err != nil {
		return nil, &ErrTrouble{"connecting", err}
	}
	conn.SetTimeout(pageWithin)
	context.AfterFunc(ctx, func() { conn.Close() })
	if at.Scheme == "ldap" {
		if err := conn.StartTLS(trust); err != nil {
			conn.Close()
			return nil, &ErrTrouble{"securing the connection", err}
		}
	}
	if l.BindAs != "" {
		if err := conn.Bind(l.BindAs, password); err != nil {
			conn.Close()
			return nil, &ErrTrouble{"signing in", withoutSecret(err, password)}
		}
	}
	return conn, nil
}

// withoutSecret keeps a password out of a fault, should a server repeat it.
func withoutSecret(err error, password string) error {
	if password != "" && strings.Contains(err.Error(), password) {
		return errors.New("refused")
	}
	return err
}

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

// Known is what earlier readings know: the keys of entries by their places, and which of them are units.
type Known struct {
	Keys  map[string]string
	Units map[string]bool
}

// Read reads the directory: all of it, or with since only what was altered at that time or later, over what is known.
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
	out := []string{or(l.Groups.ID, "cn"), or(l.Groups.Title, "description")}
	if l.Groups.Members != ByMemberOf {
		out = append(out, or(l.Groups.Member, "member"))
	}
	return out
}

// search reads entries in pages (RFC 2696). A page that can't be read ends the whole reading: half of a directory is none.
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

// placeOf writes a distinguished name so that equal ones are equal texts (RFC 4514, names and values without regard to case).
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
			problem.Fault{Code: problem.MissingField, Path: e.DN, Found: "an entry without " + id, Expected: "the attribute that becomes its id"},
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
	if title := e.GetEqualFoldAttributeValue(or(r.Groups.Title, "description")); title != "" {
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
