package testkit

import (
	"context"
	"database/sql"
	"fmt"
	"regexp"
	"strings"

	"ivytable.example/ivytable/internal/store"
)

// model is the schema of a server from which others get their tables: to make them by all migrations takes many times as long.
const model = "ivytable_model"

var inDSN = regexp.MustCompile(`/\w+\?`)

// copyTables gives an empty schema the tables of a workspace, and what these hold from the beginning.
func copyTables(ctx context.Context, dsn string) error {
	db, err := sql.Open("mysql", inDSN.ReplaceAllString(dsn, "/?"))
	if err != nil {
		return err
	}
	defer db.Close()
	c, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	into := strings.Trim(inDSN.FindString(dsn), "/?")
	var locked int
	if err := c.QueryRowContext(ctx, "SELECT GET_LOCK(?, 120)", model).Scan(&locked); err != nil || locked != 1 {
		return fmt.Errorf("wait for the tables: %d, %w", locked, err)
	}
	tables, err := strs(ctx, c, "SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND table_type = 'BASE TABLE'", model)
	if err == nil && len(tables) == 0 {
		if _, err = c.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS "+model); err == nil {
			var pool *store.Pool
			if pool, err = store.Open(ctx, inDSN.ReplaceAllString(dsn, "/"+model+"?")); err == nil {
				pool.Close()
				tables, err = strs(ctx, c, "SELECT table_name FROM information_schema.tables WHERE table_schema = ?", model)
			}
		}
	}
	if _, unlock := c.ExecContext(ctx, "SELECT RELEASE_LOCK(?)", model); err == nil {
		err = unlock
	}
	if err != nil {
		return fmt.Errorf("make the tables: %w", err)
	}
	queries := []string{"USE " + into, "SET FOREIGN_KEY_CHECKS = 0"}
	for _, name := range tables {
		var create string
		if err := c.QueryRowContext(ctx, "SHOW CREATE TABLE "+model+"."+name).Scan(new(string), &create); err != nil {
			return err
		}
		queries = append(queries, create, "INSERT INTO "+name+" SELECT * FROM "+model+"."+name)
	}
	for _, q := range queries {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("%.60s: %w", q, err)
		}
	}
	return nil
}

func strs(ctx context.Context, c *sql.Conn, query string, args ...any) (out []string, err error) {
	rows, err := c.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}
