package workspace_test

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

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
