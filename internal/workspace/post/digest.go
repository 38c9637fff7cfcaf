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

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/pause"
)

// Bounds of digests.
const (
	digestPeople   = 25      // whose digests are written in one change
	digestMessages = 100     // in one digest; what is more goes into another
	digestOctets   = 8 << 20 // likewise; one message that is larger is alone in its own
)

// SendDigests writes the digests that are due: what came to a group since the last one, as one message (RFC 2046, 5.1.5). Any number of
// instances can do it at once.
func (s *Service) SendDigests(ctx context.Context) error {
	for more := true; more; {
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
			due, err := c.Tx.LockDigests(c.Now(), digestPeople)
			if err != nil || len(due) == 0 {
				more = false
				return err
			}
			more = len(due) == digestPeople
			return digests(c, due)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// window is what a digest of a group is of.
type window struct {
	group       uuid.UUID
	after, upTo time.Time
}

// digests writes the digests of some people.
func digests(c *workspace.Change, due []store.DigestTime) error {
	ids := make([]uuid.UUID, len(due))
	for i, d := range due {
		ids[i] = d.PersonID
	}
	members, err := c.Read.DigestsOf(ids, c.Now())
	if err != nil {
		return err
	}
	to := map[window][]string{}
	var order []window
	gets := map[uuid.UUID]bool{}
	at := make(map[uuid.UUID]window, len(due))
	for i := range due {
		d := &due[i]
		last, next := pause.Digests(*d, c.Now(), c.Zone())
		if last.Before(d.UntilAt) { // they have just begun, or chose another hour
			last = d.UntilAt
		}
		at[d.PersonID] = window{after: d.UntilAt, upTo: last}
		d.UntilAt, d.DueAt = last, next
	}
	for _, m := range members {
		gets[m.PersonID] = true
		if m.Paused {
			continue
		}
		w := at[m.PersonID]
		w.group = m.GroupID
		if m.AddedAt.After(w.after) {
			w.after = m.AddedAt
		}
		if to[w] == nil {
			order = append(order, w)
		}
		to[w] = append(to[w], m.Address)
	}
	for _, w := range order {
		if err := digestOf(c, w, to[w]); err != nil {
			return err
		}
	}
	for _, d := range due {
		if !gets[d.PersonID] {
			err = c.Tx.DeleteDigestTime(d.PersonID)
		} else {
			err = c.Tx.SaveDigestTime(d)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// digestOf writes what came to a group within a window to some who get it so: nothing where nothing came.
func digestOf(c *workspace.Change, w window, to []string) error {
	g, err := c.Read.Group(w.group)
	if err != nil || c.Ended(&g) {
		return err
	}
	posts, err := c.Read.PassedBetween(w.group, w.after, w.upTo)
	if err != nil {
		return err
	}
	var parts [][]store.PassedOn
	octets := 0
	for _, p := range posts {
		if last := len(parts) - 1; last < 0 || len(parts[last]) == digestMessages || octets+p.Size > digestOctets {
			parts, octets = append(parts, nil), 0
		}
		parts[len(parts)-1] = append(parts[len(parts)-1], p)
		octets += p.Size
	}
	for i, some := range parts {
		m, err := digest(c, &g, w, some, i+1, len(parts))
		if err != nil {
			return err
		}
		m.Jobs = []store.Job{{MailingID: m.Mailings[0].ID, Recipients: store.Lines(to), AsOf: c.Now(), NextAt: time.Now().UTC()}}
		if err := c.Deliver(m); err != nil {
			return err
		}
	}
	return nil
}

// digest writes one digest: who wrote about what, for whoever reads it, and the messages as they were sent.
func digest(c *workspace.Change, g *store.Group, w window, posts []store.PassedOn, part, parts int) (store.NewMail, error) {
	ids, messages := make([]uuid.UUID, len(posts)), make([]uuid.UUID, len(posts))
	for i, p := range posts {
		ids[i], messages[i] = p.ID, p.MessageID
	}
	mailings, err := c.Read.Mailings(ids)
	if err != nil {
		return store.NewMail{}, err
	}
	read, err := c.Read.Messages(messages, true)
	if err != nil {
		return store.NewMail{}, err
	}
	local, domain, _ := strings.Cut(g.Address, "@")
	id := store.NewID()
	day := workspace.DateIn(g.Language, c.In(w.upTo))
	subject := strings.NewReplacer("{name}", g.Name, "{day}", day, "{count}", workspace.Counted(g.Language, len(posts), "message")).Replace(workspace.Phrase(g.Language, "digest"))
	if parts > 1 {
		subject += fmt.Sprintf(" (%d/%d)", part, parts)
	}
	outer, inner := "ivy-"+store.NewID().String(), "ivy-"+store.NewID().String()
	var h bytes.Buffer
	for _, f := range [][2]string{
		{"List-Id", "<" + strings.Replace(g.Address, "@", ".", 1) + ">"}, {"List-Post", "<mailto:" + g.Address + ">"}, {"List-Owner", "<mailto:" + local + mailaddr.OwnersSuffix + "@" + domain + ">"}, {"Precedence", "list"},
		{"From", mime.QEncoding.Encode("utf-8", g.Name) + " <" + g.Address + ">"}, {"To", "<" + g.Address + ">"}, {"Subject", mime.QEncoding.Encode("utf-8", subject)}, {"Date", c.Now().Format(time.RFC1123Z)},
		{"Message-Id", "<" + id.String() + "@" + domain + ">"}, {"Auto-Submitted", "auto-generated"}, {"Mime-Version", "1.0"}, {"Content-Type", `multipart/mixed; boundary="` + outer + `"`},
	} {
		fmt.Fprintf(&h, "%s: %s\r\n", f[0], f[1])
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "--%s\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n%s\r\n\r\n", outer, subject)
	for i, p := range posts {
		x := read[p.MessageID]
		came := c.In(x.ReceivedAt)
		fmt.Fprintf(&b, "%d. %s\r\n   %s, %s\r\n", i+1, workspace.Cut(x.Subject, 200), x.Author, workspace.DateIn(g.Language, came)+", "+came.Format("15:04"))
	}
	fmt.Fprintf(&b, "\r\n--%s\r\nContent-Type: multipart/digest; boundary=\"%s\"\r\n", outer, inner)
	for _, p := range posts {
		x, p := read[p.MessageID], mailings[p.ID]
		body, err := wholeBody(c, x)
		if errors.Is(err, store.ErrNotFound) { // it is named above; what is gone must not hold up what is there
			continue
		} else if err != nil {
			return store.NewMail{}, err
		}
		var edits []Edit
		if p.Edits != nil {
			if err := json.Unmarshal(p.Edits, &edits); err != nil {
				return store.NewMail{}, fmt.Errorf("read the edits of a mailing: %w", err)
			}
		}
		text, err := io.ReadAll(Edited(bytes.NewReader(body), edits))
		if err != nil {
			return store.NewMail{}, err
		}
		fmt.Fprintf(&b, "\r\n--%s\r\n\r\n", inner) // of type message/rfc822, since it says none
		b.Write(slices.Concat(p.Fields, x.Header, []byte("\r\n"), text))
	}
	fmt.Fprintf(&b, "\r\n--%s--\r\n\r\n--%s--\r\n", inner, outer)
	m := store.Whole(store.Message{ID: id, MessageID: "<" + id.String() + "@" + domain + ">", Author: g.Address, Proven: true, Subject: subject, ReceivedAt: c.Now()}, &g.ID, local+mailaddr.BouncesSuffix+"@"+domain, h.Bytes(), b.Bytes(), nil)
	m.Mailings[0].Kind = store.KindDigest
	return m, nil
}

// wholeBody reads a body.
func wholeBody(c *workspace.Change, x store.Message) ([]byte, error) {
	if x.ShortBody != nil {
		return x.ShortBody, nil
	}
	out := make([]byte, 0, x.Size)
	for part := 0; len(out) < x.Size; part++ {
		row, err := c.Read.Body(x.ID, part)
		if err != nil {
			return nil, err
		}
		out = append(out, row...)
	}
	return out[:x.Size], nil
}

// wanted returns those of some recipients who get a message to a group by itself: not who gets it in a digest, and, of who takes part in
// conversations only, those who wrote in this one.
func wanted(v *workspace.View, group uuid.UUID, all []store.Recipient, thread []byte) ([]store.Recipient, error) {
	if !slices.ContainsFunc(all, func(r store.Recipient) bool { return r.How != store.Each }) {
		return all, nil
	}
	var writers map[uuid.UUID]bool
	if slices.ContainsFunc(all, func(r store.Recipient) bool { return r.How == store.Conversations }) {
		var err error
		if writers, err = v.Read.WritersIn(group, thread); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(all, func(r store.Recipient) bool {
		return r.How == store.Digest || r.How == store.Conversations && !writers[r.Person]
	}), nil
}
