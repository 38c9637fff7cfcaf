package policy

import (
	"slices"
	"strings"
)

// Sentence is one sentence about a group, of which parts are choices.
type Sentence struct {
	Part   Part
	Pieces []Piece
}

// Piece is a part of a sentence: words, or a setting in words.
type Piece struct {
	Text    string
	Setting Setting // Settings for mere words
}

// templates are the sentences of a policy. A name in braces stands for the setting.
var templates = []struct {
	part Part
	text string
}{
	{Seeing, "{find} can find it."},
	{Seeing, "{see_people} can see who is in it."},
	{Seeing, "{read} can read its archive."},
	{GettingIn, "{join.audience} may come in {join.how}."},
	{GettingIn, "{add_people} may add and invite people."},
	{GettingIn, "External members are {externals}."},
	{GettingIn, "Members leave {leave}."},
	{Writing, "{post} may write to it."},
	{Writing, "{hold} waits for approval."},
	{Writing, "Mail whose author is not proven {suspicious}."},
	{Writing, "Mail that a program wrote {automatic}."},
	{Writing, "{write_owners} may write to its owners."},
	{Writing, "{speak_as} may write as the group."},
	{Writing, "{speak_for} may write for the group, under their own name."},
}

// byInvitation takes the place of the sentence about coming in where nobody does by themselves.
const byInvitation = "{join.audience} comes in without an invitation."

// Sentences puts the whole of a policy in sentences, in the order in which they are read.
func (p Policy) Sentences() []Sentence {
	out := make([]Sentence, len(templates))
	for i, t := range templates {
		text := t.text
		if p[JoinAudience] == Nobody && strings.HasPrefix(text, "{join.audience}") {
			text = byInvitation
		}
		out[i] = Sentence{Part: t.part, Pieces: p.pieces(text)}
	}
	return out
}

// About returns the sentence in which a setting stands.
func (p Policy) About(of Setting) string {
	for _, s := range p.Sentences() {
		if slices.ContainsFunc(s.Pieces, func(x Piece) bool { return x.Setting == of }) {
			return s.String()
		}
	}
	return ""
}

func (p Policy) pieces(text string) (out []Piece) {
	for text != "" {
		words, rest, more := strings.Cut(text, "{")
		if words != "" {
			out = append(out, Piece{words, Settings})
		}
		if !more {
			return out
		}
		name, after, _ := strings.Cut(rest, "}")
		s, err := ParseSetting(name)
		if err != nil {
			panic(err) // of the templates above
		}
		in := s.in(p[s])
		if len(out) == 0 {
			in = upper(in)
		}
		out, text = append(out, Piece{in, s}), after
	}
	return out
}

// in puts a value of s in words, as a part of a sentence.
func (s Setting) in(v Value) string {
	for _, c := range table[s].choices {
		if c.value == v {
			return c.in
		}
	}
	return s.value(v)
}

// String returns the sentence as it is read.
func (s Sentence) String() string {
	var b strings.Builder
	for _, p := range s.Pieces {
		b.WriteString(p.Text)
	}
	return b.String()
}
