package e2e

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace/account"
)

// long is how large the workspace of this test is: large enough that no list fits
// into one page.
var long = demo.Size{People: 2500, Groups: 1500, Memberships: 15_000}

// scroll scrolls a list to its end, page by page, and returns how many milliseconds
// a frame took, on the mean, and how many rows the page held at most.
const scroll = `(window.scrolled = null, (async () => {
	const box = document.querySelector('table.even').closest('[role=region]'); let frames = 0, most = 0, still = 0, last = -1; const began = performance.now();
	while (still < 60 && frames < 20000) {
		box.scrollTop += 1600; await new Promise(requestAnimationFrame); frames++;
		most = Math.max(most, document.querySelectorAll('tbody tr').length);
		still = box.scrollTop === last ? still + 1 : 0; last = box.scrollTop;
	}
	window.scrolled = [(performance.now() - began) / frames, most, frames].join(' ');
})(), 1)`

// Long lists are scrolled to their end, search finds what stands there, and the page
// never holds more than a screenful of rows.
func TestLongLists(t *testing.T) {
	dsn, err := dbtest.Schema(os.Getenv(dbtest.Env), "ivytable_long")
	if err != nil {
		t.Fatal(err)
	}
	pool, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	admin, err := demo.Large(ctx, pool, long, time.Now().UTC())
	if err != nil {
		t.Fatal(err)
	}
	all, err := pool.Reads(ctx).People(store.PeopleQuery{Limit: long.People})
	if err != nil {
		t.Fatal(err)
	}
	var big store.Group
	if err := pool.Transact(ctx, false, func(tx *store.Tx) error {
		p, err := tx.LockPerson(admin.ID)
		if err != nil {
			return err
		}
		p.PasswordHash = account.HashPassword(demo.Password)
		if err := tx.SavePerson(&p, false); err != nil {
			return err
		}
		page, err := tx.Groups(store.GroupQuery{Sort: store.ByPeople, Limit: 1})
		if err != nil {
			return err
		}
		if big, err = tx.LockGroup(page.Items[0].ID); err != nil {
			return err
		}
		was := big
		in, err := tx.MembersByRule(big.ID)
		if err != nil {
			return err
		}
		var rows []store.Membership
		for _, p := range all.Items {
			if _, is := in[p.ID]; !is {
				rows = append(rows, store.Membership{GroupID: big.ID, MemberID: p.ID, Kind: store.KindPerson, Role: expand.Member, Mail: true, AddedAt: time.Now().UTC()})
			}
		}
		big.Members += len(rows)
		if err := tx.AddMemberships(rows); err != nil {
			return err
		}
		return tx.SaveGroup(&big, was)
	}); err != nil {
		t.Fatal(err)
	}

	p := newPlace(t)
	start(t, append(p.env(), "IVYTABLE_DSN="+dsn, "IVYTABLE_RELAY="+p.sink), "serve")
	b := p.browse(admin.Address)
	end := func(path, see string, want int) {
		t.Helper()
		b.open(path, see)
		b.do(b.Until("document.querySelector('table.even')"))
		if _, err := b.Eval(scroll); err != nil {
			t.Fatal(err)
		}
		wait(t, path+" is scrolled to its end", func() bool { done, _ := b.Eval("window.scrolled !== null"); return done == "true" })
		got, err := b.Eval("window.scrolled")
		if err != nil {
			t.Fatal(err)
		}
		f := strings.Fields(got)
		if most, _ := strconv.Atoi(f[1]); most > 80 || most < 10 {
			t.Errorf("%s: %d rows on the page", path, most)
		}
		if rows, _ := b.Eval("document.querySelector('table').getAttribute('aria-rowcount')"); rows != fmt.Sprint(want) {
			t.Errorf("%s: %s rows at its end; want %d", path, rows, want)
		}
		t.Logf("%s: %s ms a frame, at most %s rows on the page, %s frames", path, f[0], f[1], f[2])
	}
	end("/groups", "group-", long.Groups)
	end("/people", "person-", len(all.Items))
	end("/groups/"+big.Address+"/people", "Add people", len(all.Items))
	last := fmt.Sprintf("group-%05d@", long.Groups-1)
	b.open("/groups", "group-")
	b.do(b.Fill("main [type=search]", strings.TrimSuffix(last, "@")), b.See(last), b.See("1 group"))
	b.open("/people", "person-")
	b.do(b.Fill("main [type=search]", fmt.Sprintf("person %06d", long.People-1)), b.See("1 person"))
	b.open("/groups/"+big.Address+"/people", "Add people")
	b.do(b.Fill("main [type=search]", fmt.Sprintf("%06d", long.People-1)), b.See("1 match"))
}
