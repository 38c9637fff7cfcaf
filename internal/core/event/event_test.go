package event

import (
	"flag"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the golden file again")

var (
	ines  = Who{"Ines Skerry", "ines.skerry@merrowline.example"}
	oda   = Who{"Oda Fenn", "oda.fenn@merrowline.example"}
	tove  = Who{"Tove Alder", "tove.alder@merrowline.example"}
	prize = Who{"", "prize@lucky-draw.example"}
	was   = Was([]string{"as it was"}, 3)
	books = Who{"Bookings", "bookings@merrowline.example"}
)

// samples are events of every kind.
var samples = []Event{
	{ines, "console", books, GroupCreated{"bookings@merrowline.example", "Only members read it."}, 0},
	{ines, "console", books, GroupChanged{[]Change{{Field: "name", From: "Books", To: "Bookings"}, {Field: "welcome", To: "Hello"}, {Field: "description", From: strings.Repeat("long ", 30)}}}, 0},
	{oda, "api", books, PolicyChanged{[]Change{{Field: "post", From: "members", To: "anyone", Says: "All strangers can write to it from now on."}}}, 0},
	{oda, "console", books, GroupRenewed{"2026-12-01", "2027-01-02", "Still needed.", ""}, 0},
	{Who{}, "service", books, GroupRenewed{"2026-12-01", "2027-01-02", "", "2026-07-06"}, 0},
	{Who{}, "service", books, TermMoved{"2026-12-01", "2027-01-02", "Everything else", "With outsiders"}, 0},
	{Who{}, "service", books, TermMoved{"", "2027-01-02", "", "Everything else"}, 0},
	{Who{}, "service", books, TermMoved{"2026-12-01", "", "Everything else", ""}, 0},
	{ines, "console", books, GroupHeld{"The claim is open."}, 0},
	{ines, "console", books, GroupReleased{"The claim is open."}, 0},
	{Who{}, "service", books, AddressesFreed{[]string{"bookings@merrowline.example", "books@merrowline.example"}}, 0},
	{Who{Address: "desk@harbour.example"}, "link", Who{}, CaretakerAgreed{"desk@harbour.example"}, 0},
	{Who{}, "service", books, NoticeSent{0, []string{oda.Address}}, 0},
	{ines, "console", Who{}, RoundBegun{"01a2", "Autumn round", `external gt 0`, 12, "2026-11-30", "retire"}, 0},
	{ines, "console", Who{}, RoundBegun{"", "Autumn round", "", 1, "2026-11-30", "nothing"}, 0},
	{ines, "console", Who{}, RoundChanged{was, "", "Autumn round", []Change{{Field: "due_on", From: "2026-11-30", To: "2026-12-15"}}}, 0},
	{Who{}, "service", Who{}, RoundEnded{"Autumn round", false, 9, 2, 1, 0}, 0},
	{ines, "console", Who{}, RoundEnded{"Autumn round", true, 3, 0, 8, 1}, 0},
	{oda, "link", books, RoundAnswered{"Autumn round", []string{"needed", "people"}, 0, false, ""}, 0},
	{oda, "console", books, RoundAnswered{"Autumn round", []string{"needed"}, 2, false, "Two have moved on."}, 0},
	{oda, "console", books, RoundAnswered{"Autumn round", nil, 0, true, "The season is over."}, 0},
	{Who{}, "service", books, RoundSilent{"Autumn round", "Retired, since nobody has answered."}, 0},
	{ines, "console", Who{}, DeparturesChanged{was, []Change{{Field: "owned", From: "", To: "manager, caretaker"}}}, 0},
	{ines, "console", Who{}, PersonDeparted{Of: oda, Left: []Who{{"Tide Gauge", "tide@merrowline.example"}}, Handed: []Handed{{books, tove}}}, 0},
	{ines, "console", Who{}, KeyMade{"merrowline.example", "ivy20270102"}, 0},
	{ines, "console", Who{}, KeyUsed{"merrowline.example", "ivy20270102", ""}, 0},
	{ines, "console", Who{}, KeyUsed{"merrowline.example", "ivy20270102", "ivy20260102"}, 0},
	{ines, "console", Who{}, KeyDeleted{"merrowline.example", "ivy20260102"}, 0},
	{oda, "console", Who{}, MailPaused{Name: "Oda Fenn", Until: "2027-01-10"}, 0},
	{Who{}, "smtp", books, MailPaused{Name: "Pilot Office", Returned: 4, Reply: "550 5.1.1 no such box"}, 0},
	{oda, "console", Who{}, MailResumed{Name: "Oda Fenn"}, 0},
	{oda, "console", Who{}, DigestsMoved{"Oda Fenn", "18:00 in Europe/Oslo", "07:00 in UTC"}, 0},
	{ines, "console", Who{}, PersonErased{34, "Their letter of 3 November.", "c0ffee"}, 0},
	{oda, "console", books, GroupRenewed{}, 0},
	{oda, "console", books, GroupRetired{"2027-01-02"}, 0},
	{oda, "console", books, GroupRetired{}, 0},
	{oda, "console", books, GroupRestored{"retired", "2027-01-02"}, 0},
	{Who{}, "service", books, GroupLapsed{"2027-01-02"}, 0},
	{Who{}, "service", books, GroupPurged{}, 0},
	{Who{}, "service", Who{}, ClockWentBack{"2030-06-01", "2026-11-24"}, 0},
	{ines, "api", Who{}, RecordsRepaired{[]string{"group-counts (2)", "jobs (1)"}, 3}, 0},
	{Who{}, "service", books, NoticeSent{30, []string{oda.Address, tove.Address}}, 0},
	{ines, "console", books, RuleSet{"", `title pr`, 0, 20, 14, 0}, 0},
	{ines, "console", books, RuleSet{`title pr`, `department pr`, 20, 30, 1, 2}, 0},
	{ines, "console", books, RuleDeleted{`title pr`, true, 0}, 0},
	{ines, "console", books, RuleDeleted{`title pr`, false, 1}, 0},
	{ines, "console", books, RuleFollowed{"the entry of Tove Alder changed", Of(tove), People{}}, 0},
	{ines, "console", books, RuleFollowed{"people were imported", People{Count: 12, First: []Who{tove}}, People{Count: 2}}, 0},
	{oda, "console", books, PostApproved{prize.Address, "You have won"}, 0},
	{oda, "console", books, PostDeclined{prize.Address, "You have won", "Not here."}, 0},
	{Who{}, "service", books, TermExtended{"2026-12-01", "2027-01-02"}, 0},
	{oda, "console", books, MailRetried{prize.Address, "You have won", tove.Address}, 0},
	{oda, "console", books, MailRetried{prize.Address, "You have won", ""}, 0},
	{ines, "console", books, OverrideSet{prize, "none", "barred", "sends advertising"}, 0},
	{ines, "console", books, OverrideSet{tove, "none", "trusted", ""}, 0},
	{ines, "console", books, OverrideSet{tove, "none", "held", "new here"}, 0},
	{ines, "console", books, OverrideSet{tove, "barred", "none", ""}, 0},
	{oda, "console", books, PeopleAdded{Of(tove)}, 0},
	{oda, "console", books, PeopleAdded{Of(tove, oda, ines)}, 0},
	{oda, "console", books, PeopleAdded{People{2, []Who{tove}}}, 0},
	{oda, "console", books, PeopleAdded{People{199, []Who{tove, oda}}}, 0},
	{tove, "console", books, Joined{}, 0},
	{tove, "console", books, Joined{"link"}, 0},
	{prize, "link", books, Joined{"invitation"}, 0},
	{oda, "console", books, PeopleChanged{Of(tove), "owner", "", "", ""}, 0},
	{oda, "console", books, PeopleChanged{Of(tove), "", "none", "", ""}, 0},
	{tove, "console", books, PeopleChanged{Of(tove), "", "digest", "each", ""}, 0},
	{oda, "console", books, PeopleChanged{Of(tove, ines), "", "conversations", "several", ""}, 0},
	{tove, "console", books, PeopleChanged{Of(tove), "", "each", "", ""}, 0},
	{oda, "console", books, PeopleChanged{Of(tove), "moderator", "each", "", ""}, 0},
	{oda, "console", books, PeopleChanged{Of(tove), "", "", "", "2027-01-31"}, 0},
	{oda, "console", books, PeopleChanged{Of(tove), "owner", "", "", "none"}, 0},
	{oda, "console", books, PeopleRemoved{Of(tove), false, false}, 0},
	{tove, "console", books, PeopleRemoved{Of(tove), true, false}, 0},
	{oda, "", books, PeopleRemoved{Of(tove, prize), false, true}, 0},
	{oda, "console", books, PeopleInvited{Of(prize)}, 0},
	{tove, "smtp", books, Spoken{"Closed on Sunday", []string{"all@merrowline.example"}, true}, 0},
	{tove, "smtp", books, Spoken{Subject: "Closed on Sunday", To: []string{"all@merrowline.example", "deck@merrowline.example"}}, 0},
	{oda, "console", books, ExternalsVouched{Of(prize), tove, false, "The berths.", &Vouched{oda, "The quay."}}, 0},
	{oda, "console", books, ExternalsVouched{People: Of(prize), Nobody: true, Was: &Vouched{By: oda}}, 0},
	{oda, "console", books, ExternalsVouched{People: Of(prize), Reason: "The berths."}, 0},
	{ines, "console", Who{}, OutsideChanged{was, []Change{{Field: "days", From: "0", To: "365"}}}, 0},
	{ines, "console", Who{}, PublicChanged{was, []Change{{Field: "pages", From: "false", To: "true"}}}, 0},
	{prize, "link", books, Joined{Way: "page"}, 0},
	{ines, "console", books, PostRead{"moderator", "prize@lucky-draw.example", "You have won", "A complaint"}, 0},
	{ines, "console", books, PostRead{"", "prize@lucky-draw.example", "You have won", "A complaint"}, 0},
	{ines, "console", Who{}, AreasChanged{was, []string{"Crew where x: people by Tove"}, nil}, 0},
	{tove, "console", books, RequestMade{"join", "I take three nights."}, 0},
	{oda, "console", books, ConsentAsked{prize, books}, 0},
	{oda, "console", books, ConsentGiven{prize, books, "counted", "asked"}, 0},
	{oda, "console", books, ConsentEnded{prize, books, "ended", "We have our own."}, 0},
	{oda, "console", books, ConsentEnded{prize, books, "declined", ""}, 0},
	{tove, "console", books, ConsentEnded{prize, books, "withdrawn", ""}, 0},
	{oda, "console", books, ConsentOver{prize, books, "Prize shows its people to anyone."}, 0},
	{oda, "console", books, RequestApproved{tove, "join", ""}, 0},
	{oda, "console", books, RequestApproved{tove, "leave", "As agreed."}, 0},
	{oda, "console", books, RequestDeclined{tove, "join", "Full."}, 0},
	{tove, "console", books, RequestWithdrawn{"leave"}, 0},
	{oda, "console", books, InvitationCalledBack{prize}, 0},
	{prize, "link", books, InvitationAccepted{"member"}, 0},
	{tove, "console", books, InvitationDeclined{}, 0},
	{oda, "console", books, JoinLinkCreated{"Notice board", "2027-01-02", 25, "01a2"}, 0},
	{oda, "console", books, JoinLinkCreated{"", "2027-01-02", 0, ""}, 0},
	{oda, "console", books, JoinLinkCalledBack{"Notice board", 1}, 0},
	{ines, "console", Who{}, ExpiryChanged{was, []Change{{Field: "term_days", From: "0", To: "180"}}, "Of 60 groups, 60 get a date."}, 0},
	{ines, "console", Who{}, CeilingsChanged{was, []string{"post at most anyone"}, []string{"post at most workspace", "read at most members where domain eq \"a.example\" (x)"}, 2}, 0},
	{ines, "console", Who{}, CeilingsChanged{was, nil, []string{"post at most workspace"}, 1}, 0},
	{ines, "console", Who{}, NamingChanged{was, []Change{{Field: "suffix", To: " ({locality})"}}, "None of the 60 groups breaks these rules."}, 0},
	{ines, "console", Who{}, StartingPointSaved{was, "seasonal-route", "Seasonal route", "Only members read it."}, 0},
	{ines, "console", Who{}, StartingPointSaved{Before: Was(nil, 1), Name: "night-watch", Title: "Night watch"}, 0},
	{ines, "console", Who{}, StartingPointDeleted{was, "seasonal-route", "Seasonal route"}, 0},
	{ines, "console", books, RuleKept{14}, 0},
	{ines, "console", books, OwnersSet{New: []Who{tove}, Former: []Who{ines}}, 0},
	{ines, "console", books, OwnersSet{New: []Who{tove, ines}, Undone: true}, 0},
	{ines, "console", Who{}, ManyChanged{Change: "x", Says: "notices are written in German", Total: 60, Changed: 50, Same: 8, Refused: 2, Stopped: true}, 0},
	{ines, "console", Who{}, ManyChanged{Change: "x", Says: "undone: notices are written in German", Total: 50, Changed: 50, Undid: true}, 0},
	{oda, "console", books, PolicyChanged{[]Change{{Field: "post", From: "anyone", To: "members"}}}, 214},
	{ines, "console", Who{}, ProtectionChanged{Changed: []Change{{Field: "second_factor", From: "nobody", To: "administrators"}}}, 0},
	{ines, "console", Who{}, ViewSaved{was, "Open at the coast", "groups", `post eq "anyone"`, "", true, ""}, 0},
	{ines, "console", Who{}, AttributeDeclared{"shift", "text"}, 0},
	{ines, "console", Who{}, AttributeChanged{"shift", []Change{{Field: "seen", From: "false", To: "true"}}}, 0},
	{ines, "console", Who{}, AttributeDeleted{"shift", 12}, 0},
	{ines, "console", Who{}, DomainAdded{"islands.example"}, 0},
	{ines, "console", Who{}, DomainLeads{"islands.example", "coast.example"}, 0},
	{ines, "console", Who{}, DomainRetired{"islands.example"}, 0},
	{ines, "console", books, FindingAccepted{"One owner (1)", "She is never away.", "2027-06-30"}, 0},
	{ines, "console", Who{}, FindingAccepted{"Quiet (12)", "Seasonal.", ""}, 0},
	{ines, "console", books, FindingAccepted{What: "One owner (1)"}, 0},
	{ines, "console", Who{}, FindingAssigned{"Quiet (12)", "the owners of each group", "Before the season, please."}, 0},
	{ines, "console", books, FindingAssigned{What: "Quiet (1)"}, 0},
	{ines, "console", Who{}, LimitsChanged{was, []Change{{Field: "quiet_days", From: "180", To: "365"}}, "Of 60 groups, the review then finds 12 things."}, 0},
	{ines, "console", Who{}, ViewDeleted{was, "Open at the coast", "groups", `post eq "anyone"`}, 0},
	{ines, "console", Who{}, PersonCreated{tove}, 0},
	{ines, "console", Who{}, PersonChanged{tove, []Change{{Field: "department", From: "Deck", To: "Dispatch"}}}, 0},
	{ines, "console", Who{}, PersonDeparted{Of: tove}, 0},
	{ines, "console", Who{}, PersonDeparted{Of: tove, Role: "administrator"}, 0},
	{ines, "console", Who{}, PersonDeparted{Of: tove, Left: []Who{books}}, 0},
	{ines, "console", Who{}, PersonDeparted{Of: tove, HandedTo: oda, Left: []Who{books, {"Deck", "deck@merrowline.example"}}}, 0},
	{ines, "console", Who{}, PersonReturned{tove}, 0},
	{ines, "console", Who{}, PeopleImported{3, 2, 1, 0}, 0},
	{ines, "console", Who{}, PeopleImported{}, 0},
	{ines, "console", Who{}, PasswordLinkSent{tove}, 0},
	{tove, "link", Who{}, PasswordChanged{}, 0},
	{tove, "console", Who{}, SecondFactorOn{}, 0},
	{tove, "console", Who{}, SecondFactorOff{tove}, 0},
	{ines, "console", Who{}, SecondFactorOff{tove}, 0},
	{ines, "console", Who{}, ProtectionChanged{was, []Change{{Field: "second_factor", From: "nobody", To: "administrators"}}}, 0},
	{ines, "console", Who{}, KeepingChanged{was, []Change{{Field: "months", From: "0", To: "84"}}, "12 entries are forgotten tonight"}, 0},
	{Who{}, "service", Who{}, HistoryForgotten{2000, "2019-11-27", 2000, "00"}, 0},
	{tove, "console", Who{}, BudgetSpent{"groups", 10}, 0},
	{tove, "api", Who{}, TokenCreated{"nightly", "2027-01-02"}, 0},
	{tove, "api", Who{}, TokenRevoked{"nightly"}, 0},
}

// What every event says is read in testdata/sentences.txt.
func TestSentences(t *testing.T) {
	seen := map[Kind]bool{}
	var b strings.Builder
	for _, e := range samples {
		seen[e.Fact.Kind()] = true
		u := e.Undo()
		fmt.Fprintf(&b, "%s\n  undo: %v %s\n", e.Sentence(), u.Possible, u.Says)
		for _, c := range e.Changes() {
			fmt.Fprintf(&b, "  %s: %q to %q\n", c.Field, short(c.From), short(c.To))
		}
		if s := e.Sentence(); strings.Contains(s, "..") || strings.Contains(s, "  ") {
			t.Errorf("%q", s)
		}
		if !strings.HasSuffix(u.Says, ".") {
			t.Errorf("%s: how it is undone: %q", e.Fact.Kind(), u.Says)
		}
	}
	for _, k := range Kinds() {
		if !seen[k] {
			t.Errorf("there is no sample of %s", k)
		}
	}
	const path = "testdata/sentences.txt"
	if *update {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if b.String() != string(want) {
		t.Errorf("the sentences differ from %s:\n%s", path, b.String())
	}
}

// Whatever is stored is read again.
func TestEncode(t *testing.T) {
	for _, e := range samples {
		b, err := e.Encode()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Decode(e.Fact.Kind(), e.Via, b)
		if err != nil || again.Sentence() != e.Sentence() || !reflect.DeepEqual(again.Changes(), e.Changes()) {
			t.Errorf("%s is read as %+v, %v", b, again, err)
		}
	}
	for _, c := range [][2]string{{"people.add", `{`}, {"unheard.of", `{"v":1,"fact":{}}`}, {"people.add", `{"v":2,"fact":{}}`}, {"people.add", `{"v":1,"fact":{"count":"x"}}`}} {
		if e, err := Decode(Kind(c[0]), "api", []byte(c[1])); err == nil {
			t.Errorf("%s is read as %+v", c, e)
		}
	}
	if k := Kinds(); len(k) != 95 || slices.Contains(k, "") {
		t.Errorf("%d kinds: %v", len(k), k)
	}
}
