// This file says what of a resource is returned, in which order, and describes the service.

package scim

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Projection says which attributes are returned (RFC 7644, section 3.9). The zero Projection
// returns what is returned by default.
type Projection struct {
	only, without []attrPath
	asked         bool
}

// ReadProjection reads the lists of attributes and excludedAttributes, separated by commas; at most
// one of them is given.
func (t *Type) ReadProjection(attributes, excluded string) (Projection, error) {
	var p Projection
	if attributes != "" && excluded != "" {
		return p, refuse(InvalidValue, "found attributes and excludedAttributes, expected one of them")
	}
	read := func(list string) (out []attrPath) {
		for _, name := range strings.Split(list, ",") {
			name = strings.TrimSpace(name)
			if uri := t.extension(name); uri != "" {
				out = append(out, attrPath{urn: uri})
				continue
			}
			q := &parser{t: t, text: name}
			if path, _, err := q.attribute(); err == nil && q.at == len(name) { // what nobody knows is not there to be returned
				out = append(out, path)
			}
		}
		return out
	}
	if attributes != "" {
		p.only, p.asked = read(attributes), true
	}
	if excluded != "" {
		p.without = read(excluded)
	}
	return p, nil
}

// Wants tells whether a top-level attribute of the core schema is among what is returned.
func (p Projection) Wants(name string) bool {
	if p.asked {
		return slices.ContainsFunc(p.only, func(a attrPath) bool { return a.urn == "" && a.name == name })
	}
	return !slices.Contains(p.without, attrPath{name: name})
}

// Of gives what of a resource is returned.
func (p Projection) Of(t *Type, r Resource) Resource {
	if !p.asked && len(p.without) == 0 {
		return r
	}
	out := Resource{}
	for key, v := range r {
		if uri := t.extension(key); uri != "" {
			if inner := p.object(uri, v.(map[string]any), t.Extension[uri]); len(inner) > 0 {
				out[key] = inner
			}
			continue
		}
		a := t.lookUp("", key)
		if a == nil {
			continue
		}
		if v = p.value("", a, v); v != nil {
			out[key] = v
		}
	}
	return out
}

func (p Projection) object(urn string, m map[string]any, attrs []Attribute) map[string]any {
	out := map[string]any{}
	for key, v := range m {
		if a := find(attrs, key); a != nil {
			if v = p.value(urn, a, v); v != nil {
				out[key] = v
			}
		}
	}
	return out
}

// value gives what of an attribute's value is returned; nil for nothing.
func (p Projection) value(urn string, a *Attribute, v any) any {
	if a.Returned == "always" {
		return v
	}
	subsOf := func(list []attrPath) (subs []string, whole bool) {
		for _, path := range list {
			if path.urn == urn && path.name == a.Name && path.sub != "" {
				subs = append(subs, path.sub)
			}
			whole = whole || path.urn == urn && path.name == a.Name && path.sub == "" || urn != "" && path == attrPath{urn: urn}
		}
		return subs, whole
	}
	if p.asked {
		subs, whole := subsOf(p.only)
		switch {
		case whole:
			return v
		case len(subs) == 0:
			return nil
		}
		return narrowed(v, func(name string) bool { return slices.Contains(subs, name) })
	}
	subs, whole := subsOf(p.without)
	switch {
	case whole:
		return nil
	case len(subs) == 0:
		return v
	}
	return narrowed(v, func(name string) bool { return !slices.Contains(subs, name) })
}

func narrowed(v any, keep func(string) bool) any {
	one := func(m map[string]any) map[string]any {
		out := map[string]any{}
		for name, inner := range m {
			if keep(name) {
				out[name] = inner
			}
		}
		return out
	}
	switch v := v.(type) {
	case map[string]any:
		return one(v)
	case []any:
		list := make([]any, 0, len(v))
		for _, item := range v {
			if m, ok := item.(map[string]any); ok {
				list = append(list, one(m))
			}
		}
		return list
	}
	return v
}

// Sort orders resources by an attribute (RFC 7644, section 3.4.2.3): of several values by the
// primary one, else the first; those without a value last when ascending and first when descending.
func (t *Type) Sort(list []Resource, by, order string) error {
	q := &parser{t: t, text: by}
	path, a, err := q.attribute()
	if err != nil || q.at != len(by) {
		return refuse(InvalidPath, "sortBy: found %q, expected an attribute of %s", by, t.Name)
	}
	if order != "" && !strings.EqualFold(order, "ascending") && !strings.EqualFold(order, "descending") {
		return refuse(InvalidValue, "sortOrder: found %q, expected ascending or descending", order)
	}
	down := strings.EqualFold(order, "descending")
	key := func(r Resource) (string, bool) {
		v := top(r, path.urn)[path.name]
		if list, ok := v.([]any); ok && len(list) > 0 {
			v = list[0]
			for _, item := range list {
				if m, ok := item.(map[string]any); ok && m["primary"] == true {
					v = m
				}
			}
		}
		if m, ok := v.(map[string]any); ok {
			v = m[cmp.Or(path.sub, "value")]
		}
		text, ok := v.(string)
		if b, isBool := v.(bool); isBool {
			text, ok = map[bool]string{false: "0", true: "1"}[b], true
		}
		if !a.CaseExact {
			text = strings.ToLower(text)
		}
		return text, ok
	}
	slices.SortStableFunc(list, func(x, y Resource) int {
		p, hasP := key(x)
		q, hasQ := key(y)
		order := cmp.Compare(p, q)
		if hasP != hasQ {
			if order = 1; hasP {
				order = -1
			}
		}
		if down {
			return -order
		}
		return order
	})
	return nil
}

// Config describes the service (RFC 7643, section 5).
func Config(base string) map[string]any {
	yes := map[string]any{"supported": true}
	return map[string]any{
		"schemas":        []string{ConfigSchema},
		"patch":          yes,
		"sort":           yes,
		"etag":           yes,
		"changePassword": map[string]any{"supported": false},
		"bulk":           map[string]any{"supported": true, "maxOperations": MaxOperations, "maxPayloadSize": MaxPayload},
		"filter":         map[string]any{"supported": true, "maxResults": MaxResults},
		"authenticationSchemes": []any{
			map[string]any{
				"type":        "oauthbearertoken",
				"name":        "Bearer token",
				"description": "A token that is made on the source's page, sent as in RFC 6750",
				"specUri":     "https://www.rfc-editor.org/info/rfc6750",
				"primary":     true,
			},
		},
		"meta": map[string]any{"resourceType": "ServiceProviderConfig", "location": base + "/ServiceProviderConfig"},
	}
}

// ResourceType describes a type of resource (RFC 7643, section 6).
func (t *Type) ResourceType(base string) map[string]any {
	extensions := []any{}
	for _, uri := range t.extensions() {
		extensions = append(extensions, map[string]any{"schema": uri, "required": false})
	}
	return map[string]any{
		"schemas": []string{
			TypeSchema,
		},
		"id":               t.Name,
		"name":             t.Name,
		"endpoint":         t.Endpoint,
		"description":      t.Name + "s of the company",
		"schema":           t.Schema,
		"schemaExtensions": extensions,
		"meta":             map[string]any{"resourceType": "ResourceType", "location": base + "/ResourceTypes/" + t.Name},
	}
}

// Schemas describes every schema (RFC 7643, section 7).
func Schemas(base string) []map[string]any {
	var out []map[string]any
	one := func(uri, name string, attrs []Attribute) {
		out = append(out, map[string]any{
			"schemas": []string{
				SchemaSchema,
			},
			"id":          uri,
			"name":        name,
			"description": name,
			"attributes":  attrs,
			"meta":        map[string]any{"resourceType": "Schema", "location": base + "/Schemas/" + uri},
		})
	}
	for _, t := range Types {
		one(t.Schema, t.Name, t.Attrs)
		for _, uri := range t.extensions() {
			one(uri, "EnterpriseUser", t.Extension[uri])
		}
	}
	return out
}

// List is a list of resources (RFC 7644, section 3.4.2).
type List struct {
	Schemas []string `json:"schemas"`
	Total   int      `json:"totalResults"`
	Start   int      `json:"startIndex"`
	Count   int      `json:"itemsPerPage"`
	Items   []any    `json:"Resources"`
}

// Page cuts a page out: start counts from 1, and a count of 0 gives the total alone (section
// 3.4.2.4).
func Page(list []Resource, start, count int) ([]Resource, int) {
	start = max(1, start)
	count = min(max(0, count), MaxResults)
	from := min(start-1, len(list))
	return list[from:min(len(list), from+count)], start
}

// Text gives the text at a path such as title, name.familyName, emails.value or an extension's
// attribute; of several values the primary one, else the first. Empty where there is none.
func (t *Type) Text(r Resource, path string) string {
	q := &parser{t: t, text: path}
	p, _, err := q.attribute()
	if err != nil || q.at != len(path) {
		return ""
	}
	v := top(r, p.urn)[p.name]
	if list, ok := v.([]any); ok {
		v = nil
		for i, item := range list {
			if m, ok := item.(map[string]any); ok && (i == 0 || m["primary"] == true) {
				v = m
			}
		}
	}
	if m, ok := v.(map[string]any); ok {
		v = m[cmp.Or(p.sub, "value")]
	}
	text, _ := v.(string)
	return text
}

// Tag gives the entity tag of a version.
func Tag(version int64) string { return `W/"` + strconv.FormatInt(version, 10) + `"` }

// Meta gives what the service says of a resource itself (RFC 7643, section 3.1). The location is
// relative to the base of the interface.
func (t *Type) Meta(id string, created, modified time.Time, version int64) map[string]any {
	return map[string]any{
		"resourceType": t.Name, "created": created.UTC().Format(time.RFC3339Nano), "lastModified": modified.UTC().Format(time.RFC3339Nano),
		"location": t.Endpoint + "/" + id, "version": Tag(version),
	}
}
