package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/pflag"
)

// listFlags are the two flags by which a list within a setting is changed. What neither of them names stays in it.
type listFlags struct {
	noun        string
	add, remove []string
}

// flags makes the flags --add-NOUN and --remove-NOUN; says names one entry.
func (l *listFlags) flags(f *pflag.FlagSet, noun, says string) {
	l.noun = noun
	f.StringSliceVar(&l.add, "add-"+noun, nil, says+"; repeat for more")
	f.StringSliceVar(&l.remove, "remove-"+noun, nil, "one of these that is there, to take it out; repeat for more")
}

// given reports whether the list is to be changed.
func (l *listFlags) given() bool { return len(l.add)+len(l.remove) > 0 }

// edit returns a list as it is after the change. To take out what is not in it is an error: it may be a slip.
func (l *listFlags) edit(list []string) ([]string, error) {
	out := slices.Clone(list)
	for _, x := range l.remove {
		i := slices.IndexFunc(out, func(y string) bool { return strings.EqualFold(x, y) })
		if i < 0 {
			has := "nothing"
			if len(list) > 0 {
				has = strings.Join(list, ", ")
			}
			return nil, fmt.Errorf("--remove-%s can't be %q: there is %s", l.noun, x, has)
		}
		out = slices.Delete(out, i, i+1)
	}
	for _, x := range l.add {
		if !slices.ContainsFunc(out, func(y string) bool { return strings.EqualFold(x, y) }) {
			out = append(out, x)
		}
	}
	return out, nil
}
