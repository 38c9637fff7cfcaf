package workspace

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/argon2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// How long credentials last, and when an address is left alone after wrong passwords.
const (
	SessionLasts  = 12 * time.Hour
	tokenDays     = 90
	maxFailures   = 8
	failureWindow = 15 * time.Minute
)

// argon2id with the parameters of RFC 9106, 4 scaled down to 19 MiB.
const (
	argonTime   = 2
	argonMemory = 19 * 1024 // KiB
	argonKey    = 32
)

// hashing bounds how many passwords are hashed at once: each takes memory.
var hashing = make(chan struct{}, runtime.NumCPU())

func derive(password string, salt []byte) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonKey)
}

// HashPassword returns what is kept of a password.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=1$%s$%s", argonMemory, argonTime, enc.EncodeToString(salt), enc.EncodeToString(derive(password, salt)))
}

// unusable stands for the password of nobody, so that a wrong address takes as long
// as a wrong password.
var unusable = HashPassword(base64.RawStdEncoding.EncodeToString(make([]byte, 18)))

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		parts = strings.Split(unusable, "$")
		hash = ""
	}
	enc := base64.RawStdEncoding
	salt, err1 := enc.DecodeString(parts[4])
	key, err2 := enc.DecodeString(parts[5])
	same := subtle.ConstantTimeCompare(derive(password, salt), key) == 1
	return same && hash != "" && err1 == nil && err2 == nil
}

// CheckPassword returns the active person whose address and password these are. It
// leaves an address alone for a while after too many wrong ones.
func (w *Workspace) CheckPassword(ctx context.Context, address, password string) (store.Person, error) {
	wrongPair := fail(SignedOut, "The address or the password is wrong.")
	a, err := mailaddr.Parse(address)
	if err != nil {
		return store.Person{}, wrongPair
	}
	now := time.Now().UTC() // of the world, not of a demo
	n, last, err := w.store.SignInFailures(ctx, a.Key())
	if err != nil {
		return store.Person{}, err
	}
	if n >= maxFailures && now.Sub(last) < failureWindow {
		wait := int((failureWindow - now.Sub(last)) / time.Minute)
		return store.Person{}, fail(Throttled, "There were %d wrong passwords for this address. Try again in %d minutes.", n, wait+1)
	}
	p, err := w.store.PersonByKey(ctx, a.Key())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return store.Person{}, err
	}
	if !passwordFits(p.PasswordHash, password) || !p.Active || p.External {
		if err := w.store.CountSignInFailure(ctx, a.Key(), now, now.Add(-failureWindow)); err != nil {
			return store.Person{}, err
		}
		return store.Person{}, wrongPair
	}
	if n > 0 {
		return p, w.store.ClearSignInFailures(ctx, a.Key())
	}
	return p, nil
}

// SignIn begins a session and returns its secret.
func (w *Workspace) SignIn(ctx context.Context, address, password string) (Actor, string, error) {
	p, err := w.CheckPassword(ctx, address, password)
	if err != nil {
		return Actor{}, "", err
	}
	secret, c := newCredential(store.SessionCredential, p.ID, "", SessionLasts)
	if err := w.store.AddCredential(ctx, c); err != nil {
		return Actor{}, "", err
	}
	return Actor{Person: p, Credential: c.ID}, secret, nil
}

func newCredential(kind string, person uuid.UUID, name string, lasts time.Duration) (string, store.Credential) {
	b := make([]byte, 24)
	rand.Read(b)
	secret := "ivy_" + base64.RawURLEncoding.EncodeToString(b)
	hash := sha256.Sum256([]byte(secret))
	now := time.Now().UTC()
	return secret, store.Credential{ID: store.NewID(), Kind: kind, Hash: hash[:], PersonID: person, Name: name, CreatedAt: now, ExpiresAt: now.Add(lasts)}
}

// Authenticate returns the actor whose session or token a secret opens.
func (w *Workspace) Authenticate(ctx context.Context, kind, secret string) (Actor, error) {
	hash := sha256.Sum256([]byte(secret))
	c, p, err := w.store.CredentialByHash(ctx, hash[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && (c.Kind != kind || !p.Active || time.Now().After(c.ExpiresAt)) {
		return Actor{}, fail(SignedOut, "Your %s has ended or was never valid. Sign in again.", kind)
	}
	return Actor{Person: p, Credential: c.ID}, err
}

// SignOut ends the actor's session; a token stays until it is revoked.
func (w *Workspace) SignOut(ctx context.Context, a Actor) error {
	err := w.store.DeleteCredential(ctx, store.SessionCredential, a.Person.ID, a.Credential)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// Tokens lists the actor's own tokens.
func (w *Workspace) Tokens(ctx context.Context, a Actor) ([]api.Token, error) {
	if err := signedIn(a); err != nil {
		return nil, err
	}
	rows, err := w.store.Tokens(ctx, a.Person.ID)
	out := make([]api.Token, 0, len(rows))
	for _, c := range rows {
		out = append(out, api.Token{ID: c.ID.String(), Name: c.Name, CreatedAt: c.CreatedAt, ExpiresAt: c.ExpiresAt})
	}
	return out, err
}

// CreateToken makes a token for the actor.
func (w *Workspace) CreateToken(ctx context.Context, a Actor, n api.NewToken) (api.Token, error) {
	if err := signedIn(a); err != nil {
		return api.Token{}, err
	}
	if n.Days == 0 {
		n.Days = tokenDays
	}
	secret, c := newCredential(store.TokenCredential, a.Person.ID, n.Name, time.Duration(n.Days)*24*time.Hour)
	err := w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.AddCredential(ctx, c); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "token.create", nil, n.Name, nil)
	})
	return api.Token{ID: c.ID.String(), Name: c.Name, CreatedAt: c.CreatedAt, ExpiresAt: c.ExpiresAt, Secret: secret}, err
}

// RevokeToken ends one of the actor's tokens.
func (w *Workspace) RevokeToken(ctx context.Context, a Actor, id string) error {
	if err := signedIn(a); err != nil {
		return err
	}
	u, err := uuid.Parse(id)
	if err != nil {
		return fail(NotFound, "You have no token %q.", cut(id, 50))
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.DeleteCredential(ctx, store.TokenCredential, a.Person.ID, u); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "token.revoke", nil, id, nil)
	})
	if errors.Is(err, store.ErrNotFound) {
		return fail(NotFound, "You have no token %s.", id)
	}
	return err
}

// Me describes the actor.
func (w *Workspace) Me(ctx context.Context, a Actor) (api.Me, error) {
	if err := signedIn(a); err != nil {
		return api.Me{}, err
	}
	domains, err := w.store.Domains(ctx)
	me := api.Me{Person: person(a.Person), Domains: domains, Demo: w.o.Demo, Now: w.now(ctx), Places: []string{"mine", "groups", "people", "waiting"}, May: w.workspaceMay(ctx, a)}
	me.Ahead = int(me.Now.Sub(w.o.Now()).Round(time.Hour) / (24 * time.Hour))
	if allow(a, readExpiry) == nil {
		me.Places = append(me.Places, "care")
	}
	if allow(a, readNaming) == nil {
		me.Places = append(me.Places, "rules")
	}
	if allow(a, readAllChange) == nil {
		me.Places = append(me.Places, "history")
	}
	if err != nil {
		return me, err
	}
	me.Waiting, err = w.waitingFor(ctx, a)
	return me, err
}

// waitingFor counts what waits for the actor's decision.
func (w *Workspace) waitingFor(ctx context.Context, a Actor) (int, error) {
	posts, err := w.WaitingPosts(ctx, a, "", "", 1)
	if err != nil {
		return 0, err
	}
	requests, err := w.Requests(ctx, a, "", false, "", 1)
	return int(posts.Total + requests.Total), err
}

func pageOf[R, A any](p store.Page[R], shape func(R) A) api.Page[A] {
	out := api.Page[A]{Items: make([]A, 0, len(p.Items)), Next: p.Next.String(), Total: p.Total}
	for _, r := range p.Items {
		out.Items = append(out.Items, shape(r))
	}
	return out
}

// clockSetting holds by how much the time of a demo is ahead.
const clockSetting = "demo_clock_ahead"

// MoveClock moves the time of a demo workspace forward by days, or back to the
// real time with 0.
func (w *Workspace) MoveClock(ctx context.Context, a Actor, days int) (api.Clock, error) {
	if !w.o.Demo {
		return api.Clock{}, fail(NotFound, "Only a demo has a clock that can be moved.")
	}
	if err := allow(a, changeExpiry); err != nil {
		return api.Clock{}, err
	}
	err := w.store.Tx(ctx, func(t *store.Store) error {
		var ahead time.Duration
		version, err := t.LockSetting(ctx, clockSetting, &ahead)
		if err != nil {
			return err
		}
		ahead += time.Duration(days) * 24 * time.Hour
		if days == 0 {
			ahead = 0
		}
		return t.SaveSetting(ctx, clockSetting, ahead, version+1)
	})
	if err == nil {
		err = w.RunExpiry(ctx) // so that what the new day brings is there with it
	}
	return api.Clock{Now: w.now(ctx)}, err
}
