package e2e

import (
	"encoding/csv"
	"strconv"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
)

// directory finds a set of groups, exports it, changes it as one and undoes that; then somebody
// moves to other groups.
func directory(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups?filter=owners%20eq%200", "number of owners")
	ines.do(ines.See("Web Page"), ines.Gone("All Staff"))
	code, out := p.cli(demo.Administrator, "group", "export", "--without-owner")
	filtered := strings.Split(strings.TrimSpace(out), "\n")
	if code != 0 || !strings.Contains(out, "Web Page") {
		t.Fatalf("%d, %s", code, out)
	}
	page, err := c.Groups(ctx, client.GroupList{Filter: "owners eq 0", Paging: client.Paging{Limit: 50}})
	if err != nil || int(page.Total) != len(filtered)-1 {
		t.Errorf("%d lines are exported of %d groups, %v", len(filtered)-1, page.Total, err)
	}
	if rows, err := csv.NewReader(strings.NewReader(strings.Join(filtered, "\n"))).ReadAll(); err != nil || len(rows[0]) < 20 {
		t.Errorf("the export: %v", err)
	}
	exported, err := ines.Eval(`fetch('/api/v1/exports/groups?format=jsonl&filter=owners%20eq%200').then(r => r.text()).then(x => { window.exported = x }), 1`)
	if err != nil {
		t.Fatal(exported, err)
	}
	ines.do(ines.Until(`window.exported && window.exported.trim().split('\n').map(JSON.parse).length === ` + strconv.Itoa(len(filtered)-1)))
	ines.open("/groups?filter=owners%20equals%200", "owners") // a filter with a mistake says where
	ines.do(ines.See("eq"))

	// all crews' groups speak German, and then not
	crews := page
	if crews, err = c.Groups(ctx, client.GroupList{Filter: `domain eq "crew.merrowline.example"`, Paging: client.Paging{Limit: 50}}); err != nil {
		t.Fatal(err)
	}
	all := strconv.Itoa(int(crews.Total)) + " groups"
	ines.open("/groups?filter=domain%20eq%20%22crew.merrowline.example%22", all)
	_, err = ines.Eval(`document.querySelector('tbody input[type=checkbox]').click()`)
	ines.do(err, ines.See("1 group picked"), ines.Press("Pick all "+strconv.Itoa(int(crews.Total))+" that match"), ines.See("All "+all), ines.Press("More…"), ines.Press("Language of notices…"),
		ines.See("Language of"), ines.Choose("[aria-label='Language of notices']", "de"), ines.See("Notices are written in German"), ines.Press("Change the language of "+all))
	ines.do(ines.See("A change of "+all), ines.Until("location.pathname.startsWith('/changes/')"))
	german := func() int {
		p, err := c.Groups(ctx, client.GroupList{Filter: `language eq "de" and domain eq "crew.merrowline.example"`, Paging: client.Paging{Limit: 1}})
		if err != nil {
			t.Fatal(err)
		}
		return int(p.Total)
	}
	wait(t, "all of them are changed", func() bool { return german() == int(crews.Total) })
	changes, err := c.Changes(ctx, client.Paging{Limit: 1})
	if err != nil || len(changes.Items) != 1 || changes.Items[0].Changed != int(crews.Total) {
		t.Fatalf("%+v, %v", changes, err)
	}
	p.must(demo.Administrator, "notices are written in German", "change", "list")
	p.must(demo.Administrator, "undone", "change", "undo", changes.Items[0].ID)
	wait(t, "all of them are as before", func() bool { return german() == 0 })

	// somebody moves
	const who = "rurik.gale@merrowline.example"
	p.must(demo.Administrator, "comes into", "person", "move", who, "--join", "choir@merrowline.example", "--until", "2027-12-31", "--preview")
	if before, err := c.Person(ctx, who); err != nil || inGroup(before, "choir@merrowline.example") {
		t.Fatalf("a look moves somebody: %v", err)
	}
	p.must(demo.Administrator, "comes into", "person", "move", who, "--join", "choir@merrowline.example", "--until", "2027-12-31")
	ines.open("/people/"+who, "Choir")
	ines.do(ines.See("31 Dec 2027"), ines.Press("Change their groups…"), ines.See("Go out of"))
	_, err = ines.Eval(`[...document.querySelectorAll('label')].find(l => l.innerText.trim() === 'Choir').querySelector('input').click()`)
	ines.do(err, ines.See("goes out of 1"), ines.Press("Change 1 group"))
	wait(t, "they are out of it", func() bool {
		now, err := c.Person(ctx, who)
		return err == nil && !inGroup(now, "choir@merrowline.example")
	})
}

func inGroup(p api.PersonDetails, address string) bool {
	for _, g := range p.Groups {
		if g.Address == address {
			return true
		}
	}
	return false
}
