package store

import "ivytable.example/ivytable/internal/core/rule"

// Areas are groups that somebody looks after beside those that they run: what any of the filters, of core/filter's
// Groups, matches. The zero value is none.
type Areas struct {
	Filters []*rule.Rule
	Time    FilterTime
}

// or adds the areas to a condition, by the column that has the identifiers of groups.
func (a Areas) or(c condition, column string) (condition, error) {
	for _, f := range a.Filters {
		in, err := groupFilter(a.Time, false).where(f.Root(), true)
		if err != nil {
			return c, err
		}
		c = condition{c.sql + " OR " + column + " IN (SELECT g.id FROM mail_groups g WHERE " + in.sql + ")", append(c.args, in.args...)}
	}
	return condition{"(" + c.sql + ")", c.args}, nil
}
