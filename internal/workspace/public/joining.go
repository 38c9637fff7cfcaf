package public

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/joining"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// How long a letter's link lasts by which somebody proves an address; how many such letters one address
// gets in a day, whoever asks for them, and how many one network causes.
const (
	proofDays     = 2
	lettersOfOne  = 3
	lettersCaused = 30
	spendProofs   = "proofs"
)

// answering is how long an answer takes at least, so that it does not tell whether a letter went out.
const answering = 100 * time.Millisecond

// Approach sends a letter to an address by which whoever reads it joins a group, or asks to. The answer is
// the same for every address that the workspace would take, also for those that get no letter: who is in a
// group, or barred from it, is nobody's business.
func (s *Service) Approach(ctx context.Context, by workspace.Actor, ref string, n api.Approach) (api.Approached, error) {
	until := time.After(answering)
	none := api.Approached{}
	if err := s.visits.enter(by.Source); err != nil {
		return none, err
	}
	a, err := workspace.ParseAddress("address", n.Address)
	if err != nil {
		return none, err
	}
	var bad workspace.Problems
	if n.Name = strings.TrimSpace(n.Name); n.Name != "" {
		if why := people.CheckName(n.Name); why != "" {
			bad.Add("name", workspace.Cut(n.Name, 100), "%s", why)
		}
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, workspace.Actor{})
	g, err := find(v, ref)
	if err != nil {
		return none, err
	}
	if how, _ := joins(v, &g); how == "closed" {
		return none, workspace.Fail(workspace.NotAllowed, "Nobody from outside comes into %s by themselves.", g.Name)
	}
	domains, err := v.Domains()
	if err != nil {
		return none, err
	}
	ours := slices.Contains(domains, a.Domain())
	if why := v.Door(&g).Outside.Refuses(a.String()); why != "" && !ours {
		return none, workspace.Wrong("address", a.String(), "%s", why)
	}
	network := store.AddressID("network " + workspace.Network(by.Source))
	nobody := workspace.Actor{Via: by.Via, RequestID: by.RequestID, Preview: by.Preview, Report: by.Report}
	out := api.Approached{Says: fmt.Sprintf("A letter goes to %s. Open the link in it within %s.", a, number.Of(proofDays, "day"))}
	err = s.k.Do(ctx, nobody, func(c *workspace.Change) error {
		c.Says(out.Says)
		if c.Previewing() {
			return nil
		}
		caused, err := c.Tx.Spend(network, c.Now(), spendProofs, 1)
		if err != nil {
			return err
		}
		if caused > lettersCaused {
			return workspace.Later(3600, "Too many letters were asked for from your network today. Try again tomorrow, or write to the group's owners.")
		}
		got, err := c.Tx.Spend(store.AddressID(a.Key()), c.Now(), spendProofs, 1)
		if err != nil || got > lettersOfOne {
			return err
		}
		return s.write(c, g, a.String(), a.Key(), ours, n)
	})
	if err != nil {
		return none, err
	}
	select {
	case <-until:
	case <-ctx.Done():
	}
	return out, nil
}

// write writes the letter that goes to an address: how they prove it, or what is so already. Those who are
// barred, and addresses of the workspace that are nobody's, get none.
func (s *Service) write(c *workspace.Change, g store.Group, address, key string, ours bool, n api.Approach) error {
	send := func(kind, path string) error {
		return c.Send(&g, []string{address}, c.GroupLetter(kind, &g, path, map[string]string{"address_given": address, "welcome": ""}))
	}
	p, err := c.Read.PersonByKey(key)
	switch {
	case errors.Is(err, store.ErrNotFound) && ours:
		return nil
	case errors.Is(err, store.ErrNotFound):
		p = store.Person{Address: address, AddrKey: key, Name: address, External: true, Active: true}
	case err != nil:
		return err
	case !p.External && p.Active:
		return send(workspace.LetterProofAccount, workspace.GroupPath(&g, ""))
	case !p.External:
		return nil
	}
	who, err := joining.CandidateOf(&c.View, g.ID, p)
	if err != nil {
		return err
	}
	switch verdict := admission.In(admission.Joining, c.Door(&g), who, admission.As{Role: expand.Member}); verdict.Outcome {
	case admission.Refused:
		return nil
	case admission.Already:
		path, err := member.OwnLink(c, g.ID, p.ID)
		if err != nil {
			return err
		}
		return send(workspace.LetterOwnPage, path)
	}
	secret, hash := member.NewSecret()
	if err := c.Tx.SaveProof(store.Proof{Hash: hash, GroupID: g.ID, Address: address, AddrKey: key, Name: n.Name, Note: strings.TrimSpace(n.Note), ExpiresAt: c.Now().AddDate(0, 0, proofDays)}); err != nil {
		return err
	}
	return send(workspace.LetterProof, "/public/proofs/"+secret)
}

var errNoProof = workspace.Fail(workspace.NotFound, "This link leads nowhere: it was used, its time is over, or the group is not to be found on the internet any more. Ask again on the page of the group.")

// proof returns what a link is kept as, and its group.
func proof(v *workspace.View, secret string) (store.Proof, store.Group, error) {
	x, err := v.Read.Proof(member.HashOf(secret))
	if err == nil && !x.ExpiresAt.After(v.Now()) {
		err = store.ErrNotFound
	}
	var g store.Group
	if err == nil {
		g, err = v.Read.Group(x.GroupID)
	}
	if err == nil && !v.OnTheInternet(&g) {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		err = errNoProof
	}
	return x, g, err
}

func link(v *workspace.View, x store.Proof, g *store.Group) api.ProofLink {
	how, _ := joins(v, g)
	says := map[string]string{"freely": fmt.Sprintf("%s comes into the group, and gets its mail.", x.Address), "asking": "Those who run the group are asked, and you get a letter when they decide.",
		"closed": "Nobody from outside comes into it by themselves any more."}[how]
	return api.ProofLink{Group: api.Name{Name: g.Name, Address: g.Address}, Description: g.Description, Address: x.Address, Joining: how, Outcome: "open", Says: says}
}

// Proof says what a letter's link is for. It changes nothing.
func (s *Service) Proof(ctx context.Context, secret string) (api.ProofLink, error) {
	v := s.k.View(ctx, workspace.Actor{})
	x, g, err := proof(v, secret)
	if err != nil {
		return api.ProofLink{}, err
	}
	return link(v, x, &g), nil
}

// Prove lets whoever holds the secret of a letter into the group, or asks its owners: the address is
// proven by it.
func (s *Service) Prove(ctx context.Context, by workspace.Actor, secret string) (api.ProofLink, error) {
	v := s.k.View(ctx, workspace.Actor{})
	x, _, err := proof(v, secret)
	if err != nil {
		return api.ProofLink{}, err
	}
	as := workspace.Actor{Via: "link", RequestID: by.RequestID, Preview: by.Preview, Report: by.Report}
	var out api.ProofLink
	err = s.k.Do(ctx, as, func(c *workspace.Change) error {
		g, err := c.Tx.LockGroup(x.GroupID)
		if errors.Is(err, store.ErrNotFound) {
			return errNoProof
		} else if err != nil {
			return err
		}
		held := workspace.Hold(g)
		if x, err = c.Tx.LockProof(x.Hash); errors.Is(err, store.ErrNotFound) || err == nil && !c.OnTheInternet(&g) {
			return errNoProof
		} else if err != nil {
			return err
		}
		if c.By.Person, err = whoever(c, x); err != nil {
			return err
		}
		out = link(&c.View, x, &g)
		done, err := joining.Come(c, held, x.Note, "page")
		if err != nil {
			return err
		}
		out.Outcome, out.Says = done.Outcome, done.Says
		return c.Tx.DeleteProof(x.Hash)
	})
	return out, err
}

// whoever returns who has a proven address: somebody external who is known, or is from now on.
func whoever(c *workspace.Change, x store.Proof) (store.Person, error) {
	p, err := c.Read.PersonByKey(x.AddrKey)
	switch {
	case err == nil && !p.External:
		return p, workspace.Fail(workspace.Conflict, "%s has an account here. Sign in, and join the group on its page.", x.Address)
	case !errors.Is(err, store.ErrNotFound):
		return p, err
	}
	p = store.Person{ID: store.NewID(), Address: x.Address, AddrKey: x.AddrKey, Name: cmp.Or(x.Name, x.Address), External: true, Active: true, Attributes: []byte("{}"), CreatedAt: c.Now(), Version: 1}
	if err = c.Tx.AddPeople([]store.Person{p}); errors.Is(err, store.ErrDuplicate) {
		err = workspace.Fail(workspace.Conflict, "Somebody put %s into the directory just now. Open the link again.", x.Address)
	}
	return p, err
}
