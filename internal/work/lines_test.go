package work

import (
	"testing"
	"time"

	"ivytable.example/ivytable/internal/mail"
)

// The connection that was used last is used first, and those that nobody uses are closed.
func TestLines(t *testing.T) {
	var l lines
	if l.take() != nil {
		t.Error("there is one")
	}
	now := time.Now()
	var all []*mail.RelayClient
	for i := range maxLines + 1 {
		all = append(all, new(mail.RelayClient))
		if l.put(all[i], now.Add(time.Duration(i)*time.Second)) != (i < maxLines) {
			t.Errorf("connection %d: kept, or not", i)
		}
	}
	if l.take() != all[maxLines-1] {
		t.Error("the one that was used last is not used first")
	}
	old := l.before(now.Add(2 * time.Second))
	if len(old) != 2 || old[0] != all[0] || old[1] != all[1] {
		t.Errorf("%d are unused for long", len(old))
	}
	if len(l.before(now.Add(2*time.Second))) != 0 {
		t.Error("they are still kept")
	}
	if !l.put(all[0], now) || len(l.before(now.Add(time.Hour))) != maxLines-2 || l.take() != nil {
		t.Error("some were lost, or kept")
	}
}
