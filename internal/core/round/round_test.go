package round

import (
	"slices"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/core/lifecycle"
)

var berlin = func() *time.Location {
	l, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		panic(err)
	}
	return l
}()

func at(day string, hour int) time.Time {
	t, err := time.ParseInLocation(time.DateOnly, day, berlin)
	if err != nil {
		panic(err)
	}
	return t.Add(time.Duration(hour) * time.Hour)
}

func plan(silence Silence, reminders ...int) Plan {
	return Plan{Calendar: lifecycle.Calendar{Zone: berlin}, Begun: at("2026-10-05", 9), End: at("2026-11-01", 0), Reminders: reminders, Silence: silence} // its day is 31 October
}

func TestLetter(t *testing.T) {
	for _, c := range []struct {
		now       time.Time
		reminders []int
		want      int
	}{
		{at("2026-10-05", 9), []int{14, 3}, 0}, {at("2026-10-16", 23), []int{14, 3}, 0}, {at("2026-10-17", 0), []int{14, 3}, 12},
		{at("2026-10-27", 23), []int{14, 3}, 12}, {at("2026-10-28", 0), []int{14, 3}, 23}, {at("2026-10-31", 0), []int{0}, 26},
		{at("2026-10-20", 0), []int{60, 14}, 12}, // that of sixty days lies before the beginning
		{at("2026-10-20", 0), []int{60}, 0}, {at("2026-10-20", 0), nil, 0},
	} {
		if got := plan(Nothing, c.reminders...).Letter(c.now); got != c.want {
			t.Errorf("%v of %v: %d, want %d", c.now, c.reminders, got, c.want)
		}
	}
}

func TestOver(t *testing.T) {
	begun := at("2026-10-05", 9)
	for _, c := range []struct {
		name             string
		silence          Silence
		now, first, last time.Time
		over             bool
		until            time.Time
	}{
		{"its day is not over", Retire, at("2026-10-31", 23), begun, begun, false, at("2026-11-01", 0)},
		{"its day is over", Retire, at("2026-11-01", 0), begun, at("2026-10-28", 0), true, at("2026-10-30", 0)},
		{"nobody was told", Retire, at("2026-11-01", 0), time.Time{}, time.Time{}, false, at("2026-11-16", 0)},
		{"told late", Retire, at("2026-11-01", 0), at("2026-10-25", 12), at("2026-10-28", 0), false, at("2026-11-08", 0)},
		{"told late, and that is long enough", Retire, at("2026-11-08", 0), at("2026-10-25", 12), at("2026-10-28", 0), true, at("2026-11-08", 0)},
		{"reminded on its day", Retire, at("2026-11-01", 0), begun, at("2026-10-31", 18), false, at("2026-11-02", 0)},
		{"silence does nothing", Nothing, at("2026-11-01", 0), time.Time{}, time.Time{}, true, at("2026-11-01", 0)},
	} {
		over, until := plan(c.silence, 14, 3).Over(c.now, c.first, c.last)
		if over != c.over || !until.Equal(c.until) {
			t.Errorf("%s: %v until %v", c.name, over, until)
		}
	}
}

// Whatever the letters were, nothing is retired before the first was out for long enough and the last for a day.
func FuzzOver(f *testing.F) {
	f.Add(int64(0), int64(3), int64(30))
	f.Fuzz(func(t *testing.T, first, last, now int64) {
		p := plan(Retire, 14, 3)
		day := func(n int64) time.Time { return p.Begun.Add(time.Duration(n%2000) * time.Hour) }
		over, until := p.Over(day(now), day(first), day(last))
		if over && (p.Calendar.Days(day(first), day(now)) < FirstLead || p.Calendar.Days(day(last), day(now)) <= LastLead || day(now).Before(p.End)) {
			t.Errorf("over on %v, told on %v and %v", day(now), day(first), day(last))
		}
		if again, _ := p.Over(until, day(first), day(last)); !over && !again && !until.Equal(p.End) {
			t.Errorf("over on %v, it said, and is not", until)
		}
	})
}

func TestOpen(t *testing.T) {
	if got := Open([]Question{Needed, People, Owner}, []Question{People, Policy}); !slices.Equal(got, []Question{Needed, Owner}) {
		t.Errorf("%v", got)
	}
	p := plan(Nothing)
	if n := p.Length(); n != 27 {
		t.Errorf("it goes on for %d days", n)
	}
	if next := p.Next(12); !next.Equal(at("2027-10-05", 0)) {
		t.Errorf("again on %v", next)
	}
}
