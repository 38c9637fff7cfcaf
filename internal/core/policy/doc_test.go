package policy

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/policy.md again")

// docs/policy.md says what the table says.
func TestDocumentation(t *testing.T) {
	const file = "../../../docs/policy.md"
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var settings, checks strings.Builder
	settings.WriteString("| setting | what it decides | what it can be | in a new group |\n|---|---|---|---|\n")
	for _, d := range Describe() {
		var can []string
		for _, c := range d.Choices {
			can = append(can, "`"+c.Name+"`")
		}
		if d.Question {
			can = []string{"an audience"}
		}
		fmt.Fprintf(&settings, "| `%s` | %s | %s | `%s` |\n", d.Name, d.Asks, strings.Join(can, ", "), Default().Get(d.Name))
	}
	checks.WriteString("| setting | an example of what is refused | what is warned of |\n|---|---|---|\n")
	for s := range Settings {
		refused, warned := example(s, table[s].check != nil), doubtful(s)
		if refused != "" || warned != "" {
			fmt.Fprintf(&checks, "| `%s` | %s | %s |\n", s, refused, warned)
		}
	}
	want := string(b)
	for mark, text := range map[string]string{"settings": settings.String(), "checks": checks.String()} {
		want = regexp.MustCompile(`(?s)<!-- `+mark+` -->\n.*?<!-- end -->`).ReplaceAllLiteralString(want, "<!-- "+mark+" -->\n"+text+"<!-- end -->")
	}
	if want == string(b) {
		return
	}
	if !*update {
		t.Fatal("docs/policy.md is not what the table says: go test ./internal/core/policy -update")
	}
	if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
		t.Fatal(err)
	}
}

// example returns the words of a contradiction of a setting, doubtful those of a warning: of the
// first policy, near the one of a new group, that has it.
func example(s Setting, has bool) string {
	if !has {
		return ""
	}
	return near(func(p Policy) string {
		if f := table[s].check(p); f != nil {
			return f.Words()
		}
		return ""
	})
}

func doubtful(s Setting) string {
	if table[s].doubt == nil {
		return ""
	}
	return near(func(p Policy) string {
		if f := table[s].doubt(p); f != nil {
			return f.Words()
		}
		return ""
	})
}

func near(words func(Policy) string) string {
	for a := range Settings {
		for _, x := range table[a].choices {
			for b := range Settings {
				for _, y := range table[b].choices {
					p := Default()
					p[a], p[b] = x.value, y.value
					if w := words(p); w != "" {
						return w
					}
				}
			}
		}
	}
	return ""
}
