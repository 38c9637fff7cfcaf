package workspace_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "workspace", &k, nil) }

// kindOf returns the kind of an error and its words.
func kindOf(t *testing.T, err error) (workspace.Kind, string) {
	t.Helper()
	var e *workspace.Error
	if !errors.As(err, &e) {
		t.Fatalf("%v is no error for a person", err)
	}
	text := e.Says
	for _, p := range e.Problems {
		text += "\n" + p.Field + ": " + p.Says
	}
	return e.Kind, text
}

func TestCreateGroup(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Group(t, "Slipway Repairs", func(n *api.NewGroup) {
		n.Externals, n.Description = "owners", "Boats on the slip"
		n.People = append(n.People, api.NewPerson{Address: "Pilot@Gannetport.example"})
	})
	if g.Address != "slipway-repairs@merrowline.example" || g.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 2, External: 1}) {
		t.Errorf("made %s with %+v", g.Address, g.Counts)
	}
	if g.MyRole != "none" {
		t.Errorf("the administrator was left in it as %s", g.MyRole)
	}
	page, err := k.W.Groups(ctx, ines, workspace.GroupList{Q: "slip rep", Limit: 10})
	if err != nil || len(page.Items) != 1 || page.Items[0].ID != g.ID {
		t.Errorf("not in the list at once: %+v, %v", page, err)
	}
	h, err := k.W.History(ctx, ines, g.Address, "", 10)
	if err != nil || len(h.Items) != 2 || h.Items[1].Action != "group.create" || h.Items[1].Actor != kit.Administrator || h.Items[0].Action != "people.add" || len(h.Items[0].Changes) != 4 {
		t.Errorf("history: %+v, %v", h, err)
	}
}

func TestCreateGroupRefuses(t *testing.T) {
	k.Group(t, "Taken Already")
	ines := k.Actor(t, kit.Administrator)
	good := func() api.NewGroup {
		return api.NewGroup{Name: "Never Made", Owners: []string{kit.Owner}}
	}
	for _, c := range []struct {
		name string
		with func(*api.NewGroup)
		kind workspace.Kind
		says string
	}{
		{"no local part", func(n *api.NewGroup) { n.Address = "@merrowline.example" }, workspace.Invalid, "address: The part before the @ is empty."},
		{"65 octets", func(n *api.NewGroup) { n.Address = strings.Repeat("a", 65) + "@merrowline.example" }, workspace.Invalid, "65 octets; 64 is the most"},
		{"unknown domain", func(n *api.NewGroup) { n.Address = "never@elsewhere.example" }, workspace.Invalid, "elsewhere.example is not a domain of this workspace. Choose merrowline.example or crew.merrowline.example."},
		{"taken in other case", func(n *api.NewGroup) { n.Address = "Taken-Already@MerrowLine.example" }, workspace.Conflict, "belongs to the group Taken Already"},
		{"taken by a person", func(n *api.NewGroup) { n.Address = kit.Owner }, workspace.Conflict, "belongs to the person Oda Fenn"},
		{"too alike", func(n *api.NewGroup) { n.Address = "taken.a1ready@merrowline.example" }, workspace.Conflict, "too like taken-already@merrowline.example"},
		{"reserved", func(n *api.NewGroup) { n.Address = "Postmaster@merrowline.example" }, workspace.Invalid, "reserved"},
		{"a helper address", func(n *api.NewGroup) { n.Address = "taken-already-owners@merrowline.example" }, workspace.Invalid, "helper address"},
		{"a name that folds to nothing", func(n *api.NewGroup) { n.Name = "🚢🚢" }, workspace.Invalid, "no letter or digit"},
		{"a name of a script that is not guessed at", func(n *api.NewGroup) { n.Name = "夜班" }, workspace.Invalid, "Type an address for it."},
		{"an empty name", func(n *api.NewGroup) { n.Name = "  "; n.Address = "never@merrowline.example" }, workspace.Invalid, "name: The name is empty."},
		{"a line break in the name", func(n *api.NewGroup) { n.Name = "Never\r\nBcc: all" }, workspace.Invalid, "control character"},
		{"no owner", func(n *api.NewGroup) { n.Owners = nil }, workspace.Invalid, "owners: A group needs at least one owner"},
		{"unknown owner", func(n *api.NewGroup) { n.Owners = []string{"nobody.here@merrowline.example"} }, workspace.Invalid, "owners[0]: Nobody in the workspace has this address."},
		{"an owner who has left", func(n *api.NewGroup) { n.Owners = []string{kit.Left} }, workspace.Invalid, "Rurik Gale has left the organisation."},
		{"an outsider as owner", func(n *api.NewGroup) { n.Owners = []string{"pilot@gannetport.example"}; n.Externals = "owners" }, workspace.Invalid, "can't be an owner"},
		{"a group as owner", func(n *api.NewGroup) { n.Owners = []string{"taken-already@merrowline.example"} }, workspace.Invalid, "as a member only"},
		{"the same member twice", func(n *api.NewGroup) {
			n.People = []api.NewPerson{{Address: kit.Member}, {Address: strings.ToUpper(kit.Member)}}
		}, workspace.Invalid, "people[1].address: The list names this address twice."},
		{"an outsider where they are barred", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: "pilot@gannetport.example"}} }, workspace.Invalid, "takes no external members"},
		{"an unknown role", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: kit.Member, Role: "boss"}} }, workspace.Invalid, `no role "boss"`},
		{"an unknown value", func(n *api.NewGroup) { n.Policy = map[string]string{"post": "everybody"} }, workspace.Invalid, `policy.post: Post can't be "everybody": choose nobody, owners`},
		{"an unknown question", func(n *api.NewGroup) { n.Policy = map[string]string{"sing": "anyone"} }, workspace.Invalid, `policy.sing: A question can't be "sing"`},
		{"a contradiction", func(n *api.NewGroup) { n.Policy = map[string]string{"read": "anyone"} }, workspace.Invalid, "read: Anyone may read the archive, but only people of the workspace can find the group."},
		{"a language nobody writes", func(n *api.NewGroup) { n.Language = "tlh" }, workspace.Invalid, "language: Notices are written in: de, en."},
	} {
		n := good()
		c.with(&n)
		_, err := k.W.CreateGroup(ctx, ines, n, "")
		if err == nil {
			t.Errorf("%s: was made", c.name)
			continue
		}
		if kind, says := kindOf(t, err); kind != c.kind || !strings.Contains(says, c.says) {
			t.Errorf("%s: kind %d, %q; want %d, %q", c.name, kind, says, c.kind, c.says)
		}
	}
	p, err := k.W.Groups(ctx, ines, workspace.GroupList{Q: "never", Limit: 10})
	if err != nil || p.Total != 0 {
		t.Errorf("something half-done is left: %+v, %v", p.Items, err)
	}
	if _, err := k.Store.PersonByKey(ctx, "pilot2@gannetport.example"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an outsider of a refused group is left: %v", err)
	}
}

func TestIdempotencyKey(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	n := api.NewGroup{Name: "Once Only", Owners: []string{kit.Owner}}
	first, err := k.W.CreateGroup(ctx, ines, n, "key-1")
	if err != nil {
		t.Fatal(err)
	}
	again, err := k.W.CreateGroup(ctx, ines, n, "key-1")
	if err != nil || again.ID != first.ID {
		t.Errorf("a repeat made %s, %v", again.ID, err)
	}
	n.Name = "Another"
	if _, err := k.W.CreateGroup(ctx, ines, n, "key-1"); err == nil {
		t.Error("the key served for another request")
	} else if kind, _ := kindOf(t, err); kind != workspace.Conflict {
		t.Errorf("the key for another request: %v", err)
	}
}

// Of several who create one address at once, one wins and the others are told so.
func TestOneAddressForOne(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	var mu sync.Mutex
	made := 0
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			_, err := k.W.CreateGroup(ctx, ines, api.NewGroup{Name: "Contested", Owners: []string{kit.Owner}}, "")
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				made++
			} else if kind, says := kindOf(t, err); kind != workspace.Conflict || !strings.Contains(says, "belongs to the group Contested") {
				t.Errorf("kind %d: %s", kind, says)
			}
		})
	}
	all.Wait()
	if made != 1 {
		t.Errorf("%d were made", made)
	}
}

func TestMembers(t *testing.T) {
	g := k.Group(t, "Staffed", func(n *api.NewGroup) { n.Externals = "owners" })
	owner := k.Actor(t, kit.Owner)
	res, err := k.W.AddMembers(ctx, owner, g.Address, api.NewMembers{People: []api.NewPerson{
		{Address: kit.Colleague, Role: "moderator"}, {Address: "New.Pilot@gannetport.example"}, {Address: kit.Member},
		{Address: "not an address"}, {Address: "typo@merrowline.example"}, {Address: g.Address}, {Address: kit.Left}, {Address: "new.pilot@gannetport.example"},
	}})
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"added", "added", "already", "refused", "refused", "refused", "refused", "already"}
	for i, r := range res.Results {
		if r.Outcome != want[i] || (r.Outcome != "added") != (r.Says != "") {
			t.Errorf("%s: %s, %q; want %s", r.Given, r.Outcome, r.Says, want[i])
		}
	}
	if after, _ := k.W.Group(ctx, owner, g.Address); after.Counts != (api.Counts{Owners: 1, Moderators: 2, Members: 2, External: 1}) {
		t.Errorf("counts: %+v", after.Counts)
	}

	if _, err := k.W.ChangeMember(ctx, owner, g.Address, kit.Member, api.MemberPatch{Role: "owner"}); err != nil {
		t.Error(err)
	}
	if err := k.W.RemoveMember(ctx, owner, g.Address, kit.Colleague); err != nil {
		t.Error(err)
	}
	if after, _ := k.W.Group(ctx, owner, g.Address); after.Counts != (api.Counts{Owners: 2, Moderators: 1, Members: 1, External: 1}) {
		t.Errorf("counts: %+v", after.Counts)
	}
	for _, c := range []struct {
		name string
		do   func() error
		kind workspace.Kind
	}{
		{"an outsider as moderator", func() error {
			_, err := k.W.ChangeMember(ctx, owner, g.Address, "new.pilot@gannetport.example", api.MemberPatch{Role: "moderator"})
			return err
		}, workspace.Invalid},
		{"an unknown role", func() error {
			_, err := k.W.ChangeMember(ctx, owner, g.Address, kit.Member, api.MemberPatch{Role: "king"})
			return err
		}, workspace.Invalid},
		{"somebody who is not in it", func() error { return k.W.RemoveMember(ctx, owner, g.Address, kit.Auditor) }, workspace.NotFound},
		{"a moderator who removes", func() error {
			return k.W.RemoveMember(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Member)
		}, workspace.NotAllowed},
		{"an empty list", func() error {
			_, err := k.W.AddMembers(ctx, owner, g.Address, api.NewMembers{})
			return err
		}, workspace.Invalid},
	} {
		err := c.do()
		if err == nil {
			t.Errorf("%s: was done", c.name)
		} else if kind, says := kindOf(t, err); kind != c.kind {
			t.Errorf("%s: %d, %s", c.name, kind, says)
		}
	}
}

// Of two who take away the last two owners at once, one is refused.
func TestTheLastOwnerStays(t *testing.T) {
	g := k.Group(t, "Shared Between", func(n *api.NewGroup) { n.Owners = []string{kit.Owner, kit.Colleague} })
	ines := k.Actor(t, kit.Administrator)
	errs := make([]error, 2)
	var all sync.WaitGroup
	all.Go(func() { errs[0] = k.W.RemoveMember(ctx, ines, g.Address, kit.Owner) })
	all.Go(func() {
		_, errs[1] = k.W.ChangeMember(ctx, ines, g.Address, kit.Colleague, api.MemberPatch{Role: "member"})
	})
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("removing one: %v; demoting the other: %v", errs[0], errs[1])
	}
	if kind, says := kindOf(t, errors.Join(errs...)); kind != workspace.Conflict || !strings.Contains(says, "last owner") {
		t.Errorf("%d: %s", kind, says)
	}
	if after, _ := k.W.Group(ctx, ines, g.Address); after.Counts.Owners != 1 || len(after.Owners) != 1 {
		t.Errorf("left with %+v", after.Owners)
	}
}

func TestTheOnlyOwnerStays(t *testing.T) {
	g := k.Group(t, "One Alone")
	for who, as := range map[string]string{"the owner": kit.Owner, "an administrator": kit.Administrator} {
		_, demoted := k.W.ChangeMember(ctx, k.Actor(t, as), g.Address, kit.Owner, api.MemberPatch{Role: "member"})
		for what, err := range map[string]error{"removed": k.W.RemoveMember(ctx, k.Actor(t, as), g.Address, kit.Owner), "demoted": demoted} {
			if err == nil {
				t.Errorf("%s by %s", what, who)
			} else if kind, says := kindOf(t, err); kind != workspace.Conflict || says != "Oda Fenn is the last owner of One Alone. Make somebody else an owner first." {
				t.Errorf("%s by %s: %d, %s", what, who, kind, says)
			}
		}
	}
	if _, err := k.W.ChangeMember(ctx, k.Actor(t, kit.Owner), g.Address, kit.Owner, api.MemberPatch{Delivery: "none"}); err != nil {
		t.Errorf("its delivery is its own: %v", err)
	}
}

func TestLeaving(t *testing.T) {
	for leave, kind := range map[string]workspace.Kind{"free": -1, "asking": workspace.NotAllowed, "fixed": workspace.NotAllowed} {
		g := k.Group(t, "Leave "+leave, func(n *api.NewGroup) { n.Leave = leave })
		err := k.W.RemoveMember(ctx, k.Actor(t, kit.Member), g.Address, kit.Member)
		if kind < 0 && err != nil {
			t.Errorf("%s: %v", leave, err)
		} else if kind >= 0 {
			if got, _ := kindOf(t, err); got != kind {
				t.Errorf("%s: %v", leave, err)
			}
		}
	}
}

func TestNestedGroupsInMembership(t *testing.T) {
	inner := k.Group(t, "Inner Ring", func(n *api.NewGroup) { n.Owners = []string{kit.Colleague}; n.People = nil })
	outer := k.Group(t, "Outer Ring", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: inner.Address}} })
	ines := k.Actor(t, kit.Administrator)
	if outer.Counts.Nested != 1 || outer.Counts.Members != 0 {
		t.Errorf("counts: %+v", outer.Counts)
	}
	d, err := k.W.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: outer.Address, As: kit.Colleague})
	if err != nil || d.Outcome != "allow" || d.Recipients.Count != 2 {
		t.Errorf("a member by nesting: %+v, %v", d, err)
	}
	res, err := k.W.AddMembers(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: outer.Address}}})
	if err != nil || res.Results[0].Outcome != "refused" || !strings.Contains(res.Results[0].Says, "contain each other") {
		t.Errorf("a loop: %+v, %v", res, err)
	}
	if _, err := k.W.Retire(ctx, ines, inner.Address, 0); err != nil {
		t.Fatal(err)
	}
	if d, err := k.W.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: outer.Address, As: kit.Owner}); err != nil || d.Recipients.Count != 1 {
		t.Errorf("a retired group still gives people: %+v, %v", d, err)
	}
}

func TestPolicyEffectAndChange(t *testing.T) {
	g := k.Group(t, "Reach")
	owner := k.Actor(t, kit.Owner)
	patch := api.PolicyPatch{Policy: map[string]string{"post": "anyone"}, Hold: "nobody"}
	everybody, err := k.Store.CountPeople(ctx)
	if err != nil {
		t.Fatal(err)
	}
	e, err := k.W.PolicyEffect(ctx, owner, g.Address, patch)
	if err != nil || len(e.Shifts) != 2 || e.Shifts[0].Gains[0] != (api.Share{Who: "colleagues", Count: int(everybody) - 3}) || len(e.Picture.Warnings) != 1 {
		t.Errorf("effect: %+v, %v", e, err)
	}
	if now, _ := k.W.Group(ctx, owner, g.Address); now.Policy.Post != "members" {
		t.Error("looking at the effect changed the policy")
	}
	after, err := k.W.ChangePolicy(ctx, owner, g.Address, patch, g.Version+1)
	if err == nil {
		t.Error("a version that is not yet there was taken")
	} else if kind, _ := kindOf(t, err); kind != workspace.Stale {
		t.Error(err)
	}
	if after, err = k.W.ChangePolicy(ctx, owner, g.Address, patch, g.Version); err != nil || after.Policy.Post != "anyone" || after.Hold != "nobody" {
		t.Fatalf("%+v, %v", after, err)
	}
	if _, err = k.W.ChangePolicy(ctx, owner, g.Address, patch, g.Version); err == nil {
		t.Error("an old version was taken")
	}
	h, _ := k.W.History(ctx, owner, g.Address, "", 1)
	if c := h.Items[0].Changes[0]; c.Field != "post" || c.From != "members" || c.To != "anyone" || !strings.Contains(c.Says, "all strangers can write") {
		t.Errorf("the history keeps %+v", c)
	}
	if e, err = k.W.PolicyEffect(ctx, owner, g.Address, api.PolicyPatch{Policy: map[string]string{"find": "members"}}); err != nil || len(e.Picture.Contradictions) == 0 {
		t.Errorf("a contradiction is part of the picture: %+v, %v", e.Picture.Contradictions, err)
	}
	if _, err = k.W.ChangePolicy(ctx, owner, g.Address, api.PolicyPatch{Policy: map[string]string{"find": "members"}}, 0); err == nil {
		t.Error("a contradiction was saved")
	}
}

func post(t *testing.T, ref, author string, proven bool, subject string) error {
	t.Helper()
	target, err := k.W.Target(ctx, kit.Address(t, ref))
	if err != nil {
		return err
	}
	return k.W.Accept(ctx, []workspace.Incoming{{Target: target, Author: kit.Address(t, author), Proven: proven, MessageID: "<" + subject + "@x.example>", Subject: subject, Raw: []byte("Subject: " + subject + "\r\n\r\n")}})
}

func TestPosts(t *testing.T) {
	g := k.Group(t, "Posting")
	if err := post(t, g.Address, kit.Member, true, "proven"); err != nil {
		t.Fatal(err)
	}
	if err := post(t, g.Address, kit.Member, false, "unproven"); err != nil {
		t.Fatal(err)
	}
	var no *workspace.Refused
	if err := post(t, g.Address, "stranger@elsewhere.example", false, "strange"); !errors.As(err, &no) || !strings.Contains(no.Error(), "Only its members may write to this group.") {
		t.Fatalf("a stranger: %v", err)
	}
	sent := k.Queued(t)
	slices.Sort(sent["proven"])
	if !slices.Equal(sent["proven"], []string{kit.Moderator, kit.Owner, kit.Member}) || sent["unproven"] != nil || sent["strange"] != nil {
		t.Errorf("queued: %v", sent)
	}

	if _, err := k.W.ChangeMember(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Moderator, api.MemberPatch{Delivery: "none"}); err != nil {
		t.Fatal(err)
	}
	mod := k.Actor(t, kit.Moderator)
	waiting, err := k.W.WaitingPosts(ctx, mod, g.Address, "", 10)
	if err != nil || len(waiting.Items) != 1 || waiting.Items[0].Subject != "unproven" || waiting.Items[0].Decision.Rule != "suspicious.hold" {
		t.Fatalf("waiting: %+v, %v", waiting, err)
	}
	id := waiting.Items[0].ID
	if err := k.W.DecidePost(ctx, k.Actor(t, kit.Member), id, api.Verdict{Verdict: "approve"}); err == nil {
		t.Error("a member approved")
	}
	if err := k.W.DecidePost(ctx, mod, id, api.Verdict{Verdict: "maybe"}); err == nil {
		t.Error("an unknown verdict was taken")
	}
	if err := k.W.DecidePost(ctx, mod, id, api.Verdict{Verdict: "approve"}); err != nil {
		t.Fatal(err)
	}
	if err := k.W.DecidePost(ctx, mod, id, api.Verdict{Verdict: "approve"}); err == nil {
		t.Error("approved twice")
	} else if kind, _ := kindOf(t, err); kind != workspace.Conflict {
		t.Error(err)
	}
	if sent := k.Queued(t)["unproven"]; len(sent) != 2 || slices.Contains(sent, kit.Moderator) {
		t.Errorf("approved, it goes to %v; the moderator wants none", sent)
	}

	if _, err := k.W.ChangePolicy(ctx, k.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Hold: "everyone"}, 0); err != nil {
		t.Fatal(err)
	}
	if err := post(t, g.Address, kit.Member, true, "held"); err != nil {
		t.Fatal(err)
	}
	waiting, _ = k.W.WaitingPosts(ctx, mod, g.Address, "", 10)
	if err := k.W.DecidePost(ctx, mod, waiting.Items[0].ID, api.Verdict{Verdict: "decline", Reason: "Off topic"}); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t); !slices.Equal(sent["Declined: held"], []string{kit.Member}) || len(sent) != 1 {
		t.Errorf("declined: %v", sent)
	}
}

// A message to two groups of which one refuses is recorded for neither.
func TestAcceptIsAllOrNothing(t *testing.T) {
	open := k.Group(t, "Both Open", func(n *api.NewGroup) { n.Policy = map[string]string{"post": "workspace"} })
	shut := k.Group(t, "Both Shut", func(n *api.NewGroup) { n.Policy = map[string]string{"post": "owners"} })
	var in []workspace.Incoming
	for _, ref := range []string{open.Address, shut.Address} {
		target, err := k.W.Target(ctx, kit.Address(t, ref))
		if err != nil {
			t.Fatal(err)
		}
		in = append(in, workspace.Incoming{Target: target, Author: kit.Address(t, kit.Colleague), Proven: true, MessageID: "<both@x>", Subject: "both", Raw: []byte("\r\n")})
	}
	if err := k.W.Accept(ctx, in); err == nil {
		t.Error("accepted")
	}
	if sent := k.Queued(t); len(sent) != 0 {
		t.Errorf("queued: %v", sent)
	}
}

func TestWriteToTheOwners(t *testing.T) {
	g := k.Group(t, "Asked", func(n *api.NewGroup) { n.Policy = map[string]string{"write_owners": "anyone"} })
	if err := post(t, "asked-owners@merrowline.example", "stranger@elsewhere.example", false, "question"); err != nil {
		t.Fatal(err)
	}
	waiting, _ := k.W.WaitingPosts(ctx, k.Actor(t, kit.Owner), g.Address, "", 10)
	if len(waiting.Items) != 1 {
		t.Fatalf("an outsider's question: %+v", waiting)
	}
	if err := k.W.DecidePost(ctx, k.Actor(t, kit.Owner), waiting.Items[0].ID, api.Verdict{Verdict: "approve"}); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t)["question"]; !slices.Equal(sent, []string{kit.Owner}) {
		t.Errorf("approved, it goes to %v", sent)
	}
	if err := post(t, "asked-owners@merrowline.example", kit.Colleague, true, "from a colleague"); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t)["from a colleague"]; !slices.Equal(sent, []string{kit.Owner}) {
		t.Errorf("went to %v", sent)
	}
}
