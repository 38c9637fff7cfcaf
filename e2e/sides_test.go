package e2e

import (
	"regexp"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
)

// sides agrees that a group is in another, looks after external members, who decide about themselves by a link,
// reads a post before it is decided, and speaks for a group by mail.
func sides(t *testing.T, p *place, ines *tab, c *client.Client) {
	const crew, liaison, guest = "all@crew.merrowline.example", "harbour-liaison@merrowline.example", "quay@gannetport.example"
	oda := p.browse(demo.Owner)
	oda.open("/waiting?kind=nest", "Night Dispatch in All Crew")
	oda.do(oda.Press("Agree: counted"), oda.See("1 decision approved"), oda.Gone("Night Dispatch in All Crew"))
	p.must(demo.Administrator, "Night Dispatch  All Crew  counted", "nesting", "list", crew)
	oda.open("/groups/"+night+"/nesting", "agreed on")
	oda.click(`[aria-label="Take Night Dispatch out of All Crew"]`)
	oda.do(oda.See("Night Dispatch is no longer in All Crew"))
	if n, err := c.Consents(ctx, crew, client.Paging{}); err != nil || n.Total != 2 {
		t.Errorf("%+v, %v", n, err)
	}

	ines.open("/people/external", "Berths and pilots")
	ines.click(`[aria-label="Pick master@gannetport.example in Harbour Liaison"]`)
	ines.do(ines.Fill(`[aria-label="Why they are in it"]`, "The harbour master"), ines.Press("Write that down"), ines.See("1 external member changed"), ines.See("The harbour master"))
	p.must(demo.Administrator, "added (external)", "member", "add", liaison, guest, "--voucher", demo.Owner)
	wait(t, "the guest has a letter", func() bool { return len(p.letters(guest, "You are now in Harbour Liaison")) == 1 })
	link := regexp.MustCompile(`/own/[A-Za-z0-9_-]{32}`).FindString(strings.ReplaceAll(string(p.raw(guest, 1)), "=\r\n", ""))
	own := p.tab()
	own.open(link, "Each message to it reaches you.")
	own.do(own.Press("Send me no mail for now"), own.See("get none of its mail"), own.Press("Leave Harbour Liaison"), own.See("You are not in it any more."))
	if x, err := c.Externals(ctx, client.ExternalList{Q: "quay"}); err != nil || x.Total != 0 {
		t.Errorf("%+v, %v", x, err)
	}
	p.must(demo.Administrator, "takes no external members from lucky-draw.example", "member", "add", liaison, "prize@lucky-draw.example", "--preview")

	const asks = "asks@gannetport.example"
	if err := p.send("", asks, []byte("From: "+asks+"\r\nSubject: The green slip\r\nContent-Type: text/html\r\n\r\n<p>Is it <b>free</b>?<script>steal()</script></p>\r\n"), "lost-property@merrowline.example"); err != nil {
		t.Fatal(err)
	}
	ines.open("/waiting?kind=post", "The green slip")
	ines.click(`[aria-label^="Read it: “The green slip”"]`)
	ines.do(ines.See("No role of yours in Lost Property"), ines.Fill(`[aria-label="Why you read it"]`, "The slip is asked for"), ines.Press("Read it, and say so"))
	ines.do(ines.See("Is it free ?"), ines.See("It was written as HTML; this is its text."), ines.Press("Approve, and trust "+asks), ines.See("1 decision approved"))
	if o, err := c.Override(ctx, "lost-property@merrowline.example", asks); err != nil || o.Override != "trusted" {
		t.Errorf("%+v, %v", o, err)
	}

	raw := []byte("From: " + night + "\r\nSubject: Closed on Sunday\r\n\r\nWe are.\r\n")
	if err := p.send(demo.Owner, demo.Owner, raw, "day-dispatch@merrowline.example"); err == nil || !strings.Contains(err.Error(), "You may not write in the name of") {
		t.Errorf("spoke for a group that lets nobody: %v", err)
	}
	p.must(demo.Owner, "Night Dispatch is changed", "policy", "change", night, "speak_for=owners")
	if err := p.send(demo.Owner, demo.Owner, raw, "day-dispatch@merrowline.example"); err != nil {
		t.Fatal(err)
	}
	p.must(demo.Owner, `wrote "Closed on Sunday" for Night Dispatch`, "history", "list", night)

	ines.open("/rules", "differs from what it was begun from")
	ines.do(ines.Press("Show them"), ines.See("externals is owners, not barred"))
	if d, err := c.Differing(ctx, "intake", client.Paging{}); err != nil || d.Total != 1 || d.Items[0].Differences[0] == (api.Difference{}) {
		t.Errorf("%+v, %v", d, err)
	}
}

// outward is what people outside see and do: a public page, coming in by an address that a letter proves, what a
// group adds to mail and answers by itself; and a helper, who looks after an area.
func outward(t *testing.T, p *place, ines *tab, c *client.Client) {
	const tides, gull = "tide-and-weather@merrowline.example", "gull@gannetport.example"
	stranger := p.tab()
	stranger.open("/public", "Mail groups open to anyone")
	stranger.do(stranger.Fill(`input[type=search]`, "tide"), stranger.Gone("Lost Property"), stranger.See("Tide and Weather"))
	stranger.accessible(t, map[string]string{"/public": "Tide and Weather", "/public/" + tides: "Anyone can join."})
	stranger.do(stranger.Dark(false))
	stranger.open("/public/safety-board@merrowline.example", "There is no public page here.")
	stranger.open("/public/"+tides, "Anyone can join.")
	stranger.do(stranger.Fill(`[name=address]`, gull), stranger.Press("Join Tide and Weather"), stranger.See("A letter goes to "+gull))
	wait(t, "the letter is there", func() bool { return len(p.letters(gull, "Is this your address?")) == 1 })
	link := regexp.MustCompile(`/public/proofs/[A-Za-z0-9_-]{32}`).FindString(strings.ReplaceAll(string(p.raw(gull, 1)), "=\r\n", ""))
	stranger.open(link, "comes into the group")
	stranger.do(stranger.Press("Join Tide and Weather"), stranger.See("You are in Tide and Weather."))
	if x, err := c.Externals(ctx, client.ExternalList{Q: "gull"}); err != nil || x.Total != 1 || x.Items[0].Voucher != nil {
		t.Errorf("%+v, %v", x, err)
	}

	ines.open("/groups/"+tides+"/mail", "On each message")
	ines.do(ines.Fill(`[name="mail.tag"]`, "Tides"), ines.See("[Tides]"), ines.Press("Have it so"), ines.Gone("Drop the draft"))
	if err := p.send("bram.tolley@merrowline.example", "bram.tolley@merrowline.example", []byte("From: bram.tolley@merrowline.example\r\nSubject: High at ten\r\n\r\nAnd low at four.\r\n"), tides); err != nil {
		t.Fatal(err)
	}
	wait(t, "the post is there", func() bool { return len(p.letters(gull, "[Tides] High at ten")) == 1 })
	if raw := string(p.raw(gull, 3)); !strings.Contains(raw, "And low at four.\r\n\r\n-- \r\nTides for Gannet Quay.") {
		t.Errorf("no footer: %s", raw)
	}
	p.must("petra.vane@merrowline.example", "It says", "group", "notice", "lost-property@merrowline.example")
	if err := p.send("", gull, []byte("From: "+gull+"\r\nSubject: A hat\r\n\r\nGrey.\r\n"), "lost-property@merrowline.example"); err != nil {
		t.Fatal(err)
	}
	wait(t, "the automatic answer is there", func() bool { return len(p.letters(gull, "Auto: A hat")) == 1 })

	jonas := p.browse("jonas.keel@crew.merrowline.example")
	jonas.open("/mine", "I help with")
	jonas.open("/groups/masters@crew.merrowline.example/history", "Masters and Mates")
	p.must("jonas.keel@crew.merrowline.example", "tove.alder@merrowline.example", "member", "add", "masters@crew.merrowline.example", demo.Member, "--preview")
	if code, out := p.cli("jonas.keel@crew.merrowline.example", "policy", "change", "masters@crew.merrowline.example", "post=anyone"); code != 4 {
		t.Errorf("a helper without the power: %d %s", code, out)
	}

	petra := p.browse("petra.vane@merrowline.example")
	petra.open("/groups/lost-property@merrowline.example/reach", "Begin again")
	petra.do(petra.Choose(`main select:has(option[value="team-room"])`, "team-room"), petra.See("write owners: anyone"))
}
