package service_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// What there can be so many of, there are so many of, however many ask at once.
func TestCapsHold(t *testing.T) {
	g := k.Make(t, "Capped")
	oda, ines := k.Actor(t, kit.Owner), k.Actor(t, kit.Administrator)
	for name, c := range map[string]struct {
		max  int
		make func(i int) error
	}{
		"tokens": {50, func(i int) error {
			_, err := k.Account.CreateToken(ctx, oda, api.NewToken{Name: fmt.Sprint(i)})
			return err
		}},
		"links": {50, func(i int) error {
			_, err := k.Joining.CreateLink(ctx, oda, g.Address, api.NewJoinLink{Note: fmt.Sprint(i)})
			return err
		}},
		"starting points": {100, func(i int) error {
			_, err := k.Naming.SaveStartingPoint(ctx, ines, fmt.Sprintf("cap-%d", i), api.NewStartingPoint{Title: "Capped"}, 0)
			return err
		}},
	} {
		var all sync.WaitGroup
		var made atomic.Int32
		for i := range c.max + 20 {
			all.Go(func() {
				err := c.make(i)
				if err == nil {
					made.Add(1)
				} else if !workspace.IsKind(err, workspace.Conflict) {
					t.Errorf("%s: %v", name, err)
				}
			})
		}
		all.Wait()
		if int(made.Load()) != c.max {
			t.Errorf("%d %s were made; %d is the most", made.Load(), name, c.max)
		}
	}
	for i := range 120 {
		_ = k.Naming.DeleteStartingPoint(ctx, ines, fmt.Sprintf("cap-%d", i), 0) // for the tests that follow
	}
}
