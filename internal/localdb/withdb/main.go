// Command withdb starts a throw-away database, runs a command with its DSN in the
// environment, and stops the database: one server for a whole run of the tests.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	"ivytable.example/ivytable/internal/localdb"
	"ivytable.example/ivytable/internal/localdb/dbtest"
)

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "usage: withdb COMMAND [ARGUMENT ...]")
		return 2
	}
	dir, err := os.MkdirTemp("", "ivytable-run")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	s, err := localdb.Start(context.Background(), localdb.Options{Dir: dir, Throwaway: true})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer s.Stop()
	// A signal that ends the run ends the command, and then the database is stopped.
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 20 * time.Second
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.Env = append(os.Environ(), dbtest.Env+"="+s.DSN)
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		return exit.ExitCode()
	case err != nil:
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}
