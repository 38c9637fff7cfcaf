package post

import (
	"context"
	"encoding/hex"
	"strings"
)

// Marker returns what makes the marks that groups leave on messages: by its own mark a group
// knows a message that comes back to it, by whichever way, and nobody else can make one.
func (s *Service) Marker(ctx context.Context) (func(listID string) string, error) {
	code, err := s.k.MailKey(ctx, "")
	if err != nil {
		return nil, err
	}
	return func(listID string) string { return hex.EncodeToString(code([]byte(strings.ToLower(listID)))[:16]) }, nil
}
