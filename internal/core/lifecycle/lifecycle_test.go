package lifecycle

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

func at(s string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", s)
	if err != nil {
		panic(err)
	}
	return t
}

var half = Policy{TermDays: 180, Scope: AllGroups, Notices: []int{30, 15, 1}}

func TestExpiry(t *testing.T) {
	now := at("2026-11-23 10:00")
	for _, c := range []struct {
		name string
		p    Policy
		l    Life
		want string
	}{
		{"term after the renewal", half, Life{Renewed: at("2026-10-01 17:30")}, "2027-03-30 00:00"},
		{"never before the first notice", half, Life{Renewed: at("2020-01-01 00:00")}, "2026-12-23 00:00"},
		{"a nearer date stays", half, Life{Renewed: at("2020-01-01 00:00"), Expires: at("2026-12-01 00:00")}, "2026-12-01 00:00"},
		{"a nearer date moves further", half, Life{Renewed: at("2026-10-01 00:00"), Expires: at("2026-12-01 00:00")}, "2027-03-30 00:00"},
		{"a further date comes nearer", half, Life{Renewed: at("2026-01-01 00:00"), Expires: at("2027-12-01 00:00")}, "2026-12-23 00:00"},
		{"exempt", half, Life{Renewed: now, Exempt: true}, ""},
		{"off", Policy{Scope: AllGroups}, Life{Renewed: now}, ""},
		{"chosen, not this one", Policy{TermDays: 90, Scope: ChosenGroups, Notices: []int{7}}, Life{Renewed: now}, ""},
		{"chosen", Policy{TermDays: 90, Scope: ChosenGroups, Notices: []int{7}}, Life{Renewed: now, Chosen: true}, "2027-02-21 00:00"},
		{"none", Policy{TermDays: 90, Scope: NoGroups, Notices: []int{7}}, Life{Renewed: now, Chosen: true}, ""},
	} {
		got := c.p.Expiry(c.l, now)
		if c.want == "" != got.IsZero() || c.want != "" && !got.Equal(at(c.want)) {
			t.Errorf("%s: %v; want %s", c.name, got, c.want)
		}
	}
}

func TestDaysAreCountedInTheZone(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Auckland")
	if err != nil {
		t.Fatal(err)
	}
	p := half
	p.Zone = zone
	if got := p.Days(at("2026-11-23 10:30"), at("2026-11-23 11:30")); got != 1 {
		t.Errorf("from 23:30 to 00:30 there are %d midnights; want 1", got)
	}
	if got := p.Days(at("2026-04-01 12:00"), at("2026-04-10 12:00")); got != 9 {
		t.Errorf("over the end of summer time: %d days; want 9", got)
	}
	exp := p.Expiry(Life{Renewed: at("2026-11-23 10:30")}, at("2026-11-23 10:30"))
	if h := exp.In(zone).Hour(); h != 0 {
		t.Errorf("expires at %v; want the first moment of a day", exp.In(zone))
	}
}

// Where clocks skip midnight a day begins at one, and is counted as one all the same.
func TestDaysWithoutMidnight(t *testing.T) {
	zone, err := time.LoadLocation("America/Santiago")
	if err != nil {
		t.Fatal(err)
	}
	p := half
	p.Zone, p.TermDays, p.Notices = zone, 30, []int{7, 1}
	renewed := time.Date(2027, 8, 6, 15, 0, 0, 0, zone)
	end := p.Expiry(Life{Renewed: renewed}, renewed).In(zone)
	if got := end.Format("2006-01-02 15:04"); got != "2027-09-05 01:00" {
		t.Errorf("30 days after 6 August is %s", got)
	}
	for hours, want := range map[int]int{-1: 1, -24: 1, -25: 2, 0: 0, 22: 0, 23: -1} {
		if got := p.Days(end.Add(time.Duration(hours)*time.Hour), end); got != want {
			t.Errorf("%d hours from it there are %d days; want %d", hours, got, want)
		}
	}
	if got := p.After(end, 1).Format("2006-01-02 15:04"); got != "2027-09-06 00:00" {
		t.Errorf("the day after begins at %s", got)
	}
	if got := p.After(p.After(end, 1), -1); !got.Equal(end) {
		t.Errorf("the day before that begins at %v", got)
	}
	if got := p.DueFrom(end).In(zone).Format("2006-01-02 15:04"); got != "2027-08-29 00:00" {
		t.Errorf("it is due from %s", got)
	}
	samoa, err := time.LoadLocation("Pacific/Apia")
	if err != nil {
		t.Fatal(err)
	}
	p.Zone = samoa // 30 December 2011 was left out there
	if got := p.After(time.Date(2011, 12, 29, 12, 0, 0, 0, samoa), 1).Format("2006-01-02 15:04"); got != "2011-12-31 00:00" {
		t.Errorf("the day after 29 December 2011 begins at %s", got)
	}
}

func TestState(t *testing.T) {
	exp := at("2027-01-10 00:00")
	for _, c := range []struct {
		now  string
		l    Life
		want State
	}{
		{"2026-12-10 23:59", Life{Expires: exp}, Active},
		{"2026-12-11 00:00", Life{Expires: exp}, Due},
		{"2027-01-09 23:59", Life{Expires: exp}, Due},
		{"2027-01-10 00:00", Life{Expires: exp}, Lapsed},
		{"2026-12-01 00:00", Life{Expires: exp, Ended: at("2026-11-30 00:00")}, Lapsed},
		{"2026-12-01 00:00", Life{Expires: exp, Ended: at("2026-11-30 00:00"), Retired: true}, Retired},
		{"2036-12-01 00:00", Life{}, Active},
	} {
		if got := half.State(c.l, at(c.now)); got != c.want {
			t.Errorf("%+v at %s: %s; want %s", c.l, c.now, got, c.want)
		}
	}
}

// From any moment on, walking a day at a time: each notice is sent once, in order,
// and a long sleep sends only the nearest.
func TestNotices(t *testing.T) {
	exp := at("2027-01-10 00:00")
	var sent []int
	for now := at("2026-11-01 09:00"); now.Before(exp.AddDate(0, 0, 3)); now = now.AddDate(0, 0, 1) {
		if d, ok := half.Notice(exp, now, sent); ok {
			if left := half.Days(now, exp); left != d {
				t.Errorf("the %d-day notice came %d days before", d, left)
			}
			sent = append(sent, d)
		}
	}
	if len(sent) != 3 {
		t.Errorf("sent %v; want 30, 15, 1", sent)
	}
	if d, ok := half.Notice(exp, at("2027-01-01 00:00"), nil); !ok || d != 15 {
		t.Errorf("after a long sleep: %d, %v; want 15", d, ok)
	}
	if d, ok := half.Notice(exp, at("2027-01-01 00:00"), []int{30, 15}); ok {
		t.Errorf("the %d-day notice came twice", d)
	}
	if _, ok := half.Notice(time.Time{}, at("2027-01-01 00:00"), nil); ok {
		t.Error("a notice for a group without an end")
	}
}

func TestExtended(t *testing.T) {
	exp := at("2027-01-31 00:00")
	first, last := Given{30, at("2027-01-01 03:00"), true}, Given{1, at("2027-01-30 23:00"), false}
	for _, c := range []struct {
		name  string
		now   string
		given []Given
		want  string // "" where it stays
	}{
		{"told in time, at its end", "2027-01-31 00:00", []Given{first, last}, ""},
		{"told in time, a year later", "2028-01-31 00:00", []Given{first, last}, ""},
		{"nothing given, at its end", "2027-01-31 00:00", nil, "2027-03-02 00:00"},
		{"nothing given, early enough", "2027-01-01 23:00", nil, ""},
		{"nothing given, a day late", "2027-01-02 00:00", nil, "2027-02-01 00:00"},
		{"the last alone", "2027-01-31 00:00", []Given{last}, "2027-03-02 00:00"},
		{"a first that came late", "2027-01-31 00:00", []Given{{30, at("2027-01-10 00:00"), false}, last}, "2027-03-02 00:00"},
		{"the first alone, a day before", "2027-01-30 12:00", []Given{first}, ""},
		{"the first alone, at its end", "2027-01-31 12:00", []Given{first}, "2027-02-01 00:00"},
		{"the last on the day itself", "2027-01-31 12:00", []Given{first, {1, at("2027-01-31 00:10"), false}}, "2027-02-01 00:00"},
	} {
		to, ok := half.Extended(exp, at(c.now), c.given)
		if want := c.want; ok != (want != "") || ok && !to.Equal(at(want)) || !ok && !to.Equal(exp) {
			t.Errorf("%s: %v, %v; want %q", c.name, to, ok, want)
		}
	}
}

func TestPurgeAt(t *testing.T) {
	if got := half.PurgeAt(Life{Ended: at("2026-11-23 10:00")}); !got.Equal(at("2026-12-23 00:00")) {
		t.Errorf("%v", got)
	}
}

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		p    Policy
		says string
	}{
		{half, ""},
		{Policy{Scope: NoGroups}, ""},
		{Policy{TermDays: 3, Scope: AllGroups, Notices: []int{1}}, "3 days. Choose 7 to 3650"},
		{Policy{TermDays: -1, Scope: AllGroups}, "-1 days"},
		{Policy{TermDays: 90, Scope: "some", Notices: []int{1}}, `"some"`},
		{Policy{TermDays: 90, Scope: AllGroups}, "at least one notice"},
		{Policy{TermDays: 90, Scope: AllGroups, Notices: []int{90}}, "90 days before"},
		{Policy{TermDays: 90, Scope: AllGroups, Notices: []int{0}}, "0 days before"},
		{Policy{TermDays: 90, Scope: AllGroups, Notices: []int{1, 15}}, "[1 15]"},
		{Policy{TermDays: 90, Scope: AllGroups, Notices: []int{11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1}}, "11 notice days"},
	} {
		err := c.p.Check()
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v; want %q", c.p, err, c.says)
		}
	}
}

func FuzzExpiry(f *testing.F) {
	f.Add(int64(0), int64(0), 180, 30)
	f.Fuzz(func(t *testing.T, renewed, now int64, term, first int) {
		p := Policy{TermDays: term, Scope: AllGroups, Notices: []int{first}}
		if p.Check() != nil || term == 0 || renewed < 0 || now < renewed || now > 1e11 {
			return
		}
		n := time.Unix(now, 0).UTC()
		l := Life{Renewed: time.Unix(renewed, 0).UTC()}
		l.Expires = p.Expiry(l, n)
		if left := p.Days(n, l.Expires); left < first || left > max(term, first) {
			t.Fatalf("%d days left; the first notice is %d, the term %d", left, first, term)
		}
		if s := p.State(l, n); s != Active && s != Due {
			t.Fatalf("cut off at once: %s", s)
		}
	})
}
