package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var tokenColumns = []column[api.Token]{
	{name: "id", value: func(t api.Token) any { return t.ID }, whole: true},
	{name: "name", value: func(t api.Token) any { return t.Name }},
	{name: "scopes", heading: "FOR", value: func(t api.Token) any { return strings.Join(t.Scopes, " ") }},
	{name: "created_at", heading: "MADE", value: func(t api.Token) any { return t.CreatedAt }},
	{name: "last_used_at", heading: "USED", value: func(t api.Token) any { return t.LastUsedAt }, show: func(t api.Token) string {
		if t.LastUsedAt == nil {
			return "never"
		}
		return moment(*t.LastUsedAt)
	}},
	{name: "expires_at", heading: "ENDS", value: func(t api.Token) any { return t.ExpiresAt }},
	{name: "secret", value: func(t api.Token) any { return t.Secret }, csvOnly: true},
}

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
			session, err := a.session(cmd.Context(), client.New(url, ""), args[0], password)
			if err != nil {
				return err
			}
			t, err := session.CreateToken(cmd.Context(), api.NewToken{Name: "command line on " + host, Days: 30, Scopes: []string{"everything"}})
			if err := errors.Join(err, session.SignOut(cmd.Context())); err != nil {
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
			t.Secret = "" // it is kept; it need not be shown
			return a.done(t, "You are signed in as %s until %s.", args[0], moment(t.ExpiresAt))
		},
	}
}

// session signs in with a password, and asks for the code of a second factor where there is
// one.
func (a *app) session(ctx context.Context, c *client.Client, address, password string) (*client.Client, error) {
	in := api.SignIn{Address: address, Password: password}
	session, err := c.SignIn(ctx, in)
	var e *client.Error
	if errors.As(err, &e) && e.Status == http.StatusUnauthorized && len(e.Problems) > 0 && e.Problems[0].Field == "code" {
		if in.Code, err = a.password("Code of your second factor: "); err != nil {
			return nil, err
		}
		return c.SignIn(ctx, in)
	}
	return session, err
}

// own does something within a session of whoever is signed in on this machine, for which their
// password is asked.
func (a *app) own(ctx context.Context, c *client.Client, do func(session *client.Client, password string) error) error {
	me, err := c.Me(ctx)
	if err != nil {
		return err
	}
	password, err := a.password("Your password: ")
	if err != nil {
		return err
	}
	session, err := a.session(ctx, c, me.Address, password)
	if err != nil {
		return err
	}
	err = do(session, password)
	return errors.Join(err, session.SignOut(ctx))
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
	var keep bool
	cmd := a.reads(&cobra.Command{
		Use: "password", Short: "Change your password", Args: cobra.NoArgs,
		Long:    "Change your password. Both are asked for, or read from standard input, the present one\nfirst. Your other sessions end, and your other tokens, unless you keep them.",
		Example: "  ivytable password",
	}, func(ctx context.Context, c *client.Client, _ []string) error {
		p := api.PasswordChange{KeepTokens: keep}
		var err error
		if p.Current, err = a.password("Present password: "); err != nil {
			return err
		}
		if p.Password, err = a.password("New password: "); err != nil {
			return err
		}
		if err := c.ChangePassword(ctx, p); err != nil {
			return err
		}
		if keep {
			return a.done(nil, "Your password is changed. Your other sessions have ended; your tokens stay.")
		}
		return a.done(nil, "Your password is changed. Your other sessions and tokens have ended.")
	})
	cmd.Flags().BoolVar(&keep, "keep-tokens", false, "keep tokens and passwords of mail programs")
	return cmd
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
				return a.done(nil, "Nobody was signed in on this machine.")
			} else if err != nil {
				return err
			}
			if err := os.Remove(path); err != nil {
				return err
			}
			var s signIn
			if err := json.Unmarshal(b, &s); err == nil && s.ID != "" {
				err = client.New(s.URL, s.Token).RevokeToken(cmd.Context(), s.ID)
				if e := new(client.Error); err != nil && (!errors.As(err, &e) || e.Status >= 500) { // else it had ended already
					return fmt.Errorf("this machine forgot it, but the service still knows it; revoke it with: ivytable token revoke %s: %w", s.ID, err)
				}
			}
			return a.done(nil, "You are signed out.")
		},
	}
}

func (a *app) meCommand() *cobra.Command {
	return a.reads(&cobra.Command{Use: "me", Short: "Show who you are signed in as", Args: cobra.NoArgs, Example: "  ivytable me"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			role := me.WorkspaceRole
			if role == "" {
				role = "none"
			}
			facts := []fact{{"Name", me.Name}, {"Address", me.Address}, {"Workspace role", role}, {"Domains", strings.Join(me.Domains, ", ")},
				{"Time zone", me.TimeZone}, {"Waiting", plural(me.Waiting, "decision")}}
			if me.Left != nil {
				facts = append(facts, fact{"Left today", fmt.Sprintf("%d groups to make, %d outsiders to bring in, %d letters to cause", me.Left["groups"], me.Left["outsiders"], me.Left["letters"])})
			}
			return a.facts(me, facts...)
		})
}

// use says how a token is used.
func use(t api.Token) string {
	if slices.Equal(t.Scopes, []string{"send"}) {
		return "as the password in your mail program, with your address"
	}
	return "IVYTABLE_TOKEN=… ivytable group list"
}

func (a *app) tokenCommands() *cobra.Command {
	var p paging
	show := a.reads(&cobra.Command{Use: "list", Short: "List your tokens", Args: cobra.NoArgs, Example: "  ivytable token list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Token], error) { return c.Tokens(ctx, p) }, tokenColumns)
		})
	paged(show, &p)
	var days int
	var scopes []string
	create := a.reads(&cobra.Command{Use: "create NAME", Short: "Make a token for a script, or a password for a mail program; it is shown once", Args: cobra.ExactArgs(1),
		Long:    "Make a token for a script, or with --for send a password for a mail program. Your password\nis asked for, or read from standard input: a token can't make tokens.",
		Example: "  ivytable token create \"nightly report\" --days 30\n  ivytable token create \"mail on my laptop\" --for send --days 365\n  ivytable token create \"roster sync\" --for people,groups"},
		func(ctx context.Context, c *client.Client, args []string) error {
			var t api.Token
			err := a.own(ctx, c, func(session *client.Client, _ string) (err error) {
				t, err = session.CreateToken(ctx, api.NewToken{Name: args[0], Days: days, Scopes: scopes})
				return err
			})
			if err != nil {
				return err
			}
			if t.Secret == "" {
				t.Secret = "(shown once, when it was made)"
			}
			return one(a, t, tokenColumns, fact{"Token", t.Secret}, fact{"Ends", moment(t.ExpiresAt)}, fact{"For", strings.Join(t.Scopes, ", ")}, fact{"Use", use(t)})
		})
	create.Flags().StringSliceVar(&scopes, "for", []string{"read"}, "what it is good for: read, people, groups, policy, everything; or send")
	create.Flags().IntVar(&days, "days", 90, "for how long it opens, 365 at most")
	revoke := a.changes(&cobra.Command{Use: "revoke ID", Short: "End a token", Args: cobra.ExactArgs(1), Example: "  ivytable token revoke 01935c1e-7a10-7000-8000-3f1f2a9c5b11"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RevokeToken(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "The token can't be used any more.")
		})
	return noun("token", "Tokens for scripts: list, create, revoke", show, create, revoke)
}
