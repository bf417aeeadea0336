// This file has the type of texts, with a greatest length, a pattern, and formats that a pattern
// can't say well.
//
// A format has a check of its own, which says what is wrong in words: a pattern could only say that
// the text does not match.

package setting

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"zenithridge.example/zridge/core/problem"
)

// Format names a check of texts that a pattern can't say well.
type Format string

// NodePath is the path of a node of a laptop's management tree (OMA Device Management, Tree and
// Description 1.2, section 7).
const NodePath Format = "node-path"

// Formats lists every Format.
var Formats = []Format{NodePath}

// nodeName is what a name in a path may have; other characters are escaped as %XX.
var nodeName = regexp.MustCompile(`^[A-Za-z0-9._~%@:+-]+$`)

// checkNodePath says what is wrong with a path, and what is expected instead; both are empty when
// nothing is. What people most often leave in from documentation, such as braces, has a message of
// its own.
func checkNodePath(path string) (wrong, expected string) {
	rest, rooted := strings.CutPrefix(path, "./")
	switch {
	case !rooted:
		return "it does not start at the root", "a path that starts with ./"
	case strings.ContainsAny(path, "{}"):
		return "a brace is left in it", "the id itself, with no { or } around it"
	case strings.Contains(path, "//"):
		return "a slash is doubled", "one slash between two names"
	case strings.HasSuffix(path, "/"):
		return "it ends with a slash", "a path that ends with the name of a node"
	}
	for name := range strings.SplitSeq(rest, "/") {
		if name == "." || name == ".." {
			return "it has the relative part " + name, "every name written out"
		}
		if !nodeName.MatchString(name) {
			return "the name " + problem.Quote(
				name,
			) + " has a character that names can't have", "letters, digits and . _ ~ % @ : + - in each name; others as %XX"
		}
	}
	return "", ""
}

// textType is the behaviour of texts. They have no order of strictness.
type textType struct{ unbounded }

// A definition of the type may have a pattern, a greatest length in characters, and a format.
func (textType) holds(v Value) bool { return v.kind == Text }
func (textType) bounds() []string   { return []string{"pattern", "max_length", "format"} }

// check tests the length first: a pattern is not tried on a text that is too long.
func (textType) check(s *Shape, path string, v Value) []problem.Fault {
	fault := func(code problem.Code, found, expected string) []problem.Fault {
		return []problem.Fault{{Code: code, Path: path, Found: found, Expected: expected}}
	}
	if n := utf8.RuneCountInString(v.text); s.MaxLength != nil && int64(n) > *s.MaxLength {
		return fault(problem.OutOfRange, fmt.Sprintf("%d characters", n), s.Expectation())
	}
	if s.Pattern != nil && !s.Pattern.MatchString(v.text) {
		return fault(problem.PatternMismatch, problem.Quote(v.text), s.Expectation())
	}
	if s.Format == NodePath {
		if wrong, expected := checkNodePath(v.text); wrong != "" {
			return fault(problem.BadPath, problem.Quote(v.text)+": "+wrong, expected)
		}
	}
	return nil
}

// expectation names the format, or the bounds that there are.
func (textType) expectation(s *Shape) string {
	if s.Format == NodePath {
		return "the path of a management node, such as ./Device/Plotter/KeepAwake"
	}
	words := "text"
	if s.MaxLength != nil {
		words += " of at most " + strconv.FormatInt(*s.MaxLength, 10) + " characters"
	}
	if s.Pattern != nil {
		words += " that matches " + s.Pattern.String()
	}
	return words
}

// validate tests the name of the format; the pattern was compiled when it was read.
func (textType) validate(s *Shape, path string) []problem.Fault {
	if s.Format == "" {
		return nil
	}
	return OneOf(problem.Join(path, "format"), s.Format, Formats)
}
