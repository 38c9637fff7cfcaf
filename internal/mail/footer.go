package mail

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"mime"
	"mime/quotedprintable"
	"strings"

	"github.com/emersion/go-message/textproto"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"

	"ivytable.example/ivytable/internal/workspace/post"
)

// Bounds of looking for where a footer goes.
const (
	maxNesting = 10 // of parts in parts
	maxSlots   = 20
)

// slot is a place in a body where a footer can go: the end of a part that people read.
type slot struct {
	html     bool
	charset  string // lower case, "" for none
	encoding string // lower case: 7bit, 8bit, quoted-printable, base64
	end      int64  // of the part, in octets from the beginning of the body
	lineEnds bool   // the part ends with a line's end
	last     int64  // of base64: where its last four characters begin
	quantum  []byte // of base64: what these mean

	// Where the fields of the part are that may have to say something else: in the body, but for those
	// of a message that is one part.
	typeAt, encodingAt span
	typeValue          string
	top                bool
}

// span is a range of a body, in octets; the zero value is none.
type span struct{ at, size int64 }

// slots returns where a footer goes in a message: below its text, and below the same as HTML. There is
// none in what is signed or encrypted, which would not be that any more, and in what can't be read.
func slots(h textproto.Header, body io.Reader) []slot {
	s := scanner{r: bufio.NewReaderSize(body, 64<<10)}
	top := fields{contentType: h.Get("Content-Type"), encoding: h.Get("Content-Transfer-Encoding"), disposition: h.Get("Content-Disposition"), top: true}
	out, _, ok := s.part(top, nil, 0)
	if !ok || s.err != nil || len(out) > maxSlots {
		return nil
	}
	return out
}

// fields are those of the header of a part that matter here.
type fields struct {
	contentType, encoding, disposition string
	typeAt, encodingAt                 span
	top                                bool
}

// scanner reads a body line by line.
type scanner struct {
	r   *bufio.Reader
	at  int64 // where the next line begins
	err error // but for the end
}

// line reads a line, with its end; what is long is cut. more is false at the end of the body.
func (s *scanner) line() (line []byte, begins int64, more bool) {
	begins = s.at
	for {
		b, err := s.r.ReadSlice('\n')
		s.at += int64(len(b))
		if len(line)+len(b) <= 64<<10 {
			line = append(line, b...)
		}
		switch err {
		case bufio.ErrBufferFull:
		case nil:
			return line, begins, true
		case io.EOF:
			return line, begins, len(line) > 0
		default:
			s.err = err
			return nil, begins, false
		}
	}
}

// ends says how a part ended: at which of the boundaries around it, and whether that was its last.
type ends struct {
	boundary int // -1: at the end of the body
	closing  bool
	at       int64 // of the part: before the line's end that belongs to the boundary
}

// boundaryOf reports at which of some boundaries a line stands (RFC 2046, 5.1.1).
func boundaryOf(line []byte, around []string) (ends, bool) {
	if len(line) < 3 || line[0] != '-' || line[1] != '-' {
		return ends{}, false
	}
	text := strings.TrimRight(string(line[2:]), " \t\r\n")
	for i := len(around) - 1; i >= 0; i-- {
		if rest, ok := strings.CutPrefix(text, around[i]); ok && (rest == "" || rest == "--") {
			return ends{boundary: i, closing: rest == "--"}, true
		}
	}
	return ends{}, false
}

// part reads a part up to where it ends, and returns the slots in it; ok is false where the message must
// be left as it is.
func (s *scanner) part(f fields, around []string, depth int) (out []slot, end ends, ok bool) {
	kind, params, err := mime.ParseMediaType(f.contentType)
	if strings.TrimSpace(f.contentType) == "" {
		kind, params, err = "text/plain", nil, nil
	}
	attached, _, _ := mime.ParseMediaType(f.disposition)
	switch {
	case err != nil || depth > maxNesting:
		return nil, end, false
	case kind == "multipart/signed", kind == "multipart/encrypted", strings.HasPrefix(kind, "application/pkcs7"), strings.HasPrefix(kind, "application/x-pkcs7"):
		return nil, end, false
	case strings.HasPrefix(kind, "multipart/"):
		return s.multipart(kind, params["boundary"], around, depth)
	}
	x := slot{html: kind == "text/html", charset: strings.ToLower(params["charset"]), encoding: strings.ToLower(strings.TrimSpace(f.encoding)), typeAt: f.typeAt, encodingAt: f.encodingAt, typeValue: f.contentType, top: f.top}
	if x.encoding == "" {
		x.encoding = "7bit"
	}
	var last []byte // of base64: the last line that is not empty
	var lastAt int64
	first, before := true, []byte(nil)
	for {
		line, begins, more := s.line()
		if b, found := boundaryOf(line, around); found || !more {
			end = b
			if end.at = begins; !found {
				end.boundary = -1
			} else if bytes.HasSuffix(before, []byte("\r\n")) {
				end.at -= 2 // the line's end before a boundary is the boundary's
			}
			break
		}
		if text := bytes.TrimRight(line, " \t\r\n"); len(text) > 0 {
			if first && bytes.HasPrefix(text, []byte("-----BEGIN PGP")) {
				return nil, end, false
			}
			first, last, lastAt = false, append(last[:0], text...), begins
		}
		before = line
	}
	x.end, x.lineEnds = end.at, end.boundary < 0 && (before == nil || bytes.HasSuffix(before, []byte("\r\n")))
	readable := (kind == "text/plain" || x.html) && attached != "attachment"
	switch x.encoding {
	case "7bit", "8bit", "quoted-printable":
	case "base64":
		n := len(last)
		if n < 4 || n%4 != 0 {
			readable = false
			break
		}
		x.last = lastAt + int64(n) - 4
		if x.quantum, err = base64.StdEncoding.DecodeString(string(last[n-4:])); err != nil {
			readable = false
		}
	default:
		readable = false
	}
	if !readable {
		return nil, end, true
	}
	return []slot{x}, end, true
}

// multipart reads the parts of a part. Of alternatives each gets a footer, of others the first that people
// read.
func (s *scanner) multipart(kind, boundary string, around []string, depth int) (out []slot, end ends, ok bool) {
	if boundary == "" || kind == "multipart/report" {
		return nil, end, false
	}
	inside := append(append([]string{}, around...), boundary)
	own := len(inside) - 1
	for { // what is before the first part
		line, _, more := s.line()
		if !more {
			return nil, end, false
		}
		if b, found := boundaryOf(line, inside); found {
			if b.boundary != own || b.closing {
				return nil, end, false
			}
			break
		}
	}
	for {
		f, readable := s.header(inside)
		if !readable {
			return nil, end, false
		}
		found, e, fine := s.part(f, inside, depth+1)
		if !fine {
			return nil, end, false
		}
		if kind == "multipart/alternative" || len(out) == 0 {
			out = append(out, found...)
		}
		switch {
		case e.boundary == own && !e.closing:
			continue
		case e.boundary != own: // cut short: whoever reads it may see other parts
			return nil, e, false
		}
		break
	}
	for { // what is after the last part
		line, begins, more := s.line()
		if b, found := boundaryOf(line, around); found {
			b.at = begins
			return out, b, true
		}
		if !more {
			return out, ends{boundary: -1, at: begins}, true
		}
	}
}

// header reads the header of a part.
func (s *scanner) header(around []string) (f fields, ok bool) {
	var name string
	var value strings.Builder
	var at span
	keep := func() {
		switch v := strings.TrimSpace(value.String()); strings.ToLower(name) {
		case "content-type":
			f.contentType, f.typeAt = v, at
		case "content-transfer-encoding":
			f.encoding, f.encodingAt = v, at
		case "content-disposition":
			f.disposition = v
		}
	}
	for n := 0; n < 200; n++ {
		line, begins, more := s.line()
		if _, found := boundaryOf(line, around); found || !more {
			return f, false
		}
		text := strings.TrimRight(string(line), "\r\n")
		switch {
		case text == "":
			keep()
			return f, true
		case text[0] == ' ' || text[0] == '\t':
			value.WriteString(text)
			at.size = s.at - at.at
			continue
		}
		keep()
		var v string
		if name, v, ok = strings.Cut(text, ":"); !ok {
			return f, false
		}
		value.Reset()
		value.WriteString(v)
		at = span{begins, s.at - begins}
	}
	return f, false
}

// footed says what becomes of a body that gets a footer: what is put where, in order, and the fields that
// a message of one part needs in place of its own.
func footed(all []slot, footer string) (edits []post.Edit, top textproto.Header) {
	for _, x := range all {
		put, wide, ok := x.write(footer)
		if !ok {
			continue
		}
		var fix []post.Edit
		if wide {
			fix, top, ok = x.widen(top)
			if !ok {
				continue
			}
		}
		edits = append(append(edits, fix...), put)
	}
	return edits, top
}

// write returns a footer as it stands in a part, and whether the part has to say that it is in UTF-8.
func (x slot) write(footer string) (e post.Edit, wide, ok bool) {
	text := "\r\n-- \r\n" + strings.ReplaceAll(strings.ReplaceAll("\n"+footer, "\n--", "\n --")[1:], "\n", "\r\n") // no line of it is a boundary
	if x.encoding == "base64" {
		x.lineEnds = bytes.HasSuffix(x.quantum, []byte("\n"))
	}
	if !x.lineEnds {
		text = "\r\n" + text
	}
	e.At = x.end
	if x.html {
		text = markup(footer)
	} else if !ascii(text) {
		switch x.charset {
		case "utf-8", "utf8":
			wide = x.encoding == "7bit"
		case "", "us-ascii", "ascii":
			wide = true
		default:
			enc, err := htmlindex.Get(x.charset)
			if err != nil || strings.HasPrefix(x.charset, "utf-16") || strings.HasPrefix(x.charset, "utf-32") || x.encoding == "7bit" {
				return e, false, false
			}
			if text, err = encoding.ReplaceUnsupported(enc.NewEncoder()).String(text); err != nil {
				return e, false, false
			}
		}
	}
	if strings.HasPrefix(x.charset, "utf-16") || strings.HasPrefix(x.charset, "utf-32") {
		return e, false, false
	}
	if x.lineEnds {
		text += "\r\n"
	}
	switch x.encoding {
	case "quoted-printable":
		var b bytes.Buffer
		w := quotedprintable.NewWriter(&b)
		_, _ = w.Write([]byte(text)) // into memory
		_ = w.Close()
		text = b.String()
	case "base64":
		return post.Edit{At: x.last, Drop: 4, Put: wrapped(base64.StdEncoding.EncodeToString(append(bytes.Clone(x.quantum), text...)))}, wide, true
	}
	e.Put = []byte(text)
	return e, wide, true
}

// wrapped breaks base64 into lines (RFC 2045, 6.8). The first goes on a line that has text already, so it is
// short.
func wrapped(s string) []byte {
	var b bytes.Buffer
	for n := 4; ; n = min(76, len(s)) {
		b.WriteString(s[:n])
		if s = s[n:]; s == "" {
			return b.Bytes()
		}
		b.WriteString("\r\n")
	}
}

// widen says in the fields of a part that it is in UTF-8, of which what was in it before is a part.
func (x slot) widen(top textproto.Header) (fix []post.Edit, out textproto.Header, ok bool) {
	kind, params, err := "text/plain", map[string]string{}, error(nil)
	if strings.TrimSpace(x.typeValue) != "" {
		if kind, params, err = mime.ParseMediaType(x.typeValue); err != nil {
			return nil, top, false
		}
	}
	params["charset"] = "utf-8"
	as := x.encoding
	if as == "7bit" {
		as = "8bit"
	}
	typeLine, encodingLine := mime.FormatMediaType(kind, params), as
	if x.top {
		top.Set("Content-Type", typeLine)
		top.Set("Content-Transfer-Encoding", encodingLine)
		return nil, top, true
	}
	if x.typeAt == (span{}) { // a part without a type: where its fields would go is not known
		return nil, top, false
	}
	line := fmt.Sprintf("Content-Type: %s\r\n", typeLine)
	if x.encodingAt == (span{}) {
		line += "Content-Transfer-Encoding: " + encodingLine + "\r\n"
		return []post.Edit{{At: x.typeAt.at, Drop: x.typeAt.size, Put: []byte(line)}}, top, true
	}
	fix = []post.Edit{{At: x.typeAt.at, Drop: x.typeAt.size, Put: []byte(line)}, {At: x.encodingAt.at, Drop: x.encodingAt.size, Put: []byte("Content-Transfer-Encoding: " + encodingLine + "\r\n")}}
	if fix[0].At > fix[1].At {
		fix[0], fix[1] = fix[1], fix[0]
	}
	return fix, top, true
}

// markup is a footer as HTML, in ASCII, in short lines. What comes after the end of a document is part of
// its body (HTML, 13.2.6.4.19).
func markup(footer string) string {
	var b strings.Builder
	b.WriteString("\r\n<div style=\"margin-top:1em;padding-top:.5em;border-top:1px solid #bbb;color:#555;font-size:smaller\">\r\n")
	for i, line := range strings.Split(footer, "\n") {
		if i > 0 {
			b.WriteString("<br>\r\n")
		}
		width := 0
		for _, w := range strings.Fields(line) {
			w = entities(w)
			switch {
			case width == 0:
			case width+len(w) >= 76:
				b.WriteString("\r\n")
				width = 0
			default:
				b.WriteString(" ")
				width++
			}
			b.WriteString(w)
			width += len(w)
		}
	}
	b.WriteString("\r\n</div>\r\n")
	return b.String()
}

// entities writes a word as HTML in ASCII, such that a line that begins with it is no boundary.
func entities(w string) string {
	var b strings.Builder
	if rest, found := strings.CutPrefix(w, "--"); found {
		b.WriteString("&#45;-")
		w = rest
	}
	for _, r := range html.EscapeString(w) {
		if r < 0x80 {
			b.WriteRune(r)
		} else {
			fmt.Fprintf(&b, "&#%d;", r)
		}
	}
	return b.String()
}

func ascii(s string) bool { return !has8Bit([]byte(s)) }
