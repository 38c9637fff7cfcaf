package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// The errors that callers tell apart.
var (
	ErrNotFound  = errors.New("there is no such record")
	ErrDuplicate = errors.New("there is such a record already")
)

// Store gives access to the records, through a pool or inside one transaction.
type Store struct {
	db     *gorm.DB
	memory *memory
}

// Open connects to the database and brings its tables up to date. Two starts at
// once are safe.
func Open(ctx context.Context, dsn string) (*Store, error) {
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
	cfg.Params["eq_range_index_dive_limit"] = "2" // a page's IN lists are planned by statistics, not by a dive for each value
	delete(cfg.Params, "charset")
	_ = cfg.Apply(driver.Charset("utf8mb4", ""))
	db, err := gorm.Open(mysql.New(mysql.Config{DSNConfig: cfg, DefaultStringSize: 255}), &gorm.Config{
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
	pool.SetMaxOpenConns(32)
	pool.SetMaxIdleConns(16)
	pool.SetConnMaxIdleTime(5 * time.Minute)
	s := &Store{db, &memory{}}
	if err := s.memory.watch(db); err != nil {
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewMySQLTableLocker()
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, pool, files, goose.WithLocker(locker))
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	return nil
}

// Close ends the pool.
func (s *Store) Close() {
	if pool, err := s.db.DB(); err == nil {
		pool.Close()
	}
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// Analyze brings the statistics by which queries are planned up to date, after
// much was loaded at once; else the database does so by itself in the background.
func (s *Store) Analyze(ctx context.Context) error {
	return wrap("analyze the tables", s.with(ctx).Exec("ANALYZE TABLE people, addresses, mail_groups, memberships, words").Error)
}

// tries is how often a transaction that lost against another is run.
const tries = 8

// Tx runs f in a transaction. f is run again when the database gave the way to
// another transaction (1213) or waited too long for a lock (1205).
func (s *Store) Tx(ctx context.Context, f func(*Store) error) error {
	for try := 1; ; try++ {
		var t touches
		err := s.db.WithContext(ctx).Set(touchedKey, &t).Transaction(func(tx *gorm.DB) error { return f(&Store{tx, s.memory}) })
		s.memory.forget(t)
		var m *driver.MySQLError
		if !errors.As(err, &m) || m.Number != 1213 && m.Number != 1205 || try == tries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try*try) * time.Millisecond):
		}
	}
}

func (s *Store) with(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

func (s *Store) in(ctx context.Context) *Store { return &Store{s.with(ctx), s.memory} }

// wrap gives an error of the database its meaning here.
func wrap(doing string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrDuplicate
	}
	return fmt.Errorf("%s: %w", doing, err)
}
