// This file lays what a source imported over what was edited here, field by field.

package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// fields is an object of the estate format, field by field.
type fields map[string]json.RawMessage

// nested are the fields that are maps: each of their names counts as a field of its own,
// facts/ram_gb say.
var nested = []string{"facts", "attributes"}

func readFields(data []byte) (fields, error) {
	out := fields{}
	if len(data) == 0 {
		return out, nil
	}
	var top fields
	if err := json.Unmarshal(data, &top); err != nil {
		return nil, err
	}
	for name, value := range top {
		if !slices.Contains(nested, name) {
			out[name] = value
			continue
		}
		var inner fields
		if err := json.Unmarshal(value, &inner); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for n, v := range inner {
			out[name+"/"+n] = v
		}
	}
	return out, nil
}

func (f fields) write() ([]byte, error) {
	top := map[string]any{}
	for path, value := range f {
		name, inner, deep := strings.Cut(path, "/")
		if !deep {
			top[name] = value
			continue
		}
		within, _ := top[name].(map[string]json.RawMessage)
		if within == nil {
			within = map[string]json.RawMessage{}
			top[name] = within
		}
		within[inner] = value
	}
	return PlainJSON(top)
}

// readBoth reads the fields of two objects of one kind.
func readBoth(first, second []byte) (a, b fields, err error) {
	if a, err = readFields(first); err != nil {
		return nil, nil, err
	}
	b, err = readFields(second)
	return a, b, err
}

// Compose gives an object of the estate from what a source imported and from what was edited here:
// a field that the source imported stands, unless local lists it. Either may be empty. Fields
// within facts and attributes count by themselves, as facts/ram_gb.
func Compose(imported, body []byte, local []string) ([]byte, error) {
	switch {
	case len(body) == 0:
		return imported, nil
	case len(imported) == 0:
		return body, nil
	}
	theirs, ours, err := readBoth(imported, body)
	if err != nil {
		return nil, err
	}
	for name, value := range theirs {
		if !slices.Contains(local, name) {
			ours[name] = value
		}
	}
	return ours.write()
}

// LocalFields lists the fields of an edited object that are not as the source imported them,
// sorted: those keep what was edited here. Fields that the source imported and that the edit leaves
// out are among them.
func LocalFields(imported, edited []byte) ([]string, error) {
	theirs, ours, err := readBoth(imported, edited)
	if err != nil {
		return nil, err
	}
	local := []string{}
	for name, value := range theirs {
		if !sameJSON(value, ours[name]) {
			local = append(local, name)
		}
	}
	slices.Sort(local)
	return local, nil
}

// LocalPart gives the fields of an edited object that the source does not bring, and those that are
// local: what is kept here, so that no copy of what the source imported grows old beside it.
func LocalPart(imported, edited []byte, local []string) ([]byte, error) {
	theirs, ours, err := readBoth(imported, edited)
	if err != nil {
		return nil, err
	}
	maps.DeleteFunc(ours, func(name string, _ json.RawMessage) bool {
		_, isTheirs := theirs[name]
		return isTheirs && name != "id" && !slices.Contains(local, name)
	})
	return ours.write()
}

// AlteredFields lists the fields in which two objects of one kind differ, sorted, each with both
// values as JSON; empty where there is none.
func AlteredFields(before, after []byte) ([]AlteredField, error) {
	a, b, err := readBoth(before, after)
	if err != nil {
		return nil, err
	}
	var out []AlteredField
	for name := range a {
		if !sameJSON(a[name], b[name]) {
			out = append(out, alteredField(name, a[name], b[name]))
		}
	}
	for name := range b {
		if _, known := a[name]; !known {
			out = append(out, alteredField(name, nil, b[name]))
		}
	}
	slices.SortFunc(out, func(x, y AlteredField) int { return strings.Compare(x.Field, y.Field) })
	return out, nil
}

// AlteredField is one field that differs.
type AlteredField struct {
	Field string `json:"field" doc:"Of the estate format; facts/ram_gb within maps"`
	From  string `json:"from,omitempty" doc:"As JSON; absent where it was not there"`
	To    string `json:"to,omitempty" doc:"As JSON; absent where it is no longer there"`
	// Of lists of texts, how many were added and removed.
	Added   int `json:"added,omitempty" doc:"Items of a list that are new"`
	Removed int `json:"removed,omitempty" doc:"Items of a list that are no longer there"`
}

// TakeBack gives an object as it was before some fields altered. A list of which only the number of items
// that altered is known stays as it is.
func TakeBack(object []byte, altered []AlteredField) ([]byte, error) {
	is, err := readFields(object)
	if err != nil {
		return nil, err
	}
	for _, f := range altered {
		switch {
		case f.From != "":
			is[f.Field] = json.RawMessage(f.From)
		case f.To != "":
			delete(is, f.Field)
		}
	}
	return is.write()
}

// fieldShown is how many bytes of a list are given as they are. Of a longer one it is only said how
// many items differ.
const fieldShown = 300

func alteredField(name string, from, to json.RawMessage) AlteredField {
	out := AlteredField{Field: name, From: string(from), To: string(to)}
	var before, after []string
	if len(from) > 0 && json.Unmarshal(from, &before) != nil || len(to) > 0 && json.Unmarshal(to, &after) != nil {
		return out // no lists of texts
	}
	was := make(map[string]bool, len(before))
	for _, item := range before {
		was[item] = true
	}
	for _, item := range after {
		if !was[item] {
			out.Added++
		}
		delete(was, item)
	}
	out.Removed = len(was)
	if len(from)+len(to) > fieldShown {
		out.From, out.To = "", ""
	}
	return out
}

func sameJSON(a, b json.RawMessage) bool {
	if bytes.Equal(a, b) {
		return true
	}
	if len(a) == 0 || len(b) == 0 {
		return false
	}
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && fmt.Sprint(x) == fmt.Sprint(y)
}
