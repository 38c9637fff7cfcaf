package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ivytable.example/ivytable/internal/core/fault"
)

// OwnSchema qualifies the attributes that an organisation keeps of its own (RFC 7643, 3.3).
const OwnSchema = "urn:ivytable:params:scim:schemas:extension:workspace:1.0:User"

// Own is an attribute of people that an organisation keeps of its own, beside those of SCIM. It has
// one value at most.
type Own struct {
	Name  string
	Label string // in plain words
	Kind  Kind   // Text, Boolean, Number or Day
}

// ownKinds are the kinds that an attribute of its own can have.
var ownKinds = map[string]Kind{"text": Text, "boolean": Boolean, "number": Number, "day": Day}

// OwnKinds are the names of the kinds that an attribute of an organisation's own can have.
func OwnKinds() []string { return []string{"text", "number", "boolean", "day"} }

// ParseOwnKind reads the name of a kind.
func ParseOwnKind(name string) (Kind, bool) {
	k, ok := ownKinds[name]
	return k, ok
}

// MaxOwnName is how many characters the name of an attribute can have.
const MaxOwnName = 50

// Check returns what is wrong with an attribute of an organisation's own, or nil. Its name is one of
// SCIM (RFC 7643, 2.1), and no other attribute of people has it, nor does one of taken.
func (o Own) Check(taken ...string) *fault.Fault {
	letter := func(c byte) bool { return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' }
	for i := range len(o.Name) {
		if c := o.Name[i]; !letter(c) && (i == 0 || c != '-' && c != '_' && (c < '0' || c > '9')) {
			return fault.New("name", "Begin it with a letter, and use only a to z, A to Z, 0 to 9, - and _ in it.", "%q is no name for an attribute.", o.Name)
		}
	}
	if n := len(o.Name); n == 0 || n > MaxOwnName {
		return fault.New("name", "", "The name has %d characters; 1 to %d are possible.", n, MaxOwnName)
	}
	for _, a := range attributes {
		first, _, _ := strings.Cut(a.Path, ".")
		if strings.EqualFold(o.Name, first) || strings.EqualFold(o.Name, a.Field) {
			return fault.New("name", "Choose another name.", "The directory has %s already.", first)
		}
	}
	if i := slices.IndexFunc(slices.Concat(taken, operators[:], []string{"and", "or", "not", "true", "false", "null"}), func(s string) bool { return strings.EqualFold(s, o.Name) }); i >= 0 {
		return fault.New("name", "Choose another name.", "%s means something else in filters and lists.", o.Name)
	}
	return nil
}

// Value returns a value of an attribute as it is kept, "" for none. The error is a *[fault.Fault].
func (o Own) Value(v string) (string, error) {
	v = strings.TrimSpace(v)
	if v == "" {
		return "", nil
	}
	switch o.Kind {
	case Boolean:
		switch v = strings.ToLower(v); v {
		case "true", "false":
			return v, nil
		}
		return "", &fault.Fault{Given: v, Says: fmt.Sprintf("%s is true or false.", o.Name)}
	case Number:
		n, err := strconv.ParseInt(v, 10, 64)
		if err != nil {
			return "", &fault.Fault{Given: v, Says: fmt.Sprintf("%s is a whole number.", o.Name)}
		}
		return strconv.FormatInt(n, 10), nil
	case Day:
		if !isDay(v) {
			return "", &fault.Fault{Given: v, Says: fmt.Sprintf("%s is a day, such as 2027-03-18.", o.Name)}
		}
	}
	return v, nil
}

// With returns a schema of people with further attributes of an organisation's own.
func (s *Schema) With(own []Own) *Schema {
	if len(own) == 0 {
		return s
	}
	out := *s
	out.attributes = slices.Clone(s.attributes)
	for _, o := range own {
		out.attributes = append(out.attributes, Attribute{Path: o.Name, Field: o.Name, Label: o.Label, Kind: o.Kind, Own: true})
	}
	return &out
}

// standard are the names under which the directory keeps the attributes of SCIM.
var standard = func() map[string]bool {
	out := map[string]bool{}
	for _, name := range FieldNames() {
		out[name] = true
	}
	return out
}()
