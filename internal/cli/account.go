package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) signInCommand() *cobra.Command {
	return &cobra.Command{
		Use: "sign-in ADDRESS", Short: "Sign in for the commands that follow", Args: cobra.ExactArgs(1),
		Long:    "Sign in for the commands that follow. The password is asked for, or read from standard\ninput. A token for 30 days is kept in your configuration folder.",
		Example: "  ivytable sign-in ines.skerry@merrowline.example\n  echo low-tide-demo | ivytable sign-in ines.skerry@merrowline.example --url http://127.0.0.1:8480",
		RunE: func(cmd *cobra.Command, args []string) error {
			url := a.url
			if url == "" {
				url = "http://127.0.0.1:8480"
			}
			password, err := a.password("Password: ")
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			t, err := client.New(url, "").SignIn(cmd.Context(), api.SignIn{Address: args[0], Password: password}, "command line on "+host, 30)
			if err != nil {
				return err
			}
			path, err := signInFile()
			if err != nil {
				return err
			}
			b, err := json.Marshal(signIn{url, t.Secret, t.ID})
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(path, b, 0o600); err != nil {
				return err
			}
			return a.facts(t, [2]string{"Signed in", args[0]}, [2]string{"Until", moment(t.ExpiresAt)})
		},
	}
}

// password asks for a password at the terminal, or reads the next line of what is
// piped in.
func (a *app) password(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	if a.lines == nil {
		a.lines = bufio.NewScanner(a.in)
	}
	a.lines.Scan()
	return a.lines.Text(), a.lines.Err()
}

func (a *app) passwordCommand() *cobra.Command {
	return &cobra.Command{
		Use: "password", Short: "Change your password", Args: cobra.NoArgs,
		Long:    "Change your password. Both are asked for, or read from standard input, the present one\nfirst. Your other sessions end; your tokens stay.",
		Example: "  ivytable password",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			var p api.PasswordChange
			var err error
			if p.Current, err = a.password("Present password: "); err != nil {
				return err
			}
			if p.Password, err = a.password("New password: "); err != nil {
				return err
			}
			return c.ChangePassword(ctx, p)
		}),
	}
}

func (a *app) signOutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "End the sign-in of this machine and forget it", Args: cobra.NoArgs, Example: "  ivytable sign-out",
		RunE: func(cmd *cobra.Command, _ []string) error {
			path, err := signInFile()
			if err != nil {
				return err
			}
			b, err := os.ReadFile(path)
			if os.IsNotExist(err) {
				return nil
			} else if err != nil {
				return err
			}
			if err := os.Remove(path); err != nil {
				return err
			}
			var s signIn
			if err := json.Unmarshal(b, &s); err != nil || s.ID == "" {
				return nil // nothing in it could be ended
			}
			err = client.New(s.URL, s.Token).RevokeToken(cmd.Context(), s.ID)
			if e := new(client.Error); errors.As(err, &e) && e.Status < 500 {
				return nil // it had ended already
			} else if err != nil {
				return fmt.Errorf("this machine forgot it, but the service still knows it; revoke it with: ivytable token revoke %s: %w", s.ID, err)
			}
			return nil
		},
	}
}

func (a *app) meCommand() *cobra.Command {
	return &cobra.Command{
		Use: "me", Short: "Show who you are signed in as", Args: cobra.NoArgs, Example: "  ivytable me",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			role := me.WorkspaceRole
			if role == "" {
				role = "none"
			}
			return a.facts(me, [2]string{"Name", me.Name}, [2]string{"Address", me.Address}, [2]string{"Workspace role", role}, [2]string{"Domains", strings.Join(me.Domains, ", ")})
		}),
	}
}

func (a *app) tokenCommands() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List your tokens", Args: cobra.NoArgs, Example: "  ivytable token list",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			tokens, err := c.Tokens(ctx)
			if err != nil {
				return err
			}
			rows := make([][]string, len(tokens))
			for i, t := range tokens {
				rows[i] = []string{t.ID, t.Name, moment(t.CreatedAt), moment(t.ExpiresAt)}
			}
			return a.list(tokens, []string{"ID", "NAME", "MADE", "ENDS"}, rows)
		}),
	}
	var days int
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a token for a script; it is shown once", Args: cobra.ExactArgs(1), Example: "  ivytable token create \"nightly report\" --days 30",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.CreateToken(ctx, api.NewToken{Name: args[0], Days: days})
			if err != nil {
				return err
			}
			return a.facts(t, [2]string{"Token", t.Secret}, [2]string{"Ends", moment(t.ExpiresAt)}, [2]string{"Use", "IVYTABLE_TOKEN=… ivytable group list"})
		}),
	}
	create.Flags().IntVar(&days, "days", 90, "for how long it opens, 365 at most")
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "End a token", Args: cobra.ExactArgs(1), Example: "  ivytable token revoke 01935c1e-7a10-7000-8000-3f1f2a9c5b11",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error { return c.RevokeToken(ctx, args[0]) }),
	}
	return noun("token", "Tokens for scripts: list, create, revoke", list, create, revoke)
}

func (a *app) historyCommand() *cobra.Command {
	var paging client.Paging
	list := &cobra.Command{
		Use: "list [GROUP]", Short: "List what changed, newest first", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable history list\n  ivytable history list night-dispatch@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.History(ctx, strings.Join(args, ""), paging)
			if err != nil {
				return err
			}
			return a.showHistory(p)
		}),
	}
	paged(list, &paging)
	return noun("history", "Who changed what: list", list)
}

func (a *app) showHistory(p api.Page[api.HistoryEntry]) error {
	var rows [][]string
	for _, e := range p.Items {
		rows = append(rows, []string{fmt.Sprint(e.ID), moment(e.At), e.Actor, e.Action, e.Subject, changesText(e.Changes)})
	}
	if err := a.list(p, []string{"ENTRY", "WHEN", "WHO", "WHAT", "OF", "CHANGE"}, rows); err != nil {
		return err
	}
	if p.Next != "" && a.output == "table" {
		fmt.Fprintf(a.err, "There is more. Go on with --cursor %s\n", p.Next)
	}
	return nil
}

func changesText(changes []api.FieldChange) string {
	var parts []string
	for _, c := range changes {
		parts = append(parts, fmt.Sprintf("%s: %s → %s", c.Field, value(c.From), value(c.To)))
	}
	return strings.Join(parts, "; ")
}

func value(v any) string {
	if v == nil || v == "" {
		return "–"
	}
	if s, ok := v.(string); ok {
		if t, err := time.Parse(time.RFC3339, s); err == nil {
			return day(&t, nil)
		}
	}
	return fmt.Sprint(v)
}

func (a *app) clockCommand() *cobra.Command {
	var days int
	move := &cobra.Command{
		Use: "move", Short: "Move the time of a demo forward", Args: cobra.NoArgs, Example: "  ivytable clock move --days 30\n  ivytable clock move --days 0",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.MoveClock(ctx, days)
			if err != nil {
				return err
			}
			return a.facts(t, [2]string{"Now", moment(t.Now)})
		}),
	}
	move.Flags().IntVar(&days, "days", 1, "by how many days; 0 goes back to the real time")
	return noun("clock", "The time of a demo: move", move)
}
