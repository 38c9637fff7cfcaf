package demo

import (
	"context"
	"errors"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace/member"
)

// care has the review look at everything, and the administrator decide about some of what it found.
func (f *filler) care(ctx context.Context) error {
	f.on(0, 0)
	shift, _, err := f.Member.List(ctx, f.ines, "engine-a@"+crewDomain, member.Query{Kind: "person", Limit: 100})
	if err != nil {
		return err
	}
	watch := api.NewGroup{Quiet: true, Name: "First Watch", Address: "first-watch@" + crewDomain, Description: "The watch from midnight to four.", Owners: []string{}}
	for _, m := range shift.Items {
		watch.People = append(watch.People, api.NewPerson{Address: m.Address, Role: m.Role})
	}
	if _, err := f.Group.Create(ctx, f.ines, watch); err != nil {
		return err
	}
	limits, err := f.Review.Limits(ctx, f.ines)
	if err != nil {
		return err
	}
	limits.SoleGroups, limits.AliasDays = 3, 180
	if _, err := f.Review.SetLimits(ctx, f.ines, limits, 0); err != nil {
		return err
	}
	list := func(l api.FindingsList) api.FindingsChoice { return api.FindingsChoice{List: &l} }
	until := f.today.AddDate(0, 6, 0).Format("2006-01-02")
	_, err = f.Review.Accept(ctx, f.ines, api.FindingsAccepted{FindingsChoice: list(api.FindingsList{Kinds: []string{"one_owner"}, Filter: `exempt eq true`}), Reason: "The office stands in for them.", Until: until})
	_, failed := f.Review.Assign(ctx, f.ines, api.FindingsAssigned{FindingsChoice: list(api.FindingsList{Kinds: []string{"not_described"}, Filter: `domain eq "` + crewDomain + `"`}), To: "jonas.keel@" + crewDomain, Note: "One sentence for each is enough."})
	_, kept := f.History.SetKeeping(ctx, f.ines, api.HistoryKeeping{Months: 120, SealsTo: []string{Auditor}, Every: "week"}, 0)
	return errors.Join(err, failed, kept)
}

// rounds has the owners of groups asked to confirm them: of those with outsiders in summer, of the bigger ones now. Most answer.
func (f *filler) rounds(ctx context.Context, back int) error {
	due := func(days int) string { return f.today.AddDate(0, 0, days-back).Format(time.DateOnly) }
	var err error
	switch back {
	case 120:
		_, err = f.Round.Begin(ctx, f.ines, api.NewRound{Name: "Outsiders, summer", Filter: "external gt 0", Questions: []string{"people"}, DueOn: due(28), Reminders: []int{7}, Silence: "caretaker"})
	case 12:
		_, err = f.Round.Begin(ctx, f.ines, api.NewRound{Name: "Autumn round", Filter: "people ge 12", Questions: []string{"people", "policy", "owner"}, DueOn: due(30), Reminders: []int{14, 3}, Silence: "caretaker", EveryMonths: 12, Note: "The safety auditors come in January and look at who is in our groups."})
	}
	if err != nil || back > 120 {
		return err
	}
	open, err := f.Round.List(ctx, f.ines, "", 10)
	if err != nil {
		return err
	}
	for _, r := range open.Items {
		if r.State != "open" {
			continue
		}
		groups, err := f.Round.Groups(ctx, f.ines, r.ID, []string{"waiting"}, "", "", 200)
		if err != nil {
			return err
		}
		for i, g := range groups.Items {
			if len(g.Owners) == 0 || (i*7+back)%23 != 0 || g.Owners[0] == Owner {
				continue
			}
			owner, err := f.as(ctx, g.Owners[0])
			if err != nil {
				return err
			}
			n := api.RoundAnswer{IDs: []string{g.ID}, Answer: "keep", Note: []string{"", "", "Looked at with the shift leaders.", ""}[i%4]}
			for _, q := range r.Questions {
				n.Confirmed = append(n.Confirmed, q.Question)
			}
			if _, err := f.Round.Answer(ctx, owner, n); err != nil {
				return err
			}
		}
	}
	return f.Round.Run(ctx)
}
