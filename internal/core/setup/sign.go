package setup

import "strings"

// SignedBy are the domains in whose name a message may be signed, by that of its author and that of the group, "" for none: that of the author first. What claims
// an author who is not proven is signed by no domain that may be theirs, since that would prove it to others (RFC 7489, 3.1.1).
func SignedBy(author, group string, proven bool) (domains []string) {
	if proven && author != "" {
		domains = append(domains, author)
	}
	if group != "" && (proven || !related(author, group)) {
		domains = append(domains, group)
	}
	return domains
}

// related reports whether two domains may be of one organisation, so that the name of one speaks for the other: here where they end alike.
func related(a, b string) bool {
	end := func(domain string) string {
		labels := strings.Split(strings.ToLower(domain), ".")
		return strings.Join(labels[max(0, len(labels)-2):], ".")
	}
	return end(a) == end(b)
}
