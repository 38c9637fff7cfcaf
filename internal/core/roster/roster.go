package roster

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
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
	Wrong   string            // why it can't be read; "" for one that was
}

// List is a list that was read.
type List struct {
	Table     bool
	Encoding  string // UTF-8, UTF-16 or Windows-1252
	Delimiter rune   // of a table
	Headings  []string
	Columns   []string // of a table: what each heading stands for, "" for an unknown one
	Entries   []Entry

	own []string // further fields that columns can stand for
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

// column is Column with the further fields of a list.
func (l *List) column(heading string) string {
	for _, name := range l.own {
		if strings.EqualFold(name, strings.TrimSpace(heading)) {
			return name
		}
	}
	return Column(heading)
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
// before what Column knows; it may be nil. own are further fields that columns can stand for, under
// their names. The error is an *[fault.Fault].
func Read(b []byte, mapping map[string]string, own ...string) (List, error) {
	l := List{own: own}
	text, err := l.decode(b)
	if err != nil {
		return l, err
	}
	text = plain(text)
	skipped := 0
	if line, rest, _ := strings.Cut(text, "\n"); len(line) == len("sep=;") && strings.EqualFold(line[:4], "sep=") { // what a spreadsheet program is told
		text, skipped = rest, 1
		l.Delimiter = rune(line[4])
	}
	if l.Delimiter == 0 || l.Delimiter > 0x7f {
		l.Delimiter = l.delimiter(text, mapping)
	}
	if l.Delimiter == 0 {
		l.Delimiter = unheaded(text)
	}
	if l.Delimiter != 0 {
		l.Table = true
		err = l.table(text, skipped, mapping)
	} else {
		l.paste(text)
	}
	if err == nil && len(mapping) > 0 {
		err = l.mapped(mapping)
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
func (l *List) delimiter(text string, mapping map[string]string) rune {
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
			if stands, given := mappedTo(h, mapping); given && stands != "" || l.column(h) != "" {
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
	line, _, _ := strings.Cut(strings.TrimLeft(text, "\n"), "\n")
	return line
}

// unheaded returns what separates the columns of a table none of whose headings is known, but
// one of whose columns holds addresses: 0 for no such table.
func unheaded(text string) rune {
	head := firstLine(text)
	if strings.ContainsRune(head, '@') {
		return 0
	}
	for _, d := range []rune{';', '\t', '|', ','} {
		r := csv.NewReader(strings.NewReader(text))
		r.Comma, r.LazyQuotes, r.FieldsPerRecord = d, true, -1
		headings, err := r.Read()
		if err != nil || len(headings) < 2 || slices.Contains(headings, "") {
			continue
		}
		if at, _ := addressColumn(r, len(headings)); at >= 0 {
			return d
		}
	}
	return 0
}

// addressColumn returns the column of a table that holds an address in every line, -1 for
// none: the first.
func addressColumn(r *csv.Reader, columns int) (column, lines int) {
	holds := make([]int, columns)
	for {
		record, err := r.Read()
		if err != nil {
			break
		}
		if !slices.ContainsFunc(record, func(s string) bool { return strings.TrimSpace(s) != "" }) {
			continue
		}
		if len(record) > columns {
			return -1, 0
		}
		lines++
		for i, v := range record {
			if _, address, ok := bracketed(v); isAddress(v) || ok && isAddress(address) {
				holds[i]++
			}
		}
	}
	return slices.IndexFunc(holds, func(n int) bool { return n > 0 && n == lines }), lines
}

func isAddress(s string) bool {
	at := strings.LastIndexByte(strings.TrimSpace(s), '@')
	return at > 0 && at < len(s)-1 && !strings.ContainsAny(strings.TrimSpace(s), " \t")
}

// mappedTo returns what a mapping says that a heading stands for, and whether it says so.
func mappedTo(heading string, mapping map[string]string) (stands string, given bool) {
	for h, stands := range mapping {
		if strings.EqualFold(strings.TrimSpace(h), strings.TrimSpace(heading)) {
			return stands, true
		}
	}
	return "", false
}

// mapped checks that what a mapping says is about headings that there are, and of things that
// there are.
func (l *List) mapped(mapping map[string]string) error {
	for _, h := range slices.Sorted(maps.Keys(mapping)) {
		switch {
		case !slices.ContainsFunc(l.Headings, func(x string) bool { return strings.EqualFold(x, strings.TrimSpace(h)) }):
			if !l.Table {
				return wrong(0, "The list has no headings, so none of them can be %q.", h)
			}
			return wrong(1, "There is no heading %q: there are %s.", h, strings.Join(l.Headings, ", "))
		case mapping[h] != "" && !slices.Contains(Columns(), mapping[h]) && !slices.Contains(l.own, mapping[h]):
			return wrong(1, "The heading %s can't stand for %q: choose %s.", h, mapping[h], strings.Join(append(Columns(), l.own...), ", "))
		}
	}
	return nil
}

// records reads the rows of a table, with the line on which each begins.
func records(text string, delimiter rune, skipped int) (records [][]string, lines []int, err error) {
	read := func(lazy bool) ([][]string, []int, error) {
		r := csv.NewReader(strings.NewReader(text))
		r.Comma, r.FieldsPerRecord, r.LazyQuotes = delimiter, -1, lazy
		var records [][]string
		var lines []int
		for {
			record, err := r.Read()
			if errors.Is(err, io.EOF) {
				return records, lines, nil
			}
			if err != nil {
				return records, lines, err
			}
			line, _ := r.FieldPos(0)
			records, lines = append(records, record), append(lines, line+skipped)
		}
	}
	records, lines, err = read(false)
	if errors.Is(err, csv.ErrBareQuote) { // a quote within a field, such as the nickname of somebody
		if records, lines, err = read(true); err == nil && slices.ContainsFunc(records[len(records)-1], func(f string) bool { return strings.Contains(f, "\n") }) {
			return nil, nil, wrong(lines[len(lines)-1], "A quoted field does not end. Write a quote within quotes twice (RFC 4180).")
		}
	}
	if p := new(csv.ParseError); errors.As(err, &p) {
		return nil, nil, wrong(p.Line+skipped, "A quoted field does not end. Write a quote within quotes twice (RFC 4180).")
	} else if err != nil {
		return nil, nil, wrong(0, "%s", err)
	}
	return records, lines, nil
}

func (l *List) table(text string, skipped int, mapping map[string]string) error {
	records, lines, err := records(text, l.Delimiter, skipped)
	if err != nil {
		return err
	}
	for i, record := range records {
		line := lines[i]
		if l.Headings == nil {
			if err := l.head(record, mapping); err != nil {
				return err
			}
			if !slices.Contains(l.Columns, Address) && !slices.Contains(l.Columns, Name) {
				l.guess(text)
			}
			continue
		}
		for len(record) > len(l.Headings) && strings.TrimSpace(record[len(record)-1]) == "" {
			record = record[:len(record)-1]
		}
		if !slices.ContainsFunc(record, func(s string) bool { return strings.TrimSpace(s) != "" }) {
			continue
		}
		if len(record) > len(l.Headings) {
			l.Entries = append(l.Entries, Entry{Line: line, Given: strings.Join(record, string(l.Delimiter)), Fields: map[string]string{},
				Wrong: fmt.Sprintf("It has %d fields, but there are %d headings. Put quotes around a field with a %s in it.", len(record), len(l.Headings), separator(l.Delimiter))})
			continue
		}
		l.Entries = append(l.Entries, l.entry(line, record))
	}
	return nil
}

// guess takes the first column that holds an address in every line for that of the addresses.
func (l *List) guess(text string) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.LazyQuotes, r.FieldsPerRecord = l.Delimiter, true, -1
	_, _ = r.Read()
	if at, _ := addressColumn(r, len(l.Headings)); at >= 0 {
		l.Columns[at] = Address
	}
}

func separator(d rune) string {
	return map[rune]string{',': "comma", ';': "semicolon", '\t': "tab", '|': "bar"}[d]
}

func (l *List) head(record []string, mapping map[string]string) error {
	seen := map[string]string{}
	for _, h := range record {
		h = strings.TrimSpace(h)
		stands, given := mappedTo(h, mapping)
		if !given {
			stands = l.column(h)
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
	} else {
		e.Address = clean(e.Address)
	}
	if e.Given = e.Address; e.Given == "" {
		e.Given = e.Name
	}
	return e
}
