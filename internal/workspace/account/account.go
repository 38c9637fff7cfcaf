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
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
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
)

// The kinds of credentials that open something.
const (
	Session = store.SessionCredential
	Token   = store.TokenCredential
)

// realTime is the time of the world: what opens something goes by it, not by a demo's.
func realTime() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// CheckPassword returns the active person whose address and password these are, as an
// actor. source is where the attempt comes from: after too many wrong passwords it is left
// alone at that address for a while, and others are not. An attempt counts before it is made,
// so that a hundred at once are no more than one after another.
func (s *Service) CheckPassword(ctx context.Context, source, address, password string) (workspace.Actor, error) {
	nobody := workspace.Actor{}
	wrongPair := workspace.Fail(workspace.SignedOut, "The address or the password is wrong.")
	a, err := mailaddr.Parse(address)
	if err != nil {
		return nobody, wrongPair
	}
	source = network(source)
	leave, err := s.trying.enter(ctx, source)
	if err != nil {
		return nobody, err
	}
	defer leave()
	now := realTime()
	err = s.k.Do(ctx, nobody, func(c *workspace.Change) error {
		n, last, err := c.Tx.CountSignIn(a.Key(), source, now, now.Add(-failureWindow), maxFailures)
		if err == nil && n > maxFailures {
			wait := failureWindow - now.Sub(last)
			err = workspace.Later(int(wait/time.Second)+1, "There were %d wrong passwords for this address. Try again in %d minutes.", maxFailures, int(wait/time.Minute)+1)
		}
		return err
	})
	if err != nil {
		return nobody, err
	}
	p, err := s.k.View(ctx, nobody).Read.PersonByKey(a.Key())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nobody, err
	}
	if !passwordFits(p.PasswordHash, password) || !p.Active || p.External {
		return nobody, wrongPair
	}
	err = s.k.Do(ctx, nobody, func(c *workspace.Change) error { return c.Tx.ClearSignIns(a.Key(), source) })
	return workspace.Actor{Person: p, Source: source}, err
}

// SignIn begins a session and returns its secret.
func (s *Service) SignIn(ctx context.Context, source, address, password string) (workspace.Actor, string, error) {
	by, err := s.CheckPassword(ctx, source, address, password)
	if err != nil {
		return by, "", err
	}
	secret, c := newCredential(Session, by.Person.ID, "", SessionLasts)
	by.Credential = c.ID
	err = s.k.Do(ctx, by, func(change *workspace.Change) error { return change.Tx.AddCredential(c) })
	return by, secret, err
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
	return workspace.Actor{Person: p, Credential: c.ID}, err
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
		return errors.Join(c.Tx.DeleteExpiredCredentials(now), c.Tx.DeleteIdempotency(c.Now().Add(-24*time.Hour)), c.Tx.DeleteSignIns(now.Add(-failureWindow)))
	})
}

// Tokens lists the actor's own tokens, newest first.
func (s *Service) Tokens(ctx context.Context, by workspace.Actor, cursor string, limit int) (api.Page[api.Token], error) {
	none := api.Page[api.Token]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(cursor, "tokens", by.Person.ID)
	if err != nil {
		return none, err
	}
	p, err := v.Read.Tokens(by.Person.ID, after, limit)
	return workspace.Page(p, func(c store.Credential) api.Token { return shapeToken(v, c) }), err
}

func shapeToken(v *workspace.View, c store.Credential) api.Token {
	return api.Token{ID: c.ID.String(), Name: c.Name, CreatedAt: v.In(c.CreatedAt), ExpiresAt: v.In(c.ExpiresAt)}
}

// CreateToken makes a token for the actor. A repeat of the request is answered without its
// secret, which is not kept.
func (s *Service) CreateToken(ctx context.Context, by workspace.Actor, n api.NewToken) (api.Token, error) {
	if err := by.SignedIn(); err != nil {
		return api.Token{}, err
	}
	if n.Days == 0 {
		n.Days = tokenDays
	}
	secret, cred := newCredential(Token, by.Person.ID, n.Name, time.Duration(n.Days)*24*time.Hour)
	var out api.Token
	err := workspace.Once(ctx, s.k, by, n, &out, func(c *workspace.Change) error {
		e, err := c.Expiry()
		if err != nil {
			return err
		}
		p, err := c.Tx.LockPerson(c.By.Person.ID) // of two at once, one counts what the other made
		if err != nil {
			return err
		}
		c.By.Person = p
		if err := c.By.SignedIn(); err != nil {
			return err
		}
		have, err := c.Read.CountCredentials(Token, p.ID, time.Time{})
		if err != nil {
			return err
		}
		if have >= maxTokens {
			return workspace.Fail(workspace.Conflict, "You have %d tokens, which is the most. Revoke one first.", have)
		}
		out = shapeToken(&c.View, cred)
		c.Says(fmt.Sprintf("A token %q, good until %s.", n.Name, workspace.DateIn("en", cred.ExpiresAt.In(e.Policy.Zone))))
		if err := c.Tx.AddCredential(cred); err != nil {
			return err
		}
		return c.Record(event.TokenCreated{Name: n.Name, Until: e.Date(cred.ExpiresAt)}, nil)
	})
	if err == nil && out.ID == cred.ID.String() {
		out.Secret = secret
	}
	return out, err
}

// RevokeToken ends one of the actor's tokens.
func (s *Service) RevokeToken(ctx context.Context, by workspace.Actor, id string) error {
	if err := by.SignedIn(); err != nil {
		return err
	}
	none := workspace.Fail(workspace.NotFound, "You have no token %q.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		t, err := c.Read.Credential(Token, c.By.Person.ID, u)
		if err == nil {
			err = c.Tx.DeleteCredential(Token, c.By.Person.ID, u)
		}
		if errors.Is(err, store.ErrNotFound) {
			return none
		} else if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("The token %q can't be used any more.", t.Name))
		return c.Record(event.TokenRevoked{Name: t.Name}, nil)
	})
}
