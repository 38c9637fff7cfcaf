package round

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/review"
)

// Report is the state of the directory on one page.
func (s *Service) Report(ctx context.Context, by workspace.Actor, r *review.Service) (out api.Report, err error) {
	if err := by.Allow(access.ReadReview); err != nil {
		return out, err
	}
	v := s.k.View(ctx, by)
	out = api.Report{At: v.In(v.Now()), Externals: []api.ReportDomain{}, Biggest: []api.ReportGroup{}, Rounds: []api.ReportedRound{}}
	const living = `(state eq "active" or state eq "due")`
	if out.Groups, err = s.counted(ctx, by, []api.ReportNumber{
		{Name: "living", Says: "groups live", Filter: living}, {Name: "due", Says: "of them are due", State: "due"}, {Name: "unowned", Says: "have no owner", Filter: "owners eq 0 and " + living},
		{Name: "one_owner", Says: "have one owner", Filter: "owners eq 1 and " + living}, {Name: "exempt", Says: "are exempt from the term rules", Filter: "exempt eq true and " + living}, {Name: "held", Says: "are under hold", Filter: "under_hold eq true"},
		{Name: "lapsed", Says: "lapsed and can be restored", State: "lapsed"}, {Name: "retired", Says: "were retired and can be restored", State: "retired"}}); err != nil {
		return out, err
	}
	if out.Expiring, err = s.counted(ctx, by, []api.ReportNumber{
		{Name: "expire_30", Says: "expire within 30 days", Filter: "days_left lt 31"}, {Name: "expire_90", Says: "expire within 90 days", Filter: "days_left lt 91"}, {Name: "expire_365", Says: "expire within a year", Filter: "days_left lt 366"}}); err != nil {
		return out, err
	}
	for _, x := range []api.ReportNumber{{Name: "here", Says: "people are here", State: "here"}, {Name: "departed", Says: "have left", State: "departed"}, {Name: "outsiders", Says: "outsiders are known", State: "external"}} {
		p, err := people.New(s.k).List(ctx, by, people.Query{Kind: x.State, Limit: 1})
		if err != nil {
			return out, err
		}
		x.List, x.Count = "people", int(p.Total)
		out.People = append(out.People, x)
	}
	n, err := v.Read.Memberships(v.Now())
	if err != nil {
		return out, err
	}
	outside, err := external.New(s.k).List(ctx, by, external.Query{Limit: 1})
	if err != nil {
		return out, err
	}
	out.People = append(out.People, api.ReportNumber{Name: "memberships", Says: "memberships in living groups", Count: n}, api.ReportNumber{Name: "external", Says: "memberships of outsiders", Count: int(outside.Total), List: "externals"})
	if out.Findings, err = r.Kinds(ctx, by, review.Query{}); err != nil {
		return out, err
	}
	days, err := r.Trend(ctx, by, 366)
	if err != nil {
		return out, err
	}
	out.Days = monthly(days.Items)
	domains, all, err := v.Read.ExternalDomains(v.Now(), 10)
	if err != nil {
		return out, err
	}
	out.Domains = all
	for _, d := range domains {
		out.Externals = append(out.Externals, api.ReportDomain(d))
	}
	big, err := v.Read.Biggest(v.Now(), 10)
	if err != nil {
		return out, err
	}
	for _, g := range big {
		out.Biggest = append(out.Biggest, api.ReportGroup{Group: api.Name{Name: g.Name, Address: g.Address}, People: g.People, External: g.ExternalMembers})
	}
	rounds, err := v.Read.Rounds(store.Cursor{}, 5)
	if err != nil {
		return out, err
	}
	shaped, err := shapes(v, rounds.Items)
	for _, x := range shaped {
		out.Rounds = append(out.Rounds, api.ReportedRound{ID: x.ID, Name: x.Name, DueOn: x.DueOn, State: x.State, Counts: x.Counts})
	}
	return out, err
}

// monthly keeps the last day of each month, and the last of all.
func monthly(days []api.ReviewDay) []api.ReviewDay {
	out := []api.ReviewDay{}
	for i, d := range days {
		if i == len(days)-1 || days[i+1].Day[:7] != d.Day[:7] {
			out = append(out, d)
		}
	}
	return out
}

// counted counts the groups of the lists that numbers name: what is said is what the list has.
func (s *Service) counted(ctx context.Context, by workspace.Actor, all []api.ReportNumber) ([]api.ReportNumber, error) {
	for i := range all {
		q := group.Query{Filter: all[i].Filter, Limit: 1}
		if all[i].State != "" {
			q.States = []string{all[i].State}
		}
		p, err := group.New(s.k).List(ctx, by, q)
		if err != nil {
			return nil, err
		}
		all[i].List, all[i].Count = "groups", int(p.Total)
	}
	return all, nil
}
