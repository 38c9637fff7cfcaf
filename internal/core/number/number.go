// Package number writes how many of something there are.
package number

import (
	"fmt"
	"strings"
)

// Of writes a number with the English noun that it counts, such as "1 entry", "2 entries", "3 external people" for the nouns
// entry and external person.
func Of(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	for _, end := range []struct{ one, many string }{{"person", "people"}, {"ry", "ries"}, {"s", "ses"}} {
		if stem, ok := strings.CutSuffix(noun, end.one); ok {
			return fmt.Sprintf("%d %s%s", n, stem, end.many)
		}
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
