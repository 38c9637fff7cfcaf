package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/backup"
	"ivytable.example/ivytable/internal/localdb"
)

// place says where records are.
type place struct{ data, dsn string }

func (p *place) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.data, "data", "data", "folder of the private database")
	f.StringVar(&p.dsn, "dsn", "", "database, USER:PASSWORD@tcp(HOST:PORT)/NAME (default: the private one in the data folder)")
	markSettings(f)
}

// open returns how to reach the records: of --dsn, of a private database that runs, or of one
// that is started for as long as stop is not called.
func (p *place) open(c *cobra.Command) (dsn string, stop func(), err error) {
	if p.dsn != "" {
		return p.dsn, func() {}, nil
	}
	dsn, err = localdb.Running(p.data)
	if err != nil || dsn != "" {
		return dsn, func() {}, err
	}
	db, err := localdb.Start(c.Context(), localdb.Options{Dir: p.data})
	if err != nil {
		return "", nil, err
	}
	return db.DSN, db.Stop, nil
}

func (a *app) backupCommand() *cobra.Command {
	var p place
	c := &cobra.Command{
		Use: "backup FILE", Short: "Take a back-up of a workspace, also while the service runs", Args: cobra.ExactArgs(1),
		Long: "Take a back-up of all that a workspace keeps, as it is at one moment, while the service goes\non. The file is JSON Lines in gzip. It holds what passwords and links are checked by, and mail\nthat waits: keep it as you keep the database.",
		Example: "  ivytable backup /var/backups/ivytable-monday.gz --data /var/lib/ivytable\n" +
			"  IVYTABLE_DSN='ivytable:…@tcp(127.0.0.1:3306)/ivytable' ivytable backup monday.gz",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := os.Stat(args[0]); err == nil {
				return fmt.Errorf("%s is there already: choose another name, or delete it first", args[0])
			}
			if p.dsn == "" {
				if _, err := os.Stat(filepath.Join(p.data, "db")); err != nil {
					return fmt.Errorf("there is no private database in %s: give its folder with --data, or the database with --dsn", p.data)
				}
			}
			dsn, stop, err := p.open(cmd)
			if err != nil {
				return err
			}
			defer stop()
			part := args[0] + ".part"
			f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("write the back-up: %w", err)
			}
			did, err := backup.Take(cmd.Context(), dsn, f)
			if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
				err = os.Rename(part, args[0])
			}
			if err != nil {
				_ = os.Remove(part)
				return err
			}
			return a.done(did, "%s holds %d rows of %d tables.", args[0], did.Rows, did.Tables)
		},
	}
	p.flags(c)
	return c
}

func (a *app) restoreCommand() *cobra.Command {
	var p place
	c := &cobra.Command{
		Use: "restore FILE", Short: "Put a back-up into an empty place", Args: cobra.ExactArgs(1),
		Long: "Put a back-up into a new data folder, or into an empty database, all of it or nothing. One that\nwas cut or changed is refused. Then start the service there.",
		Example: "  ivytable restore /var/backups/ivytable-monday.gz --data /var/lib/ivytable-new\n" +
			"  IVYTABLE_DSN='ivytable:…@tcp(127.0.0.1:3306)/empty' ivytable restore monday.gz",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("read the back-up: %w", err)
			}
			defer f.Close()
			if _, err := backup.Check(f); err != nil { // before a database is made
				return err
			}
			if _, err := f.Seek(0, 0); err != nil {
				return err
			}
			dsn, stop, err := p.open(cmd)
			if err != nil {
				return err
			}
			defer stop()
			did, err := backup.Restore(cmd.Context(), dsn, f)
			if err != nil {
				return err
			}
			return a.done(did, "%d rows of %d tables are back, as they were on %s.", did.Rows, did.Tables, moment(did.MadeAt))
		},
	}
	p.flags(c)
	return c
}
