// Command ivytable runs the mail groups of an organisation: the service, and the
// command line to it.
package main

import (
	"os"
	_ "time/tzdata" // days are counted in the workspace's zone, wherever we run

	"ivytable.example/ivytable/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
