package rule

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Verdict is what a rule says of a person.
type Verdict uint8

// The verdicts.
const (
	NoMatch Verdict = iota
	Unknown         // nobody has filled in an attribute on which it depends
	Match
)

func (v Verdict) String() string {
	if names := [...]string{"no match", "unknown", "match"}; int(v) < len(names) {
		return names[v]
	}
	return "unknown"
}

var folding = cases.Fold()

// Fold returns a text as texts are compared: without regard to case, and to whether letters
// with marks are one code point or several (canonical caseless matching: Unicode, D145).
func Fold(s string) string {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return norm.NFC.String(folding.String(norm.NFD.String(s)))
		}
	}
	return strings.ToLower(s)
}

// Key returns a value of a text attribute as it is compared, octet by octet.
func (a *Attribute) Key(v string) string {
	if a.Exact {
		return norm.NFC.String(v)
	}
	return Fold(v)
}

// same reports whether Fold(s) is folded, most often without making it.
func same(s, folded string) bool {
	differ := len(s) != len(folded)
	for i := range len(s) {
		c := s[i]
		if c >= 0x80 {
			return Fold(s) == folded
		}
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		differ = differ || c != folded[i]
	}
	return !differ
}

// Eval decides about a person.
func (r *Rule) Eval(s Subject) Verdict { return r.root.eval(s, nil) }

func (n *Node) eval(s Subject, element map[string]string) Verdict {
	switch n.Op {
	case And:
		v := Match
		for i := range n.Parts {
			if v = min(v, n.Parts[i].eval(s, element)); v == NoMatch {
				break
			}
		}
		return v
	case Or:
		v := NoMatch
		for i := range n.Parts {
			if v = max(v, n.Parts[i].eval(s, element)); v == Match {
				break
			}
		}
		return v
	case Not:
		return Match - n.Parts[0].eval(s, element)
	case Within:
		v := NoMatch
		for _, e := range s.elements(n.Parent) {
			v = max(v, n.Parts[0].eval(s, e))
		}
		if len(s.elements(n.Parent)) == 0 {
			v = Unknown
		}
		return v
	}
	return n.compare(s, element)
}

// elements returns the values of an attribute with parts; one with a single value,
// such as name, counts as a list of one.
func (s Subject) elements(parent string) []map[string]string {
	if all, ok := s.many[parent]; ok {
		return all
	}
	one := map[string]string{}
	for path, v := range s.single {
		if p, part, ok := strings.Cut(path, "."); ok && p == parent && len(v) > 0 {
			one[part] = v[0]
		}
	}
	if len(one) == 0 {
		return nil
	}
	return []map[string]string{one}
}

func (n *Node) compare(s Subject, element map[string]string) Verdict {
	if n.Attr == nil { // a whole attribute with parts, asked whether it is there
		return truth(len(s.elements(n.Parent)) > 0)
	}
	values := s.values(n.Attr, element)
	switch {
	case n.Op == Pr:
		return truth(len(values) > 0)
	case n.Null:
		return truth((len(values) == 0) == (n.Op == Eq))
	case len(values) == 0 && n.Attr.Whole:
		return NoMatch
	case len(values) == 0:
		return Unknown
	}
	for _, v := range values {
		if n.fits(v) {
			return Match
		}
	}
	return NoMatch
}

func truth(b bool) Verdict {
	if b {
		return Match
	}
	return NoMatch
}

func (n *Node) fits(v string) bool {
	var order int
	switch a := n.Attr; {
	case a.Kind == DateTime:
		at, err := time.Parse(time.RFC3339, v)
		if err != nil {
			return false
		}
		order = at.Compare(n.Time)
	case a.Kind == Number:
		i, err := strconv.ParseInt(v, 10, 64)
		if err != nil {
			return false
		}
		order = cmp.Compare(i, n.Number)
	case a.Kind == Choice:
		order = slices.Index(a.Choices, v) - int(n.Number)
	case !a.Exact && (n.Op == Eq || n.Op == Ne):
		return same(v, n.Value) == (n.Op == Eq)
	default:
		v = a.Key(v)
		order = strings.Compare(v, n.Value)
	}
	switch n.Op {
	case Eq:
		return order == 0
	case Ne:
		return order != 0
	case Co:
		return strings.Contains(v, n.Value)
	case Sw:
		return strings.HasPrefix(v, n.Value)
	case Ew:
		return strings.HasSuffix(v, n.Value)
	case Gt:
		return order > 0
	case Ge:
		return order >= 0
	case Lt:
		return order < 0
	}
	return order <= 0
}

// Part is a comparison of a rule, and how it stands for one person.
type Part struct {
	From, To int    // where it stands in the rule, in octets
	Text     string // the comparison as it was written
	Verdict  Verdict
	Says     string // what the person has instead, one sentence
	Lacks    string // the path of the attribute that is empty, or ""
}

// Explanation says how a rule came to its verdict about one person.
type Explanation struct {
	Verdict  Verdict
	Parts    []Part // every comparison, in the order in which they stand
	Failed   []Part // the fewest comparisons that would have to be otherwise; none for a match
	Distance int    // how many those are; 1 is a near match
}

// Explain decides about a person and says why.
func (r *Rule) Explain(s Subject) Explanation {
	e := Explanation{Verdict: r.Eval(s)}
	r.root.Each(func(n *Node) { e.Parts = append(e.Parts, r.part(n, s)) })
	if e.Verdict != Match {
		for _, n := range r.root.flips(s, nil, true) {
			e.Failed = append(e.Failed, r.part(n, s))
		}
		e.Distance = len(e.Failed)
	}
	return e
}

// Near reports whether somebody nearly matches: one comparison fails of several.
func (r *Rule) Near(s Subject) bool {
	parts := 0
	r.root.Each(func(*Node) { parts++ })
	return parts > 1 && r.Distance(s) == 1
}

// Distance returns how many comparisons would have to be otherwise for a person to
// match: 0 for a match.
func (r *Rule) Distance(s Subject) int {
	if r.Eval(s) == Match {
		return 0
	}
	return len(r.root.flips(s, nil, true))
}

// Each calls f for every comparison. What stands in brackets counts as one.
func (n *Node) Each(f func(*Node)) {
	if n.Op < And || n.Op == Within {
		f(n)
		return
	}
	for i := range n.Parts {
		n.Parts[i].Each(f)
	}
}

// Place returns where the rule first asks about an attribute, in octets.
func (r *Rule) Place(a Attribute) int {
	at := -1
	var look func(n *Node)
	look = func(n *Node) {
		if at < 0 && (n.Attr != nil && n.Attr.Path == a.Path || n.Attr == nil && n.Op == Pr && strings.HasPrefix(a.Path, n.Parent+".")) {
			at = n.From
		}
		for i := range n.Parts {
			look(&n.Parts[i])
		}
	}
	look(&r.root)
	return max(at, 0)
}

// flips returns the fewest comparisons that keep a part from coming out as wanted.
func (n *Node) flips(s Subject, element map[string]string, wanted bool) []*Node {
	switch n.Op {
	case Not:
		return n.Parts[0].flips(s, element, !wanted)
	case And, Or:
		var sum, least []*Node
		for i := range n.Parts {
			f := n.Parts[i].flips(s, element, wanted)
			sum = append(sum, f...)
			if i == 0 || len(f) < len(least) {
				least = f
			}
		}
		if (n.Op == And) == wanted {
			return sum
		}
		return least
	}
	if n.eval(s, element) == truth(wanted) {
		return nil
	}
	return []*Node{n}
}

func (r *Rule) part(n *Node, s Subject) Part {
	p := Part{From: n.From, To: n.To, Text: r.text[n.From:n.To], Verdict: n.eval(s, nil)}
	switch {
	case n.Attr == nil:
		if p.Says = fmt.Sprintf("No value of %s fits.", n.Parent); len(s.elements(n.Parent)) == 0 {
			p.Says, p.Lacks = fmt.Sprintf("%s is empty.", n.Parent), n.Parent
		}
	case len(s.values(n.Attr, nil)) == 0:
		p.Says, p.Lacks = fmt.Sprintf("%s is empty.", n.Attr.Path), n.Attr.Path
	default:
		p.Says = fmt.Sprintf("%s is %s.", n.Attr.Path, strings.Join(s.values(n.Attr, nil), ", "))
	}
	if p.Verdict == Match {
		p.Lacks = ""
		if n.Attr == nil {
			p.Says = fmt.Sprintf("A value of %s fits.", n.Parent)
		}
	}
	return p
}
