package localdb

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
)

func TestServer(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	run(t, s, "CREATE TABLE kept (n INT)")
	if _, err := Start(ctx, Options{Dir: dir}); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a second start in the folder: %v", err)
	}

	// A process that is killed takes neither the server nor the lock with it.
	s.lock.Close()
	again, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	if again.pid != s.pid || again.DSN != s.DSN {
		t.Errorf("the server left behind was not taken over: %d, then %d", s.pid, again.pid)
	}
	run(t, again, "INSERT INTO kept VALUES (1)")
	again.Stop()
	<-s.wait

	// A server that was killed comes back with what it held.
	third, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	pid, _ := os.ReadFile(filepath.Join(dir, "db.pid"))
	if n, _ := strconv.Atoi(strings.TrimSpace(string(pid))); n != third.pid {
		t.Errorf("the pid file says %d, we started %d", n, third.pid)
	}
	_ = syscall.Kill(third.pid, syscall.SIGKILL)
	<-third.wait
	third.lock.Close()
	fourth, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	run(t, fourth, "INSERT INTO kept VALUES (2)")
	if err := Halt(dir); err == nil {
		t.Error("a folder in use was halted")
	}
	fourth.lock.Close() // as a kill of our process would
	if err := Halt(dir); err != nil {
		t.Error(err)
	}
	<-fourth.wait
}

func run(t *testing.T, s *Server, q string) {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(q); err != nil {
		t.Fatal(err)
	}
}
