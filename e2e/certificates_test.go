package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// signer is a certificate with its key.
type signer struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// certified makes a certificate that is signed by another one, or by itself.
func certified(t *testing.T, name string, authority bool, by *signer) *signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	serial, _ := rand.Int(rand.Reader, big.NewInt(1<<62))
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(5, 0, 0),
		IsCA: authority, BasicConstraintsValid: true,
	}
	parent, signing := template, key
	if by != nil {
		parent, signing = by.certificate, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signing)
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &signer{certificate, key}
}

// pemFile writes certificates into one file, in their order.
func pemFile(t *testing.T, name string, of ...*signer) string {
	t.Helper()
	var text bytes.Buffer
	for _, s := range of {
		pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: s.certificate.Raw})
	}
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, text.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestCertificatesInTheirStores: what is no authority is refused as one, an authority in the wrong
// list is noticed, a chain is split, and a replaced authority is warned of.
func TestCertificatesInTheirStores(t *testing.T) {
	t.Parallel()
	r, _ := withDemo(t)
	root := certified(t, "Larkfell Root", true, nil)
	between := certified(t, "Larkfell Issuing", true, root)
	server := certified(t, "wiki.larkfell.example", false, between)
	alone := certified(t, "printer.larkfell.example", false, nil)
	r.must("policy", "new", "our-ca", "--title", "Our authority", "--kind", "security")
	set := func(args ...string) (string, string, int) {
		t.Helper()
		return r.run("", append([]string{"policy", "set", "our-ca"}, args...)...)
	}
	for file, want := range map[string]string{
		pemFile(t, "server.pem", server): "is of a server, a program or a person, signed by CN=Larkfell Issuing",
		pemFile(t, "alone.pem", alone):   "no authority: it is signed by itself",
	} {
		for _, setting := range []string{"trust.machine_roots", "trust.machine_intermediates", "trust.person_roots"} {
			if out, errOut, status := set(setting + "=@" + file); status != 1 || !strings.Contains(errOut, "wrong-content") ||
				!strings.Contains(errOut, want) {
				t.Errorf("%s in %s: status %d %s%s", filepath.Base(file), setting, status, out, errOut)
			}
		}
	}
	if out, _, status := set("trust.machine_roots=@" + pemFile(t, "between.pem", between)); status != 0 ||
		!strings.Contains(out, "an intermediate authority, signed by CN=Larkfell Root; it belongs into trust.machine_intermediates") {
		t.Errorf("an intermediate authority among the roots: status %d\n%s", status, out)
	}
	if out, _, status := set("trust.machine_intermediates=@" + pemFile(t, "root.pem", root)); status != 0 ||
		!strings.Contains(out, "is a root authority; it belongs into trust.machine_roots") {
		t.Errorf("a root among the intermediate authorities: status %d\n%s", status, out)
	}
	chain := pemFile(t, "chain.pem", server, between, root)
	out, errOut, status := set("trust.machine_roots=@" + chain)
	if status != 0 || !strings.Contains(out, "left out of the chain: CN=Larkfell Issuing is an intermediate authority") ||
		!strings.Contains(
			out,
			"left out of the chain: CN=wiki.larkfell.example is no authority",
		) || strings.Contains(out, "it belongs into trust.machine_intermediates") {
		t.Errorf("a chain among the roots: status %d\n%s%s", status, out, errOut)
	}
	if out, _, status := set("trust.machine_intermediates=@" + chain); status != 0 ||
		!strings.Contains(out, "left out of the chain: CN=Larkfell Root is a root authority") {
		t.Errorf("a chain among the intermediate authorities: status %d\n%s", status, out)
	}
	if _, errOut, status := set("trust.machine_roots=@" + pemFile(t, "none.pem", server, between)); status != 2 ||
		!strings.Contains(errOut, "none of the 2 certificates") {
		t.Errorf("a chain without a root: status %d %s", status, errOut)
	}
	r.must("policy", "audience", "our-ca", "--include", "unit:labs")
	r.must("change", "publish", r.changes()[0], "--yes")

	next := certified(t, "Larkfell Root", true, nil)
	if out, _, _ := set("trust.machine_roots=@" + pemFile(t, "next.pem", next)); !strings.Contains(
		out,
		"The only certificate of CN=Larkfell Root",
	) {
		t.Errorf("the authority is replaced: %s", out)
	}
	if out, _, _ := set("--add", "trust.machine_roots=@"+pemFile(t, "root.pem", root)); strings.Contains(out, "The only certificate of") {
		t.Errorf("both are there: %s", out)
	}
}
