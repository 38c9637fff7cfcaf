package post

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/pause"
)

// Report is what a message says that came back to us.
type Report struct {
	Said   []Said // of each recipient (RFC 3464)
	Words  string // of a report without fields
	Status string // that stands in the words, such as 5.1.1 or 550; "" for none
}

// Said is what a report says of one recipient.
type Said struct {
	Final, Original string // addresses; "" where it doesn't say
	Failed          bool   // it was not delivered, and won't be
	Permanent       bool   // nor would another message be
	Status          string // RFC 3463
	Words           string // of who could not deliver it
}

// about returns what a report says of one of those to whom a transaction went. It counts only for one of them, so that it is tied to a
// delivery, and whoever has none of ours can't make one up.
func (r Report) about(to string) (Said, bool) {
	for _, s := range r.Said {
		if strings.EqualFold(s.Final, to) || strings.EqualFold(s.Original, to) {
			return s, s.Failed
		}
	}
	if len(r.Said) > 0 || !strings.HasPrefix(r.Status, "5") || !mentions(r.Words, to) {
		return Said{}, false
	}
	return Said{Final: to, Failed: true, Permanent: true, Status: r.Status, Words: around(r.Words, r.Status)}, true
}

// mentions reports whether an address stands in words by itself, not as a part of another.
func mentions(words, address string) bool {
	words, address = strings.ToLower(words), strings.ToLower(address)
	part := func(b byte) bool {
		return b == '.' || b == '-' || b == '_' || b == '+' || b >= 'a' && b <= 'z' || b >= '0' && b <= '9'
	}
	for at := 0; ; {
		i := strings.Index(words[at:], address)
		if i < 0 {
			return false
		}
		from, to := at+i, at+i+len(address)
		ends := to == len(words) || !part(words[to]) || (words[to] == '.' && (to+1 == len(words) || !part(words[to+1])))
		if (from == 0 || !part(words[from-1])) && ends {
			return true
		}
		at = to
	}
}

// around is the line of words in which something stands.
func around(words, what string) string {
	for line := range strings.Lines(words) {
		if strings.Contains(line, what) {
			return strings.TrimSpace(line)
		}
	}
	return what
}

// noteReturned records what a report says that came back to the sender of an envelope of ours. What is no report, or says nothing of
// anybody whom that transaction went to, is left alone.
func (s *Service) noteReturned(ctx context.Context, to Destination, r Report) error {
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
			x, failed := r.about(address)
			if !failed {
				continue
			}
			row := store.Return{MailingID: m.ID, Recipient: address, GroupID: m.GroupID, At: c.Now(), Permanent: x.Permanent, Status: workspace.Cut(x.Status, 16), Reply: workspace.Cut(x.Words, 500)}
			first, err := c.Tx.AddReturn(row)
			if err != nil {
				return err
			}
			if !first {
				continue
			}
			some = true
			if !x.Permanent {
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
