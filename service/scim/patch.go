// This file applies PATCH operations (RFC 7644, section 3.5.2).

package scim

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Operation is one operation of a PATCH.
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path,omitempty"`
	Value any    `json:"value,omitempty"`
}

// ReadPatch reads the body of a PATCH.
func ReadPatch(data []byte) ([]Operation, error) {
	var body map[string]json.RawMessage
	if err := json.Unmarshal(data, &body); err != nil {
		return nil, refuse(InvalidSyntax, "found no JSON object, expected %s", PatchMessage)
	}
	var schemas []string
	var operations []Operation
	for name, raw := range body {
		var err error
		switch {
		case strings.EqualFold(name, "schemas"):
			err = json.Unmarshal(raw, &schemas)
		case strings.EqualFold(name, "Operations"):
			err = json.Unmarshal(raw, &operations)
		}
		if err != nil {
			return nil, refuse(InvalidSyntax, "%s: found another form than %s has", name, PatchMessage)
		}
	}
	if !slices.Contains(schemas, PatchMessage) {
		return nil, refuse(InvalidSyntax, "schemas does not name %s", PatchMessage)
	}
	if len(operations) == 0 {
		return nil, refuse(InvalidSyntax, "found no Operations, expected at least one")
	}
	return operations, nil
}

// Patch applies operations in their order and gives the resource as it is then: all of them, or
// with an error none. r stays as it is.
func (t *Type) Patch(r Resource, operations []Operation) (Resource, error) {
	out := clone(r)
	for _, op := range operations {
		if strings.EqualFold(op.Op, "add") && op.Path != "" && op.Value == nil {
			return nil, refuse(InvalidValue, "%s: found an add without a value", op.Path)
		}
		if err := t.apply(out, op); err != nil {
			return nil, err
		}
	}
	return out, t.complete(out)
}

func clone(r Resource) Resource {
	var out Resource
	data, err := json.Marshal(r)
	if err != nil || json.Unmarshal(data, &out) != nil {
		panic("scim: a resource is always JSON")
	}
	return out
}

// ReadPath reads the path of an operation.
func (t *Type) ReadPath(text string) (Path, *Attribute, error) {
	p := &parser{t: t, text: text}
	fail := func(err *Error) (Path, *Attribute, error) {
		err.Type, err.Detail = InvalidPath, strings.Replace(err.Detail, "the filter", "the path", 1)
		return Path{}, nil, err
	}
	if uri := t.extension(text); uri != "" {
		return Path{attr: attrPath{urn: uri}}, nil, nil
	}
	attr, a, err := p.attribute()
	if err != nil {
		return fail(err.(*Error))
	}
	path := Path{attr: attr}
	if p.at < len(text) && text[p.at] == '[' {
		if attr.sub != "" {
			return fail(p.wrong("the end"))
		}
		if path.filter, err = p.bracket(a); err != nil {
			return Path{}, nil, err // a filter within a path is an invalid filter
		}
		if p.at < len(text) && text[p.at] == '.' {
			p.at++
			sub := find(a.Sub, p.word())
			if sub == nil {
				return fail(p.wrong("a sub-attribute of " + a.Name))
			}
			path.sub = sub.Name
		}
	}
	if p.at < len(text) {
		return fail(p.wrong("the end"))
	}
	return path, a, nil
}

func (t *Type) apply(r Resource, op Operation) error {
	kind := strings.ToLower(op.Op)
	if kind != "add" && kind != "replace" && kind != "remove" {
		return refuse(InvalidSyntax, "found the operation %q, expected add, replace or remove", op.Op)
	}
	if op.Path == "" {
		if kind == "remove" {
			return refuse(NoTarget, "remove without a path")
		}
		values, ok := op.Value.(map[string]any)
		if !ok {
			return refuse(InvalidValue, "found %s, expected an object of attributes, since the operation has no path", describe(op.Value))
		}
		for _, name := range slices.Sorted(maps.Keys(values)) {
			if strings.EqualFold(name, "schemas") || strings.EqualFold(name, "id") || strings.EqualFold(name, "meta") {
				continue // a client that sends a whole resource back
			}
			if uri := t.extension(name); uri != "" {
				if err := t.applyExtension(r, kind, uri, values[name]); err != nil {
					return err
				}
				continue
			}
			if _, _, err := t.ReadPath(name); err != nil {
				continue // what no schema knows is left out, as in a whole resource
			}
			if err := t.apply(r, Operation{op.Op, name, values[name]}); err != nil {
				return err
			}
		}
		return nil
	}
	path, a, err := t.ReadPath(op.Path)
	if err != nil {
		return err
	}
	if a == nil {
		return t.applyExtension(r, kind, path.attr.urn, op.Value)
	}
	return t.applyTo(r, kind, path, op)
}

// applyExtension alters an extension as a whole.
func (t *Type) applyExtension(r Resource, kind, uri string, value any) error {
	if kind == "remove" {
		delete(r, uri)
		return nil
	}
	values, ok := value.(map[string]any)
	if !ok {
		return refuse(InvalidValue, "%s: found %s, expected an object", uri, describe(value))
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if find(t.Extension[uri], name) == nil {
			continue
		}
		if err := t.apply(r, Operation{kind, uri + ":" + name, values[name]}); err != nil {
			return err
		}
	}
	return nil
}

func (t *Type) applyTo(r Resource, kind string, path Path, op Operation) error {
	whole := t.lookUp(path.attr.urn, path.attr.name)
	if whole.Mutability == "readOnly" {
		return &Error{400, Mutability, whole.Name + " is read-only"}
	}
	holder := top(r, path.attr.urn)
	if holder == nil {
		if kind == "remove" {
			return nil
		}
		holder = map[string]any{}
		r[path.attr.urn] = holder
	}
	defer func() {
		if path.attr.urn != "" && len(holder) == 0 {
			delete(r, path.attr.urn)
		}
	}()
	switch {
	case path.filter != nil:
		return t.applyFiltered(holder, kind, path, whole, op)
	case path.attr.sub != "":
		return applySub(holder, kind, path.attr, whole, op)
	case kind == "remove":
		if whole.Multi && op.Value != nil { // the values to remove, named one by one
			return removeValues(holder, whole, op.Value)
		}
		if whole.Required {
			return &Error{400, Mutability, whole.Name + " is required, and can't be removed"}
		}
		delete(holder, whole.Name)
		return nil
	}
	value, err := whole.value(whole.Name, op.Value)
	if err != nil {
		return err
	}
	switch {
	case value == nil && kind == "replace":
		if whole.Required {
			return refuse(InvalidValue, "%s is required, and can't be empty", whole.Name)
		}
		delete(holder, whole.Name)
	case value == nil:
	case whole.Multi && kind == "add":
		holder[whole.Name] = added(holder[whole.Name], value.([]any))
	case whole.Type == "complex" && !whole.Multi: // sub-attributes that are not named stay (section 3.5.2.3)
		merged, _ := holder[whole.Name].(map[string]any)
		if merged == nil {
			merged = map[string]any{}
		}
		maps.Copy(merged, value.(map[string]any))
		holder[whole.Name] = merged
	default:
		holder[whole.Name] = value
	}
	return nil
}

// added adds values to a list, without repeats; a new primary one takes the place of the old.
func added(have any, values []any) []any {
	list, _ := have.([]any)
	known := make(map[string]bool, len(list)) // members are many: looked up and not compared
	for _, v := range list {
		known[keyOf(v)] = true
	}
	for _, v := range values {
		if known[keyOf(v)] {
			continue
		}
		known[keyOf(v)] = true
		if m, ok := v.(map[string]any); ok && m["primary"] == true {
			withoutPrimary(list)
		}
		list = append(list, v)
	}
	return list
}

// keyOf gives a text that is equal for equal values: of members and the like, by what they name.
func keyOf(v any) string {
	if m, ok := v.(map[string]any); ok && m["value"] != nil && m["primary"] == nil && m["display"] == nil {
		text, _ := m["value"].(string)
		kind, _ := m["type"].(string)
		if m["$ref"] != nil || len(m) == 1 {
			kind = ""
		}
		return kind + "\x00" + text
	}
	data, err := json.Marshal(v)
	if err != nil {
		panic("scim: a value is always JSON")
	}
	return string(data)
}

func withoutPrimary(list []any) {
	for _, v := range list {
		if m, ok := v.(map[string]any); ok && m["primary"] == true {
			m["primary"] = false
		}
	}
}

// removeValues takes the named values out of a list.
func removeValues(holder map[string]any, a *Attribute, value any) error {
	values, err := a.value(a.Name, value)
	if err != nil || values == nil {
		return err
	}
	list, _ := holder[a.Name].([]any)
	gone := map[any]bool{}
	for _, v := range values.([]any) {
		if m, ok := v.(map[string]any); ok {
			gone[m["value"]] = true
		} else {
			gone[v] = true
		}
	}
	set(holder, a.Name, slices.DeleteFunc(list, func(v any) bool {
		if m, ok := v.(map[string]any); ok {
			return gone[m["value"]]
		}
		return gone[v]
	}))
	return nil
}

// set keeps a list, or forgets it where it is empty.
func set(holder map[string]any, name string, list []any) {
	if len(list) == 0 {
		delete(holder, name)
	} else {
		holder[name] = list
	}
}

// applySub alters a sub-attribute; of an attribute with several values, that of each.
func applySub(holder map[string]any, kind string, path attrPath, whole *Attribute, op Operation) error {
	sub := find(whole.Sub, path.sub)
	if sub.Mutability == "readOnly" {
		return &Error{400, Mutability, whole.Name + "." + sub.Name + " is read-only"}
	}
	var value any
	var err error
	if kind != "remove" {
		if value, err = sub.value(whole.Name+"."+sub.Name, op.Value); err != nil {
			return err
		}
	}
	if whole.Multi {
		list, _ := holder[whole.Name].([]any)
		if len(list) == 0 && kind == "replace" {
			return refuse(NoTarget, "%s has no values", whole.Name)
		}
		for _, v := range list {
			if m, ok := v.(map[string]any); ok {
				put(m, sub.Name, value)
			}
		}
		return nil
	}
	inner, _ := holder[whole.Name].(map[string]any)
	if inner == nil {
		inner = map[string]any{}
	}
	put(inner, sub.Name, value)
	if len(inner) == 0 {
		delete(holder, whole.Name)
	} else {
		holder[whole.Name] = inner
	}
	return nil
}

func put(m map[string]any, name string, value any) {
	if value == nil {
		delete(m, name)
	} else {
		m[name] = value
	}
}

// applyFiltered alters those values of a list that the path's filter holds for.
func (t *Type) applyFiltered(holder map[string]any, kind string, path Path, whole *Attribute, op Operation) error {
	list, _ := holder[whole.Name].([]any)
	matched := func(v any) bool { return path.filter.holds(t, scope{within: whole, value: v}) }
	if !slices.ContainsFunc(list, matched) {
		switch {
		case kind == "remove" && len(list) == 0:
			return nil
		case kind == "add": // the value that the filter describes comes to be
			made := map[string]any{}
			if !describes(path.filter, made) {
				return refuse(NoTarget, "no value of %s matches the filter, and the filter does not say what to add", whole.Name)
			}
			list = append(list, made)
		default:
			return refuse(NoTarget, "no value of %s matches the filter", whole.Name)
		}
	}
	if kind == "remove" && path.sub == "" {
		set(holder, whole.Name, slices.DeleteFunc(list, matched))
		return nil
	}
	var sub *Attribute
	var value any
	var err error
	if path.sub != "" {
		if sub = find(whole.Sub, path.sub); sub.Mutability == "readOnly" {
			return &Error{400, Mutability, whole.Name + "." + sub.Name + " is read-only"}
		}
		if kind != "remove" {
			value, err = sub.value(whole.Name+"."+sub.Name, op.Value)
		}
	} else {
		value, err = whole.single(whole.Name, op.Value)
	}
	if err != nil {
		return err
	}
	if sub == nil && value == nil {
		return refuse(InvalidValue, "%s: found %s, expected a value", whole.Name, describe(op.Value))
	}
	var altered []any
	for i, v := range list {
		if !matched(v) {
			continue
		}
		m, _ := v.(map[string]any)
		switch {
		case sub != nil:
			put(m, sub.Name, value)
		case kind == "replace":
			m = clone(value.(map[string]any))
		default:
			maps.Copy(m, clone(value.(map[string]any)))
		}
		list[i] = m
		altered = append(altered, m)
	}
	for _, m := range altered {
		if one := m.(map[string]any); one["primary"] == true && len(altered) == 1 { // the others give way (section 3.5.2)
			withoutPrimary(list)
			one["primary"] = true
		}
	}
	set(holder, whole.Name, slices.DeleteFunc(list, func(v any) bool { m, ok := v.(map[string]any); return ok && len(m) == 0 }))
	return nil
}

// describes fills what a filter made of eq and and alone says of a value.
func describes(c condition, into map[string]any) bool {
	switch c := c.(type) {
	case both:
		return describes(c.a, into) && describes(c.b, into)
	case compares:
		if c.operator != "eq" || c.value == nil {
			return false
		}
		into[c.path.name] = c.value
		return true
	}
	return false
}
