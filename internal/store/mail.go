package store

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// What a mailing is.
const (
	KindPost   = "post"   // written to a group
	KindNotice = "notice" // written by the service
	KindBounce = "bounce" // came back from a delivery
	KindDigest = "digest" // posts to a group together
)

// Where a mailing stands.
const (
	Accepted = "accepted"
	Waiting  = "waiting" // for approval
	Declined = "declined"
)

// Message is mail that was taken in or written by the service. It is kept once, whatever the number of groups that it was sent to; with
// its body where that has at most [ShortBody] octets, as most have, else in rows of [BodyRow] octets.
type Message struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	MessageID  string
	Author     string
	AuthorID   *uuid.UUID
	Proven     bool
	ReturnPath string // of the envelope on the way in
	Subject    string
	Header     []byte // what is the same for every destination, byte for byte, without the empty line after it
	Size       int    // of the body, in octets
	EightBit   bool   // the body has octets over 127
	ShortBody  []byte // nil where it is in rows of its own
	Thread     []byte // of the conversation that it is in, the same for all messages of one; 16 octets
	ReceivedAt time.Time
}

// Mailing is a message on its way to one destination: a group, its owners, or whom the
// service writes to.
type Mailing struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	MessageID  uuid.UUID
	GroupID    *uuid.UUID
	Kind       string
	State      string
	Mailbox    int8   // which address of the group it was sent to, as the workspace numbers them
	Sender     string // of the envelope on the way out
	Fields     []byte // what goes before the message's header to this destination
	Edits      []byte // what is put into its body for this destination, as JSON; nil: nothing
	Decision   json.RawMessage
	ReceivedAt time.Time
	PassedAt   *time.Time // when it was approved; nil: it did not wait
	DecidedBy  string
	Reason     string
	Trouble    bool // it could not be handed to everybody, or not yet
	Reported   bool // the author was told that it could not
	Told       int8 // up to which step people were told that it waits
}

// Job is a mailing that is to be handed to the relay.
type Job struct {
	ID         int64
	MailingID  uuid.UUID
	Recipients []byte    // one a line, in order; nil: those of the group at AsOf who still are
	AsOf       time.Time // in the workspace's time
	HandedTo   string    // the last recipient, in the order of octets, with whom it is done
	Attempts   int       // that came to nothing
	NextAt     time.Time
	Worker     *uuid.UUID // whose it is until NextAt
	Reply      string     // why the last attempt came to nothing
}

// Transmission is one transaction in which the relay took a mailing over.
type Transmission struct {
	ID          int64
	MailingID   uuid.UUID
	At          time.Time
	People      int
	First, Last string // of the recipients, in the order of octets
	Recipients  []byte // one a line
	Mark        int64  // by which what comes back from it is known; 0: nothing is
	JobID       int64  // that handed it over; 0: it is not known
}

// Failure is a recipient whom the relay refused, or put off.
type Failure struct {
	MailingID uuid.UUID `gorm:"primaryKey"`
	Recipient string    `gorm:"primaryKey"`
	GivenUp   bool
	Attempts  int
	At        time.Time
	Reply     string // of the relay
}

// ShortBody is how many octets a body has at most that is kept with its message; BodyRow is how many are in one row of another.
const (
	ShortBody = 64 << 10
	BodyRow   = 256 << 10
)

// NewMail is a message with its body, where it goes, and what is to be done about it.
type NewMail struct {
	Message  Message
	Body     io.ReaderAt // of Message.Size octets
	Mailings []Mailing
	Jobs     []Job
}

// AddMail records messages. It says in their jobs under which identifiers these are.
func (s *Tx) AddMail(all ...NewMail) error {
	var messages, mailings, bodies [][]any
	var jobs []*Job
	octets := 0
	flush := func() error {
		err := s.insert("record bodies", "message_bodies", "message_id, part, octets", bodies)
		bodies, octets = bodies[:0], 0
		return err
	}
	for i, m := range all {
		x := m.Message
		if x.ShortBody = nil; x.Size <= ShortBody {
			var err error
			if x.ShortBody, err = octetsOf(m.Body, 0, x.Size); err != nil {
				return err
			}
		}
		messages = append(messages, []any{x.ID, x.MessageID, x.Author, x.AuthorID, x.Proven, x.ReturnPath, x.Subject, x.Header, x.Size, x.EightBit, x.ShortBody, append(x.Thread, make([]byte, 16)...)[:16], x.ReceivedAt})
		for k := range m.Jobs {
			jobs = append(jobs, &all[i].Jobs[k])
		}
		for _, x := range m.Mailings {
			if x.Fields == nil {
				x.Fields = []byte{}
			}
			mailings = append(mailings, []any{x.ID, x.MessageID, x.GroupID, x.Kind, x.State, x.Mailbox, x.Sender, x.Fields, x.Edits, x.Decision, x.ReceivedAt, x.DecidedBy, x.Reason, x.Trouble, x.Reported, x.Told})
		}
		for at := 0; x.ShortBody == nil && at < x.Size; at += BodyRow {
			row, err := octetsOf(m.Body, at, min(BodyRow, x.Size-at))
			if err != nil {
				return err
			}
			bodies = append(bodies, []any{m.Message.ID, at / BodyRow, row})
			if octets += len(row); octets >= 2*BodyRow {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	if len(all) > 0 {
		s.proof = proof{"messages", all[0].Message.ID}
	}
	return errors.Join(flush(),
		s.insert("record messages", "messages", "id, message_id, author, author_id, proven, return_path, subject, header, size, eight_bit, short_body, thread, received_at", messages),
		s.insert("record mailings", "mailings", "id, message_id, group_id, kind, state, mailbox, sender, fields, edits, decision, received_at, decided_by, reason, trouble, reported, told", mailings),
		s.addJobs(jobs), s.notePosts(all))
}

// octetsOf reads so many octets of a body; it is an error where there are fewer.
func octetsOf(body io.ReaderAt, at, n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(io.NewSectionReader(body, int64(at), int64(n)), b)
	return b, wrap("read a body", err)
}

// insert writes rows in the columns of a table, past the mapper: it would cost as much as the database.
func (s *Tx) insert(doing, table, columns string, rows [][]any) error {
	return inBatches(rows, func(rows [][]any) error {
		query, args := insertion(table, columns, rows)
		_, err := s.db.Statement.ConnPool.ExecContext(s.db.Statement.Context, query, args...)
		return wrap(doing, err)
	})
}

func insertion(table, columns string, rows [][]any) (query string, args []any) {
	one := "(?" + strings.Repeat(", ?", len(rows[0])-1) + ")"
	for _, r := range rows {
		args = append(args, r...)
	}
	return "INSERT INTO " + table + " (" + columns + ") VALUES " + one + strings.Repeat(", "+one, len(rows)-1), args
}

// noted is how exactly it is noted when a group was last written to.
const noted = time.Minute

// notePosts notes when groups were last written to, to the minute.
func (s *Tx) notePosts(all []NewMail) error {
	last := map[uuid.UUID]time.Time{}
	for _, n := range all {
		for _, m := range n.Mailings {
			if m.Kind == KindPost && m.State == Accepted && m.Mailbox == 0 && m.GroupID != nil && !s.memory.postNoted(*m.GroupID, m.ReceivedAt) {
				last[*m.GroupID] = m.ReceivedAt
			}
		}
	}
	var rows [][]any
	for id, at := range last {
		rows = append(rows, []any{id, at})
	}
	slices.SortFunc(rows, func(a, b []any) int { x, y := a[0].(uuid.UUID), b[0].(uuid.UUID); return bytes.Compare(x[:], y[:]) })
	err := inBatches(rows, func(rows [][]any) error {
		query, args := insertion("group_posts", "group_id, last_at", rows)
		_, err := s.db.Statement.ConnPool.ExecContext(s.db.Statement.Context, query+" ON DUPLICATE KEY UPDATE last_at = GREATEST(last_at, VALUES(last_at))", args...)
		return wrap("note posts", err)
	})
	if s.posts == nil {
		s.posts = last
	}
	maps.Copy(s.posts, last)
	return err
}

// Whole is a message that is written by the service, with whom it goes to.
func Whole(m Message, g *uuid.UUID, sender string, header, body []byte, to []string) NewMail {
	m.Header, m.Size = header, len(body)
	m.EightBit = bytes.ContainsFunc(body, func(r rune) bool { return r >= 0x80 })
	mailing := Mailing{ID: m.ID, MessageID: m.ID, GroupID: g, Kind: KindNotice, State: Accepted, Sender: sender, Decision: json.RawMessage("{}"), ReceivedAt: m.ReceivedAt}
	return NewMail{Message: m, Body: bytes.NewReader(body), Mailings: []Mailing{mailing},
		Jobs: []Job{{MailingID: m.ID, Recipients: Lines(to), AsOf: m.ReceivedAt, NextAt: time.Now().UTC()}}}
}

func create[R any](s *Tx, doing string, rows []R) error {
	return inBatches(rows, func(rows []R) error { return wrap(doing, s.db.Create(&rows).Error) })
}

// AddJobs queues mailings.
func (s *Tx) AddJobs(jobs []Job) error {
	all := make([]*Job, len(jobs))
	for i := range jobs {
		all[i] = &jobs[i]
	}
	return s.addJobs(all)
}

// addJobs queues mailings, and says in their jobs under which identifiers these are.
func (s *Tx) addJobs(jobs []*Job) error {
	return inBatches(jobs, func(jobs []*Job) error {
		rows := make([][]any, len(jobs))
		for i, j := range jobs {
			rows[i] = []any{j.MailingID, j.Recipients, j.AsOf, j.HandedTo, j.Attempts, j.NextAt, j.Worker, j.Reply}
		}
		query, args := insertion("jobs", "mailing_id, recipients, as_of, handed_to, attempts, next_at, worker, reply", rows)
		out, err := s.db.Statement.ConnPool.QueryContext(s.db.Statement.Context, query+" RETURNING id", args...)
		if err != nil {
			return wrap("queue mail", err)
		}
		defer out.Close()
		for i := 0; out.Next() && i < len(jobs); i++ {
			if err := out.Scan(&jobs[i].ID); err != nil {
				return wrap("queue mail", err)
			}
		}
		return wrap("queue mail", out.Err())
	})
}

// Body returns a message's body where it is short, else one row of it; ErrNotFound after the last.
func (s *Reads) Body(message uuid.UUID, part int) (octets []byte, err error) {
	err = s.db.Raw("SELECT COALESCE(m.short_body, b.octets) FROM messages m LEFT JOIN message_bodies b ON b.message_id = m.id AND b.part = ? WHERE m.id = ?", part, message).Row().Scan(&octets)
	if err == nil && octets == nil {
		err = sql.ErrNoRows
	}
	return octets, wrap("read a body", err)
}

// Mailing returns a mailing.
func (s *Reads) Mailing(id uuid.UUID) (m Mailing, err error) {
	err = s.db.Take(&m, "id = ?", id).Error
	return m, wrap("read a mailing", err)
}

// Messages returns messages by their identifiers; with their headers, and bodies where they are short, where asked for.
func (s *Reads) Messages(ids []uuid.UUID, whole bool) (map[uuid.UUID]Message, error) {
	out := make(map[uuid.UUID]Message, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	db := s.db
	if !whole {
		db = db.Omit("header", "short_body")
	}
	var rows []Message
	if err := db.Find(&rows, "id IN ?", ids).Error; err != nil {
		return nil, wrap("read messages", err)
	}
	for _, m := range rows {
		out[m.ID] = m
	}
	return out, nil
}

// LockMailing returns a mailing, and keeps others from deciding it.
func (s *Tx) LockMailing(id uuid.UUID) (m Mailing, err error) {
	if err := s.order(rankEntries); err != nil {
		return m, err
	}
	err = s.forUpdate().Take(&m, "id = ?", id).Error
	return m, wrap("read a mailing", err)
}

// DecideMailing records what became of a mailing that waited.
func (s *Tx) DecideMailing(m Mailing, state, by, reason string, at time.Time) error {
	set := map[string]any{"state": state, "decided_by": by, "reason": reason}
	if state == Accepted {
		set["passed_at"] = at
	}
	err := s.db.Model(&Mailing{}).Where("id = ?", m.ID).Updates(set).Error
	if err != nil {
		return wrap("decide a mailing", err)
	}
	m.State = state
	return s.notePosts([]NewMail{{Mailings: []Mailing{m}}})
}

// Troubled returns a page of mailings that could not be handed to everybody, or not yet,
// oldest first: all, or those to one group, or to the groups that person runs and those of some areas.
func (s *Reads) Troubled(person, group uuid.UUID, areas Areas, after Cursor, limit int) (Page[Mailing], error) {
	db := s.db.Model(&Mailing{}).Where("trouble")
	if group != uuid.Nil {
		db = db.Where("group_id = ?", group)
	}
	if person != uuid.Nil {
		of, err := areas.or(condition{"group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= 2)", []any{person}}, "group_id")
		if err != nil {
			return Page[Mailing]{}, err
		}
		db = db.Where(of.sql, of.args...)
	}
	return page(s, db, after, limit, byArrival)
}

var byArrival = sortKey[Mailing]{column: "received_at", value: func(m Mailing) (string, uuid.UUID) { return m.ReceivedAt.Format(dbTime), m.ID }}

// Held returns how many posts to a group wait for approval, and of how many octets.
func (s *Reads) Held(group uuid.UUID) (posts, octets int64, err error) {
	err = s.db.Raw("SELECT COUNT(*), COALESCE(SUM(m.size), 0) FROM mailings g JOIN messages m ON m.id = g.message_id WHERE g.group_id = ? AND g.kind = ? AND g.state = ?",
		group, KindPost, Waiting).Row().Scan(&posts, &octets)
	return posts, octets, wrap("count held posts", err)
}

// ForgetBounces deletes what came back to a group but for the last few reports.
func (s *Tx) ForgetBounces(group uuid.UUID, keep int) error {
	var old []Mailing
	err := s.db.Where("group_id = ? AND kind = ? AND state = ?", group, KindBounce, Accepted).Order("received_at DESC").Offset(keep).Limit(1000).Find(&old).Error
	if err != nil {
		return wrap("read what came back", err)
	}
	return s.deleteMail(old)
}

// deleteMail deletes mailings, and messages of which none is left.
func (s *Tx) deleteMail(all []Mailing) error {
	if len(all) == 0 {
		return nil
	}
	ids, messages := make([]uuid.UUID, len(all)), make([]uuid.UUID, len(all))
	for i, m := range all {
		ids[i], messages[i] = m.ID, m.MessageID
	}
	for _, q := range []string{
		"DELETE FROM jobs WHERE mailing_id IN ?", "DELETE FROM failures WHERE mailing_id IN ?",
		"DELETE FROM transmissions WHERE mailing_id IN ?", "DELETE FROM returns WHERE mailing_id IN ?", "DELETE FROM mailings WHERE id IN ?",
	} {
		if err := s.db.Exec(q, ids).Error; err != nil {
			return wrap("forget mail", err)
		}
	}
	for _, q := range []string{
		"DELETE b FROM message_bodies b WHERE b.message_id IN ? AND NOT EXISTS (SELECT 1 FROM mailings m WHERE m.message_id = b.message_id)",
		"DELETE m FROM messages m WHERE m.id IN ? AND NOT EXISTS (SELECT 1 FROM mailings x WHERE x.message_id = m.id)",
	} {
		if err := s.db.Exec(q, messages).Error; err != nil {
			return wrap("forget mail", err)
		}
	}
	return nil
}

// ForgetMail deletes up to limit mailings that came before a moment, are done with and wait
// for nobody, and says whether there may be more.
func (s *Tx) ForgetMail(before time.Time, limit int) (more bool, err error) {
	var old []Mailing
	err = s.db.Where("received_at < ? AND state <> ? AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.mailing_id = mailings.id)", before, Waiting).
		Order("received_at").Limit(limit).Find(&old).Error
	if err != nil {
		return false, wrap("read old mail", err)
	}
	return len(old) == limit, s.deleteMail(old)
}
