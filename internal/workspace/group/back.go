package group

import (
	"context"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/workspace"
)

// Back takes changes of a group's fields back, where none of them was changed since.
func (s *Service) Back(ctx context.Context, by workspace.Actor, ref string, changes []event.Change) (api.Group, error) {
	return s.change(ctx, by, ref, 0, func(c *workspace.Change, g *workspace.Locked) (api.GroupPatch, error) { return back(c, g, changes) })
}

// back is the patch that takes changes of a group back.
func back(c *workspace.Change, g *workspace.Locked, changes []event.Change) (patch api.GroupPatch, err error) {
	t, err := c.Terms()
	if err != nil {
		return patch, err
	}
	all, err := c.Read.Aliases([]uuid.UUID{g.ID})
	if err != nil {
		return patch, err
	}
	mail, days := workspace.MailTexts(g.Mail.Texts), 0
	until := ""
	if g.ExemptUntil != nil {
		until = t.Date(*g.ExemptUntil)
	}
	list := func(sep string, to *[]string) func(string) {
		return func(from string) {
			*to = []string{}
			if from != "" {
				*to = strings.Split(from, sep)
			}
		}
	}
	text := func(to **string) func(string) { return func(from string) { *to = &from } }
	var aliases, traits []string
	fields := map[string]struct {
		now string
		set func(from string)
	}{
		"name":             {g.Name, text(&patch.Name)},
		"description":      {g.Description, text(&patch.Description)},
		"language":         {g.Language, text(&patch.Language)},
		"welcome":          {g.Welcome, text(&patch.Welcome)},
		"address":          {g.Address, text(&patch.Address)},
		"default_delivery": {workspace.Delivery(g.DefaultMail), text(&patch.Delivery)},
		"exempt":           {g.Exempt, text(&patch.Exempt)},
		"exempt_until":     {until, text(&patch.ExemptUntil)},
		"aliases":          {strings.Join(all[g.ID], ", "), func(from string) { list(", ", &aliases)(from); patch.Aliases = &aliases }},
		"traits":           {g.Traits, func(from string) { list(",", &traits)(from); patch.Traits = &traits }},
		"mail.reply":       {mail.Reply, text(&patch.Mail.Reply)},
		"mail.tag":         {mail.Tag, text(&patch.Mail.Tag)},
		"mail.footer":      {mail.Footer, text(&patch.Mail.Footer)},
		"mail.answer":      {mail.Answer, text(&patch.Mail.Answer)},
		"mail.answer_days": {strconv.Itoa(mail.AnswerDays), func(from string) { days, _ = strconv.Atoi(from); patch.Mail.AnswerDays = &days }},
		"mail.notice":      {mail.Notice, text(&patch.Mail.Notice)},
		"mail.from":        {mail.From, text(&patch.Mail.From)},
	}
	for _, x := range changes {
		if x.Field == "expires_on" {
			continue // it follows from the others
		}
		f, known := fields[x.Field]
		if !known {
			return patch, workspace.Fail(workspace.Conflict, "%s can't be set back from here. Change it by hand.", workspace.UpperFirst(x.Field))
		}
		if f.now != x.To {
			return patch, workspace.Fail(workspace.Conflict, "%s was changed to %q since. Change it by hand.", workspace.UpperFirst(strings.ReplaceAll(x.Field, "_", " ")), workspace.Cut(f.now, 100))
		}
		f.set(x.From)
	}
	return patch, nil
}
