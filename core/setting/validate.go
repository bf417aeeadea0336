// This file checks definitions, and values against definitions.

package setting

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
)

// OneOf reports v unless it is among the words of a closed list. An empty v is a missing field.
func OneOf[T ~string](path string, v T, words []T) []problem.Fault {
	for _, w := range words {
		if w == v {
			return nil
		}
	}
	shown := make([]string, len(words))
	for i, w := range words {
		shown[i] = string(w)
	}
	expected := "one of " + strings.Join(shown, ", ")
	if v == "" {
		return []problem.Fault{{Code: problem.MissingField, Path: path, Expected: expected}}
	}
	return []problem.Fault{{Code: problem.NotOneOf, Path: path, Found: problem.Quote(string(v)), Expected: expected}}
}

// NoRepeats reports every item that stands twice in a list.
func NoRepeats[T ~string](path string, items []T) []problem.Fault {
	var faults []problem.Fault
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

// Check reports why v is no value for the setting, with path as the place of the value.
func (d *Definition) Check(path string, v Value) []problem.Fault {
	fault := func(code problem.Code, found, expected string) []problem.Fault {
		return []problem.Fault{{Code: code, Path: path, Found: found, Expected: expected}}
	}
	want := map[Type]ValueKind{TypeBool: Bool, TypeInteger: Integer, TypeText: Text, TypeChoice: Text, TypeList: List}[d.Type]
	if want == Nothing {
		return nil // the definition's own type is wrong and reported there
	}
	if v.kind != want {
		return fault(problem.WrongType, v.String()+", "+v.kind.String(), d.Expectation())
	}
	switch d.Type {
	case TypeInteger:
		if d.Min != nil && v.number < *d.Min || d.Max != nil && v.number > *d.Max {
			return fault(problem.OutOfRange, v.String(), d.Expectation())
		}
	case TypeText:
		if d.MaxLength != nil && int64(utf8.RuneCountInString(v.text)) > *d.MaxLength {
			return fault(problem.OutOfRange, fmt.Sprintf("%d characters", utf8.RuneCountInString(v.text)), d.Expectation())
		}
		if d.Pattern != nil && !d.Pattern.MatchString(v.text) {
			return fault(problem.PatternMismatch, problem.Quote(v.text), d.Expectation())
		}
	case TypeChoice:
		for _, option := range d.Options {
			if option == v.text {
				return nil
			}
		}
		return fault(problem.NotOneOf, problem.Quote(v.text), d.Expectation())
	case TypeList:
		return d.checkItems(path, v.list)
	}
	return nil
}

func (d *Definition) checkItems(path string, items []string) []problem.Fault {
	faults := NoRepeats(path, items)
	if d.MaxItems != nil && int64(len(items)) > *d.MaxItems {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: path, Found: fmt.Sprintf("%d items", len(items)), Expected: d.Expectation()})
	}
	for i, item := range items {
		if d.ItemPattern != nil && !d.ItemPattern.MatchString(item) {
			faults = append(faults, problem.Fault{
				Code: problem.PatternMismatch, Path: problem.Join(path, i),
				Found: problem.Quote(item), Expected: "an item that matches " + d.ItemPattern.String(),
			})
		}
	}
	return faults
}

// Expectation says in words which values fit.
func (d *Definition) Expectation() string {
	switch d.Type {
	case TypeBool:
		return "true or false"
	case TypeInteger:
		words := "a whole number"
		switch {
		case d.Min != nil && d.Max != nil:
			words += fmt.Sprintf(" from %d to %d", *d.Min, *d.Max)
		case d.Min != nil:
			words += fmt.Sprintf(" of at least %d", *d.Min)
		case d.Max != nil:
			words += fmt.Sprintf(" of at most %d", *d.Max)
		}
		if d.Measure != "" {
			words += " (" + d.Measure + ")"
		}
		return words
	case TypeText:
		words := "text"
		if d.MaxLength != nil {
			words += " of at most " + strconv.FormatInt(*d.MaxLength, 10) + " characters"
		}
		if d.Pattern != nil {
			words += " that matches " + d.Pattern.String()
		}
		return words
	case TypeChoice:
		return "one of " + strings.Join(d.Options, ", ")
	case TypeList:
		if d.MaxItems != nil {
			return fmt.Sprintf("a list of at most %d texts", *d.MaxItems)
		}
		return "a list of texts"
	}
	return "a value"
}

// Validate reports all that is wrong with the definition itself; path is its place in the estate.
func (d *Definition) Validate(path string) []problem.Fault {
	at := func(keys ...any) string { return problem.Join(path, keys...) }
	faults := OneOf(at("kind"), d.Kind, PolicyKinds)
	faults = append(faults, OneOf(at("side"), d.Side, Sides)...)
	typed := OneOf(at("type"), d.Type, Types)
	combined := OneOf(at("combine"), d.Combine, Combines)
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
		faults = append(faults, d.validateBounds(at)...)
		if !d.Default.IsNothing() {
			faults = append(faults, d.Check(at("default"), d.Default)...)
		}
		for i, f := range d.Forced {
			if !f.Value.IsNothing() {
				faults = append(faults, d.Check(at("forced", i, "value"), f.Value)...)
			}
		}
	}
	return faults
}

func (d *Definition) validateSupports(path string) []problem.Fault {
	var faults []problem.Fault
	rows := map[Platform]bool{}
	for i, row := range d.Supports {
		at := problem.Join(path, i)
		faults = append(faults, OneOf(problem.Join(at, "platform"), row.Platform, Platforms)...)
		if rows[row.Platform] && row.Platform != "" {
			faults = append(faults, problem.Fault{Code: problem.DoubledItem, Path: problem.Join(at, "platform"), Found: string(row.Platform), Expected: "one row a platform"})
		}
		rows[row.Platform] = true
		if row.From != "" {
			if _, err := rule.CompareVersions(row.From, "0"); err != nil {
				faults = append(faults, problem.Fault{Code: problem.BadVersion, Path: problem.Join(at, "from"), Found: problem.Quote(row.From), Expected: "a dotted number such as 10.4"})
			}
		}
		faults = append(faults, NoRepeats(problem.Join(at, "editions"), row.Editions)...)
	}
	return faults
}

func (d *Definition) validateCombine(at func(...any) string) []problem.Fault {
	orders := map[Type][]Stricter{
		TypeInteger: {StricterLower, StricterHigher}, TypeBool: {StricterTrue, StricterFalse}, TypeChoice: {StricterLater},
	}
	switch d.Combine {
	case Merge, Common:
		if d.Type != TypeList {
			return []problem.Fault{{Code: problem.MisplacedField, Path: at("combine"), Found: string(d.Combine) + " with type " + string(d.Type), Expected: "closest or strictest; merge and common are for lists"}}
		}
	case Strictest:
		if orders[d.Type] == nil {
			return []problem.Fault{{Code: problem.MisplacedField, Path: at("combine"), Found: "strictest with type " + string(d.Type), Expected: "a type that has an order: integer, bool or choice"}}
		}
		return OneOf(at("stricter"), d.Stricter, orders[d.Type])
	}
	if d.Stricter != "" {
		return []problem.Fault{{Code: problem.MisplacedField, Path: at("stricter"), Found: problem.Quote(string(d.Stricter)), Expected: "no order of strictness unless combine is strictest"}}
	}
	return nil
}

func (d *Definition) validateBounds(at func(...any) string) []problem.Fault {
	var faults []problem.Fault
	for _, field := range []struct {
		name    string
		present bool
		of      Type
	}{
		{"min", d.Min != nil, TypeInteger},
		{"max", d.Max != nil, TypeInteger},
		{"measure", d.Measure != "", TypeInteger},
		{"pattern", d.Pattern != nil, TypeText},
		{"max_length", d.MaxLength != nil, TypeText},
		{"options", d.Options != nil, TypeChoice},
		{"item_pattern", d.ItemPattern != nil, TypeList},
		{"max_items", d.MaxItems != nil, TypeList},
	} {
		if field.present && field.of != d.Type {
			faults = append(faults, problem.Fault{Code: problem.MisplacedField, Path: at(field.name), Found: field.name + " with type " + string(d.Type), Expected: "no such field unless the type is " + string(field.of)})
		}
	}
	if d.Min != nil && d.Max != nil && *d.Min > *d.Max {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: at("min"), Found: fmt.Sprintf("min %d above max %d", *d.Min, *d.Max), Expected: "min at most max"})
	}
	for name, bound := range map[string]*int64{"max_length": d.MaxLength, "max_items": d.MaxItems} {
		if bound != nil && *bound < 0 {
			faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: at(name), Found: fmt.Sprint(*bound), Expected: "0 or more"})
		}
	}
	if d.Type == TypeChoice {
		if len(d.Options) == 0 {
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: at("options"), Expected: "at least one option of the choice"})
		}
		faults = append(faults, NoRepeats(at("options"), d.Options)...)
	}
	return faults
}
