package mailaddr

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/fault"
)

// Limits of an address in octets, from RFC 5321, 4.5.3.1 and RFC 1035, 2.3.4.
const (
	MaxLocal  = 64
	MaxDomain = 255
	MaxLabel  = 63
)

// Address is a parsed address. The zero value is no address. Its parts keep the
// case they were given in; compare addresses by their Key.
type Address struct {
	local, domain string
}

func bad(given, mend, format string, args ...any) error {
	return &fault.Fault{Given: given, Says: fmt.Sprintf(format, args...), Mend: mend}
}

// Parse reads one bare address, such as night-dispatch@merrowline.example.
// White space around it and one pair of angle brackets are taken off. The error
// is an *[fault.Fault].
func Parse(s string) (Address, error) {
	given := s
	s = strings.TrimSpace(s)
	if strings.HasPrefix(s, "<") && strings.HasSuffix(s, ">") {
		s = s[1 : len(s)-1]
	}
	if s == "" {
		return Address{}, bad(given, "Write it as name@domain.", "The address is empty.")
	}
	at := strings.LastIndexByte(s, '@')
	if at < 0 {
		return Address{}, bad(given, "Write it as name@domain.", "There is no @ in the address.")
	}
	if len(s) > maxAddress {
		return Address{}, bad(given, "Shorten it.", "The address has %d octets; %d is the most (RFC 5321, 4.5.3.1.3).", len(s), maxAddress)
	}
	a := Address{local: s[:at], domain: s[at+1:]}
	if err := CheckLocal(a.local); err != nil {
		err.(*fault.Fault).Given = given
		return Address{}, err
	}
	if err := checkDomain(given, a.domain); err != nil {
		return Address{}, err
	}
	return a, nil
}

// maxAddress is how many octets an address has at most: a path of 256 with its angle brackets
// (RFC 5321, 4.5.3.1.3).
const maxAddress = 254

// CheckLocal reports what is wrong with a local part, or nil. The error is an *[fault.Fault].
func CheckLocal(local string) error {
	if local == "" {
		return bad(local, "Write a name before the @.", "The part before the @ is empty.")
	}
	for _, r := range local {
		switch {
		case r == ' ' || r == '\t':
			return bad(local, "Use a hyphen instead.", "There is a space before the @.")
		case r < 0x20 || r == 0x7f:
			return bad(local, "Type the address by hand.", "There is a control character (U+%04X) before the @.", r)
		case r > 0x7f:
			if l, ok := lookalike[r]; ok {
				return bad(local, "Type it again in plain letters.", "It has the letter %q (U+%04X), which only looks like %q.", r, r, l)
			}
			return bad(local, "Use the letters a to z, digits, dots and hyphens.", "The letter %q can't stand before the @.", r)
		case !atext(byte(r)) && r != '.':
			return bad(local, "Use letters, digits, dots and hyphens.", "The character %q can't stand before the @.", r)
		}
	}
	if len(local) > MaxLocal {
		return bad(local, fmt.Sprintf("Shorten it to %d.", MaxLocal), "The part before the @ has %d octets; %d is the most.", len(local), MaxLocal)
	}
	if local[0] == '.' || local[len(local)-1] == '.' || strings.Contains(local, "..") {
		return bad(local, "Use single dots between letters.", "The part before the @ has a dot at its edge or two in a row.")
	}
	return nil
}

// atext is the set of the same name in RFC 5322, 3.2.3.
func atext(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("!#$%&'*+-/=?^_`{|}~", c) >= 0
}

// CheckDomain reports what is wrong with a domain name, or nil. The error is an *[fault.Fault].
func CheckDomain(domain string) error { return checkDomain(domain, domain) }

func checkDomain(given, domain string) error {
	if domain == "" {
		return bad(given, "Write a domain after the @.", "The part after the @ is empty.")
	}
	if len(domain) > MaxDomain {
		return bad(given, "Shorten it.", "The domain has %d octets; %d is the most.", len(domain), MaxDomain)
	}
	labels := strings.Split(domain, ".")
	if len(labels) < 2 {
		return bad(given, "Write the whole domain, such as merrowline.example.", "The domain %q has only one part.", domain)
	}
	for _, l := range labels {
		if l == "" || len(l) > MaxLabel || l[0] == '-' || l[len(l)-1] == '-' {
			return bad(given, "Check the domain for typing mistakes.", "The part %q of the domain is empty, too long or begins or ends with a hyphen.", l)
		}
		for _, r := range l {
			if r > 0x7f {
				return bad(given, "Write the domain in its xn-- form.", "The letter %q can't stand in a domain.", r)
			}
			if !('a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || r == '-') {
				return bad(given, "Check the domain for typing mistakes.", "The character %q can't stand in a domain.", r)
			}
		}
	}
	if strings.Trim(labels[len(labels)-1], "0123456789") == "" { // RFC 3696, 2
		return bad(given, "Write the name of a domain.", "%q ends in a number, as an address of a computer does.", domain)
	}
	return nil
}

// String returns local@domain, or "" for the zero value.
func (a Address) String() string {
	if a.IsZero() {
		return ""
	}
	return a.local + "@" + a.domain
}

// IsZero reports whether a is no address.
func (a Address) IsZero() bool { return a.local == "" }

// Local returns the part before the @.
func (a Address) Local() string { return a.local }

// Domain returns the part after the @ in lower case.
func (a Address) Domain() string { return strings.ToLower(a.domain) }

// Key returns the address in lower case. Two addresses with one key are one
// address: the directory treats local parts as case-insensitive, as RFC 5321,
// 2.4 permits the domain that owns them.
func (a Address) Key() string { return strings.ToLower(a.String()) }

var alike = strings.NewReplacer("0", "o", "1", "l", ".", "-", "_", "-")

// Alike returns the key with look-alike characters of the local part folded.
func (a Address) Alike() string {
	return alike.Replace(strings.ToLower(a.local)) + "@" + a.Domain()
}

var loose = strings.NewReplacer("-", "", "i", "l", "rn", "m", "vv", "w")

// Loose returns a coarse key that a slip of the eye or the hand does not change.
func (a Address) Loose() string {
	local := loose.Replace(alike.Replace(strings.ToLower(a.local)))
	if len(local) > 3 {
		local = strings.TrimSuffix(local, "s")
	}
	return local + "@" + a.Domain()
}

// NearlySame reports whether two different texts, such as domains, are one or two slips of the hand
// apart: a letter too many, too few, another, or two exchanged.
func NearlySame(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	return a != b && Slips(a, b, 2)
}

// Slips reports whether at most most slips of the hand lead from a to b.
func Slips(a, b string, most int) bool {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	switch {
	case len(a) == 0 && len(b) == 0:
		return true
	case most == 0:
		return false
	case len(a) > 0 && Slips(a[1:], b, most-1), len(b) > 0 && Slips(a, b[1:], most-1):
		return true
	case len(a) > 1 && len(b) > 1 && a[0] == b[1] && a[1] == b[0]:
		return Slips(a[2:], b[2:], most-1)
	}
	return len(a) > 0 && len(b) > 0 && Slips(a[1:], b[1:], most-1)
}

// reserved are the role names of RFC 2142 and the names by which mail systems
// address each other.
var reserved = map[string]string{
	"postmaster": "RFC 2142 keeps it for the people who run the mail",
	"abuse":      "RFC 2142 keeps it for reports of abuse", "noc": "RFC 2142 keeps it for network operations",
	"security": "RFC 2142 keeps it for security reports", "hostmaster": "RFC 2142 keeps it for the name service",
	"usenet": "RFC 2142 keeps it for a service", "news": "RFC 2142 keeps it for a service", "webmaster": "RFC 2142 keeps it for the web site",
	"www": "RFC 2142 keeps it for the web site", "uucp": "RFC 2142 keeps it for a service", "ftp": "RFC 2142 keeps it for a service",
	"mailer-daemon": "mail systems sign their reports with it", "root": "machines write to it", "nobody": "it stands for nobody at all",
	"noreply": "people read it as an address that nobody answers", "no-reply": "people read it as an address that nobody answers",
}

// official are the role names of RFC 2142 by which an organisation is written to, and those by which certificate authorities validate domains:
// whoever reads mail to one of the latter gets certificates for the domain.
var official = map[string]string{
	"info": "RFC 2142 keeps it for the organisation", "support": "RFC 2142 keeps it for the organisation",
	"sales": "RFC 2142 keeps it for the organisation", "marketing": "RFC 2142 keeps it for the organisation",
	"admin": validates, "administrator": validates, "ssladmin": validates, "ssl-admin": validates, "ssladministrator": validates, "sslwebmaster": validates, "sysadmin": validates,
}

const validates = "certificate authorities validate domains by it"

// Official returns why a local part is for administrators alone to give, or "". One that people would take for such a one is, too.
func Official(local string) string {
	looks := func(s string) string { return strings.ReplaceAll(alike.Replace(strings.ToLower(s)), "i", "l") }
	for name, why := range official {
		if looks(name) == looks(local) {
			return why
		}
	}
	return ""
}

// These end the local parts that every group has beside its own: one that leads to its
// owners, one that failed deliveries return to, and one that people ask about a list at
// (RFC 2142, 6).
const (
	OwnersSuffix  = "-owners"
	BouncesSuffix = "-bounces"
	RequestSuffix = "-request"
)

// Reserved returns why a local part is kept for something else, or "". One that people would
// take for a reserved one is kept too.
func Reserved(local string) string {
	l := alike.Replace(strings.ToLower(local))
	if why := reserved[l]; why != "" {
		return why
	}
	for _, s := range []string{OwnersSuffix, BouncesSuffix, RequestSuffix} {
		if strings.HasSuffix(l, s) {
			return "every group has a helper address that ends in " + s
		}
	}
	return ""
}
