package contents_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// refusedWith reads a file that must be refused, and wants a part of the reason.
func refusedWith(t *testing.T, name string, data []byte, o contents.Options, reason string) {
	t.Helper()
	r, err := contents.Read(name, data, o)
	var faults problem.Faults
	if !errors.As(err, &faults) {
		t.Errorf("%s was taken as %+v, expected a refusal: %s", name, r, reason)
		return
	}
	if faults[0].Code != problem.WrongContent || !strings.Contains(err.Error(), reason) {
		t.Errorf("%s: %v, expected %q", name, err, reason)
	}
}

func taken(t *testing.T, name string, data []byte, o contents.Options) *contents.Reading {
	t.Helper()
	r, err := contents.Read(name, data, o)
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return r
}

// openssl runs the real tool in a folder.
func openssl(t *testing.T, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("openssl", args...)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("openssl %v: %v\n%s", args, err, out)
	}
}

func file(t *testing.T, parts ...string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(parts...))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestCertificatesOfOpenSSL reads what openssl makes: DER and PEM, chains, several kinds of keys.
func TestCertificatesOfOpenSSL(t *testing.T) {
	dir := t.TempDir()
	openssl(
		t,
		dir,
		"req",
		"-x509",
		"-newkey",
		"rsa:3072",
		"-nodes",
		"-keyout",
		"root.key",
		"-out",
		"root.pem",
		"-days",
		"3650",
		"-subj",
		"/O=Larkfell Hydrographic/CN=Larkfell Root",
		"-addext",
		"basicConstraints=critical,CA:TRUE",
	)
	openssl(
		t,
		dir,
		"req",
		"-newkey",
		"ec",
		"-pkeyopt",
		"ec_paramgen_curve:P-256",
		"-nodes",
		"-keyout",
		"web.key",
		"-out",
		"web.csr",
		"-subj",
		"/CN=charts.larkfell.example",
		"-addext",
		"subjectAltName=DNS:charts.larkfell.example,IP:10.2.0.9",
	)
	openssl(
		t,
		dir,
		"x509",
		"-req",
		"-in",
		"web.csr",
		"-CA",
		"root.pem",
		"-CAkey",
		"root.key",
		"-set_serial",
		"0xbeef",
		"-days",
		"90",
		"-copy_extensions",
		"copy",
		"-out",
		"web.pem",
	)
	openssl(t, dir, "x509", "-in", "root.pem", "-outform", "DER", "-out", "root.der")
	openssl(
		t,
		dir,
		"req",
		"-x509",
		"-newkey",
		"ed25519",
		"-nodes",
		"-keyout",
		"ed.key",
		"-out",
		"ed.pem",
		"-days",
		"10",
		"-subj",
		"/CN=soon.larkfell.example",
	)
	o := contents.Options{Expect: setting.CertificateFile, Day: time.Now()}

	root := taken(t, "root.pem", file(t, dir, "root.pem"), o).Certificates[0]
	if !root.SelfSigned || !root.Authority || root.Key != "RSA 3072 bits" || root.Subject != "CN=Larkfell Root,O=Larkfell Hydrographic" {
		t.Errorf("the root is %+v", root)
	}
	if der := taken(t, "root.der", file(t, dir, "root.der"), o).Certificates[0]; der.SHA256 != root.SHA256 {
		t.Errorf("DER and PEM of one certificate have the fingerprints %s and %s", der.SHA256, root.SHA256)
	}
	chain := taken(t, "chain.pem", append(file(t, dir, "web.pem"), file(t, dir, "root.pem")...), o)
	if len(chain.Certificates) != 2 || chain.MediaType != "application/pem-certificate-chain" {
		t.Fatalf("the chain is %+v", chain)
	}
	web := chain.Certificates[0]
	if web.SelfSigned || web.Authority || web.Serial != "beef" || web.Key != "ECDSA P-256" || web.Issuer != root.Subject ||
		strings.Join(web.AlternativeNames, " ") != "charts.larkfell.example 10.2.0.9" {
		t.Errorf("the site is %+v", web)
	}
	if soon := taken(
		t,
		"ed.pem",
		file(t, dir, "ed.pem"),
		o,
	); soon.Certificates[0].Key != "Ed25519" ||
		!strings.Contains(strings.Join(soon.Warnings, " "), "expires in") {
		t.Errorf("the one that expires soon is %+v", soon)
	}

	later := o
	later.Day = time.Now().AddDate(20, 0, 0)
	refusedWith(t, "root.pem", file(t, dir, "root.pem"), later, "expired on")
	later.AcceptExpired = true
	if r := taken(t, "root.pem", file(t, dir, "root.pem"), later); !r.Certificates[0].ExpiredOnReading {
		t.Errorf("a confirmed expired certificate is %+v", r)
	}
	for _, key := range []string{"root.key", "web.key", "ed.key"} {
		refusedWith(t, key, file(t, dir, key), o, "a private key")
		refusedWith(t, key, file(t, dir, key), contents.Options{}, "a private key") // whatever it should be
	}
	refusedWith(t, "both.pem", append(file(t, dir, "root.pem"), file(t, dir, "root.key")...), o, "a private key")
	openssl(t, dir, "pkcs8", "-topk8", "-in", "root.key", "-outform", "DER", "-nocrypt", "-out", "root.p8")
	refusedWith(t, "root.p8", file(t, dir, "root.p8"), o, "a private key")
	openssl(t, dir, "pkcs12", "-export", "-inkey", "root.key", "-in", "root.pem", "-passout", "pass:secret", "-out", "root.p12")
	refusedWith(t, "root.p12", file(t, dir, "root.p12"), o, "a private key")
	refusedWith(t, "web.csr", file(t, dir, "web.csr"), o, "CERTIFICATE REQUEST")
	refusedWith(t, "cut.pem", file(t, dir, "root.pem")[:400], o, "cut short or damaged")
	refusedWith(t, "cut.der", file(t, dir, "root.der")[:400], o, "no certificate")
	refusedWith(t, "many.pem", bytes.Repeat(file(t, dir, "root.pem"), 21), o, "more than 20")
	refusedWith(t, "wide.pem", append([]byte{0xff, 0xfe}, wide(string(file(t, dir, "root.pem")))...), o, "text in UTF-16")
	refusedWith(t, "note.txt", []byte("certificate"), o, "something else")
	refusedWith(t, "empty.pem", nil, o, "an empty file")
	if r := taken(
		t,
		"twice.pem",
		append(file(t, dir, "root.pem"), file(t, dir, "root.pem")...),
		o,
	); !strings.Contains(
		strings.Join(r.Warnings, " "),
		"twice",
	) {
		t.Errorf("one certificate twice: %+v", r.Warnings)
	}
}

func wide(text string) []byte {
	out := make([]byte, 0, 2*len(text))
	for _, r := range text {
		out = binary.LittleEndian.AppendUint16(out, uint16(r))
	}
	return out
}

// TestApplications reads property lists made by another program, a signed executable, .desktop
// entries and a real Debian package.
func TestApplications(t *testing.T) {
	for name, want := range map[string]contents.Application{
		"helpline.xml.plist": {Name: "Helpline", Identifier: "example.saltmarsh.helpline", Version: "4.2.1", Signed: "unknown",
			Platform: "macos", Source: "a property list"},
		"helpline-crew.binary.plist": {Name: "Helpline Crew", Identifier: "example.saltmarsh.helpline.crew", Version: "4.2.1",
			Signed: "unknown", Platform: "macos", Source: "a property list"},
		"helpline.exe": {Name: "Helpline for remote support", Identifier: "helpline.exe", Version: "4.2.1",
			Signer: "Saltmarsh Tools", Signed: "verified", Platform: "windows", Source: "a Windows executable"},
		"helpline-unsigned.exe": {Name: "Helpline for remote support", Identifier: "helpline.exe", Version: "4.2.1",
			Signed: "none", Platform: "windows", Source: "a Windows executable"},
	} {
		if r := taken(t, name, file(t, "testdata", name), contents.Options{Expect: setting.ApplicationFile}); *r.Application != want {
			t.Errorf("%s is %+v, expected %+v", name, *r.Application, want)
		}
	}
	altered := file(t, "testdata", "helpline.exe")
	altered[0x210] ^= 1 // in the code
	if r := taken(
		t,
		"altered.exe",
		altered,
		contents.Options{},
	); r.Application.Signed != "unverified" ||
		!strings.Contains(strings.Join(r.Warnings, " "), "does not fit the file") {
		t.Errorf("an executable that was altered after signing is %+v", r.Application)
	}
	desktop := "# made up\n[Desktop Entry]\nType=Application\nName=Helpline\nExec=env LANG=C /opt/helpline/bin/helpline --support %u\n\n" +
		"[Desktop Action New]\nName=Another\nExec=other\n"
	if a := taken(
		t,
		"helpline.desktop",
		[]byte(desktop),
		contents.Options{},
	).Application; a.Identifier != "helpline" || a.Name != "Helpline" ||
		a.Platform != "linux" {
		t.Errorf("the .desktop entry is %+v", a)
	}
	for _, packing := range []string{"gzip", "xz", "zstd", "none"} {
		if a := taken(
			t,
			"helpline.deb",
			debianPackage(t, packing),
			contents.Options{},
		).Application; a.Identifier != "helpline-crew" || a.Version != "4.2.1-1" ||
			a.Name != "remote support for crews" {
			t.Errorf("the package packed with %s is %+v", packing, a)
		}
	}
}

// debianPackage builds a package with the real tool.
func debianPackage(t *testing.T, packing string) []byte {
	t.Helper()
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "p", "DEBIAN"), 0o755); err != nil {
		t.Fatal(err)
	}
	control := "Package: helpline-crew\nVersion: 4.2.1-1\nArchitecture: all\nMaintainer: Saltmarsh Tools <tools@saltmarsh.example>\n" +
		"Description: remote support for crews\n more words\n .\n Version: 9\n"
	if err := os.WriteFile(filepath.Join(dir, "p", "DEBIAN", "control"), []byte(control), 0o644); err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(dir, "p.deb")
	if text, err := exec.Command("dpkg-deb", "-Z"+packing, "--uniform-compression", "--root-owner-group", "-b", filepath.Join(dir, "p"), out).
		CombinedOutput(); err != nil {
		t.Fatalf("dpkg-deb: %v\n%s", err, text)
	}
	return file(t, out)
}

func TestBundles(t *testing.T) {
	info := file(t, "testdata", "helpline.xml.plist")
	o := contents.Options{Expect: setting.ApplicationFile}
	bundle := zipOf(
		t,
		map[string][]byte{
			"Helpline.app/Contents/Info.plist":                         info,
			"Helpline.app/Contents/MacOS/helpline":                     signedProgram("example.saltmarsh.helpline", "SALTMARSH1", true),
			"Helpline.app/Contents/PlugIns/In.app/Contents/Info.plist": []byte("x"),
		},
	)
	r := taken(t, "Helpline.zip", bundle, o)
	if a := r.Application; a.Identifier != "example.saltmarsh.helpline" || a.Signer != "SALTMARSH1" || a.Signed != "unverified" ||
		a.Source != "an application bundle" {
		t.Errorf("the bundle is %+v", a)
	}
	other := taken(
		t,
		"Helpline.zip",
		zipOf(
			t,
			map[string][]byte{
				"Helpline.app/Contents/Info.plist":     info,
				"Helpline.app/Contents/MacOS/helpline": signedProgram("example.other", "", false),
			},
		),
		o,
	)
	if other.Application.Signed != "none" || !strings.Contains(strings.Join(other.Warnings, " "), "is signed as example.other") {
		t.Errorf("a program that is signed as another: %+v %v", other.Application, other.Warnings)
	}
	refusedWith(
		t,
		"two.zip",
		zipOf(t, map[string][]byte{"A.app/Contents/Info.plist": info, "B.app/Contents/Info.plist": info}),
		o,
		"2 applications side by side",
	)
	refusedWith(t, "none.zip", zipOf(t, map[string][]byte{"readme.txt": info}), o, "no application bundle")
	refusedWith(t, "cut.zip", bundle[:len(bundle)/2], o, "can't be read")
}

func zipOf(t *testing.T, entries map[string][]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, data := range entries {
		f, err := w.Create(name)
		if err == nil {
			_, err = f.Write(data)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// signedProgram makes a program for macOS of a header and a code signature: a directory that names
// the identifier and team, and where somebody signed, a signature beside it.
func signedProgram(identifier, team string, signed bool) []byte {
	directory := make([]byte, 52, 128)
	binary.BigEndian.PutUint32(directory, 0xfade0c02)
	binary.BigEndian.PutUint32(directory[8:], 0x20200)
	if !signed {
		binary.BigEndian.PutUint32(directory[12:], 2) // nobody signed
	}
	binary.BigEndian.PutUint32(directory[20:], uint32(len(directory)))
	directory = append(append(directory, identifier...), 0)
	if team != "" {
		binary.BigEndian.PutUint32(directory[48:], uint32(len(directory)))
		directory = append(append(directory, team...), 0)
	}
	binary.BigEndian.PutUint32(directory[4:], uint32(len(directory)))
	signature := []byte{0xfa, 0xde, 0x0b, 0x01, 0, 0, 0, 16, 1, 2, 3, 4, 5, 6, 7, 8}
	blob := make([]byte, 28)
	binary.BigEndian.PutUint32(blob, 0xfade0cc0)
	binary.BigEndian.PutUint32(blob[8:], 2)
	binary.BigEndian.PutUint32(blob[16:], 28)
	binary.BigEndian.PutUint32(blob[20:], 0x10000)
	binary.BigEndian.PutUint32(blob[24:], uint32(28+len(directory)))
	blob = append(blob, directory...)
	if signed {
		blob = append(blob, signature...)
	} else {
		blob = append(blob, 0xfa, 0xde, 0x0b, 0x01, 0, 0, 0, 8)
	}
	header := make([]byte, 48)
	for i, word := range []uint32{0xfeedfacf, 0x0100000c, 0, 2, 1, 16, 0, 0, 0x1d, 16, 48, uint32(len(blob))} {
		binary.LittleEndian.PutUint32(header[4*i:], word)
	}
	return append(header, blob...)
}

func TestOtherFilesAreTakenWhereAnyWillDo(t *testing.T) {
	for name, data := range map[string]string{"script.sh": "#!/bin/sh\n", "data.json": `{"a": 1}`,
		"page.xml": `<?xml version="1.0"?><a/>`, "picture.png": "\x89PNG\r\n", "note.txt": "\xff\xfeh\x00i\x00"} {
		if r := taken(t, name, []byte(data), contents.Options{}); r.Content != setting.AnyContent {
			t.Errorf("%s was taken for %s", name, r.Content)
		}
		if _, err := contents.Read(name, []byte(data), contents.Options{Expect: setting.ApplicationFile}); err == nil {
			t.Errorf("%s was taken for an application", name)
		}
	}
}
