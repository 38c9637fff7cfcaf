package mail

import (
	"crypto"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/emersion/go-msgauth/dkim"
)

// signed are the fields that a signature covers, each time that a message has them (RFC 6376, 5.4.1). Of those in closed it says, too, that there is
// no further one: a field that somebody adds on the way ends it (RFC 6376, 8.15).
var (
	signed = []string{"Content-Transfer-Encoding", "In-Reply-To", "References"}
	closed = []string{"From", "Sender", "Reply-To", "Subject", "Date", "Message-Id", "To", "Cc", "Mime-Version", "Content-Type",
		"List-Id", "List-Help", "List-Unsubscribe", "List-Unsubscribe-Post", "List-Subscribe", "List-Post", "List-Owner"}
)

// Sign returns the field that signs a message in the name of a domain (RFC 6376; relaxed, RSA or Ed25519 with SHA-256). It reads the
// message to its end, and holds none of it.
func Sign(domain, selector string, key crypto.Signer, header []byte, message io.Reader) (string, error) {
	has := map[string]int{}
	for line := range strings.Lines(string(header)) {
		if name, _, ok := strings.Cut(line, ":"); ok && !strings.ContainsAny(name, " \t") {
			has[strings.ToLower(name)]++
		}
	}
	var fields []string
	for _, f := range closed {
		fields = append(fields, slices.Repeat([]string{f}, has[strings.ToLower(f)]+1)...)
	}
	for _, f := range signed {
		fields = append(fields, slices.Repeat([]string{f}, has[strings.ToLower(f)])...)
	}
	s, err := dkim.NewSigner(&dkim.SignOptions{Domain: domain, Selector: selector, Signer: key, Hash: crypto.SHA256, HeaderKeys: fields,
		HeaderCanonicalization: dkim.CanonicalizationRelaxed, BodyCanonicalization: dkim.CanonicalizationRelaxed})
	if err != nil {
		return "", fmt.Errorf("sign a message: %w", err)
	}
	if _, err := io.Copy(s, message); err != nil {
		s.Close()
		return "", fmt.Errorf("sign a message: %w", err)
	}
	if err := s.Close(); err != nil {
		return "", fmt.Errorf("sign a message: %w", err)
	}
	return s.Signature(), nil
}
