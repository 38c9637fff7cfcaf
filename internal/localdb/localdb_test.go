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
	"time"
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
	s.abandon()
	again, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	if again.pid != s.pid || again.DSN != s.DSN {
		t.Errorf("the server left behind was not taken over: %d, then %d", s.pid, again.pid)
	}
	run(t, again, "INSERT INTO kept VALUES (1)")

	// A server that ends by itself, taken over or not, comes back with what it held.
	for range 2 {
		again.mu.Lock()
		_ = syscall.Kill(again.pid, syscall.SIGKILL)
		again.mu.Unlock()
		deadline := time.Now().Add(20 * time.Second)
		for query(again, "INSERT INTO kept VALUES (2)") != nil {
			if time.Now().After(deadline) {
				t.Fatal("it did not come back")
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	again.Stop()
	if err := query(again, "SELECT 1"); err == nil {
		t.Error("it answers after Stop")
	}

	third, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	pid, _ := os.ReadFile(filepath.Join(dir, "db.pid"))
	if n, _ := strconv.Atoi(strings.TrimSpace(string(pid))); n != third.pid {
		t.Errorf("the pid file says %d, we started %d", n, third.pid)
	}
	if err := Halt(dir); err == nil {
		t.Error("a folder in use was halted")
	}
	third.abandon()
	if err := Halt(dir); err != nil {
		t.Error(err)
	}
	<-third.wait

	// One that was killed while its server was starting: there is no second one beside it.
	port, err := freePort()
	if err != nil {
		t.Fatal(err)
	}
	starting, ended, err := launch(dir, filepath.Join(dir, "db"), socketPath(dir), port, true)
	if err != nil {
		t.Fatal(err)
	}
	fifth, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	if fifth.pid != starting {
		t.Errorf("a second server, %d, was started beside %d", fifth.pid, starting)
	}
	run(t, fifth, "SELECT 1")
	fifth.Stop()
	<-ended
}

// abandon leaves a server as a kill of our process would.
func (s *Server) abandon() {
	s.mu.Lock()
	s.stopping = true
	s.mu.Unlock()
	s.lock.Close()
}

func query(s *Server, q string) error {
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(q)
	return err
}

func run(t *testing.T, s *Server, q string) {
	t.Helper()
	if err := query(s, q); err != nil {
		t.Fatal(err)
	}
}

// A server removes the temporary tables of whoever uses the same folder for them, at its start.
func TestTemporaryTablesOfOthers(t *testing.T) {
	shared := t.TempDir()
	t.Setenv("TMPDIR", shared)
	other := filepath.Join(shared, "#sql-temptable-1-1-1.MAI")
	if err := os.WriteFile(other, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Start(context.Background(), Options{Dir: t.TempDir(), Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if _, err := os.Stat(other); err != nil {
		t.Errorf("another server's temporary table is gone: %v", err)
	}
}
