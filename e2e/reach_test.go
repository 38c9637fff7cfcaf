package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
)

// reach asks who may do what in both directions, moves a mark on the rings by keyboard, takes the change
// back from the history, and sets a ceiling and lifts it.
func reach(t *testing.T, p *place, ines *tab, c *client.Client) {
	const board, day = "safety-board@merrowline.example", "day-dispatch@merrowline.example"
	p.must(demo.Administrator, "Its members may write to this group.", "who-may", "post", board)
	p.must(demo.Administrator, "safety-board@merrowline.example,active,none", "person", "abilities", demo.Member, "--every-group", "--output", "csv")
	may, err := c.Permitted(ctx, day, client.Asked{Action: "see_people", Draft: "see_people=workspace"}, client.Paging{Limit: 200})
	if err != nil || may.Total < 100 || may.Items[0].Was != "refuse" || may.Items[0].Outcome != "allow" {
		t.Errorf("%d gain, %v", may.Total, err)
	}
	d, err := c.Rehearse(ctx, api.Rehearsal{Action: "join", Group: board, Role: "colleague"})
	if err != nil || d.Outcome != "refuse" || d.Rule != "find" {
		t.Errorf("a colleague joins the safety board: %+v, %v", d, err)
	}

	ines.open("/groups/"+day+"/reach", "How far it reaches")
	_, err = ines.Eval(`document.querySelector('[role=slider][aria-label="Who can see who is in it"]').focus()`)
	ines.do(err, ines.Key(kb.ArrowUp), ines.See("A draft, not saved yet"), ines.See("can see who is in it from now on."), ines.See("Such as "), ines.See("(was: its members)"),
		ines.Until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Save this reach' && !b.disabled)`), ines.Press("Save this reach"), ines.Gone("A draft, not saved yet"))
	p.must(demo.Administrator, "workspace", "policy", "show", day)
	ines.open("/groups/"+day+"/history", "changed who may do what with Day Dispatch")
	_, err = ines.Eval(`document.querySelector('[aria-label^="More about: "][aria-label*="changed who may do what"]').click()`)
	ines.do(err, ines.See("Undo…"), ines.Press("Undo…"), ines.See("Undo it"), ines.Press("Undo it"), ines.See("Undone"))
	if g, err := c.Group(ctx, day); err != nil || g.Policy.SeePeople != "members" {
		t.Errorf("changed back: %+v, %v", g.Policy, err)
	}

	// the ceiling of the sample is at the choices, and refuses by every way
	const why = "Who is in a group is nothing for the internet."
	ines.open("/groups/"+day+"/reach", "How far it reaches")
	ines.do(ines.Until(`document.querySelector('select[aria-label="Who can see who is in it"] option[value=anyone]').disabled`))
	if code, out := p.cli(demo.Administrator, "policy", "change", day, "find=anyone", "see_people=anyone"); code != 1 || !strings.Contains(out, why) {
		t.Errorf("above the ceiling: %d, %s", code, out)
	}
	p.must(demo.Administrator, "above the new ceilings", "ceiling", "set", "find", "members", "--filter", `domain eq "crew.merrowline.example"`, "--preview")
	ines.open("/rules", why)
	p.must(demo.Administrator, "The ceilings are set", "ceiling", "lift", "see_people")
	ines.open("/rules", "Ceilings")
	ines.do(ines.Gone(why))
}
