package store

import (
	"context"
	"database/sql"
	"sync"

	"gorm.io/gorm"
)

// A read that failed is never an answer: whatever was made of it, "there is none" as much as a default. So what is asked of the
// records with a context of [Watched] is watched, and whoever answers asks [Watch.Err] at the end.

// Watch is what became of what was asked of the records with a context.
type Watch struct {
	mu    sync.Mutex
	lost  error // the first failure of a read outside a transaction
	saved bool  // a change was committed
}

type watchKey struct{}

// Watched returns a context whose reads are watched.
func Watched(ctx context.Context) (context.Context, *Watch) {
	w := &Watch{}
	return context.WithValue(ctx, watchKey{}, w), w
}

func watchOf(ctx context.Context) *Watch {
	w, _ := ctx.Value(watchKey{}).(*Watch)
	return w
}

// Err is why an answer can't be given, nil where everything could be read. Of a change that was saved before the failure,
// which only its answer came to, it is [ErrSaved].
func (w *Watch) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.lost != nil && w.saved {
		return errSaved{w.lost}
	}
	return w.lost
}

type errSaved struct{ error }

func (e errSaved) Is(target error) bool { return target == ErrSaved }
func (e errSaved) Unwrap() error        { return e.error }

// note notes the failure of a read.
func (w *Watch) note(err error) {
	if w == nil || !broken(err) || err == sql.ErrNoRows {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.lost == nil {
		w.lost = err
	}
}

func (w *Watch) committed() {
	if w == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.saved = true
}

// watched is the connections outside transactions, which tell of failures.
type watched struct{ *sql.DB }

var (
	_ gorm.ConnPool       = watched{}
	_ gorm.TxBeginner     = watched{}
	_ gorm.GetDBConnector = watched{}
)

// GetDBConn is the pool behind it, for GORM.
func (w watched) GetDBConn() (*sql.DB, error) { return w.DB, nil }

func (w watched) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	r, err := w.DB.ExecContext(ctx, query, args...)
	watchOf(ctx).note(err)
	return r, err
}

func (w watched) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	r, err := w.DB.QueryContext(ctx, query, args...)
	watchOf(ctx).note(err)
	return r, err
}

func (w watched) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	r := w.DB.QueryRowContext(ctx, query, args...)
	watchOf(ctx).note(r.Err())
	return r
}
