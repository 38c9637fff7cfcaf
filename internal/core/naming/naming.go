package naming

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
)

// Bounds of the rules.
const (
	MaxPattern = 120 // characters of a pattern
	MaxWords   = 500 // reserved words, and reserved beginnings
	MaxWord    = 60  // characters of one
)

// Rules are the naming rules of a workspace. The zero value asks for nothing.
type Rules struct {
	Pattern    string   // of names: {name} is what somebody types, {locality} and the like are of whoever makes the group; "": names are as they are typed
	Words      []string // reserved words
	Beginnings []string // reserved beginnings
}

// NameField stands in a pattern for what somebody types.
const NameField = "{name}"

// ends returns what a pattern has before and after the name.
func (r Rules) ends() (before, after string) {
	before, after, _ = strings.Cut(r.Pattern, NameField)
	return before, after
}

// Creator is whoever makes a group.
type Creator struct {
	Fields map[string]string // of the directory
	Exempt bool
}

// Result is what the rules make of a name.
type Result struct {
	Name   string         // the final name
	Prefix string         // what was put before it, filled in; "" for nothing
	Suffix string         // what was put after it
	Faults []*fault.Fault // what keeps the group from being made; Field is the rule: word, beginning or pattern
	Notes  []string       // what the creator should know
}

// part is a piece of a template: text, or the name of a field.
type part struct {
	text, field string
}

func split(template string) ([]part, error) {
	var out []part
	for template != "" {
		open := strings.IndexByte(template, '{')
		if open < 0 {
			open = len(template)
		}
		if text := template[:open]; text != "" {
			if strings.Contains(text, "}") {
				return nil, fmt.Errorf("a } stands without its {")
			}
			out = append(out, part{text: text})
		}
		if open == len(template) {
			break
		}
		end := strings.IndexByte(template, '}')
		if end < open {
			return nil, fmt.Errorf("a { has no }")
		}
		out = append(out, part{field: template[open+1 : end]})
		template = template[end+1:]
	}
	return out, nil
}

// Check returns what is wrong with the rules, by part: pattern, words, beginnings. fields are the
// names that a pattern may use beside name.
func (r Rules) Check(fields []string) []*fault.Fault {
	var out []*fault.Fault
	bad := func(part, given, mend, format string, args ...any) {
		f := fault.New(part, mend, format, args...)
		f.Given = given
		out = append(out, f)
	}
	parts, err := split(r.Pattern)
	switch n := strings.Count(r.Pattern, NameField); {
	case r.Pattern == "":
	case err != nil:
		bad("pattern", r.Pattern, "Write a field as {department}.", "In the pattern %s.", err)
	case n != 1:
		bad("pattern", r.Pattern, "Write "+NameField+" once, where the name stands that somebody types.", "The pattern has %s %d times.", NameField, n)
	case len([]rune(r.Pattern)) > MaxPattern:
		bad("pattern", r.Pattern, "Shorten it.", "The pattern has %d characters; %d is the most.", len([]rune(r.Pattern)), MaxPattern)
	case strings.ContainsFunc(r.Pattern, unicode.IsControl):
		bad("pattern", r.Pattern, "Take it out.", "The pattern has a line break or another control character in it.")
	}
	for _, p := range parts {
		if p.field != "" && "{"+p.field+"}" != NameField && !slices.Contains(fields, p.field) || p.field == "" && p.text == "" {
			bad("pattern", r.Pattern, "Choose one of "+strings.Join(fields, ", ")+".", "The directory has no field %q.", p.field)
		}
	}
	for _, l := range []struct {
		name string
		list []string
	}{{"words", r.Words}, {"beginnings", r.Beginnings}} {
		if len(l.list) > MaxWords {
			bad(l.name, "", "Leave some out.", "There are %d; %d is the most.", len(l.list), MaxWords)
		}
		for _, w := range l.list {
			if len(words(w)) == 0 {
				bad(l.name, w, "Leave it out.", "It has no letter or digit in it.")
			} else if len([]rune(w)) > MaxWord {
				bad(l.name, w, "Shorten it.", "It has %d characters; %d is the most.", len([]rune(w)), MaxWord)
			}
		}
	}
	return out
}

// Apply says what the rules make of a name that somebody types, and of the local
// part of its address where that was typed too; "" where it follows from the name.
func (r Rules) Apply(name, local string, by Creator) Result {
	out := Result{Name: norm.NFC.String(strings.TrimSpace(name))}
	faults := r.broken(out.Name, local)
	if by.Exempt {
		for _, f := range faults {
			out.Notes = append(out.Notes, f.Says+" You are an administrator, so that does not bind you.")
		}
		if r.Pattern != "" && r.Pattern != NameField {
			out.Notes = append(out.Notes, "The names of administrators are as they type them: the pattern "+r.Pattern+" does not bind you.")
		}
		return out
	}
	out.Faults = faults
	before, after := r.ends()
	out.Prefix, out.Suffix = fill(before, by.Fields, true, &out), fill(after, by.Fields, false, &out)
	if out.Name == "" {
		return out
	}
	if !strings.HasPrefix(bare(out.Name), bare(out.Prefix)) {
		out.Name = out.Prefix + out.Name
	}
	if !strings.HasSuffix(bare(out.Name), bare(out.Suffix)) {
		out.Name += out.Suffix
	}
	out.Name = strings.TrimSpace(out.Name)
	return out
}

// bare is a text by which two are the same that differ in look-alikes, case or the
// space around them.
func bare(s string) string { return strings.TrimSpace(mailaddr.Skeleton(s)) }

// fill puts the fields of a creator into a template. A field that is empty falls away with the
// brackets around it and what joins it to others. front says that the name follows.
func fill(template string, fields map[string]string, front bool, out *Result) string {
	parts, _ := split(template) // checked when the rules were set
	var b strings.Builder
	missing := false
	for _, p := range parts {
		if p.field == "" {
			b.WriteString(p.text)
			continue
		}
		v := strings.TrimSpace(fields[p.field])
		if v == "" {
			missing = true
			b.WriteRune(gap)
			out.Notes = append(out.Notes, fmt.Sprintf("{%s} falls away: the directory has no %s for the creator.", p.field, p.field))
		}
		b.WriteString(v)
	}
	if !missing {
		return b.String()
	}
	return closed(b.String(), !front, front)
}

// gap stands for a field that is empty.
const gap = '\x00'

var (
	emptyBrackets = regexp.MustCompile(`[(\[<«][^\pL\pN]*\x00[^\pL\pN]*[)\]>»]`)
	joinedGap     = regexp.MustCompile(`([(\[<«]?)([\s,;:/|·–—-]*)\x00([\s,;:/|·–—\x00-]*)([)\]>»]?)`)
)

// closed takes gaps out of a text, with empty brackets around them and with what joins them to
// the rest. before and after say whether something stands on either side of the text.
func closed(text string, before, after bool) string {
	for {
		next := emptyBrackets.ReplaceAllString(text, string(gap))
		if next == text {
			break
		}
		text = next
	}
	var b strings.Builder
	for {
		m := joinedGap.FindStringSubmatchIndex(text)
		if m == nil {
			return b.String() + text
		}
		group := func(i int) string { return text[m[2*i]:m[2*i+1]] }
		b.WriteString(text[:m[0]])
		left, right := b.Len() > 0 || before, m[1] < len(text) || after
		switch {
		case group(1) != "" || group(4) != "":
			b.WriteString(group(1) + group(4))
		case left && right && strings.TrimSpace(group(2)) != "":
			b.WriteString(group(2))
		case left && right:
			b.WriteString(strings.ReplaceAll(group(3), string(gap), ""))
		}
		text = text[m[1]:]
	}
}

// Local returns the local part for a final address, of one that was typed: with the
// prefix and suffix of the name around it, where it does not have them.
func (r Result) Local(local string) string {
	for _, end := range []struct {
		text   string
		before bool
	}{{r.Prefix, true}, {r.Suffix, false}} {
		with, err := mailaddr.Derive(end.text)
		switch {
		case end.text == "" || err != nil:
		case end.before && local != with && !strings.HasPrefix(local, with+"-"):
			local = with + "-" + local
		case !end.before && local != with && !strings.HasSuffix(local, "-"+with):
			local += "-" + with
		}
	}
	return local
}

// Broken returns the rules that a name and a local part break as they stand, whoever made
// them: reserved words and beginnings, and the pattern, where its fixed words are missing or
// where what stands for a field is no value of it. has reports whether anybody has a value in a
// field; values are compared without regard to look-alikes.
func (r Rules) Broken(name, local string, has func(field, value string) bool) []*fault.Fault {
	out := r.broken(name, local)
	if r.Pattern == "" {
		return out
	}
	before, after := r.ends()
	first, _ := split(before)
	last, _ := split(after)
	slices.Reverse(last)
	left := []string{strings.TrimSpace(mailaddr.Skeleton(name))}
	left = trimmed(last, trimmed(first, left, true, has), false, has)
	if !slices.ContainsFunc(left, func(rest string) bool { return strings.TrimSpace(rest) != "" }) {
		out = append(out, &fault.Fault{Field: "pattern", Says: fmt.Sprintf("The name is not as %s has it.", r.Pattern), Mend: "Rename the group."})
	}
	return out
}

// trimmed returns what can be left of texts once parts of a pattern are taken off their
// beginning, or their end, where the parts stand in reverse.
func trimmed(parts []part, texts []string, front bool, has func(field, value string) bool) []string {
	for _, p := range parts {
		left := map[string]bool{}
		for _, text := range texts {
			if p.field == "" {
				fixed := mailaddr.Skeleton(p.text)
				rest, ok := strings.CutPrefix(text, strings.TrimLeft(fixed, " "))
				if !front {
					rest, ok = strings.CutSuffix(text, strings.TrimRight(fixed, " "))
				}
				if ok {
					left[rest] = true
				}
				continue
			}
			for i := range text { // every beginning, or end, that is a value of the field
				value, rest := text[:i], text[i:]
				if !front {
					rest, value = text[:i], text[i:]
				}
				if value = strings.TrimSpace(value); value != "" && has(p.field, value) {
					left[rest] = true
				}
			}
		}
		texts = slices.Collect(maps.Keys(left))
	}
	return texts
}

// OfAddress returns the faults of the local part of an address by itself: of an alias, or of
// one that a group moves to.
func (r Rules) OfAddress(local string, by Creator) []*fault.Fault {
	if by.Exempt {
		return nil
	}
	return r.broken("", local)
}

func (r Rules) broken(name, local string) []*fault.Fault {
	var out []*fault.Fault
	of := func(text, what string) {
		in := words(text)
		for _, w := range r.Words {
			if within(in, words(w)) {
				out = append(out, &fault.Fault{Field: "word", Says: fmt.Sprintf("The word %s is reserved, and the %s has it.", w, what), Mend: "Leave the word out, or ask an administrator to make the group."})
			}
		}
		for _, b := range r.Beginnings {
			if w := words(b); len(w) <= len(in) && same(in[:len(w)], w) {
				out = append(out, &fault.Fault{Field: "beginning", Says: fmt.Sprintf("The %s begins with %s, which is kept for official groups.", what, b), Mend: "Begin it otherwise, or ask an administrator to make the group."})
			}
		}
	}
	of(name, "name")
	if len(out) == 0 && local != "" {
		of(local, "address")
	}
	return out
}

// word is one word in two forms: as an eye takes it, and in the letters a to z.
type word struct {
	seen, roman string
}

func words(text string) []word {
	var out []word
	for _, f := range strings.FieldsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r) && !unicode.Is(unicode.Cf, r)
	}) {
		if w := (word{mailaddr.Skeleton(f), mailaddr.Romanise(f)}); w.seen != "" {
			out = append(out, w)
		}
	}
	return out
}

func (w word) is(v word) bool { return w.seen == v.seen || w.roman == v.roman }

func same(a, b []word) bool { return slices.EqualFunc(a, b, word.is) }

func within(in, w []word) bool {
	if len(w) == 0 {
		return false
	}
	for i := range in {
		if i+len(w) <= len(in) && same(in[i:i+len(w)], w) {
			return true
		}
		if len(w) == 1 && unspaced(w[0].seen) && strings.Contains(in[i].seen, w[0].seen) {
			return true
		}
	}
	return false
}

// unspaced reports whether a word is of a script that puts no spaces between words.
func unspaced(w string) bool {
	for _, r := range w {
		if !unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai, unicode.Lao, unicode.Khmer) {
			return false
		}
	}
	return true
}

// Unseen returns the first character of a name that is there but not seen, or that turns the
// order of those around it: a line or paragraph separator, a control or format character. at
// counts characters from 1; it is 0 where there is none.
func Unseen(name string) (r rune, at int) {
	for _, r := range name {
		at++
		if unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
			return r, at
		}
	}
	return 0, 0
}
