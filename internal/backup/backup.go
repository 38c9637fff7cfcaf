// Package backup takes a workspace's records out of its database into one file, and puts
// them back into an empty one.
//
// A back-up is JSON Lines (one JSON value a line), compressed by gzip (RFC 1952). The first
// line says what it is; each table is a line with its name and columns, then a line for each
// row; the last line says how many rows there were, and the SHA-256 of all before it. What is
// cut, or changed, is refused before anything is put back.
package backup

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	driver "github.com/go-sql-driver/mysql"

	"ivytable.example/ivytable/internal/store"
)

// format is what a back-up says that it is.
const format = "Ivy Table back-up 1"

// head is the first line.
type head struct {
	Format string    `json:"format"`
	Schema int64     `json:"schema"` // the version of the tables
	MadeAt time.Time `json:"made_at"`
}

// table begins the rows of a table.
type table struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
	Binary  []bool   `json:"binary"` // the values of a column are base64
}

// tail is the last line.
type tail struct {
	Rows int64  `json:"rows"`
	Sum  string `json:"sha256"`
}

// Summary says what a back-up holds.
type Summary struct {
	MadeAt time.Time `json:"made_at"`
	Tables int       `json:"tables"`
	Rows   int64     `json:"rows"`
}

// open opens a database in which values are read and written as they are kept.
func open(dsn string) (*sql.DB, error) {
	cfg, err := driver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the DSN can't be read: %w", err)
	}
	cfg.ParseTime, cfg.Loc, cfg.InterpolateParams, cfg.MaxAllowedPacket = false, time.UTC, true, 0
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// Take writes a back-up of the records at dsn to w: all as they are at one moment, whatever
// is changed meanwhile.
func Take(ctx context.Context, dsn string, w io.Writer) (Summary, error) {
	var out Summary
	db, err := open(dsn)
	if err != nil {
		return out, err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return out, fmt.Errorf("reach the database: %w", err)
	}
	defer conn.Close()
	for _, q := range []string{"SET time_zone = '+00:00'", "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"} {
		if _, err := conn.ExecContext(ctx, q); err != nil {
			return out, fmt.Errorf("begin a back-up: %w", err)
		}
	}
	z := gzip.NewWriter(w)
	l := &lines{w: bufio.NewWriterSize(z, 1<<16), sum: sha256.New()}
	out.MadeAt = time.Now().UTC().Truncate(time.Second)
	h := head{Format: format, MadeAt: out.MadeAt}
	if err := conn.QueryRowContext(ctx, "SELECT MAX(version_id) FROM goose_db_version WHERE is_applied").Scan(&h.Schema); err != nil {
		return out, fmt.Errorf("read the version of the tables: %w", err)
	}
	if err := l.write(h); err != nil {
		return out, err
	}
	names, err := tables(ctx, conn)
	if err != nil {
		return out, err
	}
	for _, name := range names {
		if err := takeTable(ctx, conn, name, l); err != nil {
			return out, fmt.Errorf("take %s: %w", name, err)
		}
	}
	out.Tables, out.Rows = len(names), l.rows
	if err := l.write(tail{l.rows, hex.EncodeToString(l.sum.Sum(nil))}); err != nil {
		return out, err
	}
	return out, errors.Join(l.w.Flush(), z.Close())
}

// lines writes values, one a line, and sums them up.
type lines struct {
	w    *bufio.Writer
	sum  hash.Hash
	rows int64
	buf  bytes.Buffer
}

func (l *lines) write(v any) error {
	l.buf.Reset()
	e := json.NewEncoder(&l.buf)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	l.sum.Write(l.buf.Bytes())
	_, err := l.w.Write(l.buf.Bytes())
	return err
}

// querier is a connection or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// tables returns the tables that hold records.
func tables(ctx context.Context, q querier) ([]string, error) {
	return column(ctx, q, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND table_name NOT LIKE 'goose%' ORDER BY table_name")
}

// column returns the values of a query with one column.
func column(ctx context.Context, q querier, query string, args ...any) (out []string, err error) {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("list the tables: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

func quoted(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func takeTable(ctx context.Context, q querier, name string, l *lines) error {
	kept, err := column(ctx, q, "SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? AND is_generated = 'NEVER' ORDER BY ordinal_position", name)
	if err != nil {
		return err
	}
	for i, c := range kept {
		kept[i] = quoted(c)
	}
	rows, err := q.QueryContext(ctx, "SELECT "+strings.Join(kept, ", ")+" FROM "+quoted(name))
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	t := table{Table: name}
	values, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
	for i, c := range columns {
		kind := c.DatabaseTypeName()
		t.Columns = append(t.Columns, c.Name())
		t.Binary = append(t.Binary, strings.Contains(kind, "BLOB") || strings.Contains(kind, "BINARY"))
		into[i] = &values[i]
	}
	if err := l.write(t); err != nil {
		return err
	}
	row := make([]any, len(columns))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, v := range values {
			switch {
			case v == nil:
				row[i] = nil
			case t.Binary[i]:
				row[i] = base64.StdEncoding.EncodeToString(v)
			case !utf8.Valid(v):
				return fmt.Errorf("a value of %s is no text", t.Columns[i])
			default:
				row[i] = string(v)
			}
		}
		l.rows++
		if err := l.write(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// ErrDamaged says that a back-up was cut or changed.
var ErrDamaged = errors.New("the back-up was cut or changed: its end does not fit its contents")

// read calls f with each line of a back-up but the last, which has to fit them.
func read(r io.Reader, f func(line []byte) error) (rows int64, err error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return 0, fmt.Errorf("this is no back-up: %w", err)
	}
	sum := sha256.New()
	in := bufio.NewReaderSize(z, 1<<20)
	var before []byte
	for {
		line, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("%w (%v)", ErrDamaged, err)
		}
		if len(line) == 0 {
			break
		}
		if before != nil {
			sum.Write(before)
			if before[0] == '[' {
				rows++
			}
			if err := f(before); err != nil {
				return 0, err
			}
		}
		before = line
	}
	var t tail
	if before == nil || json.Unmarshal(before, &t) != nil || t.Sum != hex.EncodeToString(sum.Sum(nil)) || t.Rows != rows {
		return 0, ErrDamaged
	}
	return rows, nil
}

// Check reads a back-up from its beginning to its end, and says what it holds. Its error is
// [ErrDamaged] for one that was cut or changed.
func Check(r io.Reader) (Summary, error) {
	var out Summary
	h := head{}
	rows, err := read(r, func(line []byte) error {
		switch {
		case h.Format == "":
			if err := json.Unmarshal(line, &h); err != nil || h.Format != format {
				return errors.New("this is no back-up, or one of another kind: it does not begin with " + format)
			}
		case line[0] == '{':
			out.Tables++
		}
		return nil
	})
	out.MadeAt, out.Rows = h.MadeAt, rows
	return out, err
}

// Restore puts a back-up into the empty database at dsn, all of it or nothing. It brings the
// tables of an older one up to date.
func Restore(ctx context.Context, dsn string, r io.ReadSeeker) (Summary, error) {
	out, err := Check(r)
	if err != nil {
		return out, err
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	db, err := open(dsn)
	if err != nil {
		return out, err
	}
	defer db.Close()
	if err := empty(ctx, db); err != nil {
		return out, err
	}
	var tx *sql.Tx
	defer func() {
		if tx != nil {
			_ = tx.Rollback() // does nothing once it is committed
		}
	}()
	var into insert
	_, err = read(r, func(line []byte) error {
		switch {
		case tx == nil:
			var h head
			if err := json.Unmarshal(line, &h); err != nil {
				return err
			}
			if err := store.Prepare(ctx, dsn, h.Schema); err != nil {
				return err
			}
			conn, err := db.Conn(ctx)
			if err != nil {
				return err
			}
			if _, err := conn.ExecContext(ctx, "SET time_zone = '+00:00'"); err != nil {
				return err
			}
			if tx, err = conn.BeginTx(ctx, nil); err != nil {
				return err
			}
			return clear(ctx, tx)
		case line[0] == '{':
			if err := into.flush(ctx, tx); err != nil {
				return err
			}
			into = insert{}
			return json.Unmarshal(line, &into.table)
		}
		return into.add(ctx, tx, line)
	})
	if err != nil {
		return out, err
	}
	if err := into.flush(ctx, tx); err != nil {
		return out, err
	}
	if err := tx.Commit(); err != nil {
		return out, fmt.Errorf("put the back-up in: %w", err)
	}
	pool, err := store.Open(ctx, dsn) // brings the tables up to date
	if err != nil {
		return out, err
	}
	pool.Close()
	return out, nil
}

// empty checks that a database holds no workspace.
func empty(ctx context.Context, db *sql.DB) error {
	names, err := tables(ctx, db)
	if err != nil {
		return err
	}
	if !slices.Contains(names, "people") {
		if len(names) > 0 {
			return fmt.Errorf("the database has tables already, such as %s: a back-up goes into an empty one", names[0])
		}
		return nil
	}
	var n int
	if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM (SELECT 1 FROM people LIMIT 1) x").Scan(&n); err != nil {
		return err
	}
	if n > 0 {
		return errors.New("there is a workspace already: a back-up goes into an empty place, such as another data folder or a new database")
	}
	return nil
}

// clear takes out what the tables begin with.
func clear(ctx context.Context, tx *sql.Tx) error {
	names, err := tables(ctx, tx)
	for _, name := range names {
		if err == nil {
			_, err = tx.ExecContext(ctx, "DELETE FROM "+quoted(name))
		}
	}
	return err
}

// insert gathers rows of one table.
type insert struct {
	table
	rows   int
	octets int
	args   []any
}

// Bounds of one statement.
const (
	maxRows   = 500
	maxOctets = 1 << 20
)

func (in *insert) add(ctx context.Context, tx *sql.Tx, line []byte) error {
	var row []*string
	if err := json.Unmarshal(line, &row); err != nil || len(row) != len(in.Columns) || len(in.Columns) != len(in.Binary) {
		return fmt.Errorf("a row of %s can't be read", in.Table)
	}
	for i, v := range row {
		switch {
		case v == nil:
			in.args = append(in.args, nil)
		case in.Binary[i]:
			b, err := base64.StdEncoding.DecodeString(*v)
			if err != nil {
				return fmt.Errorf("a value of %s can't be read: %w", in.Table, err)
			}
			in.args = append(in.args, b)
		default:
			in.args = append(in.args, *v)
		}
	}
	in.rows++
	if in.octets += len(line); in.rows >= maxRows || in.octets >= maxOctets || len(in.args) > 30_000 {
		return in.flush(ctx, tx)
	}
	return nil
}

func (in *insert) flush(ctx context.Context, tx *sql.Tx) error {
	if in.rows == 0 {
		return nil
	}
	columns := make([]string, len(in.Columns))
	for i, c := range in.Columns {
		columns[i] = quoted(c)
	}
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",") + ")"
	_, err := tx.ExecContext(ctx, "INSERT INTO "+quoted(in.Table)+" ("+strings.Join(columns, ", ")+") VALUES "+strings.TrimSuffix(strings.Repeat(one+",", in.rows), ","), in.args...)
	in.rows, in.octets, in.args = 0, 0, in.args[:0]
	if err != nil {
		return fmt.Errorf("put rows into %s: %w", in.Table, err)
	}
	return nil
}
