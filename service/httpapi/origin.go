// This file says where a request comes from: which address, over TLS or not, and whether it is
// meant for this service.

package httpapi

import (
	"context"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/enrolment"
)

// origin is where a request comes from.
type origin struct {
	Address string // of the client: as a trusted proxy says, else of the other end of the connection
	Secure  bool   // it came over TLS, to here or to a trusted proxy

	Certificate      *x509.Certificate // of the laptop that sends it, which the authority issued; nil: none
	CertificateFault error             // why the certificate that a proxy passes on does not count
}

type originKey struct{}

func originOf(ctx context.Context) origin {
	o, _ := ctx.Value(originKey{}).(origin)
	return o
}

// locate finds out where a request comes from. What a proxy says is believed of those that the
// configuration names, of nobody else. Requests for another host are refused: a page of a stranger
// must not reach the service by a name of its own.
func (s *server) locate(c *gin.Context) {
	peer, _ := netip.ParseAddr(c.RemoteIP())
	from := origin{Address: peer.Unmap().String(), Secure: c.Request.TLS != nil}
	if s.trusts(peer) {
		for _, hop := range backwards(c.Request.Header.Values("X-Forwarded-For")) {
			address, err := netip.ParseAddr(hop)
			if err != nil {
				break
			}
			if from.Address = address.Unmap().String(); !s.trusts(address) {
				break
			}
		}
		from.Secure = c.GetHeader("X-Forwarded-Proto") == "https"
		from.Certificate, from.CertificateFault = s.passedOn(c.GetHeader("Client-Cert"))
	} else if c.Request.TLS != nil && len(c.Request.TLS.VerifiedChains) > 0 {
		from.Certificate = c.Request.TLS.PeerCertificates[0]
	}
	if s.MayHost != nil && !s.MayHost(hostOf(c.Request.Host)) {
		writeProblem(c.Writer, problemOf(http.StatusMisdirectedRequest, "wrong-host", "The service does not answer to the name in "+
			"this address."))
		c.Abort()
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), originKey{}, from))
}

// passedOn reads the certificate that a proxy in front of the service was shown: in base64 between colons (RFC
// 9440), or as PEM that is escaped as in a URL, which is what nginx has.
func (s *server) passedOn(header string) (*x509.Certificate, error) {
	if header == "" || s.Enrolment == nil {
		return nil, nil
	}
	var der []byte
	if text, is := strings.CutPrefix(header, ":"); is {
		der, _ = base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
	} else if text, err := url.PathUnescape(header); err == nil {
		if block, _ := pem.Decode([]byte(text)); block != nil {
			der = block.Bytes
		}
	}
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, &enrolment.InvalidCertificateError{Reason: "what the proxy passes on is none"}
	}
	if _, err := s.Enrolment.Verify(certificate); err != nil {
		return nil, err
	}
	return certificate, nil
}

func (s *server) trusts(address netip.Addr) bool {
	for _, p := range s.Proxies {
		if p.Contains(address.Unmap()) {
			return true
		}
	}
	return false
}

// backwards gives the addresses of X-Forwarded-For, the one that was added last first.
func backwards(headers []string) (hops []string) {
	all := strings.Split(strings.Join(headers, ","), ",")
	for i := len(all) - 1; i >= 0; i-- {
		if hop := strings.TrimSpace(all[i]); hop != "" {
			hops = append(hops, hop)
		}
	}
	return hops
}

// hostOf gives the name or address in a Host header, without its port and in lower case.
func hostOf(header string) string {
	host := header
	if name, _, err := net.SplitHostPort(header); err == nil {
		host = name
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}

// cookieName is the name of a cookie. Over TLS browsers see to it that nothing but this host can
// set it.
func cookieName(name string, secure bool) string {
	if secure {
		return "__Host-" + name
	}
	return name
}
