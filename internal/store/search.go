package store

import (
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/core/mailaddr"
)

// searched is the conditions on rows g that what somebody types in a search asks for: beginnings
// of words, and beginnings of whole addresses.
func searched(kind int8, q string) []condition {
	var out []condition
	var words []string
	for _, t := range strings.Fields(q) {
		t = strings.ToLower(strings.Trim(t, `<>()[]"',;`))
		t = strings.TrimPrefix(t, "mailto:")
		if local, _, whole := strings.Cut(t, "@"); kind == KindGroup && whole && local != "" { // the words of a group leave its domain out
			out = append(out, condition{"g.id IN (SELECT ref FROM addresses WHERE kind IN (?, ?) AND addr_key LIKE ?)", []any{KindGroup, KindAlias, likePrefix(t)}})
			continue
		}
		words = append(words, t)
	}
	for _, w := range Words(words...) {
		out = append(out, condition{"g.id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", []any{kind, likePrefix(w)}})
	}
	return out
}

// groupTexts are what a group is searched by: its name, also as an eye takes it, and what its
// addresses have before the @.
func groupTexts(name string, addresses ...string) []string {
	out := []string{name, mailaddr.Skeleton(name)}
	for _, x := range addresses {
		local, _, _ := strings.Cut(x, "@")
		out = append(out, local)
	}
	return out
}

// Bounds of the search for what a mistyped word may mean.
const (
	leastMistyped = 4     // characters of a word that may be mistyped
	twoSlips      = 8     // characters from which on two slips are looked for
	nearScanned   = 20000 // words compared
	nearWords     = 3     // of a search that are looked at
	nearOffered   = 3
)

// NearWords returns the searchable words of a kind that a word may be meant for: one slip of the
// hand away, or two where it is long, the nearest first. The words are anybody's: whoever
// is shown one must find something by it.
func (s *Reads) NearWords(kind int8, w string) ([]string, error) {
	letters := []rune(w)
	if len(letters) < leastMistyped {
		return nil, nil
	}
	slips := 1
	if len(letters) >= twoSlips {
		slips = 2
	}
	// a word that is a slip away begins with the same letter, or with the second one where the
	// first two were exchanged or the first is too much
	var all []string
	err := s.db.Raw(`SELECT DISTINCT word FROM words WHERE kind = ? AND (word LIKE ? OR word LIKE ?) AND CHAR_LENGTH(word) BETWEEN ? AND ? LIMIT ?`,
		kind, likePrefix(string(letters[:1])), likePrefix(string(letters[1:2])), len(letters)-slips, len(letters)+slips, nearScanned).Scan(&all).Error
	if err != nil {
		return nil, wrap("look for like words", err)
	}
	near := map[string]int{}
	for _, x := range all {
		for n := 1; n <= slips; n++ {
			if x != w && mailaddr.Slips(w, x, n) {
				near[x] = n
				break
			}
		}
	}
	out := make([]string, 0, len(near))
	for x := range near {
		out = append(out, x)
	}
	slices.SortFunc(out, func(x, y string) int {
		if near[x] != near[y] {
			return near[x] - near[y]
		}
		return strings.Compare(x, y)
	})
	return out[:min(len(out), nearOffered)], nil
}

// Searches returns what q may be meant for: q with one of its words in place of another that it is
// like. The second value tells each by its word.
func (s *Reads) Searches(kind int8, q string) (searches, words []string, err error) {
	given := Words(q)
	for _, w := range given[:min(len(given), nearWords)] {
		near, err := s.NearWords(kind, w)
		if err != nil {
			return nil, nil, err
		}
		for _, x := range near {
			searches, words = append(searches, strings.Join(replaced(given, w, x), " ")), append(words, x)
		}
	}
	return searches, words, nil
}

func replaced(words []string, w, by string) []string {
	out := slices.Clone(words)
	for i := range out {
		if out[i] == w {
			out[i] = by
		}
	}
	return out
}

// GroupsNamed returns up to limit groups that are called so, as filters compare names.
func (s *Reads) GroupsNamed(key string, limit int) (out []Group, err error) {
	err = s.db.Where("name_key = ?", key).Order("addr_key").Limit(limit).Find(&out).Error
	return out, wrap("look for groups of a name", err)
}
