// This file reads certificates: X.509 (RFC 5280), in DER or PEM (RFC 7468), one or a chain.

package contents

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"zenithridge.example/zridge/core/setting"
)

// Certificate is what a certificate says of itself.
type Certificate struct {
	Subject           string    `json:"subject"`
	Issuer            string    `json:"issuer"`
	Serial            string    `json:"serial" doc:"Hexadecimal"`
	NotBefore         time.Time `json:"not_before"`
	NotAfter          time.Time `json:"not_after"`
	SHA256            string    `json:"sha256" doc:"Fingerprint of the DER form"`
	Key               string    `json:"key" doc:"Kind and size of the public key"`
	Signature         string    `json:"signature" doc:"Algorithm of the issuer's signature"`
	SelfSigned        bool      `json:"self_signed"`
	Authority         bool      `json:"authority" doc:"May sign other certificates"`
	AlternativeNames  []string  `json:"alternative_names,omitempty"`
	ExpiredOnReading  bool      `json:"expired,omitempty" doc:"It had expired when it was added, and somebody confirmed it"`
	NotYetOnReading   bool      `json:"not_yet_valid,omitempty"`
	DaysLeftOnReading int       `json:"days_left"`
}

// Rank says in words what a certificate is.
func (c *Certificate) Rank() string {
	switch {
	case c.Authority && c.SelfSigned:
		return "a root authority"
	case c.Authority:
		return "an intermediate authority, signed by " + c.Issuer
	case c.SelfSigned:
		return "no authority: it is signed by itself and may sign no other"
	}
	return "no authority: it is of a server, a program or a person, signed by " + c.Issuer
}

// StoreFault says what is wrong with a file of certificates for a store: what it is, and what is
// expected. Both are empty where it fits. An authority of the other sort fits: there are reasons to
// trust an intermediate one by itself.
func (r *Reading) StoreFault(store setting.Store) (found, expected string) {
	if store == "" || len(r.Certificates) == 0 {
		return "", ""
	}
	if len(r.Certificates) > 1 {
		parts := make([]string, len(r.Certificates))
		for i := range r.Certificates {
			parts[i] = r.Certificates[i].Subject + " (" + r.Certificates[i].Rank() + ")"
		}
		return fmt.Sprintf("a chain of %d certificates: %s", len(parts), strings.Join(parts, "; ")),
			"one certificate in a row; a chain is split where the file is added"
	}
	if c := &r.Certificates[0]; !c.Authority {
		return c.Subject + ", " + c.Rank(), map[setting.Store]string{
			setting.StoreRoots:         "the certificate of a root authority",
			setting.StoreIntermediates: "the certificate of an intermediate authority",
		}[store]
	}
	return "", ""
}

// SplitChain gives each certificate of a file in PEM as a file of its own; nil where there are not
// several.
func SplitChain(data []byte) [][]byte {
	var out [][]byte
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			return nil
		}
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes}))
	}
	if len(out) < 2 {
		return nil
	}
	return out
}

const maxChain = 20

var certificateHeader = []byte("-----BEGIN ")

// isPrivateKey tells whether a file holds a private key in one of the usual forms, by itself or
// among certificates.
func isPrivateKey(data []byte) bool {
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if strings.Contains(block.Type, "PRIVATE KEY") {
			return true
		}
	}
	if bytes.Contains(data, []byte("-----BEGIN")) && bytes.Contains(data, []byte("PRIVATE KEY-----")) {
		return true
	}
	if len(data) == 0 || data[0] != 0x30 {
		return false
	}
	if _, err := x509.ParsePKCS8PrivateKey(data); err == nil {
		return true
	}
	if _, err := x509.ParsePKCS1PrivateKey(data); err == nil {
		return true
	}
	if _, err := x509.ParseECPrivateKey(data); err == nil {
		return true
	}
	var store struct { // PKCS #12 (RFC 7292), which holds a key beside certificates
		Version int
		Safe    struct {
			Kind    asn1.ObjectIdentifier
			Content asn1.RawValue `asn1:"tag:0,explicit,optional"`
		}
		MAC asn1.RawValue `asn1:"optional"`
	}
	_, err := asn1.Unmarshal(data, &store)
	return err == nil && store.Version == 3 && store.Safe.Kind.Equal(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1})
}

func looksLikeCertificate(data []byte) bool {
	if len(data) > 4 && data[0] == 0x30 && data[1] >= 0x80 { // a DER sequence of some length
		return true
	}
	return bytes.Contains(data, certificateHeader)
}

func readCertificates(data []byte, o Options) (*Reading, error) {
	parsed, err := parseCertificates(data)
	if err != nil {
		if o.Expect != setting.CertificateFile && !bytes.Contains(data, []byte("-----BEGIN CERTIFICATE")) {
			return other("application/octet-stream"), nil
		}
		return nil, err
	}
	r := &Reading{Content: setting.CertificateFile, MediaType: "application/pkix-cert"}
	if len(parsed) > 1 || data[0] != 0x30 {
		r.MediaType = "application/pem-certificate-chain"
	}
	seen := map[string]bool{}
	for i, c := range parsed {
		one := describeCertificate(c)
		if seen[one.SHA256] {
			r.Warnings = append(r.Warnings, fmt.Sprintf("certificate %d is in the file twice", i+1))
		}
		seen[one.SHA256] = true
		if !o.Day.IsZero() {
			if err := judgeDates(r, &one, o, i, len(parsed)); err != nil {
				return nil, err
			}
		}
		r.Warnings = append(r.Warnings, weaknesses(c, one)...)
		r.Certificates = append(r.Certificates, one)
	}
	return r, nil
}

func parseCertificates(data []byte) ([]*x509.Certificate, error) {
	if data[0] == 0x30 {
		parsed, err := x509.ParseCertificates(data)
		switch {
		case err != nil:
			return nil, refuse("bytes that are no certificate ("+strings.TrimPrefix(err.Error(), "x509: ")+")", expected(setting.CertificateFile))
		case len(parsed) > maxChain:
			return nil, refuse(fmt.Sprintf("%d certificates", len(parsed)), fmt.Sprintf("at most %d in one file", maxChain))
		}
		return parsed, nil
	}
	var parsed []*x509.Certificate
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			return nil, refuse("a PEM block "+fmt.Sprintf("%.40q", block.Type), "CERTIFICATE blocks alone")
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, refuse(
				fmt.Sprintf("a block that is no certificate, number %d (%s)", len(parsed)+1, strings.TrimPrefix(err.Error(), "x509: ")),
				expected(setting.CertificateFile),
			)
		}
		if parsed = append(parsed, c); len(parsed) > maxChain {
			return nil, refuse("more than 20 certificates", fmt.Sprintf("at most %d in one file", maxChain))
		}
	}
	if len(parsed) == 0 {
		return nil, refuse("PEM that is cut short or damaged", expected(setting.CertificateFile))
	}
	return parsed, nil
}

func describeCertificate(c *x509.Certificate) Certificate {
	sum := sha256.Sum256(c.Raw)
	out := Certificate{
		Subject:    nameOf(c.Subject.String(), c.DNSNames),
		Issuer:     nameOf(c.Issuer.String(), nil),
		Serial:     c.SerialNumber.Text(16),
		NotBefore:  c.NotBefore.UTC(),
		NotAfter:   c.NotAfter.UTC(),
		SHA256:     hex.EncodeToString(sum[:]),
		Key:        keyOf(c),
		Signature:  c.SignatureAlgorithm.String(),
		Authority:  c.BasicConstraintsValid && c.IsCA,
		SelfSigned: bytes.Equal(c.RawSubject, c.RawIssuer) && c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil,
	}
	out.AlternativeNames = append(append(out.AlternativeNames, c.DNSNames...), c.EmailAddresses...)
	for _, ip := range c.IPAddresses {
		out.AlternativeNames = append(out.AlternativeNames, ip.String())
	}
	return out
}

func nameOf(name string, others []string) string {
	if name == "" && len(others) > 0 {
		return others[0]
	}
	return name
}

func keyOf(c *x509.Certificate) string {
	switch key := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d bits", key.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA " + key.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return c.PublicKeyAlgorithm.String()
}

// judgeDates refuses an expired certificate unless that was confirmed, and warns of one that is
// about to expire.
func judgeDates(r *Reading, c *Certificate, o Options, i, of int) error {
	which := "the certificate"
	if of > 1 {
		which = fmt.Sprintf("certificate %d of %d", i+1, of)
	}
	c.DaysLeftOnReading = int(c.NotAfter.Sub(o.Day).Hours() / 24)
	switch {
	case o.Day.After(c.NotAfter):
		if !o.AcceptExpired {
			return refuse(
				fmt.Sprintf("%s expired on %s", which, c.NotAfter.Format(time.DateOnly)),
				"one that is valid, or a confirmation that an expired one is meant",
			)
		}
		c.ExpiredOnReading = true
		r.Warnings = append(
			r.Warnings,
			fmt.Sprintf("%s expired on %s; it was confirmed that this is meant", which, c.NotAfter.Format(time.DateOnly)),
		)
	case o.Day.Before(c.NotBefore):
		c.NotYetOnReading = true
		r.Warnings = append(r.Warnings, fmt.Sprintf("%s is not valid before %s", which, c.NotBefore.Format(time.DateOnly)))
	case c.DaysLeftOnReading < 30:
		r.Warnings = append(r.Warnings, fmt.Sprintf("%s expires in %d days, on %s", which, c.DaysLeftOnReading, c.NotAfter.Format(time.DateOnly)))
	}
	return nil
}

func weaknesses(c *x509.Certificate, d Certificate) (out []string) {
	if key, ok := c.PublicKey.(*rsa.PublicKey); ok && key.N.BitLen() < 2048 {
		out = append(out, fmt.Sprintf("%s has a short key: %s", d.Subject, d.Key))
	}
	switch c.SignatureAlgorithm {
	case x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		if !d.SelfSigned {
			out = append(out, fmt.Sprintf("%s is signed with %s, which laptops may refuse", d.Subject, d.Signature))
		}
	}
	return out
}
