package mail

import (
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/core/mailaddr"
)

// result is what a relay found out about a message by one method, and about which identities
// (RFC 8601, 2.2): "dkim=pass header.d=gannetport.example".
type result struct {
	method, value string // lower case
	props         map[string]string
}

// parseResults reads the value of an Authentication-Results field. It is all or nothing: a field of
// which any part is not as RFC 8601, 2.2 has it says nothing, since what looks like a result
// may stand in a comment, or in quotes around what a stranger wrote.
func parseResults(v string) (by string, results []result, ok bool) {
	parts, ok := lexResults(v)
	if !ok || len(parts) == 0 {
		return "", nil, false
	}
	id := parts[0]
	if len(id) == 0 || len(id) > 2 || id[0] == "=" || len(id) == 2 && id[1] != "1" { // a version
		return "", nil, false
	}
	for _, p := range parts[1:] {
		if len(p) == 1 && p[0] == "none" {
			continue
		}
		if len(p) < 3 || len(p)%3 != 0 {
			return "", nil, false
		}
		r := result{props: map[string]string{}}
		for i := 0; i < len(p); i += 3 {
			name := strings.ToLower(p[i])
			if p[i] == "=" || p[i+1] != "=" || p[i+2] == "=" {
				return "", nil, false
			}
			if i == 0 {
				r.method, _, _ = strings.Cut(name, "/")
				r.value = strings.ToLower(p[i+2])
				continue
			}
			if _, twice := r.props[name]; twice {
				return "", nil, false
			}
			r.props[name] = p[i+2]
		}
		results = append(results, r)
	}
	return strings.ToLower(strings.TrimSuffix(id[0], ".")), results, true
}

// lexResults splits a value at its semicolons, and each part into words and equal signs. Comments
// are left out; a quoted string is a word, or a piece of one.
func lexResults(v string) (parts [][]string, ok bool) {
	var part []string
	var word strings.Builder
	begun := false
	end := func() {
		if begun {
			part = append(part, word.String())
		}
		word.Reset()
		begun = false
	}
	for i := 0; i < len(v); i++ {
		switch c := v[i]; {
		case c == '(':
			end()
			depth := 1
			for i++; i < len(v) && depth > 0; i++ {
				switch v[i] {
				case '\\':
					i++
				case '(':
					depth++
				case ')':
					depth--
				}
			}
			if depth > 0 {
				return nil, false
			}
			i--
		case c == '"':
			begun = true
			closed := false
			for i++; i < len(v) && !closed; i++ {
				switch v[i] {
				case '\\':
					if i++; i < len(v) {
						word.WriteByte(v[i])
					}
				case '"':
					closed = true
				default:
					word.WriteByte(v[i])
				}
			}
			if !closed {
				return nil, false
			}
			i--
		case c == ';':
			end()
			parts, part = append(parts, part), nil
		case c == '=':
			end()
			part = append(part, "=")
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			end()
		case c == ')' || c == '\\' || c == ',' || c == '<' || c == '>' || c < ' ' || c >= 0x7f:
			return nil, false
		default:
			begun = true
			word.WriteByte(c)
		}
	}
	end()
	if parts = append(parts, part); len(parts[len(parts)-1]) == 0 && len(parts) > 1 {
		parts = parts[:len(parts)-1] // a semicolon at the end
	}
	return parts, true
}

// proven reports whether a relay, which writes under one of some names (authserv-ids), found the
// author of a message to be who they say: who signed in there has that address, the
// signature is of exactly its domain (RFC 6376), or the policy of its domain passes (RFC 7489).
// What the domain of the envelope says (SPF) proves nothing of the author.
//
// Only the topmost field of that name is read, and only above the first Received field that is not of such a relay: those below are of a
// hop before, or forged. A relay takes fields of its own name out of what comes to it (RFC 8601, 5).
func (m Message) proven(names []string) bool {
	for f := m.header.Fields(); f.Next(); {
		switch strings.ToLower(f.Key()) {
		case "received":
			if !slices.Contains(names, receivedBy(f.Value())) {
				return false
			}
		case "authentication-results":
			by, results, ok := parseResults(f.Value())
			if !ok {
				return false // it may be the relay's, and what stands below it anybody's
			} else if slices.Contains(names, by) {
				return slices.ContainsFunc(results, func(r result) bool { return r.proves(m.Author) })
			}
		}
	}
	return false
}

// receivedBy returns who says in a Received field that they took a message in, in lower case (RFC 5321, 4.4): "from" and whoever gave it
// come before, each word with comments behind it. It is "" where the field is not written so.
func receivedBy(value string) string {
	var out strings.Builder
	depth := 0
	for i := 0; i < len(value) && (value[i] != ';' || depth > 0); i++ {
		switch c := value[i]; {
		case c == '(':
			depth++
		case c == ')' && depth > 0:
			depth--
			out.WriteByte(' ')
		case c == '\\' && depth > 0:
			i++
		case depth == 0:
			out.WriteByte(c)
		}
	}
	words := strings.Fields(strings.ToLower(out.String()))
	if len(words) > 2 && words[0] == "from" {
		words = words[2:]
	}
	if len(words) < 2 || words[0] != "by" || depth > 0 {
		return ""
	}
	return strings.TrimSuffix(words[1], ".")
}

func (r result) proves(author mailaddr.Address) bool {
	if r.value != "pass" {
		return false
	}
	switch r.method {
	case "auth":
		a, err := mailaddr.Parse(r.props["smtp.auth"])
		return err == nil && a.Key() == author.Key()
	case "dkim":
		return domainIs(r.props["header.d"], author)
	case "dmarc":
		return domainIs(r.props["header.from"], author)
	}
	return false
}

// domainIs reports whether a domain is that of an author.
func domainIs(domain string, author mailaddr.Address) bool {
	return domain != "" && strings.EqualFold(strings.TrimSuffix(domain, "."), author.Domain())
}
