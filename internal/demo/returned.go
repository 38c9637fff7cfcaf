package demo

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/workspace/post"
)

// closed is an outsider whose mailbox was closed; mail of these days comes back.
const closed = "orders@tidefuel.example"

var comesBack = []int{9, 6, 3}

// order writes to a group with that outsider in it, on days when that comes back.
func (f *filler) order(ctx context.Context, back int) error {
	if !slices.Contains(comesBack, back) {
		return nil
	}
	mark, err := f.Post.Marker(ctx)
	if err != nil {
		return err
	}
	const group = "fuel-orders@merrowline.example"
	g, err := f.Group.Read(ctx, f.ines, group)
	if err != nil {
		return err
	}
	return f.send(ctx, mark, fmt.Sprintf("order-%d", back), message{from: g.Owners[0].Address, to: group, subject: "Marine diesel for the week", text: "As last week, and two drums of oil.", proven: true})
}

// returned sends what comes back of it.
func (f *filler) returned(ctx context.Context, back int) error {
	if f.went == "" || !slices.Contains(comesBack, back) {
		return nil
	}
	a, err := mailaddr.Parse(f.went)
	if err != nil {
		return err
	}
	to, err := f.Post.Find(ctx, a, true)
	if err != nil {
		return err
	}
	header := "From: Mail Delivery <mailer-daemon@tidefuel.example>\r\nSubject: Undelivered\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n"
	body := "--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mail.tidefuel.example\r\n\r\nFinal-Recipient: rfc822; " + closed + "\r\nAction: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1 This mailbox was closed\r\n--b--\r\n"
	author, err := mailaddr.Parse("mailer-daemon@tidefuel.example")
	if err != nil {
		return err
	}
	return f.Post.Accept(ctx, post.Arrived{MessageID: fmt.Sprintf("<returned-%d@tidefuel.example>", back), Author: author, Automatic: true, Subject: "Undelivered", Header: []byte(header), Body: strings.NewReader(body), Size: len(body),
		To: []post.Incoming{{To: to}}, Report: mail.ReadReport(author, []byte(header), strings.NewReader(body))})
}
