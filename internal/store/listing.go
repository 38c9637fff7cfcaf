package store

import (
	"errors"
	"fmt"

	driver "github.com/go-sql-driver/mysql"
	"golang.org/x/sync/errgroup"
)

// MaxFilterTime is how long a filtered list may take to be read, in seconds.
const MaxFilterTime = 5

// ErrTooSlow says that a filtered list took too long.
var ErrTooSlow = fmt.Errorf("the filter took more than %d seconds", MaxFilterTime)

// listing is a list that can be filtered and sorted in many ways. Its rows are places; what
// stands there is read by whoever asks for it.
type listing struct {
	from, join string // join adds what is sorted by, no rows
	where      condition
	order, id  string // what is sorted by, and the identifier that decides between rows with the same value
	desc       bool
	bounded    bool   // it is read and counted within MaxFilterTime, or not at all
	columns    string // "": the version and revision of what stands there
}

// place is a row of a list: what stands there, in which version.
type place struct {
	GroupVersion
	value string // what the list is sorted by
}

// query returns a statement over the rows of the list.
func (l listing) query(what, join string, more condition) (sql string, args []any) {
	sql = "SELECT " + what + " FROM " + l.from + join
	if l.bounded {
		sql = fmt.Sprintf("SET STATEMENT max_statement_time = %d FOR %s", MaxFilterTime, sql)
	}
	c := l.where.and(more)
	if c.sql != "" {
		sql += " WHERE " + c.sql
	}
	return sql, c.args
}

func (l listing) failed(doing string, err error) error {
	var m *driver.MySQLError
	if errors.As(err, &m) && m.Number == 1969 { // the statement's time was over
		return ErrTooSlow
	}
	return wrap(doing, err)
}

// count returns how long the list is.
func (l listing) count(s *Reads) (int64, error) {
	q, args := l.query("COUNT(*)", "", condition{})
	n, err := s.cachedCount(q+fmt.Sprint(args), func() (n int64, err error) {
		err = s.db.Raw(q, args...).Row().Scan(&n)
		return n, err
	})
	return n, l.failed("count a list", err)
}

// page returns the places of a page.
func (l listing) page(s *Reads, after Cursor, limit int) (Page[place], error) {
	p := Page[place]{Total: after.Total}
	var all errgroup.Group
	if inTx(s.db) {
		all.SetLimit(1) // a transaction is one connection
	}
	if after.Empty() {
		all.Go(func() (err error) {
			p.Total, err = l.count(s)
			return err
		})
	}
	all.Go(func() (err error) {
		p.Items, err = l.read(s, after, limit+1)
		return l.failed("read a list", err)
	})
	if err := all.Wait(); err != nil {
		return p, err
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		last := p.Items[limit-1]
		p.Next = after.next(last.value, last.ID, p.Total)
	}
	return p, nil
}

// read returns up to limit places after one.
func (l listing) read(s *Reads, after Cursor, limit int) ([]place, error) {
	dir, cmp := "", ">"
	if l.desc {
		dir, cmp = " DESC", "<"
	}
	var more condition
	if !after.Empty() {
		more = condition{fmt.Sprintf("(%[1]s %[2]s ? OR %[1]s = ? AND %[3]s %[2]s ?)", l.order, cmp, l.id), []any{after.Value, after.Value, after.ID}}
	}
	columns := l.columns
	if columns == "" {
		columns = "g.version, g.revision"
	}
	q, args := l.query(l.id+", CAST("+l.order+" AS CHAR), "+columns, l.join, more)
	rows, err := s.db.Raw(q+" ORDER BY "+l.order+dir+", "+l.id+dir+" LIMIT ?", append(args, limit)...).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []place
	for rows.Next() {
		var p place
		if err := rows.Scan(&p.ID, &p.value, &p.Version, &p.Revision); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// each calls f with the places of the whole list, so many at a time. It gives its connection
// back in between.
func (l listing) each(s *Reads, size int, f func([]place) error) error {
	for after := (Cursor{}); ; {
		some, err := l.read(s, after, size)
		if err != nil {
			return l.failed("read a list", err)
		}
		if len(some) > 0 {
			if err := f(some); err != nil {
				return err
			}
		}
		if len(some) < size {
			return nil
		}
		last := some[len(some)-1]
		after = after.next(last.value, last.ID, 0)
	}
}
