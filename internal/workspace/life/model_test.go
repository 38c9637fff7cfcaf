package life_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// model is what a plain reading of the rules expects of some groups, beside the workspace that does it. It keeps, by
// its own counting, when groups were renewed, which letters were taken by the relay and when, and on how many days the
// service ran.
type model struct {
	t      *testing.T
	l      *kit.Kit
	r      *rand.Rand
	log    []string
	groups []*modelled
	rule   int       // which of the terms holds
	now    time.Time // of the workspace
	ran    map[string]bool
	seen   map[string]bool // letters: whom, about which end, of which notice
	taken  int             // for how many days the relay has taken the letters of the same day
}

type modelled struct {
	api.Group
	id      uuid.UUID
	renewed time.Time
	told    map[string]map[int]time.Time // by end: when notices of it were taken, by their day
	ended   time.Time
	retired bool
	held    bool
	gone    bool
	served  int       // days on which the service ran when it ended
	was     string    // all there was in it when it ended
	letter  time.Time // when the one about its end was taken
}

// terms are those that the model changes between, with the first and the last notice of each.
var terms = []struct {
	api.Terms
	length, first, last int
}{
	{all("60 days", 20, 7, 2), 60, 20, 2},
	{all("90 days", 30, 10), 90, 30, 10},
	{all("35 days", 14, 1), 35, 14, 1},
	{all("never", 30, 1), 0, 0, 0},
}

func (m *model) failed(format string, args ...any) {
	m.t.Helper()
	m.t.Fatalf("%s\n%s", fmt.Sprintf(format, args...), strings.Join(m.log[max(0, len(m.log)-40):], "\n"))
}

func (m *model) note(format string, args ...any) {
	m.log = append(m.log, m.now.Format("2006-01-02 ")+fmt.Sprintf(format, args...))
}

// all there is in a group that has to come back with it.
func (m *model) content(g *modelled) string {
	now, err := m.l.Group.Read(ctx, m.l.Actor(m.t, kit.Administrator), g.Address)
	if err != nil {
		m.failed("read %s: %v", g.Address, err)
	}
	people, err := m.l.Members(m.l.Actor(m.t, kit.Administrator), g.Address, member.Query{Limit: 200})
	if err != nil {
		m.failed("%v", err)
	}
	out := fmt.Sprint(now.Name, now.Address, now.Aliases, now.Description, now.PolicyHalf, now.Traits, now.Counts)
	for _, p := range people.Items {
		out += fmt.Sprint(p.Address, p.Role, p.Delivery)
	}
	return out
}

// run lets the service run: one instance or two at once, and perhaps one dies in the middle.
func (m *model) run() {
	m.ran[m.now.Format(time.DateOnly)] = true
	if m.r.IntN(4) == 0 { // one that dies somewhere
		dying, cancel := context.WithTimeout(ctx, time.Duration(m.r.IntN(12))*time.Millisecond)
		_ = m.l.Life.Run(dying)
		cancel()
		m.note("died")
	}
	var all sync.WaitGroup
	errs := make([]error, 1+m.r.IntN(2))
	for i := range errs {
		all.Go(func() { errs[i] = m.l.Life.Run(ctx) })
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			m.failed("run: %v", err)
		}
	}
}

// handOver lets the relay take the letters, and looks at each.
func (m *model) handOver() {
	rows := map[string][]store.NoticeLetter{}
	for _, g := range m.groups {
		letters, err := m.l.Read().NoticeLetters([]uuid.UUID{g.id})
		if err != nil {
			m.failed("%v", err)
		}
		for _, x := range letters {
			if x.GivenAt == nil {
				rows[g.Address] = append(rows[g.Address], x)
			}
		}
	}
	m.l.Letters(m.t)
	for _, g := range m.groups {
		for _, x := range rows[g.Address] {
			key := fmt.Sprint(g.Address, x.ExpiresAt.Unix(), x.Day, x.Recipient)
			if m.seen[key] {
				m.failed("the notice of %d days before %v of %s came twice to %s", x.Day, x.ExpiresAt, g.Name, x.Recipient)
			}
			m.seen[key] = true
			if x.Day == lifecycle.Lapses {
				if g.ended.Equal(x.ExpiresAt) {
					g.letter = m.now
				}
				continue
			}
			end := x.ExpiresAt.UTC().Format(time.RFC3339)
			if g.told[end] == nil {
				g.told[end] = map[int]time.Time{}
			}
			g.told[end][x.Day] = m.now
			m.note("%s was told of %s, %d days before", g.Name, end[:10], x.Day)
		}
	}
}

// midnights between two moments, in the zone of the workspace.
func (m *model) midnights(a, b time.Time) int {
	where, _ := time.LoadLocation(zone)
	day := func(t time.Time) time.Time {
		y, mo, d := t.In(where).Date()
		return time.Date(y, mo, d, 0, 0, 0, 0, time.UTC)
	}
	return int(day(b).Sub(day(a)).Hours() / 24)
}

// look compares the workspace with what is expected.
func (m *model) look() {
	for _, g := range m.groups {
		if g.gone {
			continue
		}
		row, err := m.l.Read().Group(g.id)
		if err == store.ErrNotFound {
			switch days := len(m.ran) - g.served; {
			case g.ended.IsZero():
				m.failed("%s is gone, but it had not ended", g.Name)
			case g.held:
				m.failed("%s is gone, but it was under hold", g.Name)
			case g.letter.IsZero():
				m.failed("%s is gone, but nobody was told that it ended", g.Name)
			case days < 30, m.midnights(g.ended, m.now) < 30:
				m.failed("%s is gone %d days after its end, of which the service ran on %d", g.Name, m.midnights(g.ended, m.now), days)
			}
			g.gone = true
			m.note("%s is gone", g.Name)
			continue
		} else if err != nil {
			m.failed("%v", err)
		}
		if row.EndedAt != nil && g.ended.IsZero() {
			m.lapsed(g, row)
		}
		if row.EndedAt == nil && !g.ended.IsZero() {
			m.failed("%s is back by itself", g.Name)
		}
		if row.EndedAt == nil && row.RenewedAt.After(g.renewed) {
			m.failed("%s was renewed by itself at %v", g.Name, row.RenewedAt)
		}
		life := row.Life()
		if t := terms[m.rule]; row.EndedAt == nil && t.length > 0 && m.ran[m.now.Format(time.DateOnly)] && !life.Over(m.now) {
			if life.Expires.IsZero() || m.midnights(g.renewed, life.Expires) < t.length && len(g.told) == 0 {
				m.failed("%s, renewed %v, ends %v under %s", g.Name, g.renewed, life.Expires, t.Rules[0].Length)
			}
		}
	}
}

// lapsed checks that nobody was cut off unwarned.
func (m *model) lapsed(g *modelled, row store.Group) {
	t := terms[m.rule]
	told := g.told[row.ExpiresAt.UTC().Format(time.RFC3339)]
	first, last := false, false
	for _, notices := range g.told { // a first notice counts for a later end, too
		for day, at := range notices {
			first = first || !at.Before(g.renewed) && m.midnights(at, row.ExpiresAt) >= day && day >= 14
		}
	}
	for day, at := range told {
		last = last || day <= t.last && m.midnights(at, row.ExpiresAt) >= 1
	}
	if !first || !last || t.length == 0 {
		m.failed("%s lapsed with its end on %v; told %v; the first notice counts: %v, the last: %v", g.Name, row.ExpiresAt, g.told, first, last)
	}
	if g.was == "" {
		m.failed("nothing is known of %s", g.Name)
	}
	g.ended, g.retired, g.served, g.letter = *row.EndedAt, false, len(m.ran), time.Time{}
	m.note("%s lapsed", g.Name)
}

// change does something that people do.
func (m *model) change() {
	g := m.groups[m.r.IntN(len(m.groups))]
	ines, oda := m.l.Actor(m.t, kit.Administrator), m.l.Actor(m.t, kit.Owner)
	if g.gone {
		if _, err := m.l.Life.Restore(ctx, ines, g.Address, 0); !workspace.IsKind(err, workspace.NotFound) {
			m.failed("%s is gone, and restoring says %v", g.Name, err)
		}
		return
	}
	row, err := m.l.Read().Group(g.id)
	if err != nil {
		m.failed("%v", err)
	}
	over := row.Life().Over(m.now)
	switch m.r.IntN(6) {
	case 0:
		_, err := m.l.Life.Renew(ctx, oda, g.Address, api.Renewal{Reason: "Still needed."}, 0)
		if (err == nil) == over {
			m.failed("renew %s, over %v: %v", g.Name, over, err)
		}
		if err == nil {
			g.renewed, g.told = m.now, map[string]map[int]time.Time{}
			m.note("renewed %s", g.Name)
		}
	case 1:
		was := m.content(g)
		_, err := m.l.Life.Retire(ctx, oda, g.Address, 0)
		if (err == nil) == (over || g.held) {
			m.failed("retire %s, over %v, held %v: %v", g.Name, over, g.held, err)
		}
		if err == nil {
			g.ended, g.retired, g.served, g.was, g.letter = m.now, true, len(m.ran), was, time.Time{}
			m.note("retired %s", g.Name)
		}
	case 2:
		_, err := m.l.Life.Restore(ctx, oda, g.Address, 0)
		if (err == nil) != over {
			m.failed("restore %s, over %v: %v", g.Name, over, err)
		}
		if err == nil {
			if now := m.content(g); g.was != "" && now != g.was {
				m.failed("%s came back as\n%s\nit was\n%s", g.Name, now, g.was)
			}
			g.ended, g.renewed, g.told = time.Time{}, m.now, map[string]map[int]time.Time{}
			m.note("restored %s", g.Name)
		}
	case 3:
		if g.held {
			_, err = m.l.Life.Release(ctx, ines, g.Address, 0)
		} else {
			_, err = m.l.Life.Hold(ctx, ines, g.Address, api.Hold{Reason: "A claim."}, 0)
		}
		if err != nil {
			m.failed("hold %s: %v", g.Name, err)
		}
		g.held = !g.held
	case 4:
		m.rule = m.r.IntN(len(terms))
		if _, err := m.l.Life.SetTerms(ctx, ines, terms[m.rule].Terms, 0); err != nil {
			m.failed("%v", err)
		}
		m.note("rules: %s", terms[m.rule].Rules[0].Length)
	case 5: // there and back on one day, which changes no date but of those whose owners were told a day late
		if m.taken < 2 {
			return
		}
		before := m.dates()
		there := m.r.IntN(len(terms))
		for _, x := range []int{there, m.rule} {
			if _, err := m.l.Life.SetTerms(ctx, ines, terms[x].Terms, 0); err != nil {
				m.failed("%v", err)
			}
		}
		if after := m.dates(); !slices.Equal(before, after) {
			m.failed("to %s and back: %v, then %v", terms[there].Rules[0].Length, before, after)
		}
	}
}

func (m *model) dates() (out []string) {
	for _, g := range m.groups {
		if row, err := m.l.Read().Group(g.id); err == nil && row.EndedAt == nil && !row.Life().Over(m.now) {
			out = append(out, g.Name+" "+row.ExpiresAt.Format(time.DateOnly))
		}
	}
	return out
}

// Random lives: days, jumps, crashes, two instances, a relay that takes letters or does not, renewals, changes of the
// rules, retiring, restoring, holds; compared with what a plain reading of the rules expects.
func TestLivesAreThoseOfTheModel(t *testing.T) {
	for seed := range uint64(4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			l := k.Fresh(t, fmt.Sprintf("model_%d", seed))
			m := &model{t: t, l: l, r: rand.New(rand.NewPCG(seed, 12)), now: l.Now(), ran: map[string]bool{}, seen: map[string]bool{}}
			for _, name := range []string{"Anchor", "Buoy", "Capstan", "Davit"} {
				g := l.Make(t, name, func(n *api.NewGroup) {
					n.Aliases, n.Description, n.Traits = []string{strings.ToLower(name) + "-old"}, "Of the "+name, []string{"archive"}
				})
				x := &modelled{Group: g, id: uuid.MustParse(g.ID), renewed: m.now, told: map[string]map[int]time.Time{}}
				m.groups = append(m.groups, x)
				x.was = m.content(x)
			}
			if _, err := l.Life.SetTerms(ctx, l.Actor(t, kit.Administrator), terms[0].Terms, 0); err != nil {
				t.Fatal(err)
			}
			for range 160 {
				days := 1
				if m.r.IntN(15) == 0 {
					days = 2 + m.r.IntN(60) // away, or the clock jumps
					m.note("away for %d days", days)
				}
				l.Move(days)
				m.now = l.Now()
				m.run()
				m.look()
				if m.taken++; m.r.IntN(8) > 0 {
					m.handOver()
				} else {
					m.taken = 0
				}
				if m.r.IntN(3) == 0 {
					m.change()
				}
			}
			ended, gone := 0, 0
			for _, g := range m.groups {
				if !g.ended.IsZero() {
					ended++
				}
				if g.gone {
					gone++
				}
			}
			t.Logf("%d letters; of %d groups %d have ended, %d are gone", len(m.seen), len(m.groups), ended, gone)
		})
	}
}
