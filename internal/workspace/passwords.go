package workspace

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/password"
	"ivytable.example/ivytable/internal/store"
)

// How long a link to choose a password lasts, and how many somebody is sent within an
// hour at their own wish.
const (
	passwordLinkLasts = 3 * 24 * time.Hour
	mostPasswordLinks = 3
)

// asking is how long every wish for a link takes: by how long the answer takes, nobody
// learns who has an account.
const asking = 100 * time.Millisecond

// checkPassword returns what is wrong with a password that p chooses.
func checkPassword(p store.Person, chosen string) error {
	local, _, _ := strings.Cut(p.AddrKey, "@")
	if err := password.Check(chosen, p.AddrKey, local, p.Name); err != nil {
		return wrong("password", nil, err.Error())
	}
	return nil
}

// SendPasswordLink mails somebody a link by which they choose a password.
func (w *Workspace) SendPasswordLink(ctx context.Context, a Actor, ref string) error {
	if err := allow(a, changeDirectory); err != nil {
		return err
	}
	p, err := w.findPerson(ctx, ref)
	if err != nil {
		return err
	}
	if p.External || !p.Active {
		return fail(Conflict, "%s can't sign in: only people of the workspace who are here can.", p.Address)
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := w.mailPasswordLinks(ctx, t, a, []store.Person{p}); err != nil {
			return err
		}
		return recordOf(ctx, t, a, w.now(ctx), "person.password_link", nil, p.Address, []api.FieldChange{}, []store.Affected{{PersonID: p.ID}})
	})
	w.o.Wake()
	return err
}

// mailPasswordLinks queues letters with links to choose a password.
func (w *Workspace) mailPasswordLinks(ctx context.Context, t *store.Store, a Actor, people []store.Person) error {
	now := w.now(ctx)
	credentials, letters, to := make([]store.Credential, len(people)), make([]store.Message, len(people)), make([]string, len(people))
	for i, p := range people {
		var secret string
		secret, credentials[i] = newCredential(store.PasswordLink, p.ID, "", passwordLinkLasts)
		lang, _, _ := strings.Cut(fields(p)["preferredLanguage"], "-")
		l := w.personLetter(letterPassword, lang, "/password/"+secret, map[string]string{"person": p.Name, "address": p.Address,
			"by": a.Person.Name, "date": languageOf(lang).date(credentials[i].ExpiresAt)})
		_, domain, _ := strings.Cut(p.Address, "@")
		var err error
		if letters[i], err = l.message(nil, domain, []string{p.Address}, now); err != nil {
			return err
		}
		to[i] = p.Address
	}
	if err := t.AddCredentials(ctx, credentials); err != nil {
		return err
	}
	return t.AddMessages(ctx, letters, to)
}

// AskPasswordLink mails whoever has an address a link by which they choose a password.
// The answer is the same where nobody has it, and where too many links were asked for.
func (w *Workspace) AskPasswordLink(ctx context.Context, address string) error {
	until := time.After(asking)
	a, err := mailaddr.Parse(address)
	if err != nil {
		return wrong("address", cut(address, 100), says(err))
	}
	p, err := w.store.PersonByKey(ctx, a.Key())
	if err == nil && p.Active && !p.External {
		err = w.store.Tx(ctx, func(t *store.Store) error {
			if _, err := t.LockPerson(ctx, p.ID); err != nil {
				return err
			}
			n, err := t.CountCredentials(ctx, store.PasswordLink, p.ID, time.Now().UTC().Add(-time.Hour))
			if err != nil || n >= mostPasswordLinks {
				return err
			}
			return w.mailPasswordLinks(ctx, t, Actor{}, []store.Person{p})
		})
		w.o.Wake()
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	select {
	case <-until:
	case <-ctx.Done():
	}
	return nil
}

var errNoPasswordLink = fail(NotFound, "This link has ended, or was used. Ask for a new one where you sign in.")

// passwordLink returns what a link is kept as and whose it is.
func passwordLink(ctx context.Context, t *store.Store, secret string) (store.Credential, store.Person, error) {
	hash := sha256.Sum256([]byte(secret))
	c, p, err := t.CredentialByHash(ctx, hash[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && (c.Kind != store.PasswordLink || !p.Active || time.Now().After(c.ExpiresAt)) {
		return c, p, errNoPasswordLink
	}
	return c, p, err
}

// PasswordLink says whose password a link is for. It changes nothing.
func (w *Workspace) PasswordLink(ctx context.Context, secret string) (api.PasswordLink, error) {
	c, p, err := passwordLink(ctx, w.store, secret)
	if err != nil {
		return api.PasswordLink{}, err
	}
	return api.PasswordLink{Name: p.Name, Address: p.Address, ExpiresAt: c.ExpiresAt, Shortest: password.Shortest}, nil
}

// ChoosePassword gives the person of a link a password. The link is used up, and
// whoever was signed in as them is not any more.
func (w *Workspace) ChoosePassword(ctx context.Context, secret, chosen string) error {
	_, p, err := passwordLink(ctx, w.store, secret)
	if err != nil {
		return err
	}
	if err := checkPassword(p, chosen); err != nil {
		return err
	}
	hash := HashPassword(chosen)
	return w.store.Tx(ctx, func(t *store.Store) error {
		if _, err := t.LockPerson(ctx, p.ID); err != nil { // of two who use it at once, one waits here
			return err
		}
		if _, _, err := passwordLink(ctx, t, secret); err != nil {
			return err
		}
		if err := t.EndCredentials(ctx, []uuid.UUID{p.ID}); err != nil {
			return err
		}
		if err := t.ClearSignInFailures(ctx, p.AddrKey); err != nil {
			return err
		}
		return w.setPassword(ctx, t, Actor{Person: p, Via: "link"}, hash)
	})
}

// ChangePassword changes the actor's own password. Their other sessions end; their
// tokens stay.
func (w *Workspace) ChangePassword(ctx context.Context, a Actor, c api.PasswordChange) error {
	if err := signedIn(a); err != nil {
		return err
	}
	if _, err := w.CheckPassword(ctx, a.Person.Address, c.Current); err != nil {
		if e := new(Error); errors.As(err, &e) && e.Kind == SignedOut {
			return wrong("current", nil, "This is not your password.")
		}
		return err
	}
	if err := checkPassword(a.Person, c.Password); err != nil {
		return err
	}
	hash := HashPassword(c.Password)
	return w.store.Tx(ctx, func(t *store.Store) error {
		for _, kind := range []string{store.SessionCredential, store.PasswordLink} {
			if err := t.EndOtherCredentials(ctx, kind, a.Person.ID, a.Credential); err != nil {
				return err
			}
		}
		return w.setPassword(ctx, t, a, hash)
	})
}

func (w *Workspace) setPassword(ctx context.Context, t *store.Store, a Actor, hash string) error {
	if err := t.SetPassword(ctx, a.Person.ID, hash); err != nil {
		return err
	}
	return recordOf(ctx, t, a, w.now(ctx), "person.password", nil, a.Person.Address, []api.FieldChange{}, []store.Affected{{PersonID: a.Person.ID}})
}
