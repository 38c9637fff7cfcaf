package httpapi

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
)

// Answers are written by another library than the one that clients' answers are
// checked with: both have to write the same.
func TestAnswersAreWrittenAsTheStandardLibraryDoes(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 123456000, time.UTC)
	days := -3
	odd := "<b>\"quoted\" & \\ \x00\x1f\u2028 \xff é 漢 🚢</b>\r\n"
	for _, v := range []any{
		api.Page[api.Group]{Items: []api.Group{{ID: "x", Name: odd, Aliases: []string{}, Owners: []api.Owner{{Name: odd}}, CreatedAt: at,
			Term: api.Term{RenewedAt: at, ExpiresOn: &odd, DaysLeft: &days, Exempt: &api.Exempt{Reason: odd}}, May: []string{"read"}}}, Next: "n", Total: 1 << 40},
		api.Page[api.Group]{},
		api.PersonDetails{Person: api.Person{Name: odd, Attributes: map[string]string{"b": odd, "a": "", "c": "x"}}, CreatedAt: at},
		api.HistoryEntry{At: at, Changes: []api.Change{{Field: "f", From: odd}}, Fields: map[string]any{"n": nil, "x": 1e21, "l": []string{odd}, "m": map[string]any{"z": 1.5, "a": true}}},
		api.Rule{Expression: odd, SetAt: at, Pending: &api.PendingRuleChange{At: at, Cause: odd}},
		newProblem(422, odd),
		[]api.Token{}, map[string]int{"b": 1, "a": -1}, nil,
	} {
		var got, want bytes.Buffer
		e := json.NewEncoder(&want)
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			t.Fatal(err)
		}
		if err := encode(&got, v); err != nil || got.String() != want.String() {
			t.Errorf("%T is written as\n%s%v, the standard library writes\n%s", v, &got, err, &want)
		}
	}
}
