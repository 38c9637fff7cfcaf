package external_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/member"
)

const guest = "berth@gannetport.example"

func taking(t *testing.T, k *kit.Kit, name string) api.Group {
	t.Helper()
	return k.Make(t, name, func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("externals=adders add_people=members leave=free") })
}

func add(t *testing.T, k *kit.Kit, by workspace.Actor, ref, address string, change ...func(*api.NewMembers)) api.Line {
	t.Helper()
	n := api.NewMembers{People: []api.NewPerson{{Address: address}}}
	for _, c := range change {
		c(&n)
	}
	all, err := k.Member.Add(ctx, by, ref, n, 0)
	if err != nil {
		t.Fatal(err)
	}
	return all.Results[0]
}

func list(t *testing.T, k *kit.Kit, by workspace.Actor, q external.Query) []api.External {
	t.Helper()
	q.Limit = 100
	p, err := k.External.List(ctx, by, q)
	if err != nil || int64(len(p.Items)) != p.Total {
		t.Fatalf("%+v, %v", p, err)
	}
	return p.Items
}

func rules(t *testing.T, k *kit.Kit, change func(*api.ExternalRules)) {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	r, err := k.External.Rules(ctx, ines)
	if err != nil {
		t.Fatal(err)
	}
	change(&r)
	if _, err := k.External.SetRules(ctx, ines, r, r.Version); err != nil {
		t.Fatal(err)
	}
}

// What the workspace says of external members holds by whichever way they come.
func TestTheWorkspaceSaysWhoIsTaken(t *testing.T) {
	l := k.Fresh(t, "external_rules")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	g := taking(t, l, "Liaison")
	secrets := map[string]string{}
	for _, who := range []string{"a@lucky-draw.example", "b@post.lucky-draw.example", "c@gannetport.example"} {
		l.Letters(t)
		add(t, l, oda, g.Address, who, func(n *api.NewMembers) { n.Way = "invite" })
		_, rest, _ := strings.Cut(l.Letters(t)[0].Text, "/invitations/")
		secrets[who] = rest[:32]
	}
	for _, c := range []struct {
		change  func(*api.ExternalRules)
		refused []string
	}{
		{func(r *api.ExternalRules) { r.Not = []string{"lucky-draw.example"} }, []string{"a@lucky-draw.example", "b@post.lucky-draw.example"}},
		{func(r *api.ExternalRules) { r.Not, r.Only = nil, []string{"@Northness.example"} }, []string{"a@lucky-draw.example", "c@gannetport.example"}},
		{func(r *api.ExternalRules) { r.Only, r.Allowed = nil, false }, []string{"a@lucky-draw.example", "c@gannetport.example"}},
	} {
		rules(t, l, c.change)
		for _, who := range c.refused {
			for _, way := range []string{"direct", "invite"} {
				if r := add(t, l, ines, g.Address, who, func(n *api.NewMembers) { n.Way = way }); r.Outcome != "refused" || r.Status != "external" {
					t.Errorf("%s by %s: %+v", who, way, r)
				}
			}
			if _, err := l.Group.Create(ctx, ines, api.NewGroup{Name: "New " + who[:1], Owners: []string{kit.Owner}, People: []api.NewPerson{{Address: who}}, PolicyPatch: kit.Policy("externals=adders")}); err == nil {
				t.Errorf("%s came into a new group", who)
			}
			if _, err := l.Joining.Answer(ctx, workspace.Actor{}, secrets[who], api.Answer{Answer: "accept"}); err == nil {
				t.Errorf("%s came by an invitation of before", who)
			}
			d, err := l.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "invite", Group: g.Address, As: who})
			if err == nil && d.Outcome == "allow" {
				t.Errorf("rehearsed: %+v", d)
			}
		}
	}
	if got := list(t, l, ines, external.Query{}); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	for field, bad := range map[string]api.ExternalRules{
		"only_domains[0]":    {Only: []string{"no domain"}},
		"refused_domains[0]": {Not: []string{"merrowline.example"}},
		"refused_domains":    {Not: []string{"a.example"}, Only: []string{"a.example"}},
	} {
		_, err := l.External.SetRules(ctx, ines, bad, 0)
		if e, ok := err.(*workspace.Error); !ok || len(e.Problems) != 1 || e.Problems[0].Field != field {
			t.Errorf("%s: %v", field, err)
		}
	}
}

// Whoever adds somebody external vouches, or whom they name; what was before the rules stays and is found.
func TestVouchers(t *testing.T) {
	l := k.Fresh(t, "external_vouchers")
	ines, oda, tove, petra := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner), l.Actor(t, kit.Member), l.Actor(t, kit.Colleague)
	g := taking(t, l, "Liaison")
	add(t, l, tove, g.Address, guest)
	add(t, l, oda, g.Address, "fuel@tidefuel.example", func(n *api.NewMembers) { n.Voucher, n.Reason = kit.Colleague, "The bunkering" })
	for _, wrong := range []string{guest, kit.Left, "nobody@merrowline.example"} {
		if _, err := l.Member.Add(ctx, oda, g.Address, api.NewMembers{Vouching: api.Vouching{Voucher: wrong}, People: []api.NewPerson{{Address: "x@y.example"}}}, 0); err == nil || !strings.Contains(err.Error(), "here has the address") {
			t.Errorf("%s vouches: %v", wrong, err)
		}
	}
	all := list(t, l, oda, external.Query{})
	if len(all) != 2 || all[0].Person.Address != guest || all[0].Voucher.Address != kit.Member || all[1].Voucher.Address != kit.Colleague || all[1].Reason != "The bunkering" || !all[0].MayChange {
		t.Errorf("%+v", all)
	}
	for by, want := range map[string]int{kit.Administrator: 2, kit.Auditor: 2, kit.Owner: 2, kit.Member: 1, kit.Colleague: 1, kit.Moderator: 0} {
		if got := list(t, l, l.Actor(t, by), external.Query{}); len(got) != want || want == 1 && got[0].MayChange {
			t.Errorf("%s sees %+v", by, got)
		}
	}
	for _, c := range []struct {
		q    external.Query
		want int
	}{
		{external.Query{Domain: "tidefuel.example"}, 1}, {external.Query{Domain: "fuel.example"}, 0}, {external.Query{Voucher: kit.Colleague}, 1}, {external.Query{Q: "berth"}, 1},
		{external.Query{Alone: true}, 0}, {external.Query{Endless: true}, 2}, {external.Query{Days: 30}, 0}, {external.Query{Group: g.Address}, 2}, {external.Query{Refused: true}, 0},
	} {
		if got := list(t, l, ines, c.q); len(got) != c.want {
			t.Errorf("%+v: %+v", c.q, got)
		}
	}
	// the voucher leaves
	l.Letters(t)
	if _, err := l.Directory.Depart(ctx, ines, kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, x := range l.Letters(t) {
		if strings.Contains(x.Text, "vouched for 1 external member") && strings.Contains(x.Text, "fuel@tidefuel.example") {
			told = append(told, x.To...)
		}
	}
	if !slices.Equal(told, []string{kit.Owner}) {
		t.Errorf("told of it: %v", told)
	}
	alone := list(t, l, ines, external.Query{Alone: true})
	if len(alone) != 1 || !alone[0].VoucherLeft {
		t.Fatalf("%+v", alone)
	}
	// many at once: who may, and no others
	ids := []string{all[0].ID, all[1].ID, "nonsense", strings.Replace(all[0].ID, ".", ".0", 1)}
	if done, err := l.External.Change(ctx, tove, api.ExternalsPatch{IDs: ids, Remove: true}); err != nil || done.Decided != 0 {
		t.Errorf("a member: %+v, %v", done, err)
	}
	if done, err := l.External.Change(ctx, petra, api.ExternalsPatch{IDs: ids[:2], Voucher: kit.Member}); err == nil && done.Decided != 0 {
		t.Errorf("who left: %+v", done)
	}
	if done, err := l.External.Change(ctx, oda, api.ExternalsPatch{IDs: ids, Voucher: kit.Member}); err != nil || done.Decided != 2 {
		t.Errorf("%+v, %v", done, err)
	}
	if got := list(t, l, ines, external.Query{Voucher: kit.Member}); len(got) != 2 {
		t.Errorf("%+v", got)
	}
	if letters := l.Letters(t); len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Member}) || !strings.Contains(letters[0].Text, guest) || !strings.Contains(letters[0].Text, "fuel@tidefuel.example") {
		t.Errorf("the voucher has %+v", letters)
	}
	until := l.Now().AddDate(0, 0, 10).Format(time.DateOnly)
	if done, err := l.External.Change(ctx, oda, api.ExternalsPatch{IDs: ids[:1], Until: until}); err != nil || done.Decided != 1 {
		t.Errorf("%+v, %v", done, err)
	}
	if got := list(t, l, oda, external.Query{Days: 10}); len(got) != 1 || got[0].Until != until {
		t.Errorf("%+v", got)
	}
	for _, bad := range []api.ExternalsPatch{{IDs: ids}, {IDs: ids, Remove: true, Until: until}, {IDs: ids, Until: "2020-01-01"}, {IDs: ids, Until: "soon"}, {IDs: ids, Voucher: guest}} {
		if _, err := l.External.Change(ctx, oda, bad); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
	// the end comes: a notice with a link of their own, to the voucher too, then they are out
	l.Move(5)
	l.Letters(t)
	if err := l.Member.Run(ctx); err != nil {
		t.Fatal(err)
	}
	var to []string
	for _, x := range l.Letters(t) {
		to = append(to, x.To...)
		if slices.Contains(x.To, guest) != strings.Contains(x.Text, "/own/") {
			t.Errorf("%v got %s", x.To, x.Text)
		}
	}
	for _, who := range []string{guest, kit.Owner, kit.Member} {
		if !slices.Contains(to, who) {
			t.Errorf("%s was not told of the end: %v", who, to)
		}
	}
	l.Move(6)
	if err := l.Member.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if got := list(t, l, ines, external.Query{}); len(got) != 1 || got[0].Person.Address == guest {
		t.Errorf("%+v", got)
	}
}

// With a bound, they stay so long and no longer, however they come; with a letter first, they come in by
// agreeing.
func TestBoundedAndByLetter(t *testing.T) {
	l := k.Fresh(t, "external_bounds")
	oda := l.Actor(t, kit.Owner)
	g := taking(t, l, "Liaison")
	rules(t, l, func(r *api.ExternalRules) { r.Days = 30 })
	last := l.Now().AddDate(0, 0, 30).Format(time.DateOnly)
	if r := add(t, l, oda, g.Address, guest); r.Outcome != "added" {
		t.Errorf("%+v", r)
	}
	if r := add(t, l, oda, g.Address, "late@gannetport.example", func(n *api.NewMembers) { n.Until = l.Now().AddDate(0, 0, 31).Format(time.DateOnly) }); r.Outcome != "refused" || !strings.Contains(r.Says, last) {
		t.Errorf("%+v", r)
	}
	got := list(t, l, oda, external.Query{})
	if len(got) != 1 || got[0].Until != last {
		t.Fatalf("%+v", got)
	}
	for _, until := range []string{"none", l.Now().AddDate(0, 0, 31).Format(time.DateOnly)} {
		if done, err := l.External.Change(ctx, oda, api.ExternalsPatch{IDs: []string{got[0].ID}, Until: until}); err != nil || done.Decided != 0 {
			t.Errorf("until %s: %+v, %v", until, done, err)
		}
		if _, err := l.Member.ChangeOne(ctx, oda, g.Address, guest, api.MemberPatch{Until: until}, 0); err == nil {
			t.Errorf("until %s as a member", until)
		}
	}
	if _, err := l.Member.ChangeOne(ctx, oda, g.Address, kit.Member, api.MemberPatch{Until: "none"}, 0); err != nil && !strings.Contains(err.Error(), "already") {
		t.Errorf("colleagues are bounded, too: %v", err)
	}
	rules(t, l, func(r *api.ExternalRules) { r.Days, r.Invited = 0, true })
	l.Letters(t)
	r := add(t, l, oda, g.Address, "asked@gannetport.example", func(n *api.NewMembers) { n.Voucher, n.Reason = kit.Moderator, "The pilots" })
	if r.Outcome != "invited" {
		t.Errorf("%+v", r)
	}
	letters := l.Letters(t)
	i := slices.IndexFunc(letters, func(x kit.Letter) bool { return strings.Contains(x.Text, "/invitations/") })
	if len(letters) != 2 || i < 0 || !slices.Equal(letters[1-i].To, []string{kit.Moderator}) {
		t.Fatalf("%+v", letters)
	}
	_, rest, _ := strings.Cut(letters[i].Text, "/invitations/")
	if len(list(t, l, oda, external.Query{})) != 1 {
		t.Error("in before they agreed")
	}
	if _, err := l.Joining.Answer(ctx, workspace.Actor{}, rest[:32], api.Answer{Answer: "accept"}); err != nil {
		t.Fatal(err)
	}
	if got := list(t, l, oda, external.Query{Voucher: kit.Moderator}); len(got) != 1 || got[0].Reason != "The pilots" {
		t.Errorf("%+v", got)
	}
	if letters = l.Letters(t); len(letters) != 1 || !strings.Contains(letters[0].Text, "/own/") {
		t.Errorf("they got %+v", letters)
	}
	other := taking(t, l, "Liaison Too")
	if _, err := l.Member.Move(ctx, l.Actor(t, kit.Administrator), guest, api.Moves{Join: []api.JoinGroup{{Group: other.Address}}}); err != nil {
		t.Fatal(err)
	}
	if got := list(t, l, oda, external.Query{Group: other.Address}); len(got) != 0 {
		t.Errorf("moved in before they agreed: %+v", got)
	}
}

// A link from a letter changes one's own delivery in that group, or leaves it, and nothing else.
func TestOwnPart(t *testing.T) {
	l := k.Fresh(t, "external_own")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	g := taking(t, l, "Liaison")
	link := func() string {
		t.Helper()
		for _, x := range l.Letters(t) {
			if _, rest, found := strings.Cut(x.Text, "/own/"); found {
				return rest[:32]
			}
		}
		t.Fatal("no letter with a link")
		return ""
	}
	add(t, l, oda, g.Address, guest)
	secret := link()
	p, err := l.External.Own(ctx, secret)
	if err != nil || p.State != "in" || p.Delivery != "each" || p.Leaving != "free" || p.Person.Address != guest {
		t.Errorf("%+v, %v", p, err)
	}
	do := func(secret, what string) (api.OwnPart, error) {
		return l.External.ChangeOwn(ctx, workspace.Actor{}, secret, api.OwnChange{Do: what})
	}
	for _, what := range []string{"none", "none", "each"} {
		if p, err = do(secret, what); err != nil || p.Delivery != what {
			t.Errorf("%s: %+v, %v", what, p, err)
		}
	}
	if _, err := l.Reach.ChangePolicy(ctx, ines, g.Address, kit.Policy("leave=fixed"), 0); err != nil {
		t.Fatal(err)
	}
	if p, err = l.External.Own(ctx, secret); err != nil || p.Leaving != "fixed" || p.Says == "" {
		t.Errorf("fixed: %+v, %v", p, err)
	}
	if _, err = do(secret, "leave"); err == nil {
		t.Error("left a group that nobody leaves")
	}
	if _, err := l.Reach.ChangePolicy(ctx, ines, g.Address, kit.Policy("leave=free"), 0); err != nil {
		t.Fatal(err)
	}
	if p, err = do(secret, "leave"); err != nil || p.State != "out" {
		t.Errorf("%+v, %v", p, err)
	}
	for _, s := range []string{secret, "nonsense", strings.Repeat("x", 4000)} {
		if _, err = l.External.Own(ctx, s); !workspace.IsKind(err, workspace.NotFound) {
			t.Errorf("a link of before: %v", err)
		}
		if _, err = do(s, "each"); !workspace.IsKind(err, workspace.NotFound) {
			t.Errorf("a link of before changes: %v", err)
		}
	}
	// back again: the old link stays dead
	add(t, l, oda, g.Address, guest)
	if _, err = do(secret, "none"); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("the link of before works again: %v", err)
	}
	secret = link()
	l.SQL(t, "UPDATE people SET external = FALSE WHERE address = '"+guest+"'")
	if _, err = l.External.Own(ctx, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("of somebody who has an account by now: %v", err)
	}
	l.SQL(t, "UPDATE people SET external = TRUE WHERE address = '"+guest+"'")
	l.Move(401)
	if _, err = l.External.Own(ctx, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("after its time: %v", err)
	}
	var in []string
	m, err := l.Members(ines, g.Address, member.Query{Limit: 50})
	for _, x := range m.Items {
		in = append(in, fmt.Sprint(x.Address, " ", x.Delivery))
	}
	if err != nil || !slices.Contains(in, guest+" each") {
		t.Errorf("%v, %v", in, err)
	}
}
