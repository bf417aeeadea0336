package service_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/acme"

	"zenithridge.example/zridge/service"
)

// authority is a small certificate authority that speaks RFC 8555. It verifies signatures and asks
// the service by tls-alpn-01 (RFC 8737), at an address instead of by its name.
type authority struct {
	t *testing.T
	*httptest.Server
	root    *x509.Certificate
	rootKey *ecdsa.PrivateKey
	trust   string        // file with the certificate of its server
	known   chan struct{} // closed once serves is set

	mu      sync.Mutex
	serves  string // host:port of the service
	refuses bool
	nonces  map[string]bool
	account *ecdsa.PublicKey
	orders  []*order
}

type order struct {
	host, token string
	valid       bool
	chain       []byte
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "made up"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour * 24 * 100), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	root, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	a := &authority{t: t, root: root, rootKey: key, known: make(chan struct{}), nonces: map[string]bool{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /directory", func(w http.ResponseWriter, _ *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.answer(w, http.StatusOK, map[string]any{
			"newNonce": a.URL + "/nonce", "newAccount": a.URL + "/account", "newOrder": a.URL + "/order",
			"revokeCert": a.URL + "/revoke", "keyChange": a.URL + "/key",
		})
	})
	mux.HandleFunc("HEAD /nonce", func(w http.ResponseWriter, _ *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.answer(w, http.StatusOK, nil)
	})
	mux.HandleFunc("POST /account", a.signed(func(w http.ResponseWriter, _ *http.Request, _ []byte) {
		w.Header().Set("Location", a.URL+"/account/1")
		a.answer(w, http.StatusCreated, map[string]any{"status": "valid"})
	}))
	mux.HandleFunc("POST /order", a.signed(a.newOrder))
	mux.HandleFunc("POST /order/{n}", a.signed(func(w http.ResponseWriter, r *http.Request,
		_ []byte) {
		a.answerOrder(w, http.StatusOK, a.orderOf(r))
	}))
	mux.HandleFunc("POST /order/{n}/authz", a.signed(a.authorization))
	mux.HandleFunc("POST /order/{n}/challenge", a.signed(a.challenge))
	mux.HandleFunc("POST /order/{n}/finalize", a.signed(a.finalize))
	mux.HandleFunc("POST /order/{n}/certificate", a.signed(func(w http.ResponseWriter, r *http.Request, _ []byte) {
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		w.Header().Set("Replay-Nonce", a.nonce())
		w.Write(a.orderOf(r).chain)
	}))
	a.Server = httptest.NewTLSServer(mux)
	t.Cleanup(a.Close)
	a.trust = filepath.Join(t.TempDir(), "authority.pem")
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.Certificate().Raw})
	if err := os.WriteFile(a.trust, text, 0o600); err != nil {
		t.Fatal(err)
	}
	return a
}

// nonce makes a nonce; a.mu must be held.
func (a *authority) nonce() string {
	n := rand.Text()
	a.nonces[n] = true
	return n
}

func (a *authority) answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Replay-Nonce", a.nonce())
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if body != nil {
		json.NewEncoder(w).Encode(body)
	}
}

// signed verifies the signature of a request, its nonce and its address, and hands on what it says.
func (a *authority) signed(next func(http.ResponseWriter, *http.Request, []byte)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		said, err := a.verify(r)
		if err != nil {
			a.t.Errorf("%s: %v", r.URL.Path, err)
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		next(w, r, said)
	}
}

func (a *authority) verify(r *http.Request) ([]byte, error) {
	var jws struct{ Protected, Payload, Signature string }
	if err := json.NewDecoder(r.Body).Decode(&jws); err != nil {
		return nil, err
	}
	head, err := base64.RawURLEncoding.DecodeString(jws.Protected)
	if err != nil {
		return nil, err
	}
	var protected struct {
		Nonce, URL, Alg string
		JWK             *struct{ X, Y string }
	}
	if err := json.Unmarshal(head, &protected); err != nil {
		return nil, err
	}
	if !a.nonces[protected.Nonce] || protected.URL != a.URL+r.URL.Path || protected.Alg != "ES256" {
		return nil, fmt.Errorf("the head is %s", head)
	}
	delete(a.nonces, protected.Nonce)
	if protected.JWK != nil {
		x, errX := base64.RawURLEncoding.DecodeString(protected.JWK.X)
		y, errY := base64.RawURLEncoding.DecodeString(protected.JWK.Y)
		if err := errors.Join(errX, errY); err != nil {
			return nil, err
		}
		a.account = &ecdsa.PublicKey{Curve: elliptic.P256(), X: new(big.Int).SetBytes(x), Y: new(big.Int).SetBytes(y)}
	}
	signature, err := base64.RawURLEncoding.DecodeString(jws.Signature)
	if err != nil || len(signature) != 64 || a.account == nil {
		return nil, fmt.Errorf("the signature has %d bytes (%v)", len(signature), err)
	}
	sum := sha256.Sum256([]byte(jws.Protected + "." + jws.Payload))
	if !ecdsa.Verify(a.account, sum[:], new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:])) {
		return nil, errors.New("the signature is not the account's")
	}
	return base64.RawURLEncoding.DecodeString(jws.Payload)
}

func (a *authority) orderOf(r *http.Request) *order {
	var n int
	fmt.Sscan(r.PathValue("n"), &n)
	return a.orders[n]
}

func (a *authority) address(o *order) string {
	return fmt.Sprintf("%s/order/%d", a.URL, slices.Index(a.orders, o))
}

func (a *authority) answerOrder(w http.ResponseWriter, status int, o *order) {
	w.Header().Set("Location", a.address(o))
	body := map[string]any{
		"status": "pending", "identifiers": []any{map[string]any{"type": "dns", "value": o.host}},
		"authorizations": []string{a.address(o) + "/authz"}, "finalize": a.address(o) + "/finalize",
	}
	if o.valid {
		body["status"] = "ready"
	}
	if o.chain != nil {
		body["status"], body["certificate"] = "valid", a.address(o)+"/certificate"
	}
	a.answer(w, status, body)
}

func (a *authority) newOrder(w http.ResponseWriter, _ *http.Request, said []byte) {
	var asked struct {
		Identifiers []struct{ Type, Value string }
	}
	if err := json.Unmarshal(said, &asked); err != nil || len(asked.Identifiers) != 1 {
		a.t.Errorf("an order says %s", said)
	}
	if a.refuses {
		w.Header().Set("Content-Type", "application/problem+json")
		a.answer(w, http.StatusForbidden, map[string]any{"type": "urn:ietf:params:acme:error:rejectedIdentifier", "detail": "not yours"})
		return
	}
	o := &order{host: asked.Identifiers[0].Value, token: rand.Text()}
	a.orders = append(a.orders, o)
	a.answerOrder(w, http.StatusCreated, o)
}

func (a *authority) authorization(w http.ResponseWriter, r *http.Request, _ []byte) {
	o := a.orderOf(r)
	status := "pending"
	if o.valid {
		status = "valid"
	}
	a.answer(w, http.StatusOK, map[string]any{
		"status": status, "identifier": map[string]any{"type": "dns", "value": o.host},
		"challenges": []any{map[string]any{"type": "tls-alpn-01", "url": a.address(o) + "/challenge", "token": o.token, "status": status}},
	})
}

// challenge asks the service whether it has what only the account's owner can have.
func (a *authority) challenge(w http.ResponseWriter, r *http.Request, _ []byte) {
	<-a.known
	o := a.orderOf(r)
	thumbprint, err := acme.JWKThumbprint(crypto.PublicKey(a.account))
	if err != nil {
		a.t.Error(err)
	}
	expected := sha256.Sum256([]byte(o.token + "." + thumbprint))
	config := &tls.Config{ServerName: o.host, NextProtos: []string{acme.ALPNProto}, InsecureSkipVerify: true}
	connection, err := tls.Dial("tcp", a.serves, config)
	if err != nil {
		a.t.Errorf("asking the service: %v", err)
		return
	}
	defer connection.Close()
	state := connection.ConnectionState()
	leaf := state.PeerCertificates[0]
	for _, extension := range leaf.Extensions {
		if !extension.Id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}) || !extension.Critical {
			continue
		}
		var got []byte
		if _, err := asn1.Unmarshal(extension.Value, &got); err == nil && bytes.Equal(got, expected[:]) {
			o.valid = state.NegotiatedProtocol == acme.ALPNProto && slices.Equal(leaf.DNSNames, []string{o.host})
		}
	}
	if !o.valid {
		a.t.Errorf("the service does not prove that it is %s", o.host)
	}
	a.answer(w, http.StatusOK, map[string]any{"type": "tls-alpn-01", "url": a.address(o) + "/challenge", "token": o.token, "status": "valid"})
}

func (a *authority) finalize(w http.ResponseWriter, r *http.Request, said []byte) {
	o := a.orderOf(r)
	var asked struct{ CSR string }
	if err := json.Unmarshal(said, &asked); err != nil {
		a.t.Error(err)
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.CSR)
	if err != nil {
		a.t.Error(err)
	}
	request, err := x509.ParseCertificateRequest(der)
	if err != nil || request.CheckSignature() != nil || !slices.Equal(request.DNSNames, []string{o.host}) || !o.valid {
		a.t.Errorf("the request is for %v (%v)", request.DNSNames, err)
		return
	}
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(int64(len(a.orders)) + 1), NotBefore: time.Now().Add(-time.Minute),
		NotAfter: time.Now().AddDate(0, 0, 90), DNSNames: request.DNSNames, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	issued, err := x509.CreateCertificate(rand.Reader, leaf, a.root, request.PublicKey, a.rootKey)
	if err != nil {
		a.t.Error(err)
	}
	o.chain = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: issued})
	a.answerOrder(w, http.StatusOK, o)
}

// count gives how many certificates were ordered.
func (a *authority) count() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.orders)
}

// caller gives a client that trusts the authority's certificates and reaches the service by any
// name.
func (a *authority) caller(t *testing.T, address string) *http.Client {
	pool := x509.NewCertPool()
	pool.AddCert(a.root)
	transport := &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: pool},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, address)
		},
	}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Transport: transport}
}

func TestACertificateFromAnAuthority(t *testing.T) {
	t.Parallel()
	const name = "zridge.larkfell.example"
	ca := newAuthority(t)
	database := filepath.Join(t.TempDir(), "z.db")
	config := service.Config{
		Database: database, Hosts: []string{name},
		TLS: service.TLS{ACME: service.ACME{Directory: ca.URL + "/directory", Contact: "ines.okafor@larkfell.example", Trust: ca.trust}},
	}
	for round := range 2 { // the second finds the certificate that the first was given
		t.Run(fmt.Sprint(round), func(t *testing.T) {
			running := startWith(t, config)
			address := strings.TrimPrefix(running.Address, "https://")
			if round == 0 {
				ca.serves = address
				close(ca.known)
			}
			answer, err := ca.caller(t, address).Get("https://" + name + "/api/v1/health")
			if err != nil {
				t.Fatal(err)
			}
			defer answer.Body.Close()
			leaf := answer.TLS.PeerCertificates[0]
			if answer.StatusCode != http.StatusOK || answer.Header.Get("Strict-Transport-Security") == "" || leaf.DNSNames[0] != name {
				t.Errorf("the answer is %d with a certificate for %v", answer.StatusCode, leaf.DNSNames)
			}
			if _, err := ca.caller(t, address).Get("https://other.larkfell.example/api/v1/health"); err == nil {
				t.Error("a name that is not the service's is answered")
			}
			if n := ca.count(); n != 1 {
				t.Errorf("%d certificates were ordered, expected one", n)
			}
		})
	}
	kept := filepath.Join(filepath.Dir(database), "certificates")
	info, err := os.Stat(kept)
	if err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the folder of the keys: %v %v", info.Mode(), err)
	}
	files, err := os.ReadDir(kept)
	if err != nil || len(files) < 2 {
		t.Errorf("kept are %v, %v", files, err)
	}
	for _, file := range files {
		if info, err := file.Info(); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", file.Name(), info.Mode(), err)
		}
	}
}

func TestAnAuthorityThatRefuses(t *testing.T) {
	t.Parallel()
	const name = "zridge.larkfell.example"
	ca := newAuthority(t)
	ca.refuses = true
	running := startWith(t, service.Config{
		Hosts: []string{name}, TLS: service.TLS{ACME: service.ACME{Directory: ca.URL + "/directory", Trust: ca.trust}},
	})
	caller := ca.caller(t, strings.TrimPrefix(running.Address, "https://"))
	if answer, err := caller.Get("https://" + name + "/api/v1/health"); err == nil {
		answer.Body.Close()
		t.Error("a connection without a certificate is answered")
	}
}

func TestWithoutWhatAnAuthorityNeeds(t *testing.T) {
	t.Parallel()
	directory := "https://authority.example/directory"
	empty := filepath.Join(t.TempDir(), "empty.pem")
	if err := os.WriteFile(empty, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for says, config := range map[string]service.Config{
		"name at least one host": {TLS: service.TLS{ACME: service.ACME{Directory: directory}}},
		"one of the two":         {Hosts: []string{"a.example"}, TLS: service.TLS{SelfSigned: true, ACME: service.ACME{Directory: directory}}},
		"an https address":       {Hosts: []string{"a.example"}, TLS: service.TLS{ACME: service.ACME{Directory: "http://authority.example"}}},
		"found no certificate":   {Hosts: []string{"a.example"}, TLS: service.TLS{ACME: service.ACME{Directory: directory, Trust: empty}}},
	} {
		config.Address, config.Database = "127.0.0.1:0", filepath.Join(t.TempDir(), "z.db")
		if _, err := service.Start(config); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, expected that it says %q", err, says)
		}
	}
}
