package policy

import (
	"fmt"
	"strings"

	"ivytable.example/ivytable/internal/core/fault"
)

// Value is what a setting is set to: for a question an [Audience], else one of the
// constants named after the setting.
type Value uint8

// Audience is a rung of the ladder, and also the rung on which a person stands.
type Audience = Value

// The ladder, narrowest first.
const (
	Nobody Audience = iota
	Owners
	Moderators
	Members
	Workspace
	Anyone
)

// Includes reports whether an audience includes a person who stands on rung.
func (v Value) Includes(rung Audience) bool { return v >= rung && rung != Nobody }

// Setting is one thing that a policy says: the answer to a question, or one of the
// others.
type Setting uint8

// The settings, in the order in which they are shown. The first eight are the
// questions, answered with an audience.
const (
	Find Setting = iota
	SeePeople
	Read
	Post
	WriteOwners
	AddPeople
	SpeakAs
	SpeakFor
	JoinAudience // Nobody: by invitation only; else Workspace or Anyone
	JoinHow
	Leaving
	Externals
	Holding
	Suspicious
	Automatic
	Settings // how many there are
)

// Values of JoinHow.
const (
	Freely Value = iota
	Asking
)

// Values of Leaving.
const (
	LeaveFree Value = iota
	LeaveAsking
	LeaveFixed
)

// Values of Externals.
const (
	ExternalsBarred Value = iota
	ExternalsByOwners
	ExternalsByAdders
)

// Values of Holding. Each holds those before it too, but for HoldNewcomers, which
// adds newcomers to HoldNonMembers.
const (
	HoldNobody Value = iota
	HoldOutsiders
	HoldNonMembers
	HoldNewcomers
	HoldEveryone
)

// Values of Suspicious.
const (
	SuspiciousDeliver Value = iota
	SuspiciousHold
	SuspiciousRefuse
)

// Values of Automatic.
const (
	AutomaticDeliver Value = iota
	AutomaticHold
	AutomaticRefuse
)

// NewcomerDays is for how many days after joining a member counts as a newcomer.
const NewcomerDays = 14

// NewcomerPosts is how many posts that were let through make a member no newcomer before that.
const NewcomerPosts = 3

// Policy is a group's answers and settings. The zero value lets nobody do anything.
type Policy [Settings]Value

// Default is the policy that a new group has before anything is chosen: found by
// the workspace, open to its members, joined by asking.
func Default() (p Policy) {
	for s := range Settings {
		p[s] = table[s].normal
	}
	return p
}

// Question reports whether a setting is a question, which is answered with an audience.
func (s Setting) Question() bool { return s <= SpeakFor }

// String returns the name of a setting in the API, on the command line and in what
// is stored, such as post or join.audience.
func (s Setting) String() string {
	if s < Settings {
		return table[s].name
	}
	return fmt.Sprintf("setting %d", uint8(s))
}

// Path returns where a setting stands in a group's JSON, such as policy.post.
func (s Setting) Path() string {
	if s.Question() {
		return "policy." + s.String()
	}
	return s.String()
}

// name returns the name of a value of s.
func (s Setting) value(v Value) string {
	for _, c := range table[s].choices {
		if c.value == v {
			return c.name
		}
	}
	return fmt.Sprintf("value %d", v)
}

// ParseSetting reads a setting by its name. The error is a *[fault.Fault].
func ParseSetting(name string) (Setting, error) {
	for s := range Settings {
		if table[s].name == name {
			return s, nil
		}
	}
	return 0, fault.New(name, "Choose "+strings.Join(Names(), ", ")+".", "There is no question or setting %q.", name)
}

// Names returns the names that Set takes: of every setting, and privacy.
func Names() []string {
	out := []string{"privacy"}
	for s := range Settings {
		out = append(out, s.String())
	}
	return out
}

// parse reads a value of s by its name.
func (s Setting) Parse(value string) (Value, error) {
	var names []string
	for _, c := range table[s].choices {
		if c.name == value {
			return c.value, nil
		}
		names = append(names, c.name)
	}
	return 0, unknown(s.Path(), s.String(), value, names)
}

func unknown(field, what, value string, names []string) error {
	f := fault.New(field, "Choose "+strings.Join(names, ", ")+".", "%s can't be %q.", upper(what), value)
	return f
}

// Set changes one setting by its name and the name of its value; the name privacy
// fills in Find, SeePeople and Read. The error is a *[fault.Fault].
func (p *Policy) Set(name, value string) error {
	if name == "privacy" {
		v, err := ParsePrivacy(value)
		if err == nil {
			*p = p.WithPrivacy(v)
		}
		return err
	}
	s, err := ParseSetting(name)
	if err != nil {
		return err
	}
	v, err := s.Parse(value)
	if err == nil {
		p[s] = v
	}
	return err
}

// Get returns the name of the value of a setting by the setting's name, "" for no
// such name.
func (p Policy) Get(name string) string {
	if name == "privacy" {
		return p.Privacy().String()
	}
	if s, err := ParseSetting(name); err == nil {
		return s.value(p[s])
	}
	return ""
}

// Check returns the contradictions of p: choices of which one takes back the other.
func (p Policy) Check() []*fault.Fault {
	return p.gather(func(r *row) func(Policy) *fault.Fault { return r.check })
}

// Warnings returns what is allowed but doubtful.
func (p Policy) Warnings() []*fault.Fault {
	return p.gather(func(r *row) func(Policy) *fault.Fault { return r.doubt })
}

func (p Policy) gather(of func(*row) func(Policy) *fault.Fault) []*fault.Fault {
	var out []*fault.Fault
	for s := range Settings {
		check := of(&table[s])
		if check == nil {
			continue
		}
		if f := check(p); f != nil {
			f.Field = s.Path()
			out = append(out, f)
		}
	}
	return out
}

// Privacy is the plain summary of Find, SeePeople and Read.
type Privacy uint8

// The summaries. PrivacyMixed is every combination that has no name.
const (
	PrivacyMembers Privacy = iota
	PrivacyWorkspace
	PrivacyAnyone
	PrivacyMixed
)

var privacyNames = []string{"members", "workspace", "anyone", "mixed"}

func (v Privacy) String() string {
	if int(v) < len(privacyNames) {
		return privacyNames[v]
	}
	return "mixed"
}

// ParsePrivacy reads a privacy by its name; mixed is no choice. The error is a
// *[fault.Fault].
func ParsePrivacy(value string) (Privacy, error) {
	choices := privacyNames[:PrivacyMixed]
	for i, n := range choices {
		if n == value {
			return Privacy(i), nil
		}
	}
	return 0, unknown("privacy", "privacy", value, choices)
}

// WithPrivacy returns p with the three answers that a privacy stands for. Mixed
// changes nothing. No privacy shows the people to strangers.
func (p Policy) WithPrivacy(v Privacy) Policy {
	switch v {
	case PrivacyMembers:
		p[Find], p[SeePeople], p[Read] = Workspace, Members, Members
	case PrivacyWorkspace:
		p[Find], p[SeePeople], p[Read] = Workspace, Workspace, Workspace
	case PrivacyAnyone:
		p[Find], p[SeePeople], p[Read] = Anyone, Workspace, Anyone
	}
	return p
}

// Privacy returns the summary of p. A group that only its members can find is
// for its members too.
func (p Policy) Privacy() Privacy {
	find, see, read := p[Find], p[SeePeople], p[Read]
	switch {
	case find <= Workspace && see <= Members && read <= Members:
		return PrivacyMembers
	case find == Workspace && see == Workspace && read == Workspace:
		return PrivacyWorkspace
	case find == Anyone && see == Workspace && read == Anyone:
		return PrivacyAnyone
	}
	return PrivacyMixed
}

// Encode returns p as it is stored: NAME=VALUE words, in the order of the settings.
func (p Policy) Encode() string {
	var b strings.Builder
	for s := range Settings {
		if s > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(s.String())
		b.WriteByte('=')
		b.WriteString(s.value(p[s]))
	}
	return b.String()
}

// Decode reads what Encode wrote. A setting that is missing, because what is stored
// is older, is as in [Default]; one that is not known, because it is newer, is left
// out.
func Decode(stored string) (Policy, error) {
	p := Default()
	for word := range strings.FieldsSeq(stored) {
		name, value, _ := strings.Cut(word, "=")
		s, err := ParseSetting(name)
		if err != nil {
			continue
		}
		if p[s], err = s.Parse(value); err != nil {
			return p, err
		}
	}
	return p, nil
}
