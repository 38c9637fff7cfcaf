package account

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// A second factor is a code of six digits for each half minute (RFC 6238), made by a program
// that knows a secret. A code is taken once, within half a minute of its time.
const (
	step          = 30 // seconds
	recoveryCodes = 10
	pictureSize   = 240 // pixels
)

var codes = totp.ValidateOpts{Period: step, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// stepOf returns the step of a code at a time, 0 for one that is wrong.
func stepOf(secret []byte, code string, now time.Time) int64 {
	plain := base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)
	found := int64(0)
	for around := -1; around <= 1; around++ {
		at := now.Add(time.Duration(around) * step * time.Second)
		want, err := totp.GenerateCodeCustom(plain, at, codes)
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			found = at.Unix() / step
		}
	}
	return found
}

// compact takes out of a code what people put between its parts.
func compact(code string) string {
	return strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
}

// checkCode checks the code of somebody who has a second factor. Its error names the field
// where the code is missing, so that a program knows to ask for it.
func (s *Service) checkCode(ctx context.Context, v *workspace.View, p store.Person, code string) error {
	f, err := v.Read.SecondFactor(p.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && f.ConfirmedAt == nil {
		return nil
	} else if err != nil {
		return err
	}
	code = compact(code)
	if code == "" {
		return &workspace.Error{Kind: workspace.SignedOut, Says: "Give the code of your second factor too.", Problems: []api.Problem{{Field: "code", Says: "Give the code that your program shows, or a recovery code."}}}
	}
	fits := false
	err = s.k.Do(ctx, workspace.Actor{}, func(c *workspace.Change) (err error) {
		if at := stepOf(f.Secret, code, realTime()); at > 0 {
			fits, err = c.Tx.UseStep(p.ID, at)
			return err
		}
		hash := sha256.Sum256([]byte(code))
		fits, err = c.Tx.UseRecoveryCode(p.ID, hash[:])
		return err
	})
	if err == nil && !fits {
		err = &workspace.Error{Kind: workspace.SignedOut, Says: "The code is wrong, or was used before. Wait for the next one.", Problems: []api.Problem{{Field: "code", Says: "This code is wrong, or was used before."}}}
	}
	return err
}

// Factor says whether the actor has a second factor.
func (s *Service) Factor(ctx context.Context, by workspace.Actor) (api.SecondFactor, error) {
	out := api.SecondFactor{}
	if err := by.Here(); err != nil {
		return out, err
	}
	v := s.k.View(ctx, by)
	p, err := v.ShownProtection()
	if err != nil {
		return out, err
	}
	out.Demanded = p.Demands(by.Person.WorkspaceRole)
	f, err := v.Read.SecondFactor(by.Person.ID)
	if err != nil || f.ConfirmedAt == nil {
		return out, ignoreMissing(err)
	}
	out.On, out.Since = true, v.InPtr(f.ConfirmedAt)
	left, err := v.Read.CountRecoveryCodes(by.Person.ID)
	out.RecoveryCodes = int(left)
	return out, err
}

// BeginFactor makes a secret for the actor's program. It is in force once a code was given.
func (s *Service) BeginFactor(ctx context.Context, by workspace.Actor, password string) (api.NewFactor, error) {
	none := api.NewFactor{}
	if err := s.own(ctx, by, password); err != nil {
		return none, err
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Ivy Table", AccountName: by.Person.Address, Period: step, SecretSize: 20, Digits: codes.Digits, Algorithm: codes.Algorithm})
	if err != nil {
		return none, fmt.Errorf("make a second factor: %w", err)
	}
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(key.Secret())
	if err != nil {
		return none, fmt.Errorf("make a second factor: %w", err)
	}
	picture, err := key.Image(pictureSize, pictureSize)
	if err != nil {
		return none, fmt.Errorf("draw a second factor: %w", err)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, picture); err != nil {
		return none, fmt.Errorf("draw a second factor: %w", err)
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := here(c); err != nil {
			return err
		}
		f, err := c.Read.SecondFactor(c.By.Person.ID)
		if err == nil && f.ConfirmedAt != nil {
			return workspace.Fail(workspace.Conflict, "You have a second factor. Turn it off before you set up another.")
		}
		if err := ignoreMissing(err); err != nil {
			return err
		}
		return c.Tx.SaveSecondFactor(store.SecondFactor{PersonID: c.By.Person.ID, Secret: secret})
	})
	return api.NewFactor{Secret: key.Secret(), URI: key.URL(), Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())}, err
}

// here locks the actor, who has to be somebody who is here.
func here(c *workspace.Change) error {
	p, err := c.Tx.LockPerson(c.By.Person.ID)
	if err != nil {
		return err
	}
	c.By.Person = p
	return c.By.Here()
}

// own checks that the actor is at it themselves: not by a token, and with their password.
func (s *Service) own(ctx context.Context, by workspace.Actor, password string) error {
	if err := by.Here(); err != nil {
		return err
	}
	if err := by.ByHand(); err != nil {
		return err
	}
	if _, err := s.checkPassword(ctx, by.Source, by.Person.Address, password); err != nil {
		if workspace.IsKind(err, workspace.SignedOut) {
			return workspace.Wrong("password", nil, "This is not your password.")
		}
		return err
	}
	return nil
}

// ConfirmFactor puts the actor's second factor in force, and returns the recovery codes, each
// good for one sign-in without it. Whoever else was signed in as them is not any more.
func (s *Service) ConfirmFactor(ctx context.Context, by workspace.Actor, code string) (api.RecoveryCodes, error) {
	out := api.RecoveryCodes{}
	if err := by.Here(); err != nil {
		return out, err
	}
	if err := by.ByHand(); err != nil {
		return out, err
	}
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := here(c); err != nil {
			return err
		}
		f, err := c.Read.SecondFactor(c.By.Person.ID)
		switch {
		case errors.Is(err, store.ErrNotFound), err == nil && f.ConfirmedAt != nil:
			return workspace.Fail(workspace.Conflict, "No second factor was begun. Begin one first.")
		case err != nil:
			return err
		}
		now := realTime()
		f.LastStep = stepOf(f.Secret, compact(code), now)
		if f.LastStep == 0 {
			return workspace.Wrong("code", nil, "This is not the code that your program shows now. Check the clock of the machine it runs on.")
		}
		f.ConfirmedAt = &now
		if err := c.Tx.SaveSecondFactor(f); err != nil {
			return err
		}
		if err := c.Tx.EndOtherCredentials(Session, c.By.Person.ID, c.By.Credential); err != nil {
			return err
		}
		if out.Codes, err = renewCodes(c, c.By.Person.ID); err != nil {
			return err
		}
		return c.Record(event.SecondFactorOn{}, nil, store.Affected{PersonID: c.By.Person.ID})
	})
	return out, err
}

// renewCodes gives somebody new recovery codes.
func renewCodes(c *workspace.Change, person uuid.UUID) ([]string, error) {
	var out []string
	var hashes [][]byte
	for range recoveryCodes {
		b := make([]byte, 10)
		rand.Read(b)
		code := strings.ToLower(base32.StdEncoding.EncodeToString(b))
		hash := sha256.Sum256([]byte(code))
		out, hashes = append(out, code[:4]+"-"+code[4:8]+"-"+code[8:12]+"-"+code[12:]), append(hashes, hash[:])
	}
	return out, c.Tx.SetRecoveryCodes(person, hashes)
}

// EndFactor turns the actor's second factor off. It takes the password and a code.
func (s *Service) EndFactor(ctx context.Context, by workspace.Actor, in api.FactorEnd) error {
	if err := errors.Join(by.Here(), by.ByHand()); err != nil {
		return err
	}
	_, err := s.attempt(ctx, by.Source, by.Person.Address, func(v *workspace.View, p store.Person) error { // guesses count as those at signing in
		if !passwordFits(p.PasswordHash, in.Password) {
			return errWrong
		}
		return s.checkCode(ctx, v, p, in.Code)
	})
	var e *workspace.Error
	switch {
	case errors.Is(err, errWrong):
		return workspace.Wrong("password", nil, "This is not your password.")
	case errors.As(err, &e) && e.Kind == workspace.SignedOut:
		return workspace.Wrong("code", nil, "%s", e.Says)
	case err != nil:
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := here(c); err != nil {
			return err
		}
		p, _, err := c.Protection()
		if err != nil {
			return err
		}
		if p.Demands(c.By.Person.WorkspaceRole) {
			return workspace.Fail(workspace.Conflict, "The workspace asks you to have a second factor. An administrator can take yours away, so that you set up another.")
		}
		return endFactor(c, c.By.Person)
	})
}

// TakeFactor takes somebody's second factor away, who has lost it: they are told, and set up
// another where the workspace asks for one.
func (s *Service) TakeFactor(ctx context.Context, by workspace.Actor, ref string) error {
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return err
	}
	if err := by.ByHand(); err != nil {
		return err
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return err
	}
	if found.ID == by.Person.ID {
		return workspace.Fail(workspace.Conflict, "Turn your own second factor off with your password and a code or a recovery code, or ask another administrator to take it away.")
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		p, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
		l := c.Letter(workspace.LetterFactorTaken, lang, "/account", map[string]string{"person": p.Name, "address": p.Address, "by": c.By.Name()})
		if err := c.Send(nil, []string{p.Address}, l); err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%s signs in by password alone, and is told.", p.Name))
		return endFactor(c, p)
	})
}

func endFactor(c *workspace.Change, p store.Person) error {
	f, err := c.Read.SecondFactor(p.ID)
	if err := ignoreMissing(err); err != nil {
		return err
	}
	if f.ConfirmedAt == nil {
		return workspace.Fail(workspace.Conflict, "%s has no second factor.", p.Name)
	}
	if err := c.Tx.EndSecondFactor(p.ID); err != nil {
		return err
	}
	return c.Record(event.SecondFactorOff{Of: workspace.Who(p)}, nil, store.Affected{PersonID: p.ID})
}
