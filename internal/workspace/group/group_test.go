package group_test

import (
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/group"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

func TestCreateGroup(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Slipway Repairs", func(n *api.NewGroup) {
		n.Externals, n.Description = "owners", "Boats on the slip"
		n.People = append(n.People, api.NewPerson{Address: "Pilot@Gannetport.example"})
	})
	if g.Address != "slipway-repairs@merrowline.example" || g.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 2, External: 1, People: 4}) {
		t.Errorf("made %s with %+v", g.Address, g.Counts)
	}
	if g.MyRole != "none" {
		t.Errorf("the administrator was left in it as %s", g.MyRole)
	}
	page, err := k.Group.List(ctx, ines, group.Query{Q: "slip rep", Limit: 10})
	if err != nil || len(page.Items) != 1 || page.Items[0].ID != g.ID {
		t.Errorf("not in the list at once: %+v, %v", page, err)
	}
	h, err := k.History.List(ctx, ines, g.Address, "", "", 10)
	if err != nil || len(h.Items) != 2 || h.Items[1].Kind != "group.create" || h.Items[1].Actor.Address != kit.Administrator || h.Items[0].Kind != "people.add" || kit.First(k.History.Affected(ctx, ines, h.Items[0].ID, "", 50)).Total != 4 {
		t.Errorf("history: %+v, %v", h, err)
	}
}

func TestCreateGroupRefuses(t *testing.T) {
	k.Make(t, "Taken Already")
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
		{"an unknown value", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=everybody") }, workspace.Invalid, `policy.post: Post can't be "everybody". Choose nobody, owners`},
		{"a contradiction", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("read=anyone") }, workspace.Invalid, "read: Anyone may read the archive, but only people of the workspace can find the group."},
		{"a language nobody writes", func(n *api.NewGroup) { n.Language = "tlh" }, workspace.Invalid, "language: Notices are written in: de, en."},
	} {
		n := good()
		c.with(&n)
		_, err := k.Group.Create(ctx, ines, n)
		if err == nil {
			t.Errorf("%s: was made", c.name)
			continue
		}
		if kind, says := kit.KindOf(t, err); kind != c.kind || !strings.Contains(says, c.says) {
			t.Errorf("%s: kind %d, %q; want %d, %q", c.name, kind, says, c.kind, c.says)
		}
	}
	p, err := k.Group.List(ctx, ines, group.Query{Q: "never", Limit: 10})
	if err != nil || p.Total != 0 {
		t.Errorf("something half-done is left: %+v, %v", p.Items, err)
	}
	if _, err := k.Read().PersonByKey("pilot2@gannetport.example"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an outsider of a refused group is left: %v", err)
	}
}

func TestIdempotencyKey(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	n := api.NewGroup{Name: "Once Only", Owners: []string{kit.Owner}}
	first, err := k.Group.Create(ctx, kit.Keyed(ines, "key-1"), n)
	if err != nil {
		t.Fatal(err)
	}
	again, err := k.Group.Create(ctx, kit.Keyed(ines, "key-1"), n)
	if err != nil || again.ID != first.ID {
		t.Errorf("a repeat made %s, %v", again.ID, err)
	}
	n.Name = "Another"
	if _, err := k.Group.Create(ctx, kit.Keyed(ines, "key-1"), n); err == nil {
		t.Error("the key served for another request")
	} else if kind, _ := kit.KindOf(t, err); kind != workspace.Conflict {
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
			_, err := k.Group.Create(ctx, ines, api.NewGroup{Name: "Contested", Owners: []string{kit.Owner}})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				made++
			} else if kind, says := kit.KindOf(t, err); kind != workspace.Conflict || !strings.Contains(says, "belongs to the group Contested") {
				t.Errorf("kind %d: %s", kind, says)
			}
		})
	}
	all.Wait()
	if made != 1 {
		t.Errorf("%d were made", made)
	}
}

// A client that repeats a request while the first is under way gets the one group.
func TestRepeatsAtOnceMakeOneGroup(t *testing.T) {
	by := kit.Keyed(k.Actor(t, kit.Administrator), "at-once")
	var all sync.WaitGroup
	ids := make(chan string, 150)
	for i := range cap(ids) {
		all.Go(func() {
			time.Sleep(time.Duration(i) * 100 * time.Microsecond) // some come as the first is being made
			g, err := k.Group.Create(ctx, by, api.NewGroup{Name: "Asked Often", Owners: []string{kit.Owner}, Quiet: true})
			if err != nil {
				t.Error(err)
			}
			ids <- g.ID
		})
	}
	all.Wait()
	close(ids)
	first := <-ids
	for id := range ids {
		if id != first {
			t.Errorf("one got %s, another %s", first, id)
		}
	}
}

// Words and beginnings that are kept bind every address of a group, by whichever way it
// gets it; what it has stays.
func TestReservedWordsBindAliasesAndMoves(t *testing.T) {
	before := k.Make(t, "Kept Before", func(n *api.NewGroup) { n.Aliases = []string{"payroll-before"} })
	g := k.Make(t, "Moving House")
	k.SetNaming(t, api.Naming{Creators: "administrators", Words: []string{"payroll"}, Beginnings: []string{"official"}})
	change := func(by, ref string, p api.GroupPatch) error {
		return kit.Last(k.Group.Change(ctx, k.Actor(t, by), ref, p, 0))
	}
	for _, local := range []string{"night-payroll", "official-crew", "Payroll", "p0stmaster", "no_reply", "deck_owners", "admin", "Administrator", "ssladmin", "info", "supp0rt"} {
		aliases := []string{local}
		for what, p := range map[string]api.GroupPatch{"move": {Address: &local}, "alias": {Aliases: &aliases}} {
			if kind, says := kit.KindOf(t, change(kit.Owner, g.Address, p)); kind != workspace.Invalid || !strings.Contains(says, "reserved") && !strings.Contains(says, "kept for official") && !strings.Contains(says, "is not available") {
				t.Errorf("%s to %s: %v %s", what, local, kind, says)
			}
		}
	}
	kept := []string{"payroll-before@merrowline.example", "more-before"}
	if err := change(kit.Owner, before.Address, api.GroupPatch{Aliases: &kept}); err != nil {
		t.Errorf("an alias that was there is lost: %v", err)
	}
	info := []string{"info"}
	if err := change(kit.Administrator, g.Address, api.GroupPatch{Aliases: &info}); err != nil {
		t.Errorf("an administrator is bound by what authorities and RFC 2142 know: %v", err)
	}
	to := "payroll-run"
	if err := change(kit.Administrator, g.Address, api.GroupPatch{Address: &to}); err != nil {
		t.Errorf("an administrator is bound: %v", err)
	}
}
