// Package password holds the rule for passwords that people choose: long enough to be
// worth guessing at for years, and not what everybody knows of them anyway. It asks
// for no mixture of letters and digits (NIST SP 800-63B, 5.1.1.2).
package password

import (
	"strings"
	"unicode/utf8"

	"ivytable.example/ivytable/internal/core/fault"
)

// How many characters a password has.
const (
	Shortest = 10
	Longest  = 200
)

// Check returns what is wrong with a password, a *[fault.Fault], or nil. known are names and addresses
// of whoever chooses it: it is none of them in whatever case, with digits or spaces
// around it or not.
func Check(password string, known ...string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return fault.New("password", "Type it again.", "The password is not written in UTF-8.")
	case n < Shortest:
		return fault.New("password", "", "The password has %d characters; choose one of %d or more.", n, Shortest)
	case n > Longest:
		return fault.New("password", "Shorten it.", "The password has %d characters; %d is the most.", n, Longest)
	}
	for _, k := range known {
		if k != "" && strings.EqualFold(strings.Trim(password, "0123456789 "), k) {
			return fault.New("password", "Choose another one.", "The password is your name or address.")
		}
	}
	return nil
}
