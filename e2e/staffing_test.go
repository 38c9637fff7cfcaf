package e2e

import (
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/demo/postoffice"
)

const harbour = "harbour-watch@merrowline.example"

// file puts a file into a field as if somebody had chosen it.
func (b *tab) file(css, name, text string) {
	b.t.Helper()
	b.do(b.Until(fmt.Sprintf("document.querySelector(%q)", css)))
	if _, err := b.Eval(fmt.Sprintf(`(e => { const d = new DataTransfer(); d.items.add(new File([%q], %q)); e.files = d.files; e.dispatchEvent(new Event('change', {bubbles: true})); return 1 })(document.querySelector(%q))`, text, name, css)); err != nil {
		b.t.Fatal(err)
	}
}

// click clicks on what a selector finds, once it is there.
func (b *tab) click(css string) {
	b.t.Helper()
	b.do(b.Until(fmt.Sprintf("document.querySelector(%q)", css)))
	if _, err := b.Eval(fmt.Sprintf("document.querySelector(%q).click()", css)); err != nil {
		b.t.Fatal(err)
	}
}

func createFromAStart(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups/new", "Begin from")
	ines.do(ines.Until(`document.querySelectorAll('[name=starting-point]').length === 6`))
	if _, err := ines.Eval(`[...document.querySelectorAll('label')].find(l => l.innerText.includes('Open community')).querySelector('input').click()`); err != nil {
		t.Fatal(err)
	}
	ines.do(ines.See("Anyone in the workspace may join."), ines.Fill("[name=name]", "Night Dispatchers"), ines.See("Is it there already?"), ines.See("Night Dispatch has a like name"),
		ines.Fill("[name=name]", "Harbour Watch"), ines.Gone("Is it there already?"), ines.See("The names of administrators are as they type them"),
		ines.Fill("#owners input", "oda fe"), ines.Press("Oda Fenn"), ines.See("Create and add 1 person"), ines.Until(`document.activeElement.closest("#owners")`), // where the focus goes back to
		ines.Fill("[placeholder^='Old names']", "watch, harbour-wach,"), ines.See("watch ×"),
		ines.See("Does: archive, calendar."))
	ines.open("/groups", "All Staff")
	ines.open("/groups/new", "Also at watch, harbour-wach.") // nothing typed is lost
	ines.do(ines.See("Oda Fenn"), ines.Press("Create and add 1 person"), ines.See("You are not in it."), ines.See("harbour-wach@merrowline.example"))
	g, err := c.Group(ctx, "watch@merrowline.example")
	if err != nil || g.Address != harbour || g.Join.How != "freely" || len(g.Aliases) != 2 {
		t.Errorf("%+v, %v", g, err)
	}
	wait(t, "the owner is told", func() bool { return len(p.letters(demo.Owner, "You are now in Harbour Watch")) == 1 })
	ines.do(ines.Press("Change"), ines.Fill("form [name=address]", "harbour-lookout@merrowline.example"), ines.See("stays as an alias"), ines.Press("Save"), ines.See("harbour-watch@merrowline.example, "))
	p.must(demo.Administrator, "harbour-lookout@merrowline.example", "group", "change", "harbour-lookout@merrowline.example", "--address", harbour)
}

func addMany(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups/"+harbour+"/people", "Many at once")
	ines.do(ines.Press("Many at once"), ines.Fill("[name=many]", "Tove Alder <tove.alder@merrowline.example>, bram.toley@merrowline.example; "+pilot+"; Anders"),
		ines.See("1 of 4 entries is added"), ines.See("nobody has it: 1"), ines.See("several people: 1"), ines.See("external: 1"),
		ines.Press("Bram Tolley, bram.tolley"), ines.See("2 of 4 entries are added"), ines.Press("Add 2 people"), ines.Gone("Add 2 people"), ines.See("2 of 4 entries are added"), ines.See("takes no external members"))
	ines.do(ines.Press("Many at once"), ines.Press("A file"))
	ines.file("input[type=file]", "crew.csv", "E-mail;Rolle\npetra.vane@merrowline.example;moderator\nmira.stor@crew.merrowline.example;\nnobody@merrowline.example;\n")
	ines.do(ines.See("2 of 3 entries are added"), ines.See("Rolle is"), ines.Press("Add 2 people"), ines.Gone("Add 2 people"), ines.See("2 of 3 entries are added"))
	for _, name := range []string{"Tove Alder", "Mira Stør"} {
		ines.click(`[aria-label="Pick ` + name + `"]`)
	}
	ines.do(ines.See("2 people are picked:"), ines.Press("Make moderators"), ines.See("2 of 2 members of Harbour Watch are"))
	m, err := c.Members(ctx, harbour, client.MemberList{Role: "moderator"})
	if err != nil || m.Total != 3 {
		t.Errorf("moderators: %+v, %v", m, err)
	}
	if code, out := p.cli(demo.Owner, "member", "list", harbour, "--all"); code != 0 || strings.Count(out, "\n") != 6 {
		t.Errorf("exported: %d\n%s", code, out)
	}
	p.must(demo.Owner, "entries are added", "member", "add", harbour, "--people-of", "day-dispatch@merrowline.example", "--preview")
}

var invitationLink = regexp.MustCompile(`http://\S+/invitations/[\w-]{32}`)

func invite(t *testing.T, p *place, ines *tab) {
	p.must(demo.Administrator, "is changed", "policy", "change", harbour, "externals=owners")
	p.must(demo.Owner, "invited", "member", "invite", harbour, pilot, "mate@gannetport.example")
	links := map[string]string{}
	for _, who := range []string{pilot, "mate@gannetport.example"} {
		wait(t, who+" has an invitation", func() bool { return len(p.letters(who, "Oda Fenn invites you into Harbour Watch")) == 1 })
		text := strings.ReplaceAll(string(p.raw(who, p.letters(who, "Oda Fenn invites you")[0].N)), "=\r\n", "")
		if links[who] = invitationLink.FindString(text); links[who] == "" {
			t.Fatalf("no link in\n%s", text)
		}
	}
	res, err := httpGet(links[pilot])
	if err != nil {
		t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	p.must(demo.Owner, pilot, "invitation", "list", harbour) // fetching the link did nothing
	if _, err := ines.Eval(`fetch('/api/v1/session', {method: 'DELETE'})`); err != nil {
		t.Fatal(err)
	}
	ines.do(ines.Goto(links[pilot]), ines.See("Nothing happens until you answer."), ines.Press("Accept"), ines.See("You accepted"),
		ines.Goto(links["mate@gannetport.example"]), ines.See("Nothing happens until you answer."), ines.Press("Decline"), ines.See("You declined"),
		ines.Goto(links[pilot]), ines.See("You accepted"), ines.SignIn("http://"+p.http, demo.Administrator, demo.Password))
	p.must(demo.Owner, pilot, "member", "list", harbour, "--kind", "external")

	made, err := p.api(demo.Owner).CreateJoinLink(ctx, harbour, api.NewJoinLink{Max: 1})
	if err != nil {
		t.Fatal(err)
	}
	jonas := p.browse("jonas.keel@crew.merrowline.example")
	jonas.do(jonas.Goto(made.URL), jonas.See("gave out this link"), jonas.Press("Join Harbour Watch"), jonas.See("You are a member."))
	if code, out := p.cli("rurik.gale@merrowline.example", "join-link", "use", made.URL); code != 5 || !strings.Contains(out, "as many have used it") {
		t.Errorf("a link for one was used twice: %d %s", code, out)
	}
}

func requests(t *testing.T, p *place) {
	elin := p.browse("elin.marram@merrowline.example")
	elin.open("/mine", "I could join")
	elin.do(elin.Fill("main [type=search]", "first aid"), elin.See("First Aiders"), elin.Until(`[...document.querySelectorAll('button')].filter(b => b.innerText === 'Ask to join').length === 1`), elin.Press("Ask to join"), elin.See("have been asked"), elin.See("I asked"))
	oda := p.browse(demo.Owner)
	oda.open("/waiting", "asks to join")
	oda.do(oda.See("I take three nights in December."))
	for _, who := range []string{"Petra Vane", "Mira Stør"} {
		oda.click(`[aria-label="Pick the request of ` + who + ` to join Night Dispatch"]`)
	}
	oda.do(oda.Press("Approve 2 picked"), oda.See("2 decisions approved"), oda.Gone("I take three nights in December."))
	wait(t, "Petra is told", func() bool { return len(p.letters("petra.vane@merrowline.example", "Approved: Night Dispatch")) == 1 })
	p.must(demo.Owner, "Mira Stør", "member", "list", night, "--search", "mira")
	r, err := p.api(demo.Owner).Requests(ctx, night, false, client.Paging{})
	if err != nil || r.Total != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	p.must(demo.Owner, "declined", "request", "decline", r.Items[0].ID, "--reason", "Nights are full")
	wait(t, "the reason is mailed", func() bool { return len(p.letters("elin.marram@merrowline.example", "Declined: Night Dispatch")) == 1 })
	oda.open("/groups/"+night+"/ways-in", "Settled about people")
	oda.do(oda.Fill("form [name=address]", "loud@elsewhere.example"), oda.Press("Settle it"), oda.See("loud@elsewhere.example is barred"))
	if d, err := p.api(demo.Owner).Rehearse(ctx, api.Rehearsal{Action: "post", Group: night, As: "loud@elsewhere.example"}); err != nil || d.Rule != "person.barred" {
		t.Errorf("%+v, %v", d, err)
	}
}

const night = "night-dispatch@merrowline.example"

func ruleOfMembership(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/groups/"+harbour+"/people", "Membership by rule")
	ines.do(ines.Press("Set a rule"), ines.Fill("[name=rule]", "dep"), ines.Press("department"), ines.Press("eq"), ines.Press(`"Workshop"`), ines.See("would come"),
		ines.Fill("[name=rule]", `department is "Workshop"`), ines.See("At character 12:"), ines.Fill("[name=rule]", `department eq "Workshop"`), ines.See("people have no department"),
		ines.Until(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Put it in force:') && !b.disabled)`))
	if _, err := ines.Eval(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Put it in force:')).click()`); err != nil {
		t.Fatal(err)
	}
	ines.do(ines.See("In by it"))
	r, err := c.Rule(ctx, harbour)
	if err != nil || r.Members < 10 {
		t.Fatalf("%+v, %v", r, err)
	}
	ines.open("/people/rurik.gale@merrowline.example", "Entry in the directory")
	ines.do(ines.See("Harbour Watch"), ines.See("by rule"), ines.Press("Change"), ines.Fill("[name=\"attributes.department\"]", "Slipway"), ines.Press("Save"),
		ines.Until(`![...document.querySelectorAll("table .name")].some(a => a.innerText === "Harbour Watch")`))
	if now, _ := c.Rule(ctx, harbour); now.Members != r.Members-1 {
		t.Errorf("%d are in by rule; want %d", now.Members, r.Members-1)
	}
	p.must(demo.Administrator, "Harbour Watch", "person", "change", "rurik.gale@merrowline.example", "--set", "department=Workshop")
	p.must(demo.Owner, "KEEPS OUT", "rule", "explain", demo.Member, "--group", harbour)
	ines.open("/groups/"+harbour+"/history", "set the rule of Harbour Watch")
}

func names(t *testing.T, p *place, ines *tab) {
	ines.open("/rules", "Try a name")
	ines.do(ines.Fill("[name=pattern]", "{name} - {department}"), ines.See("groups break these rules"), ines.Press("Put these rules in force"), ines.See("The rules of naming are in force"),
		ines.Fill("[name=try-name]", "Payroll Nord"), ines.See("does not bind you"), ines.Fill("[role=combobox]", "tove al"), ines.Press("Tove Alder"), ines.See("The word payroll is reserved"))
	tove := p.browse(demo.Member)
	tove.open("/groups/new", "Begin from")
	tove.do(tove.Fill("[name=name]", "All Nights"), tove.See("against a rule"), tove.Fill("[name=name]", "Tea Round"), tove.See("Tea Round - Dispatch"), tove.Press("Create and add 1 person"), tove.See("You are an owner."), tove.See("tea-round-dispatch@merrowline.example"))
	p.must(demo.Administrator, "official groups", "naming", "try", "All Nights", "--as", demo.Member)
}

func peopleComeAndGo(t *testing.T, p *place, ines *tab, c *client.Client) {
	ines.open("/people/new", "Add somebody")
	ines.do(ines.Fill("[name=address]", "liv.strand@merrowline.example"), ines.Fill("form [name=name]", "Liv Strand"), ines.Fill("[name=\"attributes.department\"]", "Workshop"), ines.Press("Add Liv Strand"), ines.See("In 1 group"), ines.See("Harbour Watch"))
	ines.open("/people/import", "A CSV file")
	ines.do(ines.Until("document.querySelector('input[type=file]')"))
	ines.file("input[type=file]", "staff.csv", "Mail,Name,Unit\nliv.strand@merrowline.example,Liv Strand,Deck\nnew.hand@merrowline.example,New Hand,Workshop\nx@elsewhere.example,X,\n")
	ines.do(ines.See("1 new, 0 changed, 1 the same, 1 wrong"), ines.See("not a domain of this workspace"))
	if _, err := ines.Eval(`(e => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, 'department'); e.dispatchEvent(new Event('change', {bubbles: true})) })([...document.querySelectorAll('label')].find(l => l.innerText.startsWith('Unit')).querySelector('select'))`); err != nil {
		t.Fatal(err)
	}
	ines.do(ines.See("1 new, 1 changed, 0 the same, 1 wrong"), ines.See("Department: Workshop → Deck"), ines.Press("Import: 2 changes"), ines.See("Done. Of 3 lines"))
	if m, err := c.Members(ctx, harbour, client.MemberList{Q: "hand"}); err != nil || m.Total != 1 {
		t.Errorf("the rule did not follow the import: %+v, %v", m, err)
	}
	ines.open("/people?q=liv", "Liv Strand")
	ines.open("/people/petra.vane@merrowline.example", "leaves")
	ines.do(ines.Press("Petra Vane leaves…"), ines.See("Nobody else owns"), ines.Fill("[role=combobox]", "hale cor"), ines.Press("Hale Corran"), ines.See("Hale Corran takes over"))
	if _, err := ines.Eval(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Hand ')).click()`); err != nil {
		t.Fatal(err)
	}
	ines.do(ines.See("has left on"))
	wait(t, "the successor is told", func() bool { return len(p.letters("hale.corran@merrowline.example", "You now own")) > 0 })
	p.must(demo.Administrator, "here", "person", "return", "petra.vane@merrowline.example")
	p.must(demo.Administrator, "marked Petra Vane as here again", "person", "history", "petra.vane@merrowline.example")
	chooseAgain(t, p, "petra.vane@merrowline.example")
}

// chooseAgain gives somebody who returned, and has no password, the one that everybody has, by a link that is mailed.
func chooseAgain(t *testing.T, p *place, who string) {
	t.Helper()
	p.must(demo.Administrator, "", "person", "password-link", who)
	secret := ""
	wait(t, "a link is mailed to "+who, func() bool {
		for _, l := range p.letters(who, "") {
			if _, rest, ok := strings.Cut(passwordLink.FindString(strings.ReplaceAll(string(p.raw(who, l.N)), "=\r\n", "")), "/password/"); ok {
				secret = rest
			}
		}
		return secret != ""
	})
	res, err := http.Post("http://"+p.http+"/api/v1/password-links/"+secret, "application/json", strings.NewReader(`{"password": "`+p.password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusNoContent {
		t.Errorf("the password of %s is not chosen: %s", who, res.Status)
	}
}

var passwordLink = regexp.MustCompile(`http://[0-9.:]+/password/[\w-]+`)

// password lets somebody who was added choose a password by the link that was mailed,
// forget it, and choose another.
func password(t *testing.T, p *place) {
	const liv, subject = "liv.strand@merrowline.example", "Choose your password for the mail groups"
	link := func(n int) string {
		t.Helper()
		wait(t, "a link is mailed", func() bool { return len(p.letters(liv, subject)) == n })
		l := slices.MaxFunc(p.letters(liv, subject), func(a, b postoffice.Letter) int { return a.N - b.N })
		return passwordLink.FindString(strings.ReplaceAll(string(p.raw(liv, l.N)), "=\r\n", ""))
	}
	signIn := func(password string) error {
		_, err := client.New("http://"+p.http, "").SignIn(ctx, api.SignIn{Address: liv, Password: password})
		return err
	}
	b := p.tab()
	first := link(1)
	res, err := httpGet(first)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close() // a fetch uses nothing up
	b.do(b.Goto(first), b.See("Choose a password, Liv Strand"), b.Fill("[name=new-password]", "short"), b.Press("Set this password"), b.See("choose one of 10 or more"),
		b.Fill("[name=new-password]", "nine lives of a ferry"), b.Press("Set this password"), b.See("Your password is set"),
		b.SignIn("http://"+p.http, liv, "nine lives of a ferry"), b.See("My groups"),
		b.Goto(first), b.See("This link has ended, or was used."), b.Press("Ask for a new link"), b.Fill("[name=address]", liv), b.Press("Mail me a link"), b.See("a letter with a link is on its way"))
	if err := signIn("nine lives of a ferry"); err != nil {
		t.Errorf("a wish alone changed the password: %v", err)
	}
	b.do(b.Goto(link(2)), b.Fill("[name=new-password]", "ten lives of a ferry"), b.Press("Set this password"), b.See("Your password is set"))
	if signIn("nine lives of a ferry") == nil || signIn("ten lives of a ferry") != nil {
		t.Error("the old password is still good, or the new one is not")
	}
	p.must(demo.Administrator, "", "person", "password-link", liv)
	link(3)
}
