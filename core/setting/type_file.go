// This file has the type of files, which values name by their SHA-256, with what must be in the
// file.
//
// The bytes of a file are no part of the estate. The service keeps them once by their hash, has
// looked into them when they were stored, and gives them to laptops; the core only compares hashes.

package setting

import (
	"strings"

	"zenithridge.example/zridge/core/problem"
)

// Content says what must be in a file.
type Content string

const (
	AnyContent        Content = "any"
	CertificateFile   Content = "certificate"       // one X.509 certificate or a chain
	RulesFile         Content = "application-rules" // a rule set of application control
	ApplicationFile   Content = "application"       // what names an application and its signer
	NoContentDemanded Content = ""                  // the same as any
)

// Contents lists every Content that a definition may demand.
var Contents = []Content{AnyContent, CertificateFile, RulesFile, ApplicationFile}

// fileType is the behaviour of files. A value is the SHA-256 of a file's bytes; what is in the file
// is tested when it is stored (package contents).
type fileType struct{ unbounded }

// A definition of the type may say what must be in the file.
func (fileType) holds(v Value) bool { return v.kind == FileKind }
func (fileType) bounds() []string   { return []string{"content"} }

// check tests the form of the hash. Whether such a file was stored is known to the service alone.
func (fileType) check(_ *Shape, path string, v Value) []problem.Fault {
	if IsSHA256(v.text) {
		return nil
	}
	return []problem.Fault{
		{Code: problem.BadHash, Path: path, Found: problem.Quote(v.text), Expected: "the SHA-256 of a file: 64 hexadecimal " +
			"digits, lower case"},
	}
}

// expectation says what must be in the file.
func (fileType) expectation(s *Shape) string {
	switch s.Content {
	case CertificateFile:
		return "a file with a certificate"
	case RulesFile:
		return "a file with a rule set of application control"
	case ApplicationFile:
		return "the file of an application"
	}
	return "a file"
}

// validate tests the name of the content.
func (fileType) validate(s *Shape, path string) []problem.Fault {
	if s.Content == "" {
		return nil
	}
	return OneOf(problem.Join(path, "content"), s.Content, Contents)
}

// IsSHA256 tells whether text is a SHA-256 in lower-case hexadecimal, as files are named by
// everywhere.
func IsSHA256(text string) bool {
	return len(text) == 64 && strings.Trim(text, "0123456789abcdef") == ""
}

// StoreAt says what the laptop takes the certificates for in the file at a place below a value, as
// Value.EachFile gives it; empty: nothing is said.
func (s *Shape) StoreAt(at []any) Store {
	if len(at) == 2 {
		if c := s.Column(at[1].(string)); c != nil {
			return c.Store
		}
	}
	return ""
}

// ContentAt says what must be in the file at a place below a value, as Value.EachFile gives it.
func (s *Shape) ContentAt(at []any) Content {
	if len(at) == 2 {
		if c := s.Column(at[1].(string)); c != nil {
			return c.Content
		}
		return AnyContent
	}
	return s.Content
}
