package account

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
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/password"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
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

// How long a link to choose a password lasts, and how many somebody is sent within an
// hour at their own wish.
const (
	linkLasts = 3 * 24 * time.Hour
	maxLinks  = 3
)

// asking is how long every request for a link takes: by how long the answer takes, nobody
// learns who has an account.
const asking = 100 * time.Millisecond

// checkChosen returns what is wrong with a password that p chooses.
func checkChosen(p store.Person, chosen string) error {
	local, _, _ := strings.Cut(p.AddrKey, "@")
	if err := password.Check(chosen, p.AddrKey, local, p.Name); err != nil {
		return workspace.Wrong("password", nil, "%s", workspace.Words(err))
	}
	return nil
}

// SendLink mails somebody a link by which they choose a password.
func (s *Service) SendLink(ctx context.Context, by workspace.Actor, ref string) error {
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return err
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return err
	}
	return workspace.Once(ctx, s.k, by, []any{"password link", found.ID}, &struct{}{}, func(c *workspace.Change) error {
		p, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		if p.External || !p.Active {
			return workspace.Fail(workspace.Conflict, "%s can't sign in: only people of the workspace who are here can.", p.Address)
		}
		c.Says(fmt.Sprintf("%s gets a letter with a link.", p.Name))
		if err := MailLinks(c, []store.Person{p}); err != nil {
			return err
		}
		return c.Record(event.PasswordLinkSent{Of: workspace.Who(p)}, nil, store.Affected{PersonID: p.ID})
	})
}

// MailLinks queues letters with links to choose a password.
func MailLinks(c *workspace.Change, who []store.Person) error {
	if err := c.By.ByHand(); err != nil && len(who) > 0 {
		return err
	}
	credentials := make([]store.Credential, len(who))
	for i, p := range who {
		var secret string
		secret, credentials[i] = newCredential(store.PasswordLink, p.ID, "", linkLasts)
		lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
		l := c.Letter(workspace.LetterPassword, lang, "/password/"+secret, map[string]string{"person": p.Name, "address": p.Address,
			"by": c.By.Person.Name, "date": workspace.DateIn(lang, credentials[i].ExpiresAt.In(c.Zone()))})
		if err := c.Send(nil, []string{p.Address}, l); err != nil {
			return err
		}
	}
	if len(who) == 0 {
		return nil
	}
	return c.Tx.AddCredentials(credentials)
}

// AskLink mails whoever has an address a link by which they choose a password. The answer
// is the same where nobody has it, and where too many links were asked for.
func (s *Service) AskLink(ctx context.Context, address string) error {
	until := time.After(asking)
	a, err := mailaddr.Parse(address)
	if err != nil {
		return workspace.Wrong("address", workspace.Cut(address, 100), "%s", workspace.Words(err))
	}
	p, err := s.k.View(ctx, workspace.Actor{}).Read.PersonByKey(a.Key())
	if err == nil && p.Active && !p.External {
		err = s.k.Do(ctx, workspace.Actor{}, func(c *workspace.Change) error {
			p, err := c.Tx.LockPerson(p.ID)
			if err != nil || !p.Active {
				return err
			}
			n, err := c.Read.CountCredentials(store.PasswordLink, p.ID, realTime().Add(-time.Hour))
			if err != nil || n >= maxLinks {
				return err
			}
			return MailLinks(c, []store.Person{p})
		})
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

var errNoLink = workspace.Fail(workspace.NotFound, "This link has ended, or was used. Ask for a new one where you sign in.")

// find returns what a link is kept as and whose it is.
func find(v *workspace.View, secret string) (store.Credential, store.Person, error) {
	hash := sha256.Sum256([]byte(secret))
	c, p, err := v.Read.CredentialByHash(hash[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && (c.Kind != store.PasswordLink || !p.Active || realTime().After(c.ExpiresAt)) {
		return c, p, errNoLink
	}
	return c, p, err
}

// Link says whose password a link is for. It changes nothing.
func (s *Service) Link(ctx context.Context, secret string) (api.PasswordLink, error) {
	v := s.k.View(ctx, workspace.Actor{})
	c, p, err := find(v, secret)
	if err != nil {
		return api.PasswordLink{}, err
	}
	return api.PasswordLink{Name: p.Name, Address: p.Address, ExpiresAt: v.In(c.ExpiresAt), Shortest: password.Shortest}, nil
}

// Choose gives the person of a link a password. The link is used up, and whoever was
// signed in as them is not any more.
func (s *Service) Choose(ctx context.Context, by workspace.Actor, secret, chosen string) error {
	_, p, err := find(s.k.View(ctx, workspace.Actor{}), secret)
	if err != nil {
		return err
	}
	if err := checkChosen(p, chosen); err != nil {
		return err
	}
	hash := HashPassword(chosen)
	return s.k.Do(ctx, workspace.Actor{Person: p, Via: "link", RequestID: by.RequestID}, func(c *workspace.Change) error {
		if _, err := c.Tx.LockPerson(p.ID); err != nil { // of two who use it at once, one waits here
			return err
		}
		if _, _, err := find(&c.View, secret); err != nil {
			return err
		}
		if err := c.Tx.EndCredentials([]uuid.UUID{p.ID}); err != nil {
			return err
		}
		if err := c.Tx.ClearSignIns(p.AddrKey, ""); err != nil {
			return err
		}
		return setPassword(c, hash)
	})
}

// ChangePassword changes the actor's own password. Their other sessions end, and their
// tokens, where they don't want to keep them.
func (s *Service) ChangePassword(ctx context.Context, by workspace.Actor, change api.PasswordChange) error {
	if err := by.Here(); err != nil { // also by a token: the present password has to be known
		return err
	}
	if _, err := s.checkPassword(ctx, by.Source, by.Person.Address, change.Current); err != nil {
		if workspace.IsKind(err, workspace.SignedOut) {
			return workspace.Wrong("current", nil, "This is not your password.")
		}
		return err
	}
	if err := checkChosen(by.Person, change.Password); err != nil {
		return err
	}
	hash := HashPassword(change.Password)
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		if _, err := c.Tx.LockPerson(c.By.Person.ID); err != nil {
			return err
		}
		ends := []string{Session, store.PasswordLink}
		if !change.KeepTokens {
			ends = append(ends, Token)
		}
		for _, kind := range ends {
			if err := c.Tx.EndOtherCredentials(kind, c.By.Person.ID, c.By.Credential); err != nil {
				return err
			}
		}
		return setPassword(c, hash)
	})
}

func setPassword(c *workspace.Change, hash string) error {
	if err := c.Tx.SetPassword(c.By.Person.ID, hash); err != nil {
		return err
	}
	return c.Record(event.PasswordChanged{}, nil, store.Affected{PersonID: c.By.Person.ID})
}
