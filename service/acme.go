// This file gets the service's certificate from a certificate authority (RFC 8555, challenge
// tls-alpn-01 of RFC 8737) and renews it.

package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

// ACME says from which authority the service gets its certificates. The zero ACME is none.
//
// The authority connects to port 443 of each name of Config.Hosts, so that port has to lead to the
// service. The account's key and the certificates are kept in a folder beside the database, with
// mode 0700.
type ACME struct {
	Directory string // address of the authority's directory, https
	Contact   string // mail address that the authority is told; empty: none
	Trust     string // file with the certificates by which the authority is known, in PEM; empty: those of the machine
}

func (a ACME) none() bool { return a == ACME{} }

// Limits of what an authority is waited for.
const (
	authorityAnswers = 30 * time.Second // one request
	authorityIssues  = 2 * time.Minute  // a whole order
)

// checkACME refuses settings with which no certificate can be had.
func (c *Config) checkACME() error {
	a := c.TLS.ACME
	if a.none() {
		return nil
	}
	address, err := url.Parse(a.Directory)
	switch {
	case err != nil || address.Scheme != "https" || address.Host == "":
		return fmt.Errorf("found %q as the directory of a certificate authority, expected an https address", a.Directory)
	case c.TLS.Certificate != "" || c.TLS.SelfSigned:
		return fmt.Errorf("found a certificate authority and another certificate, expected one of the two")
	case len(c.Hosts) == 0:
		return fmt.Errorf("a certificate authority needs the names of the service: name at least one host")
	}
	return nil
}

// newIssuer gives what asks the authority for certificates.
func (c *Config) newIssuer() (*autocert.Manager, error) {
	a := c.TLS.ACME
	caller := &http.Client{Timeout: authorityAnswers}
	if a.Trust != "" {
		text, err := os.ReadFile(a.Trust)
		if err != nil {
			return nil, fmt.Errorf("reading by what the certificate authority is known: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("found no certificate in %s, expected those of the certificate authority in PEM", a.Trust)
		}
		caller.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	}
	folder := filepath.Join(filepath.Dir(c.Database), "certificates")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if err := os.Chmod(folder, 0o700); err != nil {
		return nil, err
	}
	return &autocert.Manager{
		Prompt:     autocert.AcceptTOS,
		Cache:      autocert.DirCache(folder),
		HostPolicy: autocert.HostWhitelist(c.Hosts...),
		Email:      a.Contact,
		Client:     &acme.Client{DirectoryURL: a.Directory, HTTPClient: caller, UserAgent: "zridge"},
	}, nil
}

// obtain asks for the certificate of each name, so that nobody waits for it at their first
// connection. A failure is logged; the next connection asks again.
func (c *certificates) obtain(ctx context.Context) {
	for _, host := range c.of.Hosts {
		if ctx.Err() != nil {
			return
		}
		limit, cancel := context.WithTimeout(ctx, authorityIssues)
		done := make(chan error, 1)
		go func() {
			certificate, err := c.issuer.GetCertificate(greetingOf(host))
			if err == nil {
				c.of.Log.Info("certificate issued", "for", host, "until", certificate.Leaf.NotAfter)
			}
			done <- err
		}()
		select {
		case err := <-done:
			if err != nil {
				c.of.Log.Error("asking for a certificate", "host", host, "authority", c.of.TLS.ACME.Directory, "error", err)
			}
		case <-limit.Done():
		}
		cancel()
	}
}

// greetingOf is what a client says that wants to talk to a name and takes ECDSA, which everybody
// does who speaks TLS 1.2.
func greetingOf(host string) *tls.ClientHelloInfo {
	return &tls.ClientHelloInfo{
		ServerName:       host,
		CipherSuites:     []uint16{tls.TLS_AES_128_GCM_SHA256, tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256},
		SupportedCurves:  []tls.CurveID{tls.CurveP256},
		SignatureSchemes: []tls.SignatureScheme{tls.ECDSAWithP256AndSHA256},
	}
}
