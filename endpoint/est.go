// This file enrols a laptop by certificate (EST, RFC 7030), and renews the certificate.

package endpoint

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"
)

// Certified is what a laptop keeps of its enrolment by certificate.
type Certified struct {
	Device      string `json:"device"`
	Key         []byte `json:"key"`         // PKCS #8, DER; secret
	Certificate []byte `json:"certificate"` // DER
}

// WaitError says that somebody has to approve the enrolment first. The same request is to be sent again.
type WaitError struct{ After time.Duration }

func (e *WaitError) Error() string {
	return fmt.Sprintf("the enrolment waits for an approval; try again after %s", e.After)
}

// Request is a request of a laptop for a certificate, with the key that it is for. It is sent as it is until it
// is answered.
type Request struct {
	Key []byte `json:"key"` // PKCS #8, DER; secret
	DER []byte `json:"der"` // PKCS #10
}

// NewRequest makes a key and a request for it. serial and model are of the laptop, and may be empty.
func NewRequest(serial, model string) (Request, error) {
	subject := pkix.Name{SerialNumber: serial}
	if model != "" {
		subject.OrganizationalUnit = []string{model}
	}
	return requestFor(subject)
}

func requestFor(subject pkix.Name) (Request, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Request{}, err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: subject}, key)
	if err != nil {
		return Request{}, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	return Request{Key: secret, DER: der}, err
}

// EnrolByCertificate gets a certificate with an invitation code. client must trust the service. device may be
// empty: the service knows the laptop by its serial number. The error is a *WaitError where somebody has to
// approve it first.
func EnrolByCertificate(ctx context.Context, client *http.Client, base, device, code string, r Request) (*Certified, error) {
	return ask(ctx, client, base, "simpleenroll", r, func(h *http.Request) { h.SetBasicAuth(device, code) })
}

// Renew gets a certificate in the place of the one that the laptop has, with another key. client must use that
// one (see Client).
func (c *Certified) Renew(ctx context.Context, client *http.Client, base string) (*Certified, error) {
	old, err := x509.ParseCertificate(c.Certificate)
	if err != nil {
		return nil, err
	}
	r, err := requestFor(old.Subject)
	if err != nil {
		return nil, err
	}
	return ask(ctx, client, base, "simplereenroll", r, func(*http.Request) {})
}

// DueAt is when the certificate is to be renewed: after two thirds of its validity.
func (c *Certified) DueAt() (time.Time, error) {
	is, err := x509.ParseCertificate(c.Certificate)
	if err != nil {
		return time.Time{}, err
	}
	return is.NotBefore.Add(is.NotAfter.Sub(is.NotBefore) * 2 / 3), nil
}

// maxEST is the longest answer to a request for a certificate that is read, in bytes.
const maxEST = 256 << 10

func ask(ctx context.Context, client *http.Client, base, operation string, r Request,
	authenticate func(*http.Request)) (*Certified, error) {
	body := strings.NewReader(base64.StdEncoding.EncodeToString(r.DER))
	h, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(base, "/")+"/.well-known/est/"+operation, body)
	if err != nil {
		return nil, err
	}
	h.Header.Set("Content-Type", "application/pkcs10")
	authenticate(h)
	answer, err := client.Do(h)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxEST))
	if err != nil {
		return nil, err
	}
	switch answer.StatusCode {
	case http.StatusOK:
	case http.StatusAccepted:
		seconds, err := strconv.Atoi(answer.Header.Get("Retry-After"))
		if err != nil {
			seconds = 60
		}
		return nil, &WaitError{time.Duration(seconds) * time.Second}
	default:
		return nil, fmt.Errorf("the service answered %s to the request for a certificate: %.300s", answer.Status, data)
	}
	certificate, err := onlyCertificate(data)
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(r.Key)
	if err != nil {
		return nil, err
	}
	if own, ok := key.(*ecdsa.PrivateKey); !ok || !own.PublicKey.Equal(certificate.PublicKey) {
		return nil, errors.New("the service answered with a certificate for another key")
	}
	return &Certified{Device: certificate.Subject.CommonName, Key: r.Key, Certificate: certificate.Raw}, nil
}

// onlyCertificate reads a certs-only message in base64 that has one certificate.
func onlyCertificate(text []byte) (*x509.Certificate, error) {
	der, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, bytes.NewReader(text)))
	if err != nil {
		return nil, fmt.Errorf("the service's answer is no base64: %w", err)
	}
	message, err := pkcs7.Parse(der)
	if err != nil {
		return nil, fmt.Errorf("the service's answer is no certs-only message: %w", err)
	}
	if len(message.Certificates) != 1 {
		return nil, fmt.Errorf("the service answered with %d certificates, expected one", len(message.Certificates))
	}
	return message.Certificates[0], nil
}

// Client gives an HTTP client for HTTP/1.1 that shows the laptop's certificate, and trusts the service by roots; nil: as the
// system does. A session is a few requests, one after the other: HTTP/2 would cost the service half as much again.
func (c *Certified) Client(roots *x509.CertPool) (*http.Client, error) {
	key, err := x509.ParsePKCS8PrivateKey(c.Key)
	if err != nil {
		return nil, err
	}
	pair := tls.Certificate{Certificate: [][]byte{c.Certificate}, PrivateKey: key}
	return &http.Client{
		Timeout: 30 * time.Second,
		Transport: &http.Transport{
			TLSClientConfig: &tls.Config{RootCAs: roots, Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12},
			IdleConnTimeout: time.Minute,
		},
	}, nil
}
