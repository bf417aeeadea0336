// This file checks definitions, and values against definitions.
//
// Definitions come from the dictionary that ships, and from companies that define settings of their
// own: every field is checked. A fault names the place as a JSON Pointer, what was found there, and
// what was expected. Checks do not stop at the first fault, but leave out what cannot be judged
// because something else is wrong.

package setting

import (
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
)

// OneOf reports v unless it is among the words of a closed list. An empty v is reported as a
// missing field. The fault lists all words.
func OneOf[T ~string](path string, v T, words []T) []problem.Fault {
	for _, w := range words {
		if w == v {
			return nil
		}
	}
	expected := listed(words)
	if v == "" {
		return []problem.Fault{{Code: problem.MissingField, Path: path, Expected: expected}}
	}
	return []problem.Fault{{Code: problem.NotOneOf, Path: path, Found: problem.Quote(string(v)), Expected: expected}}
}

// listed says in words that one of a list of words is expected.
func listed[T ~string](words []T) string {
	shown := make([]string, len(words))
	for i, w := range words {
		shown[i] = string(w)
	}
	return "one of " + strings.Join(shown, ", ")
}

// NoRepeats reports every item that is in a list a second time, with the number of its first place,
// from 1.
func NoRepeats[T ~string](path string, items []T) []problem.Fault {
	var faults []problem.Fault
	// The first place of each item.
	seen := make(map[T]int, len(items))
	for i, item := range items {
		if first, twice := seen[item]; twice {
			faults = append(faults, problem.Fault{
				Code: problem.DoubledItem, Path: problem.Join(path, i), Found: problem.Quote(string(item)),
				Expected: fmt.Sprintf("each item once; it is item %d already", first+1),
			})
			continue
		}
		seen[item] = i
	}
	return faults
}

// Validate reports all that is wrong with the definition itself; nil: nothing. path is its place in
// the estate. Each part is judged by itself, so that all mistakes are found in one go.
func (d *Definition) Validate(path string) []problem.Fault {
	at := func(keys ...any) string { return problem.Join(path, keys...) }
	// Faults of the type are gathered apart: with an unknown type nothing below can be judged.
	faults := OneOf(at("kind"), d.Kind, PolicyKinds)
	faults = append(faults, OneOf(at("side"), d.Side, Sides)...)
	typed := OneOf(at("type"), d.Type, Types)
	combined := OneOf(at("combine"), d.Combine, Combines())
	faults = append(append(faults, typed...), combined...)
	for i, e := range d.Effects {
		faults = append(faults, OneOf(at("effects", i), e, Effects)...)
	}
	faults = append(faults, NoRepeats(at("effects"), d.Effects)...)
	faults = append(faults, NoRepeats(at("keywords"), d.Keywords)...)
	faults = append(faults, d.validateSupports(at("supports"))...)
	if len(typed) == 0 && len(combined) == 0 {
		faults = append(faults, d.validateCombine(at)...)
	}
	if len(typed) == 0 {
		faults = append(faults, d.Shape.validate(path)...)
		if !d.Default.IsNothing() {
			faults = append(faults, d.Check(at("default"), d.Default)...)
		}
		// A forced value without a value is reported by whoever reads the file.
		for i, f := range d.Forced {
			if !f.Value.IsNothing() {
				faults = append(faults, d.Check(at("forced", i, "value"), f.Value)...)
			}
		}
	}
	return faults
}

// validateSupports reports what is wrong with the rows that say which laptops support the setting.
// Every row is for one platform; from is the lowest version there.
func (d *Definition) validateSupports(path string) []problem.Fault {
	var faults []problem.Fault
	rows := map[Platform]bool{}
	for i, row := range d.Supports {
		at := problem.Join(path, i)
		faults = append(faults, OneOf(problem.Join(at, "platform"), row.Platform, Platforms)...)
		// A second row for a platform would contradict the first.
		if rows[row.Platform] && row.Platform != "" {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.DoubledItem,
					Path:     problem.Join(at, "platform"),
					Found:    string(row.Platform),
					Expected: "one row a platform",
				},
			)
		}
		rows[row.Platform] = true
		// Versions are compared number by number. What cannot be compared with 0 cannot be compared
		// with the version of a laptop either.
		if row.From != "" {
			if _, err := rule.CompareVersions(row.From, "0"); err != nil {
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.BadVersion,
						Path:     problem.Join(at, "from"),
						Found:    problem.Quote(row.From),
						Expected: "a dotted number such as 10.4",
					},
				)
			}
		}
		faults = append(faults, NoRepeats(problem.Join(at, "editions"), row.Editions)...)
		// needs says in words what the condition asks of the laptop; without a condition it would
		// say nothing true.
		if row.Needs != "" && row.When == nil {
			faults = append(faults, problem.Fault{
				Code:     problem.MisplacedField,
				Path:     problem.Join(at, "needs"),
				Found:    problem.Quote(row.Needs),
				Expected: "words for a condition in when, which is not there",
			})
		}
	}
	return faults
}

// validateCombine reports a combine rule that the type does not have. The type is one of Types.
func (d *Definition) validateCombine(at func(...any) string) []problem.Fault {
	misplaced := func(field, found, expected string) []problem.Fault {
		return []problem.Fault{{Code: problem.MisplacedField, Path: at(field), Found: found, Expected: expected}}
	}
	// Merge needs lists or tables, strictest an order: setting/combine.go lists which rule fits
	// which type.
	if rules := d.Type.Combines(); !slices.Contains(rules, d.Combine) {
		return misplaced("combine", string(d.Combine)+" with type "+string(d.Type), listed(rules))
	}
	// The order of strictness says which of two values is the stricter one: the lower or the higher
	// number, true or false, or the order of the options.
	if d.Combine == Strictest {
		return OneOf(at("stricter"), d.Stricter, d.Type.Orders())
	}
	if d.Stricter != "" {
		return misplaced("stricter", problem.Quote(string(d.Stricter)), "no order of strictness unless combine is strictest")
	}
	return nil
}
