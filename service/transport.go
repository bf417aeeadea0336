// This file says over what the service answers: TLS with certificates that are read again when they
// are replaced, or plain HTTP where nobody else can listen.

package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"zenithridge.example/zridge/service/enrolment"
)

// TLS says which certificate the service answers with. The zero TLS is plain HTTP.
type TLS struct {
	Certificate string // file with the certificate and those that signed it, in PEM
	Key         string // file with its private key, in PEM
	SelfSigned  bool   // a certificate of its own for loopback names instead, for trying things
	ACME        ACME   // an authority that issues certificates instead
}

func (t TLS) plain() bool {
	return t.Certificate == "" && t.Key == "" && !t.SelfSigned && t.ACME.none()
}

// SelfSignedFile is where a certificate that the service makes for itself is written, so that
// clients can be told to trust it.
func (c *Config) SelfSignedFile() string { return c.Database + ".certificate.pem" }

// onLoopback tells whether an address to listen on can be reached from this machine alone.
func onLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	if host == "localhost" {
		return true
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.IsLoopback()
}

// checkTransport refuses what would send passwords and secrets where others can read them.
func (c *Config) checkTransport() error {
	switch {
	case (c.TLS.Certificate == "") != (c.TLS.Key == ""):
		return fmt.Errorf("a certificate needs its key, and a key its certificate")
	case c.TLS.SelfSigned && c.TLS.Certificate != "":
		return fmt.Errorf("found a certificate and the wish for a self-signed one, expected one of the two")
	case c.TLS.SelfSigned && !onLoopback(c.Address):
		return fmt.Errorf("a self-signed certificate is for loopback alone, and %s is not; name a certificate", c.Address)
	case c.TLS.plain() && !onLoopback(c.Address) && len(c.Proxies) == 0:
		return fmt.Errorf(
			"plain HTTP is refused on %s, which is not loopback: name a certificate with its key, or the proxies in front of "+
				"the service", c.Address)
	}
	return c.checkACME()
}

// certificates gives the certificate for each handshake: one of files, read again when they have
// changed, or one that an authority issued.
type certificates struct {
	of     *Config
	issuer *autocert.Manager // nil: files, or self-signed

	laptops *enrolment.Service // whose certificates of laptops are believed; nil: none are

	mu      sync.Mutex
	current *tls.Certificate
	read    time.Time // when the files were looked at
	changed [2]time.Time
}

// lookEach is how often the files of the certificate are looked at, at most.
const lookEach = time.Second

// load reads the certificate. It fails when there is none that can be used.
func (c *certificates) load() (err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.of.TLS.ACME.none() {
		c.issuer, err = c.of.newIssuer()
		return err
	}
	if c.of.TLS.SelfSigned {
		made, err := selfSigned(time.Now())
		if err != nil {
			return err
		}
		c.current = made
		return os.WriteFile(c.of.SelfSignedFile(), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made.Certificate[0]}), 0o644)
	}
	return c.reload()
}

// reload reads the files; c.mu must be held. What was read before stays where they can't be used.
func (c *certificates) reload() error {
	changed, err := c.modified()
	if err != nil {
		return err
	}
	pair, err := tls.LoadX509KeyPair(c.of.TLS.Certificate, c.of.TLS.Key)
	if err != nil {
		return fmt.Errorf("reading the certificate %s: %w", c.of.TLS.Certificate, err)
	}
	c.current, c.changed = &pair, changed
	c.of.Log.Info("certificate read", "file", c.of.TLS.Certificate, "for", pair.Leaf.DNSNames, "until", pair.Leaf.NotAfter)
	return nil
}

func (c *certificates) modified() (at [2]time.Time, err error) {
	for i, file := range []string{c.of.TLS.Certificate, c.of.TLS.Key} {
		info, err := os.Stat(file)
		if err != nil {
			return at, err
		}
		at[i] = info.ModTime()
	}
	return at, nil
}

// Get gives the certificate for a handshake.
func (c *certificates) Get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if c.issuer != nil {
		return c.issuer.GetCertificate(hello)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); !c.of.TLS.SelfSigned && now.Sub(c.read) > lookEach {
		c.read = now
		if changed, err := c.modified(); err == nil && changed != c.changed {
			if err := c.reload(); err != nil { // both files are not replaced in one moment: it is tried again
				c.of.Log.Warn("the new certificate can't be used yet; the old one stays", "error", err)
			}
		}
	}
	return c.current, nil
}

// ReloadCertificate reads the certificate again, as it is done by itself within a second after its
// files have changed.
func (r *Running) ReloadCertificate() error {
	if r.certificates.of.TLS.Certificate == "" {
		return nil
	}
	r.certificates.mu.Lock()
	defer r.certificates.mu.Unlock()
	return r.certificates.reload()
}

// names tells whether the certificate is for a host.
func (c *certificates) names(host string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.current != nil && c.current.Leaf != nil && c.current.Leaf.VerifyHostname(host) == nil
}

// config gives what a listener needs.
func (c *certificates) config() *tls.Config {
	protocols := []string{"h2", "http/1.1"}
	if c.issuer != nil {
		protocols = append(protocols, acme.ALPNProto) // the authority's question
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.Get, NextProtos: protocols}
	if c.laptops != nil {
		config.ClientAuth, config.ClientCAs = tls.VerifyClientCertIfGiven, c.laptops.Pool()
		config.VerifyConnection = func(is tls.ConnectionState) error { // of resumed connections, too
			if len(is.PeerCertificates) == 0 {
				return nil
			}
			_, err := c.laptops.Check(is.PeerCertificates[0])
			return err
		}
	}
	return config
}

// selfSigned makes a certificate for the names of loopback. Nobody trusts it but those who are told
// to.
func selfSigned(now time.Time) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: "localhost"},
		NotBefore:    now.Add(-time.Hour),
		NotAfter:     now.AddDate(0, 0, 30),
		DNSNames:     []string{"localhost"},
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, nil
}

func (c *Config) scheme() string {
	if c.TLS.plain() {
		return "http://"
	}
	return "https://"
}

// mayHost says to which names the service answers: those that are configured, those of the
// certificate, and on loopback those of loopback. Behind a proxy without names it answers to any,
// since the proxy chooses them.
func (c *Config) mayHost(certificates *certificates) func(string) bool {
	local := onLoopback(c.Address)
	if len(c.Hosts) == 0 && len(c.Proxies) > 0 && c.TLS.plain() {
		return nil
	}
	return func(host string) bool {
		if local && (host == "localhost" || isLoopback(host)) {
			return true
		}
		return slices.Contains(c.Hosts, host) || certificates.names(host)
	}
}

func isLoopback(host string) bool {
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.IsLoopback()
}
