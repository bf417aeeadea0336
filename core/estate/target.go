// This file implements targets and days.
//
// A target is written as text everywhere, such as unit:harbour-office, and is a small value that
// can be compared and used as a key. A day is a text as well, in a form whose order is that of the
// calendar.

package estate

import (
	"strings"
	"time"
)

// TargetKind is the kind of a target. The zero kind is no target.
type TargetKind uint8

const (
	NoTarget TargetKind = iota
	ToEveryone
	ToUnit
	ToGroup
	ToDevice
	ToPerson
)

// targetWords are what a written target begins with, before the colon.
var targetWords = map[string]TargetKind{"unit": ToUnit, "group": ToGroup, "device": ToDevice, "person": ToPerson}

// Target names whom an audience or an exception means. It is comparable; the zero Target is none.
type Target struct {
	Kind TargetKind
	ID   string // empty for everyone
}

// ParseTarget reads everyone, unit:ID, group:ID, device:ID or person:ID.
func ParseTarget(text string) (Target, bool) {
	if text == "everyone" {
		return Target{Kind: ToEveryone}, true
	}
	word, id, found := strings.Cut(text, ":")
	kind := targetWords[word]
	if !found || kind == NoTarget || !ValidID(id) {
		return Target{}, false
	}
	return Target{Kind: kind, ID: id}, true
}

// String gives the target as ParseTarget reads it.
func (t Target) String() string {
	return [...]string{"", "everyone", "unit:", "group:", "device:", "person:"}[t.Kind] + t.ID
}

// ValidID tells whether id is 1 to 128 letters, digits, '.', '_' or '-'.
func ValidID(id string) bool {
	if id == "" || len(id) > 128 {
		return false
	}
	for i := range len(id) {
		c := id[i]
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' || c == '_' || c == '-') {
			return false
		}
	}
	return true
}

// Date is a day of the form 2026-05-01, so that days order as texts. The zero Date is before every
// day.
type Date string

// ParseDate reads a day of the calendar.
func ParseDate(text string) (Date, bool) {
	if len(text) != len(time.DateOnly) {
		return "", false
	}
	if _, err := time.Parse(time.DateOnly, text); err != nil {
		return "", false
	}
	return Date(text), true
}
