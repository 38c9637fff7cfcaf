// Package dbtest gives a test package a schema of its own on a real server: the
// one that withdb started for the whole run, or else one started for the package.
package dbtest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"regexp"

	"ivytable.example/ivytable/internal/localdb"
)

// path is the schema in a DSN.
var path = regexp.MustCompile(`/\w+\?`)

// Env names the variable that holds the DSN of the server of the run.
const Env = "IVYTABLE_TEST_DSN"

// Main runs the tests of a package with *dsn set to an empty schema; m is a *testing.M.
func Main(m interface{ Run() int }, schema string, dsn *string) {
	os.Exit(run(m, schema, dsn))
}

func run(m interface{ Run() int }, schema string, dsn *string) int {
	base := os.Getenv(Env)
	if base == "" {
		dir, err := os.MkdirTemp("", "ivytable-test")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		s, err := localdb.Start(context.Background(), localdb.Options{Dir: dir, Throwaway: true})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer s.Stop()
		base = s.DSN
	}
	var err error
	if *dsn, err = Schema(base, "ivytable_"+schema); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return m.Run()
}

// Schema makes an empty schema on the server of base and returns its DSN.
func Schema(base, name string) (string, error) {
	db, err := sql.Open("mysql", base)
	if err != nil {
		return "", err
	}
	defer db.Close()
	for _, q := range []string{"DROP DATABASE IF EXISTS " + name, "CREATE DATABASE " + name} {
		if _, err := db.Exec(q); err != nil {
			return "", err
		}
	}
	return path.ReplaceAllString(base, "/"+name+"?"), nil
}
