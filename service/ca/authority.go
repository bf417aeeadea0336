// Package ca is the company's authority for the certificates of laptops: it checks requests (PKCS #10,
// RFC 2986), issues certificates and lists those that are revoked (RFC 5280). It keeps nothing but its key
// and its own certificate; which certificate is for whom is known to its callers.
package ca

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha1"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net/url"
	"os"
	"time"

	"zenithridge.example/zridge/service/seal"
)

const (
	ownLife      = 10 * 365 * 24 * time.Hour
	defaultLife  = 90 * 24 * time.Hour
	startsBefore = 5 * time.Minute // the laptop's clock may be behind
	nextList     = 24 * time.Hour  // until a list of what is revoked is to be fetched again at the latest
)

// Sealer encrypts the authority's key where it is kept.
type Sealer interface {
	Seal(secret string) (string, error)
	Open(sealed string) (string, error)
}

// Config says which authority it is.
type Config struct {
	// Chain and Key are files in PEM of an issuing authority of the company: its certificate and those
	// above it, and its private key. Empty: the service's own authority.
	Chain, Key string
	OwnKey     string           // file with the key of the service's own authority, sealed; it is made if it is not there
	Seal       Sealer           // of OwnKey
	Life       time.Duration    // of certificates; 0: 90 days
	ListAt     string           // address of the list of revoked certificates, named in certificates; empty: none
	Now        func() time.Time // nil: the machine's clock
}

// Authority issues certificates. It is safe for concurrent use.
type Authority struct {
	key   crypto.Signer
	chain []*x509.Certificate // the authority's own first
	life  time.Duration
	list  string
	now   func() time.Time
}

// Load reads the authority, or makes the service's own.
func Load(c Config) (*Authority, error) {
	a := &Authority{life: c.Life, list: c.ListAt, now: c.Now}
	if a.life == 0 {
		a.life = defaultLife
	}
	if a.now == nil {
		a.now = time.Now
	}
	var err error
	switch {
	case (c.Chain == "") != (c.Key == ""):
		return nil, errors.New("an authority's certificate needs its key, and a key its certificate")
	case c.Chain != "":
		err = a.read(c.Chain, c.Key)
	default:
		err = a.own(c.OwnKey, c.Seal)
	}
	if err != nil {
		return nil, fmt.Errorf("the authority for laptops: %w", err)
	}
	return a, nil
}

// read reads a company's own authority.
func (a *Authority) read(chainFile, keyFile string) error {
	data, err := os.ReadFile(chainFile)
	if err != nil {
		return err
	}
	if a.chain, err = certificatesIn(data); err != nil {
		return fmt.Errorf("%s: %w", chainFile, err)
	}
	if data, err = os.ReadFile(keyFile); err != nil {
		return err
	}
	if a.key, err = keyIn(data); err != nil {
		return fmt.Errorf("%s: %w", keyFile, err)
	}
	is := a.chain[0]
	public, ok := a.key.Public().(interface{ Equal(crypto.PublicKey) bool })
	switch {
	case !ok || !public.Equal(is.PublicKey):
		return fmt.Errorf("the key in %s is not that of the first certificate in %s", keyFile, chainFile)
	case !is.IsCA || is.KeyUsage&x509.KeyUsageCertSign == 0:
		return fmt.Errorf("the first certificate in %s may not issue certificates", chainFile)
	}
	for i, c := range a.chain[1:] {
		if err := a.chain[i].CheckSignatureFrom(c); err != nil {
			return fmt.Errorf("certificate %d in %s is not signed by the next one: %w", i+1, chainFile, err)
		}
	}
	return nil
}

// own reads the service's own authority, or makes it: one file with the sealed key, and the certificate.
func (a *Authority) own(file string, with Sealer) error {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return a.make(file, with)
	}
	if err != nil {
		return err
	}
	certificate, rest := pem.Decode(data)
	if certificate == nil || certificate.Type != "CERTIFICATE" {
		return fmt.Errorf("%s begins with no certificate", file)
	}
	if a.chain, err = certificatesIn(pem.EncodeToMemory(certificate)); err != nil {
		return err
	}
	opened, err := with.Open(string(rest))
	if err != nil {
		return fmt.Errorf("opening %s with the key for secrets: %w", file, err)
	}
	a.key, err = keyIn([]byte(opened))
	return err
}

// make makes the service's own authority.
func (a *Authority) make(file string, with Sealer) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	id, err := keyID(key.Public())
	if err != nil {
		return err
	}
	now := a.now()
	template := &x509.Certificate{
		SerialNumber: newSerial(), Subject: pkix.Name{CommonName: "Zenith Ridge laptops"}, SubjectKeyId: id,
		NotBefore: now.Add(-startsBefore), NotAfter: now.Add(ownLife),
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign, BasicConstraintsValid: true, IsCA: true, MaxPathLenZero: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	plain, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	sealed, err := with.Seal(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: plain})))
	if err != nil {
		return err
	}
	text := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})) + sealed + "\n"
	if err := seal.ReplaceFile(file, []byte(text)); err != nil {
		return err
	}
	own, err := x509.ParseCertificate(der)
	a.key, a.chain = key, []*x509.Certificate{own}
	return err
}

func certificatesIn(data []byte) (list []*x509.Certificate, err error) {
	for len(data) > 0 {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return nil, errors.New("found no certificate in PEM")
	}
	return list, nil
}

func keyIn(data []byte) (crypto.Signer, error) {
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, errors.New("found no key in PEM")
	}
	for _, parse := range []func([]byte) (any, error){
		x509.ParsePKCS8PrivateKey,
		func(der []byte) (any, error) { return x509.ParseECPrivateKey(der) },
		func(der []byte) (any, error) { return x509.ParsePKCS1PrivateKey(der) },
	} {
		if key, err := parse(block.Bytes); err == nil {
			if signer, can := key.(crypto.Signer); can {
				return signer, nil
			}
		}
	}
	return nil, errors.New("found no private key that can be read")
}

// Chain gives the authority's own certificate and those above it.
func (a *Authority) Chain() []*x509.Certificate { return a.chain }

// Pool gives the authority as the only one whose certificates are believed.
func (a *Authority) Pool() *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AddCert(a.chain[0])
	return pool
}

// Issue issues a certificate for a laptop's key. enrolment is the UUID of its enrolment.
func (a *Authority) Issue(device, enrolment string, public crypto.PublicKey) (*x509.Certificate, error) {
	id, err := keyID(public)
	if err != nil {
		return nil, err
	}
	now := a.now()
	until := now.Add(a.life)
	if last := a.chain[0].NotAfter; until.After(last) {
		until = last
	}
	template := &x509.Certificate{
		SerialNumber: newSerial(), Subject: pkix.Name{CommonName: device}, SubjectKeyId: id, AuthorityKeyId: a.chain[0].SubjectKeyId,
		NotBefore: now.Add(-startsBefore), NotAfter: until, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, BasicConstraintsValid: true,
		URIs: []*url.URL{{Scheme: "urn", Opaque: "uuid:" + enrolment}},
	}
	if a.list != "" {
		template.CRLDistributionPoints = []string{a.list}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.chain[0], public, a.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Revoked is a certificate that counts no more.
type Revoked struct {
	Serial *big.Int
	At     time.Time
}

// RevocationList signs a list of revoked certificates, in DER. number rises with each list.
func (a *Authority) RevocationList(number int64, revoked []Revoked) ([]byte, error) {
	now := a.now()
	list := &x509.RevocationList{Number: big.NewInt(number), ThisUpdate: now, NextUpdate: now.Add(nextList)}
	for _, r := range revoked {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: r.Serial,
			RevocationTime: r.At})
	}
	return x509.CreateRevocationList(rand.Reader, list, a.chain[0], a.key)
}

// newSerial gives a serial number of 128 random bits (RFC 5280, 4.1.2.2: positive, at most 20 octets).
func newSerial() *big.Int {
	for {
		serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 128))
		if err == nil && serial.Sign() > 0 {
			return serial
		}
	}
}

// keyID gives the identifier of a key: the SHA-1 of its bits (RFC 5280, 4.2.1.2).
func keyID(public crypto.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, err
	}
	bits, err := keyBits(der)
	if err != nil {
		return nil, err
	}
	sum := sha1.Sum(bits)
	return sum[:], nil
}
