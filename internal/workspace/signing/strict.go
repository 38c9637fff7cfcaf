package signing

import (
	"context"
	"errors"
	"net"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/setup"
)

const (
	strictFor  = time.Hour // that an answer is kept
	strictWait = 3 * time.Second
	maxStrict  = 10_000 // domains of which it is kept
)

// knownStrict is what was found out of a domain.
type knownStrict struct {
	is bool
	at time.Time
}

// Strict reports whether a domain asks others to refuse what does not prove itself, by its own record or, where it has none, by that of the
// domain that it lies in (RFC 7489, 6.6.3). Where nobody answers, it does: to go on in the group's name loses nothing.
func (s *Service) Strict(ctx context.Context, domain string) bool {
	domain = strings.ToLower(domain)
	s.mu.Lock()
	k, there := s.strict[domain]
	s.mu.Unlock()
	if there && time.Since(k.at) < strictFor {
		return k.is
	}
	ctx, cancel := context.WithTimeout(ctx, strictWait)
	defer cancel()
	is := true
	labels := strings.Split(domain, ".")
	for _, name := range []string{domain, strings.Join(labels[max(0, len(labels)-2):], ".")} {
		found, err := s.k.Resolver().LookupTXT(ctx, "_dmarc."+name+".")
		var none *net.DNSError
		if err != nil && !(errors.As(err, &none) && none.IsNotFound) {
			return true // it is asked again the next time
		}
		if is = setup.Strict(found); len(found) > 0 {
			break
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.strict) >= maxStrict {
		clear(s.strict)
	}
	s.strict[domain] = knownStrict{is, time.Now()}
	return is
}
