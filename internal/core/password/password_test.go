package password

import (
	"strings"
	"testing"
)

func TestCheck(t *testing.T) {
	known := []string{"liv.strand@merrowline.example", "liv.strand", "Liv Strand", ""}
	for _, c := range []struct{ password, says string }{
		{"four words on a quay", ""}, {"0123456789", ""}, {"          ", ""}, {strings.Repeat("ß", Shortest), ""}, {strings.Repeat("x", Longest), ""}, {"liv.strand has a boat", ""},
		{"", "has 0 characters"}, {strings.Repeat("ß", Shortest-1), "has 9 characters"}, {strings.Repeat("x", Longest+1), "200 is the most"},
		{"Liv Strand", "name or address"}, {"liv.strand2026", "name or address"}, {"1 LIV.STRAND", "name or address"}, {"Liv.Strand@merrowline.example", "name or address"},
		{"bad\xffutf-8 here", "UTF-8"},
	} {
		err := Check(c.password, known...)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q: %v, want %q", c.password, err, c.says)
		}
	}
}
