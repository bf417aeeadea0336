// Package scim speaks the resources of SCIM 2.0 (RFC 7643, RFC 7644): schemas, filters, paths,
// PATCH, sorting and what is returned of a resource. Resources are JSON objects with their
// attributes named as the schemas write them. It stores nothing and knows no HTTP.
package scim

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// URIs of schemas and messages.
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	GroupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	TypeSchema       = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	ConfigSchema     = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	SchemaSchema     = "urn:ietf:params:scim:schemas:core:2.0:Schema"
	ListMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkMessage      = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	BulkAnswer       = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
	SearchMessage    = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
	ErrorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"
)

// MediaType is that of SCIM's bodies (RFC 7644, section 3.1).
const MediaType = "application/scim+json"

// Limits of one request.
const (
	MaxResults    = 1000
	MaxOperations = 1000
	MaxPayload    = 8 << 20
)

// Error is a fault in SCIM's form (RFC 7644, section 3.12).
type Error struct {
	Status int
	Type   string // one of the scimType words; empty where none fits
	Detail string
}

func (e *Error) Error() string { return e.Detail }

// MarshalJSON writes the status as text, as the RFC wants it.
func (e *Error) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Schemas []string `json:"schemas"`
		Status  string   `json:"status"`
		Type    string   `json:"scimType,omitempty"`
		Detail  string   `json:"detail,omitempty"`
	}{[]string{ErrorMessage}, fmt.Sprint(e.Status), e.Type, e.Detail})
}

func refuse(kind, format string, args ...any) *Error {
	return &Error{400, kind, fmt.Sprintf(format, args...)}
}

// Words of scimType.
const (
	InvalidFilter = "invalidFilter"
	TooMany       = "tooMany"
	Uniqueness    = "uniqueness"
	Mutability    = "mutability"
	InvalidSyntax = "invalidSyntax"
	InvalidPath   = "invalidPath"
	NoTarget      = "noTarget"
	InvalidValue  = "invalidValue"
)

// Resource is a user or group, with its attributes named as the schemas write them.
type Resource map[string]any

// Attribute is an attribute of a schema (RFC 7643, section 7).
type Attribute struct {
	Name        string      `json:"name"`
	Type        string      `json:"type"`
	Multi       bool        `json:"multiValued"`
	Description string      `json:"description"`
	Required    bool        `json:"required"`
	Canonical   []string    `json:"canonicalValues,omitempty"`
	CaseExact   bool        `json:"caseExact"`
	Mutability  string      `json:"mutability"`
	Returned    string      `json:"returned"`
	Uniqueness  string      `json:"uniqueness"`
	References  []string    `json:"referenceTypes,omitempty"`
	Sub         []Attribute `json:"subAttributes,omitempty"`
}

// Type is a type of resource with its schemas.
type Type struct {
	Name      string // User, Group
	Endpoint  string // /Users
	Schema    string
	Attrs     []Attribute
	Extension map[string][]Attribute // by URI
}

// lookUp finds an attribute of the type: of the core schema, of what every resource has, or of an
// extension.
func (t *Type) lookUp(urn, name string) *Attribute {
	if urn == "" || strings.EqualFold(urn, t.Schema) {
		if a := find(t.Attrs, name); a != nil {
			return a
		}
		return find(common, name)
	}
	for uri, list := range t.Extension {
		if strings.EqualFold(uri, urn) {
			return find(list, name)
		}
	}
	return nil
}

// extension gives the URI of an extension as it is written; empty where there is no such.
func (t *Type) extension(urn string) string {
	for uri := range t.Extension {
		if strings.EqualFold(uri, urn) {
			return uri
		}
	}
	return ""
}

// Read reads a resource as a client sends it: names as the schemas write them, read-only attributes
// left out, values of their types. What no schema knows is left out (RFC 7643, section 3: clients
// may send more than a service keeps).
func (t *Type) Read(data []byte) (Resource, error) {
	var raw map[string]any
	if err := json.Unmarshal(data, &raw); err != nil || raw == nil {
		return nil, refuse(InvalidSyntax, "found no JSON object, expected a resource of type %s", t.Name)
	}
	named := false
	for key, v := range raw {
		if strings.EqualFold(key, "schemas") {
			list, _ := v.([]any)
			for _, uri := range list {
				text, _ := uri.(string)
				named = named || strings.EqualFold(text, t.Schema)
			}
		}
	}
	if !named {
		return nil, refuse(InvalidSyntax, "schemas does not name %s", t.Schema)
	}
	out, err := t.normal(raw)
	if err != nil {
		return nil, err
	}
	return out, t.complete(out)
}

// normal names attributes as the schemas do and checks their values.
func (t *Type) normal(raw map[string]any) (Resource, error) {
	out := Resource{}
	for key, v := range raw {
		if uri := t.extension(key); uri != "" {
			inner, isMap := v.(map[string]any)
			if v == nil {
				continue
			}
			if !isMap {
				return nil, refuse(InvalidValue, "%s: found %s, expected an object", uri, describe(v))
			}
			within := map[string]any{}
			for name, v := range inner {
				a := find(t.Extension[uri], name)
				if a == nil || a.Mutability == "readOnly" {
					continue
				}
				value, err := a.value(uri+":"+a.Name, v)
				if err != nil {
					return nil, err
				}
				if value != nil {
					within[a.Name] = value
				}
			}
			if len(within) > 0 {
				out[uri] = within
			}
			continue
		}
		a := t.lookUp("", key)
		if a == nil || a.Mutability == "readOnly" || a.Name == "schemas" {
			continue
		}
		value, err := a.value(a.Name, v)
		if err != nil {
			return nil, err
		}
		if value != nil {
			out[a.Name] = value
		}
	}
	return out, nil
}

// complete checks what must be there, and notes the schemas.
func (t *Type) complete(r Resource) error {
	for _, a := range t.Attrs {
		if text, _ := r[a.Name].(string); a.Required && strings.TrimSpace(text) == "" {
			return refuse(InvalidValue, "%s is missing, and required", a.Name)
		}
	}
	schemas := []any{t.Schema}
	for _, uri := range t.extensions() {
		if r[uri] != nil {
			schemas = append(schemas, uri)
		}
	}
	r["schemas"] = schemas
	return nil
}

func (t *Type) extensions() []string {
	out := make([]string, 0, len(t.Extension))
	for uri := range t.Extension {
		out = append(out, uri)
	}
	slices.Sort(out)
	return out
}

func describe(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return "text"
	case bool:
		return "a boolean"
	case float64:
		return "a number"
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	default:
		return fmt.Sprintf("%T", v)
	}
}

// value checks a value of the attribute. null and an empty list are the same as no value (RFC 7643,
// section 2.5): nil.
func (a *Attribute) value(path string, v any) (any, error) {
	if v == nil {
		return nil, nil
	}
	if !a.Multi {
		return a.single(path, v)
	}
	list, isList := v.([]any)
	if !isList { // one value, sent without its list
		list = []any{v}
	}
	if a.Name != "members" && len(list) > maxValues {
		return nil, refuse(InvalidValue, "%s: found %d values, expected at most %d", path, len(list), maxValues)
	}
	out := make([]any, 0, len(list))
	seen := make(map[string]bool, len(list)) // values that name something: a group may have 100,000 members
	primaries := 0
	for i, item := range list {
		if text, isText := item.(string); isText && a.Type == "complex" { // a bare value stands for {value: …}
			item = map[string]any{"value": text}
		}
		value, err := a.single(fmt.Sprintf("%s[%d]", path, i), item)
		if err != nil {
			return nil, err
		}
		if value == nil {
			continue
		}
		if m, ok := value.(map[string]any); ok && m["primary"] == true {
			primaries++
		}
		if name, named := naming(value); named {
			if !seen[name] {
				seen[name], out = true, append(out, value)
			}
		} else if !slices.ContainsFunc(out, func(have any) bool { return same(have, value) }) {
			out = append(out, value)
		}
	}
	if primaries > 1 {
		return nil, refuse(InvalidValue, "%s: %d values are primary, expected at most one", path, primaries)
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

func (a *Attribute) single(path string, v any) (any, error) {
	wrong := func() (any, error) {
		return nil, refuse(InvalidValue, "%s: found %s, expected %s", path, describe(v), a.Type)
	}
	switch a.Type {
	case "complex":
		m, ok := v.(map[string]any)
		if !ok {
			return wrong()
		}
		out := map[string]any{}
		for name, inner := range m {
			sub := find(a.Sub, name)
			if sub == nil || sub.Mutability == "readOnly" {
				continue
			}
			value, err := sub.value(path+"."+sub.Name, inner)
			if err != nil {
				return nil, err
			}
			if value != nil {
				out[sub.Name] = value
			}
		}
		if len(out) == 0 {
			return nil, nil
		}
		return out, nil
	case "boolean":
		switch b := v.(type) {
		case bool:
			return b, nil
		case string: // some clients write booleans as texts
			if strings.EqualFold(b, "true") || strings.EqualFold(b, "false") {
				return strings.EqualFold(b, "true"), nil
			}
		}
		return wrong()
	default:
		text, ok := v.(string)
		if !ok {
			return wrong()
		}
		if len(text) > maxText {
			return nil, refuse(InvalidValue, "%s: found a text of %d bytes, expected at most %d", path, len(text), maxText)
		}
		if at := strings.IndexFunc(text, isControl); at >= 0 {
			return nil, refuse(InvalidValue, "%s: found a control character at byte %d, expected a text without any", path, at)
		}
		return text, nil
	}
}

// isControl tells whether a character would steer a terminal or end a text. Line ends and tabs are
// part of addresses as people write them.
func isControl(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\r' && r != '\t' }

const (
	maxText   = 32 << 10 // bytes of one text
	maxValues = 1000     // of an attribute other than members
)

// naming gives what tells a value that names something apart from others of its attribute, as same
// does: its value and its type.
func naming(value any) (name string, ok bool) {
	m, _ := value.(map[string]any)
	text, ok := m["value"].(string)
	if !ok || m["primary"] != nil {
		return "", false
	}
	kind, _ := m["type"].(string)
	return kind + "\x00" + text, true
}

// same tells whether two values are equal. Of members and the like that name something, the value
// is what counts.
func same(a, b any) bool {
	x, ok1 := a.(map[string]any)
	y, ok2 := b.(map[string]any)
	if ok1 && ok2 && x["value"] != nil && x["primary"] == nil && y["primary"] == nil && x["type"] == y["type"] {
		return x["value"] == y["value"]
	}
	p, err1 := json.Marshal(a)
	q, err2 := json.Marshal(b)
	return err1 == nil && err2 == nil && string(p) == string(q)
}
