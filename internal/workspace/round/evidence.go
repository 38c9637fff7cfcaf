package round

import (
	"context"
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// evidence are the columns of what was answered in a round: the last two say where that stands in the history.
var evidence = []string{"round", "group", "address", "owners", "people", "external", "asked_at", "state", "confirmed", "people_removed", "note", "says", "answered_by", "answered_by_name", "answered_at", "via", "history_entry", "history_seal"}

// Evidence writes what was answered about each group of a round, by whom and when, with the entry of the history that says the
// same, and its seal.
func (s *Service) Evidence(ctx context.Context, by workspace.Actor, id string, x workspace.Export) error {
	if err := by.Allow(access.ReadReview); err != nil {
		return err
	}
	v := s.k.View(ctx, by)
	r, err := find(v, id)
	if err != nil {
		return err
	}
	rows := x.Begin("round", evidence)
	return rows.End(v.Read.EachEvidence(r.ID, func(e store.Evidence) error {
		out := api.RoundEvidence{Round: r.Name, RoundGroup: shapeGroup(v, e.RoundGroup), Entry: e.Entry, Seal: hex.EncodeToString(e.Seal)}
		return rows.Row(out, func() []string {
			who, name, at, entry := "", "", "", ""
			if out.AnsweredBy != nil {
				who, name = out.AnsweredBy.Address, out.AnsweredBy.Name
			}
			if out.AnsweredAt != nil {
				at = out.AnsweredAt.Format(time.RFC3339)
			}
			if e.Entry > 0 {
				entry = strconv.FormatInt(e.Entry, 10)
			}
			return []string{api.Cell(r.Name), api.Cell(e.Name), api.Cell(e.Address), api.Cell(strings.Join(out.Owners, "; ")), strconv.Itoa(e.People), strconv.Itoa(e.External), out.AskedAt.Format(time.RFC3339), out.State,
				strings.Join(out.Confirmed, "; "), strconv.Itoa(e.Removed), api.Cell(e.Note), api.Cell(e.Says), api.Cell(who), api.Cell(name), at, e.Via, entry, out.Seal}
		})
	}))
}
