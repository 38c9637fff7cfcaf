package store

import (
	"bytes"
	"context"
	"database/sql"
	"time"
)

// convertMail takes messages apart that were kept whole, once for each group, with a row
// for each recipient.
func convertMail(ctx context.Context, tx *sql.Tx) error {
	ids, err := column(ctx, tx, "SELECT id FROM old_messages ORDER BY id")
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := convertMessage(ctx, tx, id); err != nil {
			return err
		}
	}
	return nil
}

func column(ctx context.Context, tx *sql.Tx, query string, args ...any) (out []string, err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var v string
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

func convertMessage(ctx context.Context, tx *sql.Tx, id string) error {
	var raw []byte
	if err := tx.QueryRowContext(ctx, "SELECT raw FROM old_messages WHERE id = ?", id).Scan(&raw); err != nil {
		return err
	}
	header, body, _ := bytes.Cut(raw, []byte("\r\n\r\n"))
	eight := bytes.ContainsFunc(body, func(r rune) bool { return r >= 0x80 })
	exec := func(query string, args ...any) error { _, err := tx.ExecContext(ctx, query, args...); return err }
	err := exec(`INSERT INTO messages (id, message_id, author, author_id, proven, return_path, subject, header, size, eight_bit, received_at)
		SELECT id, message_id, author, author_id, proven, '', subject, ?, ?, ?, received_at FROM old_messages WHERE id = ?`, append(header, '\r', '\n'), len(body), eight, id)
	if err != nil {
		return err
	}
	for part := 0; len(body) > 0; part++ {
		n := min(len(body), BodyRow)
		if err := exec("INSERT INTO message_bodies (message_id, part, octets) VALUES (?, ?, ?)", id, part, body[:n]); err != nil {
			return err
		}
		body = body[n:]
	}
	err = exec(`INSERT INTO mailings (id, message_id, group_id, kind, state, mailbox, sender, fields, decision, received_at, decided_by, reason)
		SELECT id, id, group_id, kind, state, part, sender, '', decision, received_at, decided_by, reason FROM old_messages WHERE id = ?`, id)
	if err != nil {
		return err
	}
	sent, err := column(ctx, tx, "SELECT recipient FROM old_deliveries WHERE message_id = ? AND state = 1", id)
	if err != nil {
		return err
	}
	if lines := Lines(sent); len(sent) > 0 {
		sorted := ReadLines(lines)
		err := exec(`INSERT INTO transmissions (mailing_id, at, people, first, last, recipients)
			SELECT ?, MAX(done_at), ?, ?, ?, ? FROM old_deliveries WHERE message_id = ? AND state = 1`, id, len(sorted), sorted[0], sorted[len(sorted)-1], lines, id)
		if err != nil {
			return err
		}
	}
	queued, err := column(ctx, tx, "SELECT recipient FROM old_deliveries WHERE message_id = ? AND state = 0", id)
	if err != nil {
		return err
	}
	if len(queued) > 0 {
		err := exec(`INSERT INTO jobs (mailing_id, recipients, as_of, handed_to, attempts, next_at, reply)
			SELECT ?, ?, received_at, '', 0, ?, '' FROM old_messages WHERE id = ?`, id, Lines(queued), time.Now().UTC(), id)
		if err != nil {
			return err
		}
	}
	err = exec(`INSERT INTO failures (mailing_id, recipient, given_up, attempts, at, reply)
		SELECT message_id, recipient, TRUE, attempts, COALESCE(done_at, next_at), last_error FROM old_deliveries WHERE message_id = ? AND state = 2`, id)
	if err != nil {
		return err
	}
	return exec("UPDATE mailings SET trouble = EXISTS (SELECT 1 FROM failures f WHERE f.mailing_id = mailings.id) WHERE id = ?", id)
}
