// This file has the words that pages and the command line share.

package report

import (
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
)

var plurals = map[string]string{"policy": "policies", "person": "people", "entry": "entries"}

// Counted gives a number with its noun: 1 device, 2 devices.
func Counted(n int, noun string) string {
	if n != 1 {
		if many, irregular := plurals[noun]; irregular {
			noun = many
		} else {
			noun += "s"
		}
	}
	return fmt.Sprintf("%d %s", n, noun)
}

// Value says a value in words, with its measure.
func Value(d *setting.Definition, v setting.Value) string {
	switch v.Kind() {
	case setting.Nothing:
		return "nothing"
	case setting.Bool:
		if v.Bool() {
			return "on"
		}
		return "off"
	case setting.Text:
		if d != nil && d.Type == setting.TypeChoice {
			return strings.ReplaceAll(v.Text(), "-", " ")
		}
		return "“" + v.Text() + "”"
	case setting.List:
		if len(v.Items()) == 0 {
			return "none"
		}
		return strings.Join(v.Items(), ", ")
	case setting.Table:
		rows := make([]string, len(v.Rows()))
		for i, r := range v.Rows() {
			rows[i] = rowWords(d, r)
		}
		return strings.Join(rows, "; ")
	case setting.FileKind:
		return "the file " + v.File().String()
	}
	if d != nil && d.Measure != "" {
		return v.String() + " " + d.Measure
	}
	return v.String()
}

// Entry says an entry in words, empty where there is none.
func Entry(d *setting.Definition, e *estate.Entry) string {
	if e == nil {
		return ""
	}
	text := Value(d, e.Value)
	if e.Lock {
		text += ", locked"
	}
	if e.Note != "" {
		text += " (" + e.Note + ")"
	}
	return text
}

// rowWords says a row of a table in the order of its columns.
func rowWords(d *setting.Definition, r setting.Row) string {
	if d == nil {
		return r.String()
	}
	var cells []string
	for i := range d.Columns {
		c := &d.Columns[i]
		cell, there := r[c.Name]
		if !there {
			continue
		}
		title := c.Title
		if title == "" {
			title = c.Name
		}
		shape := setting.Definition{Shape: c.Shape}
		cells = append(cells, strings.ToLower(title)+" "+Value(&shape, cell))
	}
	return strings.Join(cells, ", ")
}

// effectWords says what an effect means for the person.
var effectWords = map[setting.Effect]string{
	setting.Restart:      "takes effect after a restart",
	setting.Prompt:       "asks the person something",
	setting.Irreversible: "can't be undone from here",
	setting.Lockout:      "can keep people from working or signing in",
}

// Effects says what a person notices when a setting's value arrives.
func Effects(d *setting.Definition) []string {
	if d == nil {
		return nil
	}
	out := make([]string, len(d.Effects))
	for i, e := range d.Effects {
		out[i] = effectWords[e]
	}
	return out
}

// combineWords says how the values of several policies become one, by combine rule.
var combineWords = map[setting.Combine]string{
	setting.Closest:   "the policy set closest to the laptop is used, then the one of higher priority",
	setting.Strictest: "the strictest value of all policies is used",
	setting.Merge:     "what several policies list adds up",
	setting.Common:    "only what every policy lists is used",
}

// Combine says how the values of several policies become one by a combine rule.
func Combine(rule setting.Combine) string { return combineWords[rule] }

// Combines says how the values of several policies become one for a setting, and which of two is
// the stricter where that counts.
func Combines(d *setting.Definition) string {
	if d.Combine == setting.Strictest {
		return Combine(d.Combine) + ": " + strictness(d)
	}
	return Combine(d.Combine)
}

// strictness says which of two values of a setting is the stricter.
func strictness(d *setting.Definition) string {
	switch d.Stricter {
	case setting.StricterLower:
		return "the lower number"
	case setting.StricterHigher:
		return "the higher number"
	case setting.StricterTrue:
		return "on"
	case setting.StricterFalse:
		return "off"
	}
	return "the later of " + strings.Join(d.Options, ", ")
}

// Support says which laptops have a setting.
func Support(d *setting.Definition) string {
	if len(d.Supports) == 0 {
		return "every platform"
	}
	var limits []string // of the rows, each once
	platforms := map[string][]string{}
	for _, s := range d.Supports {
		limit := ""
		if s.From != "" {
			limit = " from " + s.From
		}
		if len(s.Editions) > 0 {
			limit += " (" + strings.Join(s.Editions, ", ") + ")"
		}
		if s.Needs != "" {
			limit += " with " + s.Needs
		} else if s.When != nil {
			limit += " where " + s.When.Source()
		}
		if platforms[limit] == nil {
			limits = append(limits, limit)
		}
		platforms[limit] = append(platforms[limit], string(s.Platform))
	}
	rows := make([]string, len(limits))
	for i, limit := range limits {
		if len(platforms[limit]) == len(setting.Platforms) {
			rows[i] = "every platform" + limit
		} else {
			rows[i] = strings.Join(platforms[limit], ", ") + limit
		}
	}
	return strings.Join(rows, ", ")
}

// LackingWords says how many laptops do not support a setting, and why.
func LackingWords(l review.Lacking) string {
	total := 0
	var why []string
	for _, reason := range setting.Unsupporteds {
		if n := l[reason]; n > 0 {
			total += n
			why = append(why, fmt.Sprintf("%d by %s", n, reason))
		}
	}
	return fmt.Sprintf("%s not supported (%s)", isOrAre(total, "laptop"), strings.Join(why, ", "))
}

func isOrAre(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return Counted(n, noun) + " are"
}

// Meeting is what another policy's entry does to the one that is looked at, in numbers of laptops.
type Meeting struct {
	Relation review.Relation
	Both     int // both are in effect
	Conflict int // they are part of a conflict
	Over     int // the other one overrides
	Under    int // the other one is overridden
	Neither  int // neither is in effect
}

// With says it in words; named is the policy that is looked at: conflicts with house-rules on 6,
// overrides house-rules on 7.
func (m Meeting) With(named string) string {
	together := "sets the same as " + named
	if m.Relation == review.Adds {
		together = "adds to " + named
	}
	var parts []string
	for _, part := range []struct {
		n    int
		says string
	}{
		{m.Conflict, "conflicts with " + named}, {m.Over, "overrides " + named}, {m.Under, "is overridden by " + named}, {m.Both, together},
		{m.Neither, "neither is in effect"},
	} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%s on %d", part.says, part.n))
		}
	}
	if m.Relation == review.Repeats && m.Both == 0 && len(parts) > 0 {
		parts[0] = "sets the same, " + parts[0]
	}
	return strings.Join(parts, ", ")
}

// FindingWords says a finding in a sentence.
func FindingWords(f review.Finding, plan interface {
	Definition(setting.ID) *setting.Definition
}) string {
	var about *setting.Definition
	title := ""
	if len(f.Settings) > 0 {
		if about = plan.Definition(f.Settings[0]); about != nil {
			title = "‘" + about.Title + "’"
		}
	}
	switch f.Kind {
	case review.WrongAlone:
		text := f.Message
		switch {
		case f.Reached == 0:
		case f.Devices == 0:
			text += fmt.Sprintf(
				" (in this policy alone; together with %s it is in order on all %s)",
				orOthers(f.Beside),
				Counted(f.Reached, "laptop"),
			)
		default:
			text += fmt.Sprintf(" (on %s)", Counted(f.Devices, "laptop"))
		}
		return text
	case review.ForcedValue:
		return fmt.Sprintf("%s will be %s, whatever is set here: another value of this policy forces it", title, Value(about, f.Value))
	case review.ManyPurposes:
		parts := make([]string, len(f.Groups))
		for i, g := range f.Groups {
			parts[i] = strings.Join(g.Areas, " and ")
		}
		return "This policy serves more than one purpose (" + strings.Join(parts, "; ") + "): whoever is left out of it loses all of them"
	case review.NearlyKnown:
		return fmt.Sprintf(
			"%s is nearly %s, which was read from an application's file. Is that one meant?",
			quoted(f.Found),
			quoted(f.Known),
		)
	case review.TypedByHand:
		return fmt.Sprintf("%s in %s was typed by hand; read it from the application's file", quoted(f.Found), title)
	case review.SamePath:
		return fmt.Sprintf("the management node %s is set by %s as well", quoted(f.Found), orOthers(f.Beside))
	case review.OtherSystems:
		return fmt.Sprintf("%s is supported by none of the platforms of this policy, but by %s", title, Support(about))
	case review.LeavesUnset:
		more := ""
		if n := len(f.Settings) - 1; n > 0 {
			more = " and " + Counted(n, "other setting")
		}
		return fmt.Sprintf("This leaves %s with nothing set for %s%s", Counted(f.Devices, "laptop"), title, more)
	case review.OddCondition:
		return "In the condition, " + RemarkWords(*f.Remark)
	case review.WrongStore:
		return fmt.Sprintf("%s in %s is %s; it belongs into %s", f.Found, title, f.Message, f.Known)
	case review.Replaced:
		return fmt.Sprintf(
			"The only certificate of %s in %s is replaced by another one of the same name. What the earlier one signed is no longer "+
				"trusted from then on, although it is valid until %s: keep both rows until nothing uses it",
			f.Found,
			title,
			f.Known,
		)
	case review.ReachesAll:
		return fmt.Sprintf("This policy is for everyone: %s", Counted(f.Devices, "laptop"))
	}
	return string(f.Kind)
}

// RemarkWords says what is odd about a part of an expression, as the end of a sentence.
func RemarkWords(r review.Remark) string {
	who := "laptop"
	if r.Of.Variable == "person" {
		who = "person"
	}
	var text string
	switch r.Kind {
	case review.UnknownField:
		text = fmt.Sprintf("no %s has %s.%s", who, r.Of.Variable, r.Of.Field)
	case review.UnknownValue:
		text = fmt.Sprintf("no %s has %s in %s.%s", who, quoted(r.Found), r.Of.Variable, r.Of.Field)
	default:
		return fmt.Sprintf("%s is true of no %s", r.Part, who)
	}
	if r.Near == "" {
		return text
	}
	if r.Kind == review.UnknownField {
		return text + fmt.Sprintf("; near it is %s.%s", r.Of.Variable, r.Near)
	}
	return text + "; near it is " + quoted(r.Near)
}

func quoted(text string) string { return "“" + text + "”" }

func orOthers(policies []estate.PolicyID) string {
	if len(policies) == 0 {
		return "other policies"
	}
	texts := make([]string, len(policies))
	for i, p := range policies {
		texts[i] = string(p)
	}
	return strings.Join(texts, ", ")
}
