package store

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/rule"
)

// peopleFilter is where the attributes of people are that a filter asks about; g is the table of
// people.
func peopleFilter(r *rule.Rule) lookup {
	f := map[string]source{
		"userName":       {index: true, value: asText("g.addr_key")},
		"displayName":    {index: true, value: asText("g.name_key")},
		"name.formatted": {index: true, value: asText("g.name_key")},
		"active":         {value: asFlag("g.active")},
		"meta.created":   {index: true, value: asMoment("g.created_at")},
		"emails.value":   {index: true, value: asText("g.addr_key")},
		"emails.type":    constant("work"),
		"emails.primary": {value: asFlag("TRUE")},
		"groups":         {index: true, rows: "SELECT 1 FROM memberships m JOIN mail_groups x ON x.id = m.group_id WHERE m.member_id = g.id", value: asText("x.addr_key")},
		"owns":           {index: true, rows: "SELECT 1 FROM memberships m JOIN mail_groups x ON x.id = m.group_id WHERE m.member_id = g.id AND m.role = 3", value: asText("x.addr_key")},
		"external":       {value: asFlag("g.external")},
		"workspace_role": {known: "g.workspace_role <> ''", value: asWord("g.workspace_role")},
		"departed_at":    {known: "g.departed_at IS NOT NULL", value: asMoment("g.departed_at")},
		"last_sign_in":   {index: true, known: "g.signed_in_at IS NOT NULL", value: asMoment("g.signed_in_at")},
	}
	for _, a := range rule.People.Attributes() {
		if _, ok := f[a.Path]; ok {
			continue
		}
		if parent, ok := strings.CutSuffix(a.Path, ".type"); ok {
			x := constant("work")
			x.known = "EXISTS (" + valuesOf(parent) + ")"
			f[a.Path] = x
			continue
		}
		f[a.Path] = source{index: true, rows: values("= '" + a.Path + "'"), lone: !a.Many || strings.HasPrefix(a.Path, "addresses."), value: asText("v.value")}
	}
	if r != nil {
		for _, a := range r.Attributes() {
			if a.Own {
				f[a.Path] = ownValue(a)
			}
		}
	}
	return lookup{f, func(parent string) (string, map[string]source, condition) { return withinPerson(f, parent) }}
}

// ownValue is where an attribute of the organisation's own is.
func ownValue(a rule.Attribute) source {
	x := source{rows: values("= '" + a.Path + "'"), lone: true}
	switch a.Kind {
	case rule.Number:
		x.value = asNumber("CAST(v.value AS SIGNED)")
	case rule.Boolean:
		x.value = asFlag("v.value = 'true'")
	case rule.Day:
		x.index, x.value = true, asWord("v.value")
	default:
		x.index, x.value = true, asText("v.value")
	}
	return x
}

// values is the rows of somebody's attributes that a condition names.
func values(attribute string) string {
	return "SELECT 1 FROM person_values v WHERE v.person_id = g.id AND v.attribute " + attribute
}

// valuesOf is the rows of all parts of an attribute.
func valuesOf(parent string) string { return values("LIKE '" + parent + ".%'") }

// constant is the source of what has the same value everywhere.
func constant(value string) source {
	return source{value: asText(fmt.Sprintf("'%s' COLLATE utf8mb4_nopad_bin", value))}
}

// withinPerson says how the parts of an attribute before brackets are found. Somebody has one
// main address and one place; of telephones, messengers, roles and entitlements there may
// be several, each with a value and a kind.
func withinPerson(f map[string]source, parent string) (rows string, inner map[string]source, any condition) {
	inner = map[string]source{}
	for path, x := range f {
		if strings.HasPrefix(path, parent+".") {
			inner[path] = x
		}
	}
	switch parent {
	case "emails", "name", "meta":
		return "", inner, condition{sql: "TRUE"}
	case "addresses", "manager":
		return "", inner, condition{sql: "EXISTS (" + valuesOf(parent) + ")"}
	}
	rows = values("= '" + parent + ".value'")
	inner[parent+".value"] = source{index: true, value: asText("v.value")}
	if _, ok := inner[parent+".type"]; ok {
		inner[parent+".type"] = constant("work")
	}
	return rows, inner, condition{sql: "EXISTS (" + rows + ")"}
}

// historyFilter is where the attributes of the history are; h is its table.
func historyFilter() lookup {
	return lookup{sources: map[string]source{
		"actor":  {rows: "SELECT 1 FROM people p WHERE p.id = h.actor_id", lone: true, value: asText("p.addr_key")},
		"group":  {rows: "SELECT 1 FROM addresses a WHERE a.ref = h.group_id AND a.kind IN (2, 3, 5)", value: asText("a.addr_key")},
		"person": {rows: "SELECT 1 FROM history_people a LEFT JOIN people p ON p.id = a.person_id WHERE a.history_id = h.id", value: affectedIs, direct: affected},
		"kind":   {value: asWord("h.kind")},
		"via":    {value: asWord("h.via")},
		"at":     {value: asMoment("h.at")},
	}}
}

// affectedIs compares the address of one whom an event affected, as it is now, or as that of a group or of somebody unknown was then.
var affectedIs = asText("COALESCE(p.addr_key, LOWER(a.label) COLLATE utf8mb4_nopad_bin)")

// affected finds the events that affected whoever has an address, by an index.
func affected(n *rule.Node) (condition, bool) {
	if n.Op != rule.Eq || n.Null {
		return condition{}, false
	}
	is := affectedIs(n)
	return condition{`h.id IN (SELECT x.history_id FROM (SELECT a.history_id FROM people p JOIN history_people a ON a.person_id = p.id WHERE p.addr_key = ?
		UNION SELECT a.history_id FROM history_people a LEFT JOIN people p ON p.id = a.person_id WHERE a.label = ? AND ` + is.sql + ") x)", append([]any{n.Value, n.Value}, is.args...)}, true
}

func asWord(column string) func(*rule.Node) condition {
	return func(n *rule.Node) condition { return condition{column + " " + sqlOps[n.Op] + " ?", []any{n.Value}} }
}

// Note says what there is to know of how a list is read, or "".
func (q PeopleQuery) Note() string { return note(peopleFilter(q.Filter), q.Filter, "person") }
