package service_test

import (
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// race is a use case that waits for a lock while somebody else changes what it has looked
// at. The lock is held by the test; what the use case says once it has the lock is the
// outcome.
type race struct {
	*kit.Kit
	t     *testing.T
	group api.Group
	id    uuid.UUID
	made  string // what before made: a secret, an identifier
	other api.Group
}

func (r *race) person(address string) uuid.UUID { return r.Actor(r.t, address).Person.ID }

// as returns somebody as they were before the race.
func (r *race) as(address string) workspace.Actor { return r.Actor(r.t, address) }

// The changes that somebody makes meanwhile, in the transaction that holds the lock.

func (r *race) takeOut(who ...string) func(*store.Tx) error {
	var ids []uuid.UUID
	for _, x := range who {
		ids = append(ids, r.person(x))
	}
	return func(tx *store.Tx) error { return tx.DeleteMemberships(r.id, ids) }
}

func (r *race) demote(who string) func(*store.Tx) error {
	return func(tx *store.Tx) error { return tx.SetRole(r.id, []uuid.UUID{r.person(who)}, expand.Member) }
}

func (r *race) bar(who string) func(*store.Tx) error {
	return func(tx *store.Tx) error {
		return tx.SetOverride(store.Override{GroupID: r.id, AddrKey: who, Kind: policy.Barred, SetBy: kit.Owner, SetAt: r.Now(), Version: 1})
	}
}

func (r *race) edit(f func(g *store.Group)) func(*store.Tx) error {
	return func(tx *store.Tx) error {
		g, err := tx.Group(r.id)
		if err != nil {
			return err
		}
		was := g
		f(&g)
		return tx.SaveGroup(&g, was)
	}
}

func (r *race) set(setting, value string) func(*store.Tx) error {
	return r.edit(func(g *store.Group) {
		if err := g.Policy.Set(setting, value); err != nil {
			r.t.Fatal(err)
		}
	})
}

func (r *race) end(tx *store.Tx) error {
	return r.edit(func(g *store.Group) { now := r.Now(); g.EndedAt, g.Retired = &now, true })(tx)
}

func (r *race) revive(tx *store.Tx) error {
	return r.edit(func(g *store.Group) { g.EndedAt, g.Retired, g.RenewedAt = nil, false, r.Now() })(tx)
}

// link returns the join link with a secret.
func (r *race) link(secret string) store.JoinLink {
	r.t.Helper()
	l, err := r.Read().JoinLinkByHash(member.HashOf(secret))
	if err != nil {
		r.t.Fatal(err)
	}
	return l
}

// due gives the group a term that ends in days.
func (r *race) due(days int) error {
	err := r.Pool.Transact(ctx, false, func(tx *store.Tx) error { return tx.SaveSetting(workspace.TermsSetting, terms(100), 2) })
	if err != nil {
		return err
	}
	if err := r.Life.Run(ctx); err != nil { // what is due for the other groups
		return err
	}
	r.Queued(r.t)
	return r.Pool.Transact(ctx, false, func(tx *store.Tx) error {
		return r.edit(func(g *store.Group) { g.TermRule, g.ExpiresAt, g.DueAt = "All", r.Now().AddDate(0, 0, days), r.Now() })(tx)
	})
}

// terms is one rule for all groups.
func terms(days int) store.Terms {
	return store.Terms{Rules: []store.TermRule{{Name: "All", Length: fmt.Sprintf("%d days", days)}}, Notices: []int{30}, RecoveryDays: 30, TimeZone: "UTC"}
}

// given is the same as it is set.
func given(days int) api.Terms {
	return api.Terms{Rules: []api.TermRule{{Name: "All", Length: fmt.Sprintf("%d days", days)}}, Notices: []int{30}, RecoveryDays: 30, TimeZone: "UTC"}
}

// events counts what the history says of the group and of the workspace.
func (r *race) events(by workspace.Actor) (n int) {
	r.t.Helper()
	for _, ref := range []string{r.id.String(), ""} {
		p, err := r.History.List(ctx, by, ref, "", "", 200)
		if err != nil {
			r.t.Fatal(err)
		}
		n += len(p.Items)
	}
	return n
}

// loseRole takes the administrator's role away; leave lets somebody leave. Both are changes
// of people, made beside the lock.
func (r *race) loseRole(*store.Tx) error {
	r.change(kit.Administrator, func(p *store.Person) { p.WorkspaceRole = "" })
	return nil
}

func (r *race) leave(who string) func(*store.Tx) error {
	return func(*store.Tx) error {
		r.change(who, func(p *store.Person) { p.Active = false })
		return nil
	}
}

func (r *race) change(who string, f func(p *store.Person)) {
	id := r.person(who)
	r.Write(r.t, func(tx *store.Tx) error {
		p, err := tx.LockPerson(id)
		if err != nil {
			return err
		}
		f(&p)
		return tx.SavePerson(&p, false)
	})
}

// changeHeld is change for a person whose row the race holds.
func (r *race) changeHeld(who string, f func(p *store.Person)) func(*store.Tx) error {
	return func(tx *store.Tx) error {
		p, err := tx.PersonByKey(who)
		if err != nil {
			return err
		}
		f(&p)
		return tx.SavePerson(&p, false)
	}
}

// waiting reports whether a statement of this workspace that locks has not got its lock.
func waiting(db *sql.DB) (bool, error) {
	var n int
	err := db.QueryRow(`SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND ID <> CONNECTION_ID()
		AND COMMAND = 'Query' AND INFO REGEXP 'FOR UPDATE|SHARE MODE|INSERT INTO settings' AND TIME_MS > 20`).Scan(&n)
	return n > 0, err
}

// run holds a lock, lets act run into it, makes a change meanwhile, and returns what act
// comes to.
func (r *race) run(db *sql.DB, hold, meanwhile func(*store.Tx) error, act func() error) error {
	done := make(chan error, 1)
	err := r.Pool.Transact(ctx, false, func(tx *store.Tx) error {
		if err := hold(tx); err != nil {
			return err
		}
		go func() { done <- act() }()
		for end := time.Now().Add(4 * time.Second); ; {
			select {
			case err := <-done:
				return fmt.Errorf("the use case did not wait for the lock, and said: %v", err)
			default:
			}
			if is, err := waiting(db); err != nil || is {
				if err != nil {
					return err
				}
				return meanwhile(tx)
			}
			if time.Now().After(end) {
				return errors.New("the use case never came to the lock")
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	if err != nil {
		r.t.Fatal(err)
	}
	return <-done
}

// held is what a race holds a lock on.
type held func(r *race) func(*store.Tx) error

func heldGroup(r *race) func(*store.Tx) error {
	return func(tx *store.Tx) error { _, err := tx.LockGroup(r.id); return err }
}

func heldSetting(name string) held {
	return func(*race) func(*store.Tx) error {
		return func(tx *store.Tx) error { _, err := tx.LockSetting(name, new(any)); return err }
	}
}

func heldPerson(who string) held {
	return func(r *race) func(*store.Tx) error {
		return func(tx *store.Tx) error { _, err := tx.LockPerson(r.person(who)); return err }
	}
}

func heldStart(*race) func(*store.Tx) error {
	return func(tx *store.Tx) error { _, err := tx.LockStartingPoint("a-start"); return err }
}

func heldRules(*race) func(*store.Tx) error {
	return func(tx *store.Tx) error { return tx.LockRules() }
}

func heldNesting(*race) func(*store.Tx) error {
	return func(tx *store.Tx) error { return tx.LockNesting() }
}

// TestWhatChangedMeanwhile lets every use case that looks before it acts wait for its lock
// while what it has looked at changes. It must go by what is there once it has the lock.
func TestWhatChangedMeanwhile(t *testing.T) {
	db, err := sql.Open("mysql", k.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const (
		colleague = kit.Colleague
		guest     = "guest@gannetport.example"
	)
	asks := func(n *api.NewGroup) { n.Join = &api.JoinPatch{How: "asking"} }
	free := func(n *api.NewGroup) { n.Join = &api.JoinPatch{How: "freely"} }
	guests := func(n *api.NewGroup) { n.Externals = "owners" }
	twoOwners := func(n *api.NewGroup) { n.Owners = []string{kit.Owner, colleague} }

	asked := func(r *race) error {
		if _, err := r.Joining.Join(ctx, r.as(colleague), r.group.Address, api.JoinRequest{}); err != nil {
			return err
		}
		p, err := r.Joining.Requests(ctx, r.as(kit.Owner), r.group.Address, false, "", 5)
		if err == nil {
			r.made = p.Items[0].ID
		}
		return err
	}
	linked := func(r *race) error {
		l, err := r.Joining.CreateLink(ctx, r.as(kit.Owner), r.group.Address, api.NewJoinLink{Days: 7})
		if _, secret, ok := strings.Cut(l.URL, "/join/"); ok {
			r.made = secret
		}
		return err
	}
	invited := func(r *race) error {
		r.Queued(r.t)
		_, err := r.Member.Add(ctx, r.as(kit.Owner), r.group.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: guest}}}, 0)
		for _, l := range r.Letters(r.t) {
			if _, rest, ok := strings.Cut(l.Text, "/invitations/"); ok {
				r.made = strings.Fields(rest)[0]
			}
		}
		return err
	}
	started := func(r *race) error {
		_, err := r.Naming.SaveStartingPoint(ctx, r.as(kit.Administrator), "a-start", api.NewStartingPoint{Title: "A start"}, 0)
		return err
	}
	retired := func(r *race) error {
		_, err := r.Life.Retire(ctx, r.as(kit.Owner), r.group.Address, 0)
		return err
	}
	waits := func(r *race) error {
		if err := r.Send(r.t, r.group.Address, colleague, true, "Held"); err != nil {
			return err
		}
		p, err := r.Waiting.List(ctx, r.as(kit.Owner), r.group.Address, []string{"post"}, "", 5)
		if err == nil {
			r.made = p.Items[0].ID
		}
		return err
	}

	changePolicy := func(who string) func(*race) error {
		return func(r *race) error {
			_, err := r.Reach.ChangePolicy(ctx, r.as(who), r.group.Address, kit.Policy("post=owners"), 0)
			return err
		}
	}
	rename := func(r *race) error {
		name := "Renamed " + uuid.NewString()
		_, err := r.Group.Change(ctx, r.as(kit.Owner), r.group.Address, api.GroupPatch{Name: &name}, 0)
		return err
	}
	join := func(r *race) error {
		_, err := r.Joining.Join(ctx, r.as(colleague), r.group.Address, api.JoinRequest{})
		return err
	}
	useLink := func(r *race) error { _, err := r.Joining.UseLink(ctx, r.as(colleague), r.made); return err }
	accept := func(r *race) error {
		_, err := r.Joining.Answer(ctx, workspace.Actor{Via: "link"}, r.made, api.Answer{Answer: "accept"})
		return err
	}
	decide := func(who string) func(*race) error {
		return func(r *race) error {
			all, err := r.Joining.Decide(ctx, r.as(who), api.Decisions{IDs: []string{r.made}, Verdict: "approve"})
			if err == nil && all.Results[0].Outcome == "refused" {
				err = errors.New(all.Results[0].Says)
			}
			return err
		}
	}
	decidePost := func(who string) func(*race) error {
		return func(r *race) error { return r.Decide(r.as(who), r.made, "approve", "") }
	}
	add := func(who string) func(*race) error {
		return func(r *race) error {
			all, err := r.Member.Add(ctx, r.as(who), r.group.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: colleague}}}, 0)
			if err == nil && all.Results[0].Outcome != "added" {
				err = errors.New(all.Results[0].Says)
			}
			return err
		}
	}
	promote := func(role string, who string) func(*race) error {
		return func(r *race) error {
			_, err := r.Member.ChangeOne(ctx, r.as(kit.Owner), r.group.Address, who, api.MemberPatch{Role: role}, 0)
			return err
		}
	}
	remove := func(by, who string) func(*race) error {
		return func(r *race) error { return r.Member.Remove(ctx, r.as(by), r.group.Address, who, 0) }
	}
	override := func(who string) func(*race) error {
		return func(r *race) error {
			return r.Rules.SetOverride(ctx, r.as(who), r.group.Address, guest, api.NewOverride{Override: "barred"}, 0)
		}
	}
	setRule := func(r *race) error {
		_, err := r.Rules.Set(ctx, r.as(kit.Owner), r.group.Address, api.NewRule{Expression: `department eq "Dispatch"`}, 0)
		return err
	}
	nest := func(r *race) error {
		all, err := r.Member.Add(ctx, r.as(kit.Owner), r.group.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: r.other.Address}}}, 0)
		if err == nil && all.Results[0].Outcome != "added" {
			err = errors.New(all.Results[0].Says)
		}
		return err
	}
	life := func(r *race) error { return r.Life.Run(ctx) }
	administrator := kit.Administrator

	const (
		mayNot  = "Only its owners"
		noGroup = "There is no group"
		ended   = "has ended"
	)
	for _, x := range []struct {
		name      string
		group     func(*api.NewGroup)
		before    func(*race) error
		hold      held // nil: the group
		act       func(*race) error
		meanwhile func(*race) func(*store.Tx) error
		says      string
		letsOn    bool // something is made, and leaves events
		expires   int  // in how many days the group expires then
	}{
		{name: "policy, owner out", act: changePolicy(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "policy, owner is a member now", act: changePolicy(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.demote(kit.Owner) }, says: mayNot},
		{name: "policy, owner out of a hidden group", group: func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=members join.audience=nobody") }, act: changePolicy(kit.Owner),
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: noGroup},
		{name: "policy, no administrator any more", act: changePolicy(administrator), meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: mayNot},
		{name: "policy, administrator left", act: changePolicy(administrator), meanwhile: func(r *race) func(*store.Tx) error { return r.leave(administrator) }, says: noGroup},
		{name: "policy, group ended", act: changePolicy(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "name, owner out", act: rename, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},

		{name: "join, barred", group: free, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.bar(colleague) }, says: "you are barred"},
		{name: "join, closed", group: free, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.set("join.audience", "nobody") }, says: "by invitation only"},
		{name: "join, ended", group: free, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "join, hidden", group: free, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.set("find", "members") }, says: noGroup},
		{name: "join, left the organisation", group: free, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.leave(colleague) }, says: noGroup},
		{name: "ask, barred", group: asks, act: join, meanwhile: func(r *race) func(*store.Tx) error { return r.bar(colleague) }, says: "you are barred"},
		{name: "leave, fixed", act: func(r *race) error {
			_, err := r.Joining.Leave(ctx, r.as(kit.Member), r.group.Address, api.JoinRequest{})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.set("leave", "fixed") }, says: "are fixed"},

		{name: "link, called back", before: linked, act: useLink, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				l, now := r.link(r.made), r.Now()
				l.EndedAt = &now
				return tx.SaveJoinLink(l)
			}
		}, says: "called back"},
		{name: "link, barred", before: linked, act: useLink, meanwhile: func(r *race) func(*store.Tx) error { return r.bar(colleague) }, says: "you are barred"},
		{name: "link, ended", before: linked, act: useLink, meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "link, left the organisation", before: linked, act: useLink, meanwhile: func(r *race) func(*store.Tx) error { return r.leave(colleague) }, says: "Sign in first"},
		{name: "give out a link, moderator out", act: func(r *race) error {
			_, err := r.Joining.CreateLink(ctx, r.as(kit.Moderator), r.group.Address, api.NewJoinLink{Days: 7})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Moderator) }, says: mayNot},

		{name: "invitation, called back", group: guests, before: invited, act: accept, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error { return tx.CallBackInvitations(r.id, []string{guest}, r.Now()) }
		}, says: "called back already"},
		{name: "invitation, barred", group: guests, before: invited, act: accept, meanwhile: func(r *race) func(*store.Tx) error { return r.bar(guest) }, says: "barred"},
		{name: "invitation, no guests any more", group: guests, before: invited, act: accept, meanwhile: func(r *race) func(*store.Tx) error { return r.set("externals", "barred") }, says: "no longer takes people from outside"},
		{name: "invitation, ended", group: guests, before: invited, act: accept, meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},

		{name: "request, withdrawn", group: asks, before: asked, act: decide(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				q, err := tx.Request(uuid.MustParse(r.made))
				if err == nil {
					now := r.Now()
					q.State, q.DecidedAt = store.Withdrawn, &now
					err = tx.SaveRequest(q)
				}
				return err
			}
		}, says: "was withdrawn already"},
		{name: "request, barred", group: asks, before: asked, act: decide(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.bar(colleague) }, says: "barred"},
		{name: "request, asker left", group: asks, before: asked, act: decide(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.leave(colleague) }, says: "left the organisation"},
		{name: "request, moderator out", group: asks, before: asked, act: decide(kit.Moderator), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Moderator) }, says: "There is no request"},
		{name: "request, ended", group: asks, before: asked, act: decide(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},

		{name: "post, moderator out", group: func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone post=workspace") }, before: waits, act: decidePost(kit.Moderator),
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Moderator) }, says: "There is no post"},
		{name: "post, decided", group: func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone post=workspace") }, before: waits, act: decidePost(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				return tx.DecideMailing(store.Mailing{ID: uuid.MustParse(r.made)}, store.Declined, kit.Moderator, "", time.Now())
			}
		}, says: "declined already"},
		{name: "post, ended", group: func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone post=workspace") }, before: waits, act: decidePost(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: "takes no mail"},

		{name: "add, barred", act: add(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.bar(colleague) }, says: "is barred"},
		{name: "add, owner out", act: add(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: "does not let you add"},
		{name: "add, closed to members", group: func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("add_people=members") }, act: add(kit.Member), meanwhile: func(r *race) func(*store.Tx) error { return r.set("add_people", "owners") }, says: "does not let you add"},
		{name: "add, ended", act: add(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "add, has left the organisation", act: add(kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.leave(colleague) }, says: "left the organisation"},
		{name: "step down, the other owner out", group: twoOwners, act: promote("member", kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(colleague) }, says: "last owner"},
		{name: "take an owner out, taken out by them", group: twoOwners, act: remove(kit.Owner, colleague), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "leave, the other owner out", group: twoOwners, act: remove(kit.Owner, kit.Owner), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(colleague) }, says: "last owner"},
		{name: "role of who is out", act: promote("moderator", kit.Member), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Member) }, says: "is not in"},
		{name: "bar, moderator out", act: override(kit.Moderator), meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Moderator) }, says: mayNot},
		{name: "nest, ended", act: nest, hold: heldNesting, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				id := uuid.MustParse(r.other.ID)
				g, err := tx.LockGroup(id)
				if err != nil {
					return err
				}
				was, now := g, r.Now()
				g.EndedAt, g.Retired = &now, true
				return tx.SaveGroup(&g, was)
			}
		}, says: "has ended"},
		{name: "nest, nested the other way", act: nest, hold: heldNesting, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				return tx.AddMemberships([]store.Membership{{GroupID: uuid.MustParse(r.other.ID), MemberID: r.id, Kind: store.KindGroup, Role: expand.Member, Mail: true, AddedAt: r.Now(), AddedBy: kit.Owner}})
			}
		}, says: "would contain each other"},

		{name: "rule, owner out", act: setRule, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "rule, ended", act: setRule, meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "delete a rule, owner out", before: setRule, act: func(r *race) error { return r.Rules.Delete(ctx, r.as(kit.Owner), r.group.Address, true, 0) },
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "delete a rule, deleted", before: setRule, act: func(r *race) error { return r.Rules.Delete(ctx, r.as(kit.Owner), r.group.Address, true, 0) },
			meanwhile: func(r *race) func(*store.Tx) error { return func(tx *store.Tx) error { return tx.DeleteRule(r.id) } }, says: "has no rule"},

		{name: "renew, owner out", act: func(r *race) error {
			_, err := r.Life.Renew(ctx, r.as(kit.Owner), r.group.Address, api.Renewal{}, 0)
			return err
		},
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "renew, ended", act: func(r *race) error {
			_, err := r.Life.Renew(ctx, r.as(kit.Owner), r.group.Address, api.Renewal{}, 0)
			return err
		},
			meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "retire, retired", act: retired, meanwhile: func(r *race) func(*store.Tx) error { return r.end }, says: ended},
		{name: "retire, owner out", act: retired, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "restore, restored", before: retired, act: func(r *race) error { _, err := r.Life.Restore(ctx, r.as(kit.Owner), r.group.Address, 0); return err },
			meanwhile: func(r *race) func(*store.Tx) error { return r.revive }, says: "has not ended"},
		{name: "restore, owner out", before: retired, act: func(r *race) error { _, err := r.Life.Restore(ctx, r.as(kit.Owner), r.group.Address, 0); return err },
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},

		{name: "naming, no administrator any more", hold: heldSetting("naming"), act: func(r *race) error {
			_, err := r.Naming.Set(ctx, r.as(administrator), api.Naming{Creators: "workspace"}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "expiry, no administrator any more", hold: heldSetting("terms"), act: func(r *race) error {
			_, err := r.Life.SetTerms(ctx, r.as(administrator), given(365), 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "new person, no administrator any more", hold: heldRules, act: func(r *race) error {
			_, err := r.Directory.Create(ctx, r.as(administrator), api.NewPersonEntry{Address: "new@merrowline.example", Name: "New"})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "import, no administrator any more", hold: heldRules, act: func(r *race) error {
			_, err := r.Directory.Import(ctx, r.as(administrator), api.Import{Text: "E-mail,Name\nnew@merrowline.example,New\n"})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "new group, no administrator any more", hold: heldNesting, act: func(r *race) error {
			_, err := r.Group.Create(ctx, r.as(administrator), api.NewGroup{Name: "Of another", Owners: []string{kit.Owner}, People: []api.NewPerson{{Address: r.other.Address}}, Quiet: true})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "entry, no administrator any more", hold: heldPerson(colleague), act: func(r *race) error {
			name := "Petra"
			_, err := r.Directory.Change(ctx, r.as(administrator), colleague, api.PersonPatch{Name: &name}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "departure, no administrator any more", hold: heldPerson(colleague), act: func(r *race) error {
			_, err := r.Directory.Depart(ctx, r.as(administrator), colleague, api.Departure{}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "departure, departed", hold: heldPerson(colleague), act: func(r *race) error {
			_, err := r.Directory.Depart(ctx, r.as(administrator), colleague, api.Departure{}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return r.changeHeld(colleague, func(p *store.Person) { p.Active = false })
		}, says: "has left already"},
		{name: "departure, successor departed", hold: heldPerson(kit.Moderator), act: func(r *race) error {
			_, err := r.Directory.Depart(ctx, r.as(administrator), colleague, api.Departure{Successor: kit.Moderator}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return r.changeHeld(kit.Moderator, func(p *store.Person) { p.Active = false })
		}, says: "Nobody else who is here"},
		{name: "return, returned", hold: heldPerson(kit.Left), act: func(r *race) error { _, err := r.Directory.Return(ctx, r.as(administrator), kit.Left, 0); return err },
			meanwhile: func(r *race) func(*store.Tx) error {
				return r.changeHeld(kit.Left, func(p *store.Person) { p.Active = true })
			}, says: "is here already"},
		{name: "return, no administrator any more", hold: heldPerson(kit.Left), act: func(r *race) error { _, err := r.Directory.Return(ctx, r.as(administrator), kit.Left, 0); return err },
			meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "link to choose a password, departed", hold: heldPerson(colleague), act: func(r *race) error { return r.Account.SendLink(ctx, r.as(administrator), colleague) },
			meanwhile: func(r *race) func(*store.Tx) error {
				return r.changeHeld(colleague, func(p *store.Person) { p.Active = false })
			}, says: "can't sign in"},
		{name: "link to choose a password, no administrator any more", hold: heldPerson(colleague), act: func(r *race) error { return r.Account.SendLink(ctx, r.as(administrator), colleague) },
			meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "choose a password, chosen", hold: heldPerson(colleague), before: func(r *race) error {
			r.Queued(r.t)
			err := r.Account.SendLink(ctx, r.as(administrator), colleague)
			for _, l := range r.Letters(r.t) {
				if _, rest, ok := strings.Cut(l.Text, "/password/"); ok {
					r.made = strings.Fields(rest)[0]
				}
			}
			return err
		}, act: func(r *race) error {
			return r.Account.Choose(ctx, workspace.Actor{Via: "link"}, r.made, "another long password")
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error { return tx.EndCredentials([]uuid.UUID{r.person(colleague)}) }
		}, says: "This link has ended"},

		{name: "rule released, owner out", before: setRule, act: func(r *race) error { _, err := r.Rules.Release(ctx, r.as(kit.Owner), r.group.Address, 0); return err },
			meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "invite, barred", group: guests, act: func(r *race) error {
			all, err := r.Member.Add(ctx, r.as(kit.Owner), r.group.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: guest}}}, 0)
			if err == nil && all.Results[0].Outcome != "invited" {
				err = errors.New(all.Results[0].Says)
			}
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.bar(guest) }, says: "is barred"},
		{name: "roles of several, owner out", act: func(r *race) error {
			_, err := r.Member.Change(ctx, r.as(kit.Owner), r.group.Address, api.MembersPatch{Members: []string{kit.Member}, Role: "moderator"}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Owner) }, says: mayNot},
		{name: "invitation called back, accepted", group: guests, before: invited, act: func(r *race) error {
			return r.Joining.CallBackInvitation(ctx, r.as(kit.Owner), r.group.Address, guest)
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error { return tx.CallBackInvitations(r.id, []string{guest}, r.Now()) }
		}, says: "is open"},
		{name: "link called back, moderator out", before: linked, act: func(r *race) error {
			return r.Joining.CallBackLink(ctx, r.as(kit.Moderator), r.group.Address, r.link(r.made).ID.String())
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.takeOut(kit.Moderator) }, says: mayNot},
		{name: "link, used up", before: linked, act: useLink, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				l := r.link(r.made)
				l.MaxUses, l.Uses = 1, 1
				return tx.SaveJoinLink(l)
			}
		}, says: "as many have used it"},
		{name: "request taken back, decided", group: asks, before: asked, hold: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error { _, err := tx.LockRequest(uuid.MustParse(r.made)); return err }
		}, act: func(r *race) error { return r.Joining.Withdraw(ctx, r.as(colleague), r.made) }, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				return tx.EndRequests(r.id, []uuid.UUID{r.person(colleague)}, store.ToJoin, r.Now())
			}
		}, says: "no open request"},
		{name: "starting point, no administrator any more", before: started, hold: heldStart, act: func(r *race) error {
			_, err := r.Naming.SaveStartingPoint(ctx, r.as(administrator), "a-start", api.NewStartingPoint{Title: "Another"}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.loseRole }, says: "Only administrators"},
		{name: "starting point deleted, deleted", before: started, hold: heldStart, act: func(r *race) error { return r.Naming.DeleteStartingPoint(ctx, r.as(administrator), "a-start", 0) },
			meanwhile: func(r *race) func(*store.Tx) error {
				return func(tx *store.Tx) error { return tx.DeleteStartingPoint("a-start") }
			}, says: "There is no starting point"},
		{name: "import, changed", hold: heldPerson(colleague), act: func(r *race) error {
			_, err := r.Directory.Import(ctx, r.as(administrator), api.Import{Text: "E-mail,Name\n" + colleague + ",Petra\n"})
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error { return r.changeHeld(colleague, func(*store.Person) {}) }, says: "Somebody changed"},
		{name: "address, taken", act: func(r *race) error {
			to := "moved-" + r.group.Address
			_, err := r.Group.Change(ctx, r.as(administrator), r.group.Address, api.GroupPatch{Address: &to}, 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return func(*store.Tx) error {
				to := "moved-" + r.group.Address
				return kit.Last(r.Group.Change(ctx, r.as(administrator), r.other.Address, api.GroupPatch{Address: &to}, 0))
			}
		}, says: "belongs to the group", letsOn: true},

		{name: "lapse, renewed", before: func(r *race) error { return r.due(0) }, act: life, meanwhile: func(r *race) func(*store.Tx) error {
			return r.edit(func(g *store.Group) {
				g.RenewedAt = r.Now()
				g.ExpiresAt, g.DueAt = r.Now().AddDate(1, 0, 0), r.Now().AddDate(0, 11, 0)
			})
		}},
		{name: "notice, renewed", before: func(r *race) error { return r.due(10) }, act: life, meanwhile: func(r *race) func(*store.Tx) error {
			return r.edit(func(g *store.Group) {
				g.RenewedAt = r.Now()
				g.ExpiresAt, g.DueAt = r.Now().AddDate(1, 0, 0), r.Now().AddDate(0, 11, 0)
			})
		}},
		{name: "purge, restored", before: func(r *race) error {
			err := r.Pool.Transact(ctx, false, func(tx *store.Tx) error {
				return errors.Join(tx.SaveSetting(workspace.TermsSetting, terms(100), 2), tx.SaveSetting("served", store.Served{}, 2)) // days before were of another time
			})
			if err == nil {
				err = retired(r)
			}
			if err != nil {
				return err
			}
			for range 29 { // it was told, and can be restored for 30 days on which the service ran
				if err := r.Life.Run(ctx); err != nil {
					return err
				}
				r.Queued(r.t)
				r.Move(1)
			}
			r.Move(1)
			return nil
		}, act: life, meanwhile: func(r *race) func(*store.Tx) error { return r.revive }},
		{name: "expiry set, renewed", before: func(r *race) error { return r.due(10) }, act: func(r *race) error {
			_, err := r.Life.SetTerms(ctx, r.as(administrator), given(100), 0)
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return r.edit(func(g *store.Group) { g.RenewedAt = r.Now().AddDate(0, 0, 5) })
		}, letsOn: true, expires: 105},
		{name: "new group, expiry set", hold: heldSetting("terms"), act: func(r *race) error {
			g, err := r.Group.Create(ctx, r.as(administrator), api.NewGroup{Name: "Of This Day", Owners: []string{kit.Owner}, Quiet: true})
			if err == nil {
				r.id = uuid.MustParse(g.ID)
			}
			return err
		}, meanwhile: func(r *race) func(*store.Tx) error {
			return func(tx *store.Tx) error {
				return tx.SaveSetting(workspace.TermsSetting, terms(50), 9)
			}
		}, letsOn: true, expires: 50},
	} {
		t.Run(x.name, func(t *testing.T) {
			r := &race{Kit: k, t: t}
			if x.group == nil {
				x.group = func(*api.NewGroup) {}
			}
			r.group = k.Make(t, "Race "+uuid.NewString()[:8], x.group)
			r.other = k.Make(t, "Other "+uuid.NewString()[:8])
			r.id = uuid.MustParse(r.group.ID)
			now := k.Now()
			t.Cleanup(func() { // everybody is what they were
				k.Move(-int(k.Now().Sub(now).Hours() / 24))
				r.change(administrator, func(p *store.Person) { p.WorkspaceRole, p.Active = "administrator", true })
				for _, who := range []string{colleague, kit.Moderator} {
					r.change(who, func(p *store.Person) { p.Active = true })
				}
				r.change(kit.Left, func(p *store.Person) { p.Active = false })
				k.Queued(t)
			})
			if x.before != nil {
				if err := x.before(r); err != nil {
					t.Fatal(err)
				}
			}
			if x.hold == nil {
				x.hold = heldGroup
			}
			k.Queued(t)
			before, err := k.Read().Group(r.id)
			if err != nil {
				t.Fatal(err)
			}
			ines := r.as(administrator)
			events := r.events(ines)
			err = r.run(db, x.hold(r), x.meanwhile(r), func() error { return x.act(r) })
			r.change(administrator, func(p *store.Person) { p.WorkspaceRole, p.Active = "administrator", true })
			switch {
			case x.says == "" && err != nil:
				t.Errorf("it says: %v", err)
			case x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says)):
				t.Errorf("it says: %v; want %q", err, x.says)
			}
			if got := r.events(ines); got != events && !x.letsOn {
				t.Errorf("the history has %d events more", got-events)
			}
			if sent := k.Queued(t); len(sent) > 0 {
				t.Errorf("letters were sent: %v", sent)
			}
			after, err := k.Read().Group(r.id)
			if err != nil {
				t.Fatal(err)
			}
			if at := now.AddDate(0, 0, x.expires).Truncate(24 * time.Hour); x.expires > 0 && !after.ExpiresAt.Equal(at) {
				t.Errorf("it expires on %v; want %v", after.ExpiresAt, at)
			}
			if x.says != "" && (after.Name != before.Name || after.Members > before.Members) {
				t.Errorf("the group is %+v, was %+v", after, before)
			}
		})
	}
}

// TestTwoAtOnce lets two do, at the same time, what only one of them can do.
func TestTwoAtOnce(t *testing.T) {
	l := k.Fresh(t, "two_at_once")
	ines := l.Actor(t, kit.Administrator)
	role := "administrator"
	if _, err := l.Directory.Change(ctx, ines, kit.Owner, api.PersonPatch{WorkspaceRole: &role}, 0); err != nil {
		t.Fatal(err)
	}
	both := func(a, b func() error) (oks int) {
		done := make(chan error, 2)
		for _, f := range []func() error{a, b} {
			go func() { done <- f() }()
		}
		for range 2 {
			if err := <-done; err == nil {
				oks++
			} else {
				kit.KindOf(t, err) // is told why
			}
		}
		return oks
	}
	for i := range 8 {
		oda := l.Actor(t, kit.Owner)
		nest := func(into, what api.Group) func() error {
			return func() error {
				all, err := l.Member.Add(ctx, ines, into.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: what.Address}}}, 0)
				if err == nil && all.Added == 0 {
					return &workspace.Error{Kind: workspace.Conflict, Says: all.Results[0].Says}
				}
				return err
			}
		}
		a, b := l.Make(t, fmt.Sprintf("Left %d", i)), l.Make(t, fmt.Sprintf("Right %d", i))
		if n := both(nest(a, b), nest(b, a)); n != 1 {
			t.Errorf("%d of two nestings into each other were made", n)
		}
		g := l.Make(t, fmt.Sprintf("Two owners %d", i), func(n *api.NewGroup) { n.Owners = []string{kit.Moderator, kit.Colleague}; n.People = nil })
		remove := func(by, who string) func() error {
			return func() error { return l.Member.Remove(ctx, l.Actor(t, by), g.Address, who, 0) }
		}
		if n := both(remove(kit.Moderator, kit.Colleague), remove(kit.Colleague, kit.Moderator)); n != 1 {
			t.Errorf("%d of two owners took the other out", n)
		}
		open := l.Make(t, fmt.Sprintf("Open %d", i), func(n *api.NewGroup) { n.Join = &api.JoinPatch{How: "freely"} })
		both(func() error {
			return l.Rules.SetOverride(ctx, ines, open.Address, kit.Colleague, api.NewOverride{Override: "barred"}, 0)
		}, func() error {
			_, err := l.Joining.Join(ctx, l.Actor(t, kit.Colleague), open.Address, api.JoinRequest{})
			return err
		})
		if p, err := l.Members(ines, open.Address, member.Query{Q: kit.Colleague, Limit: 5}); err != nil || len(p.Items) > 0 {
			t.Errorf("who was barred is in: %+v, %v", p.Items, err)
		}
		depart := func(by workspace.Actor, who string) func() error {
			return func() error { _, err := l.Directory.Depart(ctx, by, who, api.Departure{}, 0); return err }
		}
		if n := both(depart(ines, kit.Owner), depart(oda, kit.Administrator)); n != 1 {
			t.Errorf("%d of two administrators marked the other as departed", n)
		}
		for _, who := range []string{kit.Administrator, kit.Owner} {
			p, err := l.Read().PersonByKey(who)
			if err != nil {
				t.Fatal(err)
			}
			l.Write(t, func(tx *store.Tx) error {
				p, err := tx.LockPerson(p.ID)
				p.Active, p.WorkspaceRole = true, role // which ended with the departure
				return errors.Join(err, tx.SavePerson(&p, false))
			})
		}
	}
}

// A message that was decided about before its author was barred is decided about again:
// mail takes no lock, but holds only for the group as it was read.
func TestMailIsDecidedAgain(t *testing.T) {
	l := k.Fresh(t, "decided_again")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "Read Before")
	r := &race{Kit: l, t: t, group: g, id: uuid.MustParse(g.ID)}
	others, sent := make(chan error), make(chan error, 1)
	slots := store.MaxConnections * 3 / 4
	err := l.Pool.Transact(ctx, false, func(tx *store.Tx) error {
		if _, err := tx.LockSetting("naming", new(any)); err != nil {
			return err
		}
		for range slots { // changes that wait, so that the message has to wait for its own
			go func() {
				_, err := l.Naming.Set(ctx, ines, api.Naming{Creators: "administrators"}, 0)
				others <- err
			}()
		}
		time.Sleep(300 * time.Millisecond)
		go func() { sent <- l.Send(t, g.Address, kit.Member, true, "too late") }()
		time.Sleep(300 * time.Millisecond)
		return l.Pool.Transact(ctx, false, func(tx *store.Tx) error {
			if _, err := tx.LockGroup(r.id); err != nil {
				return err
			}
			return errors.Join(r.bar(kit.Member)(tx), r.edit(func(*store.Group) {})(tx))
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	for range slots {
		if err := <-others; err != nil {
			t.Error(err)
		}
	}
	if err := <-sent; err == nil || !strings.Contains(err.Error(), "barred") {
		t.Errorf("it was taken: %v", err)
	}
	if got := l.Queued(t); len(got) > 0 {
		t.Errorf("it went out: %v", got)
	}
}
