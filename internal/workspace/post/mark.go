package post

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"strings"

	"ivytable.example/ivytable/internal/workspace"
)

// markSetting holds the key of the workspace's marks.
const markSetting = "mail_mark"

// Marker returns what makes the marks that groups leave on messages: by its own mark a group
// knows a message that comes back to it, by whichever way, and nobody else can make one. The
// key is made when it is first asked for, and is the same for all instances.
func (s *Service) Marker(ctx context.Context) (func(listID string) string, error) {
	s.mark.mu.Lock()
	defer s.mark.mu.Unlock()
	if s.mark.key == nil {
		key, err := s.markKey(ctx)
		if err != nil {
			return nil, err
		}
		s.mark.key = key
	}
	key := s.mark.key
	return func(listID string) string {
		h := hmac.New(sha256.New, key)
		h.Write([]byte(strings.ToLower(listID)))
		return hex.EncodeToString(h.Sum(nil)[:16])
	}, nil
}

func (s *Service) markKey(ctx context.Context) ([]byte, error) {
	var key []byte
	if _, err := s.k.View(ctx, workspace.Service).Read.Setting(markSetting, &key); err != nil || key != nil {
		return key, err
	}
	err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		key = nil
		version, err := c.Tx.LockSetting(markSetting, &key)
		if err != nil || key != nil {
			return err
		}
		key = make([]byte, 32)
		rand.Read(key)
		return c.Tx.SaveSetting(markSetting, key, version+1)
	})
	return key, err
}
