package roster

import (
	"net/url"
	"strings"
	"unicode"
)

// plain brings a text into one shape: lines end with LF alone, wide signs of other scripts are
// those of ASCII, and what is not seen is left out.
func plain(text string) string {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	return strings.Map(func(r rune) rune {
		switch r {
		case '\r', '\u2028', '\u2029', '\u0085', '\v', '\f':
			return '\n'
		case '，', '、':
			return ','
		case '；':
			return ';'
		case '：':
			return ':'
		case '＠':
			return '@'
		case '＜', '〈', '《':
			return '<'
		case '＞', '〉', '》':
			return '>'
		case '．', '。':
			return '.'
		case '\u00a0', '\u202f', '\u2007', '\u3000':
			return ' '
		case '\u200b', '\u2060', '\ufeff', '\u00ad', '\u200e', '\u200f', '\u202a', '\u202b', '\u202c', '\u202d', '\u202e', '\u2066', '\u2067', '\u2068', '\u2069':
			return -1
		}
		return r
	}, text)
}

// fields are the header fields that a list of people may be copied with (RFC 5322, 3.6.3).
var fields = []string{"to", "cc", "bcc", "from", "sender", "reply-to", "an", "kopie", "von"}

// field takes the name of a header field off a line.
func field(line string) (rest string, ok bool) {
	name, rest, found := strings.Cut(line, ":")
	for _, f := range fields {
		if found && strings.EqualFold(strings.TrimSpace(name), f) {
			return rest, true
		}
	}
	return line, false
}

// paste reads text that is no table.
func (l *List) paste(text string) {
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		n := i + 1
		first, header := field(lines[i])
		line := []string{first}
		for header && i+1 < len(lines) && strings.TrimSpace(lines[i+1]) != "" && strings.ContainsAny(lines[i+1][:1], " \t") { // a folded field (RFC 5322, 2.2.3)
			i++
			line = append(line, strings.TrimSpace(lines[i]))
		}
		l.line(n, strings.TrimSpace(strings.Join(line, " ")))
	}
}

// line reads one line of a text.
func (l *List) line(n int, line string) {
	if cells := strings.Split(line, "\t"); len(cells) > 1 && strings.Count(line, "@") == 1 { // a row of a table: what stands beside an address is its name
		l.row(n, cells)
		return
	}
	var before string // an entry without an address, which may be the family name of the next
	for _, c := range chunks(line) {
		c = unlabelled(c)
		name, address, ok := bracketed(c)
		switch {
		case ok && before != "" && name != "" && !strings.ContainsRune(name, ' '):
			l.add(n, before+", "+c, strings.TrimSpace(name+" "+before), address)
			before = ""
		case ok:
			l.name(n, &before)
			l.add(n, c, name, address)
		case strings.Contains(c, "@"):
			l.name(n, &before)
			l.words(n, c)
		case strings.Contains(clean(c), "@"): // a link with its @ written as %40
			l.name(n, &before)
			l.add(n, c, "", clean(c))
		case strings.Trim(c, " ,;:.<>()[]'\"-") == "": // nobody
		default:
			l.name(n, &before)
			before = strings.Trim(c, "<>")
		}
	}
	l.name(n, &before)
}

// row reads cells one of which has an address.
func (l *List) row(n int, cells []string) {
	var name string
	for _, c := range cells {
		if c = strings.TrimSpace(c); !strings.Contains(c, "@") && name == "" {
			name = c
		}
	}
	for _, c := range cells {
		if !strings.Contains(c, "@") {
			continue
		}
		at := len(l.Entries)
		l.line(n, strings.TrimSpace(c))
		if at < len(l.Entries) && l.Entries[at].Name == "" {
			l.Entries[at].Name = name
		}
	}
}

// unlabelled takes the name of a group of addresses (RFC 5322, 3.4) off the first of them.
func unlabelled(c string) string {
	label, rest, ok := strings.Cut(c, ":")
	if !ok || strings.ContainsAny(label, `@"<`) || strings.EqualFold(strings.TrimSpace(label), "mailto") || strings.Trim(rest, " ;") != "" && !strings.Contains(rest, "@") {
		return c
	}
	return strings.Trim(rest, " ;")
}

// words reads addresses that stand without angle brackets, with names before or behind them.
func (l *List) words(n int, c string) {
	var pending []string
	alone, first := true, len(l.Entries)
	for _, w := range split(c) {
		comment := strings.HasPrefix(w, "(") && strings.HasSuffix(w, ")") && !strings.Contains(w, "@")
		switch {
		case strings.Contains(w, "@"):
			given := strings.Join(append(pending, w), " ")
			l.add(n, given, strings.Trim(strings.Join(pending, " "), ` "'`), clean(w))
			alone = alone && len(l.Entries) == first+1
			pending = nil
		case comment && len(l.Entries) > first && l.Entries[len(l.Entries)-1].Name == "": // a comment says whose it is (RFC 5322, 3.4)
			last := &l.Entries[len(l.Entries)-1]
			last.Given, last.Name = last.Given+" "+w, strings.TrimSpace(w[1:len(w)-1])
		default:
			pending = append(pending, w)
		}
	}
	rest := strings.Trim(strings.Join(pending, " "), " ,;:.<>")
	if rest == "" {
		return
	}
	if last := len(l.Entries) - 1; alone && last == first && l.Entries[last].Name == "" {
		l.Entries[last].Given, l.Entries[last].Name = l.Entries[last].Given+" "+rest, strings.Trim(rest, `"'()`)
		return
	}
	l.add(n, rest, rest, "")
}

// split cuts a text into words at spaces and commas, but not within quotes or parentheses.
func split(c string) []string {
	var out []string
	var word strings.Builder
	quoted, depth := false, 0
	flush := func() {
		if word.Len() > 0 {
			out = append(out, word.String())
		}
		word.Reset()
	}
	closes, last := strings.Count(c, `"`)%2 == 0, strings.LastIndexByte(c, ')')
	for i, r := range c {
		switch {
		case r == '"' && closes && (i == 0 || c[i-1] != '\\'):
			quoted = !quoted
		case r == '(' && !quoted && i < last:
			if depth == 0 {
				flush()
			}
			depth++
		case r == ')' && !quoted && depth > 0:
			if depth--; depth == 0 {
				word.WriteRune(r)
				flush()
				continue
			}
		}
		if !quoted && depth == 0 && (unicode.IsSpace(r) || r == ',') {
			flush()
			continue
		}
		word.WriteRune(r)
	}
	flush()
	return out
}

// clean takes off an address what does not belong to it: brackets, quotes and stops around
// it, and what makes it a link (RFC 6068).
func clean(address string) string {
	a := strings.TrimSpace(address)
	if quotedLocal(a) {
		return strings.TrimRight(a, ".,;:!?)>]}")
	}
	a = strings.Trim(a, "<>()[]{}\"'‘’“”„«»‚`,;:!?.…")
	if len(a) > len("mailto:") && strings.EqualFold(a[:len("mailto:")], "mailto:") {
		a, _, _ = strings.Cut(a[len("mailto:"):], "?")
		if plain, err := url.PathUnescape(a); err == nil {
			a = plain
		}
	}
	return strings.TrimSpace(a)
}

// quotedLocal reports whether the local part of an address is a quoted string (RFC 5321,
// 4.1.2).
func quotedLocal(a string) bool {
	return strings.HasPrefix(a, `"`) && strings.Contains(a, `"@`)
}

func (l *List) add(line int, given, name, address string) {
	l.Entries = append(l.Entries, Entry{Line: line, Given: given, Name: name, Address: address})
}

func (l *List) name(line int, before *string) {
	if *before != "" {
		l.add(line, *before, *before, "")
	}
	*before = ""
}

// bracketed reads a name with an address in angle brackets.
func bracketed(s string) (name, address string, ok bool) {
	open, end := strings.LastIndexByte(s, '<'), strings.LastIndexByte(s, '>')
	if open < 0 || end < open || !strings.Contains(s[open:end], "@") {
		return "", "", false
	}
	name = strings.TrimSpace(s[:open])
	if len(name) > 1 && name[0] == '"' && name[len(name)-1] == '"' {
		name = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(name[1 : len(name)-1])
	}
	return strings.Trim(name, " '"), clean(s[open+1 : end]), true
}

// chunks splits a line at semicolons or, where there are none, at commas and tabs,
// but not within quotes or angle brackets. What stands between two semicolons and
// holds several addresses is split at its commas too, and what follows an address in
// brackets is a chunk of its own.
func chunks(line string) []string {
	parts := cut(line, ";")
	if len(parts) == 1 {
		parts = cut(line, ",\t")
	}
	var out []string
	for _, p := range parts {
		if strings.Count(p, "@") <= 1 {
			out = append(out, p)
			continue
		}
		for _, c := range cut(p, ",\t") {
			for {
				end := strings.IndexByte(c, '>')
				if end < 0 || strings.TrimSpace(c[end+1:]) == "" || strings.Count(c[:end], `"`)%2 != 0 {
					break
				}
				out = append(out, c[:end+1])
				c = strings.TrimSpace(c[end+1:])
			}
			out = append(out, c)
		}
	}
	return out
}

func cut(line, at string) []string {
	var out []string
	from, quoted, angled := 0, false, false
	take := func(to int) {
		if c := strings.TrimSpace(line[from:to]); c != "" {
			out = append(out, c)
		}
		from = to + 1
	}
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\' && quoted:
			i++
		case c == '"':
			quoted = !quoted
		case c == '<' && !quoted:
			angled = true
		case c == '>' && !quoted:
			angled = false
		case strings.IndexByte(at, c) >= 0 && !quoted && !angled:
			take(i)
		}
	}
	if from < len(line) {
		take(len(line))
	}
	return out
}
