package rule

import (
	"slices"
	"strings"
)

// Expected is what can be written at a place in a rule.
type Expected struct {
	What      string // attribute, operator, value or join
	From      int    // where what is being written began, in octets
	Begun     string // what has been written of it, without its quote
	Attribute string // of a value: the path of the attribute that it is for
	Choices   []string
}

// Expect says what can be written at a place in an expression, which need not be whole.
// Values are for the caller to offer; all else is in Choices.
func (s *Schema) Expect(text string, at int) Expected {
	at = max(0, min(at, len(text)))
	p := &parser{text: text[:at]}
	var before []token
	depthIn := []string{""} // the attribute before each open bracket
	for {
		if p.scan(p.next.to) != nil { // a text in quotes that has not ended
			from := max(p.next.from, strings.LastIndexByte(text[:at], '"'))
			return s.valueFor(before, depthIn[len(depthIn)-1], from, strings.TrimPrefix(text[from:at], `"`))
		}
		t := p.next
		if t.kind == 0 || t.kind == 'w' && t.to == at { // the end, or a word that is being written
			return s.expect(before, depthIn[len(depthIn)-1], t)
		}
		switch t.kind {
		case '[':
			whole := ""
			if n := len(before); n > 0 {
				whole, _ = s.complex(before[n-1].text)
			}
			depthIn = append(depthIn, whole)
		case ']':
			depthIn = depthIn[:max(1, len(depthIn)-1)]
		}
		before = append(before, t)
	}
}

// role says what the last of some tokens is, so that what may follow is known.
func role(before []token) string {
	was := "start"
	for _, t := range before {
		switch {
		case t.kind == '(' || t.kind == '[':
			was = "start"
		case t.kind == ')' || t.kind == ']' || t.kind == '"':
			was = "whole"
		case was == "start" && strings.EqualFold(t.text, "not"):
		case was == "start":
			was = "attribute"
		case was == "attribute" && strings.EqualFold(t.text, "pr"):
			was = "whole"
		case was == "attribute":
			was = "operator"
		case was == "operator":
			was = "whole"
		default: // and, or
			was = "start"
		}
	}
	return was
}

func (s *Schema) expect(before []token, parent string, t token) Expected {
	e := Expected{From: t.from, Begun: t.text}
	switch role(before) {
	case "start":
		e.What = "attribute"
		for _, a := range s.attributes {
			path := a.Path
			if parent != "" {
				whole, part, _ := strings.Cut(a.Path, ".")
				if whole != parent {
					continue
				}
				path = part
			}
			e.Choices = append(e.Choices, path)
		}
	case "attribute":
		e.What, e.Choices = "operator", slices.Clone(operators)
		if a := s.find(before[len(before)-1].text, parent); a != nil {
			e.Choices = a.Operators()
		}
	case "operator":
		return s.valueFor(before, parent, t.from, t.text)
	default:
		e.What, e.Choices = "join", []string{"and", "or"}
	}
	e.Choices = slices.DeleteFunc(e.Choices, func(c string) bool {
		return !strings.Contains(strings.ToLower(c), strings.ToLower(e.Begun))
	})
	return e
}

func (s *Schema) valueFor(before []token, parent string, from int, begun string) Expected {
	e := Expected{What: "value", From: from, Begun: begun}
	if len(before) < 2 {
		return e
	}
	if a := s.find(before[len(before)-2].text, parent); a != nil {
		e.Attribute = a.Path
		for _, c := range a.Choices {
			if strings.Contains(c, strings.ToLower(begun)) {
				e.Choices = append(e.Choices, `"`+c+`"`)
			}
		}
		if a.Kind == Boolean {
			e.Choices = []string{"true", "false"}
		}
	}
	return e
}
