// Package history reads the record of every change. It is written by the changes
// themselves: workspace.Change.Record.
package history

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service reads the history.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// List lists what changed, newest first, that a filter matches: in one group, or in the
// workspace.
func (s *Service) List(ctx context.Context, by workspace.Actor, ref, text, cursor string, limit int) (api.Page[api.HistoryEntry], error) {
	none := api.Page[api.HistoryEntry]{}
	v := s.k.View(ctx, by)
	var group uuid.UUID
	if ref != "" {
		g, err := v.FindGroup(ref, access.ReadHistory)
		if err != nil {
			return none, err
		}
		group = g.ID
	} else if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return none, err
	}
	r, err := v.Filter("history", text)
	if err != nil {
		return none, err
	}
	return page(v, cursor, limit, []any{"history", group, text}, func(before int64) ([]store.Event, error) {
		rows, err := v.Read.Events(group, r, before, limit+1)
		return rows, workspace.Filtered(err)
	})
}

// OfPerson lists what somebody did, and what was done to them, newest first.
func (s *Service) OfPerson(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.HistoryEntry], error) {
	none := api.Page[api.HistoryEntry]{}
	if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	p, err := people.Find(v, ref)
	if err != nil {
		return none, err
	}
	return page(v, cursor, limit, []any{"history of", p.ID}, func(before int64) ([]store.Event, error) {
		return v.Read.EventsOfPerson(p.ID, store.AddressID(p.AddrKey), before, limit+1)
	})
}

func page(v *workspace.View, cursor string, limit int, what []any, read func(before int64) ([]store.Event, error)) (api.Page[api.HistoryEntry], error) {
	out := api.Page[api.HistoryEntry]{Items: []api.HistoryEntry{}, Total: -1}
	after, err := v.Cursor(cursor, what...)
	if err != nil {
		return out, err
	}
	rows, err := read(after.Total)
	if err != nil {
		return out, err
	}
	if len(rows) > limit {
		rows = rows[:limit]
		last := rows[limit-1].ID
		out.Next = store.Cursor{Value: "before", Total: last, Of: after.Of}.String()
	}
	for _, r := range rows {
		e, err := shape(v, r)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, e)
	}
	return out, nil
}

func shape(v *workspace.View, row store.Event) (api.HistoryEntry, error) {
	e, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
	if err != nil {
		return api.HistoryEntry{}, err
	}
	undo := e.Undo()
	out := api.HistoryEntry{ID: row.ID, ChangeID: row.ChangeID.String(), At: v.In(row.At), Kind: row.Kind, Says: e.Sentence(), Actor: api.Name(e.By), Via: row.Via,
		Changes: Changes(e.Changes()), Undo: api.Undo(undo), Request: row.RequestID, Fields: map[string]any{}}
	if row.GroupID != nil {
		out.GroupID, out.Group = row.GroupID.String(), &api.Name{Name: e.Group.Name, Address: e.Group.Address}
	}
	b, err := json.Marshal(e.Fact)
	if err == nil {
		err = json.Unmarshal(b, &out.Fields)
	}
	return out, err
}

// Changes shapes changes of fields.
func Changes(in []event.Change) []api.Change {
	out := make([]api.Change, len(in))
	for i, c := range in {
		out[i] = api.Change{Field: c.Field, Label: label(c.Field), From: c.From, To: c.To, Says: c.Says}
	}
	return out
}

// labels are the words for fields: the settings of a policy, and what the directory has.
var labels = sync.OnceValue(func() map[string]string {
	out := map[string]string{"name": "Name", "active": "Here"}
	for _, a := range rule.Attributes() {
		if a.Field != "" && out[a.Field] == "" {
			out[a.Field] = a.Label
		}
	}
	for _, d := range policy.Describe() {
		out[d.Name], out[d.Path] = d.Asks, d.Asks
	}
	return out
})

// label is a field in words.
func label(field string) string {
	words := labels()[field]
	if words == "" {
		words = strings.ReplaceAll(field, "_", " ")
	}
	if words == "" || strings.Contains(words, "@") {
		return words
	}
	first, size := utf8.DecodeRuneInString(words)
	return string(unicode.ToUpper(first)) + words[size:]
}

// Find returns an entry that the actor may read.
func Find(v *workspace.View, id int64) (store.Event, error) {
	none := workspace.Fail(workspace.NotFound, "There is no entry %d of a history that you may read.", id)
	if err := v.By.SignedIn(); err != nil {
		return store.Event{}, err
	}
	row, err := v.Read.Event(id)
	if errors.Is(err, store.ErrNotFound) {
		return row, none
	} else if err != nil {
		return row, err
	}
	if v.By.Allow(access.ReadWorkspaceHistory) == nil {
		return row, nil
	}
	if row.GroupID == nil {
		return row, none
	}
	if _, err := v.FindGroup(row.GroupID.String(), access.ReadHistory); err != nil {
		var e *workspace.Error
		if errors.As(err, &e) {
			return row, none // what may not be seen is not there
		}
		return row, err
	}
	return row, nil
}

// Read returns one entry.
func (s *Service) Read(ctx context.Context, by workspace.Actor, id int64) (api.HistoryEntry, error) {
	v := s.k.View(ctx, by)
	row, err := Find(v, id)
	if err != nil {
		return api.HistoryEntry{}, err
	}
	return shape(v, row)
}

// Affected lists everybody whom an entry affected.
func (s *Service) Affected(ctx context.Context, by workspace.Actor, id int64, cursor string, limit int) (api.Page[api.Affected], error) {
	out := api.Page[api.Affected]{Items: []api.Affected{}}
	v := s.k.View(ctx, by)
	row, err := Find(v, id)
	if err != nil {
		return out, err
	}
	after, err := v.Cursor(cursor, "affected", row.ID)
	if err != nil {
		return out, err
	}
	rows, total, err := v.Read.AffectedBy(row.ID, after.ID, limit+1)
	out.Total = total
	if len(rows) > limit {
		rows = rows[:limit]
		out.Next = store.Cursor{ID: rows[limit-1].PersonID, Total: total, Of: after.Of}.String()
	}
	for _, r := range rows {
		out.Items = append(out.Items, api.Affected{Name: r.Name, Address: r.Address, Was: r.Was, Now: r.Now})
	}
	return out, err
}

// TakenOut returns whom an entry took out of its group, with the roles that they had.
func TakenOut(v *workspace.View, field string, id int64) ([]store.Affected, error) {
	none := workspace.Wrong(strings.TrimPrefix(field+".taken_out_by", "."), id, "No entry %d of a history that you may read took anybody out of a group.", id)
	if _, err := Find(v, id); err != nil {
		var e *workspace.Error
		if errors.As(err, &e) {
			return nil, none
		}
		return nil, err
	}
	rows, err := v.Read.TakenOutBy(id)
	if err == nil && len(rows) == 0 {
		err = none
	}
	return rows, err
}
