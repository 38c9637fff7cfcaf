package rule

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
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
	root Node
	used []Attribute
}

// String returns the rule as it was written.
func (r *Rule) String() string { return r.text }

// Attributes returns the attributes that the rule asks about, each once, by path.
func (r *Rule) Attributes() []Attribute { return slices.Clone(r.used) }

// Root returns the whole of the rule as a tree.
func (r *Rule) Root() *Node { return &r.root }

// Node is a part of a rule: a comparison, or what joins others.
type Node struct {
	Op       Op
	Attr     *Attribute // of a comparison; nil for one that asks whether any part of Parent is there
	Value    string     // what it compares with, folded where case does not count
	Null     bool       // it compares with null
	Number   int64      // the value as a number; of a choice, its place among the choices
	Time     time.Time  // the value as a moment
	Parent   string     // of brackets: the attribute before them
	Parts    []Node
	From, To int // where it stands in the text, in octets
}

// Op is what a part of a rule does: the operators of RFC 7644, 3.4.2.2, and what joins
// comparisons.
type Op uint8

// The operators.
const (
	Eq Op = iota
	Ne
	Co
	Sw
	Ew
	Gt
	Ge
	Lt
	Le
	Pr
	And
	Or
	Not
	Within // brackets
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
	s      *Schema
	text   string
	next   token
	depth  int
	leaves int
	used   map[string]bool
}

// Parse reads an expression. Its error is an *[fault.Fault] that names the place.
func (s *Schema) Parse(text string) (*Rule, error) {
	if len(text) > MaxLength {
		return nil, wrong(MaxLength, fmt.Sprintf("The %s has %d octets; %d is the most.", s.word, len(text), MaxLength), "Shorten it.")
	}
	p := &parser{s: s, text: text, used: map[string]bool{}}
	if err := p.scan(0); err != nil {
		return nil, err
	}
	if p.next.kind == 0 {
		return nil, wrong(0, fmt.Sprintf("The %s is empty.", s.word), fmt.Sprintf("Write one, such as %s.", s.example))
	}
	root, err := p.or("")
	if err != nil {
		return nil, err
	}
	if p.next.kind != 0 {
		return nil, p.unexpected("and, or, or the end")
	}
	r := &Rule{text: text, root: root}
	for _, a := range s.attributes {
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
		return wrong(p.next.from, fmt.Sprintf("The %s breaks off.", p.s.word), "There should be "+wanted+" here.")
	}
	return wrong(p.next.from, fmt.Sprintf("%s can't stand here.", p.text[p.next.from:p.next.to]), "There should be "+wanted+" here.")
}

// or reads parts joined by or; and below reads those joined by and.
func (p *parser) or(parent string) (Node, error) {
	return p.joined("or", Or, func() (Node, error) {
		return p.joined("and", And, func() (Node, error) { return p.part(parent) })
	})
}

func (p *parser) joined(word string, op Op, part func() (Node, error)) (Node, error) {
	first, err := part()
	if err != nil {
		return Node{}, err
	}
	all := []Node{first}
	for p.word(word) {
		if _, err := p.advance(); err != nil {
			return Node{}, err
		}
		n, err := part()
		if err != nil {
			return Node{}, err
		}
		all = append(all, n)
	}
	if len(all) == 1 {
		return first, nil
	}
	return Node{Op: op, From: first.From, To: all[len(all)-1].To, Parts: all}, nil
}

// part reads a comparison, or what stands in parentheses or brackets.
func (p *parser) part(parent string) (Node, error) {
	switch {
	case p.next.kind == '(':
		inner, _, err := p.enclosed(')', parent)
		return inner, err
	case p.word("not"):
		t, err := p.advance()
		if err != nil {
			return Node{}, err
		}
		if p.next.kind != '(' {
			return Node{}, p.unexpected("( after not")
		}
		inner, end, err := p.enclosed(')', parent)
		return Node{Op: Not, From: t.from, To: end, Parts: []Node{inner}}, err
	case p.next.kind == 'w':
		return p.comparison(parent)
	}
	return Node{}, p.unexpected("an attribute")
}

// enclosed reads what stands between the opening bracket that is next and its end,
// and returns it with where that end is.
func (p *parser) enclosed(end byte, parent string) (Node, int, error) {
	if p.depth++; p.depth > MaxDepth {
		return Node{}, 0, wrong(p.next.from, fmt.Sprintf("The %s is more than %d parentheses deep.", p.s.word, MaxDepth), "Write it with fewer.")
	}
	if _, err := p.advance(); err != nil {
		return Node{}, 0, err
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

func (p *parser) comparison(parent string) (Node, error) {
	name, err := p.advance()
	if err != nil {
		return Node{}, err
	}
	if p.leaves++; p.leaves > MaxParts {
		return Node{}, wrong(name.from, fmt.Sprintf("The %s has more than %d comparisons.", p.s.word, MaxParts), "Write it with fewer.")
	}
	if p.next.kind == '[' {
		return p.brackets(name, parent)
	}
	i := slices.IndexFunc(operators, func(o string) bool { return p.word(o) })
	if i < 0 {
		return Node{}, p.unexpected("an operator (" + strings.Join(operators, ", ") + ")")
	}
	operator, err := p.advance()
	if err != nil {
		return Node{}, err
	}
	n := Node{Op: Op(i), From: name.from, To: operator.to}
	if n.Attr = p.s.find(name.text, parent); n.Attr == nil {
		whole, complex := p.s.complex(name.text)
		if !complex || parent != "" {
			return n, p.s.unknown(name, parent)
		}
		if n.Op != Pr {
			return n, wrong(name.from, fmt.Sprintf("%s has several parts.", whole), "Name one, such as "+p.s.first(whole)+".")
		}
		n.Parent = whole // any part will do
		for _, a := range p.s.attributes {
			if strings.HasPrefix(a.Path, whole+".") {
				p.used[a.Path] = true
			}
		}
		return n, nil
	}
	p.used[n.Attr.Path] = true
	if !n.Attr.takes(n.Op) {
		return n, wrong(operator.from, fmt.Sprintf("%s is %s; %s has no meaning for it.", n.Attr.Path, n.Attr.is(), operators[n.Op]), "Use "+list(n.Attr.Operators(), "or")+".")
	}
	if n.Op == Pr {
		return n, nil
	}
	value, err := p.advance()
	if err != nil {
		return n, err
	}
	n.To = value.to
	return n, p.s.compareWith(&n, value)
}

// first returns a part of an attribute, to name as an example.
func (s *Schema) first(parent string) string {
	for _, a := range s.attributes {
		if strings.HasPrefix(a.Path, parent+".") && a.Field != "" {
			return a.Path
		}
	}
	return parent + ".value"
}

func (s *Schema) unknown(name token, parent string) error {
	e := wrong(name.from, fmt.Sprintf("There is no attribute %s.", name.text), "There are "+list(s.near(name.text, parent), "and")+", among others.")
	if parent != "" {
		e.Says = fmt.Sprintf("%s has no part %s.", parent, name.text)
	}
	for _, a := range s.attributes { // a field of the directory, or a part without its whole
		_, part, _ := strings.Cut(a.Path, ".")
		if strings.EqualFold(a.Field, name.text) || strings.EqualFold(part, name.text) {
			e.Mend = "Write " + a.Path + "."
			break
		}
	}
	whole, _, _ := strings.Cut(strings.ToLower(name.text), ".")
	if mend := s.instead[whole]; mend != "" {
		e.Mend = mend
	}
	return e
}

func (p *parser) brackets(name token, parent string) (Node, error) {
	whole, complex := p.s.complex(name.text)
	if parent != "" || !complex {
		return Node{}, wrong(name.from, fmt.Sprintf("%s can't have brackets.", name.text), "Brackets stand after an attribute with parts, such as addresses.")
	}
	inner, end, err := p.enclosed(']', whole)
	return Node{Op: Within, From: name.from, To: end, Parent: whole, Parts: []Node{inner}}, err
}

// is says what values an attribute has, reading on from "is".
func (a *Attribute) is() string {
	switch a.Kind {
	case Boolean:
		return "true or false"
	case DateTime:
		return "a moment"
	case Number:
		return "a whole number"
	case Day:
		return "a day"
	case Choice:
		return "one of " + list(a.Choices, "and")
	}
	return "a text"
}

// list joins words.
func list(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

// compareWith checks the value of a comparison against the attribute and takes it.
func (s *Schema) compareWith(n *Node, t token) error {
	a := n.Attr
	if t.kind == 0 {
		return wrong(t.from, fmt.Sprintf("The %s breaks off.", s.word), fmt.Sprintf("There should be %s here.", a.written()))
	}
	if t.kind == 'w' && t.text == "null" {
		if n.Null = true; n.Op != Eq && n.Op != Ne {
			return wrong(t.from, fmt.Sprintf("%s can't be compared with null by %s.", a.Path, operators[n.Op]), "Use eq, ne or pr.")
		}
		return nil
	}
	quoted := a.Kind != Boolean && a.Kind != Number
	if (t.kind == '"') != quoted || t.kind != '"' && t.kind != 'w' {
		return wrong(t.from, fmt.Sprintf("%s is %s.", a.Path, a.is()), fmt.Sprintf("Write %s.", a.written()))
	}
	var err error
	switch a.Kind {
	case Boolean:
		if n.Value = t.text; t.text != "true" && t.text != "false" {
			return wrong(t.from, fmt.Sprintf("%s is true or false.", a.Path), fmt.Sprintf("Write %s.", a.written()))
		}
	case Number:
		if n.Number, err = strconv.ParseInt(t.text, 10, 64); err != nil {
			return wrong(t.from, fmt.Sprintf("%s is no whole number that can be compared.", t.text), "Write one such as 12.")
		}
	case Day:
		if n.Value = t.text; !isDay(t.text) {
			return wrong(t.from, fmt.Sprintf("%q is no day.", t.text), "Write it as 2027-03-18.")
		}
	case DateTime:
		if n.Time, err = time.Parse(time.RFC3339, t.text); err != nil {
			return wrong(t.from, fmt.Sprintf("%q is no moment.", t.text), "Write it as 2026-11-23T00:00:00Z.")
		}
	case Choice:
		i := slices.IndexFunc(a.Choices, func(c string) bool { return strings.EqualFold(c, t.text) })
		if i < 0 {
			return wrong(t.from, fmt.Sprintf("%s is never %q.", a.Path, t.text), "It is one of "+list(a.Choices, "and")+".")
		}
		n.Value, n.Number = a.Choices[i], int64(i)
	default:
		n.Value = a.Key(t.text)
	}
	return nil
}

func isDay(s string) bool {
	_, err := time.Parse(time.DateOnly, s)
	return err == nil
}

// written says how a value of an attribute is written, reading on from "Write".
func (a *Attribute) written() string {
	switch a.Kind {
	case Boolean:
		return "true or false without quotes"
	case Number:
		return "a whole number without quotes"
	case Choice:
		return fmt.Sprintf("one of %s in double quotes", list(a.Choices, "and"))
	case Day:
		return `a day in double quotes, such as "2027-03-18"`
	case DateTime:
		return `a moment in double quotes, such as "2026-11-23T00:00:00Z"`
	}
	return "a text in double quotes"
}
