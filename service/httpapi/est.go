// This file has the operations of EST (RFC 7030, RFC 8951) with which laptops get their certificates, and the
// list of those that are revoked.

package httpapi

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/smallstep/pkcs7"

	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/ca"
	"zenithridge.example/zridge/service/enrolment"
)

const (
	maxRequest  = 64 << 10 // bytes of a request for a certificate, in base64
	retryAfter  = 60       // seconds after which a laptop asks again whether it is approved
	estPath     = "/.well-known/est/"
	typeCerts   = "application/pkcs7-mime; smime-type=certs-only"
	typeRequest = "application/pkcs10"
)

func (s *server) registerEST(engine *gin.Engine) {
	engine.Any(estPath+"*operation", s.est)
	engine.GET("/.well-known/crl", s.revocationList)
}

// est dispatches an operation of EST. There are no labels: one authority issues all certificates.
func (s *server) est(c *gin.Context) {
	operation := strings.TrimPrefix(c.Param("operation"), "/")
	does, known := map[string]struct {
		method string
		do     gin.HandlerFunc
	}{
		"cacerts":        {http.MethodGet, s.caCertificates},
		"csrattrs":       {http.MethodGet, s.requestAttributes},
		"simpleenroll":   {http.MethodPost, s.simpleEnrol},
		"simplereenroll": {http.MethodPost, s.simpleReenrol},
		"serverkeygen":   {http.MethodPost, notImplemented},
		"fullcmc":        {http.MethodPost, notImplemented},
	}[operation]
	switch {
	case !known || s.Enrolment == nil:
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "There is no such operation. Certificates are issued "+
			"over TLS alone."))
	case c.Request.Method != does.method:
		c.Header("Allow", does.method)
		writeProblem(c.Writer, problemOf(http.StatusMethodNotAllowed, "method-not-allowed", "found "+c.Request.Method+", expected "+does.method))
	case !originOf(c.Request.Context()).Secure:
		writeProblem(c.Writer, problemOf(http.StatusForbidden, "forbidden", "Certificates are issued over TLS alone."))
	default:
		does.do(c)
	}
}

func notImplemented(c *gin.Context) {
	writeProblem(c.Writer, problemOf(http.StatusNotImplemented, "not-implemented",
		"The operation is optional, and not offered: laptops make their own keys."))
}

// caCertificates gives the authority's certificates (RFC 7030, 4.1).
func (s *server) caCertificates(c *gin.Context) { writeCertificates(c, s.Enrolment.Chain()...) }

// writeCertificates answers with certificates as a certs-only message (RFC 5652), in base64.
func writeCertificates(c *gin.Context, list ...*x509.Certificate) {
	var all []byte
	for _, certificate := range list {
		all = append(all, certificate.Raw...)
	}
	message, err := pkcs7.DegenerateCertificate(all)
	if err != nil {
		writeProblem(c.Writer, problemOf(http.StatusInternalServerError, "internal", ""))
		return
	}
	writeBase64(c, typeCerts, message)
}

// writeBase64 answers with DER in base64, in lines (RFC 8951, 3.1).
func writeBase64(c *gin.Context, kind string, der []byte) {
	text := base64.StdEncoding.EncodeToString(der)
	var out bytes.Buffer
	for len(text) > 0 {
		n := min(64, len(text))
		out.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	c.Header("Content-Transfer-Encoding", "base64")
	c.Data(http.StatusOK, kind, out.Bytes())
}

// oidECDSAWithSHA256 names the signature that is recommended for requests (RFC 5758, 3.2).
var oidECDSAWithSHA256 = asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}

// requestAttributes says what a request should have (RFC 7030, 4.5.2): a signature by ECDSA with SHA-256.
func (s *server) requestAttributes(c *gin.Context) {
	der, err := asn1.Marshal([]asn1.ObjectIdentifier{oidECDSAWithSHA256})
	if err != nil {
		writeProblem(c.Writer, problemOf(http.StatusInternalServerError, "internal", ""))
		return
	}
	writeBase64(c, "application/csrattrs", der)
}

// requestIn reads a request for a certificate, and answers when it is none.
func requestIn(c *gin.Context) (der []byte, ok bool) {
	if kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type")); err != nil || kind != typeRequest {
		writeProblem(c.Writer, problemOf(http.StatusUnsupportedMediaType, "wrong-content-type", "found another content type, expected "+
			typeRequest))
		return nil, false
	}
	data, ok := body(c, maxRequest, http.StatusRequestEntityTooLarge)
	if !ok {
		return nil, false
	}
	// Line breaks are left out wherever they are, and nothing else is.
	der, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, bytes.NewReader(data)))
	if err != nil {
		writeProblem(c.Writer, problemOf(http.StatusBadRequest, "faults",
			"found a body that is no base64, expected a PKCS #10 request in DER, in base64"))
		return nil, false
	}
	return der, true
}

// simpleEnrol issues a certificate to a laptop with an invitation code (RFC 7030, 4.2.1).
func (s *server) simpleEnrol(c *gin.Context) {
	user, code, given := c.Request.BasicAuth()
	if !given {
		s.estFault(c, enrolment.ErrRefused)
		return
	}
	der, ok := requestIn(c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	issued, err := s.Enrolment.Enrol(ctx, user, code, der, originOf(ctx).Address)
	if err != nil {
		s.estFault(c, err)
		return
	}
	writeCertificates(c, issued)
}

// simpleReenrol issues a certificate in the place of the one by which the laptop is authenticated (RFC 7030, 4.2.2).
func (s *server) simpleReenrol(c *gin.Context) {
	ctx := c.Request.Context()
	old, err := s.certificateOf(ctx)
	if err != nil {
		s.estFault(c, err)
		return
	}
	der, ok := requestIn(c)
	if !ok {
		return
	}
	issued, err := s.Enrolment.Renew(ctx, old, der)
	if err != nil {
		s.estFault(c, err)
		return
	}
	writeCertificates(c, issued)
}

// certificateOf gives the certificate by which a laptop is authenticated, if it counts.
func (s *server) certificateOf(ctx context.Context) (*x509.Certificate, error) {
	from := originOf(ctx)
	if from.CertificateFault != nil {
		return nil, from.CertificateFault
	}
	if from.Certificate == nil {
		return nil, &enrolment.InvalidCertificateError{Reason: "there is none"}
	}
	_, err := s.Enrolment.Check(from.Certificate)
	return from.Certificate, err
}

// estFault answers with what went wrong.
func (s *server) estFault(c *gin.Context, err error) {
	var (
		request   *ca.RequestError
		notKnown  *enrolment.NotKnownError
		invalid   *enrolment.InvalidCertificateError
		early     *enrolment.TooEarlyError
		throttled *enrolment.ThrottledError
	)
	status, code, detail := 0, "faults", err.Error()
	switch {
	case errors.Is(err, enrolment.ErrWaits):
		c.Header("Retry-After", fmt.Sprint(retryAfter))
		c.Data(http.StatusAccepted, "text/plain; charset=utf-8", []byte("The enrolment waits for an approval. Send the same "+
			"request again.\n"))
		return
	case errors.Is(err, enrolment.ErrRefused):
		c.Header("WWW-Authenticate", `Basic realm="enrolment", charset="UTF-8"`)
		status, code, detail = http.StatusUnauthorized, "refused", "The device id or the invitation code is not right."
	case errors.Is(err, enrolment.ErrOtherRequest):
		status, code = http.StatusConflict, "wrong-state"
	case errors.As(err, &throttled):
		c.Header("Retry-After", fmt.Sprint(int(math.Ceil(throttled.After.Seconds()))))
		status, code = http.StatusTooManyRequests, "too-many"
	case errors.As(err, &request):
		status = http.StatusBadRequest
	case errors.As(err, &notKnown), errors.As(err, &invalid), errors.As(err, &early):
		status, code = http.StatusForbidden, "forbidden"
	default:
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
		return
	}
	writeProblem(c.Writer, problemOf(status, code, detail))
}

// revocationList gives the list of revoked certificates (RFC 5280, 5; RFC 2585 for its media type).
func (s *server) revocationList(c *gin.Context) {
	if s.Enrolment == nil {
		s.noRoute(c)
		return
	}
	list, err := s.Enrolment.RevocationList()
	if err != nil {
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Data(http.StatusOK, "application/pkix-crl", list)
}
