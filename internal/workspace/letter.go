package workspace

import (
	"bytes"
	"fmt"
	"html/template"
	"io"
	"maps"
	"strings"
	texttemplate "text/template"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/store"
)

// Letter is mail that the service writes: why it came, what to do, by when.
type Letter struct {
	Language   string
	Sender     string
	Subject    string
	Paragraphs []string
	Items      []Item // a list after the first paragraph
	LinkText   string
	Link       string    // a page of the console; opening it changes nothing
	Why        string    // why it came, the last line
	Apart      bool      // those who get it don't see each other
	Answers    *InAnswer // with a value: it is an automatic answer (RFC 3834)
	ID         uuid.UUID // with a value: what its mailing is known by; it is not gathered with others

	kind, path string
	fill       map[string]string
}

// InAnswer is what an automatic answer answers, and in whose name.
type InAnswer struct {
	MessageID     string // with its angle brackets
	Name, Address string
}

// Item is one of the things that a letter lists.
type Item struct {
	Text string
	Link string // a page of the console; "" for none
}

var letterText = texttemplate.Must(texttemplate.New("text").Parse(
	"{{range $i, $p := .Paragraphs}}{{$p}}\r\n\r\n{{if not $i}}{{range $.Items}}- {{.Text}}\r\n{{if .Link}}  {{.Link}}\r\n{{end}}{{end}}{{if $.Items}}\r\n{{end}}{{end}}{{end}}{{if .Link}}{{.LinkText}}:\r\n{{.Link}}\r\n\r\n{{end}}-- \r\n{{.Why}}\r\n"))

var letterHTML = template.Must(template.New("html").Parse(
	"<!doctype html>\r\n<html lang=\"{{.Language}}\"><body style=\"font-family:sans-serif;max-width:36em\">\r\n{{range $i, $p := .Paragraphs}}<p style=\"white-space:pre-line\">{{$p}}</p>\r\n{{if and (not $i) $.Items}}<ul>\r\n{{range $.Items}}<li>{{if .Link}}<a href=\"{{.Link}}\">{{.Text}}</a>{{else}}{{.Text}}{{end}}</li>\r\n{{end}}</ul>\r\n{{end}}{{end}}" +
		"{{if .Link}}<p><a href=\"{{.Link}}\">{{.LinkText}}</a></p>\r\n{{end}}<p style=\"color:#555;font-size:smaller\">{{.Why}}</p>\r\n</body></html>\r\n"))

// GroupLetter writes one of the letters about a group in the group's language, with what
// stands in its braces. path is the page of the console that it links to.
func (v *View) GroupLetter(kind string, g *store.Group, path string, fill map[string]string) Letter {
	all := map[string]string{"name": g.Name, "address": g.Address, "description": g.Description, "owners": OwnersOf(g)}
	maps.Copy(all, fill)
	return v.Letter(kind, g.Language, path, all)
}

// Letter is GroupLetter for what is about no group.
func (v *View) Letter(kind, tag, path string, fill map[string]string) Letter {
	if _, known := languages[tag]; !known {
		tag = "en"
	}
	lang := languages[tag]
	text := lang.letters[kind]
	var pairs []string
	for k, v := range fill {
		pairs = append(pairs, "{"+k+"}", v)
	}
	r := strings.NewReplacer(pairs...)
	l := Letter{Language: tag, Sender: lang.sender, Subject: r.Replace(text.Subject), Why: r.Replace(text.Why), kind: kind, path: path, fill: fill}
	for _, p := range text.Paragraphs {
		missing := false
		for k, v := range fill {
			missing = missing || v == "" && strings.Contains(p, "{"+k+"}")
		}
		if !missing {
			l.Paragraphs = append(l.Paragraphs, r.Replace(p))
		}
	}
	if text.Link != "" {
		l.LinkText, l.Link = r.Replace(text.Link), v.Link(path)
	}
	return l
}

// Together returns the one letter that stands for several of a kind, in the language of the first;
// they are at least two, each about a group of its own.
func (v *View) Together(all []Letter) Letter {
	first, kind, path := all[0], aboutMany[all[0].kind], "/mine"
	switch first.kind {
	case LetterOwnerless:
		path = "/groups"
	case LetterRuleWaits, LetterNestAsked, LetterConsentOver:
		path = "/waiting"
	case LetterPostsWait:
		path = "/waiting?kind=post"
	case LetterVouching:
		path = "/people/external"
	case LetterVoucherLeft:
		path = "/people/external?alone=true"
	}
	fill := maps.Clone(first.fill)
	fill["number"] = fmt.Sprint(len(all))
	out := v.Letter(kind, first.Language, path, fill)
	out.Apart = true
	for _, l := range all {
		var pairs []string
		for k, x := range l.fill {
			pairs = append(pairs, "{"+k+"}", x)
		}
		text := strings.NewReplacer(pairs...).Replace(languageOf(first.Language).letters[kind].Item)
		out.Items = append(out.Items, Item{strings.TrimSpace(text), l.Link})
	}
	return out
}

// GroupPath is a part of a group's page.
func GroupPath(g *store.Group, part string) string {
	return strings.TrimSuffix("/groups/"+g.Address+"/"+part, "/")
}

// AddedLetter tells people that they are in a group now. own is the page where somebody without an
// account decides about their own part in it, "" for those who have one.
func (v *View) AddedLetter(g *store.Group, own string) Letter {
	if own == "" {
		own = GroupPath(g, "")
	}
	l := v.GroupLetter(LetterAdded, g, own, map[string]string{"by": v.By.Name(), "welcome": g.Welcome, "delivery": Phrase(g.Language, Delivery(g.DefaultMail))})
	l.Apart = true
	return l
}

// Delivery names whether somebody gets each message.
func Delivery(mail bool) string {
	if mail {
		return "each"
	}
	return "none"
}

// mail is a letter as it is queued: about a group, or about none, from a domain.
func (l Letter) mail(group *uuid.UUID, domain string, to []string, now time.Time) (store.NewMail, error) {
	id := l.ID
	if id == uuid.Nil {
		id = store.NewID()
	}
	from, sender := "postmaster@"+domain, "postmaster@"+domain
	if l.Answers != nil {
		from, sender = l.Answers.Address, "" // so that nothing answers it (RFC 3834, 3.3)
	}
	raw, err := l.compose(id.String()+"@"+domain, from, to, now)
	if err != nil {
		return store.NewMail{}, fmt.Errorf("write a letter: %w", err)
	}
	m := store.Message{ID: id, MessageID: "<" + id.String() + "@" + domain + ">", Author: from, Proven: true, Subject: l.Subject, ReceivedAt: now}
	header, body, _ := bytes.Cut(raw, []byte("\r\n\r\n"))
	return store.Whole(m, group, sender, append(header, "\r\n"...), body, to), nil
}

// maxNamed is to how many people a letter is written by name.
const maxNamed = 10

func (l Letter) compose(id, from string, to []string, now time.Time) ([]byte, error) {
	var h mail.Header
	h.SetAddressList("From", []*mail.Address{{Name: l.Sender, Address: from}})
	if len(to) == 1 || len(to) <= maxNamed && !l.Apart {
		names := make([]*mail.Address, len(to))
		for i, a := range to {
			names[i] = &mail.Address{Address: a}
		}
		h.SetAddressList("To", names)
	} else {
		h.Set("To", "undisclosed-recipients:;") // RFC 5322, A.1.3
	}
	h.SetSubject(l.Subject)
	h.SetDate(now)
	h.SetMessageID(id)
	h.Set("Content-Language", l.Language)
	h.Set("Auto-Submitted", "auto-generated") // RFC 3834, 5
	if l.Answers != nil {
		h.SetAddressList("From", []*mail.Address{{Name: l.Answers.Name, Address: from}})
		h.Set("Auto-Submitted", "auto-replied")
		h.Set("In-Reply-To", l.Answers.MessageID)
		h.Set("References", l.Answers.MessageID)
	}
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
