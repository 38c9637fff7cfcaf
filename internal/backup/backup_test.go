package backup_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/backup"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "backup", &k, nil) }

// contents returns the lines of a back-up but for the first and the last, which say when it
// was made.
func contents(t *testing.T, b []byte) []string {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return lines[1 : len(lines)-1]
}

func take(t *testing.T, dsn string) ([]byte, backup.Summary) {
	t.Helper()
	var b bytes.Buffer
	did, err := backup.Take(ctx, dsn, &b)
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes(), did
}

func place(t *testing.T, name string) string {
	t.Helper()
	dsn, err := dbtest.Schema(k.DSN, "ivytable_"+name)
	if err != nil {
		t.Fatal(err)
	}
	return dsn
}

// fill puts something of everything into a workspace.
func fill(t *testing.T, l *kit.Kit) {
	t.Helper()
	ines := l.Actor(t, kit.Administrator)
	g := l.Staffed(t, "Größe, “quoted” \\ 'x'")
	for _, err := range []error{
		l.Send(t, g.Address, kit.Member, true, "sent"),
		l.Send(t, g.Address, kit.Member, false, "waits"),
		kit.Last(l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: `title pr`}, 0)),
		kit.Last(l.Life.Retire(ctx, ines, l.Make(t, "Retired").Address, 0)),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	to, err := l.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	binary := strings.Repeat("\x00\xff\x80line\r\n", 60_000) // of more than one row
	if err := l.Post.Accept(ctx, kit.Arrived(t, kit.Member, true, "binary", binary, to)); err != nil {
		t.Fatal(err)
	}
	l.Undelivered(t, l.Make(t, "Undelivered Here").Address)
}

// Everything comes back as it was: each row of each table.
func TestEverythingComesBack(t *testing.T) {
	l := k.Fresh(t, "backup_from")
	fill(t, l)
	b, did := take(t, l.DSN)
	if did.Tables < 25 || did.Rows < 50 {
		t.Errorf("taken: %+v", did)
	}
	into := place(t, "backup_into")
	back, err := backup.Restore(ctx, into, bytes.NewReader(b))
	if err != nil || back.Rows != did.Rows || back.Tables != did.Tables {
		t.Fatalf("put back: %+v, %v; want %+v", back, err, did)
	}
	again, _ := take(t, into)
	was, is := contents(t, b), contents(t, again)
	slices.Sort(was)
	slices.Sort(is)
	for i := range min(len(was), len(is)) {
		if was[i] != is[i] {
			t.Fatalf("a row was\n%.300s\nand is\n%.300s", was[i], is[i])
		}
	}
	if len(was) != len(is) {
		t.Errorf("%d lines were, %d are", len(was), len(is))
	}
	from, err := sql.Open("mysql", l.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	to, err := sql.Open("mysql", into)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	for _, line := range was { // the database's own word, of the columns that it fills in by itself too
		if name, ok := strings.CutPrefix(line, `{"table":"`); ok {
			name, _, _ = strings.Cut(name, `"`)
			var columns string
			if err := from.QueryRow("SELECT GROUP_CONCAT('COALESCE(HEX(`', column_name, '`), \\'null\\')' SEPARATOR ',') FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ?", name).Scan(&columns); err != nil {
				t.Fatal(err)
			}
			var a, b int64
			sum := "SELECT BIT_XOR(CRC32(CONCAT_WS(' ', " + columns + "))) FROM " + name
			if err := errors.Join(from.QueryRow(sum).Scan(&a), to.QueryRow(sum).Scan(&b)); err != nil || a != b {
				t.Errorf("%s: %v and %v, %v", name, a, b, err)
			}
		}
	}
	m, err := kit.New(into)
	if err == nil {
		t.Error("a kit was made in a place that is taken") // New fills an empty one
		m.Pool.Close()
	}
}

// A back-up that is taken while mail flows is of one moment: each message is whole, with all
// that belongs to it.
func TestWhileMailFlows(t *testing.T) {
	l := k.Fresh(t, "backup_flow")
	g := l.Make(t, "Flowing")
	l.Flow(t, 1_000_000, 1_000_000)
	if err := l.Send(t, g.Address, kit.Member, true, "the first"); err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	var all sync.WaitGroup
	defer func() { close(stop); all.Wait() }()
	for i := range 4 {
		all.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprintf("m-%d-%d", i, n)); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	for i := range 5 {
		b, _ := take(t, l.DSN)
		into := place(t, fmt.Sprintf("backup_flow_%d", i))
		if _, err := backup.Restore(ctx, into, bytes.NewReader(b)); err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("mysql", into)
		if err != nil {
			t.Fatal(err)
		}
		var messages, mailings, jobs int
		err = db.QueryRow("SELECT (SELECT COUNT(*) FROM messages), (SELECT COUNT(*) FROM mailings m JOIN messages x ON x.id = m.message_id), (SELECT COUNT(*) FROM jobs j JOIN mailings m ON m.id = j.mailing_id)").Scan(&messages, &mailings, &jobs)
		db.Close()
		if err != nil || messages == 0 || messages != mailings || messages != jobs {
			t.Errorf("%d messages, %d mailings, %d jobs, %v", messages, mailings, jobs, err)
		}
	}
}

// What was cut or changed is refused, and nothing of it is put in.
func TestDamage(t *testing.T) {
	l := k.Fresh(t, "backup_damage")
	fill(t, l)
	b, _ := take(t, l.DSN)
	into := place(t, "backup_damaged")
	refused := func(what string, b []byte) {
		t.Helper()
		if _, err := backup.Restore(ctx, into, bytes.NewReader(b)); err == nil {
			t.Errorf("%s was taken", what)
		}
	}
	for _, n := range []int{0, 1, 20, len(b) / 2, len(b) - 20, len(b) - 1} {
		refused(fmt.Sprintf("%d octets of %d", n, len(b)), b[:n])
	}
	for i := 11; i < len(b); i += len(b)/40 + 1 {
		changed := slices.Clone(b)
		changed[i] ^= 0x20
		refused(fmt.Sprintf("one with octet %d changed", i), changed)
	}
	pack := func(text string) []byte {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		_, _ = io.WriteString(z, text)
		z.Close()
		return out.Bytes()
	}
	z, _ := gzip.NewReader(bytes.NewReader(b))
	raw, _ := io.ReadAll(z)
	text := string(raw)
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	refused("one without its last row", pack(strings.Join(append(slices.Clone(lines[:len(lines)-2]), lines[len(lines)-1]), "")))
	refused("one with another name in it", pack(strings.Replace(text, "Oda Fenn", "Eve Fenn", 1)))
	refused("one of another kind", pack("{\"format\":\"x\"}\n"+strings.Join(lines[1:], "")))
	refused("no back-up", []byte("-- SQL dump\n"))
	db, err := sql.Open("mysql", into)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var n int
	if err := db.QueryRow("SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE()").Scan(&n); err != nil || n != 0 {
		t.Errorf("%d tables were made, %v", n, err)
	}
	if _, err := backup.Restore(ctx, l.DSN, bytes.NewReader(b)); err == nil || !strings.Contains(err.Error(), "there is a workspace already") {
		t.Errorf("into a place that is taken: %v", err)
	}
	if _, err := backup.Restore(ctx, into, bytes.NewReader(b)); err != nil {
		t.Errorf("the one that is whole: %v", err)
	}
}

// A back-up of a newer program is refused, in words.
func TestNewer(t *testing.T) {
	l := k.Fresh(t, "backup_newer")
	l.SQL(t, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, 1)")
	b, _ := take(t, l.DSN)
	if _, err := backup.Restore(ctx, place(t, "backup_newer_into"), bytes.NewReader(b)); err == nil || !strings.Contains(err.Error(), "use a newer one") {
		t.Errorf("%v", err)
	}
}
