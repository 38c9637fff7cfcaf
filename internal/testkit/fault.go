package testkit

import (
	"context"
	"database/sql/driver"
	"sync"

	"github.com/go-sql-driver/mysql"
)

// Fault has the database fail at one statement. Its Intercept is for [store.Pool.Intercept].
type Fault struct {
	At       int    // the statement, counted from 1
	Deadlock bool   // it fails by a deadlock; else the connection is lost
	Answer   bool   // COMMIT is done, and its answer is lost, whichever statement it is
	Query    string // at which it failed; "": there were fewer statements

	mu   sync.Mutex
	seen int
}

// Intercept fails the statement. On a deadlock the database rolls everything back and commits what follows by itself; the change is
// then not begun again, so that nothing of it may be left.
func (f *Fault) Intercept(_ context.Context, c driver.Conn, query string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	on := c.(driver.ExecerContext)
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
		return &mysql.MySQLError{Number: 1213, Message: "Deadlock found when trying to get lock; try restarting transaction"}
	}
	_ = c.Close()
	return mysql.ErrInvalidConn
}
