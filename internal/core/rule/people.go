package rule

import (
	"slices"
	"strings"
)

// The schemas by which an attribute may be qualified.
const (
	CoreSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
)

// attributes are those of a SCIM user for which a directory has values. Where no
// field is named, the attribute follows from what the directory knows anyway.
var attributes = []Attribute{
	{Path: "userName", Label: "address"},
	{Path: "displayName", Label: "name"},
	{Path: "name.formatted", Label: "whole name"},
	{Path: "name.givenName", Field: "givenName", Label: "given name"},
	{Path: "name.familyName", Field: "familyName", Label: "family name"},
	{Path: "name.middleName", Field: "middleName", Label: "middle name"},
	{Path: "name.honorificPrefix", Field: "honorificPrefix", Label: "title before the name"},
	{Path: "name.honorificSuffix", Field: "honorificSuffix", Label: "title after the name"},
	{Path: "nickName", Field: "nickName", Label: "nickname"},
	{Path: "externalId", Field: "externalId", Label: "identifier elsewhere", Exact: true},
	{Path: "title", Field: "title", Label: "title"},
	{Path: "userType", Field: "userType", Label: "kind of employment"},
	{Path: "preferredLanguage", Field: "preferredLanguage", Label: "language"},
	{Path: "locale", Field: "locale", Label: "locale"},
	{Path: "timezone", Field: "timezone", Label: "time zone"},
	{Path: "active", Label: "is here", Kind: Boolean},
	{Path: "meta.created", Label: "in the directory since", Kind: DateTime},
	{Path: "emails.value", Label: "address", Many: true},
	{Path: "emails.type", Label: "kind of address", Many: true},
	{Path: "emails.primary", Label: "main address", Kind: Boolean, Many: true},
	{Path: "phoneNumbers.value", Field: "phoneNumbers", Label: "telephone", Many: true},
	{Path: "phoneNumbers.type", Label: "kind of telephone", Many: true},
	{Path: "ims.value", Field: "ims", Label: "messenger address", Many: true},
	{Path: "ims.type", Label: "kind of messenger", Many: true},
	{Path: "profileUrl", Field: "profileUrl", Label: "page about the person", Exact: true},
	{Path: "addresses.formatted", Field: "formattedAddress", Label: "whole postal address", Many: true},
	{Path: "addresses.streetAddress", Field: "streetAddress", Label: "street", Many: true},
	{Path: "addresses.locality", Field: "locality", Label: "place", Many: true},
	{Path: "addresses.region", Field: "region", Label: "region", Many: true},
	{Path: "addresses.postalCode", Field: "postalCode", Label: "postal code", Many: true},
	{Path: "addresses.country", Field: "country", Label: "country", Many: true},
	{Path: "addresses.type", Label: "kind of place", Many: true},
	{Path: "roles.value", Field: "roles", Label: "roles", Many: true},
	{Path: "entitlements.value", Field: "entitlements", Label: "entitlements", Many: true},
	{Path: "employeeNumber", Field: "employeeNumber", Label: "employee number"},
	{Path: "costCenter", Field: "costCenter", Label: "cost centre"},
	{Path: "organization", Field: "organization", Label: "organisation"},
	{Path: "division", Field: "division", Label: "division"},
	{Path: "department", Field: "department", Label: "department"},
	{Path: "manager.value", Field: "manager", Label: "manager's address"},
}

// enterprise are the attributes of the extension.
var enterprise = []string{"employeeNumber", "costCenter", "organization", "division", "department", "manager.value"}

// Attributes returns every attribute of people that a rule can ask about.
func Attributes() []Attribute { return People.Attributes() }

// People is what rules of membership can ask about.
var People = &Schema{word: "rule", example: `department eq "Deck"`, attributes: attributes, urn: ofPerson, instead: map[string]string{
	"groups": "A rule can't ask who is in a group; nest that group instead."}}

// ofPerson reports whether an attribute of people may be qualified by a schema.
func ofPerson(urn string, a *Attribute) bool {
	if a.Own {
		return strings.EqualFold(urn, OwnSchema)
	}
	if slices.Contains(enterprise, a.Path) {
		return strings.EqualFold(urn, EnterpriseSchema)
	}
	return strings.EqualFold(urn, CoreSchema)
}

// PeopleFilter is what filters over people can ask about: all that rules can, and more of
// what the directory knows.
func PeopleFilter(more ...Attribute) *Schema {
	return &Schema{word: "filter", example: People.example, attributes: append(People.Attributes(), more...), urn: ofPerson}
}

// Parse reads a rule of membership. Its error is an *[fault.Fault].
func Parse(text string) (*Rule, error) { return People.Parse(text) }

// Expect is [Schema.Expect] for rules of membership.
func Expect(text string, at int) Expected { return People.Expect(text, at) }

// FieldNames returns the names under which a directory keeps attributes of people.
func FieldNames() []string {
	var out []string
	for _, a := range attributes {
		if a.Field != "" {
			out = append(out, a.Field)
		}
	}
	return out
}

// split returns the values of an attribute in what the directory has in its field.
func (a *Attribute) split(v string) []string {
	if !a.Many || strings.HasPrefix(a.Path, "addresses.") {
		return []string{strings.TrimSpace(v)}
	}
	var out []string
	for x := range strings.SplitSeq(v, ";") {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

// FieldKeys returns the values that the directory's fields give attributes, as they are
// compared, by the paths of the attributes.
func FieldKeys(fields map[string]string) map[string][]string {
	out := map[string][]string{}
	for i := range attributes {
		a := &attributes[i]
		if a.Field == "" || strings.TrimSpace(fields[a.Field]) == "" {
			continue
		}
		for _, v := range a.split(fields[a.Field]) {
			out[a.Path] = append(out[a.Path], a.Key(v))
		}
	}
	for name, v := range fields {
		if v = strings.TrimSpace(v); !standard[name] && v != "" {
			out[name] = []string{Fold(v)}
		}
	}
	return out
}

// NewSubject makes a subject of a person's address, name, whether they are active,
// when they came into the directory (RFC 3339), and the directory's fields.
// Several values of one field are separated by semicolons.
func NewSubject(address, name string, active bool, created string, fields map[string]string) Subject {
	one := func(v string) []string {
		if v == "" {
			return nil
		}
		return []string{v}
	}
	s := Subject{single: map[string][]string{"userName": one(address), "displayName": one(name), "name.formatted": one(name), "active": one("false"), "meta.created": one(created)},
		many: map[string][]map[string]string{"emails": {{"value": address, "type": "work", "primary": "true"}}}}
	if active {
		s.single["active"] = one("true")
	}
	place := map[string]string{}
	for _, a := range attributes {
		v := strings.TrimSpace(fields[a.Field])
		if a.Field == "" || v == "" {
			continue
		}
		parent, part, _ := strings.Cut(a.Path, ".")
		switch {
		case !a.Many:
			s.single[a.Path] = one(v)
		case parent == "addresses":
			place[part] = v
		default:
			for _, x := range a.split(v) {
				s.many[parent] = append(s.many[parent], map[string]string{"value": x, "type": "work"})
			}
		}
	}
	for name, v := range fields {
		if v = strings.TrimSpace(v); !standard[name] && v != "" {
			s.single[name] = one(v) // of the organisation's own
		}
	}
	if len(place) > 0 {
		place["type"] = "work"
		s.many["addresses"] = []map[string]string{place}
	}
	return s
}
