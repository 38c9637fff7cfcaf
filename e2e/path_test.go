package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/e2e/browser"
	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
)

func httpGet(url string) (*http.Response, error) { return http.Get(url) }

func fetch[T any](t *testing.T, url string) (v T) {
	t.Helper()
	res, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if err := json.NewDecoder(res.Body).Decode(&v); err != nil {
		t.Fatal(err)
	}
	return v
}

// tab is a browser tab in which every step has to do.
type tab struct {
	*browser.Page
	t *testing.T
	p *place
}

func (p *place) browse(as string) *tab {
	p.t.Helper()
	b := p.tab()
	b.do(b.SignIn("http://"+p.http, as, demo.Password))
	return b
}

// tab opens a tab in which nobody is signed in.
func (p *place) tab() *tab {
	p.t.Helper()
	chrome, err := chromium()
	if err != nil {
		p.t.Fatal(err)
	}
	page, err := chrome.Open(1280, 800)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(page.Close)
	return &tab{page, p.t, p}
}

func (b *tab) do(errs ...error) {
	b.t.Helper()
	if err := errors.Join(errs...); err != nil {
		b.t.Fatal(err)
	}
}

func (b *tab) open(path, see string) {
	b.t.Helper()
	b.do(b.Goto("http://"+b.p.http+path), b.See(see))
}

const (
	byConsole = "slipway-repairs@crew.merrowline.example"
	byCommand = "slipway-command@merrowline.example"
	byAPI     = "slipway-api@merrowline.example"
	pilot     = "pilot@gannetport.example"
	stranger  = "stranger@elsewhere.example"
)

// heavy is a message whose body is hard to carry unharmed.
var heavy = []byte("From: Tove Alder <" + demo.Member + ">\r\nTo: " + byConsole + "\r\nSubject: The crane\r\nMessage-ID: <crane@laptop.example>\r\nMIME-Version: 1.0\r\n" +
	"Content-Type: multipart/mixed; boundary=b\r\n\r\n" + heavyBody)

const heavyBody = "--b\r\nContent-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: 8bit\r\n\r\nGr\xfc\xdfe vom Kai\r\n.\r\n..\r\n" +
	"--b\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n=E2=9C=93 done =\r\n soft\r\n" +
	"--b\r\nContent-Type: application/octet-stream\r\nContent-Transfer-Encoding: base64\r\nContent-Disposition: attachment; filename=crane.bin\r\n\r\nAAECAwQFBgc=\r\n--b--\r\n"

// TestDemo walks through a demo, each step by console, by command line and by the
// interface: what owners and administrators do every day with names and people, and the
// path of a group's first days.
func TestDemo(t *testing.T) {
	p := newPlace(t)
	start(t, p.env(), "demo")
	ines, c := p.browse(demo.Administrator), p.api(demo.Administrator)
	t.Run("from a starting point", func(t *testing.T) { createFromAStart(t, p, ines, c) })
	t.Run("lists", func(t *testing.T) { addMany(t, p, ines, c) })
	t.Run("invite", func(t *testing.T) { invite(t, p, ines) })
	t.Run("requests", func(t *testing.T) { requests(t, p) })
	t.Run("rule", func(t *testing.T) { ruleOfMembership(t, p, ines, c) })
	t.Run("names", func(t *testing.T) { names(t, p, ines) })
	t.Run("people", func(t *testing.T) { peopleComeAndGo(t, p, ines, c) })
	t.Run("password", func(t *testing.T) { password(t, p) })
	t.Run("look", func(t *testing.T) { look(t, p, ines, c) })
	t.Run("directory", func(t *testing.T) { directory(t, p, ines, c) })
	t.Run("find", func(t *testing.T) { find(ines) })
	t.Run("create", func(t *testing.T) { create(t, p, ines, c) })
	t.Run("draft", func(t *testing.T) { draft(t, ines, c) })
	t.Run("write", func(t *testing.T) { write(t, p, ines, c) })
	t.Run("stranger", func(t *testing.T) { strangers(t, p, ines, c) })
	t.Run("owner", func(t *testing.T) { owner(t, p) })
	t.Run("reach", func(t *testing.T) { reach(t, p, ines, c) })
	t.Run("sides", func(t *testing.T) { sides(t, p, ines, c) })
	t.Run("outward", func(t *testing.T) { outward(t, p, ines, c) })
	t.Run("term", func(t *testing.T) { term(t, p, ines, c) })
	t.Run("history", func(t *testing.T) { history(t, p, ines, c) })
	t.Run("accessible", func(t *testing.T) { accessible(t, ines) })
}

func look(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups", "All Staff")
	ines.do(ines.See("in 120 days"), ines.Fill("main [type=search]", "night dis"), ines.Gone("All Staff"), ines.See("Night Dispatch"), ines.See("1 group"))
	ines.open("/groups?state=lapsed&state=retired", "Puffin Cruises")
	ines.do(ines.Gone("Night Dispatch"))
	ines.open("/groups", "All Staff")
	fewest, err := c.Groups(ctx, client.GroupList{Sort: "people", Paging: client.Paging{Limit: 1}})
	if err != nil {
		t.Fatal(err)
	}
	sort := func() error {
		_, err := ines.Eval(`[...document.querySelectorAll('thead button')].find(b => b.innerText.startsWith('Reaches')).click()`)
		return err
	}
	ines.do(sort(), ines.Until(`document.querySelector('tbody .name').innerText === '`+fewest.Items[0].Name+`'`),
		sort(), ines.Until(`document.querySelector('tbody .name').innerText === 'All Staff'`))
	p.must(demo.Administrator, "Night Dispatch", "group", "list", "night", "dis")
	seen := map[string]bool{}
	for l := (client.GroupList{Sort: "-people", Paging: client.Paging{Limit: 20}}); ; {
		page, err := c.Groups(ctx, l)
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range page.Items {
			seen[g.ID] = true
		}
		if l.Cursor = page.Next; l.Cursor == "" {
			if int(page.Total) != len(seen) {
				t.Errorf("%d of %d by pages", len(seen), page.Total)
			}
			break
		}
	}
}

// find goes from page to page by the finder, by keyboard alone.
func find(ines *tab) {
	focus := func(css string) error { return ines.Until("document.activeElement.matches('" + css + "')") }
	begin := func(words, see string) error {
		return errors.Join(focus("[role=combobox]"), ines.Key(words), ines.See(see))
	}
	ines.open("/groups", "All Staff")
	ines.do(ines.Slash(), begin("oda fe", "oda.fenn@merrowline.example · "), ines.Key(kb.Enter), ines.See("Entry in the directory"),
		ines.Slash(), begin("night dis", "night-dispatch@merrowline.example · "), ines.Key(kb.Enter), ines.See("In short"),
		ines.Slash(), begin("ways", "Ways in"), ines.Key(kb.Enter), ines.See("Settled about people"),
		ines.Slash(), begin("zzz", "Nothing here begins with “zzz”."), ines.Key(kb.Escape), ines.Gone("zzz"),
		ines.Slash(), begin("create", "Create a group"), ines.Key(kb.Enter), focus("[name=name]"),
		// Where somebody is typing, a slash is a slash.
		ines.Key("a/b"), ines.Until("document.activeElement.value === 'a/b'"), ines.Fill("[name=name]", ""),
		ines.Control("k"), begin("", "My account"), ines.Key(kb.ArrowDown), ines.Key(kb.ArrowDown), ines.Key(kb.ArrowUp),
		ines.Until("document.querySelectorAll('[role=option]')[1].getAttribute('aria-selected') === 'true'"), ines.Key(kb.Escape), focus("[name=name]"))

	// Rows of long lists come in two heights, which are remembered.
	ines.open("/groups", "All Staff")
	ines.do(ines.Press("Compact rows"))
	ines.open("/people", "Aile Alder")
	ines.do(ines.Until(`(box => [...box.querySelectorAll('tbody tr:not(.spacer)')].filter(r => r.getBoundingClientRect().bottom <= box.getBoundingClientRect().bottom).length >= 20)(document.querySelector('[role=region]'))`),
		ines.Press("Roomy rows"))
}

func create(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups/new", "may come in")
	ines.do(ines.Fill("[name=name]", "Night Dispatch"), ines.See("belongs to the group Night Dispatch"), ines.See("taken"),
		ines.Fill("[name=name]", "Abuse"), ines.See("reserved"),
		ines.Fill("[name=name]", "Slipway Repairs"), ines.See("This address is free."),
		ines.Fill("[name=local]", "night.dispatch"), ines.See("too alike"),
		ines.Fill("[name=local]", "slipway-repairs"), ines.See("This address is free."),
		ines.Choose("[name=domain]", "crew.merrowline.example"), ines.Until(`document.querySelector('[data-testid=final-address]').innerText === '`+byConsole+`'`),
		ines.Fill("textarea[name=description]", "Boats on the slip, and the crane."),
		ines.See("Still needs an owner"),
		ines.Fill("#owners input", "oda fe"), ines.Press("Oda Fenn"), ines.Fill("#owners input", "bram to"), ines.Press("Bram Tolley"),
		ines.Fill("#people input", "tove al"), ines.Press("Tove Alder"),
		ines.Fill("#people input", pilot), ines.Press(pilot), ines.See("1 person is external"), ines.Press("Let owners add external members"), ines.Gone("1 person is external"),
		ines.See("Only members read it. Anyone in the workspace may ask to join. Strangers can't write to it."),
		ines.Press("Create and add 4 people"), ines.See("Try it"), ines.See("Slipway Repairs"), ines.See("You are not in it."))
	ines.open("/groups?q=slipway+rep", byConsole)

	p.must(demo.Administrator, byCommand, "group", "create", "Slipway Command", "--owner", demo.Owner, "--member", demo.Member, "--set", "post=workspace")
	p.must(demo.Administrator, "1 of them external", "group", "show", byConsole)
	if code, out := p.cli(demo.Administrator, "group", "create", "Nobody's"); code != 1 || !strings.Contains(out, "at least one owner") {
		t.Errorf("a group without an owner: %d %s", code, out)
	}
	g, err := c.CreateGroup(ctx, api.NewGroup{Name: "Slipway API", Owners: []string{demo.Owner}, People: []api.NewPerson{{Address: demo.Member}}})
	if err != nil || g.Address != byAPI || g.MyRole != "none" {
		t.Errorf("by the interface: %+v, %v", g, err)
	}
	page, err := c.Groups(ctx, client.GroupList{Q: "slipway"})
	if err != nil || page.Total != 4 { // with Slipway Planning of the sample
		t.Errorf("in the list: %d, %v", page.Total, err)
	}
}

// draft changes a group that somebody else changes meanwhile: nothing typed is lost, and
// nothing of theirs is overwritten.
func draft(t *testing.T, ines *tab, c *client.Client) {
	ines.open("/groups/"+byConsole, "In short")
	ines.do(ines.Press("Change"), ines.Fill("textarea[name=description]", "Typed here"))
	theirs := "From somebody else"
	if _, err := c.ChangeGroup(ctx, byConsole, api.GroupPatch{Welcome: &theirs}); err != nil {
		t.Fatal(err)
	}
	is := func(css, value string) error {
		return ines.Until(fmt.Sprintf("document.querySelector(%q).value === %q", css, value))
	}
	ines.do(ines.Press("Save"), ines.See("Somebody changed this meanwhile."), is("textarea[name=description]", "Typed here"), is("textarea[name=welcome]", theirs),
		ines.Press("Go on with mine"), ines.Gone("Somebody changed this meanwhile."), ines.Press("Save"), ines.See("In short"), ines.See("Typed here"))
	if g, err := c.Group(ctx, byConsole); err != nil || g.Description != "Typed here" || g.Welcome != theirs {
		t.Errorf("%+v, %v", g, err)
	}
}

func write(t *testing.T, p *place, ines *tab, c *client.Client) {
	if err := p.send(demo.Member, demo.Member, heavy, byConsole); err != nil {
		t.Fatal(err)
	}
	people := []string{demo.Owner, "bram.tolley@merrowline.example", demo.Member, pilot}
	wait(t, "the message arrived", func() bool {
		for _, a := range people {
			if len(p.letters(a, "The crane")) == 0 {
				return false
			}
		}
		return true
	})
	for _, a := range people {
		l := p.letters(a, "The crane")
		if len(l) != 1 || l[0].From != "Tove Alder <"+demo.Member+">" || l[0].MessageID != "<crane@laptop.example>" {
			t.Errorf("%s has %+v", a, l)
			continue
		}
		head, body, _ := bytes.Cut(p.raw(a, l[0].N), []byte("\r\n\r\n"))
		if string(body) != heavyBody {
			t.Errorf("%s got another body: %q", a, body)
		}
		for _, field := range []string{"List-Id: \"Slipway Repairs\" <slipway-repairs.crew.merrowline.example>", "List-Post: <mailto:" + byConsole + ">"} {
			if !strings.Contains(string(head), field+"\r\n") {
				t.Errorf("%s: no %s in\n%s", a, field, head)
			}
		}
	}

	unproven := bytes.Replace(heavy, []byte("The crane"), []byte("Unproven"), 1)
	if err := p.send("", demo.Member, unproven, byConsole); err != nil {
		t.Fatal(err)
	}
	ines.open("/waiting", "Unproven")
	ines.do(ines.See("Nothing proves that the author wrote it, so it waits for approval."))
	if w, err := c.Waiting(ctx, byConsole, nil, client.Paging{}); err != nil || w.Total != 1 {
		t.Errorf("waiting: %+v, %v", w, err)
	}
	p.must("bram.tolley@merrowline.example", "Unproven", "waiting", "list", byConsole)
	bram := p.browse("bram.tolley@merrowline.example")
	bram.open("/waiting", "Unproven")
	bram.click(`[aria-label^="Pick “Unproven”"]`)
	bram.do(bram.Press("Approve 1 picked"), bram.See("1 decision approved"))
	wait(t, "the approved message arrived", func() bool { return len(p.letters(pilot, "Unproven")) == 1 })
}

func strangers(t *testing.T, p *place, ines *tab, c *client.Client) {
	const says = "Only its members may write to this group."
	raw := []byte("From: " + stranger + "\r\nSubject: A question\r\n\r\nWhen is the slip free?\r\n")
	var e *smtp.SMTPError
	if err := p.send("", stranger, raw, byConsole); !errors.As(err, &e) || e.Code != 550 || e.EnhancedCode != (smtp.EnhancedCode{5, 1, 1}) || !strings.Contains(e.Message, "There is no group") {
		t.Fatalf("a stranger, who can't find it: %v", err)
	}
	d, err := c.Rehearse(ctx, api.Rehearsal{Action: "post", Group: byConsole, As: stranger})
	if err != nil || d.Outcome != "refuse" || d.Rule != "post" || d.Reasons[0].Says != says || !strings.Contains(*d.Reasons[0].Mend, "let anyone write to it") {
		t.Errorf("rehearsed by the interface: %+v, %v", d, err)
	}
	p.must(demo.Administrator, says, "rehearse", "post", byConsole, "--as", stranger)
	ines.open("/groups/"+byConsole, "Try it")
	ines.do(ines.See("It would be refused."), ines.See(says), ines.See("let anyone write to it"))

	ines.open("/groups/"+byConsole+"/reach", "Who may do what")
	chosen := func(question, audience string) error {
		return ines.Until(`document.querySelector('select[aria-label="` + question + `"]').value === "` + audience + `"`)
	}
	ines.do(ines.Choose("label:has(option[value=mixed]) select, label:has(option[value=members]) select", "anyone"), chosen("Who can find it", "anyone"), chosen("Who can read its archive", "anyone"),
		chosen("Who can see who is in it", "workspace"), ines.See("Anyone on the internet can read it."), ines.Press("Drop the draft"), chosen("Who can read its archive", "members"))
	ines.do(ines.Choose(`select[aria-label="Who can write to it"]`, "anyone"), ines.See("A draft, not saved yet"), ines.See("colleagues and all strangers can write to it from now on."),
		ines.Choose(`select[aria-label="Whose mail waits for approval"]`, "nobody"), ines.See("No mail waits for approval."), ines.See("unwanted mail reaches everybody"),
		ines.Until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Save this reach' && !b.disabled)`), ines.Press("Save this reach"),
		ines.Gone("A draft, not saved yet"), ines.See("Strangers can write to it."))
	if err := p.send("", stranger, raw, byConsole); err != nil {
		t.Fatalf("after it was opened: %v", err)
	}
	wait(t, "the stranger's message arrived", func() bool { return len(p.letters(pilot, "A question")) == 1 })
	p.must(demo.Administrator, "can write to it", "policy", "change", byCommand, "post=anyone", "hold=nobody")
	if _, err := c.Guarded(`"9"`).ChangePolicy(ctx, byAPI, api.PolicyPatch{Policy: &api.AnswersPatch{Post: "anyone"}, Hold: "nobody"}); err == nil {
		t.Error("an old version was taken")
	}
}

func owner(t *testing.T, p *place) {
	oda := p.browse(demo.Owner)
	oda.open("/", "My groups")
	oda.do(oda.See("Slipway Repairs"), oda.Gone("Care"), oda.Gone("History"))
	oda.open("/groups?q=safety+board", "No group matches.") // a group that only its members find
	oda.open("/groups/safety-board@merrowline.example", "There is no group")
	oda.open("/groups/payroll@merrowline.example/people", "There is no group")
	oda.open("/groups/"+byConsole+"/people", "Tove Alder")
	oda.do(oda.Choose(`[aria-label="Role of Tove Alder"]`, "moderator"), oda.See("Tove Alder is now a moderator"),
		oda.Press("Remove "+pilot), oda.See(pilot+" is no longer in Slipway Repairs"))
	p.must(demo.Owner, "Tove Alder", "member", "list", byConsole, "--role", "moderator")
	p.must(demo.Owner, "moderator", "member", "change", byCommand, demo.Member, "--role", "moderator")
	p.must(demo.Owner, "", "member", "remove", byCommand, demo.Member)
	c := p.api(demo.Owner)
	if m, err := c.ChangeMember(ctx, byAPI, demo.Member, api.MemberPatch{Role: "moderator"}); err != nil || m.Role != "moderator" {
		t.Errorf("%+v, %v", m, err)
	}
	for name, err := range map[string]error{
		"how long groups live":    second(c.Terms(ctx)),
		"changing the directory":  second(c.CreatePerson(ctx, api.NewPersonEntry{Address: "x@merrowline.example", Name: "X"})),
		"exempting":               second(c.ChangeGroup(ctx, byAPI, api.GroupPatch{Exempt: &name})),
		"the workspace's history": second(c.History(ctx, "", "", client.Paging{})),
		"somebody else's group":   second(c.ChangeGroup(ctx, "lost-property@merrowline.example", api.GroupPatch{Description: &name})),
	} {
		if e := new(client.Error); !errors.As(err, &e) || e.Status != 403 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := c.RemoveMember(ctx, byAPI, demo.Owner); err == nil || !strings.Contains(err.Error(), "last owner") {
		t.Errorf("the last owner left: %v", err)
	}
}

var name = "x"

func second[T any](_ T, err error) error { return err }

func term(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/care/terms", "How long groups live")
	ines.click(`ol > li:last-child button[aria-expanded]`)
	ines.do(ines.Fill("[name=length]", "90 days"), ines.See("expire earlier"), ines.Fill("[name=own_notices]", "21, 7, 1"), ines.See("Groups that expire: as it would be"))
	before, err := c.Group(ctx, byConsole)
	if err != nil || *before.Term.DaysLeft < 180 {
		t.Errorf("before saving: %+v, %v", before.Term, err)
	}
	ines.do(ines.Until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Put these terms in force' && !b.disabled)`), ines.Press("Put these terms in force"), ines.See("The terms are in force"))
	if g, _ := c.Group(ctx, byConsole); *g.Term.DaysLeft != 90 {
		t.Errorf("after saving: %+v", g.Term)
	}
	p.must(demo.Administrator, "90 days", "term", "list")
	p.must(demo.Administrator, "Everything else takes Slipway Repairs", "term", "try", byConsole)

	ines.do(ines.Press("30 days on"), ines.See("30 days ahead"), ines.Press("30 days on"), ines.See("60 days ahead"))
	p.must(demo.Administrator, "It is", "clock", "move", "--days", "9")
	wait(t, "the owner has one notice of all that is due", func() bool {
		for _, l := range p.letters(demo.Owner, "groups expire soon") {
			text := strings.ReplaceAll(strings.ReplaceAll(string(p.raw(demo.Owner, l.N)), "=\r\n", ""), "=3D", "=")
			if strings.Contains(text, "Slipway Repairs ("+byConsole+"): in 21 days") && strings.Contains(text, "Slipway API (") && strings.Contains(text, "/groups/"+byConsole+"/term") {
				return true
			}
		}
		return false
	})
	oda := p.browse(demo.Owner)
	oda.open("/groups/"+byConsole+"/term", "It expires in 21 days")
	oda.do(oda.Press("Renew Slipway Repairs"), oda.See("It expires in 90 days"))
	_, link, _ := strings.Cut(strings.ReplaceAll(string(p.raw(demo.Owner, p.letters(demo.Owner, "groups expire soon")[0].N)), "=\r\n", ""), "/renew/")
	nobody := client.New("http://"+p.http, "") // whoever has the letter
	told, err := nobody.Told(ctx, link[:32])
	if err != nil || told.Recipient != demo.Owner {
		t.Errorf("what the letter told of: %+v, %v", told, err)
	}
	for _, g := range told.Groups {
		if g.Address == byCommand {
			if _, err := nobody.RenewTold(ctx, link[:32], api.ToldRenewal{Groups: []string{g.ID}, Reason: "By letter."}); err != nil {
				t.Error(err)
			}
		}
	}
	if g, err := c.Group(ctx, byCommand); err != nil || *g.Term.DaysLeft != 90 {
		t.Errorf("renewed by the letter's link: %+v, %v", g.Term, err)
	}

	for _, days := range []int{20, 1} { // nobody is cut off who was not told the day before
		if _, err := c.MoveClock(ctx, days); err != nil {
			t.Fatal(err)
		}
	}
	wait(t, "the other group lapsed", func() bool {
		g, err := c.Group(ctx, byAPI)
		return err == nil && g.State == "lapsed" && g.Term.EndedAt != nil
	})
	raw := []byte("From: " + demo.Member + "\r\nSubject: Too late\r\n\r\nx\r\n")
	var e *smtp.SMTPError
	if err := p.send(demo.Member, demo.Member, raw, byAPI); !errors.As(err, &e) || e.Code != 550 || e.EnhancedCode != (smtp.EnhancedCode{5, 2, 1}) || !strings.Contains(e.Message, "has lapsed and takes no mail") {
		t.Errorf("mail to a lapsed group: %v", err)
	}
	ines.open("/care/ended", "Slipway API")
	ines.open("/groups/"+byAPI+"/term", "takes no mail")
	ines.do(ines.Press("Restore Slipway API"), ines.See("It expires in 90 days"))
	g, err := c.Group(ctx, byAPI)
	if err != nil || g.State != "active" || g.Counts != (api.Counts{Owners: 1, Moderators: 1, People: 2}) {
		t.Errorf("restored: %+v, %v", g, err)
	}
	if err := p.send(demo.Member, demo.Member, bytes.Replace(raw, []byte("Too late"), []byte("In time"), 1), byAPI); err != nil {
		t.Errorf("mail after: %v", err)
	}
	wait(t, "it arrived", func() bool { return len(p.letters(demo.Owner, "In time")) == 1 })
	p.must(demo.Owner, "is retired", "group", "retire", byCommand)
	p.must(demo.Owner, "is back", "group", "restore", byCommand)
}

func history(t *testing.T, p *place, ines *tab, c *client.Client) {
	h, err := c.History(ctx, byConsole, "", client.Paging{Limit: 200})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, e := range h.Items {
		got = append(got, e.Kind+" by "+e.Actor.Address+" via "+e.Via)
	}
	want := []string{"group.create by " + demo.Administrator + " via console", "people.add by " + demo.Administrator + " via console",
		"group.change by " + demo.Administrator + " via api", "group.change by " + demo.Administrator + " via console", "post.approve by bram.tolley@merrowline.example via console",
		"policy.change by " + demo.Administrator + " via console", "people.change by " + demo.Owner + " via console", "people.remove by " + demo.Owner + " via console",
		"group.term by " + demo.Administrator + " via console", "notice.send by  via service", "group.renew by " + demo.Owner + " via console"}
	for i, w := range want {
		if n := len(got) - 1 - i; n < 0 || got[n] != w {
			t.Errorf("the history has\n%s\nwant, from the last line up, %q", strings.Join(got, "\n"), w)
			break
		}
	}
	ines.open("/groups/"+byConsole+"/history", "changed who may do what with Slipway Repairs")
	ines.click(`[aria-label^="More about: Ines Skerry changed who may do what"]`)
	ines.do(ines.See("Oda Fenn renewed Slipway Repairs until"), ines.See("Who can write to it: members → anyone"))
	ines.open("/history", "restored Slipway Command")
	p.must(demo.Administrator, "changed who may do what", "history", "list", byConsole)
}

// accessible lets axe-core look at the main pages, in both colour modes.
func accessible(t *testing.T, ines *tab) {
	ines.accessible(t, map[string]string{"/groups": "All Staff", "/groups/new": "may come in", "/groups/" + byConsole: "Try it", "/groups/" + byConsole + "/people": "Oda Fenn",
		"/groups/" + byConsole + "/reach": "Who may do what", "/groups/" + byConsole + "/term": "It expires", "/waiting": "for you, the oldest first", "/groups/" + byConsole + "/mail": "What people get", "/care": "To do, by weight", "/care/findings": "the weightiest first", "/care/findings?kind=one_owner": "When that one leaves", "/care/rounds": "Autumn round", "/care/report": "State of the directory", "/confirm": "To confirm", "/groups/sheet": "Change groups by a sheet", "/care/terms": "Caretakers", "/care/forecast": "by week for a year", "/care/ended": "Can be restored", "/history": "The service", "/mine": "I could join",
		"/groups/" + byConsole + "/ways-in": "Settled about people", "/groups/" + byConsole + "/nesting": "each once", "/groups/crews@crew.merrowline.example/people": "In by it",
		"/people": "Aile Alder", "/people/" + demo.Owner: "Entry in the directory", "/people/new": "Add somebody", "/people/external": "membership", "/people/import": "Import people", "/rules": "Try a name", "/account": "Present password", "/password": "Mail me a link"})
}

// accessible looks at pages in both colours, each once it says something, for what axe finds against them.
func (b *tab) accessible(t *testing.T, pages map[string]string) {
	t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed; run: make build: %v", err)
	}
	for _, dark := range []bool{false, true} {
		b.do(b.Dark(dark))
		for path, see := range pages {
			b.open(path, see)
			if _, err := b.Eval("(() => {" + string(axe) + "; window.found = null; axe.run(document, {resultTypes: ['violations']}).then(r => { window.found = r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.target + ' ' + n.failureSummary.split('\\n')[1]).join(' | ')).join('\\n') }); return 1 })()"); err != nil {
				t.Fatal(err)
			}
			b.do(b.Until("window.found !== null"))
			if found, _ := b.Eval("window.found"); found != "" {
				t.Errorf("%s, dark %v:\n%s", path, dark, found)
			}
		}
	}
}
