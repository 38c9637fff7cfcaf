package workspace

import (
	"errors"
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/number"
)

// Retry is what is done with mail that could not be delivered, beside the verdicts on what
// waits.
const Retry = "retry"

// DecideEach decides requests or posts, which noun calls them, each by one change of its
// own, and says what became of them. A trouble that nobody can do anything about ends it.
func DecideEach(by Actor, d api.Decisions, noun string, one func(by Actor, id string, out *api.Decided) error) (api.DecidedAll, error) {
	done := map[string]string{"approve": "approved", "decline": "declined", Retry: "tried again"}[d.Verdict]
	if done == "" {
		return api.DecidedAll{}, Wrong("verdict", d.Verdict, "There is no verdict %q: choose approve or decline.", d.Verdict)
	}
	return EachOf(by, d.IDs, noun, done, one)
}

// EachOf does something with each of several, by one change of its own, and says what became of them: noun calls them, done what
// is done.
func EachOf(by Actor, ids []string, noun, done string, one func(by Actor, id string, out *api.Decided) error) (api.DecidedAll, error) {
	all := api.DecidedAll{Results: make([]api.Decided, 0, len(ids))}
	report := by.Report
	for _, id := range ids {
		if by.Preview {
			by.Report = newReport()
		}
		out := api.Decided{ID: Cut(id, 50), Outcome: done}
		err := one(by, id, &out)
		if e := new(Error); errors.As(err, &e) {
			out.Outcome, out.Says = "refused", e.Says
		} else if err != nil && !Previewed(err) {
			return all, err
		} else {
			all.Decided++
		}
		all.Results = append(all.Results, out)
	}
	all.Says = fmt.Sprintf("%s %s.", number.Of(all.Decided, noun), done)
	if all.Decided < len(ids) {
		all.Says = fmt.Sprintf("%d of %s %s; the others say why not.", all.Decided, number.Of(len(ids), noun), done)
	}
	if !by.Preview {
		return all, nil
	}
	report.Says, report.Total, report.Ready = all.Says, len(all.Results), all.Decided
	for _, r := range all.Results {
		report.Sample = append(report.Sample, api.Line{Given: r.ID, Name: r.Person, Outcome: r.Outcome, Says: strings.TrimSpace(r.Group + " " + r.Subject + " " + r.Says)})
	}
	return all, errPreviewed
}
