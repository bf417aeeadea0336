// Package contents reads what is in a file that a setting holds, so that nobody retypes it:
// certificates, rule sets of application control, and what names an application and its signer. It
// says why a file is refused.
//
// Everything that comes in is taken to be hostile: sizes, depths and expansions are bounded,
// nothing is run, and no bytes of a refused file are repeated in its fault.
package contents

import (
	"bytes"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Reading is what was read out of a file. What the file is says Content; other kinds are absent.
type Reading struct {
	Content      setting.Content `json:"content" enum:"any,certificate,application-rules,application" doc:"any: nothing could be read out of it"`
	MediaType    string          `json:"media_type"`
	Certificates []Certificate   `json:"certificates,omitempty"`
	Rules        *RuleSet        `json:"rules,omitempty"`
	Application  *Application    `json:"application,omitempty"`
	Warnings     []string        `json:"warnings,omitempty" doc:"What is odd about it, though it is taken"`
}

// Options say how a file is judged.
type Options struct {
	Expect        setting.Content // what it must be; empty or any: whatever it is
	Day           time.Time       // on which validity is judged; zero: it is not judged
	AcceptExpired bool            // take a certificate that has expired: somebody confirmed it
}

// refusal is why a file is not taken.
type refusal struct{ found, expected string }

func (r *refusal) Error() string { return "found " + r.found + ", expected " + r.expected }

func refuse(found, expected string) error { return &refusal{found, expected} }

// Read reads a file. The error is a problem.Faults with the code wrong-content.
func Read(name string, data []byte, o Options) (reading *Reading, err error) {
	defer func() {
		if crash := recover(); crash != nil { // of a parser that hostile bytes upset
			reading, err = nil, refuse("a file that can't be read", expected(o.Expect))
		}
		if r, refused := err.(*refusal); refused {
			err = problem.Faults{{Code: problem.WrongContent, Path: "/file", Found: problem.Quote(name) + ": " + r.found, Expected: r.expected}}
		}
	}()
	if len(data) == 0 {
		return nil, refuse("an empty file", expected(o.Expect))
	}
	if isPrivateKey(data) {
		return nil, refuse(
			"a private key",
			"nothing secret: whoever may see this policy could read it. Use the certificate alone, and replace the key if others may "+
				"have seen it",
		)
	}
	reading, err = recognise(name, data, o)
	if err != nil {
		return nil, err
	}
	if o.Expect != "" && o.Expect != setting.AnyContent && reading.Content != o.Expect {
		return nil, refuse(describe(reading), expected(o.Expect))
	}
	return reading, nil
}

// recognise tells by the bytes what a file is, and reads it. What it should be decides only between
// readings that bytes leave open.
func recognise(name string, data []byte, o Options) (*Reading, error) {
	switch {
	case bytes.HasPrefix(data, []byte("!<arch>\n")):
		return readPackage(data)
	case bytes.HasPrefix(data, []byte("MZ")):
		return readExecutable(data)
	case bytes.HasPrefix(data, []byte("PK\x03\x04")), bytes.HasPrefix(data, []byte("PK\x05\x06")):
		return readBundle(data, o)
	case bytes.HasPrefix(data, []byte("bplist0")):
		return readPropertyList(data, o)
	case len(data) > 1 && (data[0] == 0xfe && data[1] == 0xff || data[0] == 0xff && data[1] == 0xfe):
		if o.Expect == "" || o.Expect == setting.AnyContent {
			return other("text/plain"), nil
		}
		return nil, refuse("text in UTF-16", expected(o.Expect)+", in UTF-8 or, for a certificate, DER")
	case looksLikeCertificate(data):
		return readCertificates(data, o)
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case bytes.HasPrefix(text, []byte("{")) && (o.Expect == setting.RulesFile || bytes.Contains(text[:min(len(text), 4096)],
		[]byte(rulesFormat))):
		return readRules(text)
	case bytes.HasPrefix(text, []byte("<?xml")), bytes.HasPrefix(text, []byte("<!DOCTYPE plist")), bytes.HasPrefix(text, []byte("<plist")):
		return readPropertyList(data, o)
	case bytes.Contains(text[:min(len(text), 4096)], []byte("[Desktop Entry]")):
		return readDesktopEntry(text)
	}
	if o.Expect == setting.RulesFile {
		return nil, refuse("no JSON object", expected(o.Expect))
	}
	return other("application/octet-stream"), nil
}

func other(mediaType string) *Reading {
	return &Reading{Content: setting.AnyContent, MediaType: mediaType}
}

// expected says in words what a file must be.
func expected(c setting.Content) string {
	switch c {
	case setting.CertificateFile:
		return "an X.509 certificate or a chain of them, PEM or DER"
	case setting.RulesFile:
		return "a rule set of application control (JSON with \"format\": \"" + rulesFormat + "\")"
	case setting.ApplicationFile:
		return "an application: a zipped application bundle or its property list, a Debian package, a .desktop entry, or a " +
			"Windows executable"
	}
	return "a file"
}

// describe says in words what a file is.
func describe(r *Reading) string {
	switch r.Content {
	case setting.CertificateFile:
		return fmt.Sprintf("a certificate of %s", r.Certificates[0].Subject)
	case setting.RulesFile:
		return "a rule set of application control"
	case setting.ApplicationFile:
		return "the application " + r.Application.Name
	}
	return "something else (" + r.MediaType + ")"
}
