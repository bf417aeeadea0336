package service_test

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// startWith starts a service of a configuration over a new database, and stops it in the end.
func startWith(t *testing.T, c service.Config) *service.Running {
	t.Helper()
	if c.Database == "" {
		c.Database = filepath.Join(t.TempDir(), "z.db")
	}
	if c.Address == "" {
		c.Address = "127.0.0.1:0"
	}
	running, err := service.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-done; err != nil && err != http.ErrServerClosed {
			t.Error(err)
		}
	})
	return running
}

// trusting gives a caller that trusts one certificate and no other.
func trusting(t *testing.T, certificate *x509.Certificate) *http.Client {
	t.Helper()
	pool := x509.NewCertPool()
	pool.AddCert(certificate)
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Transport: transport}
}

func TestPlainHTTPIsForLoopbackAlone(t *testing.T) {
	t.Parallel()
	for name, test := range map[string]struct {
		config service.Config
		says   string
	}{
		"plain":                     {service.Config{Address: "0.0.0.0:0"}, "plain HTTP is refused"},
		"self-signed":               {service.Config{Address: "0.0.0.0:0", TLS: service.TLS{SelfSigned: true}}, "loopback"},
		"a key alone":               {service.Config{TLS: service.TLS{Key: "k.pem"}}, "certificate"},
		"no such certificate":       {service.Config{TLS: service.TLS{Certificate: "none.pem", Key: "none.key"}}, "none.pem"},
		"a certificate and another": {service.Config{TLS: service.TLS{Certificate: "a", Key: "b", SelfSigned: true}}, "one of the two"},
	} {
		test.config.Database = filepath.Join(t.TempDir(), "z.db")
		if test.config.Address == "" {
			test.config.Address = "127.0.0.1:0"
		}
		if _, err := service.Start(test.config); err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: %v, expected that it says %q", name, err, test.says)
		}
	}
}

func TestOverTLS(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{TLS: service.TLS{SelfSigned: true}})
	api := &client.Client{Base: running.Address, HTTP: trusting(t, running.Certificate.Leaf)}
	set := wire.SetUp{Code: running.SetupCode, Name: "ines", Password: "a password of tests"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/setup", nil, set, nil); err != nil {
		t.Fatal(err)
	}
	header, err := api.Call(t.Context(), http.MethodPost, "/session", nil, wire.Credentials{Name: set.Name, Password: set.Password}, nil)
	if err != nil {
		t.Fatal(err)
	}
	cookies := strings.Join(header.Values("Set-Cookie"), "\n")
	if !strings.Contains(cookies, "__Host-zridge_session=") || strings.Count(cookies, "Secure") != 2 ||
		strings.Count(cookies, "HttpOnly") != 2 {
		t.Errorf("the cookies are %s", cookies)
	}
	if header.Get("Strict-Transport-Security") == "" || header.Get("Cross-Origin-Opener-Policy") != "same-origin" {
		t.Errorf("the headers are %v", header)
	}
	if _, err := api.SignIn(t.Context(), set.Name, set.Password, "tests", 1); err != nil {
		t.Errorf("a token: %v", err)
	}
	old := &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}
	if c, err := tls.Dial("tcp", strings.TrimPrefix(running.Address, "https://"), old); err == nil {
		c.Close()
		t.Error("TLS 1.1 is spoken")
	}
	if answer, err := http.Get("http://" + strings.TrimPrefix(running.Address, "https://") + "/api/v1/health"); err == nil {
		if answer.Body.Close(); answer.StatusCode != http.StatusBadRequest {
			t.Errorf("plain HTTP is answered %d", answer.StatusCode)
		}
	}
}

// certificateFor writes a certificate for a name with its key, in PEM.
func certificateFor(t *testing.T, folder, name string) (leaf *x509.Certificate, files service.TLS) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject:      pkix.Name{CommonName: name},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
		DNSNames:     []string{name},
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	files = service.TLS{Certificate: filepath.Join(folder, "server.pem"), Key: filepath.Join(folder, "server.key")}
	for file, block := range map[string]*pem.Block{files.Certificate: {Type: "CERTIFICATE", Bytes: der},
		files.Key: {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if leaf, err = x509.ParseCertificate(der); err != nil {
		t.Fatal(err)
	}
	return leaf, files
}

// A certificate that is replaced is used without a restart; half a replacement changes nothing.
func TestACertificateIsReplaced(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	first, files := certificateFor(t, folder, "first.example")
	running := startWith(t, service.Config{TLS: files})
	health := func(trusted *x509.Certificate) error {
		_, err := (&client.Client{Base: running.Address, HTTP: trusting(t, trusted)}).Call(t.Context(), http.MethodGet, "/health", nil, nil, nil)
		return err
	}
	if err := health(first); err != nil {
		t.Fatal(err)
	}
	second, _ := certificateFor(t, folder, "second.example")
	// the files are looked at once a second
	for deadline := time.Now().Add(time.Minute); health(second) != nil; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the new certificate is not used")
		}
	}
	if err := os.WriteFile(files.Key, []byte("no key"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := health(second); err != nil {
		t.Errorf("half a replacement: %v", err)
	}
}

func TestOtherHostsAreRefused(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{Hosts: []string{"ridge.larkfell.example"}})
	for host, status := range map[string]int{
		"127.0.0.1": 200, "localhost:8470": 200, "[::1]": 200, "ridge.larkfell.example": 200, "RIDGE.larkfell.example:80": 200,
		"stranger.example": 421, "ridge.larkfell.example.stranger.example": 421, "169.254.1.1": 421,
	} {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, running.Address+"/api/v1/health", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = host
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode != status {
			t.Errorf("%s is answered %d, expected %d", host, answer.StatusCode, status)
		}
	}
}

// What a proxy says is believed of a proxy that is named, of nobody else.
func TestProxiesAreBelievedByName(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		proxies []netip.Prefix
		secure  bool
	}{{nil, false}, {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, true}} {
		running := startWith(t, service.Config{Proxies: test.proxies})
		api := &client.Client{Base: running.Address}
		set := wire.SetUp{Code: running.SetupCode, Name: "ines", Password: "a password of tests"}
		if _, err := api.Call(t.Context(), http.MethodPost, "/setup", nil, set, nil); err != nil {
			t.Fatal(err)
		}
		header, err := api.Call(t.Context(), http.MethodPost, "/session", nil, wire.Credentials{Name: set.Name, Password: set.Password}, nil,
			"X-Forwarded-Proto", "https", "X-Forwarded-For", "198.51.100.1, 203.0.113.9")
		if err != nil {
			t.Fatal(err)
		}
		cookie := header.Get("Set-Cookie")
		if secure := strings.Contains(cookie, "__Host-"); secure != test.secure {
			t.Errorf("with the proxies %v the cookie is %s", test.proxies, cookie)
		}
		var log []wire.AuditRecord
		session, _, _ := strings.Cut(cookie, ";")
		if _, err := api.Call(
			t.Context(),
			http.MethodGet,
			"/audit",
			nil,
			nil,
			&log,
			"Cookie",
			session,
			"X-Forwarded-Proto",
			"https",
		); err != nil {
			t.Fatal(err)
		}
		want := map[bool]string{false: "from 127.0.0.1", true: "from 203.0.113.9"}[test.secure]
		if len(log) == 0 || log[0].Action != "sign in" || log[0].After != want || log[0].Request == "" {
			t.Errorf("the audit log begins with %+v, expected %s", log, want)
		}
	}
}

func TestOneServiceADatabase(t *testing.T) {
	t.Parallel()
	database := filepath.Join(t.TempDir(), "z.db")
	startWith(t, service.Config{Database: database})
	if _, err := service.Start(
		service.Config{Address: "127.0.0.1:0", Database: database},
	); err == nil ||
		!strings.Contains(err.Error(), "another service") {
		t.Errorf("a second service on the database: %v", err)
	}
	for _, file := range []string{database, database + "-wal", database + ".lock"} {
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", file, info, err)
		}
	}
	loose := filepath.Join(t.TempDir(), "loose.db")
	if err := os.WriteFile(loose, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := service.Start(
		service.Config{Address: "127.0.0.1:0", Database: loose},
	); err == nil ||
		!strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a database that others can read: %v", err)
	}
}

// An address has so many connections and no more; one that is closed makes room.
func TestConnectionsOfAnAddressAreCounted(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{Connections: 8})
	address := strings.TrimPrefix(running.Address, "http://")
	answers := func(c net.Conn) bool {
		fmt.Fprintf(c, "GET /api/v1/health HTTP/1.1\r\nHost: localhost\r\n\r\n")
		answer, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			return false
		}
		io.Copy(io.Discard, answer.Body)
		return answer.StatusCode == http.StatusOK
	}
	var first net.Conn
	for i := range 12 {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if got := answers(c); got != (i < 8) {
			t.Errorf("connection %d answers: %v", i, got)
		}
		if i == 0 {
			first = c
		}
	}
	behind := startWith(t, service.Config{Connections: 8, Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}})
	for i := range 12 {
		c, err := net.Dial("tcp", strings.TrimPrefix(behind.Address, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if !answers(c) {
			t.Errorf("connection %d of a proxy is closed", i)
		}
	}
	first.Close()
	for deadline := time.Now().Add(time.Minute); ; {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		there := answers(c)
		c.Close()
		if there {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal("a closed connection makes no room")
		}
	}
}

// A body that never comes does not hold its connection.
func TestABodyThatNeverComesIsNotWaitedForLong(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{})
	c, err := net.Dial("tcp", strings.TrimPrefix(running.Address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "POST /api/v1/changes HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n")
	c.SetReadDeadline(time.Now().Add(time.Minute))
	if _, err := io.Copy(io.Discard, c); err != nil {
		t.Errorf("the connection is still open after a minute: %v", err)
	}
}

// A stream of events ends with the token that it belongs to, and a token has a few of them.
func TestStreamsEndWithTheirToken(t *testing.T) {
	t.Parallel()
	api := bare(t)
	made, err := api.SignIn(t.Context(), "ines", "a password of tests", "streams", 1)
	if err != nil {
		t.Fatal(err)
	}
	stream := func() *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, api.Base+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+made.Secret)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		return answer
	}
	first := stream()
	if line, err := bufio.NewReader(first.Body).ReadString('\n'); err != nil {
		t.Fatal(line, err)
	}
	for range 7 {
		stream()
	}
	if text, err := io.ReadAll(stream().Body); err != nil || len(text) > 0 {
		t.Errorf("a ninth stream gives %q %v, expected that it ends at once", text, err)
	}
	if _, err := api.Call(t.Context(), http.MethodDelete, client.Path("tokens", made.ID), nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(io.Discard, first.Body); err != nil { // until it ends
		t.Error(err)
	}
}

// TestIdleStreamOverHTTP2: a stream on which nothing happens lasts until its next heartbeat.
func TestIdleStreamOverHTTP2(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{TLS: service.TLS{SelfSigned: true}})
	pool := x509.NewCertPool()
	pool.AddCert(running.Certificate.Leaf)
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}
	t.Cleanup(transport.CloseIdleConnections)
	caller := &http.Client{Transport: transport}
	api := firstAdministratorBy(t, caller, running.Address, running.SetupCode)
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, running.Address+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	answer, err := caller.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.ProtoMajor != 2 {
		t.Fatalf("the stream comes over %s", answer.Proto)
	}
	beats := 0
	lines := bufio.NewScanner(answer.Body)
	for beats < 2 && lines.Scan() {
		if lines.Text() == "event: alive" {
			beats++
		}
	}
	if beats < 2 {
		t.Errorf("the stream ended after %d heartbeats: %v", beats, lines.Err())
	}
}

// TestHeadersOfEveryAnswer asks each interface, as somebody who is not signed in.
func TestHeadersOfEveryAnswer(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{})
	for _, path := range []string{"/", "/policies", "/api/v1/health", "/api/v1/devices", "/scim/v2/Users", "/dm", "/enrol", "/nowhere.js"} {
		for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodTrace} {
			r, err := http.NewRequestWithContext(t.Context(), method, running.Address+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			r.Header.Set("X-Told", "back")
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(answer.Body)
			answer.Body.Close()
			if err != nil {
				t.Fatal(err)
			}
			if method == http.MethodTrace && (answer.StatusCode < 400 || strings.Contains(string(text), "X-Told")) {
				t.Errorf("TRACE %s is answered %d %.100s", path, answer.StatusCode, text)
			}
			policy, kept := answer.Header.Get("Content-Security-Policy"), answer.Header.Get("Cache-Control")
			if strings.Contains(policy, "unsafe") || !strings.Contains(policy, "default-src 'self'") ||
				!strings.Contains(policy, "object-src 'none'") ||
				answer.Header.Get("X-Content-Type-Options") != "nosniff" || answer.Header.Get("Referrer-Policy") != "no-referrer" {
				t.Errorf("%s %s has the headers %v", method, path, answer.Header)
			}
			if page := answer.StatusCode == http.StatusOK && strings.HasPrefix(answer.Header.Get("Content-Type"), "text/html"); !page &&
				kept != "no-store" {
				t.Errorf("%s %s, answered %d, may be kept: %q", method, path, answer.StatusCode, kept)
			}
			for _, header := range []string{"Server", "X-Powered-By", "Access-Control-Allow-Origin"} {
				if answer.Header.Get(header) != "" {
					t.Errorf("%s %s says %s: %s", method, path, header, answer.Header.Get(header))
				}
			}
		}
	}
}
