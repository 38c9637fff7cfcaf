package history

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

const (
	keepingSetting = "history_keeping"
	keptSetting    = "history_kept"
	leastMonths    = 12
	forgetAtOnce   = 10_000 // entries, in one transaction
	daysInADay     = 2      // that are forgotten in one day at most, so that a clock that jumps forgets nothing, and what was missed is made good
)

// keeping is for how long the history is kept, and who gets its seals.
type keeping struct {
	Months  int         `json:"months"` // 0: for good
	SealsTo []uuid.UUID `json:"seals_to"`
	Every   string      `json:"every"` // day, week, month
}

var sealEvery = []string{"day", "week", "month"}

// kept is what was done by that.
type kept struct {
	From   string `json:"from"`   // the first day that is kept
	Looked string `json:"looked"` // the day on which it was last looked for what is old
	Mailed string `json:"mailed"` // the day on which the seal was last mailed
}

func defaultKeeping() keeping { return keeping{Every: "week"} }

func shapeKeeping(v *workspace.View, k keeping, version int) (api.HistoryKeeping, error) {
	who, err := keepers(v, k)
	out := api.HistoryKeeping{Months: k.Months, SealsTo: []string{}, Every: k.Every, Version: version}
	for _, p := range who {
		out.SealsTo = append(out.SealsTo, p.Address)
	}
	return out, err
}

// keepers are those who keep the seals and are here, by address.
func keepers(v *workspace.View, k keeping) (out []store.Person, err error) {
	who, err := v.Read.PeopleByID(k.SealsTo)
	for _, p := range who {
		if p.Active {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b store.Person) int { return strings.Compare(a.AddrKey, b.AddrKey) })
	return out, err
}

// Keeping returns for how long the history is kept, and who gets its seals.
func (s *Service) Keeping(ctx context.Context, by workspace.Actor) (api.HistoryKeeping, error) {
	if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return api.HistoryKeeping{}, err
	}
	v := s.k.View(ctx, by)
	k := defaultKeeping()
	version, err := v.Read.Setting(keepingSetting, &k)
	if err != nil {
		return api.HistoryKeeping{}, err
	}
	out, err := shapeKeeping(v, k, version+1)
	if err != nil {
		return out, err
	}
	first, err := v.Read.OldestEvent()
	if !first.IsZero() {
		out.From = first.In(v.Zone()).Format(time.DateOnly)
	}
	return out, err
}

// SetKeeping changes for how long the history is kept, and who gets its seals.
func (s *Service) SetKeeping(ctx context.Context, by workspace.Actor, n api.HistoryKeeping, version int) (api.HistoryKeeping, error) {
	none := api.HistoryKeeping{}
	if err := by.Allow(access.ChangeKeeping); err != nil {
		return none, err
	}
	var bad workspace.Problems
	if n.Months != 0 && (n.Months < leastMonths || n.Months > 600) {
		bad.Add("months", n.Months, "The history is kept for %d months at least, and 600 at most; 0 keeps it for good.", leastMonths)
	}
	if n.Every == "" {
		n.Every = defaultKeeping().Every
	}
	bad.OneOf("seals_every", n.Every, sealEvery...)
	next := keeping{Months: n.Months, Every: n.Every}
	v := s.k.View(ctx, by)
	for i, to := range n.SealsTo {
		field := fmt.Sprintf("seals_to[%d]", i)
		p, err := people.Find(v, to)
		switch {
		case workspace.IsKind(err, workspace.NotFound) || err == nil && (!p.Active || p.External):
			bad.Add(field, workspace.Cut(to, 100), "There is nobody %q in the workspace who could keep the seals.", workspace.Cut(to, 100))
		case err != nil:
			return none, err
		case !slices.Contains(next.SealsTo, p.ID):
			next.SealsTo = append(next.SealsTo, p.ID)
		}
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	err := workspace.ChangeSetting(ctx, s.k, by, access.ChangeKeeping, keepingSetting, "how the history is kept", version, defaultKeeping(), func(c *workspace.Change, before keeping, current int) error {
		was, err := shapeKeeping(&c.View, before, current+1)
		if err != nil {
			return err
		}
		if n, err = shapeKeeping(&c.View, next, current+2); err != nil {
			return err
		}
		var changes []event.Change
		for _, x := range [][3]string{{"months", fmt.Sprint(before.Months), fmt.Sprint(next.Months)}, {"seals_to", strings.Join(was.SealsTo, ", "), strings.Join(n.SealsTo, ", ")}, {"seals_every", before.Every, next.Every}} {
			if x[1] != x[2] {
				changes = append(changes, event.Change{Field: x[0], From: x[1], To: x[2]})
				c.Effect(api.Effect{Field: x[0], From: x[1], To: x[2]})
			}
		}
		if len(changes) == 0 {
			n.Version = current + 1
			c.Says("Nothing changes.")
			return nil
		}
		says, err := keepingSays(&c.View, n)
		if err != nil {
			return err
		}
		c.Says(says)
		if err := c.Tx.SaveSetting(keepingSetting, next, current+1); err != nil {
			return err
		}
		if before.Months != next.Months {
			if err := keepFrom(c, next); err != nil {
				return err
			}
		}
		return c.Record(event.KeepingChanged{Before: event.Was(was, n.Version), Changed: changes}, nil)
	})
	return n, err
}

// oldest is the first moment of what is kept.
func oldest(v *workspace.View, months int) time.Time {
	now := v.Now().In(v.Zone())
	return time.Date(now.Year(), now.Month()-time.Month(months), now.Day(), 0, 0, 0, 0, now.Location())
}

// keepFrom notes from which day on is kept: the one that whoever changes it was shown.
func keepFrom(c *workspace.Change, k keeping) error {
	var did kept
	at, err := c.Tx.LockSetting(keptSetting, &did)
	if err != nil {
		return err
	}
	did.From, did.Looked = "", ""
	if k.Months > 0 {
		did.From = oldest(&c.View, k.Months).Format(time.DateOnly)
	}
	return c.Tx.SaveSetting(keptSetting, did, at+1)
}

// next is the first day that is kept from today on: by the clock, but not many days after the one before.
func (d kept) next(byClock time.Time) time.Time {
	from, err := time.ParseInLocation(time.DateOnly, d.From, byClock.Location())
	if most := from.AddDate(0, 0, daysInADay); err == nil && d.Looked != "" && byClock.After(most) {
		return most
	} else if err == nil && d.Looked == "" && byClock.After(from) {
		return from
	}
	return byClock
}

// keepingSays says what comes of keeping the history so.
func keepingSays(v *workspace.View, k api.HistoryKeeping) (string, error) {
	mail := "Its seals are mailed to nobody."
	if len(k.SealsTo) > 0 {
		mail = fmt.Sprintf("Each %s its last seal is mailed to %s.", k.Every, strings.Join(k.SealsTo, ", "))
	}
	if k.Months == 0 {
		return "The history is kept for good. " + mail, nil
	}
	first, err := v.Read.OldestEvent()
	from := oldest(v, k.Months)
	if first.IsZero() || !first.Before(from) {
		return fmt.Sprintf("The history is kept for %d months; nothing in it is older. %s", k.Months, mail), err
	}
	return fmt.Sprintf("The history is kept for %d months. What is from before %s is forgotten tonight, and can't be brought back; the oldest entry is from %s. %s",
		k.Months, workspace.DateIn("en", from), workspace.DateIn("en", first.In(v.Zone())), mail), err
}

// Keep forgets what is older than the history is kept, once a day, and mails its last seal to those who keep it elsewhere. Any number of
// instances may do so at once.
func (s *Service) Keep(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	k := defaultKeeping()
	var did kept
	if _, err := v.Read.Setting(keepingSetting, &k); err != nil {
		return err
	}
	if _, err := v.Read.Setting(keptSetting, &did); err != nil {
		return err
	}
	today := v.Now().In(v.Zone()).Format(time.DateOnly)
	if k.Months > 0 && did.Looked != today {
		for more := true; more; {
			err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
				more, err = forget(c, today)
				return err
			})
			if err != nil {
				return fmt.Errorf("forget what is old of the history: %w", err)
			}
		}
	}
	if len(k.SealsTo) > 0 && mailOn(did.Mailed, k.Every) <= today {
		return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return mailSeal(c, today) })
	}
	return nil
}

// mailOn is the day on which the next seal is mailed, after the one of a day.
func mailOn(last, every string) string {
	at, err := time.Parse(time.DateOnly, last)
	if err != nil {
		return ""
	}
	days, months := map[string]int{"day": 1, "week": 7}[every], map[string]int{"month": 1}[every]
	return at.AddDate(0, months, days).Format(time.DateOnly)
}

// forget deletes the oldest entries, some at a time, and records up to which place of the chain, with the seal there: so the chain can be
// followed from there on. It reports whether there are more.
func forget(c *workspace.Change, today string) (more bool, err error) {
	var st store.Sealing
	if _, err := c.Tx.LockSetting(SealedSetting, &st); err != nil { // no sealer is at it meanwhile
		return false, err
	}
	var did kept
	at, err := c.Tx.LockSetting(keptSetting, &did)
	if err != nil {
		return false, err
	}
	k := defaultKeeping()
	if _, err := c.Read.Setting(keepingSetting, &k); err != nil || k.Months == 0 || did.Looked == today {
		return false, err
	}
	before := did.next(oldest(&c.View, k.Months))
	old, err := c.Read.OldHistory(before, forgetAtOnce)
	if err != nil {
		return false, err
	}
	if more = len(old.Entries) == forgetAtOnce; !more {
		did.Looked, did.From = today, before.Format(time.DateOnly)
	}
	if err := c.Tx.SaveSetting(keptSetting, did, at+1); err != nil || old.Place == 0 {
		return false, err
	}
	seal, err := c.Read.SealAt(old.Place)
	if err != nil {
		return false, err
	}
	if err := c.Tx.ForgetHistory(old, string(event.PersonErased{}.Kind())); err != nil {
		return false, err
	}
	return more, c.Record(event.HistoryForgotten{Entries: len(old.Entries), Before: before.Format(time.DateOnly), Place: old.Place, Seal: seal.String()}, nil)
}

// mailSeal mails the last seal to those who keep it and are here.
func mailSeal(c *workspace.Change, today string) error {
	var did kept
	at, err := c.Tx.LockSetting(keptSetting, &did)
	if err != nil {
		return err
	}
	k, st := defaultKeeping(), store.Sealing{}
	if _, err := c.Read.Setting(keepingSetting, &k); err != nil || mailOn(did.Mailed, k.Every) > today {
		return err
	}
	if _, err := c.Read.Setting(SealedSetting, &st); err != nil || st.Place == 0 {
		return err
	}
	did.Mailed = today
	if err := c.Tx.SaveSetting(keptSetting, did, at+1); err != nil {
		return err
	}
	who, err := keepers(&c.View, k)
	if err != nil {
		return err
	}
	for _, p := range who {
		lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
		l := c.Letter(workspace.LetterSeal, lang, "/history", map[string]string{"place": fmt.Sprint(st.Place), "seal": st.Seal, "address": p.Address, "date": workspace.DateIn(lang, c.Now().In(c.Zone()))})
		l.Apart = true
		if err := c.Send(nil, []string{p.Address}, l); err != nil {
			return err
		}
	}
	return nil
}

// start is where the chain begins by now: after the last place that was forgotten, with its seal. Whoever deletes entries and their seals
// can't say so, without an entry of the history that does.
func start(v *workspace.View) (fact event.HistoryForgotten, number int64, err error) {
	first, err := v.Read.FirstSeal()
	if err != nil || first <= 1 {
		return fact, 0, err
	}
	row, err := v.Read.LastOfKind(string(fact.Kind()))
	if errors.Is(err, store.ErrNotFound) {
		return fact, 0, nil
	} else if err != nil {
		return fact, 0, err
	}
	e, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
	if err != nil {
		return fact, 0, err
	}
	if f, ok := e.Fact.(event.HistoryForgotten); ok {
		return f, row.ID, nil
	}
	return fact, 0, nil
}
