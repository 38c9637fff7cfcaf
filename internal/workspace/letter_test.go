package workspace_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func TestNoticesInEveryLanguage(t *testing.T) {
	filled := func(w workspace.Wording) []string {
		texts := append(slices.Clone(w.Paragraphs), w.Subject, w.Link, w.Why, w.Item)
		set := map[string]bool{}
		for _, x := range texts {
			for _, b := range braces.FindAllString(x, -1) {
				set[b] = true
			}
		}
		return slices.Sorted(maps.Keys(set))
	}
	all := workspace.Letters()
	for kind, english := range all["en"] {
		for tag, letters := range all {
			w, ok := letters[kind]
			if !ok || w.Subject == "" || w.Why == "" || (w.Link == "") != (english.Link == "") || len(w.Paragraphs) != len(english.Paragraphs) {
				t.Errorf("%s in %s: %+v", kind, tag, w)
			}
			if got, want := fmt.Sprint(filled(w)), fmt.Sprint(filled(english)); got != want {
				t.Errorf("%s in %s fills in %s; in English %s", kind, tag, got, want)
			}
			if tag != "en" && slices.Equal(w.Paragraphs, english.Paragraphs) {
				t.Errorf("%s in %s is not translated", kind, tag)
			}
		}
	}
	k.Queued(t)
	k.Make(t, "Hafenmeister", func(n *api.NewGroup) { n.Quiet, n.Language = false, "de" })
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "Sie sind jetzt in Hafenmeister" || !strings.Contains(letters[0].Text, "Content-Language: de") || !strings.Contains(letters[0].Text, "<html lang=\"de\">") || !strings.Contains(letters[0].Text, "jede Nachricht") {
		t.Errorf("%+v", letters)
	}
}

var braces = regexp.MustCompile(`\{[a-z]+\}`)

var update = flag.Bool("update", false, "write the golden files again")

// samples are what letters are filled with, by language where it is a part of a sentence.
func samples(tag string) map[string]string {
	out := map[string]string{}
	for _, w := range workspace.Letters()[tag] {
		for _, x := range append(slices.Clone(w.Paragraphs), w.Subject, w.Link, w.Why, w.Item) {
			for _, b := range regexp.MustCompile(`\{[a-z_]+\}`).FindAllString(x, -1) {
				out[strings.Trim(b, "{}")] = "«" + strings.Trim(b, "{}") + "»"
			}
		}
	}
	maps.Copy(out, map[string]string{"name": "Bookings", "address": "bookings@merrowline.example", "person": "Tove Alder", "by": "Ines Skerry", "owners": "Oda Fenn", "number": "3", "date": workspace.DateIn(tag, time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)),
		"count": workspace.Counted(tag, 2, "group"), "round": "Autumn round", "silence": workspace.Phrase(tag, "silence retire"), "questions": workspace.Phrase(tag, "round needed") + "; " + workspace.Phrase(tag, "round people"), "note": "The auditors come in January.", "description": "Berths and moorings."})
	return out
}

// What every letter says is read in testdata/letters.txt.
func TestWhatLettersSay(t *testing.T) {
	var b strings.Builder
	for _, tag := range []string{"en", "de"} {
		for _, kind := range slices.Sorted(maps.Keys(workspace.Letters()[tag])) {
			l := new(workspace.View).Letter(kind, tag, "/there", samples(tag))
			fmt.Fprintf(&b, "== %s, %s\n%s\n\n%s\n", kind, tag, l.Subject, strings.Join(l.Paragraphs, "\n"))
			if item := workspace.Letters()[tag][kind].Item; item != "" {
				fmt.Fprintf(&b, "- %s\n", item)
			}
			fmt.Fprintf(&b, "[%s]\n-- %s\n\n", l.LinkText, l.Why)
		}
	}
	golden(t, "testdata/letters.txt", b.String())
}

// A whole letter, as it goes out, is read in testdata/letter.txt.
func TestAWholeLetter(t *testing.T) {
	k.Queued(t)
	k.Make(t, "Whole Letter", func(n *api.NewGroup) { n.Quiet, n.Description = false, "For the test of a letter; <b>not</b> bold." })
	all := k.Letters(t)
	if len(all) != 1 {
		t.Fatalf("%d letters", len(all))
	}
	text := strings.ReplaceAll(all[0].Text, "\r\n", "\n")
	for _, x := range []string{`<[^>]*@merrowline.example>`, `(Mon|Tue|Wed|Thu|Fri|Sat|Sun), [^\n]*`, `[0-9a-f]{30,}`, `http://[a-z0-9.:]+`} {
		text = regexp.MustCompile(x).ReplaceAllString(text, "…")
	}
	golden(t, "testdata/letter.txt", text)
}

func golden(t *testing.T, path, got string) {
	t.Helper()
	if *update {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		g, w := strings.Split(got, "\n"), strings.Split(string(want), "\n")
		for i := range g {
			if i >= len(w) || g[i] != w[i] {
				t.Fatalf("%s differs in line %d: %q; look at it with: go test -update; git diff", path, i+1, g[i])
			}
		}
		t.Fatalf("%s is longer", path)
	}
}
