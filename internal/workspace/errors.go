package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// Kind is what sort of trouble an Error is.
type Kind int

// The kinds.
const (
	Invalid    Kind = iota // the request can't be done as it is
	SignedOut              // nobody is signed in, or the password is wrong
	NotAllowed             // not for this actor
	NotFound               // no such thing, as far as this actor can tell
	Conflict               // somebody or something was there first
	Stale                  // it has changed since it was read
	Throttled              // too often; later
)

// Error is trouble that a person can do something about.
type Error struct {
	Kind     Kind
	Says     string        // one or two sentences: what is wrong and what to do
	Problems []api.Problem // the fields, where there are any
	Retry    int           // of Throttled: after how many seconds it may be tried again
}

func (e *Error) Error() string { return e.Says }

// Fail returns an Error.
func Fail(kind Kind, format string, args ...any) error {
	return &Error{Kind: kind, Says: fmt.Sprintf(format, args...)}
}

// Later is a Throttled error: it may be tried again after so many seconds.
func Later(seconds int, format string, args ...any) error {
	return &Error{Kind: Throttled, Says: fmt.Sprintf(format, args...), Retry: seconds}
}

// Wrong is an Invalid error about one field.
func Wrong(field string, given any, format string, args ...any) error {
	says := fmt.Sprintf(format, args...)
	return &Error{Kind: Invalid, Says: says, Problems: []api.Problem{{Field: field, Given: given, Says: says}}}
}

// IsKind reports whether an error is an Error of a kind.
func IsKind(err error, kind Kind) bool {
	var e *Error
	return errors.As(err, &e) && e.Kind == kind
}

// Watched returns a context for what answers one request. Outcome is asked what the answer comes to: where something could not be
// read, that is the error, whatever was made of it.
func Watched(ctx context.Context) (watched context.Context, outcome func(error) error) {
	ctx, w := store.Watched(ctx)
	return ctx, func(err error) error {
		if lost := w.Err(); lost != nil && !errors.Is(err, store.ErrUnknown) {
			return lost
		}
		return err
	}
}

// Away says what to do about an error of a database that is not there or can't do its work at the moment; "" for other errors.
func Away(err error) string {
	switch {
	case errors.Is(err, store.ErrUnknown):
		return "The connection to the database was lost while this was saved, so it may have been saved or not. Look before you try again."
	case errors.Is(err, store.ErrSaved):
		return "The change was saved, but the database could not be reached for the answer. Read again to see it."
	case store.Away(err):
		return "The database can't be reached just now; nothing was changed. Try again in a few seconds."
	}
	return ""
}

// Problems collects what is wrong with a request.
type Problems []api.Problem

// Add adds what is wrong with a field.
func (p *Problems) Add(field string, given any, format string, args ...any) {
	*p = append(*p, api.Problem{Field: field, Given: given, Says: fmt.Sprintf(format, args...)})
}

// Fault adds what the core says about what was given; the field is the fault's own
// where it names one.
func (p *Problems) Fault(field string, given any, err error) {
	var f *fault.Fault
	if errors.As(err, &f) && f.Field != "" {
		field = f.Field
	}
	p.Add(field, given, "%s", Words(err))
}

// OneOf adds a problem where a value is given that is none of some.
func (p *Problems) OneOf(field, given string, among ...string) {
	if given != "" && !slices.Contains(among, given) {
		p.Add(field, Cut(given, 100), "There is no %s %q: choose %s.", field, Cut(given, 50), strings.Join(among, ", "))
	}
}

// Err returns the problems as one error, nil for none.
func (p Problems) Err() error {
	switch len(p) {
	case 0:
		return nil
	case 1:
		return &Error{Kind: Invalid, Says: p[0].Says, Problems: p}
	}
	more := "There is one more problem."
	if len(p) > 2 {
		more = fmt.Sprintf("There are %d more problems.", len(p)-1)
	}
	return &Error{Kind: Invalid, Says: p[0].Says + " " + more, Problems: p}
}

// Words returns the words of an error of the core without what was given, which a
// Problem names by itself.
func Words(err error) string {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f.Words()
	}
	return err.Error()
}

// ParseAddress reads an address of a request.
func ParseAddress(field, given string) (mailaddr.Address, error) {
	a, err := mailaddr.Parse(given)
	if err != nil {
		return a, Wrong(field, Cut(given, 100), "%s", Words(err))
	}
	return a, nil
}

// Unadmitted turns a verdict that does not let somebody act for themselves into an
// error, nil for one that does.
func Unadmitted(v admission.Verdict) error {
	switch {
	case v.Outcome == admission.Admitted || v.Outcome == admission.Asked:
		return nil
	case v.Status == "barred" || v.Status == "closed" || v.Status == "external":
		return Fail(NotAllowed, "%s", v.Says)
	}
	return Fail(Conflict, "%s", v.Says)
}

// StaleGroup is the error for a change that began from an older version.
func StaleGroup(what string, had, is int) error {
	return Fail(Stale, "Somebody changed %s since you read it (version %d, now %d). Read it again, then make your change.", what, had, is)
}

// Cut shortens a text to so many characters.
func Cut(s string, max int) string {
	if r := []rune(s); len(r) > max {
		return string(r[:max-1]) + "…"
	}
	return s
}
