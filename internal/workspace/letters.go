package workspace

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"strings"
	texttemplate "text/template"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
)

// letter is mail that the service writes: why it came, what to do, by when.
type letter struct {
	Subject    string
	Paragraphs []string
	LinkText   string
	Link       string // a page of the console; opening it changes nothing
	Why        string // why it came, the last line
}

var letterText = texttemplate.Must(texttemplate.New("text").Parse(
	"{{range .Paragraphs}}{{.}}\r\n\r\n{{end}}{{if .Link}}{{.LinkText}}:\r\n{{.Link}}\r\n\r\n{{end}}-- \r\n{{.Why}}\r\n"))

var letterHTML = template.Must(template.New("html").Parse(
	"<!doctype html>\r\n<html lang=\"en\"><body style=\"font-family:sans-serif;max-width:36em\">\r\n{{range .Paragraphs}}<p>{{.}}</p>\r\n{{end}}" +
		"{{if .Link}}<p><a href=\"{{.Link}}\">{{.LinkText}}</a></p>\r\n{{end}}<p style=\"color:#555;font-size:smaller\">{{.Why}}</p>\r\n</body></html>\r\n"))

func (w *Workspace) dueLetter(g store.Group, p lifecycle.Policy, now time.Time) letter {
	days := p.Days(now, g.ExpiresAt)
	when := fmt.Sprintf("in %d days, on %s", days, g.ExpiresAt.In(p.Day(now).Location()).Format("2 Jan 2006"))
	if days == 1 {
		when = "tomorrow, on " + g.ExpiresAt.In(p.Day(now).Location()).Format("2 Jan 2006")
	}
	return letter{
		Subject: fmt.Sprintf("%s expires %s", g.Name, when),
		Paragraphs: []string{
			fmt.Sprintf("The group %s (%s) expires %s.", g.Name, g.Address, when),
			"Renew it if it is still needed: open the page below, sign in, and press Renew.",
			fmt.Sprintf("If nobody renews it, it takes no more mail from that day on. Everything in it can be restored for %d days after.", lifecycle.RecoveryDays),
		},
		LinkText: "Renew " + g.Name, Link: w.link(g, "term"), Why: whyOwner(g),
	}
}

func (w *Workspace) lapsedLetter(g store.Group, p lifecycle.Policy) letter {
	till := p.PurgeAt(g.Life()).In(p.Day(*g.EndedAt).Location()).Format("2 Jan 2006")
	return letter{
		Subject: fmt.Sprintf("%s has lapsed and can be restored until %s", g.Name, till),
		Paragraphs: []string{
			fmt.Sprintf("The group %s (%s) was not renewed and has lapsed. Mail to it is refused.", g.Name, g.Address),
			fmt.Sprintf("You can restore it, with everything in it, until %s. After that it is gone.", till),
		},
		LinkText: "Restore " + g.Name, Link: w.link(g, "term"), Why: whyOwner(g),
	}
}

func declinedLetter(g store.Group, m store.Message, reason string) letter {
	l := letter{
		Subject:    "Declined: " + m.Subject,
		Paragraphs: []string{fmt.Sprintf("Your message %q to %s (%s) was not passed on.", m.Subject, g.Name, g.Address)},
		Why:        "This came because you wrote to a group whose messages wait for approval.",
	}
	if reason != "" {
		l.Paragraphs = append(l.Paragraphs, "The reason given: "+reason)
	}
	return l
}

func (w *Workspace) link(g store.Group, tab string) string {
	return strings.TrimSuffix(w.o.PublicURL, "/") + "/groups/" + g.Address + "/" + tab
}

func whyOwner(g store.Group) string {
	return fmt.Sprintf("This came because you own the group %s, or take care of groups that nobody owns.", g.Address)
}

// send queues a letter about a group in the transaction of its cause.
func (w *Workspace) send(ctx context.Context, t *store.Store, g *store.Group, to []string, l letter) error {
	id := store.NewID()
	_, domain, _ := strings.Cut(g.Address, "@")
	from := "postmaster@" + domain
	raw, err := l.compose(id.String()+"@"+domain, from, to, w.now(ctx))
	if err != nil {
		return fmt.Errorf("write a letter: %w", err)
	}
	return t.AddMessage(ctx, store.Message{ID: id, GroupID: &g.ID, Kind: store.KindNotice, State: store.Accepted, MessageID: "<" + id.String() + "@" + domain + ">",
		Sender: from, Author: from, Proven: true, Subject: l.Subject, Size: len(raw), Raw: raw, Decision: json.RawMessage("{}"), ReceivedAt: w.now(ctx)}, to)
}

func (l letter) compose(id, from string, to []string, now time.Time) ([]byte, error) {
	var h mail.Header
	h.SetAddressList("From", []*mail.Address{{Name: "Mail groups", Address: from}})
	names := make([]*mail.Address, len(to))
	for i, a := range to {
		names[i] = &mail.Address{Address: a}
	}
	h.SetAddressList("To", names)
	h.SetSubject(l.Subject)
	h.SetDate(now)
	h.SetMessageID(id)
	h.Set("Auto-Submitted", "auto-generated") // RFC 3834, 5
	var b bytes.Buffer
	mw, err := mail.CreateInlineWriter(&b, h)
	if err != nil {
		return nil, err
	}
	for _, part := range []struct {
		kind string
		fill func(io.Writer) error
	}{
		{"text/plain", func(to io.Writer) error { return letterText.Execute(to, l) }},
		{"text/html", func(to io.Writer) error { return letterHTML.Execute(to, l) }},
	} {
		var ph mail.InlineHeader
		ph.Header = message.Header{}
		ph.SetContentType(part.kind, map[string]string{"charset": "utf-8"})
		ph.Set("Content-Transfer-Encoding", "quoted-printable")
		pw, err := mw.CreatePart(ph)
		if err != nil {
			return nil, err
		}
		if err := part.fill(pw); err != nil {
			return nil, err
		}
		if err := pw.Close(); err != nil {
			return nil, err
		}
	}
	if err := mw.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
