package account

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

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
	return api.Token{ID: c.ID.String(), Name: c.Name, Scopes: access.ReadScopes(c.Scopes).Names(), CreatedAt: v.In(c.CreatedAt), ExpiresAt: v.In(c.ExpiresAt), LastUsedAt: v.InPtr(c.LastUsedAt)}
}

// CreateToken makes a token for the actor, who has signed in with their password: a token
// can't make tokens. A repeat of the request is answered without its secret, which is not kept.
func (s *Service) CreateToken(ctx context.Context, by workspace.Actor, n api.NewToken) (api.Token, error) {
	if err := by.SignedIn(); err != nil {
		return api.Token{}, err
	}
	if by.Scopes != nil {
		return api.Token{}, workspace.Fail(workspace.NotAllowed, "A token can't make tokens. Sign in with your password to make one.")
	}
	if len(n.Scopes) == 0 {
		n.Scopes = []string{string(access.ScopeRead)}
	}
	scopes, err := access.ParseScopes(n.Scopes)
	if err != nil {
		return api.Token{}, workspace.Wrong("scopes", n.Scopes, "%s.", workspace.UpperFirst(err.Error()))
	}
	if n.Days == 0 {
		n.Days = tokenDays
	}
	secret, cred := newCredential(Token, by.Person.ID, n.Name, time.Duration(n.Days)*24*time.Hour)
	cred.Scopes = scopes.String()
	var out api.Token
	err = workspace.Once(ctx, s.k, by, n, &out, func(c *workspace.Change) error {
		e, err := c.Terms()
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
		c.Says(fmt.Sprintf("A token %q for %s, good until %s.", n.Name, strings.Join(scopes.Names(), ", "), workspace.DateIn("en", cred.ExpiresAt.In(e.Life.Zone))))
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
	if u != by.Credential { // a token may end itself
		if err := by.ByHand(); err != nil {
			return err
		}
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
