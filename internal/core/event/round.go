package event

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/number"
)

func init() {
	register[RoundBegun]()
	register[RoundChanged]()
	register[RoundEnded]()
	register[RoundAnswered]()
	register[RoundSilent]()
}

// RoundBegun: those who own groups were asked to confirm them.
type RoundBegun struct {
	ID      string `json:"id,omitempty"`
	Name    string `json:"name"`
	Filter  string `json:"filter,omitempty"`
	Groups  int    `json:"groups"`
	Due     string `json:"due"` // the last day on which to answer
	Silence string `json:"silence,omitempty"`
}

func (RoundBegun) Kind() Kind { return "round.begin" }
func (f RoundBegun) did(Who, string) string {
	where := ""
	if f.Filter != "" {
		where = " where " + f.Filter
	}
	return fmt.Sprintf("began the round %s about %s%s, to be answered by %s", f.Name, number.Of(f.Groups, "group"), where, day(f.Due))
}
func (f RoundBegun) undo() Undo {
	if f.ID == "" {
		return cannot("End the round by hand: what was answered stays.")
	}
	return can("End the round: nobody is asked any more, and what was answered stays.")
}

// RoundChanged: what was asked for is another.
type RoundChanged struct {
	Before
	ID      string   `json:"id,omitempty"`
	Name    string   `json:"name"`
	Changed []Change `json:"changes"`
}

func (RoundChanged) Kind() Kind { return "round.change" }
func (f RoundChanged) did(Who, string) string {
	return fmt.Sprintf("changed the round %s: %s", f.Name, told(f.Changed))
}
func (f RoundChanged) changes() []Change { return f.Changed }
func (f RoundChanged) undo() Undo        { return f.back("Change it back, while it is open.") }

// RoundEnded: a round is over, or was ended before its day.
type RoundEnded struct {
	Name    string `json:"name"`
	Early   bool   `json:"early,omitempty"`
	Kept    int    `json:"kept"`
	Retired int    `json:"retired"`
	Silent  int    `json:"silent"`
	Gone    int    `json:"gone,omitempty"`
}

func (RoundEnded) Kind() Kind { return "round.end" }
func (f RoundEnded) did(Who, string) string {
	parts := []string{fmt.Sprintf("%d kept", f.Kept), fmt.Sprintf("%d retired", f.Retired), fmt.Sprintf("%d without an answer", f.Silent)}
	if f.Gone > 0 {
		parts = append(parts, fmt.Sprintf("%d gone otherwise", f.Gone))
	}
	return fmt.Sprintf("ended the round %s: %s", f.Name, strings.Join(parts, ", "))
}
func (RoundEnded) undo() Undo { return cannot("Begin another round about those without an answer.") }

// RoundAnswered: somebody confirmed a group, or retired it.
type RoundAnswered struct {
	Round     string   `json:"round"`
	Confirmed []string `json:"confirmed,omitempty"` // the questions
	Removed   int      `json:"removed,omitempty"`   // people who were taken out with it
	Retired   bool     `json:"retired,omitempty"`
	Note      string   `json:"note,omitempty"`
}

func (RoundAnswered) Kind() Kind { return "round.answer" }
func (f RoundAnswered) did(_ Who, group string) string {
	if f.Retired {
		return fmt.Sprintf("said in the round %s that %s is not needed%s", f.Round, group, because(f.Note))
	}
	also := ""
	if f.Removed > 0 {
		also = fmt.Sprintf(", without %s", number.Of(f.Removed, "member"))
	}
	return fmt.Sprintf("confirmed %s in the round %s (%s)%s%s", group, f.Round, strings.Join(f.Confirmed, ", "), also, because(f.Note))
}
func (f RoundAnswered) undo() Undo {
	if f.Retired {
		return can("Restore the group.")
	}
	return cannot("It was said. Say something else in the next round.")
}

// RoundSilent: nobody has answered about a group.
type RoundSilent struct {
	Round  string `json:"round"`
	Became string `json:"became,omitempty"` // what came of that, in words
}

func (RoundSilent) Kind() Kind { return "round.silent" }
func (f RoundSilent) did(_ Who, group string) string {
	return fmt.Sprintf("got no answer about %s in the round %s%s", group, f.Round, because(f.Became))
}
func (RoundSilent) undo() Undo { return cannot("Nobody has answered; that stays so.") }
