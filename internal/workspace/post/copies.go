package post

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/binary"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/setup"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Copy is what one transaction with the relay hands over: members of a group share one, who is external has their own, with a link
// of their own (RFC 8058).
type Copy struct {
	To     []string
	Sender string // of the envelope, by which what comes back is known; "": nothing is to come back
	Header []byte // with the empty line after it
}

// InTheNameOf are the domains in whose name the message may be signed, that to try first before the other.
func (j *Job) InTheNameOf() []string {
	_, author, _ := strings.Cut(j.message.Author, "@")
	_, group, _ := strings.Cut(j.Sender, "@")
	return setup.SignedBy(author, group, j.message.Proven || j.kind == store.KindNotice)
}

// apart goes before the address of somebody with a copy of their own, so that they come after all others in the order of octets.
const apart = "\U0010FFFF"

// place is where somebody stands in the order in which a job is done.
func (j *Job) place(address string) string {
	_, external := j.externals[address]
	return placeOf(address, external)
}

func placeOf(address string, external bool) string {
	if external {
		return apart + address
	}
	return address
}

// order puts recipients in the order in which they are served, each once, and leaves out those with whom the job is done.
func (j *Job) order(all []store.Recipient) {
	j.externals, j.marks = map[string]store.Recipient{}, map[string]int64{}
	j.To = make([]string, len(all))
	for i, r := range all {
		j.To[i] = r.Address
		if r.External && j.link != "" {
			j.externals[r.Address] = r
		}
	}
	slices.SortFunc(j.To, func(a, b string) int { return strings.Compare(j.place(a), j.place(b)) })
	j.To = slices.Compact(j.To)
	at, found := slices.BinarySearchFunc(j.To, j.job.HandedTo, func(a, done string) int { return strings.Compare(j.place(a), done) })
	if found {
		at++
	}
	j.To = slices.DeleteFunc(j.To[at:], func(a string) bool { return j.taken[a] })
}

// markOf is the mark of the transaction whose first recipient is given; 0 for none.
func (j *Job) markOf(first string) int64 {
	j.marking.Lock()
	defer j.marking.Unlock()
	return j.marks[first]
}

// Next returns what goes to the next recipients: at most so many copies, each to at most so many people; none at the end. Who has left
// the group since the job was opened is left out.
func (j *Job) Next(ctx context.Context, copies, people int) ([]Copy, error) {
	if time.Since(j.readAt) > staleAfter && len(j.To) > 0 && j.job.Recipients == nil {
		if err := j.Open(ctx); err != nil {
			return nil, err
		}
	}
	var out []Copy
	for rest := j.To; len(rest) > 0 && len(out) < copies; {
		n := 1
		who, external := j.externals[rest[0]]
		for !external && n < min(people, len(rest)) && j.place(rest[n]) == rest[n] {
			n++
		}
		c := Copy{To: rest[:n], Sender: j.Sender, Header: j.Header}
		if (j.kind == store.KindPost || j.kind == store.KindDigest) && j.Sender != "" {
			c.Sender = j.mark(c.To[0])
		}
		if j.link != "" {
			c.Header = j.withLink(who, external)
		}
		out, rest = append(out, c), rest[n:]
	}
	return out, nil
}

// Part is a copy for some of those whom another is for.
func (j *Job) Part(c Copy, to []string) Copy {
	out := Copy{To: to, Sender: c.Sender, Header: c.Header}
	if strings.HasPrefix(c.Sender, backTo) {
		out.Sender = j.mark(to[0])
	}
	return out
}

// withLink is the header with how one unsubscribes: by a link of one's own, or on the group's page, or by mail to those who run it (RFC
// 2369, RFC 8058).
func (j *Job) withLink(who store.Recipient, external bool) []byte {
	page, click := "<"+j.link+"/groups/"+j.group.String()+">", ""
	subscribe := "List-Subscribe: " + page + "\r\n"
	if external {
		page, subscribe = "<"+j.link+"/own/"+member.SignOwn(j.code, who.Group, who.Person, j.now)+">", ""
		click = "List-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n"
	}
	local, domain, _ := strings.Cut(j.Sender, "@")
	byMail := ",\r\n <mailto:" + strings.TrimSuffix(local, mailaddr.BouncesSuffix) + mailaddr.RequestSuffix + "@" + domain + "?subject=unsubscribe>"
	return slices.Concat([]byte("List-Help: "+page+"\r\n"+subscribe+"List-Unsubscribe: "+page+byMail+"\r\n"+click), j.Header)
}

// backTo is how addresses begin to which what the relay can't deliver comes back.
const backTo = "returned-"

var letters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// markSize is how many octets of a mark are random: too many to be guessed.
const markSize = 6

// mark makes the sender of the envelope of one transaction, whose first recipient is given: an address that nobody can guess.
func (j *Job) mark(first string) string {
	j.marking.Lock()
	defer j.marking.Unlock()
	var b [8]byte
	if j.marks[first] == 0 {
		rand.Read(b[2:])
		j.marks[first] = int64(binary.BigEndian.Uint64(b[:]))
	}
	binary.BigEndian.PutUint64(b[:], uint64(j.marks[first]))
	_, domain, _ := strings.Cut(j.Sender, "@")
	return backTo + letters.EncodeToString(append(j.Mailing[:], b[2:]...)) + "@" + domain
}

// readMark reads the local part of an address that mark made.
func readMark(a mailaddr.Address) (mailing uuid.UUID, mark int64, ok bool) {
	local, _, _ := strings.Cut(a.Key(), "@")
	code, ok := strings.CutPrefix(local, backTo)
	b, err := letters.DecodeString(code)
	if !ok || err != nil || len(b) != 16+markSize {
		return mailing, 0, false
	}
	copy(mailing[:], b)
	var m [8]byte
	copy(m[2:], b[16:])
	return mailing, int64(binary.BigEndian.Uint64(m[:])), true
}

// linksIn reports whether mail has links in its header by which one unsubscribes.
func linksIn(v *workspace.View, kind string, mailbox Mailbox) bool {
	return (kind == store.KindPost || kind == store.KindDigest) && mailbox == ToGroup && v.Link("") != ""
}

// linked reads what links in messages to a group are made of.
func (j *Job) linked(ctx context.Context, v *workspace.View) (err error) {
	j.link = ""
	if j.group == nil || !linksIn(v, j.kind, j.mailbox) {
		return nil
	}
	if j.code, err = j.s.k.MailKey(ctx, member.OwnPurpose); err != nil {
		return err
	}
	j.link, j.now = v.Link(""), v.Now()
	return nil
}
