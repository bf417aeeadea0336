// This file finds conditions that name what no laptop or person has, or that are never true: most
// often something is misspelt.
//
// A condition with a mistake compiles, and reaches nobody without a word. So every part of it that
// looks at one field is compared with the values that the field has in the estate, and the nearest
// of these is proposed.

package review

import (
	"slices"
	"strings"

	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
)

// RemarkKind says what is odd about a part of an expression. Its words are part of the API.
type RemarkKind string

const (
	UnknownField RemarkKind = "unknown-field" // nobody has the field
	UnknownValue RemarkKind = "unknown-value" // nobody has the value that the field is compared with
	NeverTrue    RemarkKind = "never-true"    // it is true of nobody
)

// Remark is something odd about a part of an expression. It is no fault: laptops may come that have
// what is named.
type Remark struct {
	Kind  RemarkKind
	Part  string    // of the expression
	Of    rule.Look // what it looks at
	Found string    // with UnknownValue: the value that nobody has
	Near  string    // the nearest field or value that is known; empty: none is near
}

// valuesLookedAt is how many different values of a field are looked at. A field with more is taken
// to have any.
const valuesLookedAt = 10_000

// Remarks looks at each part of an expression over the laptops and people of a plan. Parts that
// look at several fields, or at none, are left out, and so are those that read settings: which
// settings there will be is not known from the laptops.
func Remarks(plan *resolve.Plan, r *rule.Rule) []Remark {
	if r == nil {
		return nil
	}
	var out []Remark
	var visit func(f *rule.Formula)
	visit = func(f *rule.Formula) {
		for _, part := range f.Parts {
			visit(part)
		}
		if f.Test != nil && !f.Test.Whole && len(f.Test.Looks) == 1 && f.Test.Looks[0].Variable != "settings" {
			out = append(out, remarksOn(plan, f.Test)...)
		}
	}
	visit(r.Formula())
	return out
}

// remarksOn looks at one part, which looks at one field.
func remarksOn(plan *resolve.Plan, t *rule.Test) []Remark {
	of := t.Looks[0]
	values, known := plan.FieldValues(of, valuesLookedAt)
	snapshot := plan.Snapshot()
	if of.Variable == "person" && len(snapshot.People) == 0 || of.Variable != "person" && len(snapshot.Devices) == 0 {
		return nil // nothing is known yet
	}
	// Nobody has the field at all.
	if known == 0 {
		names := plan.FieldNames(of.Variable)
		return []Remark{{Kind: UnknownField, Part: t.Source, Of: of, Near: nearest(of.Field, names)}}
	}
	// There may be more values than were given, and any of them may be the one.
	if len(values) == valuesLookedAt {
		return nil
	}
	var texts []string
	for _, v := range values {
		if v.Kind() == setting.List {
			texts = append(texts, v.Items()...)
		} else {
			texts = append(texts, v.Text())
		}
	}
	meant := texts // what may have been meant
	// A platform of which there is no laptop yet is no mistake.
	if of.Field == "os" {
		for _, platform := range setting.Platforms {
			meant = append(meant, string(platform))
		}
	}
	var out []Remark
	for _, text := range t.Texts {
		if !slices.Contains(texts, text) && !(of.Field == "os" && slices.Contains(meant, text)) {
			out = append(out, Remark{Kind: UnknownValue, Part: t.Source, Of: of, Found: text, Near: nearest(text, meant)})
		}
	}
	// Every text is known. The part may still hold for none of the values, as with a number that
	// nobody reaches.
	if len(out) == 0 && !slices.ContainsFunc(values, func(v setting.Value) bool {
		return t.Evaluate(map[string]any{of.Variable: map[string]any{of.Field: v.Any()}}) == rule.True
	}) {
		out = append(out, Remark{Kind: NeverTrue, Part: t.Source, Of: of})
	}
	return out
}

// nearest gives the text that is most likely meant by one that is not among them: first one that
// differs in case or by a typing error, then one that begins alike. It is empty where none is near.
func nearest(text string, among []string) string {
	for _, have := range among {
		if strings.EqualFold(have, text) || search.Near(have, text) {
			return have
		}
	}
	for _, have := range among {
		if len(text) >= 3 && (strings.HasPrefix(have, text) || strings.HasPrefix(text, have) && have != "") {
			return have
		}
	}
	return ""
}
