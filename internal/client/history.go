package client

import (
	"context"
	"net/http"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// History lists changes: of one group, or of the workspace.
func (c *Client) History(ctx context.Context, ref, filter string, p Paging) (api.Page[api.HistoryEntry], error) {
	path := "/history"
	if ref != "" {
		path = at("groups", ref, "history")
	}
	return get[api.Page[api.HistoryEntry]](ctx, c, path, set(p.values(), map[string]string{"filter": filter}))
}

// HistoryOfPerson lists what somebody did, and what was done to them.
func (c *Client) HistoryOfPerson(ctx context.Context, ref string, p Paging) (api.Page[api.HistoryEntry], error) {
	return get[api.Page[api.HistoryEntry]](ctx, c, at("people", ref, "history"), p.values())
}

// HistoryEntry returns one entry of the history.
func (c *Client) HistoryEntry(ctx context.Context, id int64) (api.HistoryEntry, error) {
	return get[api.HistoryEntry](ctx, c, at("history", strconv.FormatInt(id, 10)), nil)
}

// Affected lists everybody whom an entry of the history affected.
func (c *Client) Affected(ctx context.Context, id int64, p Paging) (api.Page[api.Affected], error) {
	return get[api.Page[api.Affected]](ctx, c, at("history", strconv.FormatInt(id, 10), "affected"), p.values())
}

// Seal returns the last seal of the history.
func (c *Client) Seal(ctx context.Context) (api.Seal, error) {
	return get[api.Seal](ctx, c, "/history-seal", nil)
}

// VerifyHistory goes along the chain of the history, and compares it with seals that were kept elsewhere.
func (c *Client) VerifyHistory(ctx context.Context, kept ...api.KeptSeal) (api.Verification, error) {
	return ask[api.Verification](ctx, c, "/history-verifications", api.Verify{Kept: kept})
}

// UndoEntry takes back what an entry of the history did.
func (c *Client) UndoEntry(ctx context.Context, entry int64) (api.Undone, error) {
	return change[api.Undone](ctx, c, http.MethodPost, at("history", strconv.FormatInt(entry, 10), "undo"), nil)
}

// HistoryKeeping returns for how long the history is kept.
func (c *Client) HistoryKeeping(ctx context.Context) (api.HistoryKeeping, error) {
	return get[api.HistoryKeeping](ctx, c, "/history-keeping", nil)
}

// SetHistoryKeeping changes for how long the history is kept.
func (c *Client) SetHistoryKeeping(ctx context.Context, n api.HistoryKeeping) (api.HistoryKeeping, error) {
	return change[api.HistoryKeeping](ctx, c, http.MethodPut, "/history-keeping", n)
}
