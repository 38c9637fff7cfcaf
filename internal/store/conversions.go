package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/pressly/goose/v3"

	"ivytable.example/ivytable/internal/core/event"
)

// conversions are the migrations that are more than SQL.
var conversions = []*goose.Migration{
	goose.NewGoMigration(37, &goose.GoFunc{RunTx: convertStartingPoints}, nil),
	goose.NewGoMigration(40, &goose.GoFunc{RunTx: convertHistory}, nil),
	goose.NewGoMigration(57, &goose.GoFunc{RunTx: convertMail}, nil),
	goose.NewGoMigration(107, &goose.GoFunc{RunTx: convertTerms}, nil),
}

// convertStartingPoints takes starting points apart that were kept as one JSON object.
func convertStartingPoints(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(ctx, "SELECT name, body FROM starting_points")
	if err != nil {
		return err
	}
	defer rows.Close()
	type body struct {
		Policy struct {
			Privacy string            `json:"privacy"`
			Policy  map[string]string `json:"policy"`
			Join    struct {
				Audience string `json:"audience"`
				How      string `json:"how"`
			} `json:"join"`
			Leave, Externals, Hold, Suspicious string
		} `json:"policy"`
		Traits   []string `json:"traits"`
		Delivery string   `json:"default_delivery"`
		Welcome  string   `json:"welcome"`
	}
	all := map[string]body{}
	for rows.Next() {
		var name string
		var text []byte
		var b body
		if err := rows.Scan(&name, &text); err != nil {
			return err
		}
		if err := json.Unmarshal(text, &b); err != nil {
			return fmt.Errorf("the starting point %s: %w", name, err)
		}
		all[name] = b
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for name, b := range all {
		p := b.Policy
		words := []string{"privacy=" + p.Privacy, "join.audience=" + p.Join.Audience, "join.how=" + p.Join.How, "leave=" + p.Leave,
			"externals=" + p.Externals, "hold=" + p.Hold, "suspicious=" + p.Suspicious}
		for q, v := range p.Policy {
			words = append(words, q+"="+v)
		}
		words = slices.DeleteFunc(words, func(w string) bool { return strings.HasSuffix(w, "=") })
		slices.Sort(words[min(len(words), 1):]) // privacy stays first: the others go over it
		_, err := tx.ExecContext(ctx, "UPDATE starting_points SET settings = ?, traits = ?, delivery = ?, welcome = ? WHERE name = ?",
			strings.Join(words, " "), strings.Join(b.Traits, ","), b.Delivery, b.Welcome, name)
		if err != nil {
			return err
		}
	}
	return nil
}

// convertTerms makes term rules of the one term that there was.
func convertTerms(ctx context.Context, tx *sql.Tx) error {
	var value []byte
	var version int
	err := tx.QueryRowContext(ctx, "SELECT value, version FROM settings WHERE name = 'expiry'").Scan(&value, &version)
	if errors.Is(err, sql.ErrNoRows) || err == nil && string(value) == "null" {
		return nil
	} else if err != nil {
		return err
	}
	var old struct {
		TermDays  int    `json:"term_days"`
		Scope     string `json:"scope"`
		Notices   []int  `json:"notices"`
		Caretaker string `json:"caretaker"`
		TimeZone  string `json:"time_zone"`
	}
	if err := json.Unmarshal(value, &old); err != nil {
		return fmt.Errorf("the term of the workspace: %w", err)
	}
	terms := Terms{Rules: []TermRule{}, Notices: old.Notices, RecoveryDays: 30, AddressDays: 90, TimeZone: old.TimeZone}
	if old.TermDays > 0 && old.Scope != "none" {
		terms.Rules = append(terms.Rules, TermRule{Name: "Everything else", Length: fmt.Sprintf("%d days", old.TermDays)})
	}
	if len(terms.Notices) == 0 {
		terms.Notices = []int{42, 14, 3}
	}
	if old.Caretaker != "" {
		terms.Caretakers = append(terms.Caretakers, Caretaker{Address: old.Caretaker})
	}
	if value, err = json.Marshal(terms); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO settings (name, value, version) VALUES ('terms', ?, ?)", string(value), version)
	return err
}

// oldEntry is an entry of the history as it was kept before its kinds had types.
type oldEntry struct {
	id                             int64
	actor, kind, subject, affected string
	group                          sql.Null[uuid.UUID]
	changes                        []oldChange
}

type oldChange struct {
	Field string `json:"field"`
	From  any    `json:"from"`
	To    any    `json:"to"`
	Says  string `json:"says"`
}

// text writes a value of an old change.
func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []any:
		parts := make([]string, len(v))
		for i := range v {
			parts[i] = text(v[i])
		}
		return strings.Join(parts, ", ")
	}
	return fmt.Sprint(v)
}

// date is the day of a moment that was written for the history.
func date(v any) string {
	s := text(v)
	if s == "never" {
		return ""
	}
	day, _, _ := strings.Cut(s, "T")
	return day
}

// convertHistory gives every entry of the history its type.
func convertHistory(ctx context.Context, tx *sql.Tx) error {
	people, err := names(ctx, tx, "SELECT address, name FROM people")
	if err != nil {
		return err
	}
	groups, err := names(ctx, tx, "SELECT id, CONCAT(name, '\n', address) FROM mail_groups")
	if err != nil {
		return err
	}
	c := converter{people: people, groups: groups}
	for after := int64(0); ; {
		entries, err := oldEntries(ctx, tx, after)
		if err != nil || len(entries) == 0 {
			return err
		}
		for _, e := range entries {
			kind, data, err := c.convert(e)
			if err != nil {
				return fmt.Errorf("entry %d of the history: %w", e.id, err)
			}
			if _, err := tx.ExecContext(ctx, "UPDATE history SET kind = ?, data = ?, change_id = ? WHERE id = ?", kind, string(data), NewID().String(), e.id); err != nil {
				return err
			}
			after = e.id
		}
	}
}

func names(ctx context.Context, tx *sql.Tx, query string) (map[string]string, error) {
	rows, err := tx.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var key, name string
		if err := rows.Scan(&key, &name); err != nil {
			return nil, err
		}
		out[key] = name
	}
	return out, rows.Err()
}

func oldEntries(ctx context.Context, tx *sql.Tx, after int64) ([]oldEntry, error) {
	rows, err := tx.QueryContext(ctx, `SELECT h.id, h.actor, h.kind, h.subject, h.group_id, h.changes,
		COALESCE((SELECT MIN(p.address) FROM history_people a JOIN people p ON p.id = a.person_id WHERE a.history_id = h.id), '')
		FROM history h WHERE h.id > ? ORDER BY h.id LIMIT 1000`, after)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []oldEntry
	for rows.Next() {
		var e oldEntry
		var changes []byte
		if err := rows.Scan(&e.id, &e.actor, &e.kind, &e.subject, &e.group, &changes, &e.affected); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(changes, &e.changes); err != nil {
			return nil, fmt.Errorf("entry %d of the history: %w", e.id, err)
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// converter knows what people and groups are called.
type converter struct {
	people map[string]string // by address
	groups map[string]string // name and address on two lines, by identifier
}

func (c converter) who(address string) event.Who {
	if name := c.people[address]; name != address {
		return event.Who{Name: name, Address: address}
	}
	return event.Who{Address: address}
}

func (c converter) convert(e oldEntry) (event.Kind, []byte, error) {
	out := event.Event{Fact: c.fact(e)}
	if e.actor != "the service" {
		out.By = c.who(e.actor)
	}
	if e.group.Valid {
		name, address, known := strings.Cut(c.groups[e.group.V.String()], "\n")
		if !known {
			name, address = e.subject, e.subject // it is gone; its address was kept
			if f := e.find("name"); e.kind == "group.purge" && f.From != nil {
				name = text(f.From)
			}
		}
		out.Group = event.Who{Name: name, Address: address}
	}
	b, err := out.Encode()
	return out.Fact.Kind(), b, err
}

// find returns the change of a field; the zero value without one.
func (e oldEntry) find(field string) oldChange {
	i := slices.IndexFunc(e.changes, func(c oldChange) bool { return c.Field == field })
	if i < 0 {
		return oldChange{}
	}
	return e.changes[i]
}

// changes returns the changes of fields but those that are left out.
func (e oldEntry) fields(but ...string) []event.Change {
	out := []event.Change{}
	for _, c := range e.changes {
		if !slices.Contains(but, c.Field) {
			out = append(out, event.Change{Field: c.Field, From: text(c.From), To: text(c.To), Says: c.Says})
		}
	}
	return out
}

// people returns those who are named as fields of changes: in, out, or changed. Of long
// lists only the first were kept in the entry, with how many there were beside them.
func (c converter) peopleOf(e oldEntry, is func(oldChange) bool) event.People {
	var all []event.Who
	more := 0
	for _, x := range e.changes {
		if strings.Contains(x.Field, "@") && is(x) {
			all = append(all, c.who(x.Field))
		}
		if n, ok := x.To.(float64); ok && x.Field == "people" {
			more = int(n)
		}
	}
	p := event.Of(all...)
	p.Count = max(p.Count, more)
	return p
}

func anyone(oldChange) bool   { return true }
func comes(c oldChange) bool  { return c.From == nil }
func leaves(c oldChange) bool { return c.To == nil }
func number(v any) (n int)    { f, _ := v.(float64); return int(f) }
func role(c oldChange) string { return strings.TrimPrefix(text(c.To), "delivery ") }
func isDelivery(v any) bool   { return strings.HasPrefix(text(v), "delivery ") }

func (c converter) fact(e oldEntry) event.Fact {
	switch e.kind {
	case "group.create":
		return event.GroupCreated{Address: text(e.find("address").To), Reach: text(e.find("policy").To)}
	case "group.change":
		return event.GroupChanged{Changed: e.fields()}
	case "policy.change":
		return event.PolicyChanged{Changed: e.fields()}
	case "group.renew":
		return event.GroupRenewed{From: date(e.find("expires_at").From), Until: date(e.find("expires_at").To)}
	case "group.retire":
		return event.GroupRetired{}
	case "group.restore":
		return event.GroupRestored{Was: text(e.find("state").From), Until: date(e.find("expires_at").To)}
	case "group.lapse":
		return event.GroupLapsed{}
	case "group.purge":
		return event.GroupPurged{}
	case "notice.send":
		var to []string
		for _, a := range strings.Split(text(e.find("to").To), ", ") {
			to = append(to, c.who(a).String())
		}
		return event.NoticeSent{Days: number(e.find("notice_days").To), To: to}
	case "people.add":
		return event.PeopleAdded{People: c.peopleOf(e, anyone)}
	case "people.join":
		return event.Joined{}
	case "people.change":
		f := event.PeopleChanged{People: c.peopleOf(e, anyone)}
		for _, x := range e.changes {
			if isDelivery(x.To) {
				f.Delivery = role(x)
			} else if strings.Contains(x.Field, "@") {
				f.Role = role(x)
			}
		}
		return f
	case "people.remove":
		p := c.peopleOf(e, anyone)
		return event.PeopleRemoved{People: p, Left: p.Count == 1 && p.First[0].Address == e.actor}
	case "people.invite":
		return event.PeopleInvited{People: c.peopleOf(e, anyone)}
	case "request.make":
		return event.RequestMade{To: text(e.find("request").To)}
	case "request.approve":
		return event.RequestApproved{Of: c.who(e.affected), To: text(e.find("request").From), Reason: text(e.find("reason").To)}
	case "request.decline":
		return event.RequestDeclined{Of: c.who(e.affected), To: text(e.find("request").From), Reason: text(e.find("reason").To)}
	case "request.withdraw":
		return event.RequestWithdrawn{To: text(e.find("request").From)}
	case "invitation.call_back":
		return event.InvitationCalledBack{Of: c.first(e)}
	case "invitation.accept":
		return event.InvitationAccepted{Role: "member"}
	case "invitation.decline":
		return event.InvitationDeclined{}
	case "link.create":
		return event.JoinLinkCreated{Until: date(e.find("expires_at").To), Max: number(e.find("most").To)}
	case "link.call_back":
		return event.JoinLinkCalledBack{Uses: number(e.find("uses").To)}
	case "standing.set":
		first := oldChange{}
		if len(e.changes) > 0 {
			first = e.changes[0]
		}
		return event.OverrideSet{Of: c.who(first.Field), From: text(first.From), To: text(first.To), Reason: text(e.find("reason").To)}
	case "rule.set":
		in, out := c.peopleOf(e, comes), c.peopleOf(e, leaves)
		return event.RuleSet{From: text(e.find("rule").From), To: text(e.find("rule").To), GuardFrom: number(e.find("guard").From),
			Guard: number(e.find("guard").To), Come: in.Count, Go: out.Count}
	case "rule.delete":
		out := c.peopleOf(e, leaves)
		return event.RuleDeleted{Rule: text(e.find("rule").From), Kept: out.Count == 0, Go: out.Count}
	case "rule.follow":
		return event.RuleFollowed{Cause: text(e.find("cause").To), In: c.peopleOf(e, comes), Out: c.peopleOf(e, leaves)}
	case "post.approve":
		return event.PostApproved{Author: e.subject, Subject: text(e.find("subject").From)}
	case "post.decline":
		return event.PostDeclined{Author: e.subject, Subject: text(e.find("subject").From), Reason: text(e.find("reason").To)}
	case "expiry.change":
		return event.ExpiryChanged{Changed: e.fields("groups"), Effect: e.find("groups").Says}
	case "naming.change":
		return event.NamingChanged{Changed: e.fields("groups"), Effect: e.find("groups").Says}
	case "start.save":
		return event.StartingPointSaved{Name: e.subject, Title: e.subject, Reach: text(e.find("policy").To)}
	case "start.delete":
		return event.StartingPointDeleted{Name: e.subject, Title: e.subject}
	case "person.create":
		return event.PersonCreated{Of: event.Who{Name: text(e.find("name").To), Address: e.subject}}
	case "person.change":
		return event.PersonChanged{Of: c.who(e.subject), Changed: e.fields()}
	case "person.depart":
		f := event.PersonDeparted{Of: c.who(e.subject)}
		for _, x := range e.changes {
			if text(x.From) != "owned" {
				continue
			}
			f.Left = append(f.Left, event.Who{Address: x.Field})
			if to := text(x.To); to != "no owner" {
				f.HandedTo = c.who(to)
			}
		}
		return f
	case "person.return":
		return event.PersonReturned{Of: c.who(e.subject)}
	case "people.import":
		var f event.PeopleImported
		var lines, same, wrong int
		says := text(e.find("import").To)
		_, _ = fmt.Sscanf(says, "Of %d lines: %d new, %d changed, %d the same, %d wrong.", &lines, &f.New, &f.Changed, &same, &wrong)
		for _, part := range strings.Split(says, ". ") {
			switch {
			case strings.Contains(part, " return"):
				_, _ = fmt.Sscanf(strings.TrimSpace(part), "%d", &f.Returned)
			case strings.Contains(part, " depart"):
				_, _ = fmt.Sscanf(strings.TrimSpace(part), "%d", &f.Departed)
			}
		}
		return f
	case "person.password_link":
		return event.PasswordLinkSent{Of: c.who(e.subject)}
	case "person.password":
		return event.PasswordChanged{}
	case "token.create":
		return event.TokenCreated{Name: e.subject}
	}
	return event.TokenRevoked{Name: e.subject}
}

// first is whoever the first change names.
func (c converter) first(e oldEntry) event.Who {
	if len(e.changes) == 0 {
		return event.Who{}
	}
	return c.who(e.changes[0].Field)
}
