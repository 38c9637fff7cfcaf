package store

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/texts"
)

// Whatever changes in a group counts its version up, or its revision: what is kept of groups, and ETags, go by these.
func TestEveryFieldOfAGroupIsCounted(t *testing.T) {
	// These follow from others, or never change.
	derived := []string{"ID", "AddrKey", "ExemptBy", "KeptBy", "KeptAt", "Version", "Revision", "CreatedAt", "NameKey", "DescriptionKey", "TermKey", "Findable", "People", "Shown"}
	some := map[reflect.Type]any{reflect.TypeFor[string](): "x", reflect.TypeFor[bool](): true, reflect.TypeFor[int](): 1, reflect.TypeFor[time.Time](): time.Unix(1, 0), reflect.TypeFor[*time.Time](): &time.Time{},
		reflect.TypeFor[policy.Policy](): policy.Default(), reflect.TypeFor[MailTexts](): MailTexts{texts.Texts{Tag: "x"}}}
	var none Group
	for f := range reflect.TypeFor[Group]().Fields() {
		var g Group
		value, known := some[f.Type]
		if slices.Contains(derived, f.Name) {
			continue
		}
		if !known {
			t.Errorf("the test knows no %s", f.Type)
			continue
		}
		reflect.ValueOf(&g).Elem().FieldByIndex(f.Index).Set(reflect.ValueOf(value))
		if g.edited() == none.edited() && g.rest() == none.rest() {
			t.Errorf("a change of %s counts nothing up", f.Name)
		}
	}
}
