// This file starts slapd, a real directory server, on a loopback port.

package service_test

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/wire"
)

// slapd is a directory server that runs.
type slapd struct {
	mu      sync.Mutex // held while it is started or killed
	t       testing.TB
	folder  string
	address string // host:port, where StartTLS is spoken
	secure  string // host:port of ldaps
	ca      string // PEM
	cmd     *exec.Cmd
}

const (
	baseDN  = "dc=larkfell,dc=example"
	adminDN = "cn=admin," + baseDN
	readDN  = "cn=reader," + baseDN
)

// run runs a tool and gives what it says.
func run(t testing.TB, input, name string, args ...string) string {
	t.Helper()
	c := exec.Command(name, args...)
	c.Stdin = strings.NewReader(input)
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

func freePort(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// startSlapd starts a server with the entries of an LDIF.
func startSlapd(t testing.TB, ldif string) *slapd {
	t.Helper()
	s := &slapd{t: t, folder: t.TempDir(), address: freePort(t), secure: freePort(t)}
	at := func(name string) string { return filepath.Join(s.folder, name) }
	run(
		t,
		"",
		"openssl",
		"req",
		"-x509",
		"-newkey",
		"ec",
		"-pkeyopt",
		"ec_paramgen_curve:prime256v1",
		"-nodes",
		"-keyout",
		at("key.pem"),
		"-out",
		at("cert.pem"),
		"-days",
		"30",
		"-subj",
		"/CN=directory.larkfell.example",
		"-addext",
		"subjectAltName=IP:127.0.0.1",
	)
	pem, err := os.ReadFile(at("cert.pem"))
	if err != nil {
		t.Fatal(err)
	}
	s.ca = string(pem)
	config := fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
pidfile %[1]s/slapd.pid
argsfile %[1]s/slapd.args
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
security simple_bind=128
sizelimit size.soft=500 size.hard=500 size.prtotal=unlimited
database mdb
maxsize 268435456
suffix "%[2]s"
rootdn "%[3]s"
rootpw %[5]s
directory %[1]s/data
index objectClass,entryUUID eq
index modifyTimestamp eq
overlay memberof
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="%[4]s" read by * none
`, s.folder, baseDN, adminDN, readDN, directorySecret)
	if err := os.Mkdir(at("data"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at("slapd.conf"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, ldif, "/usr/sbin/slapadd", "-q", "-f", at("slapd.conf"))
	s.start()
	t.Cleanup(s.kill)
	return s
}

func (s *slapd) start() {
	s.t.Helper()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cmd = exec.Command(
		"/usr/sbin/slapd",
		"-d",
		"0",
		"-f",
		filepath.Join(s.folder, "slapd.conf"),
		"-h",
		"ldap://"+s.address+" ldaps://"+s.secure,
	)
	var said bytes.Buffer
	s.cmd.Stderr = &said
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	deadline := time.Now().Add(3 * time.Minute)
	for {
		conn, err := net.Dial("tcp", s.secure)
		if err == nil {
			conn.Close()
			return
		}
		if time.Now().After(deadline) {
			s.t.Fatalf("slapd does not answer: %s", said.String())
		}
		time.Sleep(20 * time.Millisecond) // it says nowhere that it is ready
	}
}

func (s *slapd) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd != nil {
		s.cmd.Process.Kill()
		s.cmd.Wait()
		s.cmd = nil
	}
}

// modify alters entries as the administrator.
func (s *slapd) modify(ldif string) {
	s.t.Helper()
	c := exec.Command("ldapmodify", "-x", "-H", "ldaps://"+s.secure, "-D", adminDN, "-w", directorySecret)
	c.Env = append(os.Environ(), "LDAPTLS_CACERT="+filepath.Join(s.folder, "cert.pem"))
	c.Stdin = strings.NewReader(ldif)
	if out, err := c.CombinedOutput(); err != nil {
		s.t.Fatalf("ldapmodify: %v\n%s", err, out)
	}
}

// company is an LDIF of units, people in them and groups of people. Person i is in unit i modulo
// units.
func company(units, people, groups int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "dn: %s\nobjectClass: dcObject\nobjectClass: organization\ndc: larkfell\no: Larkfell Hydrographic\n\n", baseDN)
	fmt.Fprintf(
		&b,
		"dn: %s\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: %s\n\n",
		readDN,
		directorySecret,
	)
	for u := range units {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: organizationalUnit\nou: %s\ndescription: Site %d\n\n", unitDN(u), unitName(u), u)
	}
	for p := range people {
		fmt.Fprintf(
			&b,
			"dn: %s\nobjectClass: inetOrgPerson\nuid: person%d\ncn: Person %d\nsn: %d\nmail: person%d@larkfell.example\n"+
				"title: Surveyor\n\n",
			personDN(p, units),
			p,
			p,
			p,
			p,
		)
	}
	if groups > 0 {
		fmt.Fprintf(&b, "dn: ou=groups,%s\nobjectClass: organizationalUnit\nou: groups\n\n", baseDN)
	}
	for g := range groups {
		fmt.Fprintf(&b, "dn: cn=group%d,ou=groups,%s\nobjectClass: groupOfNames\ncn: group%d\ndescription: Group %d\n", g, baseDN, g, g)
		for p := g; p < people; p += groups {
			fmt.Fprintf(&b, "member: %s\n", personDN(p, units))
		}
		b.WriteString("\n")
	}
	return b.String()
}

func unitName(u int) string { return fmt.Sprintf("site%d", u) }

// unitDN puts every unit but the first below the first.
func unitDN(u int) string {
	if u == 0 {
		return "ou=site0," + baseDN
	}
	return fmt.Sprintf("ou=site%d,ou=site0,%s", u, baseDN)
}

func personDN(p, units int) string { return fmt.Sprintf("uid=person%d,%s", p, unitDN(p%units)) }

// source is the set-up that reads the company.
func (s *slapd) source(alter func(*directory.LDAP)) wire.NewSource {
	l := &directory.LDAP{
		Address: "ldap://" + s.address, Authority: s.ca, BindAs: readDN, Password: "directory", Base: baseDN, PageSize: 100,
		People: directory.LDAPPeople{Filter: "(objectClass=inetOrgPerson)", Attributes: map[string]string{"title": "title"}},
		Units:  directory.LDAPUnits{Filter: "(&(objectClass=organizationalUnit)(!(ou=groups)))"},
		Groups: directory.LDAPGroups{Filter: "(objectClass=groupOfNames)"},
	}
	if alter != nil {
		alter(l)
	}
	return wire.NewSource{ID: "company", Kind: "ldap", Title: "Company directory", SetUp: directory.SourceSetUp{LDAP: l}}
}
