package mail

import (
	"bufio"
	"io"
	"strings"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/textproto"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/returned"
)

// Bounds of what is read of a report.
const (
	maxReportDepth = 10
	maxReportParts = 50
	maxReportText  = 64 << 10 // octets of its words
	maxReported    = 200      // recipients
)

// ReadReport reads what a message that came back to us says of deliveries: the fields of RFC 3464, where it has them, and its words, in
// which whoever knows the recipients finds them.
func ReadReport(author mailaddr.Address, header []byte, body io.Reader) returned.Report {
	out := returned.Report{Daemon: daemon(author)}
	e, err := message.Read(io.MultiReader(strings.NewReader(string(header)+"\r\n"), body))
	if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return out
	}
	parts := 0
	readParts(e, 0, &parts, &out)
	return out
}

func readParts(e *message.Entity, depth int, parts *int, out *returned.Report) {
	if *parts++; *parts > maxReportParts || depth > maxReportDepth {
		return
	}
	kind, _, _ := e.Header.ContentType()
	if many := e.MultipartReader(); many != nil {
		for {
			p, err := many.NextPart()
			if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
				return
			}
			readParts(p, depth+1, parts, out)
		}
	}
	switch strings.ToLower(kind) {
	case "message/delivery-status", "message/global-delivery-status": // RFC 3464, 2; RFC 6533
		readStatus(bufio.NewReader(io.LimitReader(e.Body, maxReportText)), out)
	case "text/plain", "text/html", "":
		b, _ := io.ReadAll(io.LimitReader(e.Body, int64(maxReportText-len(out.Words))))
		out.Words += string(b)
	}
}

// readStatus reads the fields of a report: those of the message first, then those of each recipient (RFC 3464, 2.1).
func readStatus(r *bufio.Reader, out *returned.Report) {
	for len(out.Said) < maxReported {
		h, err := textproto.ReadHeader(r)
		if h.Has("Final-Recipient") || h.Has("Original-Recipient") {
			s := returned.Said{Final: addressIn(h.Get("Final-Recipient")), Original: addressIn(h.Get("Original-Recipient")), Status: strings.TrimSpace(h.Get("Status")), Words: words(h.Get("Diagnostic-Code"))}
			s.Failed = strings.EqualFold(strings.TrimSpace(h.Get("Action")), "failed")
			out.Said = append(out.Said, s)
		}
		if err != nil {
			return
		}
		if _, err := r.Peek(1); err != nil {
			return
		}
	}
}

// daemon reports whether an author is a mail system.
func daemon(author mailaddr.Address) bool {
	local := strings.ToLower(author.Local())
	return local == "mailer-daemon" || local == "postmaster"
}

// words are those in a field such as "smtp; 550 no such box" (RFC 3464, 2.3.6).
func words(field string) string {
	kind, rest, found := strings.Cut(oneLine(field), ";")
	if !found || strings.ContainsAny(strings.TrimSpace(kind), " \t") {
		return strings.TrimSpace(oneLine(field))
	}
	return strings.TrimSpace(rest)
}

// addressIn is the address in a field such as "rfc822; tove@x.example" (RFC 3464, 2.3.1).
func addressIn(field string) string {
	kind, address, found := strings.Cut(field, ";")
	if !found || !strings.EqualFold(strings.TrimSpace(kind), "rfc822") && !strings.EqualFold(strings.TrimSpace(kind), "utf-8") {
		return ""
	}
	return strings.Trim(strings.TrimSpace(address), "<>")
}
