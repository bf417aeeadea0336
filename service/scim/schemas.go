// This file has the schemas of users and groups (RFC 7643, sections 4 and 8.7).

package scim

import (
	"strings"
)

func attr(name, kind, about string, options ...func(*Attribute)) Attribute {
	a := Attribute{Name: name, Type: kind, Description: about, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
	for _, o := range options {
		o(&a)
	}
	return a
}

func multi(a *Attribute) { a.Multi = true }

func required(a *Attribute) { a.Required = true }

func exact(a *Attribute) { a.CaseExact = true }

func readOnly(a *Attribute) { a.Mutability = "readOnly" }

func unique(a *Attribute) { a.Uniqueness = "server" }

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
		attr("resourceType", "string", "Its type", readOnly, exact),
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

// Users is the type of users with the enterprise extension (RFC 7643, sections 4.1 and 4.3).
// Passwords are not kept: nobody signs in with them here.
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
	attr("displayName", "string", "As shown to people"),
	attr("nickName", "string", "As friends say"),
	attr("profileUrl", "reference", "A page about the person", exact, refers("external")),
	attr("title", "string", "Job title"),
	attr("userType", "string", "Employee, contractor …"),
	attr("preferredLanguage", "string", "As in Accept-Language"),
	attr("locale", "string", "For dates and money"),
	attr("timezone", "string", "As the IANA database names it"),
	attr("active", "boolean", "False: the person is marked as left"),
	attr("emails", "complex", "Mail addresses", multi, subs(plural("string")...)),
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
	attr("entitlements", "complex", "What the person is entitled to", multi, subs(plural("string")...)),
	attr("roles", "complex", "Roles", multi, subs(plural("string")...)),
	attr("x509Certificates", "complex", "Certificates", multi, subs(plural("binary")...)),
}, Extension: map[string][]Attribute{EnterpriseSchema: {
	attr("employeeNumber", "string", "Number or code of the employment"),
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
