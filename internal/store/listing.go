package store

import (
	"errors"
	"fmt"
	"strings"

	driver "github.com/go-sql-driver/mysql"
)

// MaxFilterTime is how long a filtered list may take to be read, in seconds.
const MaxFilterTime = 5

// ErrTooSlow says that a filtered list took too long.
var ErrTooSlow = fmt.Errorf("the filter took more than %d seconds", MaxFilterTime)

// listing is a list that can be filtered and sorted in many ways. Its rows are places; what
// stands there is read by whoever asks for it.
type listing struct {
	from, join string // join adds what is sorted by, no rows
	inOrder    string // in place of both: the tables read in the order of the list, as an index has it; "" where none has
	where      condition
	order, id  string // what is sorted by, and the identifier that decides between rows with the same value
	desc       bool
	bounded    bool // it is read and counted within MaxFilterTime, or not at all
	fresh      bool // it asks for what memory does not hear of, such as mail
	of         subject
	hidings    int64  // with a condition of what somebody can find: it holds while there are no more
	columns    string // of what stands there: its version, its revision, whom it reaches, and what of that everybody may know
}

// long is how many rows make a list that is read in its order until a page is full; a shorter one
// is read whole and sorted. Where the two ways cost the same depends on how many there are in
// all: 1,000 of 20,000, 2,300 of 100,000. The database does not weigh it by itself, since it
// takes no account of how few are wanted.
const long = 1500

// place is a row of a list: what stands there, in which version.
type place struct {
	GroupVersion
	people, shown int
	value         string // what the list is sorted by
}

// query returns a statement over the rows of the list in tables. With inOrder, conditions are tried on
// one row after another.
func (l listing) query(what, tables string, inOrder bool, more condition) (sql string, args []any) {
	var set []string
	if l.bounded {
		set = append(set, fmt.Sprintf("max_statement_time = %d", MaxFilterTime))
	}
	if inOrder {
		set = append(set, "optimizer_switch = 'exists_to_in=off'")
	}
	if len(set) > 0 {
		sql = "SET STATEMENT " + strings.Join(set, ", ") + " FOR "
	}
	sql += "SELECT " + what + " FROM " + tables
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
	q, args := l.query("COUNT(*)", l.from, false, condition{})
	read := func() (n int64, err error) {
		err = s.db.Raw(q, args...).Row().Scan(&n)
		return n, err
	}
	if l.fresh {
		n, err := read()
		return n, l.failed("count a list", err)
	}
	n, err := s.keptCount(l.of, q, append(args, l.hidings), read)
	return n, l.failed("count a list", err)
}

// page returns the places of a page.
func (l listing) page(s *Reads, after Cursor, limit int) (Page[place], error) {
	p := Page[place]{Total: after.Total}
	if after.Empty() {
		var err error
		if p.Total, err = l.count(s); err != nil {
			return p, err
		}
	}
	var err error
	if p.Items, err = l.read(s, after, limit+1, p.Total >= long); err != nil {
		return p, l.failed("read a list", err)
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		last := p.Items[limit-1]
		p.Next = after.next(last.value, last.ID, p.Total)
	}
	return p, nil
}

// read returns up to limit places after one. inOrder says that few rows have to be looked at for that.
func (l listing) read(s *Reads, after Cursor, limit int, inOrder bool) ([]place, error) {
	dir, cmp := "", ">"
	if l.desc {
		dir, cmp = " DESC", "<"
	}
	var more condition
	if !after.Empty() {
		more = condition{fmt.Sprintf("(%[1]s %[2]s ? OR %[1]s = ? AND %[3]s %[2]s ?)", l.order, cmp, l.id), []any{after.Value, after.Value, after.ID}}
	}
	tables, inOrder := l.from+l.join, inOrder && l.inOrder != ""
	if inOrder {
		tables = l.inOrder
	}
	q, args := l.query(l.id+", CAST("+l.order+" AS CHAR), "+l.columns, tables, inOrder, more)
	q, args = q+" ORDER BY "+l.order+dir+", "+l.id+dir+" LIMIT ?", append(args, limit)
	read := func() ([]place, error) {
		rows, err := s.db.Raw(q, args...).Rows()
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		out := make([]place, 0, limit)
		for rows.Next() {
			var p place
			if err := rows.Scan(&p.ID, &p.value, &p.Version, &p.Revision, &p.people, &p.shown); err != nil {
				return nil, err
			}
			out = append(out, p)
		}
		return out, rows.Err()
	}
	if l.fresh || limit > maxKept {
		return read()
	}
	return listed(s, s.memory.pages, l.of, digestOf(q, append(args, l.hidings)), read)
}

// each calls f with the places of the whole list, so many at a time. It gives its connection
// back in between.
func (l listing) each(s *Reads, size int, f func([]place) error) error {
	for after := (Cursor{}); ; {
		some, err := l.read(s, after, size, false)
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
