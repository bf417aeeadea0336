// This file has the set-up of directory servers (LDAP, RFC 4511) and connects to them, encrypted
// always.

package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// LDAP says how a directory is read. The password of the account is not part of it: Password names
// a file of the service's folder of secrets.
type LDAP struct {
	Address   string     `json:"address" maxLength:"300" doc:"ldaps://HOST:PORT, or ldap://HOST:PORT, which is encrypted with StartTLS before anything else is sent"`
	Authority string     `json:"authority,omitempty" maxLength:"100000" doc:"The certificates that may vouch for the server, as PEM; those that the system trusts where it is left out"`
	BindAs    string     `json:"bind_as,omitempty" maxLength:"500" doc:"The distinguished name of the account that reads; nobody where it is left out"`
	Password  string     `json:"password,omitempty" maxLength:"128" doc:"The name of the file with the account's password, in the service's folder of secrets"`
	Base      string     `json:"base" maxLength:"500" doc:"Where to look, as a distinguished name"`
	PageSize  int        `json:"page_size,omitempty" doc:"Entries a page; 500 where it is left out" minimum:"10" maximum:"1000"`
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

// LDAPUnits says which entries are units. A unit's parent is the nearest entry above it that is a
// unit, a person's unit too.
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
	Members string `json:"members,omitempty" doc:"member: groups list people; memberOf: people list groups" enum:"member,memberOf"`
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
	for name, filter := range map[string]string{"people/filter": l.People.Filter, "units/filter": l.Units.Filter,
		"groups/filter": l.Groups.Filter} {
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
