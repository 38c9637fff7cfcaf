package workspace

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
)

// Who has to have a second factor.
const (
	FactorNobody         = "nobody"
	FactorAdministrators = "administrators"
	FactorEverybody      = "everybody"
)

// Protection is what protects the workspace from its own people and their programs.
type Protection struct {
	SecondFactor string         `json:"second_factor"` // who has to have one
	Shown        []string       `json:"shown"`         // attributes that colleagues see of each other
	Budgets      map[string]int `json:"budgets"`       // of a day, for who is no administrator
	FromOne      int            `json:"from_one"`      // messages of one writer that are taken in an hour
	ToGroup      int            `json:"to_group"`      // messages to one group, those of strangers by themselves
}

// The budgets of a day.
const (
	SpendGroups    = "groups"    // groups that somebody makes
	SpendOutsiders = "outsiders" // outsiders whom somebody invites or puts in
	SpendLetters   = "letters"   // letters that somebody causes
)

// Budgets are the names of the budgets, in the order in which they are shown.
var Budgets = []string{SpendGroups, SpendOutsiders, SpendLetters}

// ProtectionSetting is the name under which it is kept.
const ProtectionSetting = "protection"

// DefaultProtection is in force until something else is set: ten groups are more than anybody
// makes by hand in a day, fifty invitations a whole port, two thousand letters a large group
// that is told of its new members. A thousand messages of an hour are more than a person or an alarm sends that anybody reads.
func DefaultProtection() Protection {
	return Protection{SecondFactor: FactorNobody, Shown: []string{"department", "locality", "title"},
		Budgets: map[string]int{SpendGroups: 10, SpendOutsiders: 50, SpendLetters: 2000}, FromOne: 1000, ToGroup: 2000}
}

// Protection returns what protects the workspace, and its version.
func (v *View) Protection() (Protection, int, error) { return v.protection(v.Read.Setting) }

// ShownProtection is Protection for what is shown: a change by another process is seen within
// five seconds.
func (v *View) ShownProtection() (Protection, error) {
	p, _, err := v.protection(v.Read.CachedSetting)
	return p, err
}

func (v *View) protection(read func(string, any) (int, error)) (Protection, int, error) {
	p := DefaultProtection()
	version, err := read(ProtectionSetting, &p)
	return p, version + 1, err
}

// Demands reports whether somebody has to have a second factor.
func (p Protection) Demands(role string) bool {
	return p.SecondFactor == FactorEverybody || p.SecondFactor == FactorAdministrators && role == string(access.Administrator)
}

// Sees returns those attributes of somebody's that the actor sees: all of their own, and of
// others those that colleagues see, but for who reads everything.
func (v *View) Sees(attributes map[string]string, ofSelf bool) map[string]string {
	if ofSelf {
		return attributes
	}
	out := map[string]string{}
	for name, value := range attributes {
		if v.SeesAttribute(name) {
			out[name] = value
		}
	}
	return out
}

// SeesAttribute reports whether the actor sees an attribute of others.
func (v *View) SeesAttribute(name string) bool {
	if v.By.Subject().ReadsAll() || v.By.Via == Service.Via {
		return true
	}
	shown, err := v.ShownToColleagues()
	return err == nil && slices.Contains(shown, name)
}

// ShownToColleagues returns the attributes that colleagues see of each other.
func (v *View) ShownToColleagues() ([]string, error) {
	if v.shown == nil {
		p, err := v.ShownProtection()
		if err != nil {
			return nil, err
		}
		own, err := v.OwnAttributes()
		if err != nil {
			return nil, err
		}
		shown := append([]string{}, p.Shown...)
		for _, a := range own {
			if a.Seen {
				shown = append(shown, a.Name)
			}
		}
		v.shown = shown
	}
	return v.shown, nil
}

// spent says that a day's budget is used up.
type spent struct {
	refusal error
	kind    string
	most    int
}

func (s *spent) Error() string { return s.refusal.Error() }
func (s *spent) Unwrap() error { return s.refusal }

// today is the day in the zone of the workspace.
func (v *View) today() time.Time { return v.Now().In(v.Zone()) }

// bounded reports whether budgets hold for the actor.
func (a Actor) bounded() bool { return a.SignedIn() == nil && !a.Administers() }

// Spend takes something from what the actor may do in a day. Who has too little left is
// refused whole, and an administrator sees it in the history.
func (c *Change) Spend(kind string, n int) error {
	if n == 0 || !c.By.bounded() {
		return nil
	}
	p, _, err := c.Protection()
	if err != nil {
		return err
	}
	had, err := c.Read.Spent(c.By.Person.ID, c.today(), kind)
	if err == nil && !c.By.Preview {
		had, err = c.Tx.Spend(c.By.Person.ID, c.today(), kind, n)
		had -= n
	}
	if err != nil || had+n <= p.Budgets[kind] {
		return err
	}
	midnight := c.today()
	midnight = time.Date(midnight.Year(), midnight.Month(), midnight.Day()+1, 0, 0, 0, 0, midnight.Location())
	left := max(p.Budgets[kind]-had, 0)
	says := map[string]string{SpendGroups: "You can make %s more today, of %d a day; this makes %d.", SpendOutsiders: "You can bring in %s more outsiders today, of %d a day; these are %d.",
		SpendLetters: "You can cause %s more letters today, of %d a day; this causes %d."}[kind]
	text := fmt.Sprint(left)
	if left == 0 {
		text = "no"
	}
	e := Later(int(midnight.Sub(c.Now())/time.Second)+1, says+" Ask an administrator, or wait until tomorrow.", text, p.Budgets[kind], n)
	return &spent{e, kind, p.Budgets[kind]}
}

// Left returns what the actor may still do today, by budget; nil where no budget holds for them.
func (v *View) Left() (map[string]int, error) {
	if !v.By.bounded() {
		return nil, nil
	}
	p, err := v.ShownProtection()
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, kind := range Budgets {
		had, err := v.Read.Spent(v.By.Person.ID, v.today(), kind)
		if err != nil {
			return nil, err
		}
		out[kind] = max(p.Budgets[kind]-had, 0)
	}
	return out, nil
}

// hit records that somebody has used up a budget, once a day.
func (k *Kernel) hit(ctx context.Context, by Actor, s *spent) {
	by.Report = nil
	_ = k.pool.Transact(ctx, false, func(tx *store.Tx) error {
		c := k.change(ctx, by, tx)
		n, err := c.Tx.Spend(by.Person.ID, c.today(), "hit "+s.kind, 1)
		if err != nil || n > 1 {
			return err
		}
		if err := c.Record(event.BudgetSpent{Budget: s.kind, Most: s.most}, nil); err != nil {
			return err
		}
		return c.flush()
	})
}
