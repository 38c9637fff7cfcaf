package bulk_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/member"
)

// outside lists the external members of groups with all that is kept of them.
func outside(t *testing.T, all []api.Group) string {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	var out []string
	for _, g := range all {
		x, err := k.External.List(ctx, ines, external.Query{Group: g.Address, Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		in, err := k.Members(ines, g.Address, member.Query{Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		role := map[string]string{}
		for _, m := range in.Items {
			role[m.Address] = m.Role + " " + m.Delivery
		}
		for _, e := range x.Items {
			b, err := json.Marshal([]any{g.Address, e.Person.Address, e.Voucher, e.Reason, e.Until, role[e.Person.Address]})
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, string(b))
		}
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// The external members of many groups are taken out, prolonged or vouched for at once, and it is as before when that is undone.
func TestExternalMembersOfMany(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Foreign", 6, func(i int, n *api.NewGroup) {
		n.Owners = []string{kit.Owner}
		n.PolicyPatch.Set("externals", "adders")
		if i < 4 {
			n.People = []api.NewPerson{{Address: fmt.Sprintf("agent-%d@port.example", i)}, {Address: "pilot@deep.port.example"}, {Address: "clerk@fuel.example"}}
		}
	})
	if _, err := k.Member.ChangeOne(ctx, ines, all[0].Address, "clerk@fuel.example", api.MemberPatch{Delivery: "none", Until: k.Now().AddDate(0, 2, 0).Format("2006-01-02")}, 0); err != nil {
		t.Fatal(err)
	}
	before := outside(t, all)
	k.Letters(t)
	day := k.Now().AddDate(0, 6, 0).Format("2006-01-02")
	reason := "The new contract"
	for name, c := range map[string]struct {
		n             api.ExternalsChange
		changed, left int
	}{
		"taken out":           {api.ExternalsChange{Remove: true}, 4, 0},
		"those of one domain": {api.ExternalsChange{Remove: true, Domain: "@Port.example"}, 4, 4},
		"until a day":         {api.ExternalsChange{Until: day}, 4, 12},
		"without an end":      {api.ExternalsChange{Until: "none"}, 1, 12},
		"by somebody else":    {api.ExternalsChange{Voucher: kit.Colleague}, 4, 12},
		"of those unvouched":  {api.ExternalsChange{Voucher: kit.Owner, Alone: true}, 0, 12},
		"vouched for":         {api.ExternalsChange{Voucher: kit.Colleague, Reason: &reason}, 4, 12},
	} {
		b := change(t, ines, api.NewBulk{List: named("Foreign"), Externals: &c.n})
		if b.Changed != c.changed || b.Same != 6-c.changed || b.Refused != 0 || b.Kind != "externals" || b.MayUndo != (c.changed > 0) {
			t.Errorf("%s: %+v", name, b)
		}
		now := outside(t, all)
		if n := len(strings.Fields(strings.ReplaceAll(now, " ", ""))); n != c.left || (now == before) != (c.changed == 0) {
			t.Errorf("%s: there are %d\n%s", name, n, now)
		}
		if again := change(t, ines, api.NewBulk{List: named("Foreign"), Externals: &c.n}); again.Changed != 0 || again.Same != 6 {
			t.Errorf("%s twice: %+v", name, again)
		}
		told := k.Queued(t)
		if to := told["You answer for the external members of 4 groups"]; (c.n.Voucher == kit.Colleague) != (len(to) == 1) {
			t.Errorf("%s: %v", name, told)
		}
		k.Letters(t)
		if c.changed == 0 {
			continue
		}
		if u := undone(t, ines, b); u.Changed != c.changed || u.Refused != 0 {
			t.Errorf("%s is undone: %+v", name, u)
		}
		if now := outside(t, all); now != before {
			t.Errorf("%s: undone there is\n%s\nnot\n%s", name, now, before)
		}
		if l := k.Letters(t); len(l) != 0 {
			t.Errorf("%s: undoing it writes %+v", name, l)
		}
	}
}

// What was decided since stands against undoing, and what is wrong is refused.
func TestExternalMembersOfManyAreRefused(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Abroad", 3, func(i int, n *api.NewGroup) {
		n.PolicyPatch.Set("externals", "adders")
		n.People = []api.NewPerson{{Address: "agent@port.example"}}
	})
	for _, bad := range []api.ExternalsChange{{}, {Remove: true, Until: "none"}, {Until: "yesterday"}, {Until: "2020-01-01"}, {Voucher: "nobody@" + kit.Domain}, {Voucher: "agent@port.example"}, {Remove: true, Domain: "no domain%"}} {
		if _, err := k.Bulk.Begin(ctx, ines, api.NewBulk{List: named("Abroad"), Externals: &bad}); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if _, err := k.Bulk.Begin(ctx, k.Actor(t, kit.Owner), api.NewBulk{List: named("Abroad"), Externals: &api.ExternalsChange{Remove: true}}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an owner: %v", err)
	}
	b := change(t, ines, api.NewBulk{List: named("Abroad"), Externals: &api.ExternalsChange{Remove: true}})
	if _, err := k.Reach.ChangePolicy(ctx, ines, all[0].Address, kit.Policy("externals=barred"), 0); err != nil {
		t.Fatal(err)
	}
	if err := k.Rules.SetOverride(ctx, ines, all[1].Address, "agent@port.example", api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	if u := undone(t, ines, b); u.Changed != 1 || u.Refused != 2 {
		t.Errorf("%+v", u)
	}
	if got := outside(t, all); strings.Count(got, "\n") != 0 || !strings.Contains(got, all[2].Address) {
		t.Errorf("there are\n%s", got)
	}
}
