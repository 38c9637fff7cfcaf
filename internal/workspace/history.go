package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
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
	var before int64
	if cursor != "" {
		var err error
		if before, err = strconv.ParseInt(cursor, 10, 64); err != nil || before < 1 {
			return none, wrong("cursor", cursor, fmt.Sprintf("The cursor %q was not given out by this service.", cut(cursor, 40)))
		}
	}
	rows, next, err := w.store.History(ctx, group, before, limit)
	if err != nil {
		return none, err
	}
	out := api.Page[api.HistoryEntry]{Items: make([]api.HistoryEntry, 0, len(rows)), Total: -1}
	for _, c := range rows {
		e := api.HistoryEntry{ID: c.ID, At: c.At, Actor: c.Actor, Via: c.Via, Action: c.Action, Subject: c.Subject, RequestID: c.RequestID}
		if c.GroupID != nil {
			e.GroupID = c.GroupID.String()
		}
		if err := json.Unmarshal(c.Changes, &e.Changes); err != nil {
			return none, fmt.Errorf("read the history: %w", err)
		}
		out.Items = append(out.Items, e)
	}
	if next > 0 {
		out.Next = strconv.FormatInt(next, 10)
	}
	return out, nil
}
