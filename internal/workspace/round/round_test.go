package round_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

func day(days int) string { return k.Now().AddDate(0, 0, days).Format(time.DateOnly) }

// fleet makes groups whose names begin with a word.
func fleet(t *testing.T, word string, n int, change ...func(*api.NewGroup)) (out []api.Group) {
	t.Helper()
	for i := range n {
		out = append(out, k.Make(t, fmt.Sprintf("%s %d", word, i), change...))
	}
	return out
}

// begin begins a round about the groups that begin with a word, and checks that it is what was said of it.
func begin(t *testing.T, word string, change ...func(*api.NewRound)) api.Round {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	n := api.NewRound{Name: "Round of " + word, Filter: fmt.Sprintf("name sw %q", word), Questions: []string{"needed", "people"}, DueOn: day(30), Reminders: []int{14, 3}}
	for _, c := range change {
		c(&n)
	}
	looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Round.Begin(ctx, by, n)) })
	r, err := k.Round.Begin(ctx, ines, n)
	if err != nil {
		t.Fatal(err)
	}
	if looked.Effects[0].Count != r.Counts.Total {
		t.Errorf("it was said to ask about %+v, and asks about %+v", looked.Effects, r.Counts)
	}
	run(t)
	t.Cleanup(func() { over(t) })
	return r
}

// over ends all rounds that are open, so that the letters of other tests are their own.
func over(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	for _, r := range kit.First(k.Round.List(ctx, ines, "", 100)).Items {
		if r.State == "open" {
			if _, err := k.Round.End(ctx, ines, r.ID, 0); err != nil {
				t.Error(err)
			}
		}
	}
	k.SQL(t, "UPDATE rounds SET next_at = NULL")
	k.Letters(t)
}

func run(t *testing.T) {
	t.Helper()
	if err := k.Round.Run(ctx); err != nil {
		t.Fatal(err)
	}
}

func read(t *testing.T, r api.Round) api.Round {
	t.Helper()
	return kit.First(k.Round.Read(ctx, k.Actor(t, kit.Administrator), r.ID))
}

// asked is what somebody is asked in a round, by the name of the group.
func asked(t *testing.T, who string, r api.Round) map[string]api.RoundQuestion {
	t.Helper()
	out := map[string]api.RoundQuestion{}
	for _, q := range kit.First(k.Round.Mine(ctx, k.Actor(t, who), "", 100)).Items {
		if q.RoundID == r.ID {
			out[q.Group.Name] = q
		}
	}
	return out
}

func answer(t *testing.T, who string, n api.RoundAnswer) api.DecidedAll {
	t.Helper()
	by := k.Actor(t, who)
	looked := kit.Preview(t, by, func(by workspace.Actor) error { return kit.Last(k.Round.Answer(ctx, by, n)) })
	out, err := k.Round.Answer(ctx, by, n)
	if err != nil {
		t.Fatal(err)
	}
	if looked.Ready != out.Decided {
		t.Errorf("%d were said to be done, %d are: %+v, %+v", looked.Ready, out.Decided, out, looked.Sample)
	}
	return out
}

var both = []string{"needed", "people"}

func TestARound(t *testing.T) {
	k.Letters(t)
	all := fleet(t, "Wharf", 4)
	r := begin(t, "Wharf", func(n *api.NewRound) { n.Note = "It takes a minute." })
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != kit.Owner || !strings.Contains(letters[0].Subject, "Please confirm your groups by") || !strings.Contains(letters[0].Text, "Wharf 0 (3 people)") || !strings.Contains(letters[0].Text, "It takes a minute.") {
		t.Fatalf("%d letters: %.800s", len(letters), fmt.Sprint(letters))
	}
	run(t)
	if again := k.Letters(t); len(again) > 0 {
		t.Errorf("told twice: %+v", again)
	}
	q := asked(t, kit.Owner, r)
	if len(q) != 4 || !q["Wharf 0"].First || q["Wharf 0"].People != 3 || !q["Wharf 0"].MayRetire {
		t.Fatalf("%+v", q)
	}
	for _, who := range []string{kit.Member, kit.Moderator, kit.Colleague, kit.Auditor} {
		if n := asked(t, who, r); len(n) > 0 {
			t.Errorf("%s is asked: %+v", who, n)
		}
		d := answer(t, who, api.RoundAnswer{IDs: []string{q["Wharf 0"].ID}, Answer: "keep", Confirmed: both})
		if d.Decided != 0 || !strings.Contains(d.Results[0].Says, "You are not asked") {
			t.Errorf("%s answers: %+v", who, d)
		}
	}
	// what waits says the same, and counts it
	waits := kit.First(k.Waiting.List(ctx, k.Actor(t, kit.Owner), "", []string{"round"}, "", 50))
	if waits.Total != 4 {
		t.Errorf("%d wait", waits.Total)
	}
	// to keep one, everything has to be confirmed
	if d := answer(t, kit.Owner, api.RoundAnswer{IDs: []string{q["Wharf 0"].ID}, Answer: "keep", Confirmed: []string{"needed"}}); d.Decided != 0 || !strings.Contains(d.Results[0].Says, "Missing: people") {
		t.Errorf("%+v", d)
	}
	if d := answer(t, kit.Owner, api.RoundAnswer{IDs: []string{q["Wharf 0"].ID}, Answer: "keep", Confirmed: both, Remove: []string{kit.Member}, Note: "Tove has moved on."}); d.Decided != 1 {
		t.Errorf("%+v", d)
	}
	if m := kit.First(k.Members(k.Actor(t, kit.Owner), all[0].Address, member.Query{Limit: 10})); m.Total != 2 {
		t.Errorf("%d are in it", m.Total)
	}
	if d := answer(t, kit.Owner, api.RoundAnswer{IDs: []string{q["Wharf 1"].ID}, Answer: "hand_over", To: kit.Colleague}); d.Decided != 1 {
		t.Errorf("%+v", d)
	}
	if l := k.Letters(t); len(l) == 0 || l[len(l)-1].To[0] != kit.Colleague || !strings.Contains(l[len(l)-1].Subject, "You now own Wharf 1: please confirm it by") {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	if d := answer(t, kit.Colleague, api.RoundAnswer{IDs: []string{asked(t, kit.Colleague, r)["Wharf 1"].ID}, Answer: "keep", Confirmed: both}); d.Decided != 1 || len(asked(t, kit.Owner, r)) != 2 {
		t.Errorf("%+v", d)
	}
	if d := answer(t, kit.Owner, api.RoundAnswer{IDs: []string{q["Wharf 2"].ID, q["Wharf 0"].ID}, Answer: "retire", Note: "Not needed."}); d.Decided != 1 || !strings.Contains(d.Results[1].Says, "has answered about Wharf 0 already") {
		t.Errorf("%+v", d)
	}
	d, err := k.Waiting.Decide(ctx, k.Actor(t, kit.Owner), api.Decisions{IDs: []string{q["Wharf 3"].ID}, Verdict: "approve"})
	if err != nil || d.Decided != 1 {
		t.Errorf("%+v, %v", d, err)
	}
	if c := read(t, r).Counts; c != (api.RoundCounts{Total: 4, Kept: 3, Retired: 1}) {
		t.Errorf("%+v", c)
	}
	k.Move(31)
	defer k.Move(-31)
	run(t)
	if now := read(t, r); now.State != "over" || now.ClosedAt == nil {
		t.Errorf("%+v", now)
	}
}

// What a group became since it was last confirmed is counted.
func TestWhatChangedSince(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := fleet(t, "Sandbank", 1, func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("externals=owners") })[0]
	first := begin(t, "Sandbank")
	k.MoveBy(time.Hour)
	answer(t, kit.Owner, api.RoundAnswer{IDs: []string{asked(t, kit.Owner, first)["Sandbank 0"].ID}, Answer: "keep", Confirmed: both})
	k.MoveBy(time.Hour)
	if _, err := k.Member.Add(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}, {Address: "pilot@port.example"}}}, 0); err != nil {
		t.Fatal(err)
	}
	if err := k.Member.Remove(ctx, ines, g.Address, kit.Member, 0); err != nil {
		t.Fatal(err)
	}
	second := begin(t, "Sandbank", func(n *api.NewRound) { n.Name = "Sandbank again" })
	q := asked(t, kit.Owner, second)["Sandbank 0"]
	if q.First || q.Came != 2 || q.Left != 1 || q.External != 1 || q.People != 4 {
		t.Errorf("first %v, %d came, %d left, %d external, %d people", q.First, q.Came, q.Left, q.External, q.People)
	}
	k.MoveBy(-2 * time.Hour)
}

// By the link of a letter groups are kept, and nothing else is done.
func TestKeptByLetter(t *testing.T) {
	fleet(t, "Lagoon", 3)
	k.Letters(t)
	r := begin(t, "Lagoon")
	_, rest, _ := strings.Cut(k.Letters(t)[0].Text, "/rounds/")
	secret := rest[:32]
	told := kit.First(k.Round.Told(ctx, secret))
	if told.Recipient != kit.Owner || len(told.Groups) != 3 || !told.Open || read(t, r).Counts.Kept != 0 {
		t.Fatalf("%+v", told)
	}
	after, err := k.Round.KeepTold(ctx, workspace.Actor{}, secret, api.RoundKept{IDs: []string{told.Groups[0].ID, told.Groups[1].ID, r.ID}})
	if err != nil || after.Kept != 2 || len(after.Groups) != 1 {
		t.Errorf("%+v, %v", after, err)
	}
	if _, err := k.Round.KeepTold(ctx, workspace.Actor{}, secret, api.RoundKept{IDs: []string{told.Groups[0].ID}}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("kept twice: %v", err)
	}
	h := kit.First(k.History.List(ctx, k.Actor(t, kit.Administrator), told.Groups[0].Address, "", "", 1)).Items[0]
	if h.Says != "Oda Fenn confirmed Lagoon 0 in the round Round of Lagoon (needed, people), by a link in a letter." {
		t.Errorf("%q", h.Says)
	}
	// whoever owns them no more answers no more
	k.SQL(t, "UPDATE memberships m JOIN mail_groups g ON g.id = m.group_id SET m.role = 1 WHERE g.address = '"+told.Groups[2].Address+"' AND m.role = 3")
	if now := kit.First(k.Round.Told(ctx, secret)); len(now.Groups) != 0 {
		t.Errorf("%+v", now)
	}
	for _, bad := range []string{"", "nonsense", strings.Repeat("x", 32)} {
		if _, err := k.Round.Told(ctx, bad); !workspace.IsKind(err, workspace.NotFound) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := k.Round.End(ctx, k.Actor(t, kit.Administrator), r.ID, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Round.KeepTold(ctx, workspace.Actor{}, secret, api.RoundKept{IDs: []string{told.Groups[2].ID}}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("after its end: %v", err)
	}
}

// Whoever does not answer is reminded; then what silence means is done, and never before they were told long enough.
func TestSilence(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	moved := 0
	move := func(days int) {
		k.Move(days)
		moved += days
		run(t)
	}
	defer func() { k.Move(-moved) }()
	fleet(t, "Mooring", 3)
	held := k.Make(t, "Mooring held")
	if _, err := k.Life.Hold(ctx, ines, held.Address, api.Hold{Reason: "A claim."}, 0); err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	r := begin(t, "Mooring", func(n *api.NewRound) { n.Silence = "retire" })
	if l := k.Letters(t); len(l) != 1 || !strings.Contains(l[0].Text, "About what nobody answers by then, the group is retired.") {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	answer(t, kit.Owner, api.RoundAnswer{IDs: []string{asked(t, kit.Owner, r)["Mooring 0"].ID}, Answer: "keep", Confirmed: both})
	k.Letters(t)
	move(16)
	if l := k.Letters(t); len(l) != 1 || !strings.Contains(l[0].Subject, "Still to confirm by") || strings.Contains(l[0].Text, "Mooring 0") || !strings.Contains(l[0].Text, "Mooring 1") {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	move(11)
	if l := k.Letters(t); len(l) != 1 {
		t.Errorf("%d letters three days before", len(l))
	}
	move(3)
	if now := read(t, r); now.State != "open" {
		t.Errorf("ended on its last day: %+v", now)
	}
	move(1)
	if now := read(t, r); now.State != "over" || now.Counts != (api.RoundCounts{Total: 4, Kept: 1, Silent: 3}) {
		t.Errorf("%+v", now)
	}
	for name, want := range map[string]string{"Mooring 0": "active", "Mooring 1": "retired", "Mooring 2": "retired", "Mooring held": "active"} {
		g := kit.First(k.Group.Read(ctx, ines, strings.ToLower(strings.ReplaceAll(name, " ", "-"))))
		if g.State != want {
			t.Errorf("%s is %s", name, g.State)
		}
	}
	k.Letters(t)

	// the service was away for all of it: its day is moved, and people have their time
	fleet(t, "Buoy", 1)
	n := api.NewRound{Name: "Buoys", Filter: `name sw "Buoy"`, Questions: both, DueOn: day(30), Reminders: []int{14, 3}, Silence: "retire"}
	late := kit.First(k.Round.Begin(ctx, ines, n))
	defer over(t)
	k.Move(200)
	moved += 200
	run(t)
	if now := read(t, late); now.State != "open" || now.DaysLeft < 13 {
		t.Errorf("%+v", now)
	}
	if l := k.Letters(t); len(l) != 1 {
		t.Errorf("%d letters", len(l))
	}
	move(10)
	if now := read(t, late); now.State != "open" {
		t.Errorf("over after ten days: %+v", now)
	}
	move(10)
	if now := read(t, late); now.State != "over" || now.Counts.Silent != 1 {
		t.Errorf("%+v", now)
	}
}

// Whoever changes a round changes no letter that went out; what owners were told before silence came to retire groups does not count.
func TestChangedAfterItsLetters(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	moved := 0
	defer func() { k.Move(-moved) }()
	step := func(what string, days, letters int, change *api.RoundPatch, r api.Round) {
		t.Helper()
		k.Move(days)
		moved += days
		if change != nil {
			if _, err := k.Round.Change(ctx, ines, r.ID, *change, 0); err != nil {
				t.Fatal(err)
			}
		}
		run(t)
		run(t)
		if l := k.Letters(t); len(l) != letters {
			t.Errorf("%s: %d letters, want %d: %.800s", what, len(l), letters, fmt.Sprint(l))
		}
	}
	fleet(t, "Bollard", 2)
	k.Letters(t)
	r := begin(t, "Bollard", func(n *api.NewRound) { n.Reminders = []int{20} })
	step("the first letter", 0, 1, nil, r)
	step("the first reminder", 11, 1, nil, r)
	step("other reminders", 0, 0, &api.RoundPatch{Reminders: &[]int{7}}, r)
	step("the later one", 13, 1, nil, r)
	step("one that lies behind", 0, 0, &api.RoundPatch{Reminders: &[]int{10, 7}}, r)
	retire := "retire"
	step("told anew", 0, 1, &api.RoundPatch{Silence: &retire}, r)
	k.Move(8)
	moved += 8
	run(t)
	if now := read(t, r); now.State != "open" || now.DaysLeft < 5 || now.Counts.Silent > 0 {
		t.Errorf("who was told seven days before its day has not had their fourteen days: %+v", now)
	}
}

// Of groups without owners the stand-in is asked, else their caretaker, and administrators may answer.
func TestWithoutOwners(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Derelict")
	k.SQL(t, "DELETE m FROM memberships m JOIN mail_groups g ON g.id = m.group_id WHERE g.address = '"+g.Address+"' AND m.role = 3")
	k.SQL(t, "UPDATE mail_groups SET owners = 0 WHERE address = '"+g.Address+"'")
	k.Letters(t)
	r := begin(t, "Derelict", func(n *api.NewRound) { n.StandIn = kit.Colleague })
	if l := k.Letters(t); len(l) != 1 || l[0].To[0] != kit.Colleague {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	q := asked(t, kit.Colleague, r)
	if len(q) != 1 || len(asked(t, kit.Administrator, r)) != 1 || q["Derelict"].MayRetire {
		t.Errorf("%+v", q)
	}
	if d := answer(t, kit.Colleague, api.RoundAnswer{IDs: []string{q["Derelict"].ID}, Answer: "retire"}); d.Decided != 0 {
		t.Errorf("a stand-in retires it: %+v", d)
	}
	if d := answer(t, kit.Colleague, api.RoundAnswer{IDs: []string{q["Derelict"].ID}, Answer: "keep", Confirmed: both}); d.Decided != 1 {
		t.Errorf("%+v", d)
	}
	second := begin(t, "Derelict", func(n *api.NewRound) { n.Name, n.Silence = "Derelict again", "caretaker" })
	if l := k.Letters(t); len(l) != 1 || l[0].To[0] != kit.Administrator {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	k.Move(31)
	defer k.Move(-31)
	run(t)
	if l := k.Letters(t); len(l) != 2 || !strings.Contains(l[1].Subject, "Nobody has answered about 1 group") {
		t.Errorf("%d letters: %.1500s", len(l), fmt.Sprint(l))
	}
	if now := read(t, second); now.State != "over" || now.Counts.Silent != 1 {
		t.Errorf("%+v", now)
	}
	for _, bad := range []string{"nobody.at.all@" + kit.Domain, "pilot@port.example", "x"} {
		n := api.NewRound{Name: "x", Questions: both, DueOn: day(30), StandIn: bad}
		if _, err := k.Round.Begin(ctx, ines, n); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%q stands in: %v", bad, err)
		}
	}
}

// A round that is repeated begins again, once, however many instances look and however long nobody looked.
func TestAgain(t *testing.T) {
	fleet(t, "Estuary", 2)
	first := begin(t, "Estuary", func(n *api.NewRound) { n.EveryMonths = 6 })
	if first.NextOn == "" {
		t.Fatalf("%+v", first)
	}
	k.Move(400)
	defer k.Move(-400)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 3 {
				if err := k.Round.Run(ctx); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	n := 0
	for _, r := range kit.First(k.Round.List(ctx, k.Actor(t, kit.Administrator), "", 100)).Items {
		if r.Previous == first.ID {
			n++
			if r.Counts.Total != 2 || r.DaysLeft < 29 || r.NextOn == "" || r.State != "open" {
				t.Errorf("%+v", r)
			}
			if len(asked(t, kit.Owner, r)) != 2 {
				t.Errorf("nobody is asked again")
			}
		}
	}
	if n != 1 {
		t.Errorf("it began again %d times", n)
	}
	seen := map[string]int{}
	for _, l := range k.Letters(t) {
		for _, to := range l.To {
			if strings.Contains(l.Text, "Estuary 0") {
				seen[l.Subject+to]++
			}
		}
	}
	for what, n := range seen {
		if n > 1 {
			t.Errorf("%d times %s", n, what)
		}
	}
}

// Two who answer at once: one answer counts.
func TestAnswersAtOnce(t *testing.T) {
	fleet(t, "Shoal", 1)
	r := begin(t, "Shoal")
	id := asked(t, kit.Owner, r)["Shoal 0"].ID
	var all sync.WaitGroup
	var mu sync.Mutex
	done := 0
	for i := range 20 {
		all.Go(func() {
			n := api.RoundAnswer{IDs: []string{id}, Answer: []string{"keep", "retire"}[i%2]}
			if i%2 == 0 {
				n.Confirmed = both
			}
			d, err := k.Round.Answer(ctx, k.Actor(t, []string{kit.Owner, kit.Administrator}[i%2]), n)
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			done += d.Decided
			mu.Unlock()
		})
	}
	all.Wait()
	c := read(t, r).Counts
	if done != 1 || c.Kept+c.Retired != 1 {
		t.Errorf("%d answers counted: %+v", done, c)
	}
}

// The evidence names each answer, and the entry of the history that says the same.
func TestEvidence(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	fleet(t, "Ropewalk", 2)
	r := begin(t, "Ropewalk", func(n *api.NewRound) { n.Name = "=cmd()" })
	answer(t, kit.Owner, api.RoundAnswer{IDs: []string{asked(t, kit.Owner, r)["Ropewalk 0"].ID}, Answer: "keep", Confirmed: both, Note: "All fine"})
	if err := k.History.Seal(ctx); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	if err := k.Round.Evidence(ctx, ines, r.ID, workspace.Export{Format: "csv", Open: func(string) io.Writer { return &out }}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil || len(rows) != 3 {
		t.Fatalf("%v, %v", rows, err)
	}
	if got, want := strings.Join(rows[0], ","), string(kit.First(os.ReadFile("testdata/evidence.csv"))); got+"\n" != want {
		t.Errorf("the columns of the evidence are\n%s\nnot\n%s", got, want)
	}
	for _, row := range rows[1:] {
		cell := map[string]string{}
		for i, name := range rows[0] {
			cell[name] = row[i]
		}
		if cell["round"] == "=cmd()" {
			t.Errorf("a formula: %q", cell["round"])
		}
		if cell["group"] == "Ropewalk 1" {
			if cell["state"] != "waiting" || cell["history_entry"] != "" {
				t.Errorf("%v", cell)
			}
			continue
		}
		if cell["state"] != "kept" || cell["confirmed"] != "needed; people" || cell["answered_by"] != kit.Owner || cell["note"] != "All fine" || len(cell["history_seal"]) != 64 {
			t.Errorf("%v", cell)
		}
		var entry int64
		fmt.Sscan(cell["history_entry"], &entry)
		e, err := k.History.Read(ctx, ines, entry)
		if err != nil || e.Kind != "round.answer" || !strings.Contains(e.Says, "confirmed Ropewalk 0") {
			t.Errorf("%+v, %v", e, err)
		}
	}
	if err := k.Round.Evidence(ctx, k.Actor(t, kit.Owner), r.ID, workspace.Export{Format: "csv", Open: func(string) io.Writer { return &out }}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an owner reads it: %v", err)
	}
	for by, want := range map[string]string{"domain": kit.Domain, "owner": kit.Owner, "area": "In no area"} {
		p := kit.First(k.Round.Progress(ctx, ines, r.ID, by)).Items
		if len(p) != 1 || p[0].Name != want || p[0].Total != 2 || p[0].Kept != 1 {
			t.Errorf("by %s: %+v", by, p)
		}
	}
}

func TestRoundsRefuseBadInput(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	good := api.NewRound{Name: "Good", Questions: both, DueOn: day(30), Reminders: []int{14, 3}}
	for field, bad := range map[string]func(*api.NewRound){
		"name":         func(n *api.NewRound) { n.Name = " " },
		"questions[0]": func(n *api.NewRound) { n.Questions = []string{"why"} },
		"questions":    func(n *api.NewRound) { n.Questions = nil },
		"due_on":       func(n *api.NewRound) { n.DueOn = "tomorrow" },
		"due_on ":      func(n *api.NewRound) { n.DueOn = day(0) },
		"due_on  ":     func(n *api.NewRound) { n.DueOn = day(500) },
		"due_on   ":    func(n *api.NewRound) { n.DueOn, n.Silence, n.Reminders = day(7), "retire", []int{1} },
		"reminders[1]": func(n *api.NewRound) { n.Reminders = []int{3, 14} },
		"reminders[0]": func(n *api.NewRound) { n.Reminders = []int{60} },
		"reminders":    func(n *api.NewRound) { n.Silence, n.Reminders = "retire", nil },
		"silence":      func(n *api.NewRound) { n.Silence = "shout" },
		"every_months": func(n *api.NewRound) { n.EveryMonths = 1; n.DueOn = day(60) },
		"filter":       func(n *api.NewRound) { n.Filter = "name sw" },
		"filter ":      func(n *api.NewRound) { n.Filter = `name eq "Nothing is called so"` },
	} {
		n := good
		bad(&n)
		_, err := k.Round.Begin(ctx, ines, n)
		e, ok := err.(*workspace.Error)
		if !ok || e.Kind != workspace.Invalid || len(e.Problems) == 0 || e.Problems[0].Field != strings.TrimSpace(field) {
			t.Errorf("%s: %v", field, err)
		}
	}
	fleet(t, "Capstan", 1)
	r := begin(t, "Capstan")
	sooner, none := day(10), []int{}
	if now, err := k.Round.Change(ctx, ines, r.ID, api.RoundPatch{DueOn: &sooner, Reminders: &none}, r.Version); err != nil || now.DueOn != sooner || len(now.Reminders) != 0 {
		t.Errorf("%+v, %v", now, err)
	}
	if _, err := k.Round.Change(ctx, ines, r.ID, api.RoundPatch{DueOn: &sooner}, r.Version); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("over what somebody else changed: %v", err)
	}
	if _, err := k.Round.End(ctx, ines, r.ID, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Round.End(ctx, ines, r.ID, 0); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("ended twice: %v", err)
	}
	if len(asked(t, kit.Owner, r)) != 0 {
		t.Error("it is asked about still")
	}
}
