package rule

import (
	"maps"
	"slices"
	"strings"
)

// Kind is the type of an attribute's values.
type Kind uint8

// The kinds: those of RFC 7643, 2.3 that are used, days, and words of a list.
const (
	Text Kind = iota
	Boolean
	DateTime
	Number // a whole number
	Day    // such as 2027-03-18
	Choice // one of Choices
)

// Attribute is something that an expression can ask about.
type Attribute struct {
	Path    string // as it is written, such as addresses.locality
	Field   string // its name in the directory, such as locality; "" where it has none
	Label   string // in plain words
	Kind    Kind
	Exact   bool     // text compares with regard to case
	Many    bool     // there may be several values
	Whole   bool     // of several: all are known, so that without any it is known that there is none
	Choices []string // of a Choice
	Ladder  bool     // of a Choice: Choices stand in order, lowest first
	Own     bool     // of people: an organisation keeps it of its own
	Private bool     // only for those who may read all of the directory
}

// Operators returns the names of the operators that an attribute can stand before.
func (a *Attribute) Operators() []string {
	var out []string
	for i, name := range operators {
		if a.takes(Op(i)) {
			out = append(out, name)
		}
	}
	return out
}

func (a *Attribute) takes(o Op) bool {
	switch o {
	case Eq, Ne, Pr:
		return true
	case Co, Sw, Ew:
		return a.Kind == Text
	}
	return a.Kind != Boolean && (a.Kind != Choice || a.Ladder)
}

// Schema is what expressions of one kind can ask about.
type Schema struct {
	word       string // what such an expression is called: rule, filter
	example    string
	attributes []Attribute
	urn        func(urn string, a *Attribute) bool // whether an attribute may be qualified so; nil: never
	instead    map[string]string                   // what to do in place of asking for what is no attribute, by its name in lower case
}

// NewSchema returns the schema of filters over some attributes; example is one.
func NewSchema(example string, attributes []Attribute) *Schema {
	return &Schema{word: "filter", example: example, attributes: attributes}
}

// Attributes returns every attribute that an expression can ask about.
func (s *Schema) Attributes() []Attribute { return slices.Clone(s.attributes) }

// find resolves an attribute path, in any case, with or without its schema. parent
// is the attribute before a bracket, "" outside of one. It returns nil for an
// unknown one.
func (s *Schema) find(path, parent string) *Attribute {
	urn, rest := "", path
	if i := strings.LastIndexByte(path, ':'); i >= 0 {
		urn, rest = path[:i], path[i+1:]
	}
	if parent != "" {
		rest = parent + "." + rest
	}
	i := slices.IndexFunc(s.attributes, func(a Attribute) bool { return strings.EqualFold(a.Path, rest) })
	if i < 0 && parent == "" { // emails stands for emails.value, manager for manager.value, owner for owner.address
		i = slices.IndexFunc(s.attributes, func(a Attribute) bool {
			return strings.EqualFold(a.Path, rest+".value") || strings.EqualFold(a.Path, rest+".address")
		})
	}
	if i < 0 || urn != "" && (s.urn == nil || !s.urn(urn, &s.attributes[i])) {
		return nil
	}
	return &s.attributes[i]
}

// complex reports whether an attribute, with or without its schema, has parts, such as
// addresses, and returns its name as the schema writes it.
func (s *Schema) complex(name string) (string, bool) {
	urn, rest := "", name
	if i := strings.LastIndexByte(name, ':'); i >= 0 {
		urn, rest = name[:i], name[i+1:]
	}
	for i := range s.attributes {
		a := &s.attributes[i]
		if parent, _, ok := strings.Cut(a.Path, "."); ok && strings.EqualFold(parent, rest) && a.part() && (urn == "" || s.urn != nil && s.urn(urn, a)) {
			return parent, true
		}
	}
	return "", false
}

// part reports whether an attribute is a part of one that can stand before brackets.
func (a *Attribute) part() bool { return a.Kind != Choice }

// near returns the attributes whose names are most like a name that there is not, at
// most five.
func (s *Schema) near(name, parent string) []string {
	type close struct {
		path string
		by   int
	}
	var all []close
	for _, a := range s.attributes {
		path := a.Path
		if parent != "" {
			var ok bool
			if path, ok = strings.CutPrefix(path, parent+"."); !ok {
				continue
			}
		}
		_, part, _ := strings.Cut(path, ".")
		by := min(distance(strings.ToLower(path), strings.ToLower(name)), 1+distance(strings.ToLower(part), strings.ToLower(name)))
		if strings.Contains(strings.ToLower(path), strings.ToLower(name)) {
			by = 0
		}
		all = append(all, close{path, by})
	}
	slices.SortStableFunc(all, func(a, b close) int { return a.by - b.by })
	var out []string
	for _, c := range all[:min(5, len(all))] {
		out = append(out, c.path)
	}
	return out
}

// distance is how many letters have to be changed, added or left out to make b of a.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost++
			}
			last = row[j+1]
			row[j+1] = min(cost, row[j]+1, last+1)
		}
	}
	return row[len(b)]
}

// Subject is what an expression is asked about: values by the paths of attributes. Of an
// attribute with several values, such as addresses, each is one element.
type Subject struct {
	single map[string][]string // of one value each
	many   map[string][]map[string]string
}

// NewSubject makes a subject of values by the paths of attributes; of an attribute without
// several values, the first counts. Values are written as in an expression, without quotes.
func (s *Schema) NewSubject(values map[string][]string) Subject {
	out := Subject{single: map[string][]string{}, many: map[string][]map[string]string{}}
	for i := range s.attributes {
		a := &s.attributes[i]
		for _, v := range values[a.Path] {
			if v == "" {
				continue
			}
			if !a.Many {
				out.single[a.Path] = []string{v}
				break
			}
			parent, part, dotted := strings.Cut(a.Path, ".")
			if !dotted {
				part = "value"
			}
			out.many[parent] = append(out.many[parent], map[string]string{part: v})
		}
	}
	return out
}

// With returns s with more values, by the paths of attributes of a schema.
func (s Subject) With(schema *Schema, values map[string][]string) Subject {
	more := schema.NewSubject(values)
	maps.Copy(more.single, s.single)
	maps.Copy(more.many, s.many)
	return more
}

// values returns what the subject has for an attribute; element is the one value
// that a bracket looks at, or nil.
func (s Subject) values(a *Attribute, element map[string]string) []string {
	if element == nil && !a.Many {
		return s.single[a.Path]
	}
	parent, part, dotted := strings.Cut(a.Path, ".")
	if !dotted {
		part = "value"
	}
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
