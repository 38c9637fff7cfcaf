package store

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
)

// FilterTime is what a filter needs to know of time: now, and how long groups live, in days of
// the workspace's zone.
type FilterTime struct {
	Now time.Time
	lifecycle.Calendar
}

// after returns the first moment of the day that is so many days after today.
func (t FilterTime) inDays(days int64) time.Time {
	return t.After(t.Now, int(max(-1_000_000, min(1_000_000, days)))).UTC()
}

// day returns the first moment of a day, and that of the next.
func (t FilterTime) day(written string) (from, to time.Time) {
	noon := t.Noon(written)
	return t.Day(noon).UTC(), t.After(noon, 1).UTC()
}

// A filter becomes SQL so that it is true where the filter matches and false where it does
// not, or where what it asks about is unknown: what stands under not is turned round as far
// as the comparisons, of which each knows whether there is something to compare.

// condition is a condition with its arguments.
type condition struct {
	sql  string
	args []any
}

func (c condition) and(d condition) condition {
	switch {
	case c.sql == "":
		return d
	case d.sql == "":
		return c
	}
	return condition{c.sql + " AND " + d.sql, slices.Concat(c.args, d.args)}
}

func (c condition) not() condition { return condition{"NOT (" + c.sql + ")", c.args} }

// source is where the values of an attribute are.
type source struct {
	value func(*rule.Node) condition // the condition on one value

	direct func(*rule.Node) (condition, bool) // the whole condition that a comparison is true, where an index finds it better so

	known string // of a column: when there is a value; "" always
	rows  string // of several: the rows that have a value each, to be followed by a condition
	lone  bool   // of rows: there is always one, or none
	index bool   // an index finds values by their beginning, and in order
}

// fits is the condition that a comparison is true, or, turned round, that it is false.
func (x source) fits(n *rule.Node, wanted bool) condition {
	exists := func(c condition) condition {
		q := x.rows
		if c.sql != "" {
			q += " AND " + c.sql
		}
		return condition{"EXISTS (" + q + ")", c.args}
	}
	known := condition{sql: x.known}
	if x.rows != "" {
		known = exists(condition{})
	}
	switch {
	case n.Op == rule.Pr || n.Null && n.Op == rule.Ne:
		return is(known, wanted)
	case n.Null:
		return is(known, !wanted)
	}
	c := x.value(n)
	c.sql = "(" + c.sql + ")"
	switch {
	case n.Attr.Whole && !wanted && x.rows == "":
		return known.and(c).not()
	case n.Attr.Whole && !wanted:
		return exists(c).not()
	case x.rows == "" && wanted:
		return known.and(c)
	case x.rows == "":
		return known.and(c.not())
	case wanted && x.direct != nil:
		if c, ok := x.direct(n); ok {
			return c
		}
		return exists(c)
	case wanted:
		return exists(c)
	case x.lone:
		return exists(c.not())
	}
	return known.and(exists(c).not())
}

func is(c condition, wanted bool) condition {
	if c.sql == "" {
		c.sql = "TRUE"
	}
	if wanted {
		return c
	}
	return c.not()
}

var sqlOps = map[rule.Op]string{rule.Eq: "=", rule.Ne: "<>", rule.Gt: ">", rule.Ge: ">=", rule.Lt: "<", rule.Le: "<="}

// asText compares a column of texts, which are kept as filters compare them.
func asText(column string) func(*rule.Node) condition {
	return func(n *rule.Node) condition {
		like := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(n.Value)
		switch n.Op {
		case rule.Co:
			return condition{column + " LIKE ?", []any{"%" + like + "%"}}
		case rule.Sw:
			// LIKE, where an index helps, leaves out what goes on with a sign beyond the basic plane of Unicode
			return condition{column + " >= ? AND " + column + " < ?", []any{n.Value, n.Value + "\U0010FFFF"}}
		case rule.Ew:
			return condition{column + " LIKE ?", []any{"%" + like}}
		}
		return condition{column + " " + sqlOps[n.Op] + " ?", []any{n.Value}}
	}
}

func asNumber(column string) func(*rule.Node) condition {
	return func(n *rule.Node) condition { return condition{column + " " + sqlOps[n.Op] + " ?", []any{n.Number}} }
}

func asMoment(column string) func(*rule.Node) condition {
	return func(n *rule.Node) condition {
		// what is kept has microseconds; a moment between two of them equals neither
		at := n.Time.UTC()
		if whole := at.Truncate(time.Microsecond); !whole.Equal(at) {
			switch n.Op {
			case rule.Eq:
				return condition{sql: "FALSE"}
			case rule.Ne:
				return condition{sql: "TRUE"}
			case rule.Ge:
				return condition{column + " > ?", []any{whole}}
			case rule.Lt:
				return condition{column + " <= ?", []any{whole}}
			}
			at = whole
		}
		return condition{column + " " + sqlOps[n.Op] + " ?", []any{at}}
	}
}

func asFlag(when string) func(*rule.Node) condition {
	return func(n *rule.Node) condition {
		c := condition{sql: "(" + when + ")"}
		return is(c, (n.Value == "true") == (n.Op == rule.Eq))
	}
}

// asDays compares the day of a moment with a day, of which bounds returns the first moment and
// that of the next.
func asDays(column string, bounds func(*rule.Node) (from, to time.Time)) func(*rule.Node) condition {
	return func(n *rule.Node) condition {
		from, to := bounds(n)
		switch n.Op {
		case rule.Eq:
			return condition{column + " >= ? AND " + column + " < ?", []any{from, to}}
		case rule.Ne:
			return condition{column + " < ? OR " + column + " >= ?", []any{from, to}}
		case rule.Gt:
			return condition{column + " >= ?", []any{to}}
		case rule.Ge:
			return condition{column + " >= ?", []any{from}}
		case rule.Lt:
			return condition{column + " < ?", []any{from}}
		}
		return condition{column + " < ?", []any{to}}
	}
}

// lookup is a schema's sources, with what stands in the way of brackets.
type lookup struct {
	sources map[string]source
	// within says how the parts of an attribute before brackets are found: the rows of its
	// values, or none where it has one value, and the condition that it has any.
	within func(parent string) (rows string, inner map[string]source, any condition)
}

// where is the condition that a part of a filter is true, or that it is false.
func (f lookup) where(n *rule.Node, wanted bool) (condition, error) {
	switch n.Op {
	case rule.Not:
		return f.where(&n.Parts[0], !wanted)
	case rule.And, rule.Or:
		joint := " OR "
		if (n.Op == rule.And) == wanted {
			joint = " AND "
		}
		var out condition
		for i := range n.Parts {
			c, err := f.where(&n.Parts[i], wanted)
			if err != nil {
				return out, err
			}
			if i > 0 {
				out.sql += joint
			}
			out = condition{out.sql + "(" + c.sql + ")", append(out.args, c.args...)}
		}
		return out, nil
	case rule.Within:
		return f.brackets(n, wanted)
	}
	if n.Attr == nil {
		_, _, any := f.within(n.Parent)
		return is(any, wanted), nil
	}
	x, ok := f.sources[n.Attr.Path]
	if !ok {
		return condition{}, fmt.Errorf("no list can be filtered by %s", n.Attr.Path)
	}
	return x.fits(n, wanted), nil
}

// indexed reports whether an index narrows down what a part of a filter matches.
func (f lookup) indexed(n *rule.Node) bool {
	switch n.Op {
	case rule.And:
		return slices.ContainsFunc(n.Parts, func(n rule.Node) bool { return f.indexed(&n) })
	case rule.Or:
		return !slices.ContainsFunc(n.Parts, func(n rule.Node) bool { return !f.indexed(&n) })
	case rule.Eq, rule.Sw, rule.Gt, rule.Ge, rule.Lt, rule.Le:
		return n.Attr != nil && !n.Null && f.sources[n.Attr.Path].index
	case rule.Within:
		return n.Parts[0].Attr != nil && f.indexed(&n.Parts[0])
	}
	return false
}

// note says that no index helps with a filter.
func note(f lookup, r *rule.Rule, noun string) string {
	if r == nil || f.indexed(r.Root()) {
		return ""
	}
	return "No index helps with this filter: every " + noun + " is looked at."
}

func (f lookup) brackets(n *rule.Node, wanted bool) (condition, error) {
	rows, inner, any := f.within(n.Parent)
	c, err := lookup{sources: inner}.where(&n.Parts[0], wanted)
	if err != nil {
		return c, err
	}
	c.sql = "(" + c.sql + ")"
	switch {
	case rows == "":
		return any.and(c), nil
	case wanted:
		return condition{"EXISTS (" + rows + " AND " + c.sql + ")", c.args}, nil
	}
	// every value has to be known not to fit
	return any.and(condition{"NOT EXISTS (" + rows + " AND NOT " + c.sql + ")", c.args}), nil
}

// groupFilter is where the attributes of groups are; g is the table of groups. With shown, sizes
// are those that every colleague sees.
func groupFilter(t FilterTime, shown bool) lookup {
	size := "z.people"
	if shown {
		size = "z.shown"
	}
	const living = "g.ended_at IS NULL AND g.expires_at > %[1]s AND g.expires_at < '9999-01-01'"
	ends := fmt.Sprintf(living, "'"+t.Now.UTC().Format(dbTime)+"'")
	f := map[string]source{
		"name":           {index: true, value: asText("g.name_key")},
		"address":        {index: true, value: asText("g.addr_key")},
		"alias":          {index: true, rows: "SELECT 1 FROM addresses a WHERE a.ref = g.id AND a.kind = 3", value: asText("a.addr_key")},
		"domain":         {index: true, value: asText("g.domain")},
		"description":    {known: "g.description_key <> ''", value: asText("g.description_key")},
		"state":          {index: true, value: stateIs(t)},
		"traits":         {known: "g.traits <> ''", value: traitIs},
		"starting_point": {known: "g.starting_point <> ''", value: asText("g.starting_point")},
		"language":       {known: "g.language <> ''", value: asText("g.language COLLATE utf8mb4_nopad_bin")},
		"owner.address":  {index: true, rows: "SELECT 1 FROM memberships o JOIN people p ON p.id = o.member_id WHERE o.group_id = g.id AND o.role = 3", value: asText("p.addr_key")},
		"owner.name":     {index: true, rows: "SELECT 1 FROM memberships o JOIN people p ON p.id = o.member_id WHERE o.group_id = g.id AND o.role = 3", value: asText("p.name_key")},
		"owners":         {index: true, value: asNumber("g.owners")},
		"moderators":     {value: asNumber("g.moderators")},
		"members":        {value: asNumber("g.members")},
		"people":         {index: true, rows: "SELECT 1 FROM group_sizes z WHERE z.group_id = g.id", lone: true, value: asNumber(size)},
		"external":       {index: true, value: asNumber("g.external_members")},
		"nested":         {value: asNumber("g.nested")},
		"departed":       {value: asNumber("g.departed")},
		"by_rule":        {value: asFlag("g.by_rule")},
		"waiting":        {index: true, value: waitingIs},
		"exempt":         {value: asFlag("g.exempt <> ''")},
		"created_at":     {index: true, value: asMoment("g.created_at")},
		"renewed_at":     {index: true, value: asMoment("g.renewed_at")},
		"ended_at":       {index: true, known: "g.ended_at IS NOT NULL", value: asMoment("g.ended_at")},
		"expires_on": {index: true, known: ends, value: asDays("g.expires_at", func(n *rule.Node) (from, to time.Time) {
			return t.day(n.Value)
		})},
		"term_rule":  {index: true, known: "g.term_rule <> ''", value: asText("g.term_key")},
		"under_hold": {value: asFlag("g.kept <> ''")},
		"exempt_until": {index: true, known: "g.exempt_until IS NOT NULL AND g.exempt <> ''", value: asDays("g.exempt_until", func(n *rule.Node) (from, to time.Time) {
			return t.day(n.Value)
		})},
		"days_left": {index: true, known: ends, value: asDays("g.expires_at", func(n *rule.Node) (from, to time.Time) {
			return t.inDays(n.Number), t.inDays(n.Number + 1)
		})},
		"finding":      {index: true, rows: "SELECT 1 FROM findings f WHERE f.subject = g.id AND (f.accepted_at IS NULL OR f.accepted_until <= '" + t.Now.UTC().Format(dbTime) + "')", value: asWord("f.kind")},
		"last_post_at": {index: true, rows: "SELECT 1 FROM group_posts l WHERE l.group_id = g.id", lone: true, value: asMoment("l.last_at")},
		"quiet_days": {value: func(n *rule.Node) condition {
			const last = "COALESCE((SELECT l.last_at FROM group_posts l WHERE l.group_id = g.id), g.created_at)"
			turned := *n // the more days, the earlier the day
			turned.Op = map[rule.Op]rule.Op{rule.Eq: rule.Eq, rule.Ne: rule.Ne, rule.Gt: rule.Lt, rule.Ge: rule.Le, rule.Lt: rule.Gt, rule.Le: rule.Ge}[n.Op]
			return asDays(last, func(n *rule.Node) (from, to time.Time) { return t.inDays(-n.Number), t.inDays(1 - n.Number) })(&turned)
		}},
	}
	for _, d := range policy.Describe() {
		f[d.Name] = source{index: true, rows: fmt.Sprintf("SELECT 1 FROM group_settings s WHERE s.group_id = g.id AND s.setting = '%s'", d.Name), lone: true, value: func(n *rule.Node) condition {
			v, _ := d.Setting.Parse(n.Value)
			return condition{"s.value " + sqlOps[n.Op] + " ?", []any{v}}
		}}
	}
	return lookup{sources: f}
}

func stateIs(t FilterTime) func(*rule.Node) condition {
	return func(n *rule.Node) condition {
		c := map[string]condition{
			"active":  {"g.ended_at IS NULL AND g.due_at > ?", []any{t.Now}},
			"due":     {"g.ended_at IS NULL AND g.expires_at > ? AND g.due_at <= ?", []any{t.Now, t.Now}},
			"lapsed":  {"g.ended_at IS NOT NULL AND NOT g.retired OR g.ended_at IS NULL AND g.expires_at <= ?", []any{t.Now}},
			"retired": {sql: "g.ended_at IS NOT NULL AND g.retired"},
		}[n.Value]
		return is(c, n.Op == rule.Eq)
	}
}

func traitIs(n *rule.Node) condition {
	if n.Op == rule.Ne { // there is another
		return condition{"g.traits <> ?", []any{n.Value}}
	}
	return condition{"FIND_IN_SET(?, g.traits) > 0", []any{n.Value}}
}

// waitingIs compares how much waits for a decision in a group. Of those in which nothing does
// there are most, so it is asked which groups have something.
func waitingIs(n *rule.Node) condition {
	counts := "SELECT w.group_id FROM (" + waitingInGroups + ") w GROUP BY w.group_id HAVING COUNT(*) "
	zero := map[rule.Op]bool{rule.Eq: n.Number == 0, rule.Ne: n.Number != 0, rule.Gt: 0 > n.Number, rule.Ge: 0 >= n.Number, rule.Lt: 0 < n.Number, rule.Le: 0 <= n.Number}[n.Op]
	if zero {
		opposite := map[rule.Op]string{rule.Eq: "<>", rule.Ne: "=", rule.Gt: "<=", rule.Ge: "<", rule.Lt: ">=", rule.Le: ">"}[n.Op]
		return condition{"g.id NOT IN (" + counts + opposite + " ?)", []any{n.Number}}
	}
	return condition{"g.id IN (" + counts + sqlOps[n.Op] + " ?)", []any{n.Number}}
}
