// Package fault is how the core says that something can't be as it was given: one
// type for every rule of it.
package fault

import (
	"fmt"
	"strings"
)

// Fault is what is wrong with something, and what to do about it.
type Fault struct {
	Field string // the part that is wrong, such as join.audience; "" for the whole
	Given string // what was given, where the message is to name it
	At    int    // where in a text with a grammar it is, in octets from 0
	Line  int    // where in a list it is, from 1; 0 for the list as a whole
	Says  string // what is wrong, one sentence
	Mend  string // what to do, one sentence; "" where Says tells
}

// New returns a fault of a field.
func New(field, mend, format string, args ...any) *Fault {
	return &Fault{Field: field, Says: fmt.Sprintf(format, args...), Mend: mend}
}

// Error returns the whole message on one line, with what was given before it.
func (f *Fault) Error() string {
	if f.Given != "" {
		return fmt.Sprintf("%q: %s", f.Given, f.Words())
	}
	return f.Words()
}

// Words returns what is wrong and what to do, without what was given.
func (f *Fault) Words() string {
	s := strings.TrimSpace(f.Says + " " + f.Mend)
	if f.Line > 0 {
		return fmt.Sprintf("Line %d: %s", f.Line, s)
	}
	return s
}
