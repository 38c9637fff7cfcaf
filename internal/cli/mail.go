package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// mailFlags are what a group adds to mail, and says to those who write, as flags.
type mailFlags struct {
	reply, tag, footer, answer, notice, from string
	days                                     int
}

func (m *mailFlags) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&m.reply, "reply", "", "where answers go: author, group, or an address")
	f.StringVar(&m.tag, "tag", "", "stands in brackets before the subject")
	f.StringVar(&m.footer, "footer", "", "stands below each message")
	f.StringVar(&m.answer, "answer", "", "goes by itself to whoever writes to it; empty for none")
	f.IntVar(&m.days, "answer-days", 7, "the same sender is answered once in so many days")
	f.StringVar(&m.from, "from", "", "in whose name mail of outsiders goes on: author, group, or due: the group where the author's domain would have it refused")
	f.StringVar(&m.notice, "notice", "", "said to whoever is about to write")
}

// patch is what was given of it.
func (m *mailFlags) patch(c *cobra.Command) (p api.MailPatch) {
	for flag, to := range map[string]func(){"reply": func() { p.Reply = &m.reply }, "tag": func() { p.Tag = &m.tag }, "footer": func() { p.Footer = &m.footer }, "answer": func() { p.Answer = &m.answer },
		"answer-days": func() { p.AnswerDays = &m.days }, "notice": func() { p.Notice = &m.notice }, "from": func() { p.From = &m.from }} {
		if c.Flags().Changed(flag) {
			to()
		}
	}
	return p
}

func (a *app) groupNotice() *cobra.Command {
	return a.reads(&cobra.Command{Use: "notice GROUP", Short: "Show what to know before writing to a group", Args: cobra.ExactArgs(1), Example: "  ivytable group notice lost-property@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			w, err := c.Writing(ctx, args[0])
			if err != nil {
				return err
			}
			facts := []fact{{"Group", fmt.Sprintf("%s <%s>", w.Group.Name, w.Group.Address)}, {"Your message", map[string]string{"allow": "would be passed on", "hold": "would wait for approval", "refuse": "would be refused"}[w.Outcome]}, {"Why", w.Says}}
			if w.Notice != "" {
				facts = append(facts, fact{"It says", w.Notice})
			}
			if w.People != nil {
				facts = append(facts, fact{"Reaches", plural(*w.People, "person")})
			}
			return a.facts(w, append(facts, fact{"Answers go to", repliesTo(w.Replies)})...)
		})
}

// repliesTo says where answers go.
func repliesTo(reply string) string {
	switch reply {
	case "author":
		return "whoever wrote"
	case "group":
		return "the group"
	}
	return reply
}

// mailFacts are those of the texts of a group that say something.
func mailFacts(t api.MailTexts) (out []fact) {
	if t.Notice != "" {
		out = append(out, fact{"To who writes", t.Notice})
	}
	if t.From != "author" {
		out = append(out, fact{"Outsiders' mail", map[string]string{"group": "goes on in the group's name", "due": "goes on in the group's name where their domain asks for it"}[t.From]})
	}
	if t.Reply != "author" {
		out = append(out, fact{"Answers go to", repliesTo(t.Reply)})
	}
	if t.Tag != "" {
		out = append(out, fact{"Subject", "[" + t.Tag + "] …"})
	}
	if t.Footer != "" {
		out = append(out, fact{"Footer", strings.ReplaceAll(t.Footer, "\n", " / ")})
	}
	if t.Answer != "" {
		out = append(out, fact{"Answers itself", fmt.Sprintf("once in %s: %s", plural(t.AnswerDays, "day"), strings.Join(strings.Fields(t.Answer), " "))})
	}
	return out
}
