package service_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// throughNginx starts nginx with the configuration of the documentation in front of a service, and
// gives a client that reaches the service through it by the name of the documentation.
func throughNginx(t *testing.T, behind, authority string) (over *http.Client, plainPort string) {
	t.Helper()
	const name = "ridge.larkfell.example"
	folder := t.TempDir()
	certificate, files := certificateFor(t, folder, name)
	text, err := os.ReadFile("../docs/proxy/nginx.conf")
	if err != nil {
		t.Fatal(err)
	}
	_, securePort, _ := net.SplitHostPort(freePort(t))
	_, plainPort, _ = net.SplitHostPort(freePort(t))
	var replaced []string
	for from, to := range map[string]string{
		"listen 443 ":                 "listen 127.0.0.1:" + securePort + " ",
		"listen 80;":                  "listen 127.0.0.1:" + plainPort + ";",
		"http://127.0.0.1:8470":       behind,
		"/etc/zridge/certificate.pem": files.Certificate,
		"/etc/zridge/key.pem":         files.Key,
		"/etc/zridge/authority.pem":   authority,
	} {
		if strings.Count(string(text), from) != 1 {
			t.Fatalf("the documentation's configuration has %q %d times", from, strings.Count(string(text), from))
		}
		replaced = append(replaced, from, to)
	}
	at := func(file string) string { return filepath.Join(folder, file) }
	config := fmt.Sprintf("daemon off;\nmaster_process off;\npid %s;\nerror_log %s notice;\nevents {}\nhttp {\naccess_log off;\n",
		at("pid"), at("errors"))
	for _, kind := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		config += kind + "_temp_path " + at(kind) + ";\n"
	}
	config += strings.NewReplacer(replaced...).Replace(string(text)) + "}\n"
	if err := os.WriteFile(at("nginx.conf"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	proxy := exec.Command("/usr/sbin/nginx", "-c", at("nginx.conf"), "-p", folder, "-e", at("errors"))
	var said bytes.Buffer
	proxy.Stdout, proxy.Stderr = &said, &said
	if err := proxy.Start(); err != nil {
		t.Fatal(err)
	}
	exited := make(chan struct{})
	go func() { proxy.Wait(); close(exited) }()
	t.Cleanup(func() { proxy.Process.Kill(); <-exited })
	over = trusting(t, certificate)
	transport := over.Transport.(*http.Transport)
	transport.TLSClientConfig.ServerName = name
	transport.ForceAttemptHTTP2 = true
	transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
		for { // nginx says nothing when it is ready: the port is tried until it is open, or nginx has ended
			c, err := (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+securePort)
			if err == nil {
				return c, nil
			}
			select {
			case <-exited:
				return nil, fmt.Errorf("nginx ended: %s", said.String())
			case <-ctx.Done():
				return nil, ctx.Err()
			default:
			}
		}
	}
	return over, plainPort
}

// TestBehindNginx uses the service as people, programs and laptops do, through nginx with the
// configuration of docs/proxy.
func TestBehindNginx(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	running := startWith(t, service.Config{
		Database: filepath.Join(data, "z.db"),
		Proxies:  []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")},
		Hosts:    []string{"ridge.larkfell.example"},
		Day:      "2026-11-23",
	})
	over, plainPort := throughNginx(t, running.Address, filepath.Join(data, "authority.pem"))
	const base = "https://ridge.larkfell.example"
	api := &client.Client{Base: base, HTTP: over}
	set := wire.SetUp{Code: running.SetupCode, Name: "ines", Password: "a password of tests"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/setup", nil, set, nil); err != nil {
		t.Fatal(err)
	}

	// Somebody signs in, and claims to come from elsewhere: nginx says from where they come.
	header, err := api.Call(t.Context(), http.MethodPost, "/session", nil, wire.Credentials{Name: set.Name, Password: set.Password}, nil,
		"X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto", "http")
	if err != nil {
		t.Fatal(err)
	}
	cookie := header.Get("Set-Cookie")
	if !strings.HasPrefix(cookie, "__Host-") || !strings.Contains(cookie, "Secure") || header.Get("Strict-Transport-Security") == "" {
		t.Errorf("over TLS the cookie is %q, and the header for it %q", cookie, header.Get("Strict-Transport-Security"))
	}
	token, err := api.SignIn(t.Context(), set.Name, set.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	api.Token = token.Secret
	for _, r := range get[[]wire.AuditRecord](t, api, "/audit?action=sign+in") {
		if r.After != "from 127.0.0.1" {
			t.Errorf("the audit log has the address that the client claimed: %+v", r)
		}
	}

	// Events come when they happen.
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, base+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+api.Token)
	events, err := over.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer events.Body.Close()
	if events.ProtoMajor != 2 {
		t.Errorf("the events come over %s", events.Proto)
	}
	publishEstate(t, api, smallEstate)
	lines := bufio.NewScanner(events.Body)
	for lines.Scan() && !strings.Contains(lines.Text(), `"topic":"change"`) {
	}
	if lines.Err() != nil {
		t.Errorf("the event stream ended: %v", lines.Err())
	}

	// A file larger than what nginx takes by itself, and a laptop.
	status, _, body := sentOver(t, over, http.MethodPost, base+"/api/v1/files?name=large.bin&content=any", api.Token,
		bytes.Repeat([]byte("x"), 5<<20))
	if status/100 != 2 {
		t.Errorf("a file of 5 MiB: %d %s", status, body)
	}
	code := posted[wire.Invitation](t, api, "/invitations", wire.NewInvitation{Device: "LT-1"}).Codes[0]
	certified, err := endpoint.EnrolByCertificate(t.Context(), over, base, "LT-1", code, requestOf(t, "S1", ""))
	if err != nil {
		t.Fatal(err)
	}
	shows, err := certified.Client(nil)
	if err != nil {
		t.Fatal(err)
	}
	shown, plain := shows.Transport.(*http.Transport), over.Transport.(*http.Transport)
	shown.TLSClientConfig.RootCAs, shown.TLSClientConfig.ServerName = plain.TLSClientConfig.RootCAs, plain.TLSClientConfig.ServerName
	shown.DialContext = plain.DialContext
	laptop := endpoint.New(base, shows, endpoint.Identity{Device: "LT-1"}, &endpoint.Memory{})
	if _, err := laptop.CheckIn(t.Context()); err != nil {
		t.Errorf("a laptop checks in: %v", err)
	}
	// Nobody shows a certificate in a header: nginx replaces what a client sends.
	header64 := ":" + base64.StdEncoding.EncodeToString(certified.Certificate) + ":"
	forged, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/dm",
		strings.NewReader(message("LT-1", "1", "1", "", "<Final/>")))
	if err != nil {
		t.Fatal(err)
	}
	forged.Header.Set("Client-Cert", header64)
	forged.Header.Set("Content-Type", "application/vnd.syncml.dm+xml")
	if a, err := over.Do(forged); err != nil || a.StatusCode != http.StatusForbidden {
		t.Errorf("a certificate in a header of the client: %v %v", a.Status, err)
	} else {
		a.Body.Close()
	}
	posted[wire.Revoked](t, api, "/devices/LT-1/revocation", wire.Revocation{Reason: "lost"})
	if _, err := laptop.CheckIn(t.Context()); err == nil {
		t.Error("a revoked certificate is let in through nginx")
	}

	// Over plain HTTP there is nothing but the way to HTTPS.
	answer, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Get(
		(&url.URL{Scheme: "http", Host: "127.0.0.1:" + plainPort, Path: "/policies"}).String())
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusMovedPermanently || !strings.HasPrefix(answer.Header.Get("Location"), "https://") {
		t.Errorf("plain HTTP: %d to %s", answer.StatusCode, answer.Header.Get("Location"))
	}
	if old, err := tls.Dial("tcp", "127.0.0.1:"+portOf(t, over),
		&tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		old.Close()
		t.Error("TLS 1.1 is taken")
	}
}

// portOf gives the port that a client of throughNginx connects to.
func portOf(t *testing.T, over *http.Client) string {
	t.Helper()
	c, err := over.Transport.(*http.Transport).DialContext(t.Context(), "tcp", "")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, port, _ := net.SplitHostPort(c.RemoteAddr().String())
	return port
}

// sentOver sends bytes with a token, and gives status and body.
func sentOver(t *testing.T, over *http.Client, method, address, token string, body []byte) (int, http.Header, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, address, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/octet-stream")
	answer, err := over.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, answer.Header, string(text)
}
