package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// factorCommands are those about the second factor.
func (a *app) factorCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "show", Short: "Show whether you have a second factor", Args: cobra.NoArgs, Example: "  ivytable second-factor show"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			f, err := c.SecondFactor(ctx)
			if err != nil {
				return err
			}
			since := "no"
			if f.Since != nil {
				since = "since " + moment(*f.Since)
			}
			return a.facts(f, fact{"On", since}, fact{"Asked for", yesNo(f.Demanded)}, fact{"Recovery codes", fmt.Sprint(f.RecoveryCodes)})
		})
	setUp := a.reads(&cobra.Command{Use: "set-up", Short: "Set up a second factor: a program that shows codes", Args: cobra.NoArgs,
		Long:    "Set up a second factor (RFC 6238). Your password is asked for; then give the secret that is\nprinted to the program that will show codes, and give its first code. The recovery codes\nare shown once: keep them where your program is not.",
		Example: "  ivytable second-factor set-up"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return a.own(ctx, c, func(session *client.Client, password string) error {
				f, err := session.BeginFactor(ctx, password)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.err, "Secret  %s\nLink    %s\n", f.Secret, f.URI)
				code, err := a.password("First code: ")
				if err != nil {
					return err
				}
				done, err := session.ConfirmFactor(ctx, code)
				if err != nil {
					return err
				}
				return a.done(done, "Your second factor is on. Each of these codes is good for one sign-in without it:\n  %s", strings.Join(done.Codes, "\n  "))
			})
		})
	off := a.reads(&cobra.Command{Use: "turn-off", Short: "Turn your second factor off", Args: cobra.NoArgs,
		Long: "Turn your second factor off. Your password is asked for, then a code to sign in, then the\nnext one: a code is taken once.", Example: "  ivytable second-factor turn-off"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return a.own(ctx, c, func(session *client.Client, password string) error {
				code, err := a.password("The next code: ")
				if err != nil {
					return err
				}
				if err := session.EndFactor(ctx, api.FactorEnd{Password: password, Code: code}); err != nil {
					return err
				}
				return a.done(nil, "Your second factor is off.")
			})
		})
	take := a.changes(&cobra.Command{Use: "take-away PERSON", Short: "Turn somebody's second factor off, who has lost it; they are told", Args: cobra.ExactArgs(1),
		Example: "  ivytable second-factor take-away tove.alder@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.TakeFactor(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "%s signs in by password alone, and is told.", args[0])
		})
	return noun("second-factor", "Your second factor: show, set up, turn off, take away", show, setUp, off, take)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// protectionCommands are those about what protects the workspace.
func (a *app) protectionCommands() *cobra.Command {
	facts := func(p api.Protection) []fact {
		return []fact{{"Second factor", p.SecondFactor}, {"Shown", strings.Join(p.Shown, ", ")}, {"Groups", fmt.Sprintf("%d a day", p.Groups)},
			{"Outsiders", fmt.Sprintf("%d a day", p.Outsiders)}, {"Letters", fmt.Sprintf("%d a day", p.Letters)},
			{"Mail of a writer", fmt.Sprintf("%d an hour", p.FromOne)}, {"Mail to a group", fmt.Sprintf("%d an hour", p.ToGroup)}}
	}
	show := a.reads(&cobra.Command{Use: "show", Short: "Show what protects the workspace", Args: cobra.NoArgs, Example: "  ivytable protection show"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			p, err := c.Protection(ctx)
			if err != nil {
				return err
			}
			return a.facts(p, facts(p)...)
		})
	var given api.Protection
	c := &cobra.Command{Use: "change", Short: "Change what protects the workspace", Args: cobra.NoArgs,
		Long:    "Change who has to have a second factor, which attributes colleagues see of each other,\nhow much somebody may do in a day who is no administrator, and how many messages are taken in\nan hour. What is not given stays.",
		Example: "  ivytable protection change --second-factor administrators\n  ivytable protection change --shown title,department,locality --outsiders 20"}
	f := c.Flags()
	f.StringVar(&given.SecondFactor, "second-factor", "", "who has to have one: nobody, administrators, everybody")
	f.StringSliceVar(&given.Shown, "shown", nil, "attributes that colleagues see of each other")
	f.IntVar(&given.Groups, "groups", 0, "groups that somebody makes in a day")
	f.IntVar(&given.Outsiders, "outsiders", 0, "outsiders whom somebody invites in a day")
	f.IntVar(&given.Letters, "letters", 0, "letters that somebody causes in a day")
	f.IntVar(&given.FromOne, "mail-of-writer", 0, "messages of one writer that are taken in an hour")
	f.IntVar(&given.ToGroup, "mail-to-group", 0, "messages to one group that are taken in an hour")
	change := a.changes(c, func(ctx context.Context, c *client.Client, _ []string) error {
		p, err := c.Protection(ctx)
		if err != nil {
			return err
		}
		if f.Changed("second-factor") {
			p.SecondFactor = given.SecondFactor
		}
		if f.Changed("shown") {
			p.Shown = given.Shown
		}
		if f.Changed("groups") {
			p.Groups = given.Groups
		}
		if f.Changed("outsiders") {
			p.Outsiders = given.Outsiders
		}
		if f.Changed("letters") {
			p.Letters = given.Letters
		}
		for flag, to := range map[string]*int{"mail-of-writer": &p.FromOne, "mail-to-group": &p.ToGroup} {
			if !f.Changed(flag) {
				continue
			}
			if *to, _ = f.GetInt(flag); *to < 1 {
				return usagef("--%s has to be 1 or more, not %d; 1000000 is as good as no bound", flag, *to)
			}
		}
		p.Known = nil
		version := strconv.Quote(fmt.Sprint(p.Version))
		if p, err = c.Guarded(version).SetProtection(ctx, p); err != nil {
			return err
		}
		return a.facts(p, facts(p)...)
	})
	return noun("protection", "What protects the workspace from its own people and programs: show, change", show, change)
}
