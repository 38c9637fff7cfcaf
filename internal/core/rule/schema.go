package rule

import (
	"slices"
	"strings"
)

// Kind is the type of an attribute's values.
type Kind uint8

// The kinds (RFC 7643, 2.3).
const (
	Text Kind = iota
	Boolean
	DateTime
)

// Attribute is something that a rule can ask about.
type Attribute struct {
	Path  string // as it is written in a rule, such as addresses.locality
	Field string // its name in the directory, such as locality; "" where it has none
	Label string // in plain words
	Kind  Kind
	Exact bool // text compares with regard to case
	Many  bool // a person may have several values
}

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

// Attributes returns every attribute that a rule can ask about.
func Attributes() []Attribute { return slices.Clone(attributes) }

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

// find resolves an attribute path, in any case, with or without its schema. parent
// is the attribute before a bracket, "" outside of one. It returns nil for an
// unknown one.
func find(path, parent string) *Attribute {
	urn, rest := "", path
	if i := strings.LastIndexByte(path, ':'); i >= 0 {
		urn, rest = path[:i], path[i+1:]
	}
	if parent != "" {
		rest = parent + "." + rest
	}
	i := slices.IndexFunc(attributes, func(a Attribute) bool { return strings.EqualFold(a.Path, rest) })
	if i < 0 && parent == "" { // emails stands for emails.value, manager for manager.value
		i = slices.IndexFunc(attributes, func(a Attribute) bool { return strings.EqualFold(a.Path, rest+".value") })
	}
	if i < 0 {
		return nil
	}
	extended := slices.Contains(enterprise, attributes[i].Path)
	switch {
	case urn == "", strings.EqualFold(urn, CoreSchema) && !extended, strings.EqualFold(urn, EnterpriseSchema) && extended:
		return &attributes[i]
	}
	return nil
}

// isComplex reports whether an attribute has parts, such as addresses, and returns
// its name as the schema writes it.
func isComplex(name string) (string, bool) {
	for _, a := range attributes {
		if parent, _, ok := strings.Cut(a.Path, "."); ok && strings.EqualFold(parent, name) {
			return parent, true
		}
	}
	return "", false
}

// Subject is what is known of a person: values by the paths of attributes. Of an
// attribute with several values, such as addresses, each is one element.
type Subject struct {
	single map[string][]string // of one value each
	many   map[string][]map[string]string
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
			for x := range strings.SplitSeq(v, ";") {
				if x = strings.TrimSpace(x); x != "" {
					s.many[parent] = append(s.many[parent], map[string]string{"value": x, "type": "work"})
				}
			}
		}
	}
	if len(place) > 0 {
		place["type"] = "work"
		s.many["addresses"] = []map[string]string{place}
	}
	return s
}

// values returns what the subject has for an attribute; element is the one value
// that a bracket looks at, or nil.
func (s Subject) values(a *Attribute, element map[string]string) []string {
	if element == nil && !a.Many {
		return s.single[a.Path]
	}
	parent, part, _ := strings.Cut(a.Path, ".")
	if element != nil {
		if v := element[part]; v != "" {
			return []string{v}
		}
		return nil
	}
	var out []string
	for _, e := range s.many[parent] {
		if v := e[part]; v != "" {
			out = append(out, v)
		}
	}
	return out
}

// Lacks reports whether the subject has no value for an attribute.
func (s Subject) Lacks(a Attribute) bool { return len(s.values(&a, nil)) == 0 }
