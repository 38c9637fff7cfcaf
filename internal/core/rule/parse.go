package rule

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/fault"
)

// Bounds of a rule.
const (
	MaxLength = 4000 // octets
	MaxDepth  = 20   // parentheses within each other
	MaxParts  = 200  // comparisons
)

func wrong(at int, says, mend string) *fault.Fault {
	return &fault.Fault{At: at, Says: says, Mend: mend}
}

// Rule is a parsed rule. Make one with [Parse].
type Rule struct {
	text string
	root node
	used []Attribute
}

// String returns the rule as it was written.
func (r *Rule) String() string { return r.text }

// Attributes returns the attributes that the rule asks about, each once, by path.
func (r *Rule) Attributes() []Attribute { return slices.Clone(r.used) }

// node is a part of a rule: a comparison, or what joins others.
type node struct {
	op       op
	from, to int        // where it stands in the text
	attr     *Attribute // of a comparison
	value    string     // what it compares with, folded where case does not count
	null     bool       // it compares with null
	time     time.Time  // the value as a moment
	parent   string     // of brackets: the attribute before them
	parts    []node
}

type op uint8

const (
	eq op = iota
	ne
	co
	sw
	ew
	gt
	ge
	lt
	le
	pr
	and
	or
	not
	within // brackets
)

var operators = []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr"}

// token is a word, a text in quotes or a bracket; its kind is 'w', '"' or itself,
// and 0 at the end.
type token struct {
	kind     byte
	text     string // of a text in quotes: what it stands for
	from, to int
}

type parser struct {
	text   string
	next   token
	depth  int
	leaves int
	used   map[string]bool
}

// Parse reads a rule. Its error is an *[fault.Fault].
func Parse(text string) (*Rule, error) {
	if len(text) > MaxLength {
		return nil, wrong(MaxLength, fmt.Sprintf("The rule has %d octets; %d is the most.", len(text), MaxLength), "Shorten it.")
	}
	p := &parser{text: text, used: map[string]bool{}}
	if err := p.scan(0); err != nil {
		return nil, err
	}
	if p.next.kind == 0 {
		return nil, wrong(0, "The rule is empty.", `Write one, such as department eq "Deck".`)
	}
	root, err := p.or("")
	if err != nil {
		return nil, err
	}
	if p.next.kind != 0 {
		return nil, p.unexpected("and, or, or the end")
	}
	r := &Rule{text: text, root: root}
	for _, a := range attributes {
		if p.used[a.Path] {
			r.used = append(r.used, a)
		}
	}
	return r, nil
}

func isWord(c byte) bool {
	return c >= 0x80 || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte(".:-_$+", c) >= 0
}

// scan reads the token at or after a place into next.
func (p *parser) scan(at int) error {
	for at < len(p.text) && strings.IndexByte(" \t\r\n", p.text[at]) >= 0 {
		at++
	}
	p.next = token{from: at, to: at}
	if at == len(p.text) {
		return nil
	}
	switch c := p.text[at]; {
	case strings.IndexByte("()[]", c) >= 0:
		p.next = token{c, string(c), at, at + 1}
	case c == '"':
		end := at + 1
		for end < len(p.text) && p.text[end] != '"' {
			if p.text[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(p.text) {
			return wrong(at, "A text in quotes does not end.", `Put a " after it.`)
		}
		p.next = token{'"', "", at, end + 1}
		if json.Unmarshal([]byte(p.text[at:end+1]), &p.next.text) != nil {
			return wrong(at, "The text in quotes can't be read.", `Write \" for a quote in it and \\ for a backslash.`)
		}
	case isWord(c):
		end := at
		for end < len(p.text) && isWord(p.text[end]) {
			end++
		}
		p.next = token{'w', p.text[at:end], at, end}
	default:
		return wrong(at, fmt.Sprintf("The character %q has no meaning here.", []rune(p.text[at:])[0]), `Texts stand in double quotes, parts in parentheses.`)
	}
	return nil
}

func (p *parser) advance() (token, error) {
	t := p.next
	return t, p.scan(t.to)
}

func (p *parser) word(w string) bool { return p.next.kind == 'w' && strings.EqualFold(p.next.text, w) }

func (p *parser) unexpected(wanted string) error {
	if p.next.kind == 0 {
		return wrong(p.next.from, "The rule breaks off.", "There should be "+wanted+" here.")
	}
	return wrong(p.next.from, fmt.Sprintf("%s can't stand here.", p.text[p.next.from:p.next.to]), "There should be "+wanted+" here.")
}

// or reads parts joined by or; and below reads those joined by and.
func (p *parser) or(parent string) (node, error) {
	return p.joined("or", or, func() (node, error) {
		return p.joined("and", and, func() (node, error) { return p.part(parent) })
	})
}

func (p *parser) joined(word string, op op, part func() (node, error)) (node, error) {
	first, err := part()
	if err != nil {
		return node{}, err
	}
	all := []node{first}
	for p.word(word) {
		if _, err := p.advance(); err != nil {
			return node{}, err
		}
		n, err := part()
		if err != nil {
			return node{}, err
		}
		all = append(all, n)
	}
	if len(all) == 1 {
		return first, nil
	}
	return node{op: op, from: first.from, to: all[len(all)-1].to, parts: all}, nil
}

// part reads a comparison, or what stands in parentheses or brackets.
func (p *parser) part(parent string) (node, error) {
	switch {
	case p.next.kind == '(':
		inner, _, err := p.enclosed(')', parent)
		return inner, err
	case p.word("not"):
		t, err := p.advance()
		if err != nil {
			return node{}, err
		}
		if p.next.kind != '(' {
			return node{}, p.unexpected("( after not")
		}
		inner, end, err := p.enclosed(')', parent)
		return node{op: not, from: t.from, to: end, parts: []node{inner}}, err
	case p.next.kind == 'w':
		return p.comparison(parent)
	}
	return node{}, p.unexpected("an attribute")
}

// enclosed reads what stands between the opening bracket that is next and its end,
// and returns it with where that end is.
func (p *parser) enclosed(end byte, parent string) (node, int, error) {
	if p.depth++; p.depth > MaxDepth {
		return node{}, 0, wrong(p.next.from, fmt.Sprintf("The rule is more than %d parentheses deep.", MaxDepth), "Write it with fewer.")
	}
	if _, err := p.advance(); err != nil {
		return node{}, 0, err
	}
	n, err := p.or(parent)
	if err != nil {
		return n, 0, err
	}
	if p.next.kind != end {
		return n, 0, p.unexpected("and, or, or " + string(end))
	}
	p.depth--
	last, err := p.advance()
	return n, last.to, err
}

func (p *parser) comparison(parent string) (node, error) {
	name, err := p.advance()
	if err != nil {
		return node{}, err
	}
	if p.leaves++; p.leaves > MaxParts {
		return node{}, wrong(name.from, fmt.Sprintf("The rule has more than %d comparisons.", MaxParts), "Write it with fewer.")
	}
	if p.next.kind == '[' {
		return p.brackets(name, parent)
	}
	i := slices.IndexFunc(operators, func(o string) bool { return p.word(o) })
	if i < 0 {
		return node{}, p.unexpected("an operator (" + strings.Join(operators, ", ") + ")")
	}
	operator, err := p.advance()
	if err != nil {
		return node{}, err
	}
	n := node{op: op(i), from: name.from, to: operator.to}
	if n.attr = find(name.text, parent); n.attr == nil {
		whole, complex := isComplex(name.text)
		if !complex || parent != "" {
			return n, unknown(name, parent)
		}
		if n.op != pr {
			return n, wrong(name.from, fmt.Sprintf("%s has several parts.", whole), "Name one, such as "+first(whole)+".")
		}
		n.parent = whole // any part will do
		for _, a := range attributes {
			if strings.HasPrefix(a.Path, whole+".") {
				p.used[a.Path] = true
			}
		}
		return n, nil
	}
	p.used[n.attr.Path] = true
	if n.op == pr {
		return n, nil
	}
	value, err := p.advance()
	if err != nil {
		return n, err
	}
	n.to = value.to
	return n, n.compareWith(value)
}

func first(parent string) string {
	for _, a := range attributes {
		if strings.HasPrefix(a.Path, parent+".") && a.Field != "" {
			return a.Path
		}
	}
	return parent + ".value"
}

func unknown(name token, parent string) error {
	e := wrong(name.from, fmt.Sprintf("There is no attribute %s.", name.text), "Choose one of those that are offered.")
	if parent != "" {
		e.Says = fmt.Sprintf("%s has no part %s.", parent, name.text)
	}
	for _, a := range attributes { // a field of the directory, or a part without its whole
		_, part, _ := strings.Cut(a.Path, ".")
		if strings.EqualFold(a.Field, name.text) || strings.EqualFold(part, name.text) {
			e.Mend = "Write " + a.Path + "."
			break
		}
	}
	if strings.EqualFold(name.text, "groups") || strings.HasPrefix(strings.ToLower(name.text), "groups.") {
		e.Mend = "A rule can't ask who is in a group; nest that group instead."
	}
	return e
}

func (p *parser) brackets(name token, parent string) (node, error) {
	whole, complex := isComplex(name.text)
	if i := strings.LastIndexByte(name.text, ':'); i >= 0 && strings.EqualFold(name.text[:i], CoreSchema) {
		whole, complex = isComplex(name.text[i+1:])
	}
	if parent != "" || !complex {
		return node{}, wrong(name.from, fmt.Sprintf("%s can't have brackets.", name.text), "Brackets stand after an attribute with parts, such as addresses.")
	}
	inner, end, err := p.enclosed(']', whole)
	return node{op: within, from: name.from, to: end, parent: whole, parts: []node{inner}}, err
}

// compareWith checks the value of a comparison against the attribute and takes it.
func (n *node) compareWith(t token) error {
	a := n.attr
	if t.kind == 'w' && t.text == "null" {
		if n.null = true; n.op != eq && n.op != ne {
			return wrong(t.from, fmt.Sprintf("%s can't be compared with null by %s.", a.Path, operators[n.op]), "Use eq, ne or pr.")
		}
		return nil
	}
	switch {
	case a.Kind == Boolean:
		if t.kind != 'w' || t.text != "true" && t.text != "false" {
			return wrong(t.from, fmt.Sprintf("%s is true or false.", a.Path), "Write true or false without quotes.")
		}
		if n.op > ne {
			return wrong(n.from, fmt.Sprintf("%s is true or false; %s has no meaning for it.", a.Path, operators[n.op]), "Use eq, ne or pr.")
		}
		n.value = t.text
	case t.kind != '"':
		if t.kind == 0 {
			return wrong(t.from, "The rule breaks off.", "There should be a text in double quotes here.")
		}
		return wrong(t.from, fmt.Sprintf("%s is a text.", a.Path), "Put what it is compared with in double quotes.")
	case a.Kind == DateTime:
		at, err := time.Parse(time.RFC3339, t.text)
		if err != nil {
			return wrong(t.from, fmt.Sprintf("%q is no moment.", t.text), "Write it as 2026-11-23T00:00:00Z.")
		}
		if n.op == co || n.op == sw || n.op == ew {
			return wrong(n.from, fmt.Sprintf("%s is a moment; %s has no meaning for it.", a.Path, operators[n.op]), "Use eq, ne, gt, ge, lt, le or pr.")
		}
		n.time = at
	case a.Exact:
		n.value = t.text
	default:
		n.value = fold(t.text)
	}
	return nil
}
