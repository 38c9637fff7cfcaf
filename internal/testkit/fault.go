package testkit

import (
	"context"
	"database/sql/driver"
	"regexp"
	"sync"

	"github.com/go-sql-driver/mysql"
)

// Fault has the database fail at one statement. Its Intercept is for [store.Pool.Intercept].
type Fault struct {
	At       int    // the statement, counted from 1
	Deadlock bool   // it fails by a deadlock; else the connection is lost
	Answer   bool   // COMMIT is done, and its answer is lost, whichever statement it is
	Query    string // at which it failed; "": there were fewer statements
	Kept     bool   // something may have been kept: a commit, or a write outside a transaction

	mu   sync.Mutex
	seen int
	in   map[driver.Conn]bool // connections in a transaction
}

var reading = regexp.MustCompile(`^\s*(SELECT|WITH|BEGIN|SHOW)\b`)

// note notes whether a statement that is sent may keep something.
func (f *Fault) note(c driver.Conn, query string) {
	f.Kept = f.Kept || query == "COMMIT" || !f.in[c] && !reading.MatchString(query)
	f.in[c] = query != "COMMIT" && (f.in[c] || query == "BEGIN")
}

// Intercept fails the statement. On a deadlock the database rolls everything back and commits what follows by itself; the change is
// then not begun again, so that nothing of it may be left.
func (f *Fault) Intercept(_ context.Context, c driver.Conn, query string) (err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	on := c.(driver.ExecerContext)
	defer func() {
		if err == nil {
			f.note(c, query)
		}
	}()
	if f.in == nil {
		f.in = map[driver.Conn]bool{}
	}
	if f.seen++; f.Answer {
		if f.Query != "" || query != "COMMIT" {
			return nil
		}
		f.Query = query
		if _, err := on.ExecContext(context.Background(), "COMMIT", nil); err != nil {
			return err
		}
		_ = c.Close()
		return mysql.ErrInvalidConn
	}
	switch {
	case f.Query != "" && query == "BEGIN":
		return mysql.ErrInvalidConn
	case f.Query != "" || f.seen != f.At:
		return nil
	}
	f.Query = query
	if f.Deadlock && query != "BEGIN" {
		if _, err := on.ExecContext(context.Background(), "ROLLBACK", nil); err != nil {
			return err
		}
		f.in[c] = false
		return &mysql.MySQLError{Number: 1213, Message: "Deadlock found when trying to get lock; try restarting transaction"}
	}
	_ = c.Close()
	return mysql.ErrInvalidConn
}
