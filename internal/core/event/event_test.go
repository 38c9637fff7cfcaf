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
	books = Who{"Bookings", "bookings@merrowline.example"}
)

// samples are events of every kind.
var samples = []Event{
	{ines, "console", books, GroupCreated{"bookings@merrowline.example", "Only members read it."}},
	{ines, "console", books, GroupChanged{[]Change{{Field: "name", From: "Books", To: "Bookings"}, {Field: "welcome", To: "Hello"}, {Field: "description", From: strings.Repeat("long ", 30)}}}},
	{oda, "api", books, PolicyChanged{[]Change{{Field: "post", From: "members", To: "anyone", Says: "All strangers can write to it from now on."}}}},
	{oda, "console", books, GroupRenewed{"2026-12-01", "2027-01-02", "Still needed.", ""}},
	{Who{}, "service", books, GroupRenewed{"2026-12-01", "2027-01-02", "", "2026-07-06"}},
	{Who{}, "service", books, TermMoved{"2026-12-01", "2027-01-02", "Everything else", "With outsiders"}},
	{Who{}, "service", books, TermMoved{"", "2027-01-02", "", "Everything else"}},
	{Who{}, "service", books, TermMoved{"2026-12-01", "", "Everything else", ""}},
	{ines, "console", books, GroupHeld{"The claim is open."}},
	{ines, "console", books, GroupReleased{"The claim is open."}},
	{Who{}, "service", books, AddressesFreed{[]string{"bookings@merrowline.example", "books@merrowline.example"}}},
	{Who{Address: "desk@harbour.example"}, "link", Who{}, CaretakerAgreed{"desk@harbour.example"}},
	{Who{}, "service", books, NoticeSent{0, []string{oda.Address}}},
	{ines, "console", Who{}, RoundBegun{"Autumn round", `external gt 0`, 12, "2026-11-30", "retire"}},
	{ines, "console", Who{}, RoundBegun{"Autumn round", "", 1, "2026-11-30", "nothing"}},
	{ines, "console", Who{}, RoundChanged{"Autumn round", []Change{{Field: "due_on", From: "2026-11-30", To: "2026-12-15"}}}},
	{Who{}, "service", Who{}, RoundEnded{"Autumn round", false, 9, 2, 1, 0}},
	{ines, "console", Who{}, RoundEnded{"Autumn round", true, 3, 0, 8, 1}},
	{oda, "link", books, RoundAnswered{"Autumn round", []string{"needed", "people"}, 0, false, ""}},
	{oda, "console", books, RoundAnswered{"Autumn round", []string{"needed"}, 2, false, "Two have moved on."}},
	{oda, "console", books, RoundAnswered{"Autumn round", nil, 0, true, "The season is over."}},
	{Who{}, "service", books, RoundSilent{"Autumn round", "Retired, since nobody has answered."}},
	{ines, "console", Who{}, DeparturesChanged{[]Change{{Field: "owned", From: "", To: "manager, caretaker"}}}},
	{ines, "console", Who{}, PersonDeparted{Of: oda, Left: []Who{{"Tide Gauge", "tide@merrowline.example"}}, Handed: []Handed{{books, tove}}}},
	{ines, "console", Who{}, PersonErased{34, "Their letter of 3 November.", "c0ffee"}},
	{oda, "console", books, GroupRenewed{}},
	{oda, "console", books, GroupRetired{"2027-01-02"}},
	{oda, "console", books, GroupRetired{}},
	{oda, "console", books, GroupRestored{"retired", "2027-01-02"}},
	{Who{}, "service", books, GroupLapsed{"2027-01-02"}},
	{Who{}, "service", books, GroupPurged{}},
	{Who{}, "service", books, NoticeSent{30, []string{oda.Address, tove.Address}}},
	{ines, "console", books, RuleSet{"", `title pr`, 0, 20, 14, 0}},
	{ines, "console", books, RuleSet{`title pr`, `department pr`, 20, 30, 1, 2}},
	{ines, "console", books, RuleDeleted{`title pr`, true, 0}},
	{ines, "console", books, RuleDeleted{`title pr`, false, 1}},
	{ines, "console", books, RuleFollowed{"the entry of Tove Alder changed", Of(tove), People{}}},
	{ines, "console", books, RuleFollowed{"people were imported", People{Count: 12, First: []Who{tove}}, People{Count: 2}}},
	{oda, "console", books, PostApproved{prize.Address, "You have won"}},
	{oda, "console", books, PostDeclined{prize.Address, "You have won", "Not here."}},
	{Who{}, "service", books, TermExtended{"2026-12-01", "2027-01-02"}},
	{oda, "console", books, MailRetried{prize.Address, "You have won"}},
	{ines, "console", books, OverrideSet{prize, "none", "barred", "sends advertising"}},
	{ines, "console", books, OverrideSet{tove, "none", "trusted", ""}},
	{ines, "console", books, OverrideSet{tove, "none", "held", "new here"}},
	{ines, "console", books, OverrideSet{tove, "barred", "none", ""}},
	{oda, "console", books, PeopleAdded{Of(tove)}},
	{oda, "console", books, PeopleAdded{Of(tove, oda, ines)}},
	{oda, "console", books, PeopleAdded{People{2, []Who{tove}}}},
	{oda, "console", books, PeopleAdded{People{199, []Who{tove, oda}}}},
	{tove, "console", books, Joined{}},
	{tove, "console", books, Joined{"link"}},
	{prize, "link", books, Joined{"invitation"}},
	{oda, "console", books, PeopleChanged{Of(tove), "owner", "", ""}},
	{oda, "console", books, PeopleChanged{Of(tove), "", "none", ""}},
	{tove, "console", books, PeopleChanged{Of(tove), "", "each", ""}},
	{oda, "console", books, PeopleChanged{Of(tove), "moderator", "each", ""}},
	{oda, "console", books, PeopleChanged{Of(tove), "", "", "2027-01-31"}},
	{oda, "console", books, PeopleChanged{Of(tove), "owner", "", "none"}},
	{oda, "console", books, PeopleRemoved{Of(tove), false, false}},
	{tove, "console", books, PeopleRemoved{Of(tove), true, false}},
	{oda, "", books, PeopleRemoved{Of(tove, prize), false, true}},
	{oda, "console", books, PeopleInvited{Of(prize)}},
	{tove, "smtp", books, Spoken{"Closed on Sunday", []string{"all@merrowline.example"}, true}},
	{tove, "smtp", books, Spoken{Subject: "Closed on Sunday", To: []string{"all@merrowline.example", "deck@merrowline.example"}}},
	{oda, "console", books, ExternalsVouched{Of(prize), tove, "The berths."}},
	{oda, "console", books, ExternalsVouched{People: Of(prize), Reason: "The berths."}},
	{ines, "console", Who{}, OutsideChanged{[]Change{{Field: "days", From: "0", To: "365"}}}},
	{ines, "console", Who{}, PublicChanged{[]Change{{Field: "pages", From: "false", To: "true"}}}},
	{prize, "link", books, Joined{Way: "page"}},
	{ines, "console", books, PostRead{"prize@lucky-draw.example", "You have won", "A complaint"}},
	{ines, "console", Who{}, AreasChanged{[]string{"Crew where x: people by Tove"}, nil}},
	{tove, "console", books, RequestMade{"join", "I take three nights."}},
	{oda, "console", books, ConsentAsked{prize, books}},
	{oda, "console", books, ConsentGiven{prize, books, "counted", "asked"}},
	{oda, "console", books, ConsentEnded{prize, books, "ended", "We have our own."}},
	{oda, "console", books, ConsentEnded{prize, books, "declined", ""}},
	{tove, "console", books, ConsentEnded{prize, books, "withdrawn", ""}},
	{oda, "console", books, ConsentOver{prize, books, "Prize shows its people to anyone."}},
	{oda, "console", books, RequestApproved{tove, "join", ""}},
	{oda, "console", books, RequestApproved{tove, "leave", "As agreed."}},
	{oda, "console", books, RequestDeclined{tove, "join", "Full."}},
	{tove, "console", books, RequestWithdrawn{"leave"}},
	{oda, "console", books, InvitationCalledBack{prize}},
	{prize, "link", books, InvitationAccepted{"member"}},
	{tove, "console", books, InvitationDeclined{}},
	{oda, "console", books, JoinLinkCreated{"Notice board", "2027-01-02", 25}},
	{oda, "console", books, JoinLinkCreated{"", "2027-01-02", 0}},
	{oda, "console", books, JoinLinkCalledBack{"Notice board", 1}},
	{ines, "console", Who{}, ExpiryChanged{[]Change{{Field: "term_days", From: "0", To: "180"}}, "Of 60 groups, 60 get a date."}},
	{ines, "console", Who{}, CeilingsChanged{[]string{"post at most anyone"}, []string{"post at most workspace", "read at most members where domain eq \"a.example\" (x)"}, 2}},
	{ines, "console", Who{}, CeilingsChanged{nil, []string{"post at most workspace"}, 1}},
	{ines, "console", Who{}, NamingChanged{[]Change{{Field: "suffix", To: " ({locality})"}}, "None of the 60 groups breaks these rules."}},
	{ines, "console", Who{}, StartingPointSaved{"seasonal-route", "Seasonal route", "Only members read it."}},
	{ines, "console", Who{}, StartingPointDeleted{"seasonal-route", "Seasonal route"}},
	{ines, "console", books, RuleKept{14}},
	{ines, "console", books, OwnersSet{New: []Who{tove}, Former: []Who{ines}}},
	{ines, "console", books, OwnersSet{New: []Who{tove, ines}, Undone: true}},
	{ines, "console", Who{}, ManyChanged{Change: "x", Says: "notices are written in German", Total: 60, Changed: 50, Same: 8, Refused: 2, Stopped: true}},
	{ines, "console", Who{}, ManyChanged{Change: "x", Says: "undone: notices are written in German", Total: 50, Changed: 50, Undid: true}},
	{ines, "console", Who{}, ViewSaved{"Open at the coast", "groups", `post eq "anyone"`, "", true}},
	{ines, "console", Who{}, AttributeDeclared{"shift", "text"}},
	{ines, "console", Who{}, AttributeChanged{"shift", []Change{{Field: "seen", From: "false", To: "true"}}}},
	{ines, "console", Who{}, AttributeDeleted{"shift", 12}},
	{ines, "console", Who{}, DomainAdded{"islands.example"}},
	{ines, "console", Who{}, DomainLeads{"islands.example", "coast.example"}},
	{ines, "console", Who{}, DomainRetired{"islands.example"}},
	{ines, "console", books, FindingAccepted{"One owner (1)", "She is never away.", "2027-06-30"}},
	{ines, "console", Who{}, FindingAccepted{"Quiet (12)", "Seasonal.", ""}},
	{ines, "console", books, FindingAccepted{What: "One owner (1)"}},
	{ines, "console", Who{}, FindingAssigned{"Quiet (12)", "the owners of each group", "Before the season, please."}},
	{ines, "console", books, FindingAssigned{What: "Quiet (1)"}},
	{ines, "console", Who{}, LimitsChanged{[]Change{{Field: "quiet_days", From: "180", To: "365"}}, "Of 60 groups, the review then finds 12 things."}},
	{ines, "console", Who{}, ViewDeleted{"Open at the coast", "groups", `post eq "anyone"`}},
	{ines, "console", Who{}, PersonCreated{tove}},
	{ines, "console", Who{}, PersonChanged{tove, []Change{{Field: "department", From: "Deck", To: "Dispatch"}}}},
	{ines, "console", Who{}, PersonDeparted{Of: tove}},
	{ines, "console", Who{}, PersonDeparted{Of: tove, Left: []Who{books}}},
	{ines, "console", Who{}, PersonDeparted{Of: tove, HandedTo: oda, Left: []Who{books, {"Deck", "deck@merrowline.example"}}}},
	{ines, "console", Who{}, PersonReturned{tove}},
	{ines, "console", Who{}, PeopleImported{3, 2, 1, 0}},
	{ines, "console", Who{}, PeopleImported{}},
	{ines, "console", Who{}, PasswordLinkSent{tove}},
	{tove, "link", Who{}, PasswordChanged{}},
	{tove, "console", Who{}, SecondFactorOn{}},
	{tove, "console", Who{}, SecondFactorOff{tove}},
	{ines, "console", Who{}, SecondFactorOff{tove}},
	{ines, "console", Who{}, ProtectionChanged{[]Change{{Field: "second_factor", From: "nobody", To: "administrators"}}}},
	{tove, "console", Who{}, BudgetSpent{"groups", 10}},
	{tove, "api", Who{}, TokenCreated{"nightly", "2027-01-02"}},
	{tove, "api", Who{}, TokenRevoked{"nightly"}},
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
	if k := Kinds(); len(k) != 85 || slices.Contains(k, "") {
		t.Errorf("%d kinds: %v", len(k), k)
	}
}
