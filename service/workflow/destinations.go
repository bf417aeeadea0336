// This file bounds which directories sources connect to, and with which passwords.
//
// Somebody who sets up sources decides where the service connects to. Without a bound they could
// have it send a directory's password to a host of their own, or probe the company's network. The
// operator of the service, who owns the folder of secrets, names what is allowed.

package workflow

import (
	"bufio"
	"cmp"
	"errors"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/directory"
)

// destinationsFile is the file in the folder of secrets that lists what sources may connect to. A
// line is HOST:PORT and the name of the password that is sent there; without a name, nobody signs
// in there. A PORT of * is every port. Empty lines and lines that begin with # are ignored.
const destinationsFile = "destinations"

// allowed refuses a set-up whose directory, with its password, the operator does not list.
func (s *SourceService) allowed(u SetUp) error {
	if u.LDAP == nil {
		return nil
	}
	refuse := func(expected string) error {
		found := problem.Quote(u.LDAP.Address) + " without a password"
		if u.LDAP.Password != "" {
			found = problem.Quote(u.LDAP.Address) + " with the password " + problem.Quote(u.LDAP.Password)
		}
		return problem.Faults{{Code: problem.UnknownReference, Path: "/ldap/address", Found: found, Expected: expected}}
	}
	if s.sources.secrets == "" {
		return refuse("a destination that the operator lists; the service runs without --secrets")
	}
	file, err := os.Open(filepath.Join(s.sources.secrets, destinationsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return refuse("a line HOST:PORT PASSWORD in the file " + destinationsFile + " of the folder of secrets, which is not there")
	}
	if err != nil {
		return err
	}
	defer file.Close()
	host, port := hostAndPort(u.LDAP)
	for lines := bufio.NewScanner(file); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) == 0 || len(fields) > 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		listed, any, err := net.SplitHostPort(fields[0])
		if err != nil || !strings.EqualFold(listed, host) || any != "*" && any != port {
			continue
		}
		if name := strings.Join(fields[1:], ""); name == u.LDAP.Password {
			return nil
		}
	}
	return refuse("a line " + strings.TrimSpace(net.JoinHostPort(host, port)+" "+u.LDAP.Password) +
		" in the file " + destinationsFile + " of the folder of secrets")
}

// hostAndPort gives where a directory is, with the port of its protocol where none is named.
func hostAndPort(l *directory.LDAP) (host, port string) {
	at, err := url.Parse(l.Address)
	if err != nil {
		return "", "" // Check refuses it
	}
	return at.Hostname(), cmp.Or(at.Port(), map[string]string{"ldaps": "636"}[at.Scheme], "389")
}
