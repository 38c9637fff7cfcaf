// Package localdb runs a private MariaDB server for one data folder.
//
// The server listens on a loopback port of its own and on a socket inside the
// folder; only the user of the folder can read the password that it was given.
// The folder is locked: a second start in it fails at once. A server that a
// killed process left behind is taken over, not started twice. A server that ends
// by itself is started again.
package localdb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver that sql.Open names
)

// Name is the schema that a server is given.
const Name = "ivytable"

// Options are what a server is started with.
type Options struct {
	Dir       string // made when it is not there
	Throwaway bool   // fast and not durable, for tests
}

// Server is a running server. Stop it.
type Server struct {
	DSN    string // for the driver, with the schema
	lock   *os.File
	launch func() (pid int, wait chan struct{}, err error)

	mu       sync.Mutex
	pid      int
	wait     chan struct{} // closed when a server that we started has ended; nil for one taken over
	stopping bool
}

// Start makes the folder's database when there is none and starts its server.
// It returns when the server answers, or with an error within 40 seconds.
func Start(ctx context.Context, o Options) (*Server, error) {
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	s := &Server{}
	if s.lock, err = lockFolder(dir); err != nil {
		return nil, err
	}
	if err := s.start(ctx, dir, o); err != nil {
		s.lock.Close()
		return nil, err
	}
	return s, nil
}

func lockFolder(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("the data folder %s is in use by another start of this program; stop that one, or choose another folder", dir)
	}
	return f, nil
}

func (s *Server) start(ctx context.Context, dir string, o Options) error {
	data, socket := filepath.Join(dir, "db"), socketPath(dir)
	if _, err := os.Stat(filepath.Join(data, "mysql")); errors.Is(err, os.ErrNotExist) {
		if err := install(ctx, data); err != nil {
			return err
		}
	}
	password, err := secret(filepath.Join(dir, "db.password"))
	if err != nil {
		return err
	}
	port, pid := running(dir, socket)
	fresh := pid == 0
	if fresh {
		if port, err = freePort(); err != nil {
			return err
		}
	}
	s.pid, s.launch = pid, func() (int, chan struct{}, error) { return launch(dir, data, socket, port, o.Throwaway) }
	if fresh {
		if s.pid, s.wait, err = s.launch(); err != nil {
			return err
		}
	}
	if err := s.prepare(ctx, socket, password); err != nil {
		s.Stop()
		return fmt.Errorf("%w; the server's log is %s", err, filepath.Join(dir, "db.err"))
	}
	go s.watch()
	s.DSN = address(password, port)
	return nil
}

func address(password string, port int) string {
	return fmt.Sprintf("ivytable:%s@tcp(127.0.0.1:%d)/%s?parseTime=true&loc=UTC&charset=utf8mb4&interpolateParams=true", password, port, Name)
}

// Running returns the DSN of the server of a folder that is in use, "" where none runs there.
func Running(folder string) (dsn string, err error) {
	dir, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	port, pid := running(dir, socketPath(dir))
	if pid == 0 {
		return "", nil
	}
	password, err := os.ReadFile(filepath.Join(dir, "db.password"))
	if err != nil {
		return "", fmt.Errorf("read the password of the database: %w", err)
	}
	return address(strings.TrimSpace(string(password)), port), nil
}

// socketPath keeps the socket in the folder unless its path is longer than a
// socket's may be (108 octets on Linux).
func socketPath(dir string) string {
	p := filepath.Join(dir, "db.sock")
	if len(p) < 100 {
		return p
	}
	h := fnv.New64a()
	h.Write([]byte(dir))
	return filepath.Join(os.TempDir(), fmt.Sprintf("ivytable-%x.sock", h.Sum64()))
}

func asUser() []string {
	if u, err := user.Current(); err == nil && u.Uid == "0" {
		return []string{"--user=root"}
	}
	return nil
}

func install(ctx context.Context, data string) error {
	temporary, err := temporary(filepath.Dir(data))
	if err != nil {
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + data, "--tmpdir=" + temporary, "--auth-root-authentication-method=normal",
		"--skip-test-db", "--skip-name-resolve", logSize}, asUser()...)
	out, err := exec.CommandContext(ctx, "mariadb-install-db", args...).CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return errors.New("MariaDB is not installed; install Debian's package mariadb-server, or give the address of a server with --dsn")
	}
	if err != nil {
		os.RemoveAll(data)
		return fmt.Errorf("make the database: %w: %s", err, out)
	}
	return nil
}

// temporary makes the folder for the tables that the server of a folder writes for a while. It is
// this server's own: at its start a server removes all such tables in it, those of others too.
func temporary(dir string) (string, error) {
	path := filepath.Join(dir, "db.tmp")
	return path, os.MkdirAll(path, 0o700)
}

// logSize bounds what is read again after a crash, and how much can be written before
// pages have to be.
const logSize = "--innodb-log-file-size=96M"

// cacheMB is how much of its tables the server keeps in memory, at most: an eighth of
// the machine's memory, from 128 MB to 2 GB. It is taken as it is needed.
func cacheMB() int {
	var kB int
	if b, err := os.ReadFile("/proc/meminfo"); err == nil {
		_, _ = fmt.Sscanf(string(b), "MemTotal: %d kB", &kB) // its first line
	}
	return min(max(kB/1024/8, 128), 2048)
}

func launch(dir, data, socket string, port int, throwaway bool) (pid int, wait chan struct{}, err error) {
	bin, err := exec.LookPath("mariadbd")
	if err != nil {
		bin = "/usr/sbin/mariadbd"
	}
	temporary, err := temporary(dir)
	if err != nil {
		return 0, nil, err
	}
	args := append([]string{"--no-defaults", "--datadir=" + data, "--tmpdir=" + temporary, "--socket=" + socket, "--pid-file=" + filepath.Join(dir, "db.pid"),
		"--port=" + strconv.Itoa(port), "--bind-address=127.0.0.1", "--skip-networking=0", "--skip-name-resolve", "--log-error=" + filepath.Join(dir, "db.err"),
		logSize, fmt.Sprintf("--innodb-buffer-pool-size=%dM", cacheMB()), "--performance-schema=0", "--innodb-adaptive-hash-index=1", "--local-infile=0", "--max-allowed-packet=64M",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_uca1400_ai_ci"}, asUser()...)
	if throwaway {
		args = append(args, "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--local-infile=1")
	}
	cmd := exec.Command(bin, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // an interrupt at the terminal is for us; we stop it in turn
	if err := os.WriteFile(filepath.Join(dir, "db.port"), []byte(strconv.Itoa(port)), 0o600); err != nil {
		return 0, nil, err
	}
	if err := cmd.Start(); err != nil {
		return 0, nil, fmt.Errorf("start MariaDB: %w", err)
	}
	wait = make(chan struct{})
	go func() { _ = cmd.Wait(); close(wait) }()
	return cmd.Process.Pid, wait, os.WriteFile(filepath.Join(dir, "db.launched"), []byte(strconv.Itoa(cmd.Process.Pid)), 0o600)
}

// watch starts a server that ended by itself again, on the same port.
func (s *Server) watch() {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for range tick.C {
		s.mu.Lock()
		if s.stopping {
			s.mu.Unlock()
			return
		}
		if !s.alive() {
			if pid, wait, err := s.launch(); err == nil { // else again at the next tick
				s.pid, s.wait = pid, wait
			}
		}
		s.mu.Unlock()
	}
}

func (s *Server) alive() bool {
	select {
	case <-s.wait: // never, for one that we took over
		return false
	default:
		return s.wait != nil || syscall.Kill(s.pid, 0) == nil
	}
}

// running returns the port and process of a server that still serves dir. For one that is only
// starting, since whoever launched it was killed, it waits: a second one beside it would wait for
// the first to end.
func running(dir, socket string) (port, pid int) {
	for end := time.Now().Add(40 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if port, pid = answering(dir, socket); pid != 0 || !starting(dir) || time.Now().After(end) {
			return port, pid
		}
	}
}

// starting reports whether the server that was launched last for dir lives.
func starting(dir string) bool {
	i, err := os.ReadFile(filepath.Join(dir, "db.launched"))
	if err != nil {
		return false
	}
	line, err := os.ReadFile(filepath.Join("/proc", strings.TrimSpace(string(i)), "cmdline")) // its number may be another's by now
	return err == nil && strings.Contains(string(line), "--datadir="+filepath.Join(dir, "db")+"\x00")
}

// answering returns the port and process of a server that answers for dir.
func answering(dir, socket string) (port, pid int) {
	p, err1 := os.ReadFile(filepath.Join(dir, "db.port"))
	i, err2 := os.ReadFile(filepath.Join(dir, "db.pid"))
	c, err3 := net.Dial("unix", socket)
	if errors.Join(err1, err2, err3) != nil {
		return 0, 0
	}
	c.Close()
	port, err1 = strconv.Atoi(strings.TrimSpace(string(p)))
	pid, err2 = strconv.Atoi(strings.TrimSpace(string(i)))
	if err1 != nil || err2 != nil || syscall.Kill(pid, 0) != nil {
		return 0, 0
	}
	return port, pid
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func secret(path string) (string, error) {
	if b, err := os.ReadFile(path); err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	b := make([]byte, 16)
	rand.Read(b)
	s := hex.EncodeToString(b)
	return s, os.WriteFile(path, []byte(s), 0o600)
}

// prepare waits for the server and sees that our user and schema are there. The
// server's root is left reachable through the socket alone.
func (s *Server) prepare(ctx context.Context, socket, password string) error {
	root, err := sql.Open("mysql", "root@unix("+socket+")/")
	if err != nil {
		return err
	}
	defer root.Close()
	ctx, cancel := context.WithTimeout(ctx, 40*time.Second)
	defer cancel()
	for tick := time.NewTicker(20 * time.Millisecond); ; {
		if err = root.PingContext(ctx); err == nil {
			tick.Stop()
			break
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("MariaDB does not answer: %w", err)
		case <-s.wait:
			return errors.New("MariaDB ended at once")
		case <-tick.C:
		}
	}
	for _, q := range []string{
		"CREATE DATABASE IF NOT EXISTS `" + Name + "`",
		"CREATE USER IF NOT EXISTS ivytable@'127.0.0.1' IDENTIFIED BY '" + password + "'",
		"GRANT ALL ON `ivytable%`.* TO ivytable@'127.0.0.1'",
		"DROP USER IF EXISTS root@'127.0.0.1'", "DROP USER IF EXISTS root@'::1'",
	} {
		if _, err := root.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("prepare the database: %w", err)
		}
	}
	return nil
}

// Halt stops a server that a killed process left behind in a folder. It fails when
// the folder is in use.
func Halt(folder string) error {
	dir, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	lock, err := lockFolder(dir)
	if err != nil {
		return err
	}
	if _, pid := running(dir, socketPath(dir)); pid != 0 {
		(&Server{lock: lock, pid: pid}).Stop()
		return nil
	}
	return lock.Close()
}

// Stop ends the server cleanly and waits for it, at most 30 seconds.
func (s *Server) Stop() {
	defer s.lock.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopping = true
	_ = syscall.Kill(s.pid, syscall.SIGTERM)
	for deadline := time.Now().Add(30 * time.Second); s.alive() && time.Now().Before(deadline); {
		time.Sleep(20 * time.Millisecond)
	}
}
