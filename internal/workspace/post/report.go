package post

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"github.com/emersion/go-message"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// report tells the author of a message, once, that it could not be handed to everybody, when
// nothing more is tried. It says nothing of who was refused: that is for those who may see
// who is in the group.
//
// It goes to the return path of the message (RFC 5321, 4.5.5), and where nothing proves who
// wrote it only when it reached nobody, so that few are told of what they did not send.
func (j *Job) report(c *workspace.Change) error {
	back := j.message.ReturnPath
	if j.kind != store.KindPost || back == "" || j.group == nil {
		return nil
	}
	all, err := c.Read.Progress([]uuid.UUID{j.Mailing}, 1)
	if err != nil {
		return err
	}
	p := all[j.Mailing]
	if len(p.Jobs) > 0 || len(p.Failures) == 0 || p.HandedOver > 0 && !j.message.Proven {
		return nil
	}
	if first, err := c.Tx.MarkReported(j.Mailing); err != nil || !first {
		return err
	}
	g, err := c.Read.Group(*j.group)
	if err != nil {
		return err
	}
	m, err := failed(c, &g, j.message, j.Header, p, back)
	if err != nil {
		return err
	}
	return c.Deliver(m)
}

// failed is a report of failed delivery (RFC 3462, RFC 3464).
func failed(c *workspace.Change, g *store.Group, x store.Message, header []byte, p store.Progress, back string) (store.NewMail, error) {
	local, domain, _ := strings.Cut(g.Address, "@")
	id := store.NewID()
	messageID := "<" + id.String() + "@" + domain + ">"
	says := "It reached nobody: the mail system refused it."
	if p.HandedOver > 0 {
		says = "Some of its people did not get it; the mail system refused them."
	}
	from := "postmaster@" + domain
	var h message.Header
	h.SetContentType("multipart/report", map[string]string{"report-type": "delivery-status"})
	h.Set("Auto-Submitted", "auto-replied")
	h.Set("Mime-Version", "1.0")
	h.Set("Message-Id", messageID)
	h.Set("Date", c.Now().Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	h.Set("Subject", "Not delivered to "+g.Address)
	h.Set("To", "<"+back+">")
	h.Set("From", "Mail delivery <"+from+">")
	var b bytes.Buffer
	w, err := message.CreateWriter(&b, h)
	if err != nil {
		return store.NewMail{}, fmt.Errorf("write a report: %w", err)
	}
	status := "5.0.0"
	if f := strings.Fields(p.Failures[0].Reply); len(f) > 1 && strings.HasPrefix(f[1], "5.") && len(f[1]) < 12 {
		status = f[1]
	}
	part := func(kind, text string) error {
		var h message.Header
		h.SetContentType(kind, map[string]string{"charset": "utf-8"})
		h.Set("Content-Transfer-Encoding", "quoted-printable")
		if kind != "text/plain" {
			h = message.Header{}
			h.Set("Content-Type", kind)
		}
		pw, err := w.CreatePart(h)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(pw, text); err != nil {
			return err
		}
		return pw.Close()
	}
	for _, s := range []struct{ kind, text string }{
		{"text/plain", fmt.Sprintf("Your message to %s (%s) could not be delivered.\r\n%s\r\n\r\nIts owners can see what happened, and have it tried again:\r\n%s\r\n",
			g.Name, g.Address, says, local+mailaddr.OwnersSuffix+"@"+domain)},
		{"message/delivery-status", fmt.Sprintf("Reporting-MTA: dns; %s\r\nArrival-Date: %s\r\n\r\nFinal-Recipient: rfc822; %s\r\nAction: failed\r\nStatus: %s\r\n",
			domain, x.ReceivedAt.Format("Mon, 02 Jan 2006 15:04:05 -0700"), g.Address, status)},
		{"text/rfc822-headers", string(cutLines(bytes.TrimSuffix(header, []byte("\r\n")), maxReport))},
	} {
		if err := part(s.kind, s.text); err != nil {
			return store.NewMail{}, fmt.Errorf("write a report: %w", err)
		}
	}
	if err := w.Close(); err != nil {
		return store.NewMail{}, fmt.Errorf("write a report: %w", err)
	}
	header, body, _ := bytes.Cut(b.Bytes(), []byte("\r\n\r\n"))
	m := store.Message{ID: id, MessageID: messageID, Author: from, Proven: true, Subject: "Not delivered to " + g.Address, ReceivedAt: c.Now()}
	return store.Whole(m, &g.ID, "", append(header, "\r\n"...), body, []string{back}), nil
}
