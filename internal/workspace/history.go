package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
)

// History lists what changed, newest first: in one group, or in the workspace.
func (w *Workspace) History(ctx context.Context, a Actor, ref, cursor string, limit int) (api.Page[api.HistoryEntry], error) {
	none := api.Page[api.HistoryEntry]{}
	var group uuid.UUID
	if ref != "" {
		g, _, err := w.findFor(ctx, a, readHistory, ref)
		if err != nil {
			return none, err
		}
		group = g.ID
	} else if err := allow(a, readAllChange); err != nil {
		return none, err
	}
	before, err := parsePlace(cursor)
	if err != nil {
		return none, err
	}
	rows, next, err := w.store.History(ctx, group, before, limit)
	if err != nil {
		return none, err
	}
	return historyPage(rows, next)
}

// HistoryOfPerson lists what somebody did, and what was done to them, newest first.
func (w *Workspace) HistoryOfPerson(ctx context.Context, a Actor, ref, cursor string, limit int) (api.Page[api.HistoryEntry], error) {
	none := api.Page[api.HistoryEntry]{}
	if err := allow(a, readAllChange); err != nil {
		return none, err
	}
	p, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	before, err := parsePlace(cursor)
	if err != nil {
		return none, err
	}
	rows, next, err := w.store.HistoryOfPerson(ctx, p.ID, before, limit)
	if err != nil {
		return none, err
	}
	return historyPage(rows, next)
}

// parsePlace reads a cursor of the history, 0 for the newest entry.
func parsePlace(cursor string) (int64, error) {
	if cursor == "" {
		return 0, nil
	}
	before, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || before < 1 {
		return 0, wrong("cursor", cursor, fmt.Sprintf("The cursor %q was not given out by this service.", cut(cursor, 40)))
	}
	return before, nil
}

func historyPage(rows []store.Change, next int64) (api.Page[api.HistoryEntry], error) {
	out := api.Page[api.HistoryEntry]{Items: make([]api.HistoryEntry, 0, len(rows)), Total: -1}
	for _, c := range rows {
		e := api.HistoryEntry{ID: c.ID, At: c.At, Actor: c.Actor, Via: c.Via, Action: c.Action, Subject: c.Subject, RequestID: c.RequestID}
		if c.GroupID != nil {
			e.GroupID = c.GroupID.String()
		}
		if err := json.Unmarshal(c.Changes, &e.Changes); err != nil {
			return out, fmt.Errorf("read the history: %w", err)
		}
		out.Items = append(out.Items, e)
	}
	if next > 0 {
		out.Next = strconv.FormatInt(next, 10)
	}
	return out, nil
}
