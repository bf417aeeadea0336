// This file has detachments: what a unit or a group stops inheriting from outer levels.
//
// A place can be cut off from one kind of policy or from the settings of one area, such as updates.
// Locked entries arrive all the same. A detachment has a reason and may have a day on which
// somebody looks at it again.

package estate

import (
	"strings"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Detachment is one thing that the laptops of a unit or a group stop inheriting: the entries of one
// kind of policy, or the entries for the settings of one area of the dictionary. Exactly one of
// Kind and Area is set; the zero Detachment detaches nothing.
type Detachment struct {
	Kind     setting.PolicyKind
	Area     string
	Reason   string // why; may be empty
	ReviewOn Date   // the day on which somebody looks at it again; empty: none
}

// areaPrefix marks the text of a detachment that names an area.
const areaPrefix = "area:"

// ParseDetachment reads what a detachment detaches, as String writes it. ok is false where the text
// is neither a kind of policy nor an area.
func ParseDetachment(what string) (d Detachment, ok bool) {
	if area, is := strings.CutPrefix(what, areaPrefix); is {
		return Detachment{Area: area}, area != ""
	}
	for _, kind := range setting.PolicyKinds {
		if string(kind) == what {
			return Detachment{Kind: kind}, true
		}
	}
	return Detachment{}, false
}

// String gives what is detached as the estate format writes it: "security", or "area:updates".
func (d Detachment) String() string {
	if d.Area != "" {
		return areaPrefix + d.Area
	}
	return string(d.Kind)
}

// Covers tells whether a detachment is about entries for settings of an area in policies of a kind.
func (d Detachment) Covers(kind setting.PolicyKind, area string) bool {
	return d.Kind != "" && d.Kind == kind || d.Area != "" && d.Area == area
}

// Detached gives what detachments detach, as texts.
func Detached(list []Detachment) []string {
	out := make([]string, len(list))
	for i, d := range list {
		out[i] = d.String()
	}
	return out
}

// detachments checks the detachments of a unit or a group.
func (v *validator) detachments(path string, list []Detachment) {
	for i, d := range list {
		if d.Kind == "" && d.Area == "" || d.Kind != "" && d.Area != "" {
			v.add(problem.Fault{Code: problem.NotOneOf, Path: problem.Join(path, i), Found: problem.Quote(d.String()), Expected: DetachmentForm})
		}
	}
	v.add(setting.NoRepeats(path, Detached(list))...)
}

// DetachmentForm says in faults what a detachment looks like.
const DetachmentForm = "configuration, security, encryption or area:NAME"
