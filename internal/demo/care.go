package demo

import (
	"context"
	"errors"

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
	return errors.Join(err, failed)
}
