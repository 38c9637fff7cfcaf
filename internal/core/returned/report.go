package returned

import (
	"cmp"
	"regexp"
	"strings"
)

// Report is what a message says that came back to us.
type Report struct {
	Said   []Said // of each recipient (RFC 3464)
	Words  string // its text, for people
	Daemon bool   // a mail system wrote it, not somebody who is away
}

// Said is what a report says of one recipient.
type Said struct {
	Final, Original string // addresses; "" where it doesn't say
	Failed          bool   // it was not delivered, and won't be
	Status          string // RFC 3463, such as 5.1.1; in plain words it may be a reply code, such as 550
	Words           string // of who could not deliver it; "" for what the text says
}

// Lasting reports whether another message would come back just so: where the status says something of the mailbox or of the way to it (RFC
// 3463, 3.2 to 3.5, and 550 to 553 of RFC 5321), not of this message, such as that it is too large or that it looks unwanted.
func (s Said) Lasting() bool {
	if !s.Failed {
		return false
	}
	switch parts := strings.Split(s.Status, "."); {
	case len(parts) == 3:
		return parts[0] == "5" && (parts[1] == "0" || parts[1] == "1" || parts[1] == "2" && parts[2] != "2" && parts[2] != "3" || parts[1] == "4")
	default:
		return s.Status == "550" || s.Status == "551" || s.Status == "553"
	}
}

// About returns what a report says of one of those to whom a transaction went, and whether that is that it failed. It counts only for
// one of them, so that it is tied to a delivery, and whoever has none of ours can't make one up.
func (r Report) About(to string) (Said, bool) {
	for _, s := range r.Said {
		if strings.EqualFold(s.Final, to) || strings.EqualFold(s.Original, to) {
			if s.Words == "" {
				s.Words = below(r.Words, to)
			}
			return s, s.Failed
		}
	}
	if len(r.Said) > 0 || !r.Daemon || !mentions(r.Words, to) {
		return Said{}, false
	}
	code := statusIn(r.Words)
	if !strings.HasPrefix(code, "5") {
		return Said{}, false
	}
	return Said{Final: to, Failed: true, Status: code, Words: around(r.Words, code)}, true
}

// status is what a server says of a delivery: a reply code with an enhanced status (RFC 3463), or one of them.
var status = regexp.MustCompile(`(?:^|[^\d.])[245]\d\d[ -]+([245]\.\d{1,3}\.\d{1,3})|(?:^|[^\d.])([245]\.\d{1,3}\.\d{1,3})(?:[^\d.]|$)|(?:^|[^\d.])([45]\d\d)[ -]`)

// statusIn returns the first status in words, such as 5.1.1 or 550, "" for none.
func statusIn(words string) string {
	m := status.FindStringSubmatch(words)
	if m == nil {
		return ""
	}
	return cmp.Or(m[1:]...)
}

// mentions reports whether an address stands in words by itself, not as a part of another.
func mentions(words, address string) bool {
	words, address = strings.ToLower(words), strings.ToLower(address)
	part := func(b byte) bool {
		return b == '.' || b == '-' || b == '_' || b == '+' || b >= 'a' && b <= 'z' || b >= '0' && b <= '9'
	}
	for at := 0; ; {
		i := strings.Index(words[at:], address)
		if i < 0 {
			return false
		}
		from, to := at+i, at+i+len(address)
		ends := to == len(words) || !part(words[to]) || words[to] == '.' && (to+1 == len(words) || !part(words[to+1]))
		if (from == 0 || !part(words[from-1])) && ends {
			return true
		}
		at = to
	}
}

// below is what words say of an address: the lines below the first that names it, and no other, up to an empty one.
func below(words, address string) string {
	var said []string
	found := false
	for line := range strings.Lines(words) {
		line = strings.TrimSpace(line)
		switch {
		case found && line == "":
			return strings.Join(said, " ")
		case found:
			said = append(said, line)
		case strings.EqualFold(strings.Trim(line, "<>:"), address):
			found = true
		}
	}
	return strings.Join(said, " ")
}

// around is the line of words in which something stands.
func around(words, what string) string {
	for line := range strings.Lines(words) {
		if strings.Contains(line, what) {
			return strings.TrimSpace(line)
		}
	}
	return what
}
