package ca

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"slices"
)

// RequestError says why a request for a certificate is refused.
type RequestError struct{ Found, Expected string }

func (e *RequestError) Error() string { return "found " + e.Found + ", expected " + e.Expected }

// leastRSA is the shortest modulus of an RSA key, in bits; mostRSA the longest.
const leastRSA, mostRSA = 2048, 8192

// signatures are the ways in which a request may be signed.
var signatures = []x509.SignatureAlgorithm{
	x509.ECDSAWithSHA256, x509.ECDSAWithSHA384, x509.ECDSAWithSHA512, x509.PureEd25519,
	x509.SHA256WithRSA, x509.SHA384WithRSA, x509.SHA512WithRSA, x509.SHA256WithRSAPSS, x509.SHA384WithRSAPSS, x509.SHA512WithRSAPSS,
}

// ReadRequest reads a request in DER and checks that its sender has the key, and that the key is strong
// enough. The error is a *RequestError.
func ReadRequest(der []byte) (*x509.CertificateRequest, error) {
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, &RequestError{"what is no request: " + err.Error(), "a certificate request (PKCS #10) in DER"}
	}
	if err := checkKey(r.PublicKey); err != nil {
		return nil, err
	}
	if !slices.Contains(signatures, r.SignatureAlgorithm) {
		return nil, &RequestError{"a signature by " + r.SignatureAlgorithm.String(), "one with SHA-256 or better, or Ed25519"}
	}
	if r.CheckSignature() != nil {
		return nil, &RequestError{"a signature that does not fit the key", "one by the key in the request"}
	}
	return r, nil
}

func checkKey(public any) error {
	const wanted = "an EC key on P-256 or P-384, Ed25519, or RSA from 2048 bits"
	switch k := public.(type) {
	case *ecdsa.PublicKey:
		if k.Curve == elliptic.P256() || k.Curve == elliptic.P384() {
			return nil
		}
		return &RequestError{"a key on " + k.Curve.Params().Name, wanted}
	case ed25519.PublicKey:
		return nil
	case *rsa.PublicKey:
		if n := k.N.BitLen(); n < leastRSA || n > mostRSA {
			return &RequestError{fmt.Sprintf("an RSA key of %d bits", n), wanted}
		}
		return nil
	}
	return &RequestError{"a key of another kind", wanted}
}

// SerialOf gives the serial number of a laptop in a request's subject (2.5.4.5); empty: it names none.
func SerialOf(r *x509.CertificateRequest) string { return r.Subject.SerialNumber }

// ModelOf gives the model of a laptop in a request's subject, as the organisational unit (2.5.4.11); empty:
// it names none.
func ModelOf(r *x509.CertificateRequest) string {
	if len(r.Subject.OrganizationalUnit) == 0 {
		return ""
	}
	return r.Subject.OrganizationalUnit[0]
}

// Renews checks that a request is for the same laptop as the certificate that it replaces (RFC 7030, 4.2.2):
// it names the same subject and the same alternative names, or none. The error is a *RequestError.
func Renews(r *x509.CertificateRequest, old *x509.Certificate) error {
	if len(r.Subject.Names) > 0 && r.Subject.String() != old.Subject.String() {
		return &RequestError{"the subject " + r.Subject.String(), "none, or " + old.Subject.String()}
	}
	if len(r.DNSNames)+len(r.EmailAddresses)+len(r.IPAddresses) > 0 {
		return &RequestError{"other alternative names", "none, or those of the certificate"}
	}
	for _, is := range r.URIs {
		if len(old.URIs) != 1 || is.String() != old.URIs[0].String() {
			return &RequestError{"the alternative name " + is.String(), "none, or that of the certificate"}
		}
	}
	return nil
}

// keyBits gives the bits of a public key in its form of X.509.
func keyBits(der []byte) ([]byte, error) {
	var info struct {
		Algorithm pkix.AlgorithmIdentifier
		Bits      asn1.BitString
	}
	if _, err := asn1.Unmarshal(der, &info); err != nil {
		return nil, err
	}
	return info.Bits.RightAlign(), nil
}
