// Package event is what the history is made of.
//
// An [Event] says who did what, about which group. What was done is a [Fact]: one type
// for each kind of event, with typed fields. From these come the sentence that people
// read ([Event.Sentence]), what changed from what to what ([Event.Changes]), and how it
// can be undone ([Event.Undo]). Names are kept as they were when it happened.
//
// The stored form is this package's own ([Event.Encode], [Decode]): a JSON object with a
// version. It is not that of the API. A new kind is a new type, listed in kinds.
package event

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ivytable.example/ivytable/internal/core/number"
)

// version is that of the stored form.
const version = 1

// Kind is the name of a kind of event, such as people.add.
type Kind string

// Fact is what happened. The types of this package that have a Kind are the facts.
type Fact interface {
	Kind() Kind
	// did reads on from whoever did it, in the past tense. group is the name of the
	// group that it is about.
	did(by Who, group string) string
}

// Who is a person, an address outside, or a group, as they were called at the time.
type Who struct {
	Name    string `json:"name,omitempty"`
	Address string `json:"address"`
}

// String names somebody in a sentence.
func (w Who) String() string {
	if w.Name != "" {
		return w.Name
	}
	return w.Address
}

// Change is one field that changed. A value that is empty is none.
type Change struct {
	Field string `json:"field"`
	From  string `json:"from,omitempty"`
	To    string `json:"to,omitempty"`
	Says  string `json:"says,omitempty"` // the effect, as it was shown before
}

// Event is one entry of the history.
type Event struct {
	By    Who    // the zero value: the service
	Via   string // console, api, smtp, service, link
	Group Who    // the zero value: about no group
	Fact  Fact

	Undoes int64 // the number of the entry that it takes back; 0: none
}

// Sentence says what happened in one sentence.
func (e Event) Sentence() string {
	by := e.By.String()
	if e.By == (Who{}) {
		by = "The service"
	}
	did := e.Fact.did(e.By, e.Group.String())
	if e.Via == "link" {
		did += ", by a link in a letter"
	}
	if e.Undoes > 0 {
		did += fmt.Sprintf(", to undo entry %d", e.Undoes)
	}
	return by + " " + strings.TrimSuffix(did, ".") + "."
}

// Changes returns which fields changed, from what to what; none for what is no change
// of fields.
func (e Event) Changes() []Change {
	if f, ok := e.Fact.(interface{ changes() []Change }); ok {
		return f.changes()
	}
	return nil
}

// Undo says whether an event can be undone by one call, and what that does.
type Undo struct {
	Possible bool
	Says     string // what it does, or why it can't be done and what to do in its place
}

// Undo says how e can be undone.
func (e Event) Undo() Undo {
	if f, ok := e.Fact.(interface{ undo() Undo }); ok {
		return f.undo()
	}
	return Undo{Says: "Nothing was changed that could be changed back."}
}

// Before is what something was that is set as a whole, such as the term rules, and the version that the event gave it. By these it
// can be set back, as long as nobody has set it since.
type Before struct {
	Before  json.RawMessage `json:"before,omitempty"`  // as it is set; none: it was not there
	Version int             `json:"version,omitempty"` // 0: it was not kept
}

// Was returns what something was before an event that gave it a version; nil for what was not there. It has to be fit for JSON.
func Was(before any, version int) Before {
	if before == nil {
		return Before{Version: version}
	}
	b, err := json.Marshal(before)
	if err != nil {
		panic(fmt.Sprintf("keep what was before an event: %v", err))
	}
	return Before{b, version}
}

// back says that something is set back, where it is known what it was.
func (b Before) back(format string, args ...any) Undo {
	if b.Version == 0 {
		return cannot("What it was as a whole is not kept with this entry. Set it by hand.")
	}
	return can(format, args...)
}

func can(format string, args ...any) Undo    { return Undo{true, fmt.Sprintf(format, args...)} }
func cannot(format string, args ...any) Undo { return Undo{false, fmt.Sprintf(format, args...)} }

// stored is an event as it is kept, but for its kind and its way, which stand beside it.
type stored struct {
	Version int             `json:"v"`
	By      Who             `json:"by,omitzero"`
	Group   Who             `json:"group,omitzero"`
	Fact    json.RawMessage `json:"fact"`
	Undoes  int64           `json:"undoes,omitempty"`
}

// Encode returns e as it is stored, without its kind and its way.
func (e Event) Encode() ([]byte, error) {
	fact, err := json.Marshal(e.Fact)
	if err != nil {
		return nil, fmt.Errorf("store an event: %w", err)
	}
	return json.Marshal(stored{version, e.By, e.Group, fact, e.Undoes})
}

// Decode reads what Encode wrote.
func Decode(kind Kind, via string, b []byte) (Event, error) {
	var s stored
	if err := json.Unmarshal(b, &s); err != nil {
		return Event{}, fmt.Errorf("read an event: %w", err)
	}
	read, known := kinds[kind]
	if !known || s.Version > version {
		return Event{}, fmt.Errorf("read an event: %s of version %d is newer than this program", kind, s.Version)
	}
	fact, err := read(s.Fact)
	if err != nil {
		return Event{}, fmt.Errorf("read an event: %s: %w", kind, err)
	}
	return Event{By: s.By, Via: via, Group: s.Group, Fact: fact, Undoes: s.Undoes}, nil
}

// kinds reads the facts of each kind.
var kinds = map[Kind]func([]byte) (Fact, error){}

func register[F Fact]() {
	var f F
	kinds[f.Kind()] = func(b []byte) (Fact, error) {
		var f F
		err := json.Unmarshal(b, &f)
		return f, err
	}
}

// Kinds returns the names of all kinds of events.
func Kinds() []Kind {
	out := make([]Kind, 0, len(kinds))
	for k := range kinds {
		out = append(out, k)
	}
	return out
}

// People are those whom an event affected, for its sentence: how many, and the names
// of the first three. All of them stand beside the event.
type People struct {
	Count int   `json:"count"`
	First []Who `json:"first,omitempty"`
}

// Of returns the people of a sentence.
func Of(all ...Who) People {
	return People{len(all), all[:min(len(all), 3)]}
}

// String names them: "Tove Alder", "Tove Alder and Oda Fenn", "Tove Alder and 13 more people".
func (p People) String() string {
	switch {
	case p.Count == 0:
		return "nobody"
	case len(p.First) == 0:
		return number.Of(p.Count, "person")
	case p.Count <= len(p.First):
		names := make([]string, p.Count)
		for i := range names {
			names[i] = p.First[i].String()
		}
		return listed(names)
	case p.Count-1 == 1:
		return p.First[0].String() + " and 1 more"
	}
	return fmt.Sprintf("%s and %d more people", p.First[0], p.Count-1)
}

func listed(names []string) string {
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}

// day writes a date such as 2027-01-02 as people read it; another text stays as it is.
func day(date string) string {
	t, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return date
	}
	return t.Format("2 Jan 2006")
}

// because adds a reason to a sentence.
func because(reason string) string {
	reason = strings.TrimSpace(reason)
	if reason == "" {
		return ""
	}
	return ": " + strings.TrimSuffix(reason, ".")
}

// told puts changes in words: what a change says, or else from what to what.
func told(all []Change) string {
	parts := make([]string, len(all))
	for i, c := range all {
		field := strings.ReplaceAll(c.Field, "_", " ")
		switch {
		case c.Says != "":
			parts[i] = lowerFirst(strings.TrimSuffix(c.Says, "."))
		case c.From == "":
			parts[i] = fmt.Sprintf("%s is %s", field, short(c.To))
		case c.To == "":
			parts[i] = fmt.Sprintf("%s is no longer %s", field, short(c.From))
		default:
			parts[i] = fmt.Sprintf("%s from %s to %s", field, short(c.From), short(c.To))
		}
	}
	return strings.Join(parts, "; ")
}

// lowerFirst makes a sentence a part of another.
func lowerFirst(s string) string {
	first, size := utf8.DecodeRuneInString(s)
	return string(unicode.ToLower(first)) + s[size:]
}

// short cuts a value for a sentence; the whole of it stands in the changes.
func short(value string) string {
	value = day(strings.Join(strings.Fields(value), " "))
	if r := []rune(value); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return value
}
