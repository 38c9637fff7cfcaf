package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"sync/atomic"

	mysql "github.com/go-sql-driver/mysql"
)

// A database that ends a transaction by itself, as on a deadlock (error 1213), has rolled everything back, and what the
// connection is sent afterwards commits statement by statement. So the connections of a [Pool] refuse every further
// statement of a transaction after its first fatal error, and its commit too, whatever the code above made of that error.

// connector opens connections that do so.
type connector struct {
	driver.Connector
	before atomic.Pointer[Interceptor]
}

// Interceptor is called before a statement is sent, with the connection that it would be sent on, for tests that have the
// database fail: the statement is not sent and fails with the error that it returns. BEGIN and COMMIT are statements too.
type Interceptor func(ctx context.Context, c driver.Conn, query string) error

func (c *connector) intercept(ctx context.Context, conn driver.Conn, query string) error {
	if before := c.before.Load(); before != nil {
		return (*before)(ctx, conn, query)
	}
	return nil
}

// transaction is what happened to the transaction that was begun with a context which has it.
type transaction struct {
	fatal   error // the first error after which nothing of it holds
	unknown bool  // the connection was lost while it was committed
}

type transactionKey struct{}

func (c *connector) Connect(ctx context.Context) (driver.Conn, error) {
	inner, err := c.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &connection{inner.(mysqlConn), c, nil}, nil
}

// mysqlConn is what the driver's connections do.
type mysqlConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

type connection struct {
	mysqlConn
	from *connector
	tx   *transaction // that it is in; nil: none
}

// survivable are the errors of the database after which a transaction goes on: the statement was not done, and the code
// asks about that. After every other one nothing of the transaction is kept.
var survivable = map[uint16]bool{
	1062: true, // there is such a row already
	1969: true, // a reading statement took longer than it may
}

// broken reports whether the end of a statement ends its transaction.
func broken(err error) bool {
	if err == nil || err == driver.ErrSkip || err == io.EOF {
		return false
	}
	var m *mysql.MySQLError
	return !errors.As(err, &m) || !survivable[m.Number]
}

// away are the errors of a database that can't do its work at the moment, though the statement was right.
var away = map[uint16]bool{
	1021: true, 1114: true, // no room on the disk
	1040: true, 1203: true, // too many connections
	1047: true, 1053: true, 1290: true, 1927: true, // a node that is not ready, stops, only reads, or ended the connection
	1205: true, 1213: true, // locks that others have
}

// Away reports whether an error says that the database is not there or can't do its work at the moment.
func Away(err error) bool {
	var m *mysql.MySQLError
	if errors.As(err, &m) {
		return away[m.Number]
	}
	var n net.Error
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.As(err, &n) || errors.Is(err, ErrUnknown)
}

// begin says whether a statement may be sent.
func (c *connection) begin(ctx context.Context, query string) error {
	if c.tx != nil && c.tx.fatal != nil {
		return c.tx.fatal
	}
	return c.end(c.from.intercept(ctx, c.mysqlConn, query))
}

// end notes how a statement ended.
func (c *connection) end(err error) error {
	if c.tx != nil && c.tx.fatal == nil && broken(err) {
		c.tx.fatal = err
	}
	return err
}

func (c *connection) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	if err := c.from.intercept(ctx, c.mysqlConn, "BEGIN"); err != nil {
		return nil, err
	}
	tx, err := c.mysqlConn.BeginTx(ctx, o)
	if err != nil {
		return nil, err
	}
	c.tx, _ = ctx.Value(transactionKey{}).(*transaction)
	if c.tx == nil {
		c.tx = &transaction{}
	}
	return ended{tx, c}, nil
}

func (c *connection) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if err := c.begin(ctx, query); err != nil {
		return nil, err
	}
	r, err := c.mysqlConn.ExecContext(ctx, query, args)
	return r, c.end(err)
}

func (c *connection) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	if err := c.begin(ctx, query); err != nil {
		return nil, err
	}
	r, err := c.mysqlConn.QueryContext(ctx, query, args)
	return c.rows(watchOf(ctx), r, err)
}

func (c *connection) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	if c.tx != nil && c.tx.fatal != nil {
		return nil, c.tx.fatal
	}
	s, err := c.mysqlConn.PrepareContext(ctx, query)
	if err != nil {
		return nil, c.end(err)
	}
	return &statement{s.(mysqlStmt), c, query}, nil
}

func (c *connection) rows(watch *Watch, r driver.Rows, err error) (driver.Rows, error) {
	if err != nil {
		return nil, c.end(err)
	}
	return &result{r.(mysqlRows), c, watch}, nil
}

// mysqlStmt is what the driver's prepared statements do.
type mysqlStmt interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
	driver.NamedValueChecker
}

type statement struct {
	mysqlStmt
	c     *connection
	query string
}

func (s *statement) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	if err := s.c.begin(ctx, s.query); err != nil {
		return nil, err
	}
	r, err := s.mysqlStmt.ExecContext(ctx, args)
	return r, s.c.end(err)
}

func (s *statement) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	if err := s.c.begin(ctx, s.query); err != nil {
		return nil, err
	}
	r, err := s.mysqlStmt.QueryContext(ctx, args)
	return s.c.rows(watchOf(ctx), r, err)
}

// mysqlRows is what the driver's results do.
type mysqlRows interface {
	driver.RowsNextResultSet
	driver.RowsColumnTypeDatabaseTypeName
	driver.RowsColumnTypeNullable
	driver.RowsColumnTypePrecisionScale
	driver.RowsColumnTypeScanType
}

type result struct {
	mysqlRows
	c     *connection
	watch *Watch
}

func (r *result) Next(dest []driver.Value) error {
	err := r.mysqlRows.Next(dest)
	if err != nil && r.c.tx == nil {
		r.watch.note(err)
	}
	return r.c.end(err)
}

// ended is a transaction that is not committed after a fatal error.
type ended struct {
	driver.Tx
	c *connection
}

func (t ended) Commit() error {
	tx := t.c.tx
	t.c.tx = nil
	if tx.fatal != nil {
		_ = t.Tx.Rollback()
		return tx.fatal
	}
	err := t.c.from.intercept(context.Background(), t.c.mysqlConn, "COMMIT")
	if err == nil {
		err = t.Tx.Commit()
	} else {
		_ = t.Tx.Rollback()
	}
	if err != nil {
		var m *mysql.MySQLError
		tx.fatal, tx.unknown = err, !errors.As(err, &m)
	}
	return err
}

func (t ended) Rollback() error {
	t.c.tx = nil
	return t.Tx.Rollback()
}
