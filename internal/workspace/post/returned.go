package post

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/returned"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/pause"
)

// noteReturned records what a report says that came back to the sender of an envelope of ours. What is no report, or says nothing of
// anybody whom that transaction went to, is left alone.
func (s *Service) noteReturned(ctx context.Context, to Destination, r returned.Report) error {
	code, err := s.k.MailKey(ctx, member.OwnPurpose)
	if err != nil {
		return err
	}
	return s.k.Do(ctx, workspace.Actor{Via: "smtp"}, func(c *workspace.Change) error {
		sent, err := c.Read.TransmissionOf(to.returned.mailing, to.returned.mark)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		m, err := c.Read.Mailing(to.returned.mailing)
		if err != nil || m.GroupID == nil {
			return err
		}
		g, err := c.Read.Group(*m.GroupID)
		if err != nil {
			return err
		}
		some := false
		for _, address := range sent {
			x, failed := r.About(address)
			if !failed {
				continue
			}
			row := store.Return{MailingID: m.ID, Recipient: address, GroupID: m.GroupID, At: c.Now(), Permanent: x.Lasting(), Status: workspace.Cut(x.Status, 16), Reply: workspace.Cut(x.Words, 500)}
			first, err := c.Tx.AddReturn(row)
			if err != nil {
				return err
			}
			if !first {
				continue
			}
			some = true
			if !row.Permanent {
				continue
			}
			own := func(p store.Person) (string, error) { return "/own/" + member.SignOwn(code, g.ID, p.ID, c.Now()), nil }
			if _, err := pause.Returned(c, &g, strings.ToLower(address), row.Reply, own); err != nil {
				return err
			}
		}
		if !some {
			return nil
		}
		return reachedNobody(c, &g, m)
	})
}

// reachedNobody tells the author of a message, once, where it came back from everybody whom it went to.
func reachedNobody(c *workspace.Change, g *store.Group, m store.Mailing) error {
	all, err := c.Read.Progress([]uuid.UUID{m.ID}, 1)
	if err != nil {
		return err
	}
	back, err := c.Read.ReturnsOf(m.ID)
	p := all[m.ID]
	if err != nil || len(p.Jobs) > 0 || len(back) < p.HandedOver {
		return err
	}
	read, err := c.Read.Messages([]uuid.UUID{m.MessageID}, true)
	if err != nil {
		return err
	}
	x := read[m.MessageID]
	if x.ReturnPath == "" || m.Kind != store.KindPost {
		return nil
	}
	if first, err := c.Tx.MarkReported(m.ID); err != nil || !first {
		return err
	}
	p.HandedOver, p.Failures = 0, []store.Failure{{Reply: "550 " + back[0].Status}}
	report, err := failed(c, g, x, slices.Concat(m.Fields, x.Header, []byte("\r\n")), p, x.ReturnPath)
	if err != nil {
		return err
	}
	return c.Deliver(report)
}
