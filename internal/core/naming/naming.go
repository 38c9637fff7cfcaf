package naming

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
)

// Bounds of the rules.
const (
	MaxTemplate = 60  // characters of a prefix or suffix
	MaxWords    = 500 // reserved words, and reserved beginnings
	MaxWord     = 60  // characters of one
)

// Rules are the naming rules of a workspace. The zero value asks for nothing.
type Rules struct {
	Prefix, Suffix string
	Words          []string // reserved words
	Beginnings     []string // reserved beginnings
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
	Faults []*fault.Fault // what keeps the group from being made; Field is the rule: word, beginning, prefix or suffix
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

// Check returns what is wrong with the rules, by part: prefix, suffix, words,
// beginnings. fields are the names that templates may use.
func (r Rules) Check(fields []string) []*fault.Fault {
	var out []*fault.Fault
	bad := func(part, given, mend, format string, args ...any) {
		f := fault.New(part, mend, format, args...)
		f.Given = given
		out = append(out, f)
	}
	for _, t := range [][2]string{{"prefix", r.Prefix}, {"suffix", r.Suffix}} {
		name, template := t[0], t[1]
		parts, err := split(template)
		switch {
		case err != nil:
			bad(name, template, "Write a field as {department}.", "In the %s %s.", name, err)
		case len([]rune(template)) > MaxTemplate:
			bad(name, template, "Shorten it.", "The %s has %d characters; %d is the most.", name, len([]rune(template)), MaxTemplate)
		case strings.ContainsFunc(template, unicode.IsControl):
			bad(name, template, "Take it out.", "The %s has a line break or another control character in it.", name)
		}
		for _, p := range parts {
			if p.field != "" && !slices.Contains(fields, p.field) || p.field == "" && p.text == "" {
				bad(name, template, "Choose one of "+strings.Join(fields, ", ")+".", "The directory has no field %q.", p.field)
			}
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
	out := Result{Name: strings.TrimSpace(name)}
	faults := r.broken(out.Name, local)
	if by.Exempt {
		for _, f := range faults {
			out.Notes = append(out.Notes, f.Says+" You are an administrator, so that does not bind you.")
		}
		if r.Prefix != "" || r.Suffix != "" {
			out.Notes = append(out.Notes, "The names of administrators get no "+both(r.Prefix, r.Suffix)+".")
		}
		return out
	}
	out.Faults = faults
	out.Prefix = r.fill("prefix", r.Prefix, by.Fields, &out)
	out.Suffix = r.fill("suffix", r.Suffix, by.Fields, &out)
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

func both(prefix, suffix string) string {
	switch {
	case suffix == "":
		return "prefix"
	case prefix == "":
		return "suffix"
	}
	return "prefix or suffix"
}

func (r Rules) fill(name, template string, fields map[string]string, out *Result) string {
	parts, _ := split(template) // checked when the rules were set
	var b strings.Builder
	for _, p := range parts {
		if p.field == "" {
			b.WriteString(p.text)
			continue
		}
		v := strings.TrimSpace(fields[p.field])
		if v == "" {
			out.Notes = append(out.Notes, fmt.Sprintf("The %s falls away: the directory has no %s for the creator.", name, p.field))
			return ""
		}
		b.WriteString(v)
	}
	return b.String()
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

// Broken returns the rules that a name and a local part break as they stand,
// whoever made them: reserved words and beginnings, and templates that do not fit
// whatever their fields hold.
func (r Rules) Broken(name, local string) []*fault.Fault {
	out := r.broken(name, local)
	if r.Prefix != "" && !fits(r.Prefix, name, true) {
		out = append(out, &fault.Fault{Field: "prefix", Says: fmt.Sprintf("The name does not begin with %q.", r.Prefix), Mend: "Rename the group."})
	}
	if r.Suffix != "" && !fits(r.Suffix, name, false) {
		out = append(out, &fault.Fault{Field: "suffix", Says: fmt.Sprintf("The name does not end with %q.", r.Suffix), Mend: "Rename the group."})
	}
	return out
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

// fits reports whether a name begins, or ends, as a template has it, whatever stands
// for its fields.
func fits(template, name string, before bool) bool {
	parts, _ := split(template)
	rest := mailaddr.Skeleton(name)
	if !before {
		slices.Reverse(parts)
	}
	open := false // a field goes before what comes next
	for _, p := range parts {
		if p.field != "" {
			open = true
			continue
		}
		text := mailaddr.Skeleton(p.text)
		at := strings.Index(rest, text)
		if !before {
			at = strings.LastIndex(rest, text)
		}
		switch {
		case at < 0:
			return false
		case before && (open && at == 0 || !open && at != 0):
			return false
		case before:
			rest = rest[at+len(text):]
		case open && at+len(text) == len(rest) || !open && at+len(text) != len(rest):
			return false
		default:
			rest = rest[:at]
		}
		open = false
	}
	return !open || strings.TrimSpace(rest) != ""
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
