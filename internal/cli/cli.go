// Package cli is the command line: ivytable NOUN VERB, a file a subject. Every command but
// serve, demo and openapi is a call of the HTTP interface through package client.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"ivytable.example/ivytable/internal/client"
)

// Exit codes.
const (
	exitDone       = 0
	exitFailed     = 1
	exitUsage      = 2
	exitNotFound   = 3
	exitNotAllowed = 4
	exitConflict   = 5
)

// usage is an error in how a command was written.
type usage struct{ error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// app is what the commands share.
type app struct {
	in     io.Reader
	out    io.Writer
	err    io.Writer
	output string
	url    string
	lines  *bufio.Scanner // of what is piped in
}

// Run runs one command and returns its exit code. An interrupt ends it cleanly.
func Run(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errs}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return exitDone
	}
	fmt.Fprintln(errs, "ivytable: "+err.Error())
	var e *client.Error
	if errors.As(err, &e) {
		for _, p := range e.Problems {
			if given, ok := p.Given.(string); ok && p.At != nil && *p.At <= len(given) && !strings.Contains(given, "\n") {
				fmt.Fprintf(errs, "  %s\n  %s^\n", given, strings.Repeat(" ", cells(given[:*p.At])))
			}
			if p.Field != "" && (len(e.Problems) > 1 || !strings.Contains(e.Detail, p.Says)) {
				fmt.Fprintf(errs, "  %s: %s\n", p.Field, p.Says)
			}
		}
		switch e.Status {
		case http.StatusNotFound:
			return exitNotFound
		case http.StatusUnauthorized:
			fmt.Fprintln(errs, "Sign in with: ivytable sign-in ADDRESS")
			return exitNotAllowed
		case http.StatusForbidden:
			return exitNotAllowed
		case http.StatusConflict, http.StatusPreconditionFailed:
			return exitConflict
		}
		return exitFailed
	}
	if errors.As(err, &usage{}) {
		fmt.Fprintf(errs, "See: %s --help\n", cmd.CommandPath())
		return exitUsage
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ivytable",
		Short: "Run the mail groups of an organisation",
		Long: "Ivy Table says who is in each mail group of an organisation, who may do what with\n" +
			"it, what happens to a message sent to it, and how long it lives.",
		Version:       version,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if err := settings(cmd); err != nil {
				return err
			}
			if a.output != "table" && a.output != "json" && a.output != "csv" {
				return usagef("--output can't be %q: choose table, json, csv", a.output)
			}
			return nil
		},
	}
	root.SetVersionTemplate("ivytable {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	f := root.PersistentFlags()
	f.StringVarP(&a.output, "output", "o", "table", "how to print: table, json, csv")
	f.StringVar(&a.url, "url", "", "address of the service (default: where you signed in)")
	f.String("config", "", "file with settings, a JSON object of flag names and values")
	markSettings(f)
	root.AddCommand(a.serveCommand(), a.serviceCommands(), a.demoCommand(), a.backupCommand(), a.restoreCommand(), a.openapiCommand(), a.signInCommand(), a.signOutCommand(), a.passwordCommand(), a.meCommand(), a.tokenCommands(), a.factorCommands(), a.protectionCommands(), a.externalCommands(), a.findingCommands(), a.roundCommands(), a.reportCommand(), a.publicCommands(), a.areaCommands(),
		a.groupCommands(), a.policyCommands(), a.memberCommands(), a.nestingCommands(), a.overrideCommands(), a.requestCommands(), a.invitationCommands(), a.joinLinkCommands(), a.ruleCommands(),
		a.personCommands(), a.namingCommands(), a.startingPointCommands(), a.addressCommands(), a.attributeCommands(), a.domainCommands(), a.termCommands(), a.clockCommand(),
		a.rehearseCommand(), a.whoMayCommand(), a.ceilingCommands(), a.waitingCommands(), a.undeliveredCommands(), a.postCommands(), a.historyCommands(), a.filterCommands(), a.viewCommands(), a.changeCommands())
	wrapArgs(root)
	return root
}

// noun makes a group of commands.
func noun(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(subs...)
	return c
}

// wrapArgs makes wrong numbers of arguments errors of usage, and groups of
// commands refuse words that are no command of theirs.
func wrapArgs(c *cobra.Command) {
	check := c.Args
	if c.HasSubCommands() && c.RunE == nil {
		c.Args, c.RunE = cobra.ArbitraryArgs, func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usagef("there is no command %q here", strings.Join(args, " "))
			}
			return cmd.Help()
		}
	} else if check != nil {
		c.Args = func(cmd *cobra.Command, args []string) error {
			if check(cmd, args) != nil {
				return usagef("this is written: %s", cmd.UseLine())
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// isSetting marks flags that the environment and the file of settings may set: those of the
// service, and the global ones. What one command is to do is said where it is called.
const isSetting = "setting"

func markSettings(flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) { f.Annotations = map[string][]string{isSetting: nil} })
}

// settings fills settings that were not given from the environment (IVYTABLE_ and the
// name in capitals), then from the file that --config names.
func settings(cmd *cobra.Command) error {
	file := map[string]string{}
	path, _ := cmd.Flags().GetString("config")
	if path == "" {
		path = os.Getenv("IVYTABLE_CONFIG")
	}
	if path != "" {
		b, err := os.ReadFile(path)
		if err != nil {
			return usagef("the file of --config can't be read: %v", err)
		}
		if err := json.Unmarshal(b, &file); err != nil {
			return usagef("the file %s has to be a JSON object of texts: %v", path, err)
		}
	}
	var failed error
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if _, is := f.Annotations[isSetting]; !is || f.Changed || failed != nil {
			return
		}
		name := "IVYTABLE_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		value, from := os.Getenv(name), name
		if value == "" {
			value, from = file[f.Name], path
		}
		if value != "" {
			if err := f.Value.Set(value); err != nil {
				failed = usagef("%s in %s can't be %q: %v", f.Name, from, value, err)
			}
		}
	})
	return failed
}

// signIn is what sign-in keeps for the commands after it.
type signIn struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	ID    string `json:"id"` // of the token
}

func signInFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "ivytable", "sign-in.json"), err
}

// client returns a client of the service at which the user signed in.
func (a *app) client() (*client.Client, error) {
	s := signIn{URL: a.url, Token: os.Getenv("IVYTABLE_TOKEN")}
	if s.Token == "" {
		path, err := signInFile()
		if err != nil {
			return nil, err
		}
		if b, err := os.ReadFile(path); err == nil {
			var kept signIn
			if err := json.Unmarshal(b, &kept); err != nil {
				return nil, fmt.Errorf("the file %s can't be read; sign in again: %w", path, err)
			}
			if s.URL == "" || s.URL == kept.URL {
				s = kept
			}
		}
	}
	if s.URL == "" {
		s.URL = "http://127.0.0.1:8480"
	}
	return client.New(s.URL, s.Token), nil
}

// do is what a command does with a client.
type do func(ctx context.Context, c *client.Client, args []string) error

// reads makes a command one that only reads.
func (a *app) reads(c *cobra.Command, do do) *cobra.Command {
	c.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		return do(cmd.Context(), cl, args)
	}
	return c
}

// hint prints a line about what to do next, on a terminal only.
func (a *app) hint(format string, args ...any) {
	if f, ok := a.out.(*os.File); ok && a.output == "table" && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.out, "\n"+format+"\n", args...)
	}
}
