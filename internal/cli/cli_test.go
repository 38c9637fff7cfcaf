package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/httpapi"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	dsn    string
	k      *kit.Kit
	server *httptest.Server
	update = flag.Bool("update", false, "write the golden files again")
)

func TestMain(m *testing.M) {
	flag.Parse()
	time.Local = time.UTC
	kit.Main(m, "cli", &k, func() (func(), error) {
		routes, _ := httpapi.Routes(k.Service, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: version})
		server = httptest.NewServer(routes)
		return server.Close, nil
	})
}

// as makes the commands that follow those of somebody.
func as(t *testing.T, address string) {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("IVYTABLE_URL", server.URL)
	t.Setenv("COLUMNS", "100")
	token := ""
	if address != "" {
		by := k.Actor(t, address)
		k.Write(t, func(tx *store.Tx) error { return tx.EndCredentials([]uuid.UUID{by.Person.ID}) }) // those of before
		made, err := k.Account.CreateToken(context.Background(), by, api.NewToken{Name: "test", Scopes: []string{"everything"}})
		if err != nil {
			t.Fatal(err)
		}
		token = made.Secret
	}
	t.Setenv("IVYTABLE_TOKEN", token)
}

func command(t *testing.T, stdin string, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = Run(args, strings.NewReader(stdin), &o, &e)
	return code, o.String(), e.String()
}

// steps are commands with the exit code that each has; what they print is in
// testdata/commands.txt.
var steps = []struct {
	as, line string
	code     int
}{
	{kit.Administrator, "me", 0},
	{kit.Administrator, `address propose Slipway Repairs`, 0},
	{kit.Administrator, "group create Slipway Repairs --owner oda.fenn@merrowline.example --owner bram.tolley@merrowline.example --member tove.alder@merrowline.example --member pilot@gannetport.example --set externals=owners", 0},
	{kit.Administrator, "address check Slipway.Repairs@merrowline.example", 0},
	{kit.Administrator, "group create Slipway Repairs --owner oda.fenn@merrowline.example", 5},
	{kit.Administrator, "group create Nobodys", 1},
	{kit.Administrator, "group list slip", 0},
	{kit.Administrator, "group list slip --output csv", 0},
	{kit.Administrator, "member list slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "policy show slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "rehearse post slipway-repairs@merrowline.example --as stranger@elsewhere.example", 0},
	{kit.Administrator, "rehearse post slipway-repairs@merrowline.example --as stranger@elsewhere.example --output json", 0},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example post=anyone hold=nobody --preview", 0},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example find=members --preview", 1},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example post=anyone --preview --output csv", 0},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example post=anyone hold=nobody", 0},
	{kit.Administrator, "rehearse post slipway-repairs@merrowline.example --as stranger@elsewhere.example", 0},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example find=members", 1},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example post", 2},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example sing=anyone", 2},
	{kit.Administrator, "policy change slipway-repairs@merrowline.example post=everybody", 1},
	{kit.Administrator, "term list", 0},
	{kit.Administrator, "term set Everything+else --length 180+days --preview", 0},
	{kit.Administrator, "term set Everything+else --length 180+days", 0},
	{kit.Administrator, "term set Repairs --length 3+months --filter name+co+\"Repairs\" --notices 21,7,1 --renewed-by post", 0},
	{kit.Administrator, "term caretaker signe.holm@merrowline.example", 0},
	{kit.Administrator, "term set Repairs --length 3+days", 1},
	{kit.Administrator, "term set Repairs --filter days_left+lt+3", 1},
	{kit.Administrator, "term set Another", 2},
	{kit.Administrator, "term settings --notices 3,14", 1},
	{kit.Administrator, "term settings --recovery-days 30", 0},
	{kit.Administrator, "term try slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "term forecast --by rule", 0},
	{kit.Administrator, "term end Repairs --preview", 0},
	{kit.Administrator, "term end Nothing", 1},
	{kit.Administrator, "group hold slipway-repairs@merrowline.example", 1},
	{kit.Administrator, "group hold slipway-repairs@merrowline.example --reason A+claim+is+open", 0},
	{kit.Administrator, "group retire slipway-repairs@merrowline.example", 5},
	{kit.Administrator, "group release slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "group gone", 0},
	{kit.Owner, "member add slipway-repairs@merrowline.example petra.vane@merrowline.example nobody@merrowline.example", 1},
	{kit.Owner, "member change slipway-repairs@merrowline.example tove.alder@merrowline.example --role moderator", 0},
	{kit.Owner, "member remove slipway-repairs@merrowline.example petra.vane@merrowline.example", 0},
	{kit.Owner, "member remove slipway-repairs@merrowline.example petra.vane@merrowline.example", 3},
	{kit.Owner, "term settings --recovery-days 60", 4},
	{kit.Owner, "group create Mine --owner oda.fenn@merrowline.example", 4},
	{kit.Owner, "group renew slipway-repairs@merrowline.example --reason The+boats+still+break", 0},
	{kit.Owner, "group retire slipway-repairs@merrowline.example", 0},
	{kit.Owner, "group renew slipway-repairs@merrowline.example", 5},
	{kit.Owner, "group restore slipway-repairs@merrowline.example", 0},
	{kit.Owner, "waiting list", 0},
	{kit.Owner, "history list slipway-repairs@merrowline.example", 0},
	{kit.Owner, "history show 5", 0},
	{kit.Owner, "history affected 5", 0},
	{kit.Owner, "history show five", 2},
	{kit.Owner, "history verify", 4},
	{kit.Administrator, "history verify", 0},
	{kit.Administrator, "history verify --kept nothing", 2},
	{kit.Owner, "history list slipway-repairs@merrowline.example --output csv", 0},
	{kit.Owner, "group show nothing@merrowline.example", 3},
	{kit.Administrator, "naming change --creators workspace --pattern {name}+({department}) --add-word payroll --add-beginning All", 0},
	{kit.Administrator, "naming show", 0},
	{kit.Administrator, "naming change --add-word slipway --preview", 0},
	{kit.Administrator, "naming try Payroll --as tove.alder@merrowline.example", 0},
	{kit.Administrator, "naming try Payroll", 0},
	{kit.Administrator, "naming change --pattern {shoe}+{name}", 1},
	{kit.Administrator, "starting-point list", 0},
	{kit.Administrator, "starting-point save like-slipway --title Like+the+slipway --from-group slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "starting-point delete team-room", 5},
	{kit.Administrator, "group like Slipway Repair", 0},
	{kit.Administrator, "group create Deck Hands --starting-point team-room --owner oda.fenn@merrowline.example --rule department+is+Dispatch --alias hands --quiet", 1},
	{kit.Administrator, "group create Deck Hands --starting-point team-room --owner oda.fenn@merrowline.example --alias hands --quiet", 0},
	{kit.Administrator, "group change deck-hands@merrowline.example --address hands-on-deck --add-alias dekhands", 0},
	{kit.Owner, "rule set hands-on-deck@merrowline.example title+pr --preview", 0},
	{kit.Owner, `rule match department+eq+"dispatch"`, 0},
	{kit.Owner, `rule match department+is+"dispatch"`, 1},
	{kit.Owner, `rule set hands-on-deck@merrowline.example department+eq+"dispatch" --guard 10`, 0},
	{kit.Owner, "rule show hands-on-deck@merrowline.example", 0},
	{kit.Owner, "rule explain tove.alder@merrowline.example --group hands-on-deck@merrowline.example", 0},
	{kit.Owner, "member list hands-on-deck@merrowline.example --way rule", 0},
	{kit.Owner, "member remove hands-on-deck@merrowline.example tove.alder@merrowline.example", 5},
	{kit.Owner, "rule remove hands-on-deck@merrowline.example --with-people", 0},
	{kit.Owner, "member add slipway-repairs@merrowline.example --list testdata/people.txt --preview", 0},
	{kit.Owner, "member add slipway-repairs@merrowline.example --list testdata/people.txt --quiet", 1},
	{kit.Owner, "member change slipway-repairs@merrowline.example petra.vane@merrowline.example signe.holm@merrowline.example --role moderator", 0},
	{kit.Owner, "member remove slipway-repairs@merrowline.example signe.holm@merrowline.example nobody@merrowline.example", 1},
	{kit.Owner, "history list slipway-repairs@merrowline.example --limit 1", 0},
	{kit.Owner, "member add slipway-repairs@merrowline.example --taken-out-by 9999", 1},
	{kit.Owner, "member add slipway-repairs@merrowline.example --taken-out-by 113", 0},
	{kit.Owner, "member remove slipway-repairs@merrowline.example signe.holm@merrowline.example", 0},
	{kit.Owner, "member list slipway-repairs@merrowline.example --limit 2", 0},
	{kit.Owner, "member list slipway-repairs@merrowline.example --all", 0},
	{kit.Owner, "member list slipway-repairs@merrowline.example --all --limit 2", 2},
	{kit.Owner, "member list slipway-repairs@merrowline.example --output csv", 0},
	{kit.Owner, "member invite slipway-repairs@merrowline.example captain@gannetport.example", 0},
	{kit.Owner, "invitation list slipway-repairs@merrowline.example", 0},
	{kit.Owner, "invitation call-back slipway-repairs@merrowline.example captain@gannetport.example", 0},
	{kit.Owner, "override set slipway-repairs@merrowline.example prize@lucky-draw.example barred --reason Advertising", 0},
	{kit.Owner, "override list slipway-repairs@merrowline.example", 0},
	{kit.Member, "group list --scope joinable", 0},
	{kit.Auditor, "group join hands-on-deck@merrowline.example --note Nights", 0},
	{kit.Auditor, "request list --mine --output csv", 0},
	{kit.Owner, "join-link create slipway-repairs@merrowline.example --days 7 --max 20", 0},
	{kit.Owner, "join-link list slipway-repairs@merrowline.example", 0},
	{kit.Owner, "group tree hands-on-deck@merrowline.example", 0},
	{kit.Owner, "group reaches slipway-repairs@merrowline.example", 0},
	{kit.Administrator, "person add liv.strand@merrowline.example Liv+Strand --set department=Deck", 0},
	{kit.Administrator, "person change liv.strand@merrowline.example --set title=Bosun --set department=", 0},
	{kit.Administrator, "person search liv", 0},
	{kit.Administrator, "person list --lacks title", 0},
	{kit.Administrator, "person change liv.strand@merrowline.example --address liv.strand-holm@merrowline.example", 0},
	{kit.Administrator, "person change liv.strand-holm@merrowline.example --address liv.strand@merrowline.example --remove-former liv.strand-holm@merrowline.example", 0},
	{kit.Administrator, "person move liv.strand@merrowline.example --join slipway-repairs@merrowline.example,nothing-here --like oda.fenn@merrowline.example --preview", 0},
	{kit.Administrator, "person move liv.strand@merrowline.example --join slipway-repairs@merrowline.example --until 2999-01-01", 1},
	{kit.Administrator, "person move liv.strand@merrowline.example", 2},
	{kit.Owner, "member change slipway-repairs@merrowline.example petra.vane@merrowline.example --until someday", 1},
	{kit.Owner, "member change slipway-repairs@merrowline.example petra.vane@merrowline.example --until none", 0},
	{kit.Administrator, "attribute save shift --label Shift --seen", 0},
	{kit.Administrator, "attribute save berth --kind number", 0},
	{kit.Administrator, "attribute save title", 1},
	{kit.Administrator, "attribute list", 0},
	{kit.Administrator, "person change liv.strand@merrowline.example --set berth=north", 1},
	{kit.Administrator, "person change liv.strand@merrowline.example --set berth=12 --set shift=B", 0},
	{kit.Administrator, "person list --filter berth+gt+10", 0},
	{kit.Administrator, "attribute delete berth", 0},
	{kit.Administrator, "attribute delete shift --preview", 0},
	{kit.Administrator, "domain add islands.merrowline.example", 0},
	{kit.Administrator, "domain main islands.merrowline.example --preview", 0},
	{kit.Administrator, "domain list", 0},
	{kit.Administrator, "domain retire merrowline.example", 5},
	{kit.Administrator, "domain retire islands.merrowline.example", 0},
	{kit.Owner, "domain add islands.merrowline.example", 4},
	{kit.Administrator, "person depart oda.fenn@merrowline.example --preview", 0},
	{kit.Administrator, "person depart liv.strand@merrowline.example", 0},
	{kit.Administrator, "person return liv.strand@merrowline.example", 0},
	{kit.Administrator, "person password-link liv.strand@merrowline.example", 0},
	{kit.Administrator, "person password-link nobody@merrowline.example", 3},
	{kit.Member, "person password-link liv.strand@merrowline.example", 4},
	{kit.Administrator, "person history liv.strand@merrowline.example", 0},
	{kit.Administrator, "history keeping", 0},
	{kit.Administrator, "history keep --months 6", 1},
	{kit.Administrator, "history keep --months 84 --add-recipient signe.holm@merrowline.example --every month --preview", 0},
	{kit.Administrator, "history keep --months 84 --every month", 0},
	{kit.Owner, "history keep --months 84", 4},
	{kit.Administrator, "report", 0},
	{kit.Owner, "report", 4},
	{kit.Administrator, "person import testdata/staff.csv --preview", 1},
	{kit.Administrator, "person import testdata/staff.csv", 1},
	{kit.Member, "person add x@merrowline.example X", 4},
	{kit.Administrator, "naming change --creators administrators --pattern= --remove-word payroll --remove-beginning All", 0},
	{"", "group list", 4},
	{"", "--version", 0},
	{"", "group frobnicate", 2},
	{"", "group list --colour", 2},
	{"", "group list --output xml", 2},
	{"", "group show", 2},
	{kit.Owner, "undelivered list", 0},
	{kit.Owner, "undelivered retry 01935c1e-7a10-7000-8000-3f1f2a9c5b11", 1},
	{kit.Owner, "me", 0},
	{kit.Owner, "second-factor show", 0},
	{kit.Owner, "protection show", 4},
	{kit.Administrator, "protection show", 0},
	{kit.Administrator, "protection change --second-factor administrators --groups 3 --preview", 0},
	{kit.Administrator, "protection change --shown title,shoeSize", 1},
	{kit.Administrator, "protection change --outsiders 20", 0},
	{kit.Administrator, "protection change --mail-of-writer 0", 2},
	{kit.Administrator, "protection change --mail-of-writer 300 --mail-to-group 900 --preview", 0},
	{kit.Administrator, "nesting list", 0},
}

// fields splits a line of the table into arguments: a word that begins with a
// capital belongs to the one before it, as names do. A plus stands for a space.
func fields(line string) []string {
	var out []string
	for _, w := range strings.Fields(line) {
		if n := len(out); n > 0 && w[0] >= 'A' && w[0] <= 'Z' && out[n-1][0] >= 'A' && out[n-1][0] <= 'Z' {
			out[n-1] += " " + w
			continue
		}
		out = append(out, w)
	}
	for i, w := range out {
		out[i] = strings.ReplaceAll(w, "+", " ")
	}
	return out
}

var varying = regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12}|127\.0\.0\.1:\d+|/join/[\w-]+|\b[0-9a-f]{16}\b|--cursor \w+`)

func TestCommands(t *testing.T) {
	var got strings.Builder
	for _, s := range steps {
		as(t, s.as)
		code, out, errs := command(t, kit.Password+"\n", fields(s.line)...) // which is asked for where a token is not enough
		if code != s.code {
			t.Errorf("%s: exit code %d, want %d\n%s%s", s.line, code, s.code, out, errs)
		}
		for _, line := range strings.Split(out, "\n") {
			if n := cells(line); n > lineWidth && !strings.Contains(s.line, "--output") {
				t.Errorf("%s: a line of %d columns: %s", s.line, n, line)
			}
		}
		fmt.Fprintf(&got, "$ ivytable %s\n%s%s[%d]\n\n", s.line, out, errs, code)
	}
	text := varying.ReplaceAllString(got.String(), "…")
	const path = "testdata/commands.txt"
	if *update {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if text != string(want) {
		t.Errorf("the output differs from %s; look at it with: go test ./internal/cli -update; git diff\n%s", path, firstDifference(text, string(want)))
	}
}

func firstDifference(got, want string) string {
	g, w := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range min(len(g), len(w)) {
		if g[i] != w[i] {
			return fmt.Sprintf("line %d:\n got %s\nwant %s", i+1, g[i], w[i])
		}
	}
	return "one is longer than the other"
}

func TestSignIn(t *testing.T) {
	as(t, "")
	if code, _, errs := command(t, "wrong\n", "sign-in", kit.Member); code != 4 || !strings.Contains(errs, "The address or the password is wrong.") {
		t.Errorf("a wrong password: %d, %s", code, errs)
	}
	if code, _, errs := command(t, kit.Password+"\n", "sign-in", kit.Member); code != 0 {
		t.Fatalf("%d, %s", code, errs)
	}
	const chosen = "four words on a quay"
	for _, c := range []struct {
		in   string
		code int
		says string
	}{{"wrong\n" + chosen + "\n", 1, "This is not your password."}, {kit.Password + "\nshort\n", 1, "choose one of 10 or more"}, {kit.Password + "\n" + chosen + "\n", 0, ""}} {
		if code, _, errs := command(t, c.in, "password"); code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("%q: %d, %s", c.in, code, errs)
		}
	}
	if code, _, errs := command(t, chosen+"\n", "sign-in", kit.Member); code != 0 {
		t.Fatalf("%d, %s", code, errs)
	}
	path := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "ivytable", "sign-in.json")
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the sign-in is kept as %v, %v", info, err)
	}
	if code, out, errs := command(t, "", "me"); code != 0 || !strings.Contains(out, kit.Member) {
		t.Errorf("%d, %s%s", code, out, errs)
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if code, _, errs := command(t, "", "sign-out"); code != 0 {
			t.Errorf("sign-out: %s", errs)
		}
	}
	if code, _, _ := command(t, "", "me"); code != 4 {
		t.Errorf("after sign-out: %d", code)
	}
	if err := os.WriteFile(path, kept, 0o600); err != nil { // as from a back-up
		t.Fatal(err)
	}
	if code, _, _ := command(t, "", "me"); code != 4 {
		t.Error("the service still knows a sign-in that was ended")
	}
	if code, _, errs := command(t, "", "sign-out"); code != 0 {
		t.Errorf("a sign-in that had ended: %s", errs)
	}
}

func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ivytable.json")
	if err := os.WriteFile(file, []byte(`{"listen": "file", "relay": "file", "mail-name": "file"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("IVYTABLE_CONFIG", file)
	t.Setenv("IVYTABLE_RELAY", "environment")
	t.Setenv("IVYTABLE_MAIL_NAME", "environment")
	var s daemon
	fresh := func() *cobra.Command {
		c := &cobra.Command{Use: "x"}
		s.flags(c, "", "data", "info")
		c.Flags().StringSliceVar(&s.relay, "relay", nil, "")
		c.Flags().String("config", "", "")
		markSettings(c.Flags())
		return c
	}
	c := fresh()
	if err := c.ParseFlags([]string{"--mail-name", "flag"}); err != nil {
		t.Fatal(err)
	}
	if err := settings(c); err != nil {
		t.Fatal(err)
	}
	if s.listen != "file" || len(s.relay) != 1 || s.relay[0] != "environment" || s.mailName != "flag" {
		t.Errorf("listen from the %s, relay from the %s, mail name from the %s", s.listen, s.relay, s.mailName)
	}
	t.Setenv("IVYTABLE_CONFIG", filepath.Join(t.TempDir(), "absent"))
	if err := settings(fresh()); err == nil {
		t.Error("a file that is not there was read")
	}
}

// Every command says what it does and shows how, and no example is of a command
// or an option that is not there.
func TestHelp(t *testing.T) {
	root := (&app{}).root()
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
		}
		if c.HasSubCommands() && c.RunE == nil || c == root {
			return
		}
		if c.Short == "" || c.Example == "" && !c.HasSubCommands() {
			t.Errorf("%s: short %q, example %q", c.CommandPath(), c.Short, c.Example)
		}
		for _, line := range strings.Split(c.Example, "\n") {
			_, args, found := strings.Cut(line, "ivytable ")
			if !found {
				continue
			}
			words := strings.Fields(args)
			sub, _, err := root.Find(words)
			if err != nil {
				t.Errorf("%s: no such command: %s", c.CommandPath(), line)
				continue
			}
			for _, w := range words {
				if name, _, _ := strings.Cut(strings.TrimPrefix(w, "--"), "="); strings.HasPrefix(w, "--") && sub.Flag(name) == nil {
					t.Errorf("%s: no such option: %s", c.CommandPath(), w)
				}
			}
		}
	}
	walk(root)
}

func TestTable(t *testing.T) {
	var b bytes.Buffer
	table(&b, lineWidth, []tableColumn{{heading: "NAME"}, {heading: "ADDRESS", whole: true}}, [][]string{{strings.Repeat("夜", 60), "a@b.example"}, {"x", "y"}})
	for _, line := range strings.Split(b.String(), "\n") {
		if n := cells(line); n > lineWidth {
			t.Errorf("%d columns: %s", n, line)
		}
	}
	if !strings.Contains(b.String(), "夜…  a@b.example") && !strings.Contains(b.String(), "…   a@b.example") {
		t.Errorf("cut and aligned otherwise:\n%s", b.String())
	}
}

// JSON and CSV are whole; a table that is cut says so, and how the rest is got.
func TestListsAreNotCutInSilence(t *testing.T) {
	const n = 61
	for i := range n {
		k.Make(t, fmt.Sprintf("Ropewalk %02d", i), func(n *api.NewGroup) { n.People = nil })
	}
	as(t, kit.Administrator)
	code, out, errs := command(t, "", "group", "list", "ropewalk")
	if code != 0 || strings.Count(out, "\n") != 51 || !strings.HasPrefix(errs, "50 of 61 shown. All: --all. The next: --cursor ") {
		t.Errorf("%d: %d lines, %s", code, strings.Count(out, "\n"), errs)
	}
	cursor := strings.TrimSpace(errs[strings.LastIndexByte(errs, ' '):])
	if _, out, errs := command(t, "", "group", "list", "ropewalk", "--cursor", cursor); strings.Count(out, "\n") != 12 || errs != "" {
		t.Errorf("the next: %d lines, %s", strings.Count(out, "\n"), errs)
	}
	for _, args := range []string{"--all", "--output csv", "--output csv --all"} {
		if _, out, errs := command(t, "", append([]string{"group", "list", "ropewalk"}, strings.Fields(args)...)...); strings.Count(out, "\n") != n+1 || errs != "" {
			t.Errorf("%s: %d lines, %s", args, strings.Count(out, "\n"), errs)
		}
	}
	_, out, _ = command(t, "", "group", "list", "ropewalk", "--output", "json")
	var page api.Page[api.Group]
	if err := json.Unmarshal([]byte(out), &page); err != nil || len(page.Items) != n || page.Next != "" || page.Total != n {
		t.Errorf("as JSON: %d of %d, next %q, %v", len(page.Items), page.Total, page.Next, err)
	}
	if _, out, _ := command(t, "", "group", "list", "ropewalk", "--output", "csv", "--limit", "3"); strings.Count(out, "\n") != 4 {
		t.Errorf("three: %s", out)
	}
}

// What one command is to do is said where it is called, not in the environment.
func TestTheEnvironmentSetsOnlySettings(t *testing.T) {
	known := strings.Fields("output url config listen smtp-listen submission-listen submission-tls-listen tls-cert tls-key trusted-relays trusted-relay-names trusted-proxies smtp-connections smtp-connections-by-source metrics-listen data dsn public-url relay mail-name log-level log-format post-office post-office-smtp resolver relay-tls relay-ca relay-user relay-password-file lmtp-listen")
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if _, is := f.Annotations[isSetting]; is != slices.Contains(known, f.Name) {
				t.Errorf("%s --%s is a setting: %v", c.CommandPath(), f.Name, is)
			}
		})
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk((&app{}).root())
	as(t, kit.Administrator)
	file := filepath.Join(t.TempDir(), "few.csv")
	if err := os.WriteFile(file, []byte("mail\n"+kit.Administrator+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("IVYTABLE_FORCE", "true")
	t.Setenv("IVYTABLE_PREVIEW", "true")
	if code, out, errs := command(t, "", "person", "import", file, "--sync"); code != 5 || !strings.Contains(errs, "force it") {
		t.Errorf("an import that has to be forced: %d, %s%s", code, out, errs)
	}
}
