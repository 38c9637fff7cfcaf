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

func length(s string) Length {
	l, f := ParseLength(s)
	if f != nil {
		panic(f)
	}
	return l
}

func rule(s string, notices ...int) *Rule { return &Rule{Name: s, Length: length(s), Notices: notices} }

var plain = Terms{Notices: Leads{30, 15, 1}, Recovery: 60}

func TestLengths(t *testing.T) {
	for in, want := range map[string]string{"180 days": "180 days", "1 month": "1 month", " 6  Months ": "6 months", "26weeks": "26 weeks", "2 years": "2 years", "never": "never", "2027-03-31": "2027-03-31", "7 days": "7 days", "10 years": "10 years"} {
		if l, f := ParseLength(in); f != nil || l.String() != want {
			t.Errorf("%q is %q, %v", in, l, f)
		}
	}
	for in, says := range map[string]string{"": "can't be", "0 days": "too short", "6 days": "too short", "20 years": "too long", "99999 weeks": "too long", "-3 days": "can't be", "3": "can't be", "2027-02-30": "can't be", "6 moons": "can't be", strings.Repeat("9", 5000) + " days": "can't be"} {
		if l, f := ParseLength(in); f == nil || !strings.Contains(f.Words(), says) || len(f.Words()) > 300 {
			t.Errorf("%.20q is read as %s, %v", in, l, f)
		}
	}
}

// A life under a rule, from what it was before.
func TestUnder(t *testing.T) {
	now := at("2026-11-23 10:00")
	nobody := func(time.Time) bool { return false }
	everybody := func(time.Time) bool { return true }
	for _, c := range []struct {
		name     string
		r        *Rule
		l        Life
		told     func(time.Time) bool
		want     string
		promised bool
	}{
		{"days after the renewal", rule("180 days"), Life{Renewed: at("2026-10-01 17:30")}, nobody, "2027-03-30 00:00", false},
		{"weeks after the renewal", rule("26 weeks"), Life{Renewed: at("2026-10-01 17:30")}, nobody, "2027-04-01 00:00", false},
		{"months after the renewal", rule("6 months"), Life{Renewed: at("2026-10-31 17:30")}, nobody, "2027-04-30 00:00", false},
		{"a year after a leap day", rule("1 year"), Life{Renewed: at("2028-02-29 17:30")}, nobody, "2029-02-28 00:00", false},
		{"until a day", rule("2027-03-31"), Life{Renewed: at("2026-10-31 17:30")}, nobody, "2027-03-31 00:00", false},
		{"until a day, renewed inside the first notice", rule("2027-03-31"), Life{Renewed: at("2027-03-02 00:00")}, nobody, "2028-03-31 00:00", false},
		{"until a leap day", rule("2028-02-29"), Life{Renewed: at("2028-02-20 00:00")}, nobody, "2029-02-28 00:00", false},
		{"never before the first notice", rule("180 days"), Life{Renewed: at("2020-01-01 00:00")}, nobody, "2026-12-23 00:00", true},
		{"nor before that of the rule", rule("180 days", 60, 7), Life{Renewed: at("2020-01-01 00:00")}, nobody, "2027-01-22 00:00", true},
		{"unless it was told", rule("180 days"), Life{Renewed: at("2026-06-01 00:00")}, everybody, "2026-11-28 00:00", false},
		{"told, but past", rule("180 days"), Life{Renewed: at("2026-05-01 00:00")}, everybody, "2026-12-23 00:00", true},
		{"a nearer date stays", rule("180 days"), Life{Renewed: at("2020-01-01 00:00"), Expires: at("2026-12-01 00:00")}, nobody, "2026-12-01 00:00", true},
		{"a nearer date moves further", rule("180 days"), Life{Renewed: at("2026-10-01 00:00"), Expires: at("2026-12-01 00:00")}, nobody, "2027-03-30 00:00", false},
		{"a further date comes nearer", rule("180 days"), Life{Renewed: at("2026-01-01 00:00"), Expires: at("2027-12-01 00:00")}, nobody, "2026-12-23 00:00", true},
		{"what was promised holds", rule("180 days"), Life{Renewed: at("2026-01-01 00:00"), Promises: ";1180 days, 30=2029-01-01;180 days, 60=2028-01-01;180 days, 30=2027-02-01"}, nobody, "2027-02-01 00:00", false},
		{"exempt", rule("180 days"), Life{Renewed: now, Exempt: true, Expires: at("2027-12-01 00:00")}, nobody, "", false},
		{"no rule", nil, Life{Renewed: now, Expires: at("2027-12-01 00:00")}, nobody, "", false},
		{"never", rule("never"), Life{Renewed: now, Expires: at("2027-12-01 00:00")}, nobody, "", false},
	} {
		got := plain.Under(c.l, c.r, now, c.told)
		if c.want == "" != got.Expires.IsZero() || c.want != "" && !got.Expires.Equal(at(c.want)) || (got.Promises != c.l.Promises) != c.promised {
			t.Errorf("%s: %v, promised %q; want %s", c.name, got.Expires, got.Promises, c.want)
		}
		if c.want != "" && !got.Due.Equal(plain.After(got.Expires, -plain.Leads(c.r).First())) {
			t.Errorf("%s: due from %v", c.name, got.Due)
		}
		if again := plain.Under(got, c.r, now, c.told); again != got {
			t.Errorf("%s: once more %v", c.name, again)
		}
	}
}

// Whatever rules a group goes through on one day, going back to the one that it had gives the date that it had,
// as long as nobody renewed it.
func TestChangingBack(t *testing.T) {
	now := at("2026-11-23 10:00")
	rules := []*Rule{nil, rule("never"), rule("30 days", 7), rule("180 days"), rule("180 days", 60), rule("2 years"), rule("2027-01-05"), rule("2026-12-01", 3)}
	for _, renewed := range []string{"2026-11-20 00:00", "2026-10-30 00:00", "2026-06-10 00:00", "2024-12-10 00:00", "2020-01-01 00:00"} {
		for i, a := range rules {
			begun := plain.Under(Life{Renewed: at(renewed)}, a, now, nil)
			notices := []Notice{}
			if !begun.Due.IsZero() && !begun.Due.After(now) {
				notices = append(notices, Notice{Day: plain.Leads(a).First(), First: true, Given: plain.After(begun.Expires, -plain.Leads(a).First())})
			}
			told := func(end time.Time) bool { return plain.Told(end, notices) }
			for j, b := range rules {
				between := plain.Under(begun, b, now.AddDate(0, 0, 1), told)
				if back := plain.Under(between, a, now.AddDate(0, 0, 1), told); !back.Expires.Equal(begun.Expires) {
					t.Errorf("renewed %s, rules %d, %d and back: %v, %v, %v", renewed, i, j, begun.Expires, between.Expires, back.Expires)
				}
			}
		}
	}
}

func TestCheck(t *testing.T) {
	now := at("2026-11-23 10:00")
	good := Terms{Notices: DefaultNotices(), Recovery: DefaultRecovery, Rules: []Rule{*rule("2027-03-31"), *rule("30 days", 14, 3), *rule("never"), *rule("1 year")}}
	if all := good.Check(now); len(all) != 0 {
		t.Errorf("good ones: %v", all[0])
	}
	many := make(Leads, 11)
	for _, c := range []struct {
		change func(*Terms)
		field  string
		says   string
	}{
		{func(x *Terms) { x.Notices = nil }, "notices", "at least one"},
		{func(x *Terms) { x.Notices = Leads{3, 14} }, "notices", "nearer"},
		{func(x *Terms) { x.Notices = Leads{14, 14} }, "notices", "nearer"},
		{func(x *Terms) { x.Notices = Leads{0} }, "notices", "0 days"},
		{func(x *Terms) { x.Notices = Leads{366} }, "notices", "366 days"},
		{func(x *Terms) { x.Notices = many }, "notices", "too many"},
		{func(x *Terms) { x.Recovery = 0 }, "recovery_days", "0 days"},
		{func(x *Terms) { x.Rules[1].Notices = nil }, "rules[1].notices", "42 days before the end of a term of 30 days"},
		{func(x *Terms) { x.Rules[1].Notices = Leads{30, 3} }, "rules[1].notices", "30 days before"},
		{func(x *Terms) { x.Rules[1].Notices = Leads{} }, "rules[1].notices", "no notice"},
		{func(x *Terms) { x.Rules[1].Name = " " }, "rules[1].name", "no name"},
		{func(x *Terms) { x.Rules[1].Name = "NEVER" }, "rules[2].name", "two rules"},
		{func(x *Terms) { x.Rules[0].Length = length("2026-11-23") }, "rules[0].length", "past"},
		{func(x *Terms) { x.Rules[0].Length = length("2056-11-23") }, "rules[0].length", "too far"},
		{func(x *Terms) { x.Rules[3].RenewedBy = []Renewer{"magic"} }, "rules[3].renewed_by", "magic"},
		{func(x *Terms) { x.Rules = make([]Rule, 51) }, "rules", "too many"},
	} {
		x := good
		x.Rules = append([]Rule{}, good.Rules...)
		c.change(&x)
		all := x.Check(now)
		if len(all) == 0 || all[0].Field != c.field || !strings.Contains(all[0].Words(), c.says) {
			t.Errorf("%s %s: %v", c.field, c.says, all)
		}
	}
}

func TestDaysAreCountedInTheZone(t *testing.T) {
	zone, err := time.LoadLocation("Pacific/Auckland")
	if err != nil {
		t.Fatal(err)
	}
	p := plain
	p.Zone = zone
	if got := p.Days(at("2026-11-23 10:30"), at("2026-11-23 11:30")); got != 1 {
		t.Errorf("from 23:30 to 00:30 there are %d midnights; want 1", got)
	}
	if got := p.Days(at("2026-04-01 12:00"), at("2026-04-10 12:00")); got != 9 {
		t.Errorf("over the end of summer time: %d days; want 9", got)
	}
	l := p.Under(Life{Renewed: at("2026-11-23 10:30")}, rule("180 days"), at("2026-11-23 10:30"), nil)
	if h := l.Expires.In(zone).Hour(); h != 0 {
		t.Errorf("expires at %v; want the first moment of a day", l.Expires.In(zone))
	}
}

// Where clocks skip midnight a day begins at one, and is counted as one all the same.
func TestDaysWithoutMidnight(t *testing.T) {
	zone, err := time.LoadLocation("America/Santiago")
	if err != nil {
		t.Fatal(err)
	}
	p := plain
	p.Zone = zone
	renewed := time.Date(2027, 8, 6, 15, 0, 0, 0, zone)
	l := p.Under(Life{Renewed: renewed}, rule("30 days", 7, 1), renewed, nil)
	end := l.Expires.In(zone)
	if got := end.Format("2006-01-02 15:04"); got != "2027-09-05 01:00" {
		t.Errorf("30 days after 6 August is %s", got)
	}
	if got := p.Months(time.Date(2027, 8, 5, 15, 0, 0, 0, zone), 1).Format("2006-01-02 15:04"); got != "2027-09-05 01:00" {
		t.Errorf("a month after 5 August is %s", got)
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
	if got := l.Due.In(zone).Format("2006-01-02 15:04"); got != "2027-08-29 00:00" {
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
	exp, due := at("2027-01-10 00:00"), at("2026-12-11 00:00")
	for _, c := range []struct {
		now  string
		l    Life
		want State
	}{
		{"2026-12-10 23:59", Life{Expires: exp, Due: due}, Active},
		{"2026-12-11 00:00", Life{Expires: exp, Due: due}, Due},
		{"2027-01-09 23:59", Life{Expires: exp, Due: due}, Due},
		{"2027-01-10 00:00", Life{Expires: exp, Due: due}, Lapsed},
		{"2026-12-01 00:00", Life{Expires: exp, Ended: at("2026-11-30 00:00")}, Lapsed},
		{"2026-12-01 00:00", Life{Expires: exp, Ended: at("2026-11-30 00:00"), Retired: true}, Retired},
		{"2036-12-01 00:00", Life{}, Active},
	} {
		if got := c.l.State(at(c.now)); got != c.want {
			t.Errorf("%+v at %s: %s; want %s", c.l, c.now, got, c.want)
		}
	}
}

// From any moment on, walking a day at a time: each notice is asked for once, in order,
// and a long sleep asks only for the nearest.
func TestNotices(t *testing.T) {
	exp := at("2027-01-10 00:00")
	leads := Leads{30, 15, 1}
	var asked []Notice
	for now := at("2026-11-01 09:00"); now.Before(exp.AddDate(0, 0, 3)); now = now.AddDate(0, 0, 1) {
		if d, ok := plain.Next(leads, exp, now, asked); ok {
			if left := plain.Days(now, exp); left != d {
				t.Errorf("the %d-day notice came %d days before", d, left)
			}
			asked = append(asked, Notice{Day: d})
		}
	}
	if len(asked) != 3 {
		t.Errorf("asked for %v; want three notices", asked)
	}
	if d, ok := plain.Next(leads, exp, at("2027-01-05 09:00"), nil); !ok || d != 15 {
		t.Errorf("after a long sleep: %d, %v; want the 15-day notice alone", d, ok)
	}
}

// When an end moves since nobody was told of it in time.
func TestExtended(t *testing.T) {
	exp := at("2027-01-10 00:00")
	leads := Leads{30, 15, 1}
	first := func(given string) Notice {
		n := Notice{Day: 30, First: true}
		if given != "" {
			n.Given = at(given)
		}
		return n
	}
	last := func(given string) Notice { return Notice{Day: 1, Given: at(given)} }
	for _, c := range []struct {
		name  string
		now   string
		asked []Notice
		want  string // "": it stays
	}{
		{"long before", "2026-11-20 09:00", nil, ""},
		{"on the day of the first notice", "2026-12-11 09:00", nil, ""},
		{"a day late", "2026-12-12 09:00", nil, "2027-01-11 00:00"},
		{"asked, not yet handed over", "2026-12-20 09:00", []Notice{first("")}, ""},
		{"asked, never handed over", "2027-01-10 09:00", []Notice{first("")}, "2027-02-09 00:00"},
		{"handed over a day late", "2026-12-12 09:00", []Notice{first("2026-12-12 00:01")}, "2027-01-11 00:00"},
		{"handed over a day late, then nobody came by", "2027-02-20 09:00", []Notice{first("2026-12-12 00:01")}, "2027-02-21 00:00"},
		{"told in time, not of the end", "2027-01-10 00:00", []Notice{first("2026-12-11 00:01")}, "2027-01-11 00:00"},
		{"told of the end on its day", "2027-01-10 00:10", []Notice{first("2026-12-11 00:01"), last("2027-01-10 00:01")}, "2027-01-11 00:00"},
		{"told of all", "2027-01-10 00:00", []Notice{first("2026-12-11 00:01"), last("2027-01-09 23:59")}, ""},
	} {
		to, moved := plain.Extended(leads, exp, at(c.now), c.asked)
		if moved != (c.want != "") || moved && !to.Equal(at(c.want)) || !moved && !to.Equal(exp) {
			t.Errorf("%s: %v, %v; want %q", c.name, to, moved, c.want)
		}
	}
}

func TestRenew(t *testing.T) {
	now := at("2026-11-23 10:00")
	l := plain.Renew(Life{Renewed: at("2020-01-01 00:00"), Expires: at("2026-12-01 00:00"), Promises: ";180 days, 30=2030-01-01", Ended: at("2026-11-22 00:00"), Retired: true}, rule("180 days"), now)
	if !l.Expires.Equal(at("2027-05-22 00:00")) || !l.Ended.IsZero() || l.Retired || l.Promises != "" || !l.Renewed.Equal(now) || l.Rule != "180 days" {
		t.Errorf("renewed: %+v", l)
	}
}

func TestPromises(t *testing.T) {
	var p Promises
	for i := range 200 {
		p = p.with(Calendar{}, length(strings.Repeat("1", 1+i%3)+" weeks").String(), at("2027-01-02 00:00").AddDate(0, 0, i))
	}
	if p != ";11 weeks=2027-07-18;111 weeks=2027-07-19;1 week=2027-07-20" && len(strings.Split(string(p), ";")) != 4 {
		t.Errorf("promises %q", p)
	}
	for i := range 200 {
		p = p.with(Calendar{}, rule("never").Name+strings.Repeat("x", i), at("2028-01-02 00:00"))
	}
	if len(p) > maxPromises || p[0] != ';' || !p.of(Calendar{}, "never"+strings.Repeat("x", 199)).Equal(at("2028-01-02 00:00")) || !p.of(Calendar{}, "1 week").IsZero() {
		t.Errorf("%d octets: %q", len(p), p)
	}
}

func FuzzParseLength(f *testing.F) {
	for _, s := range []string{"180 days", "1 month", "never", "2027-03-31", "0 weeks", "٣ days", "9999-12-31"} {
		f.Add(s)
	}
	now := at("2026-11-23 10:00")
	f.Fuzz(func(t *testing.T, s string) {
		l, fault := ParseLength(s)
		if fault != nil {
			return
		}
		again, fault := ParseLength(l.String())
		if fault != nil || again != l {
			t.Fatalf("%q is %q, which is read as %v, %v", s, l, again, fault)
		}
		end := l.end(Calendar{}, now, 42)
		if days := (Calendar{}).Days(now, end); l != Never && l.until == "" && (days < MinLength || days > MaxLength+1) {
			t.Fatalf("%s ends after %d days", l, days)
		}
	})
}
