package member_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

func TestMembersAreFilteredAndExported(t *testing.T) {
	oda := k.Actor(t, kit.Owner)
	g := k.Staffed(t, "Filtered")
	inner := k.Make(t, "Filtered Inner")
	if _, err := k.Member.Add(ctx, oda, g.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: "=cmd@gannetport.example"}, {Address: inner.Address}, {Address: kit.Colleague}}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Member.ChangeOne(ctx, oda, g.Address, kit.Colleague, api.MemberPatch{Delivery: "none"}, 0); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		l    member.Query
		want int64
	}{
		{member.Query{}, 6}, {member.Query{Role: "owner"}, 1}, {member.Query{Kind: "external"}, 1}, {member.Query{Kind: "group"}, 1}, {member.Query{Kind: "person"}, 4},
		{member.Query{Delivery: "none"}, 1}, {member.Query{Delivery: "each"}, 5}, {member.Query{Q: "petr va"}, 1}, {member.Query{Kind: "departed"}, 0},
		{member.Query{Way: "hand"}, 6}, {member.Query{Way: "rule"}, 0}, {member.Query{Since: "2026-01-01"}, 6}, {member.Query{Since: "2030-01-01"}, 0}, {member.Query{Q: "tove", Role: "owner"}, 0},
	} {
		c.l.Limit = 50
		if p, err := k.Members(oda, g.Address, c.l); err != nil || p.Total != c.want || int64(len(p.Items)) != c.want {
			t.Errorf("%+v: %d, %v; want %d", c.l, p.Total, err, c.want)
		}
	}
	for _, l := range []member.Query{{Role: "king"}, {Delivery: "x"}, {Kind: "x"}, {Way: "x"}, {Since: "yesterday"}} {
		if kind, _ := kit.KindOf(t, kit.Last(k.Members(oda, g.Address, l))); kind != workspace.Invalid {
			t.Errorf("%+v was taken", l)
		}
	}
	var b bytes.Buffer
	if err := k.Member.Export(ctx, oda, g.Address, member.Query{}, func(name string) io.Writer {
		if name != "filtered.csv" {
			t.Errorf("named %s", name)
		}
		return &b
	}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != 7 || !slices.Equal(rows[0], member.Columns) || rows[1][1] != kit.Owner {
		t.Errorf("%v, %v", rows, err)
	}
	begun := false
	if err := k.Member.Export(ctx, k.Actor(t, kit.Colleague), k.Make(t, "Not Exported").Address, member.Query{}, func(string) io.Writer { begun = true; return io.Discard }); err == nil || begun {
		t.Error("a colleague exports who is in a group that does not show it")
	}
}

func TestLoopsAreRefusedWithTheirPath(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	made := []api.Group{k.Make(t, "Deep 0")}
	for i := 1; i < 8; i++ {
		g := k.Make(t, fmt.Sprintf("Deep %d", i))
		if r, err := k.Member.Add(ctx, ines, made[i-1].Address, api.NewMembers{People: []api.NewPerson{{Address: g.Address}}}, 0); err != nil || r.Added != 1 {
			t.Fatalf("%+v, %v", r, err)
		}
		made = append(made, g)
	}
	r, err := k.Member.Add(ctx, ines, made[3].Address, api.NewMembers{People: []api.NewPerson{{Address: made[0].Address}, {Address: made[3].Address}}}, 0)
	if err != nil || !strings.Contains(r.Results[0].Says, "Deep 0 › Deep 1 › Deep 2 › Deep 3") || !strings.Contains(r.Results[1].Says, "in itself") {
		t.Errorf("%+v, %v", r, err)
	}
	ninth := k.Make(t, "Deep 8")
	for _, c := range [][2]string{{made[7].Address, ninth.Address}, {ninth.Address, made[0].Address}} {
		if r, _ := k.Member.Add(ctx, ines, c[0], api.NewMembers{People: []api.NewPerson{{Address: c[1]}}}, 0); r.Added != 0 || !strings.Contains(r.Results[0].Says, "8 deep at most") {
			t.Errorf("%s in %s: %+v", c[1], c[0], r)
		}
	}
	n, err := k.Member.Nesting(ctx, ines, made[3].Address)
	if err != nil || len(n.Groups) != 8 || len(n.Edges) != 7 || n.Groups[0].Depth != -3 || n.Groups[7].Depth != 4 {
		t.Errorf("%+v, %v", n, err)
	}
	p, err := k.Member.EffectiveMembers(ctx, ines, made[0].Address, "tove", "", 10)
	if err != nil || p.Total != 1 || len(p.Items[0].Through) != 8 || p.Items[0].Role != "member" {
		t.Errorf("%+v, %v", p, err)
	}
	k.Queued(t)
	if err := k.Send(t, made[0].Address, kit.Member, true, "to all of them"); err != nil {
		t.Fatal(err)
	}
	if to := k.Queued(t)["to all of them"]; len(to) != 3 {
		t.Errorf("goes to %v", to)
	}
	if _, err := k.Life.Retire(ctx, ines, made[4].Address, 0); err != nil {
		t.Fatal(err)
	}
	if n, _ := k.Member.Nesting(ctx, ines, made[3].Address); len(n.Groups) != 4 {
		t.Errorf("a group that has ended is drawn: %+v", n.Groups)
	}
}
