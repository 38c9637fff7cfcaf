package mailaddr

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Derive returns the local part that a name proposes. The error is an *[fault.Fault]
// that names the first letter of a script that has no transliteration, or says
// that nothing of the name is left.
func Derive(name string) (string, error) {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(norm.NFKD.String(name)) {
		if unicode.Is(unicode.Mn, r) || r == '\'' || r == '’' || r == '\u200d' {
			continue
		}
		s, known := fold(r)
		switch {
		case known && s != "":
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteString(s)
		case known: // a letter without a sound of its own
		case unicode.IsLetter(r):
			return "", bad(name, "Type an address for it.", "There is no rule that writes the letter %q in the letters a to z.", r)
		default:
			gap = true
		}
	}
	local := b.String()
	if len(local) > MaxLocal {
		local = local[:MaxLocal]
		if cut := strings.LastIndexByte(local, '-'); cut > MaxLocal/2 {
			local = local[:cut]
		}
	}
	if local == "" {
		return "", bad(name, "Type an address for it.", "The name has no letter or digit to make an address of.")
	}
	return local, nil
}

func fold(r rune) (string, bool) {
	if 'a' <= r && r <= 'z' || '0' <= r && r <= '9' {
		return string(r), true
	}
	s, ok := letters[r]
	return s, ok
}

// letters writes the lower-case letters that do not decompose to a to z: the
// rest of Latin, Greek (after ISO 843) and Cyrillic (after ISO 9, without marks).
var letters = table(
	"ß ss ø o æ ae œ oe đ d ð d ł l þ th ı i ŋ n ħ h ŧ t ĸ k ſ s ə e ƒ f",
	"α a β v γ g δ d ε e ζ z η i θ th ι i κ k λ l μ m ν n ξ x ο o π p ρ r σ s ς s τ t υ y φ f χ ch ψ ps ω o",
	"а a б b в v г g д d е e ж zh з z и i к k л l м m н n о o п p р r с s т t у u ф f х kh ц ts ч ch ш sh щ shch ы y э e ю yu я ya",
	"є ye і i ґ g ђ dj ј j љ lj њ nj ћ c џ dz ѕ dz қ q ғ gh ұ u ү u һ h ө o",
)

func table(lines ...string) map[rune]string {
	m := map[rune]string{'ъ': "", 'ь': ""}
	for _, line := range lines {
		f := strings.Fields(line)
		for i := 0; i < len(f); i += 2 {
			m[[]rune(f[i])[0]] = f[i+1]
		}
	}
	return m
}

// lookalike are letters of other scripts that a reader takes for a Latin one
// in one of their cases, by their lower case (a selection of the confusables of Unicode
// Technical Standard 39).
var lookalike = map[rune]string{
	'а': "a", 'е': "e", 'о': "o", 'р': "p", 'с': "c", 'х': "x", 'у': "y", 'і': "i", 'ј': "j", 'ѕ': "s", 'һ': "h", 'ԁ': "d", 'ԛ': "q", 'ԝ': "w",
	'ο': "o", 'α': "a", 'ν': "v", 'ι': "i", 'ρ': "p", 'κ': "k", 'υ': "u", 'ı': "i", 'ɡ': "g", 'ⅼ': "l",
	'в': "b", 'н': "h", 'м': "m", 'т': "t", 'к': "k", 'ε': "e", 'β': "b", 'ζ': "z", 'η': "n", 'μ': "m", 'τ': "t", 'χ': "x",
}

// Skeleton returns text as an eye takes it: lower case, without marks, letters of
// other scripts that look Latin written in Latin. Two names with one skeleton can
// be told apart by nobody who reads them.
func Skeleton(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) || unicode.Is(unicode.Cf, r) {
			return -1
		}
		r = unicode.ToLower(r)
		if l, ok := lookalike[r]; ok {
			r = rune(l[0])
		}
		return r
	}, norm.NFKD.String(text))
}

// Romanise returns text in lower case, with the letters for which there is a rule
// written in a to z and the others left as they are.
func Romanise(text string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(norm.NFKD.String(text)) {
		if s, known := fold(r); known {
			b.WriteString(s)
		} else if !unicode.Is(unicode.Mn, r) && !unicode.Is(unicode.Cf, r) {
			b.WriteRune(r)
		}
	}
	return b.String()
}
