// Package signing is what makes mail in the name of a domain believed: the keys that it is signed with, and a check of the records that
// the domain publishes.
package signing

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/setup"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// setting counts the changes of keys.
const setting = "signing"

const (
	bits     = 2048 // of a key (RFC 8301, 3.2)
	mostKeys = 5    // of a domain
	checkFor = 10 * time.Second
)

// Service is signing.
type Service struct {
	k      *workspace.Kernel
	mu     sync.Mutex
	parsed map[string]crypto.Signer // keys, by what stands in their record
	strict map[string]knownStrict   // by domain
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service {
	return &Service{k: k, parsed: map[string]crypto.Signer{}, strict: map[string]knownStrict{}}
}

// Key signs mail in the name of a domain.
type Key struct {
	Domain, Selector string
	Signer           crypto.Signer
}

// KeyFor returns the key that mail is signed with in the name of the first of some domains that has one; nil where none has.
func (s *Service) KeyFor(ctx context.Context, domains ...string) (*Key, error) {
	all, err := s.k.View(ctx, workspace.Service).Read.UsedKeys()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	for _, d := range domains {
		i := slices.IndexFunc(all, func(k store.SigningKey) bool { return k.Domain == strings.ToLower(d) })
		if i < 0 {
			continue
		}
		signer, err := s.signer(all[i])
		return &Key{all[i].Domain, all[i].Selector, signer}, err
	}
	return nil, nil
}

func (s *Service) signer(k store.SigningKey) (crypto.Signer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if signer := s.parsed[k.PublicKey]; signer != nil {
		return signer, nil
	}
	parsed, err := x509.ParsePKCS8PrivateKey(k.PrivateKey)
	if err != nil {
		return nil, fmt.Errorf("read the key %s of %s: %w", k.Selector, k.Domain, err)
	}
	signer, ok := parsed.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("the key %s of %s signs nothing", k.Selector, k.Domain)
	}
	s.parsed[k.PublicKey] = signer
	return signer, nil
}

// Keys lists the keys of a domain, the newest first.
func (s *Service) Keys(ctx context.Context, by workspace.Actor, domain string) (api.Page[api.SigningKey], error) {
	none := api.Page[api.SigningKey]{}
	if err := by.Allow(access.ReadDomains); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	if err := known(v, &domain); err != nil {
		return none, err
	}
	rows, err := v.Read.SigningKeys(domain)
	out := make([]api.SigningKey, len(rows))
	for i, r := range rows {
		out[i] = shape(v, r)
	}
	return workspace.Whole(out), err
}

func shape(v *workspace.View, k store.SigningKey) api.SigningKey {
	c := core(k)
	return api.SigningKey{Selector: k.Selector, Used: k.Used, Name: c.Name(k.Domain), Record: c.Record(), MadeAt: v.In(k.MadeAt), MadeBy: k.MadeBy, UsedAt: v.InPtr(k.UsedAt)}
}

func core(k store.SigningKey) setup.Key {
	return setup.Key{Selector: k.Selector, Public: k.PublicKey, Used: k.Used}
}

// known refuses what is no mail domain of the workspace.
func known(v *workspace.View, domain *string) error {
	*domain = strings.ToLower(*domain)
	all, err := v.Domains()
	if err == nil && !slices.Contains(all, *domain) {
		err = workspace.Fail(workspace.NotFound, "%s is not a mail domain of this workspace.", workspace.Cut(*domain, 255))
	}
	return err
}

// change makes a change of the keys of a domain.
func (s *Service) change(ctx context.Context, by workspace.Actor, domain string, f func(c *workspace.Change, domain string, keys []store.SigningKey) error) error {
	if err := by.Allow(access.ChangeDomains); err != nil {
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		version, err := c.Tx.LockSetting(setting, &struct{}{})
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDomains); err != nil {
			return err
		}
		if err := known(&c.View, &domain); err != nil {
			return err
		}
		keys, err := c.Read.SigningKeys(domain)
		if err != nil {
			return err
		}
		if err := f(c, domain, keys); err != nil {
			return err
		}
		return c.Tx.SaveSetting(setting, struct{}{}, version+1)
	})
}

// Make makes a key for a domain. Nothing is signed with it until it is used, so that its record can be published first.
func (s *Service) Make(ctx context.Context, by workspace.Actor, domain string) (api.SigningKey, error) {
	var out api.SigningKey
	if err := by.Allow(access.ChangeDomains); err != nil {
		return out, err
	}
	private, err := rsa.GenerateKey(rand.Reader, bits)
	if err != nil {
		return out, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return out, err
	}
	public, err := x509.MarshalPKIXPublicKey(private.Public())
	if err != nil {
		return out, err
	}
	err = s.change(ctx, by, domain, func(c *workspace.Change, domain string, keys []store.SigningKey) error {
		if len(keys) >= mostKeys {
			return workspace.Fail(workspace.Conflict, "%s has %d keys, which is the most. Delete one that is no longer used.", domain, mostKeys)
		}
		k := store.SigningKey{Domain: domain, PrivateKey: der, PublicKey: base64.StdEncoding.EncodeToString(public), MadeAt: c.Now(), MadeBy: c.By.String()}
		k.Selector = "ivy" + c.In(c.Now()).Format("20060102")
		for n := 2; slices.ContainsFunc(keys, func(x store.SigningKey) bool { return x.Selector == k.Selector }); n++ {
			k.Selector = fmt.Sprintf("ivy%s-%d", c.In(c.Now()).Format("20060102"), n)
		}
		out = shape(&c.View, k)
		c.Says(fmt.Sprintf("%s has another key, %s. Publish its record, then use it.", domain, k.Selector))
		if err := c.Tx.AddSigningKey(k); err != nil {
			return err
		}
		return c.Record(event.KeyMade{Domain: domain, Selector: k.Selector}, nil)
	})
	return out, err
}

// Use has mail in the name of a domain signed with one of its keys from now on.
func (s *Service) Use(ctx context.Context, by workspace.Actor, domain, selector string) (api.SigningKey, error) {
	var out api.SigningKey
	err := s.change(ctx, by, domain, func(c *workspace.Change, domain string, keys []store.SigningKey) error {
		i := slices.IndexFunc(keys, func(k store.SigningKey) bool { return k.Selector == selector })
		if i < 0 {
			return noKey(domain, selector)
		}
		if keys[i].Used {
			return workspace.Fail(workspace.Conflict, "Mail in the name of %s is signed with %s already.", domain, selector)
		}
		before := ""
		for _, k := range keys {
			if k.Used {
				before = k.Selector
			}
		}
		c.Says(fmt.Sprintf("Mail in the name of %s is signed with %s from now on.", domain, selector))
		if before != "" {
			c.Says(fmt.Sprintf("Leave the record of %s published for a week: mail that is on its way is signed with it.", before))
		}
		if err := c.Tx.UseSigningKey(domain, selector, c.Now()); err != nil {
			return err
		}
		now := c.Now()
		keys[i].Used, keys[i].UsedAt = true, &now
		out = shape(&c.View, keys[i])
		return c.Record(event.KeyUsed{Domain: domain, Selector: selector, Before: before}, nil)
	})
	return out, err
}

// Delete deletes a key that is not used.
func (s *Service) Delete(ctx context.Context, by workspace.Actor, domain, selector string) error {
	return s.change(ctx, by, domain, func(c *workspace.Change, domain string, keys []store.SigningKey) error {
		i := slices.IndexFunc(keys, func(k store.SigningKey) bool { return k.Selector == selector })
		if i < 0 {
			return noKey(domain, selector)
		}
		if keys[i].Used {
			return workspace.Fail(workspace.Conflict, "Mail in the name of %s is signed with %s. Use another key first.", domain, selector)
		}
		c.Says(fmt.Sprintf("The key %s of %s is deleted. Take its record away once no mail signed with it is on its way.", selector, domain))
		if err := c.Tx.DeleteSigningKey(domain, selector); err != nil {
			return err
		}
		return c.Record(event.KeyDeleted{Domain: domain, Selector: selector}, nil)
	})
}

func noKey(domain, selector string) error {
	return workspace.Fail(workspace.NotFound, "%s has no key %q.", domain, workspace.Cut(selector, 63))
}

// Check asks a resolver what a domain publishes, and says what is missing so that mail in its name is believed.
func (s *Service) Check(ctx context.Context, by workspace.Actor, domain string) (api.DomainCheck, error) {
	var out api.DomainCheck
	if err := by.Allow(access.ReadDomains); err != nil {
		return out, err
	}
	v := s.k.View(ctx, by)
	if err := known(v, &domain); err != nil {
		return out, err
	}
	rows, err := v.Read.SigningKeys(domain)
	if err != nil {
		return out, err
	}
	keys := make([]setup.Key, 0, len(rows))
	names := []string{domain, "_dmarc." + domain}
	for _, r := range rows {
		if r.Used || r.UsedAt == nil { // those that were used before need no record any more
			keys = append(keys, core(r))
			names = append(names, core(r).Name(domain))
		}
	}
	ctx, cancel := context.WithTimeout(ctx, checkFor)
	defer cancel()
	items := setup.Check(domain, keys, s.ask(ctx, domain, names))
	out = api.DomainCheck{Domain: domain, At: v.In(v.Now()), Items: make([]api.DomainRecord, len(items))}
	for i, x := range items {
		out.Items[i] = api.DomainRecord{Part: string(x.Part), State: string(x.State), Name: x.Name, Found: workspace.Cut(x.Found, 2000), Wanted: x.Wanted, Says: x.Says}
		if x.State != setup.Well {
			out.Open++
		}
	}
	return out, nil
}

// ask asks the resolver for all at once.
func (s *Service) ask(ctx context.Context, domain string, names []string) setup.Records {
	r := setup.Records{TXT: map[string][]string{}, Trouble: map[string]string{}}
	var mu sync.Mutex
	var all sync.WaitGroup
	resolver := s.k.Resolver()
	all.Go(func() {
		mx, err := resolver.LookupMX(ctx, domain+".")
		mu.Lock()
		defer mu.Unlock()
		for _, m := range mx {
			name := m.Host
			if name != "." {
				name = strings.TrimSuffix(name, ".")
			}
			r.MX = append(r.MX, name)
		}
		trouble(r, "mx", err)
	})
	for _, n := range names {
		all.Go(func() {
			txt, err := resolver.LookupTXT(ctx, n+".")
			mu.Lock()
			defer mu.Unlock()
			r.TXT[n] = txt
			trouble(r, n, err)
		})
	}
	all.Wait()
	return r
}

func trouble(r setup.Records, name string, err error) {
	var d *net.DNSError
	switch {
	case err == nil, errors.As(err, &d) && d.IsNotFound:
	case errors.As(err, &d) && d.IsTimeout:
		r.Trouble[name] = "the resolver does not answer"
	case errors.As(err, &d):
		r.Trouble[name] = d.Err
	default:
		r.Trouble[name] = err.Error()
	}
}
