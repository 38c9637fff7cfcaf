package demo

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/member"
)

// naming is what groups of Merrow Line may be called.
var naming = api.Naming{Creators: "workspace", Pattern: "{name} ({locality})", Patterns: []api.NamePattern{{Filter: `domain eq "crew.merrowline.example"`, Pattern: "{name}"}}, Words: []string{"payroll", "works council", "emergency"}, Beginnings: []string{"All", "Merrow Line"}}

// requests are those of the last days: who asks for what.
var requests = []struct {
	back           int
	from, to, note string
	leave          bool
}{
	{24, "bram.tolley@merrowline.example", "fire-wardens@merrowline.example", "For the dispatch room.", false},
	{6, "jonas.keel@crew.merrowline.example", "tide-and-weather@merrowline.example", "", false},
	{5, Member, "first-aiders@merrowline.example", "I have the certificate since October.", false},
	{5, "petra.vane@merrowline.example", "night-dispatch@merrowline.example", "I take three nights in December.", false},
	{4, "elin.marram@merrowline.example", "night-dispatch@merrowline.example", "", false},
	{4, "rurik.gale@merrowline.example", "fire-wardens@merrowline.example", "The workshop has no warden on Sundays.", false},
	{3, "mira.stor@crew.merrowline.example", "night-dispatch@merrowline.example", "To hear about engine calls at night.", false},
	{2, "hale.corran@merrowline.example", "day-dispatch@merrowline.example", "", false},
	{1, "jonas.keel@crew.merrowline.example", "engine@crew.merrowline.example", "I train as second engineer.", false},
	{1, Member, "day-dispatch@merrowline.example", "I only work nights now.", true},
}

// staff gives the sample what people do with people, on one of the last days: rules of
// naming and of membership, requests, invitations, a link, what is settled about somebody.
func (f *filler) staff(ctx context.Context, back int) error {
	switch back {
	case 190:
		_, err := f.Group.Change(ctx, f.ines, "day-dispatch@merrowline.example", api.GroupPatch{Aliases: &[]string{"days@merrowline.example"}}, 0)
		return err
	case 7:
		return f.settle(ctx)
	case 3:
		if err := f.nest(ctx); err != nil {
			return err
		}
	case 2:
		if err := f.invite(ctx); err != nil {
			return err
		}
	}
	for _, x := range requests {
		if x.back != back {
			continue
		}
		by, err := f.as(ctx, x.from)
		if err != nil {
			return fmt.Errorf("%s: %w", x.from, err)
		}
		do := f.Joining.Join
		if x.leave {
			do = f.Joining.Leave
		}
		if _, err := do(ctx, by, x.to, api.JoinRequest{Note: x.note}); err != nil {
			var e *workspace.Error
			if errors.As(err, &e) && e.Kind == workspace.Conflict {
				continue // is in it by chance
			}
			return fmt.Errorf("%s to %s: %w", x.from, x.to, err)
		}
	}
	return nil
}

func (f *filler) settle(ctx context.Context) error {
	if _, err := f.Naming.Set(ctx, f.ines, naming, 0); err != nil {
		return err
	}
	if _, err := f.Naming.SaveStartingPoint(ctx, f.ines, "seasonal-route", api.NewStartingPoint{Title: "Seasonal route", About: new("For a route that sails for a few months; crew and terminals together."),
		From: "summer-tern@merrowline.example"}, 0); err != nil {
		return err
	}
	aliases := []string{"nights@merrowline.example"}
	if _, err := f.Group.Change(ctx, f.ines, night, api.GroupPatch{Aliases: &aliases}, 0); err != nil {
		return err
	}
	for _, g := range byRule {
		if _, err := f.Group.Create(ctx, f.ines, g); err != nil {
			return fmt.Errorf("%s: %w", g.Name, err)
		}
	}
	if _, err := f.Reach.ChangePolicy(ctx, f.ines, "day-dispatch@merrowline.example", api.PolicyPatch{Leave: "asking"}, 0); err != nil {
		return err
	}
	ceilings := api.NewCeilings{Ceilings: []api.NewCeiling{{Setting: "see_people", AtMost: "workspace", Reason: "Who is in a group is nothing for the internet."},
		{Setting: "speak_as", AtMost: "owners", Filter: `domain eq "crew.merrowline.example"`, Reason: "Who speaks as a crew answers for it."}}}
	if _, err := f.Bulk.SetCeilings(ctx, f.ines, ceilings, 0); err != nil {
		return err
	}
	if err := f.shifts(ctx); err != nil {
		return err
	}
	address := "hanno.reef-marram@merrowline.example" // married
	if _, err := f.Directory.Change(ctx, f.ines, "hanno.marram@merrowline.example", api.PersonPatch{Address: &address, Name: new("Hanno Reef-Marram")}, 0); err != nil {
		return err
	}
	until := f.now.AddDate(0, 0, 20).Format(time.DateOnly)
	if _, err := f.Member.ChangeOne(ctx, f.ines, "regatta-week@merrowline.example", Member, api.MemberPatch{Until: until}, 0); err != nil {
		return err
	}
	if err := f.stray(ctx); err != nil {
		return err
	}
	if err := errors.Join(f.show(ctx), f.hand(ctx)); err != nil {
		return err
	}
	return f.vouch(ctx)
}

// stray begins a group again from a starting point, from which it differs by now.
func (f *filler) stray(ctx context.Context) error {
	const purchasing = "purchasing@merrowline.example"
	if _, err := f.Bulk.Begin(ctx, f.ines, api.NewBulk{Groups: []string{purchasing}, Start: "intake"}); err != nil {
		return err
	}
	if err := f.Bulk.Run(ctx); err != nil {
		return err
	}
	_, err := f.Reach.ChangePolicy(ctx, f.ines, purchasing, workspace.PolicyPatch("externals=owners speak_for=members hold=non_members"), 0)
	return err
}

// show has Merrow Line show some groups on the internet, and somebody from outside ask to be in one.
func (f *filler) show(ctx context.Context) error {
	if _, err := f.Public.SetRules(ctx, f.ines, api.PublicPages{Pages: true, List: true}, 0); err != nil {
		return err
	}
	g, err := f.pool.Reads(ctx).GroupByAddress("harbour-liaison@merrowline.example")
	if err != nil {
		return err
	}
	texts := map[string]api.MailPatch{
		"lost-property": {Answer: ptr("Thank you for writing. We look through the lockers of all boats each evening and answer within two days.\n\nLost Property, Gannet Quay"), Notice: ptr("Say on which sailing it was lost, and what is in it."),
			Tag: ptr("Lost Property")},
		"harbour-liaison":  {Tag: ptr("Harbour"), Reply: ptr("group"), Footer: ptr("Harbour Liaison of Merrow Line. What is said here stays among ports and suppliers.")},
		"questions":        {Reply: ptr("ticket-office@merrowline.example"), Answer: ptr("Your question has arrived. The ticket office answers on the next working day.")},
		"night-dispatch":   {Notice: ptr("The night desk is at the safety course until Friday; calls go to the day shift.")},
		"tide-and-weather": {Footer: ptr("Tides for Gannet Quay. Times are local.")},
	}
	for name, t := range texts {
		if _, err := f.Group.Change(ctx, f.ines, name+"@"+mainDomain, api.GroupPatch{Mail: t}, 0); err != nil {
			return err
		}
	}
	secret, hash := member.NewSecret()
	const quay = "quay.watch@northness-harbour.example"
	err = f.pool.Transact(ctx, false, func(tx *store.Tx) error {
		return tx.SaveProof(store.Proof{Hash: hash, GroupID: g.ID, Address: quay, AddrKey: quay, Name: "Quay Watch North Ness", Note: "We clear the berths for you at night.", ExpiresAt: f.now.AddDate(0, 0, 2)})
	})
	if err != nil {
		return err
	}
	_, err = f.Public.Prove(ctx, workspace.Actor{}, secret)
	return err
}

func ptr(s string) *string { return &s }

// hand hands the groups of the crew, and those of the terminals, to helpers.
func (f *filler) hand(ctx context.Context) error {
	_, err := f.Area.Set(ctx, f.ines, api.NewAreas{Areas: []api.NewArea{
		{Name: "Crew", Filter: `domain eq "` + crewDomain + `"`, Powers: []string{"people", "posts", "life"}, Helpers: []string{"jonas.keel@" + crewDomain}},
		{Name: "Terminals", Filter: `name co "Terminal" and domain eq "` + mainDomain + `"`, Powers: []string{"people", "change", "policy", "posts"}, Helpers: []string{"elin.marram@" + mainDomain}},
	}}, 0)
	return err
}

// vouch has people of Merrow Line answer for external members, says why those are in their groups and
// until when, and what the workspace says of all of them.
func (f *filler) vouch(ctx context.Context) error {
	if _, err := f.External.SetRules(ctx, f.ines, api.ExternalRules{Allowed: true, Only: []string{}, Not: []string{"lucky-draw.example"}}, 0); err != nil {
		return err
	}
	all, err := f.External.List(ctx, f.ines, external.Query{Limit: 100})
	if err != nil {
		return err
	}
	for i, x := range all.Items {
		p := api.ExternalsPatch{IDs: []string{x.ID}}
		for domain, says := range map[string]struct{ voucher, reason string }{
			"gannetport.example":        {Owner, "Berths and pilots at Gannet Quay."},
			"tidefuel.example":          {"mira.stor@" + crewDomain, "Bunkering, under the contract of this year."},
			"northness-harbour.example": {Owner, "The duty officer of the harbour."},
		} {
			if x.Domain == domain {
				p.Voucher, p.Reason = says.voucher, &says.reason
			}
		}
		if x.Domain == "tidefuel.example" || i%5 == 4 {
			p.Until = f.now.AddDate(0, 0, 24+10*i).Format(time.DateOnly)
		}
		if p.Voucher == "" && p.Until == "" {
			continue
		}
		if _, err := f.External.Change(ctx, f.ines, p); err != nil {
			return err
		}
	}
	return nil
}

// shifts declares an attribute of Merrow Line's own, in which shift somebody sails, and fills it in.
func (f *filler) shifts(ctx context.Context) error {
	if _, err := f.Attributes.Save(ctx, f.ines, "shift", api.NewAttribute{Label: "Shift", Seen: true}, 0); err != nil {
		return err
	}
	file := "address,shift\n"
	for _, g := range []string{"deck-a", "deck-b", "deck-c", "engine-a", "engine-b"} {
		members, _, err := f.Member.List(ctx, f.ines, g+"@"+crewDomain, member.Query{Role: "member", Kind: "person", Limit: 100})
		if err != nil {
			return err
		}
		for _, m := range members.Items {
			if m.Active && strings.HasSuffix(m.Address, "@"+crewDomain) && !strings.Contains(file, "\n"+m.Address) {
				file += m.Address + "," + strings.ToUpper(g[len(g)-1:]) + "\n"
			}
		}
	}
	_, err := f.Directory.Import(ctx, f.ines, api.Import{Text: file})
	return err
}

// nest has the crew's groups agree to being in others, and one asked that has not decided yet.
func (f *filler) nest(ctx context.Context) error {
	mira, err := f.as(ctx, "mira.stor@"+crewDomain)
	if err != nil {
		return err
	}
	if _, err := f.Consent.Give(ctx, mira, "engine@"+crewDomain, "all@"+crewDomain, api.NewConsent{Consent: "counted"}); err != nil {
		return err
	}
	jonas, err := f.as(ctx, "jonas.keel@"+crewDomain)
	if err != nil {
		return err
	}
	_, err = f.Member.Add(ctx, jonas, "all@"+crewDomain, api.NewMembers{People: []api.NewPerson{{Address: night}}}, 0)
	return err
}

func (f *filler) invite(ctx context.Context) error {
	if _, err := f.Member.Add(ctx, f.ines, "accessibility-circle@merrowline.example", api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "office@coastwheel.example"}, {Address: Member}}}, 0); err != nil {
		return err
	}
	if _, err := f.Joining.CreateLink(ctx, f.ines, "choir@merrowline.example", api.NewJoinLink{Days: 30, Max: 25, Note: "Notice board in the canteen"}); err != nil {
		return err
	}
	return f.Rules.SetOverride(ctx, f.ines, "bookings@merrowline.example", "prize@lucky-draw.example", api.NewOverride{Override: "barred", Reason: "Sends advertising"}, 0)
}

// byRule are groups whose people are in because of their attributes.
var byRule = []api.NewGroup{
	{Quiet: true, Name: "Gannet Quay Deck", Address: "gannet-quay-deck@" + crewDomain, Description: "Whoever works on deck out of Gannet Quay.", Owners: []string{"jonas.keel@crew.merrowline.example"},
		Rule: `department eq "Deck" and addresses.locality eq "Gannet Quay"`, PolicyPatch: workspace.PolicyPatch("join.audience=nobody leave=fixed post=workspace")},
	{Quiet: true, Name: "Lay-up Watch", Address: "lay-up@" + crewDomain, Description: "Whoever watches the ships in the winter harbour.", Owners: []string{"jonas.keel@crew.merrowline.example"},
		Rule: `department eq "Deck" and addresses.locality eq "Winter Harbour"`, PolicyPatch: workspace.PolicyPatch("join.audience=nobody leave=fixed")},
	{Quiet: true, Name: "Cost Centre 7100", Address: "cc-7100@" + mainDomain, Description: "Who answers for the money of the terminals.", Owners: []string{"hale.corran@merrowline.example"},
		Rule: `costCenter eq "7100"`, PolicyPatch: workspace.PolicyPatch("join.audience=nobody leave=fixed")},
	{Quiet: true, Name: "Ships' Crews", Address: "crews@" + crewDomain, Description: "Deck and engine together, wherever they are.", Owners: []string{"jonas.keel@crew.merrowline.example", "mira.stor@crew.merrowline.example"},
		Rule: `(department eq "Deck" or department eq "Engine") and not (title sw "Trainee")`, PolicyPatch: workspace.PolicyPatch("join.audience=nobody leave=fixed")},
}

// departs is somebody who has left and whose groups nobody took over.
const departs = "web-page@merrowline.example" // its first owner

func (f *filler) departure(ctx context.Context) error {
	g, err := f.Group.Read(ctx, f.ines, departs)
	if err != nil {
		return err
	}
	if _, err = f.Directory.Depart(ctx, f.ines, g.Owners[0].Address, api.Departure{}, 0); err != nil {
		return err
	}
	if g, err = f.Group.Read(ctx, f.ines, "quiet-hours@merrowline.example"); err != nil {
		return err
	}
	all, err := f.External.List(ctx, f.ines, external.Query{Domain: "ropewalk.example", Limit: 1})
	if err != nil {
		return err
	}
	if _, err := f.External.Change(ctx, f.ines, api.ExternalsPatch{IDs: []string{all.Items[0].ID}, Voucher: g.Owners[0].Address}); err != nil {
		return err
	}
	for _, o := range g.Owners {
		if _, err := f.Directory.Depart(ctx, f.ines, o.Address, api.Departure{}, 0); err != nil {
			return err
		}
	}
	return nil
}
