package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/google/uuid"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// The errors that callers tell apart.
var (
	ErrNotFound  = errors.New("there is no such record")
	ErrDuplicate = errors.New("there is such a record already")
	ErrSaved     = errors.New("the change was saved, but its answer could not be read")
	ErrUnknown   = errors.New("the connection was lost while the change was committed, so nobody knows whether it was")
)

// MaxConnections is how many connections a pool has to the database.
const MaxConnections = 32

// Pool is the connections to the database. It gives out [Reads], and transactions by
// [Pool.Transact].
type Pool struct {
	db     *gorm.DB
	memory *memory
	from   *connector
}

// Intercept has a test look at every statement before it is sent; nil ends that.
func (p *Pool) Intercept(f Interceptor) {
	if f == nil {
		p.from.before.Store(nil)
		return
	}
	p.from.before.Store(&f)
}

// Reads are the queries, bound to one context: through a pool, where each takes a
// connection of its own for as long as it lasts, or within a transaction.
type Reads struct {
	db     *gorm.DB
	memory *memory
}

// Tx is one transaction: the queries within it, locks, and all that is written. Its
// methods that begin with Lock keep others from changing what they return until the
// transaction ends.
type Tx struct {
	Reads
	looking bool               // nothing will be kept, so nothing is locked
	groups  map[uuid.UUID]bool // that it has locked: to lock them again comes never too late
	last    rank               // of the last lock
	moves   moves
	hid     bool                    // it hid a group from colleagues
	nested  bool                    // it changed what is nested in what
	written subject                 // what it wrote that something is kept of
	part    bool                    // more of the same change follows
	posts   map[uuid.UUID]time.Time // when groups were last written to, as it noted
	proof   proof
}

// proof is a row that a transaction made, which is there when the transaction was committed and only then.
type proof struct {
	table string
	id    any
}

// Open connects to the database and brings its tables up to date. Two starts at
// once are safe.
func Open(ctx context.Context, dsn string) (*Pool, error) {
	cfg, err := driver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the DSN can't be read: %w", err)
	}
	cfg.ParseTime, cfg.Loc, cfg.InterpolateParams = true, time.UTC, true
	cfg.MaxAllowedPacket = 0 // take the server's
	cfg.ClientFoundRows = true
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["tx_isolation"] = "'READ-COMMITTED'"
	cfg.Params["innodb_lock_wait_timeout"] = "5"  // seconds; then the transaction is tried again
	cfg.Params["eq_range_index_dive_limit"] = "2" // a page's IN lists are planned by statistics, not by a dive for each value
	delete(cfg.Params, "charset")
	_ = cfg.Apply(driver.Charset("utf8mb4", ""))
	inner, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("the DSN can't be read: %w", err)
	}
	from := &connector{Connector: inner}
	db, err := gorm.Open(mysql.New(mysql.Config{Conn: watched{sql.OpenDB(from)}, DefaultStringSize: 255}), &gorm.Config{
		Logger: logger.Discard, TranslateError: true, SkipDefaultTransaction: true,
		NowFunc: func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) },
	})
	if err != nil {
		return nil, fmt.Errorf("reach the database: %w", err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(MaxConnections)
	pool.SetMaxIdleConns(MaxConnections / 2)
	pool.SetConnMaxIdleTime(5 * time.Minute)
	p := &Pool{db, newMemory(), from}
	if err := migrate(ctx, pool); err != nil {
		p.Close()
		return nil, err
	}
	for _, complete := range []func(context.Context) error{p.indexSettings, p.countMissing, p.indexKeys} {
		if err := complete(ctx); err != nil {
			p.Close()
			return nil, err
		}
	}
	return p, nil
}

// Prepare makes the tables of an empty database as they were at a version.
func Prepare(ctx context.Context, dsn string, version int64) error {
	cfg, err := driver.ParseDSN(dsn)
	if err != nil {
		return fmt.Errorf("the DSN can't be read: %w", err)
	}
	cfg.ParseTime, cfg.Loc = true, time.UTC
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return err
	}
	pool := sql.OpenDB(connector)
	defer pool.Close()
	p, err := provider(pool)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; version > newest {
		return fmt.Errorf("the tables are of version %d, and this program knows them up to %d: use a newer one", version, newest)
	}
	if _, err := p.UpTo(ctx, version); err != nil {
		return fmt.Errorf("make the tables: %w", err)
	}
	return nil
}

func provider(pool *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	locker, err := lock.NewMySQLTableLocker()
	if err != nil {
		return nil, err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, pool, files, goose.WithLocker(locker), goose.WithGoMigrations(conversions...))
	if err != nil {
		return nil, fmt.Errorf("read the migrations: %w", err)
	}
	return p, nil
}

func migrate(ctx context.Context, pool *sql.DB) error {
	p, err := provider(pool)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	return nil
}

// Close ends the pool.
func (p *Pool) Close() {
	if pool, err := p.db.DB(); err == nil {
		pool.Close()
	}
}

// Ping reports whether the database answers.
func (p *Pool) Ping(ctx context.Context) error {
	pool, err := p.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// Analyze brings the statistics by which queries are planned up to date, after
// much was loaded at once; else the database does so by itself in the background.
func (p *Pool) Analyze(ctx context.Context) error {
	return wrap("analyze the tables", p.db.WithContext(ctx).Exec("ANALYZE TABLE people, addresses, mail_groups, group_settings, group_sizes, group_posts, memberships, person_values, words").Error)
}

// Reads returns the queries through the pool.
func (p *Pool) Reads(ctx context.Context) *Reads { return &Reads{p.db.WithContext(ctx), p.memory} }

// tries is how often a transaction that lost against another is run.
const tries = 8

// errLooked ends a transaction of which nothing is to be kept.
var errLooked = errors.New("nothing is kept")

// Transact runs f in a transaction. f is run again when the database gave the way to
// another transaction (1213) or waited too long for a lock (1205), so it must be free
// of other effects. With looking, nothing is locked and nothing is kept.
//
// After an error by which the database ended the transaction nothing more is sent in it, and that error is the outcome,
// whatever f returned. The error is [ErrUnknown] where the connection was lost during the commit.
func (p *Pool) Transact(ctx context.Context, looking bool, f func(*Tx) error) error {
	for try := 1; ; try++ {
		err := p.transact(ctx, looking, f)
		var m *driver.MySQLError
		again := errors.Is(err, errDeparted) || errors.As(err, &m) && (m.Number == 1213 || m.Number == 1205)
		if !again || try == tries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try*try) * time.Millisecond):
		}
	}
}

func (p *Pool) transact(ctx context.Context, looking bool, f func(*Tx) error) error {
	var s *Tx
	var state transaction
	err := p.db.WithContext(context.WithValue(ctx, transactionKey{}, &state)).Transaction(func(tx *gorm.DB) error {
		s = &Tx{Reads: Reads{tx.WithContext(ctx), p.memory}, looking: looking}
		if err := f(s); err != nil {
			return err
		}
		if looking {
			return errLooked
		}
		if err := s.settle(); err != nil {
			return err
		}
		return s.countHiding()
	})
	if state.unknown {
		err = p.settled(ctx, s.proof, err)
	}
	switch {
	case state.unknown:
	case state.fatal != nil:
		err = fmt.Errorf("a transaction: %w", state.fatal)
	case errors.Is(err, errLooked):
		return nil
	}
	if s != nil {
		p.memory.forget(s.written, s.part)
		if err == nil {
			p.memory.notePosts(s.posts)
			watchOf(ctx).committed()
		}
	}
	return err
}

// settling is how long it is asked what became of a transaction whose commit was not answered.
const settling = 30 * time.Second

// settled finds out what became of a transaction whose commit ended with an error that says nothing about it: nil where its
// proof is there, the error where it is not. The proof is read with a lock, so that a commit that is still being made is
// waited for.
func (p *Pool) settled(ctx context.Context, of proof, lost error) error {
	if of.table == "" {
		return errors.Join(ErrUnknown, lost)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), settling)
	defer cancel()
	for {
		var n int
		err := p.db.WithContext(ctx).Raw("SELECT COUNT(*) FROM "+of.table+" WHERE id = ? FOR UPDATE", of.id).Row().Scan(&n)
		switch {
		case err == nil && n > 0:
			return nil
		case err == nil:
			return lost
		}
		select {
		case <-ctx.Done():
			return errors.Join(ErrUnknown, lost)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// eachRow calls f for each row of a query, with what scans it.
func eachRow(query *gorm.DB, f func(scan func(...any) error) error) error {
	rows, err := query.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := f(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// forUpdate returns a query that locks what it reads.
func (s *Tx) forUpdate(options ...string) *gorm.DB {
	if s.looking {
		return s.db
	}
	l := clause.Locking{Strength: "UPDATE"}
	if len(options) > 0 {
		l.Options = options[0]
	}
	return s.db.Clauses(l)
}

// locking is the end of a raw query that locks what it reads.
func (s *Tx) locking(strength string) string {
	if s.looking {
		return ""
	}
	return " " + strength
}

// wrap gives an error of the database its meaning here.
func wrap(doing string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound), errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrDuplicate
	}
	return fmt.Errorf("%s: %w", doing, err)
}
