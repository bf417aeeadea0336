// Package scim speaks the resources of SCIM 2.0 (RFC 7643, RFC 7644): schemas, filters, paths, PATCH, sorting and what
// is returned of a resource. Resources are JSON objects with their attributes named as the schemas write them. It stores
// nothing and knows no HTTP.
package scim

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
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

func attr(name, kind, about string, options ...func(*Attribute)) Attribute {
	a := Attribute{Name: name, Type: kind, Description: about, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
	for _, o := range options {
		o(&a)
	}
	return a
}

func multi(a *Attribute)    { a.Multi = true }
func required(a *Attribute) { a.Required = true }
func exact(a *Attribute)    { a.CaseExact = true }
func readOnly(a *Attribute) { a.Mutability = "readOnly" }
func unique(a *Attribute)   { a.Uniqueness = "server" }
func immutable(a *Attribute) {
	a.Mutability = "immutable"
}
func always(a *Attribute) { a.Returned = "always" }
func subs(list ...Attribute) func(*Attribute) {
	return func(a *Attribute) { a.Sub = list }
}
func refers(to ...string) func(*Attribute) { return func(a *Attribute) { a.References = to } }

// plural gives the sub-attributes of a multi-valued attribute (RFC 7643, section 2.4).
func plural(kind string) []Attribute {
	return []Attribute{
		attr("value", kind, "The value"),
		attr("display", "string", "For people to read"),
		attr("type", "string", "What it is for: work, home …"),
		attr("primary", "boolean", "Whether it is the preferred one; at most one is"),
	}
}

// common are the attributes that every resource has (RFC 7643, section 3.1).
var common = []Attribute{
	attr("id", "string", "The service's own id", readOnly, exact, always, unique),
	attr("externalId", "string", "The client's own id", exact),
	attr("schemas", "reference", "The schemas of the resource", multi, required, exact, always, refers("uri")),
	attr("meta", "complex", "About the resource", readOnly, subs(
		attr(
			"resourceType",
			"string",
			"Its type",
			readOnly,
			exact,
		),
		attr("created", "dateTime", "When it was added", readOnly),
		attr("lastModified", "dateTime", "When it was last altered", readOnly),
		attr(
			"location",
			"reference",
			"Its address",
			readOnly,
			exact,
			refers("uri"),
		),
		attr("version", "string", "Its entity tag", readOnly, exact),
	)),
}

// Users is the type of users with the enterprise extension (RFC 7643, sections 4.1 and 4.3). Passwords are not kept: nobody signs in
// with them here.
var Users = &Type{Name: "User", Endpoint: "/Users", Schema: UserSchema, Attrs: []Attribute{
	attr("userName", "string", "The name under which the person is known, unique", required, unique),
	attr(
		"name",
		"complex",
		"The parts of the name",
		subs(
			attr("formatted", "string", "In full"),
			attr("familyName", "string", "Family name"),
			attr("givenName", "string", "Given name"),
			attr("middleName", "string", "Middle names"),
			attr("honorificPrefix", "string", "Title before"),
			attr("honorificSuffix", "string", "Title after"),
		),
	),
	attr(
		"displayName",
		"string",
		"As shown to people",
	),
	attr("nickName", "string", "As friends say"),
	attr("profileUrl", "reference", "A page about the person", exact, refers("external")),
	attr("title", "string", "Job title"),
	attr(
		"userType",
		"string",
		"Employee, contractor …",
	),
	attr("preferredLanguage", "string", "As in Accept-Language"),
	attr("locale", "string", "For dates and money"),
	attr("timezone", "string", "As the IANA database names it"),
	attr("active", "boolean", "False: the person is marked as left"),
	attr(
		"emails",
		"complex",
		"Mail addresses",
		multi,
		subs(plural("string")...),
	),
	attr("phoneNumbers", "complex", "Telephone numbers", multi, subs(plural("string")...)),
	attr("ims", "complex", "Addresses for messages", multi, subs(plural("string")...)),
	attr("photos", "complex", "Pictures", multi, subs(plural("reference")...)),
	attr(
		"addresses",
		"complex",
		"Postal addresses",
		multi,
		subs(
			attr("formatted", "string", "In full"),
			attr("streetAddress", "string", "Street"),
			attr("locality", "string", "Town"),
			attr("region", "string", "Region"),
			attr("postalCode", "string", "Postal code"),
			attr("country", "string", "ISO 3166-1 code"),
			attr("type", "string", "What it is for"),
			attr("primary", "boolean", "Whether it is the preferred one"),
		),
	),
	attr(
		"groups",
		"complex",
		"Groups that the person is in; altered through the groups",
		multi,
		readOnly,
		subs(
			attr("value", "string", "The group's id", readOnly),
			attr("$ref", "reference", "The group's address", readOnly, refers("Group")),
			attr("display", "string", "The group's name", readOnly),
			attr("type", "string", "direct or indirect", readOnly),
		),
	),
	attr(
		"entitlements",
		"complex",
		"What the person is entitled to",
		multi,
		subs(plural("string")...),
	),
	attr("roles", "complex", "Roles", multi, subs(plural("string")...)),
	attr("x509Certificates", "complex", "Certificates", multi, subs(plural("binary")...)),
}, Extension: map[string][]Attribute{EnterpriseSchema: {
	attr(
		"employeeNumber",
		"string",
		"Number or code of the employment",
	),
	attr("costCenter", "string", "Cost centre"),
	attr("organization", "string", "Organisation"),
	attr("division", "string", "Division"),
	attr("department", "string", "Department"),
	attr(
		"manager",
		"complex",
		"Whom the person reports to",
		subs(
			attr("value", "string", "The manager's id"),
			attr("$ref", "reference", "The manager's address", refers("User")),
			attr("displayName", "string", "The manager's name", readOnly),
		),
	),
}}}

// Groups is the type of groups (RFC 7643, section 4.2).
var Groups = &Type{Name: "Group", Endpoint: "/Groups", Schema: GroupSchema, Attrs: []Attribute{
	attr("displayName", "string", "The group's name", required),
	attr(
		"members",
		"complex",
		"Who is in it",
		multi,
		subs(
			attr("value", "string", "The member's id", immutable, exact),
			attr("$ref", "reference", "The member's address", immutable, refers("User", "Group")),
			attr("display", "string", "The member's name", readOnly),
			attr("type", "string", "User or Group", immutable),
		),
	),
}}

// Types lists every Type.
var Types = []*Type{Users, Groups}

// find looks an attribute up by name, without regard to case.
func find(list []Attribute, name string) *Attribute {
	for i := range list {
		if strings.EqualFold(list[i].Name, name) {
			return &list[i]
		}
	}
	return nil
}

// lookUp finds an attribute of the type: of the core schema, of what every resource has, or of an extension.
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

// Read reads a resource as a client sends it: names as the schemas write them, read-only attributes left out, values of their types.
// What no schema knows is left out (RFC 7643, section 3: clients may send more than a service keeps).
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

// value checks a value of the attribute. null and an empty list are the same as no value (RFC 7643, section 2.5): nil.
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
	out := make([]any, 0, len(list))
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
		if !slices.ContainsFunc(out, func(have any) bool { return same(have, value) }) {
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
		return text, nil
	}
}

// same tells whether two values are equal. Of members and the like that name something, the value is what counts.
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
