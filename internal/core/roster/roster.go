package roster

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"ivytable.example/ivytable/internal/core/fault"
)

// Bounds of a list.
const (
	MaxBytes = 32 << 20
	MaxLines = 200_000
)

// Entry is one person of a list, as written.
type Entry struct {
	Line    int    // on which it stands, from 1
	Given   string // as it was written; of a table, what names the person
	Name    string
	Address string            // not checked; "" where only a name was given
	Role    string            // not checked; "" where none was given
	Fields  map[string]string // of a table: what stands in the other known columns
}

// List is a list that was read.
type List struct {
	Table     bool
	Encoding  string // UTF-8, UTF-16 or Windows-1252
	Delimiter rune   // of a table
	Headings  []string
	Columns   []string // of a table: what each heading stands for, "" for an unknown one
	Entries   []Entry
}

// What a column may stand for beside the fields of the directory.
const (
	Address = "address"
	Name    = "name"
	Role    = "role"
	Active  = "active"
)

// headings are the words that name a column, in lower case and without spaces,
// hyphens and the like.
var headings = map[string]string{
	"address": Address, "mail": Address, "email": Address, "emailaddress": Address, "mailaddress": Address, "username": Address, "primaryemail": Address, "emailsvalue": Address,
	"adresse": Address, "emailadresse": Address,
	"name": Name, "displayname": Name, "fullname": Name, "wholename": Name, "person": Name,
	"role": Role, "rolle": Role, "active": Active,
	"givenname": "givenName", "firstname": "givenName", "vorname": "givenName", "familyname": "familyName", "lastname": "familyName", "surname": "familyName", "nachname": "familyName",
	"department": "department", "dept": "department", "abteilung": "department", "division": "division", "organization": "organization", "organisation": "organization", "company": "organization",
	"title": "title", "jobtitle": "title", "position": "title", "usertype": "userType", "employeetype": "userType", "employeenumber": "employeeNumber", "employeeid": "employeeNumber", "personnelnumber": "employeeNumber",
	"costcenter": "costCenter", "costcentre": "costCenter", "manager": "manager", "nickname": "nickName", "externalid": "externalId",
	"locality": "locality", "city": "locality", "town": "locality", "place": "locality", "ort": "locality", "office": "locality", "region": "region", "state": "region", "country": "country", "postalcode": "postalCode",
	"street": "streetAddress", "streetaddress": "streetAddress", "phone": "phoneNumbers", "telephone": "phoneNumbers", "phonenumber": "phoneNumbers", "phonenumbers": "phoneNumbers",
	"language": "preferredLanguage", "preferredlanguage": "preferredLanguage", "locale": "locale", "timezone": "timezone", "roles": "roles", "entitlements": "entitlements",
}

// Column returns what a heading stands for, "" for one that is not known.
func Column(heading string) string {
	return headings[strings.Map(func(r rune) rune {
		if strings.ContainsRune(" -_./'\u00a0", r) {
			return -1
		}
		return r
	}, strings.ToLower(strings.TrimSpace(heading)))]
}

// Columns returns everything that a column may stand for.
func Columns() []string {
	out := []string{}
	for _, c := range headings {
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	slices.Sort(out)
	return out
}

// wrong is a fault on a line, 0 for the list as a whole.
func wrong(line int, format string, args ...any) error {
	return &fault.Fault{Line: line, Says: fmt.Sprintf(format, args...)}
}

// Read reads a list. mapping says what headings stand for, by heading, and goes
// before what Column knows; it may be nil. The error is an *[fault.Fault].
func Read(b []byte, mapping map[string]string) (List, error) {
	var l List
	text, err := l.decode(b)
	if err != nil {
		return l, err
	}
	if l.Delimiter = delimiter(text, mapping); l.Delimiter != 0 {
		l.Table = true
		err = l.table(text, mapping)
	} else {
		l.paste(text)
	}
	if err == nil && len(l.Entries) > MaxLines {
		err = wrong(0, "The list has %d entries; %d is the most. Split it.", len(l.Entries), MaxLines)
	}
	return l, err
}

func (l *List) decode(b []byte) (string, error) {
	var order binary.ByteOrder
	switch {
	case len(b) > MaxBytes:
		return "", wrong(0, "The list has %d octets; %d is the most. Split it.", len(b), MaxBytes)
	case bytes.HasPrefix(b, []byte("PK\x03\x04")), bytes.HasPrefix(b, []byte("\xd0\xcf\x11\xe0")):
		return "", wrong(0, "This is a file of a spreadsheet program. Save it as CSV and give that.")
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	case bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	}
	if order != nil {
		l.Encoding = "UTF-16"
		if len(b)%2 != 0 {
			return "", wrong(0, "This begins like UTF-16 but breaks off within a character. Save it as UTF-8.")
		}
		u := make([]uint16, 0, len(b)/2-1)
		for i := 2; i < len(b); i += 2 {
			u = append(u, order.Uint16(b[i:]))
		}
		b = []byte(string(utf16.Decode(u)))
	} else {
		l.Encoding = "UTF-8"
		b = bytes.TrimPrefix(b, []byte("\ufeff"))
	}
	if bytes.IndexByte(b, 0) >= 0 {
		return "", wrong(0, "This is no text: it has NUL characters in it. Give a text or CSV file in UTF-8.")
	}
	if utf8.Valid(b) {
		return string(b), nil
	}
	l.Encoding = "Windows-1252"
	for i, c := range b { // octets that Windows-1252 leaves free
		if c == 0x81 || c == 0x8d || c == 0x8f || c == 0x90 || c == 0x9d {
			return "", wrong(1+bytes.Count(b[:i], []byte("\n")), "The octet %#x is neither UTF-8 nor Windows-1252. Save the file as UTF-8.", c)
		}
	}
	text, err := charmap.Windows1252.NewDecoder().Bytes(b)
	if err != nil {
		return "", wrong(0, "The encoding of the list can't be told. Save it as UTF-8.")
	}
	return string(text), nil
}

// delimiter returns what separates the columns of a table, 0 for no table: what
// makes the most known headings of the first line.
func delimiter(text string, mapping map[string]string) rune {
	line := firstLine(text)
	best, most := rune(0), 0
	for _, d := range []rune{',', ';', '\t', '|'} {
		r := csv.NewReader(strings.NewReader(line))
		r.Comma, r.LazyQuotes = d, true
		record, err := r.Read()
		if err != nil {
			continue
		}
		known := 0
		for _, h := range record {
			if Column(h) != "" || mapping[strings.TrimSpace(h)] != "" {
				known++
			}
		}
		if known > most {
			best, most = d, known
		}
	}
	return best
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimLeft(text, "\r\n"), "\n")
	return strings.TrimRight(line, "\r")
}

func (l *List) table(text string, mapping map[string]string) error {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord = l.Delimiter, -1
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			var p *csv.ParseError
			if errors.As(err, &p) {
				return wrong(p.Line, "A quoted field does not end, or has a bare quote in it. Write a quote within quotes twice (RFC 4180).")
			}
			return wrong(0, "%s", err)
		}
		line, _ := r.FieldPos(0)
		if l.Headings == nil {
			if err := l.head(record, mapping); err != nil {
				return err
			}
			continue
		}
		if !slices.ContainsFunc(record, func(s string) bool { return strings.TrimSpace(s) != "" }) {
			continue
		}
		if len(record) > len(l.Headings) {
			return wrong(line, "It has %d fields, but there are %d headings. Put quotes around a field with a %s in it.", len(record), len(l.Headings), separator(l.Delimiter))
		}
		l.Entries = append(l.Entries, l.entry(line, record))
	}
}

func separator(d rune) string {
	return map[rune]string{',': "comma", ';': "semicolon", '\t': "tab", '|': "bar"}[d]
}

func (l *List) head(record []string, mapping map[string]string) error {
	seen := map[string]string{}
	for _, h := range record {
		h = strings.TrimSpace(h)
		stands, given := mapping[h]
		if !given {
			stands = Column(h)
		}
		if stands != "" && seen[stands] != "" {
			if given {
				return wrong(1, "%q and %q both stand for %s. Leave one of them out.", seen[stands], h, stands)
			}
			stands = "" // of two headings that could be the same, the first counts
		}
		seen[stands] = h
		l.Headings, l.Columns = append(l.Headings, h), append(l.Columns, stands)
	}
	return nil
}

func (l *List) entry(line int, record []string) Entry {
	e := Entry{Line: line, Fields: map[string]string{}}
	for i, v := range record {
		if v = strings.TrimSpace(v); len(v) > 1 && v[0] == '\'' && strings.ContainsRune("=+-@", rune(v[1])) {
			v = v[1:] // what keeps a spreadsheet from taking it for a formula
		}
		switch l.Columns[i] {
		case "":
		case Address:
			e.Address = v
		case Name:
			e.Name = v
		case Role:
			e.Role = strings.ToLower(v)
		default:
			e.Fields[l.Columns[i]] = v
		}
	}
	if e.Name == "" {
		e.Name = strings.TrimSpace(e.Fields["givenName"] + " " + e.Fields["familyName"])
	}
	if name, address, ok := bracketed(e.Address); ok {
		if e.Address = address; e.Name == "" {
			e.Name = name
		}
	}
	if e.Given = e.Address; e.Given == "" {
		e.Given = e.Name
	}
	return e
}

// paste reads text that is no table.
func (l *List) paste(text string) {
	n := 0
	for line := range strings.Lines(text) {
		n++
		var before string // an entry without an address, which may be the family name of the next
		for _, c := range chunks(strings.TrimSpace(line)) {
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
				for _, word := range strings.FieldsFunc(c, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' }) {
					l.add(n, word, "", strings.TrimPrefix(word, "mailto:"))
				}
			default:
				l.name(n, &before)
				before = c
			}
		}
		l.name(n, &before)
	}
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
	if open < 0 || end < open {
		return "", "", false
	}
	name = strings.TrimSpace(s[:open])
	if len(name) > 1 && name[0] == '"' && name[len(name)-1] == '"' {
		name = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(name[1 : len(name)-1])
	}
	return strings.Trim(name, " '"), strings.TrimPrefix(strings.TrimSpace(s[open+1:end]), "mailto:"), true
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
