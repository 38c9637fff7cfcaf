package naming

import (
	"slices"
	"strings"
)

// common are words that many groups have in their names and that say little.
var common = map[string]bool{"the": true, "and": true, "of": true, "for": true, "group": true, "team": true, "list": true, "a": true, "to": true, "in": true}

// Telling returns those of the words of a name, in lower case, that tell it from others.
func Telling(words []string) []string {
	return slices.DeleteFunc(slices.Clone(words), func(w string) bool { return common[w] })
}

// Alike reports whether most of the telling words of two names are the same but for
// their endings, as dispatch and dispatchers.
func Alike(words, other []string) bool {
	same := 0
	for _, x := range words {
		if slices.ContainsFunc(other, func(y string) bool { return sameStem(x, y) }) {
			same++
		}
	}
	return same > 0 && 3*same >= 2*max(len(words), len(other))
}

func sameStem(x, y string) bool {
	if len(x) > len(y) {
		x, y = y, x
	}
	return x == y || len(x) >= 4 && len(y)-len(x) <= 3 && strings.HasPrefix(y, x)
}
