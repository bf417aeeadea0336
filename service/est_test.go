// This file enrols laptops by certificate: with our own client, and with openssl and curl.

package service_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/ca"
)

// enrolling is a service over TLS with three laptops.
type enrolling struct {
	*client.Client
	trusted *http.Client   // trusts the service, and shows no certificate
	roots   *x509.CertPool // that trust it
	folder  string         // with ca.pem, which trusts it
}

func enrollingWith(t *testing.T, life time.Duration) *enrolling {
	t.Helper()
	return enrollingAt(t, service.Config{Authority: ca.Config{Life: life}})
}

func enrollingAt(t *testing.T, c service.Config) *enrolling {
	t.Helper()
	folder := t.TempDir()
	leaf, files := certificateFor(t, folder, "localhost")
	c.TLS, c.Database = files, filepath.Join(folder, "z.db")
	running := startWith(t, c)
	trusted := trusting(t, leaf)
	e := &enrolling{firstAdministratorBy(t, trusted, running.Address, running.SetupCode), trusted, x509.NewCertPool(), folder}
	e.roots.AddCert(leaf)
	publishEstate(t, e.Client, `{"units":[{"id":"r"},{"id":"labs","parent":"r"}],"people":[{"id":"ada"}],"devices":[
	 {"id":"L0","serial":"S0","os":"linux","os_version":"12"},{"id":"L1","serial":"S1","os":"linux","os_version":"12","owner":"ada","unit":"labs"},
	 {"id":"L2","serial":"S2","os":"linux","os_version":"12","unit":"labs"}],
	 "policies":[{"id":"p","kind":"security","settings":{"screen.lock_after_minutes":7},"audience":{"include":["everyone"]}}]}`)
	return e
}

// invites gives the codes of an invitation.
func (e *enrolling) invites(t *testing.T, in wire.NewInvitation) []string {
	t.Helper()
	return posted[wire.Invitation](t, e.Client, "/invitations", in).Codes
}

func requestOf(t *testing.T, serial, model string) endpoint.Request {
	t.Helper()
	r, err := endpoint.NewRequest(serial, model)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// enrols enrols a laptop that must be let in.
func (e *enrolling) enrols(t *testing.T, device, code string, r endpoint.Request) *endpoint.Certified {
	t.Helper()
	c, err := endpoint.EnrolByCertificate(t.Context(), e.trusted, e.Base, device, code, r)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// laptop gives a laptop that shows its certificate.
func (e *enrolling) laptop(t *testing.T, c *endpoint.Certified) (*endpoint.Laptop, *endpoint.Memory) {
	t.Helper()
	caller, err := c.Client(e.roots)
	if err != nil {
		t.Fatal(err)
	}
	m := &endpoint.Memory{}
	return endpoint.New(e.Base, caller, endpoint.Identity{Device: c.Device}, m), m
}

// sent sends a body to an operation of EST and gives the status of the answer.
func (e *enrolling) sent(t *testing.T, caller *http.Client, method, operation, user, code, kind string, body []byte) (int,
	http.Header, string) {
	t.Helper()
	path := "/.well-known/" + operation
	if strings.HasPrefix(operation, "/") {
		path = operation
	}
	r, err := http.NewRequestWithContext(t.Context(), method, e.Base+path, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	if code != "" {
		r.SetBasicAuth(user, code)
	}
	a, err := caller.Do(r)
	if err != nil {
		return 0, nil, err.Error()
	}
	defer a.Body.Close()
	data, err := io.ReadAll(a.Body)
	if err != nil {
		t.Fatal(err)
	}
	return a.StatusCode, a.Header, string(data)
}

func inBase64(der []byte) []byte { return []byte(base64.StdEncoding.EncodeToString(der)) }

// TestALaptopEnrolsByCertificate: from an invitation to a session over mutual TLS, and out again.
func TestALaptopEnrolsByCertificate(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	code := e.invites(t, wire.NewInvitation{Device: "L0"})[0]
	c := e.enrols(t, "L0", code, requestOf(t, "S0", ""))
	l, m := e.laptop(t, c)
	checkIn(t, l)
	if v := m.Reported()[setting.ID("screen.lock_after_minutes")]; v.Integer() != 7 {
		t.Errorf("the laptop has %v", v)
	}
	list := get[[]wire.LaptopCertificate](t, e.Client, "/devices/L0/certificates")
	if len(list) != 1 || list[0].State != "counts" || list[0].UsedAt == nil {
		t.Errorf("certificates %+v", list)
	}
	if page := get[wire.DevicePage](t, e.Client, "/devices/L0"); !page.Device.Enrolled || page.Device.LastSeen == nil {
		t.Errorf("the laptop is %+v", page.Device)
	}
	// It cannot speak for another laptop, and nobody speaks for it without the certificate.
	other := *l
	other.Device = "L1"
	if _, err := other.CheckIn(t.Context()); err == nil || !strings.Contains(err.Error(), "403") {
		t.Errorf("as another laptop: %v", err)
	}
	bare := endpoint.New(e.Base, e.trusted, endpoint.Identity{Device: "L0"}, m)
	if _, err := bare.CheckIn(t.Context()); err == nil || !strings.Contains(err.Error(), "403") {
		t.Errorf("without a certificate: %v", err)
	}
	if status, _, _ := e.sent(t, e.trusted, http.MethodPost, "/enrol", "", "", "application/json",
		[]byte(`{}`)); status != http.StatusForbidden {
		t.Errorf("enrolling by a secret is answered %d", status)
	}
	// A lost laptop is out at its next message, on the connection that it holds and on a new one.
	posted[wire.Revoked](t, e.Client, "/devices/L0/revocation", wire.Revocation{Reason: "Left on the ferry"})
	if _, err := l.CheckIn(t.Context()); err == nil || !strings.Contains(err.Error(), "403") {
		t.Errorf("after it was revoked: %v", err)
	}
	again, _ := e.laptop(t, c)
	if _, err := again.CheckIn(t.Context()); err == nil {
		t.Error("it is let in over a new connection")
	}
	// With a new invitation it comes back, and gets all of its settings anew.
	c = e.enrols(t, "", e.invites(t, wire.NewInvitation{Device: "L0"})[0], requestOf(t, "", ""))
	l, m = e.laptop(t, c)
	if out := checkIn(t, l); out.Applied != 1 || len(m.Reported()) != 1 {
		t.Errorf("when it is back: %v, %v", out, m.Reported())
	}
}

// TestCodes: each code is good for one laptop, once, until it expires or is withdrawn.
func TestCodes(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	enrol := func(user, code string, r endpoint.Request) (status int) {
		status, _, _ = e.sent(t, e.trusted, http.MethodPost, "est/simpleenroll", user, code, "application/pkcs10", inBase64(r.DER))
		return status
	}
	first, second := requestOf(t, "S0", ""), requestOf(t, "S0", "")
	code := e.invites(t, wire.NewInvitation{Device: "L0"})[0]
	steps := []struct {
		name, user, code string
		request          endpoint.Request
		want             int
	}{
		{"for another laptop", "L1", code, requestOf(t, "", ""), 401},
		{"with another serial number", "L0", code, requestOf(t, "S9", ""), 401},
		{"an unknown code", "L0", "nothing", first, 401},
		{"the first", "L0", code, first, 200},
		{"the same again: the answer was lost", "L0", code, first, 200},
		{"another request with the code", "L0", code, second, 401},
	}
	for _, s := range steps {
		if got := enrol(s.user, s.code, s.request); got != s.want {
			t.Errorf("%s: %d, expected %d", s.name, got, s.want)
		}
	}
	made := posted[wire.Invitation](t, e.Client, "/invitations", wire.NewInvitation{Person: "ada"})
	if got := enrol("L2", made.Codes[0], requestOf(t, "", "")); got != 401 {
		t.Errorf("a laptop of somebody else: %d", got)
	}
	if _, err := e.Call(t.Context(), http.MethodDelete, "/invitations/"+made.ID, nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if got := enrol("L1", made.Codes[0], requestOf(t, "", "")); got != 401 {
		t.Errorf("a withdrawn code: %d", got)
	}
	// Of many requests with one code exactly one wins.
	code = e.invites(t, wire.NewInvitation{Device: "L2"})[0]
	var wait sync.WaitGroup
	won := make([]bool, 8)
	for i := range won {
		r := requestOf(t, "S2", "")
		wait.Go(func() { won[i] = enrol("L2", code, r) == 200 })
	}
	wait.Wait()
	if n := strings.Count(fmt.Sprint(won), "true"); n != 1 {
		t.Errorf("%d of 8 requests with one code won", n)
	}
	// After many refusals an address waits, with a good code, too.
	code = e.invites(t, wire.NewInvitation{Device: "L0"})[0]
	for range 20 {
		enrol("L0", "guess", first)
	}
	status, header, _ := e.sent(t, e.trusted, http.MethodPost, "est/simpleenroll", "L0", code, "application/pkcs10", inBase64(first.DER))
	if status != http.StatusTooManyRequests || header.Get("Retry-After") == "" {
		t.Errorf("after 20 refusals: %d, Retry-After %q", status, header.Get("Retry-After"))
	}
}

// TestLaptopsOfAUnit: several laptops enrol with one invitation, new ones among them, each approved by somebody.
func TestLaptopsOfAUnit(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	codes := e.invites(t, wire.NewInvitation{Unit: "labs", Laptops: 3, Makes: true, Approval: true})
	known, fresh := requestOf(t, "S2", ""), requestOf(t, "NEW-77", "Halyard 16")
	var waits *endpoint.WaitError
	for i, r := range []endpoint.Request{known, fresh} {
		if _, err := endpoint.EnrolByCertificate(t.Context(), e.trusted, e.Base, "", codes[i], r); !errors.As(err, &waits) {
			t.Fatalf("before it is approved: %v", err)
		}
	}
	status, _, _ := e.sent(t, e.trusted, http.MethodPost, "est/simpleenroll", "", codes[0], "application/pkcs10",
		inBase64(requestOf(t, "S2", "").DER))
	if status != http.StatusConflict {
		t.Errorf("another request with a code that waits: %d", status)
	}
	list := get[[]wire.WaitingLaptop](t, e.Client, "/waiting-laptops")
	if len(list) != 2 || list[0].Device != "L2" || list[0].New || !list[1].New || list[1].Model != "Halyard 16" {
		t.Fatalf("waiting %+v", list)
	}
	for i, w := range list {
		posted[struct{}](t, e.Client, client.Path("waiting-laptops", w.ID, "decision"), wire.EnrolmentDecision{Approve: i == 1})
	}
	if _, err := endpoint.EnrolByCertificate(t.Context(), e.trusted, e.Base, "", codes[0], known); err == nil || errors.As(err, &waits) {
		t.Errorf("what was refused: %v", err)
	}
	c := e.enrols(t, "", codes[1], fresh)
	l, m := e.laptop(t, c)
	checkIn(t, l)
	page := get[wire.DevicePage](t, e.Client, "/devices/"+c.Device)
	if c.Device != "LT-NEW-77" || page.Device.Model != "Halyard 16" || page.Device.Unit != "labs" || len(m.Reported()) != 1 {
		t.Errorf("%s is %+v, has %v", c.Device, page.Device, m.Reported())
	}
	// Reinstalled, it is the same laptop: its serial number says so.
	again := e.invites(t, wire.NewInvitation{Unit: "labs", Makes: true})[0]
	if c2 := e.enrols(t, "", again, requestOf(t, "NEW-77", "Halyard 16")); c2.Device != c.Device {
		t.Errorf("reinstalled it is %s", c2.Device)
	}
	if _, err := l.CheckIn(t.Context()); err == nil {
		t.Error("the certificate from before counts")
	}
	// An invitation that adds nothing refuses a laptop that is not there.
	code := e.invites(t, wire.NewInvitation{Unit: "labs"})[0]
	status, _, _ = e.sent(t, e.trusted, http.MethodPost, "est/simpleenroll", "", code, "application/pkcs10",
		inBase64(requestOf(t, "OTHER", "").DER))
	if status != http.StatusForbidden {
		t.Errorf("a laptop that is not there: %d", status)
	}
}

// TestRenewal: a certificate is renewed with itself, and the one before counts until the new one is used.
func TestRenewal(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, time.Minute) // with the five minutes before, two thirds are over
	c := e.enrols(t, "L0", e.invites(t, wire.NewInvitation{Device: "L0"})[0], requestOf(t, "", ""))
	l, _ := e.laptop(t, c)
	checkIn(t, l)
	caller, err := c.Client(e.roots)
	if err != nil {
		t.Fatal(err)
	}
	stranger := requestOf(t, "OTHER", "")
	if status, _, _ := e.sent(t, caller, http.MethodPost, "est/simplereenroll", "", "", "application/pkcs10",
		inBase64(stranger.DER)); status != http.StatusBadRequest {
		t.Errorf("for another subject: %d", status)
	}
	next, err := c.Renew(t.Context(), caller, e.Base)
	if err != nil {
		t.Fatal(err)
	}
	was, is := parsed(t, c.Certificate), parsed(t, next.Certificate)
	if is.Subject.String() != was.Subject.String() || is.URIs[0].String() != was.URIs[0].String() ||
		is.SerialNumber.Cmp(was.SerialNumber) == 0 {
		t.Errorf("it was %v %v, and is %v %v", was.Subject, was.URIs, is.Subject, is.URIs)
	}
	checkIn(t, l) // the new one was not used yet
	l2, _ := e.laptop(t, next)
	checkIn(t, l2)
	if _, err := l.CheckIn(t.Context()); err == nil {
		t.Error("the old certificate counts though the new one is used")
	}
	if status, _, _ := e.sent(t, e.trusted, http.MethodPost, "est/simplereenroll", "", "", "application/pkcs10",
		inBase64(stranger.DER)); status != http.StatusForbidden {
		t.Errorf("without a certificate: %d", status)
	}

	early := enrollingWith(t, 0)
	c = early.enrols(t, "L0", early.invites(t, wire.NewInvitation{Device: "L0"})[0], requestOf(t, "", ""))
	if caller, err = c.Client(early.roots); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Renew(t.Context(), caller, early.Base); err == nil || !strings.Contains(err.Error(), "403") {
		t.Errorf("before two thirds of its validity: %v", err)
	}
}

func parsed(t *testing.T, der []byte) *x509.Certificate {
	t.Helper()
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestBadRequestsForCertificates: what is not right is refused with its status, and uses no code up.
func TestBadRequestsForCertificates(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	code := e.invites(t, wire.NewInvitation{Device: "L0"})[0]
	good := requestOf(t, "S0", "")
	broken := bytes.Clone(good.DER)
	broken[len(broken)-1] ^= 1
	csr := func(key any, algorithm x509.SignatureAlgorithm) []byte {
		der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{SignatureAlgorithm: algorithm}, key)
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
	p521, err := ecdsa.GenerateKey(elliptic.P521(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	short, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	const kind = "application/pkcs10"
	for _, x := range []struct {
		name, method, operation, code, kind string
		body                                []byte
		want                                int
	}{
		{"no credentials", http.MethodPost, "est/simpleenroll", "", kind, inBase64(good.DER), 401},
		{"another content type", http.MethodPost, "est/simpleenroll", code, "text/plain", inBase64(good.DER), 415},
		{"too long", http.MethodPost, "est/simpleenroll", code, kind, bytes.Repeat([]byte("A"), 65<<10), 413},
		{"no base64", http.MethodPost, "est/simpleenroll", code, kind, []byte("!!!"), 400},
		{"no request", http.MethodPost, "est/simpleenroll", code, kind, inBase64([]byte("nothing")), 400},
		{"a broken signature", http.MethodPost, "est/simpleenroll", code, kind, inBase64(broken), 400},
		{"another curve", http.MethodPost, "est/simpleenroll", code, kind, inBase64(csr(p521, x509.ECDSAWithSHA256)), 400},
		{"a short key", http.MethodPost, "est/simpleenroll", code, kind, inBase64(csr(short, x509.SHA256WithRSA)), 400},
		{"another method", http.MethodGet, "est/simpleenroll", code, "", nil, 405},
		{"keys of the service", http.MethodPost, "est/serverkeygen", "", kind, nil, 501},
		{"full requests", http.MethodPost, "est/fullcmc", "", kind, nil, 501},
		{"a label", http.MethodGet, "est/laptops/cacerts", "", "", nil, 404},
		{"an unknown operation", http.MethodGet, "est/nothing", "", "", nil, 404},
		{"the authority", http.MethodGet, "est/cacerts", "", "", nil, 200},
		{"attributes of requests", http.MethodGet, "est/csrattrs", "", "", nil, 200},
		{"what is right", http.MethodPost, "est/simpleenroll", code, kind, []byte(wrapped(inBase64(good.DER))), 200},
	} {
		status, header, body := e.sent(t, e.trusted, x.method, x.operation, "L0", x.code, x.kind, x.body)
		if status != x.want {
			t.Errorf("%s: %d %.200s, expected %d", x.name, status, body, x.want)
		}
		if status == 405 && header.Get("Allow") != http.MethodPost {
			t.Errorf("%s: allows %q", x.name, header.Get("Allow"))
		}
		if status == 401 && !strings.HasPrefix(header.Get("WWW-Authenticate"), "Basic") {
			t.Errorf("%s: asks for %q", x.name, header.Get("WWW-Authenticate"))
		}
	}
}

// wrapped breaks a text into lines as mail does.
func wrapped(text []byte) string {
	var out strings.Builder
	for len(text) > 0 {
		n := min(76, len(text))
		out.Write(text[:n])
		out.WriteString("\r\n")
		text = text[n:]
	}
	return out.String()
}

// TestWithOpenSSL enrols with openssl and curl alone, and looks at what comes back.
func TestWithOpenSSL(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	code := e.invites(t, wire.NewInvitation{Device: "L0"})[0]
	run := func(script string) string {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		command := exec.CommandContext(ctx, "bash", "-euo", "pipefail", "-c", script)
		command.Dir = e.folder
		command.Env = append(os.Environ(), "BASE="+e.Base, "CODE="+code)
		out, err := command.CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return string(out)
	}
	run(`openssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out laptop.key 2>/dev/null
		openssl req -new -sha256 -key laptop.key -subj "/CN=whatever/serialNumber=S0" -outform DER -out laptop.csr
		curl -sf --cacert server.pem "$BASE/.well-known/est/cacerts" | openssl base64 -d | openssl pkcs7 -inform DER -print_certs -out authority.chain
		openssl base64 -in laptop.csr | curl -sf --cacert server.pem -u "L0:$CODE" -H "Content-Type: application/pkcs10" --data-binary @- "$BASE/.well-known/est/simpleenroll" > answer
		openssl base64 -d -in answer | openssl pkcs7 -inform DER -print_certs -out laptop.pem`)
	text := run(`openssl verify -purpose sslclient -CAfile authority.chain laptop.pem; openssl x509 -in laptop.pem -noout -text`)
	for _, want := range []string{
		"laptop.pem: OK", "Subject: CN = L0\n", "URI:urn:uuid:", "Digital Signature", "TLS Web Client Authentication", "CA:FALSE",
		"X509v3 Subject Key Identifier",
		"X509v3 Authority Key Identifier", "/.well-known/crl", "ecdsa-with-SHA256",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("the certificate lacks %q:\n%s", want, text)
		}
	}
	greeting := message("L0", "1", "1", "", `<Alert><CmdID>1</CmdID><Data>1201</Data></Alert><Final/>`)
	if err := os.WriteFile(filepath.Join(e.folder, "greeting.xml"), []byte(greeting), 0o600); err != nil {
		t.Fatal(err)
	}
	post := `curl -s -o answer.xml -w "%{http_code}" --cacert server.pem --cert laptop.pem --key laptop.key -H "Content-Type: application/vnd.syncml.dm+xml" --data-binary @greeting.xml "$BASE/dm"`
	if status := run(post); status != "200" || !strings.Contains(run("cat answer.xml"), "./Device/ZenithRidge/Digest") {
		t.Errorf("the first message is answered %s: %s", status, run("cat answer.xml"))
	}
	posted[wire.Revoked](t, e.Client, "/devices/L0/revocation", wire.Revocation{Reason: "lost"})
	if status := run(post + " || true"); status == "200" {
		t.Error("a revoked certificate is let in")
	}
	list := run(`curl -sf --cacert server.pem "$BASE/.well-known/crl" -o list.crl; openssl crl -inform DER -in list.crl -CAfile authority.chain -noout -text 2>&1
		openssl x509 -in laptop.pem -noout -serial`)
	serial := strings.TrimSpace(list[strings.LastIndex(list, "serial=")+len("serial="):])
	if !strings.Contains(list, "verify OK") || !strings.Contains(list, "Serial Number: "+serial) {
		t.Errorf("the list of what is revoked:\n%s", list)
	}
}
