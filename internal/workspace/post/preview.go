package post

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // texts in the character sets that mail is written in
	"github.com/google/uuid"
	"golang.org/x/net/html"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Bounds of what is shown of a message that waits.
const (
	maxShownText  = 32 << 10 // octets of text
	maxShownFiles = 50
	maxParts      = 200
	maxPartDepth  = 10
	maxMarkup     = 1 << 20 // octets of HTML that are read for its text
)

// Held shows a message that waits for approval to whoever decides about it: as text alone, with the
// names of the files that came with it, so that nothing in it acts or loads. Administrators whom nobody else gave a
// part in the group read it by [Service.Read], which says why.
func (s *Service) Held(ctx context.Context, by workspace.Actor, id string) (api.HeldPost, error) {
	v := s.k.View(ctx, by)
	m, g, err := held(v, by, id)
	if err != nil {
		return api.HeldPost{}, err
	}
	switch is, as, err := stands(v, &g); {
	case err != nil:
		return api.HeldPost{}, err
	case is && as == 0:
		return api.HeldPost{}, workspace.Fail(workspace.NotAllowed, "No role of yours in %s lets you read its mail. Say why you read it: that is recorded, and its owners are told.", g.Name)
	case is:
		return api.HeldPost{}, workspace.Fail(workspace.NotAllowed, "You made yourself %s of %s. Say why you read its mail: that is recorded, and its owners are told.", admission.Article(as), g.Name)
	}
	return s.show(ctx, v, m, &g)
}

// Read is Held for an administrator whom nobody else gave a part in the group: that they read it and why is in the history,
// and its owners are told, once a day.
func (s *Service) Read(ctx context.Context, by workspace.Actor, id, reason string) (api.HeldPost, error) {
	v := s.k.View(ctx, by)
	m, g, err := held(v, by, id)
	if err != nil {
		return api.HeldPost{}, err
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return api.HeldPost{}, workspace.Wrong("reason", "", "Say why you read it, such as: a complaint of its author.")
	}
	out, err := s.show(ctx, v, m, &g)
	if err != nil {
		return out, err
	}
	is, as, err := stands(v, &g)
	if err != nil || !is {
		return out, err
	}
	return out, s.k.Do(ctx, by, func(c *workspace.Change) error {
		row, err := c.Read.Group(*m.GroupID)
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("You read the message; the owners of %s are told why.", row.Name))
		n, err := c.Tx.Spend(store.AddressID(c.By.Person.AddrKey+" reads "+row.AddrKey), c.Now(), "readings", 1)
		if err != nil {
			return err
		}
		if n == 1 {
			to, err := c.NoticeRecipients(&row)
			if err != nil {
				return err
			}
			l := c.GroupLetter(workspace.LetterPostRead, &row, workspace.GroupPath(&row, "history"), map[string]string{"by": c.By.Name(), "reason": reason, "subject": out.Subject, "from": out.Author})
			if err := c.Send(&row, to, l); err != nil {
				return err
			}
		}
		return c.Record(event.PostRead{Author: out.Author, Subject: out.Subject, Reason: reason, As: as.String()}, &row)
	})
}

// founding is how long after a group was made a membership begins at most that began with it: its people have moments of their own.
const founding = 10 * time.Millisecond

// stands reports whether the actor reads the mail of a group only because they are an administrator: no role of theirs lets them, whether they
// are in it or not, or they gave themselves that role, as, other than by creating the group.
func stands(v *workspace.View, g *workspace.Group) (is bool, as expand.Role, err error) {
	person := access.Subject{SignedIn: true}
	switch {
	case !v.By.Administers():
		return false, 0, nil
	case !person.May(access.DecidePosts, access.Relation{Role: g.Relation.Role, Rung: g.Relation.Rung}, &g.Policy):
		return true, 0, nil
	}
	m, err := v.Read.Membership(g.ID, v.By.Person.ID)
	return m.AddedBy == v.By.String() && m.AddedAt.After(g.CreatedAt.Add(founding)), g.Relation.Role, err
}

// held returns a message that waits, and its group, to whoever decides about it.
func held(v *workspace.View, by workspace.Actor, id string) (store.Mailing, workspace.Group, error) {
	none := workspace.Fail(workspace.NotFound, "There is no post %q that waits for you.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return store.Mailing{}, workspace.Group{}, none
	}
	if err := by.SignedIn(); err != nil {
		return store.Mailing{}, workspace.Group{}, err
	}
	m, err := v.Read.Mailing(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && (m.Kind != store.KindPost || m.GroupID == nil || m.State != store.Waiting) {
		return m, workspace.Group{}, none
	} else if err != nil {
		return m, workspace.Group{}, err
	}
	g, err := v.FindGroup(m.GroupID.String(), access.DecidePosts)
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return m, g, none
	}
	return m, g, err
}

func (s *Service) show(ctx context.Context, v *workspace.View, m store.Mailing, g *workspace.Group) (api.HeldPost, error) {
	read, err := v.Read.Messages([]uuid.UUID{m.MessageID}, true)
	if err != nil {
		return api.HeldPost{}, err
	}
	x := read[m.MessageID]
	var d store.Decision
	_ = json.Unmarshal(m.Decision, &d) // written by Accept
	out := Show(slices.Concat(m.Fields, x.Header, []byte("\r\n")), &bodyReader{ctx: ctx, j: &Job{s: s, message: x}})
	out.PostHead, out.Group, out.Reasons = head(v, m, read), api.Name{Name: g.Name, Address: g.Address}, shape(d).Reasons
	if out.WrittenBy, err = writerOf(v, x); out.WrittenBy == x.Author {
		out.WrittenBy = ""
	}
	return out, errors.Join(err, ctx.Err())
}

// Show reads a message, of which header ends with its empty line, as it is shown.
func Show(header []byte, body io.Reader) api.HeldPost {
	out := api.HeldPost{Files: []api.HeldFile{}}
	e, err := message.Read(io.MultiReader(bytes.NewReader(header), body))
	if e == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		out.Unreadable = "It is not built as mail is, so it can't be shown."
		return out
	}
	out.From, out.To, out.Date = headerText(e.Header, "From"), headerText(e.Header, "To"), headerText(e.Header, "Date")
	look := inside{out: &out}
	if err := look.walk(e, 0); err != nil {
		out.Unreadable = "Part of it is not built as mail is, and is not shown."
	}
	return out
}

// inside is what is found within a message.
type inside struct {
	out   *api.HeldPost
	parts int
}

func headerText(h message.Header, field string) string {
	text, err := h.Text(field)
	if err != nil {
		text = h.Get(field)
	}
	return workspace.Cut(plain(text, false), 500)
}

// walk goes through the parts of an entity. An error says that the rest can't be read.
func (w *inside) walk(e *message.Entity, depth int) error {
	if w.parts++; w.parts > maxParts || depth > maxPartDepth {
		return errors.New("too many parts")
	}
	if parts := e.MultipartReader(); parts != nil {
		kind, _, _ := e.Header.ContentType()
		before := w.out.Text
		for {
			part, err := parts.NextPart()
			if errors.Is(err, io.EOF) {
				return nil
			} else if err != nil && (part == nil || !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err)) {
				return err
			}
			if kind == "multipart/alternative" && w.out.Text != before && isText(part) { // the same once more
				continue
			}
			if err := w.walk(part, depth+1); err != nil {
				return err
			}
		}
	}
	kind, _, err := e.Header.ContentType()
	if err != nil {
		kind = "application/octet-stream"
	}
	disposition, params, _ := e.Header.ContentDisposition()
	if isText(e) && disposition != "attachment" {
		return w.text(e, kind == "text/html")
	}
	size, err := io.Copy(io.Discard, e.Body)
	if len(w.out.Files) < maxShownFiles {
		_, named, _ := e.Header.ContentType()
		w.out.Files = append(w.out.Files, api.HeldFile{Name: workspace.Cut(plain(decoded(params["filename"], named["name"]), false), 200), Type: workspace.Cut(plain(kind, false), 100), Size: int(size)})
	} else {
		w.out.MoreFiles++
	}
	return err
}

func decoded(names ...string) string {
	for _, n := range names {
		if n == "" {
			continue
		}
		if text, err := new(mime.WordDecoder).DecodeHeader(n); err == nil {
			return text
		}
		return n
	}
	return ""
}

func isText(e *message.Entity) bool {
	kind, _, err := e.Header.ContentType()
	return err == nil && (kind == "text/plain" || kind == "text/html" || kind == "")
}

// text adds a text to what is shown.
func (w *inside) text(e *message.Entity, markup bool) error {
	most := int64(maxShownText)
	if markup {
		most = maxMarkup
	}
	b, err := io.ReadAll(io.LimitReader(e.Body, most+1))
	rest, _ := io.Copy(io.Discard, e.Body)
	cut := int64(len(b)) > most || rest > 0
	text := string(b[:min(int64(len(b)), most)])
	if markup {
		text = textOf(text)
		w.out.Markup = true
	}
	text = strings.TrimSpace(plain(text, true))
	if w.out.Text != "" && text != "" {
		text = "\n\n" + text
	}
	if room := maxShownText - len(w.out.Text); len(text) > room {
		text, cut = strings.ToValidUTF8(text[:max(0, room)], ""), true
	}
	w.out.Text += text
	w.out.Cut = w.out.Cut || cut
	return err
}

// plain is a text without what does more than stand there: control characters, and those that turn
// the direction of writing or can't be seen.
func plain(s string, lines bool) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			if lines {
				return r
			}
			return ' '
		case r == utf8.RuneError || unicode.IsControl(r) || unicode.In(r, unicode.Cf):
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "�"))
}

// textOf is what an HTML document says, with the addresses of its links behind their words.
func textOf(doc string) string {
	z := html.NewTokenizer(strings.NewReader(doc))
	var out strings.Builder
	skip, link := "", ""
	for {
		switch z.Next() {
		case html.ErrorToken:
			return lines(out.String())
		case html.TextToken:
			if skip == "" {
				out.WriteString(strings.Join(strings.FieldsFunc(string(z.Text()), unicode.IsSpace), " ") + " ")
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := z.TagName()
			switch tag := string(name); tag {
			case "script", "style", "head", "title", "template", "noscript":
				if skip == "" {
					skip = tag
				}
			case "br", "p", "div", "tr", "li", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote", "table", "ul", "ol":
				out.WriteByte('\n')
			case "a":
				link = ""
				for more {
					var k, v []byte
					if k, v, more = z.TagAttr(); string(k) == "href" {
						link = string(v)
					}
				}
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			switch tag := string(name); {
			case tag == skip:
				skip = ""
			case tag == "a" && link != "" && skip == "":
				fmt.Fprintf(&out, "<%s> ", workspace.Cut(link, 200))
				link = ""
			case tag == "p" || tag == "div" || tag == "tr":
				out.WriteByte('\n')
			}
		}
	}
}

// lines trims each line of a text, and leaves at most one empty line between two.
func lines(s string) string {
	var out []string
	for line := range strings.SplitSeq(s, "\n") {
		line = strings.TrimSpace(line)
		if line == "" && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}
