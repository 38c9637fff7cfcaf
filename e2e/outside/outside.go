// Package outside is what can be seen of a running service from outside.
package outside

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/client"
)

// Free returns an address of this machine on which nobody listens.
func Free() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// Ready waits for a minute until the service at an address says that it is ready.
func Ready(addr string) error {
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if res, err := http.Get("http://" + addr + "/readyz"); err == nil {
			res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return nil
			}
		}
	}
	return errors.New("the service does not answer within a minute")
}

// TakeAll has as much mail taken of one writer, and to one group, as comes.
func TakeAll(ctx context.Context, administrator *client.Client) error {
	p, err := administrator.Protection(ctx)
	if err != nil {
		return err
	}
	p.Known, p.FromOne, p.ToGroup = nil, 1_000_000, 1_000_000
	_, err = administrator.Guarded(strconv.Quote(strconv.Itoa(p.Version))).SetProtection(ctx, p)
	return err
}

// Stolen is how much of the time of this machine's processors its host has given to others since it began, and all of that time, in ticks
// (proc_stat(5)).
func Stolen() (stolen, all float64) {
	b, _ := os.ReadFile("/proc/stat")
	first, _, _ := strings.Cut(string(b), "\n")
	for i, field := range strings.Fields(first) {
		ticks, err := strconv.ParseFloat(field, 64)
		if err != nil || i > 8 { // its name; those of guests count among the others
			continue
		}
		if all += ticks; i == 8 {
			stolen = ticks
		}
	}
	return stolen, all
}

// Resident is what a process has in memory, in octets; 0 where it has gone.
func Resident(pid int) int64 {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(b)) {
		var kB int64
		if n, _ := fmt.Sscanf(line, "VmRSS: %d kB", &kB); n == 1 {
			return kB << 10
		}
	}
	return 0
}
