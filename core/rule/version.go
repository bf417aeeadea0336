// This file compares dotted version numbers.
//
// Versions are texts such as 14.6 or 10.4.2. As texts, 9 would come after 10, so each number is
// compared by itself, without a limit on its length.

package rule

import (
	"fmt"
	"strings"
)

// CompareVersions orders two dotted numbers: negative when a is below b, 0 when equal. Parts are
// compared as numbers from the left, missing parts are 0, leading zeros do not count; numbers may
// be of any length. A part that is not a number is an error.
func CompareVersions(a, b string) (int, error) {
	as, err := versionParts(a)
	if err != nil {
		return 0, err
	}
	bs, err := versionParts(b)
	if err != nil {
		return 0, err
	}
	// The shorter number is filled with zeros: 1.2 equals 1.2.0.
	for i := range max(len(as), len(bs)) {
		if order := compareNumbers(part(as, i), part(bs, i)); order != 0 {
			return order, nil
		}
	}
	return 0, nil
}

// versionParts gives the parts without leading zeros; a zero is the empty text. Numbers are kept as
// text: there is no limit on their length.
func versionParts(v string) ([]string, error) {
	parts := strings.Split(v, ".")
	for i, p := range parts {
		if p == "" || strings.Trim(p, "0123456789") != "" {
			return nil, fmt.Errorf("%q is no dotted version number: part %d is not a number", v, i+1)
		}
		parts[i] = strings.TrimLeft(p, "0")
	}
	return parts, nil
}

// part gives one number of a version; versions of different lengths are compared as if they ended
// in zeros.
func part(parts []string, i int) string {
	if i < len(parts) {
		return parts[i]
	}
	return ""
}

// compareNumbers orders two decimal numbers without leading zeros: the longer is the greater.
func compareNumbers(a, b string) int {
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(a, b)
}
