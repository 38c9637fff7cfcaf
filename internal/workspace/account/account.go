// Package account is how people sign in: passwords, sessions, tokens, and the links by
// which passwords are chosen.
package account

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is signing in.
type Service struct {
	k      *workspace.Kernel
	trying *queue
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k, newQueue()} }

// How long credentials last, and when an address is left alone after wrong passwords.
const (
	SessionLasts  = 12 * time.Hour
	tokenDays     = 90
	maxTokens     = 50 // of one person
	maxFailures   = 8
	failureWindow = 15 * time.Minute
	sourceKnown   = 90 * 24 * time.Hour // after somebody signed in from it
)

// The kinds of credentials that open something.
const (
	Session = store.SessionCredential
	Token   = store.TokenCredential
)

// realTime is the time of the world: what opens something goes by it, not by a demo's.
func realTime() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

var errWrong = workspace.Fail(workspace.SignedOut, "The address or the password is wrong.")

// attempt lets somebody try to sign in. source is where they come from: after too many
// attempts that failed it is left alone at that address for a while, and others are not. An
// attempt counts before it is made, so that a hundred at once are no more than one after
// another. Where many sources guess at one address, or one at many addresses, those from which
// nobody ever signed in there wait for their turn.
func (s *Service) attempt(ctx context.Context, source, address string, try func(v *workspace.View, p store.Person) error) (workspace.Actor, error) {
	nobody := workspace.Actor{}
	a, err := mailaddr.Parse(address)
	if err != nil {
		return nobody, errWrong
	}
	source = workspace.Network(source)
	leave, err := s.trying.enter(ctx, source)
	if err != nil {
		return nobody, err
	}
	defer leave()
	if err := s.k.Do(ctx, nobody, func(c *workspace.Change) error { return admit(c, a.Key(), source) }); err != nil {
		return nobody, err
	}
	v := s.k.View(ctx, nobody)
	p, err := v.Read.PersonByKey(a.Key())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nobody, err
	}
	if err := try(v, p); err != nil || !p.Active || p.External {
		if err == nil {
			err = errWrong
		}
		if p.Active && !p.External && workspace.IsKind(err, workspace.SignedOut) {
			_ = s.k.Do(ctx, nobody, func(c *workspace.Change) error { return warn(c, p, source) })
		}
		return nobody, err
	}
	err = s.k.Do(ctx, nobody, func(c *workspace.Change) error {
		return errors.Join(c.Tx.ClearSignIns(a.Key(), source), c.Tx.KnowSource(p.ID, source, realTime()))
	})
	return workspace.Actor{Person: p, Source: source}, err
}

// When guessing slows down those whom nobody knows.
const (
	manySources = 5  // that failed at one address within the window
	manyTries   = 50 // that failed from one source
	guessTurn   = 5 * time.Second
	sourceTurn  = 2 * time.Second
	warnEvery   = 24 * time.Hour
)

// admit counts an attempt, or says when it can be made.
func admit(c *workspace.Change, key, source string) error {
	now := realTime()
	g, err := c.Read.Guessing(key, source, now.Add(-failureWindow))
	if err != nil {
		return err
	}
	for _, t := range []struct {
		holds bool
		key   string
		every time.Duration
	}{{g.Sources >= manySources, "at " + key, guessTurn}, {g.BySource >= manyTries, "from " + source, sourceTurn}} {
		if !t.holds || g.Known {
			continue
		}
		if mine, err := c.Tx.Turn(t.key, now, t.every); err != nil {
			return err
		} else if !mine {
			return workspace.Later(int(t.every/time.Second), "Many wrong passwords come in just now. Try again in %d seconds, or from where you signed in before.", int(t.every/time.Second))
		}
	}
	n, last, err := c.Tx.CountSignIn(key, source, now, now.Add(-failureWindow), maxFailures)
	if err == nil && n > maxFailures {
		wait := failureWindow - now.Sub(last)
		err = workspace.Later(int(wait/time.Second)+1, "There were %d wrong passwords for this address. Try again in %d minutes.", maxFailures, int(wait/time.Minute)+1)
	}
	return err
}

// warn tells somebody at whose account many sources guess, once a day.
func warn(c *workspace.Change, p store.Person, source string) error {
	g, err := c.Read.Guessing(p.AddrKey, source, realTime().Add(-failureWindow))
	if err != nil || g.Sources < manySources {
		return err
	}
	if mine, err := c.Tx.Turn("told "+p.AddrKey, realTime(), warnEvery); err != nil || !mine {
		return err
	}
	lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
	return c.Send(nil, []string{p.Address}, c.Letter(workspace.LetterGuessing, lang, "/account", map[string]string{"person": p.Name, "address": p.Address, "count": fmt.Sprint(g.Sources)}))
}

// checkPassword returns the active person whose address and password these are, as an actor.
func (s *Service) checkPassword(ctx context.Context, source, address, password string) (workspace.Actor, error) {
	return s.attempt(ctx, source, address, func(_ *workspace.View, p store.Person) error {
		if !passwordFits(p.PasswordHash, password) {
			return errWrong
		}
		return nil
	})
}

// SignIn begins a session and returns its secret. Who has a second factor gives its code, or
// a recovery code, too.
func (s *Service) SignIn(ctx context.Context, source string, in api.SignIn) (workspace.Actor, string, error) {
	by, err := s.attempt(ctx, source, in.Address, func(v *workspace.View, p store.Person) error {
		if !passwordFits(p.PasswordHash, in.Password) || !p.Active || p.External {
			return errWrong
		}
		return s.checkCode(ctx, v, p, in.Code)
	})
	if err != nil {
		return by, "", err
	}
	secret, c := newCredential(Session, by.Person.ID, "", SessionLasts)
	by.Credential = c.ID
	if by, err = s.limits(ctx, by, false); err != nil {
		return by, "", err
	}
	err = s.k.Do(ctx, by, func(change *workspace.Change) error {
		if err := change.Tx.AddCredential(c); err != nil {
			return err
		}
		return change.Tx.SetSignedIn(c.PersonID, change.Now())
	})
	return by, secret, err
}

// SignInToSend returns who may send mail with a password: one that was made for a mail
// program, or, for who has no second factor and needs none, their own.
func (s *Service) SignInToSend(ctx context.Context, source, address, password string) (workspace.Actor, error) {
	var credential store.Credential
	by, err := s.attempt(ctx, source, address, func(v *workspace.View, p store.Person) error {
		hash := sha256.Sum256([]byte(strings.ReplaceAll(password, " ", "")))
		c, of, err := v.Read.CredentialByHash(hash[:])
		switch {
		case err == nil && c.Kind == Token && of.ID == p.ID && access.ReadScopes(c.Scopes).Cover(access.ScopeSend) && realTime().Before(c.ExpiresAt):
			credential = c
			return nil
		case err != nil && !errors.Is(err, store.ErrNotFound):
			return err
		case !passwordFits(p.PasswordHash, password):
			return errWrong
		}
		f, err := v.Read.SecondFactor(p.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		protection, _, no := v.Protection()
		if no != nil {
			return no
		}
		if f.ConfirmedAt != nil || protection.Demands(p.WorkspaceRole) {
			return errWrong // it would be a way round the second factor
		}
		return nil
	})
	by.Credential = credential.ID
	if err == nil && credential.ID != uuid.Nil {
		err = s.used(ctx, credential)
	}
	return by, err
}

// StillIn reports whether somebody who signed in to send mail still may: until their password
// is another, or what they signed in with has ended.
func (s *Service) StillIn(ctx context.Context, by workspace.Actor) (bool, error) {
	v := s.k.View(ctx, workspace.Actor{})
	p, err := v.Read.PersonByKey(by.Person.AddrKey)
	if err != nil || !p.Active || p.ID != by.Person.ID {
		return false, ignoreMissing(err)
	}
	if by.Credential == uuid.Nil {
		return p.PasswordHash == by.Person.PasswordHash, nil
	}
	c, err := v.Read.Credential(Token, p.ID, by.Credential)
	return err == nil && realTime().Before(c.ExpiresAt), ignoreMissing(err)
}

func ignoreMissing(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

func newCredential(kind string, person uuid.UUID, name string, lasts time.Duration) (string, store.Credential) {
	b := make([]byte, 24)
	rand.Read(b)
	secret := "ivy_" + base64.RawURLEncoding.EncodeToString(b)
	hash := sha256.Sum256([]byte(secret))
	now := realTime()
	return secret, store.Credential{ID: store.NewID(), Kind: kind, Hash: hash[:], PersonID: person, Name: name, CreatedAt: now, ExpiresAt: now.Add(lasts)}
}

// Authenticate returns the actor whose session or token a secret opens.
func (s *Service) Authenticate(ctx context.Context, kind, secret string) (workspace.Actor, error) {
	hash := sha256.Sum256([]byte(secret))
	c, p, err := s.k.View(ctx, workspace.Actor{}).Read.CredentialByHash(hash[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && (c.Kind != kind || !p.Active || realTime().After(c.ExpiresAt)) {
		return workspace.Actor{}, workspace.Fail(workspace.SignedOut, "Your %s has ended or was never valid. Sign in again.", kind)
	}
	if err != nil {
		return workspace.Actor{}, err
	}
	by := workspace.Actor{Person: p, Credential: c.ID}
	if kind == Token {
		by.Scopes = access.ReadScopes(c.Scopes)
		if by.Scopes == nil {
			by.Scopes = access.Scopes{}
		}
		if err := s.used(ctx, c); err != nil {
			return by, err
		}
	}
	return s.limits(ctx, by, c.SecondFactor)
}

// limits says on an actor what they lack: a second factor that the workspace demands.
func (s *Service) limits(ctx context.Context, by workspace.Actor, has bool) (workspace.Actor, error) {
	if has {
		return by, nil
	}
	v := s.k.View(ctx, workspace.Actor{})
	p, err := v.ShownProtection()
	if err != nil || !p.Demands(by.Person.WorkspaceRole) {
		return by, err
	}
	f, err := v.Read.SecondFactor(by.Person.ID)
	by.LacksFactor = f.ConfirmedAt == nil
	return by, ignoreMissing(err)
}

// usedEvery is how exactly it is known when a token was last used.
const usedEvery = 10 * time.Minute

// used notes that a token was used.
func (s *Service) used(ctx context.Context, c store.Credential) error {
	now := realTime()
	if c.LastUsedAt != nil && now.Sub(*c.LastUsedAt) < usedEvery {
		return nil
	}
	return s.k.Do(ctx, workspace.Actor{}, func(change *workspace.Change) error { return change.Tx.UseCredential(c.ID, now) })
}

// SignOut ends the actor's session; a token stays until it is revoked.
func (s *Service) SignOut(ctx context.Context, by workspace.Actor) error {
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		return c.Tx.DeleteCredential(Session, c.By.Person.ID, c.By.Credential)
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// ForgetExpired forgets sessions and tokens that ended, and keys of requests that are a day
// old.
func (s *Service) ForgetExpired(ctx context.Context) error {
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		now := realTime()
		return errors.Join(c.Tx.DeleteExpiredCredentials(now), c.Tx.DeleteIdempotency(c.Now().Add(-24*time.Hour)),
			c.Tx.DeleteSignIns(now.Add(-failureWindow)), c.Tx.ForgetSources(now.Add(-sourceKnown)), c.Tx.ForgetSpent(c.Now().AddDate(0, 0, -7)), c.Tx.ForgetOwnLinks(c.Now()), c.Tx.ForgetProofs(c.Now()), c.Tx.ForgetAnswers(c.Now().AddDate(0, 0, -texts.MaxDays)))
	})
}
