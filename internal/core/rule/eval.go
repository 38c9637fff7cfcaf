package rule

import (
	"fmt"
	"strings"
	"time"

	"golang.org/x/text/cases"
)

// Verdict is what a rule says of a person.
type Verdict uint8

// The verdicts.
const (
	NoMatch Verdict = iota
	Unknown         // an attribute on which it depends is empty
	Match
)

func (v Verdict) String() string {
	if names := [...]string{"no match", "unknown", "match"}; int(v) < len(names) {
		return names[v]
	}
	return "unknown"
}

var folding = cases.Fold()

func fold(s string) string {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return folding.String(s)
		}
	}
	return strings.ToLower(s)
}

// same reports whether fold(s) is folded, most often without making it.
func same(s, folded string) bool {
	differ := len(s) != len(folded)
	for i := range len(s) {
		c := s[i]
		if c >= 0x80 {
			return fold(s) == folded
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

func (n *node) eval(s Subject, element map[string]string) Verdict {
	switch n.op {
	case and:
		v := Match
		for i := range n.parts {
			if v = min(v, n.parts[i].eval(s, element)); v == NoMatch {
				break
			}
		}
		return v
	case or:
		v := NoMatch
		for i := range n.parts {
			if v = max(v, n.parts[i].eval(s, element)); v == Match {
				break
			}
		}
		return v
	case not:
		return Match - n.parts[0].eval(s, element)
	case within:
		v := NoMatch
		for _, e := range s.elements(n.parent) {
			v = max(v, n.parts[0].eval(s, e))
		}
		if len(s.elements(n.parent)) == 0 {
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

func (n *node) compare(s Subject, element map[string]string) Verdict {
	if n.attr == nil { // a whole attribute with parts, asked whether it is there
		return truth(len(s.elements(n.parent)) > 0)
	}
	values := s.values(n.attr, element)
	switch {
	case n.op == pr:
		return truth(len(values) > 0)
	case n.null:
		return truth((len(values) == 0) == (n.op == eq))
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

func (n *node) fits(v string) bool {
	var order int
	switch {
	case n.attr.Kind == DateTime:
		at, err := time.Parse(time.RFC3339, v)
		if err != nil {
			return false
		}
		order = at.Compare(n.time)
	case n.attr.Exact:
		order = strings.Compare(v, n.value)
	case n.op == eq || n.op == ne:
		return same(v, n.value) == (n.op == eq)
	default:
		v = fold(v)
		order = strings.Compare(v, n.value)
	}
	switch n.op {
	case eq:
		return order == 0
	case ne:
		return order != 0
	case co:
		return strings.Contains(v, n.value)
	case sw:
		return strings.HasPrefix(v, n.value)
	case ew:
		return strings.HasSuffix(v, n.value)
	case gt:
		return order > 0
	case ge:
		return order >= 0
	case lt:
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
	r.root.each(func(n *node) { e.Parts = append(e.Parts, r.part(n, s)) })
	if e.Verdict != Match {
		for _, n := range r.root.flips(s, nil, true) {
			e.Failed = append(e.Failed, r.part(n, s))
		}
		e.Distance = len(e.Failed)
	}
	return e
}

// Distance returns how many comparisons would have to be otherwise for a person to
// match: 0 for a match.
func (r *Rule) Distance(s Subject) int {
	if r.Eval(s) == Match {
		return 0
	}
	return len(r.root.flips(s, nil, true))
}

// each calls f for every comparison. What stands in brackets counts as one.
func (n *node) each(f func(*node)) {
	if n.op < and || n.op == within {
		f(n)
		return
	}
	for i := range n.parts {
		n.parts[i].each(f)
	}
}

// flips returns the fewest comparisons that keep a part from coming out as wanted.
func (n *node) flips(s Subject, element map[string]string, wanted bool) []*node {
	switch n.op {
	case not:
		return n.parts[0].flips(s, element, !wanted)
	case and, or:
		var sum, least []*node
		for i := range n.parts {
			f := n.parts[i].flips(s, element, wanted)
			sum = append(sum, f...)
			if i == 0 || len(f) < len(least) {
				least = f
			}
		}
		if (n.op == and) == wanted {
			return sum
		}
		return least
	}
	if n.eval(s, element) == truth(wanted) {
		return nil
	}
	return []*node{n}
}

func (r *Rule) part(n *node, s Subject) Part {
	p := Part{From: n.from, To: n.to, Text: r.text[n.from:n.to], Verdict: n.eval(s, nil)}
	switch {
	case n.attr == nil:
		if p.Says = fmt.Sprintf("No value of %s fits.", n.parent); len(s.elements(n.parent)) == 0 {
			p.Says, p.Lacks = fmt.Sprintf("%s is empty.", n.parent), n.parent
		}
	case len(s.values(n.attr, nil)) == 0:
		p.Says, p.Lacks = fmt.Sprintf("%s is empty.", n.attr.Path), n.attr.Path
	default:
		p.Says = fmt.Sprintf("%s is %s.", n.attr.Path, strings.Join(s.values(n.attr, nil), ", "))
	}
	if p.Verdict == Match {
		p.Lacks = ""
		if n.attr == nil {
			p.Says = fmt.Sprintf("A value of %s fits.", n.parent)
		}
	}
	return p
}
