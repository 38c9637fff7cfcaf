package policy

import (
	"fmt"
	"strings"
)

// Audience is a rung of the ladder, and also the rung on which a person stands.
type Audience uint8

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
func (a Audience) Includes(rung Audience) bool { return a >= rung && rung != Nobody }

// Question is one of the eight things that a policy answers.
type Question uint8

// The questions, in the order in which they are shown.
const (
	Find Question = iota
	SeePeople
	Read
	Post
	WriteOwners
	AddPeople
	SpeakAs
	SpeakFor
	Questions // how many there are
)

// How a person joins who may join.
type How uint8

// The ways to join.
const (
	Freely How = iota
	Asking
)

// Leave is the setting for leaving.
type Leave uint8

// The answers to leaving.
const (
	LeaveFree Leave = iota
	LeaveAsking
	LeaveFixed
)

// Externals is the setting for external members.
type Externals uint8

// The answers about external members.
const (
	ExternalsBarred Externals = iota
	ExternalsByOwners
	ExternalsByAdders
)

// Hold says whose messages wait for approval.
type Hold uint8

// The answers about holding. Each holds those before it too, but for
// HoldNewcomers, which adds newcomers to HoldNonMembers.
const (
	HoldNobody Hold = iota
	HoldOutsiders
	HoldNonMembers
	HoldNewcomers
	HoldEveryone
)

// Suspicious says what happens to mail whose author is not proven but has to be.
type Suspicious uint8

// The answers about suspicious mail.
const (
	SuspiciousDeliver Suspicious = iota
	SuspiciousHold
	SuspiciousRefuse
)

// NewcomerDays is for how many days after joining a member counts as a newcomer.
const NewcomerDays = 14

// Policy is a group's answers and settings. The zero value lets nobody do anything.
type Policy struct {
	Answers      [Questions]Audience
	JoinAudience Audience // Nobody: by invitation only
	JoinHow      How
	Leave        Leave
	Externals    Externals
	Hold         Hold
	Suspicious   Suspicious
}

// Default is the policy that a new group has before anything is chosen: found by
// the workspace, open to its members, joined by asking.
func Default() Policy {
	return Policy{
		Answers:      [Questions]Audience{Workspace, Members, Members, Members, Workspace, Owners, Nobody, Nobody},
		JoinAudience: Workspace, JoinHow: Asking, Externals: ExternalsBarred, Hold: HoldOutsiders, Suspicious: SuspiciousHold,
	}
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

// WithPrivacy returns p with the three answers that a privacy stands for. Mixed
// changes nothing. No privacy shows the people to strangers.
func (p Policy) WithPrivacy(v Privacy) Policy {
	switch v {
	case PrivacyMembers:
		p.Answers[Find], p.Answers[SeePeople], p.Answers[Read] = Workspace, Members, Members
	case PrivacyWorkspace:
		p.Answers[Find], p.Answers[SeePeople], p.Answers[Read] = Workspace, Workspace, Workspace
	case PrivacyAnyone:
		p.Answers[Find], p.Answers[SeePeople], p.Answers[Read] = Anyone, Workspace, Anyone
	}
	return p
}

// Privacy returns the summary of p. A group that only its members can find is
// for its members too.
func (p Policy) Privacy() Privacy {
	find, see, read := p.Answers[Find], p.Answers[SeePeople], p.Answers[Read]
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

// names are the words of each type in the API and the command line, by value.
var (
	audienceNames   = []string{"nobody", "owners", "moderators", "members", "workspace", "anyone"}
	questionNames   = []string{"find", "see_people", "read", "post", "write_owners", "add_people", "speak_as", "speak_for"}
	howNames        = []string{"freely", "asking"}
	leaveNames      = []string{"free", "asking", "fixed"}
	externalsNames  = []string{"barred", "owners", "adders"}
	holdNames       = []string{"nobody", "outsiders", "non_members", "newcomers", "everyone"}
	suspiciousNames = []string{"deliver", "hold", "refuse"}
	privacyNames    = []string{"members", "workspace", "anyone", "mixed"}
)

func (a Audience) String() string   { return audienceNames[a] }
func (q Question) String() string   { return questionNames[q] }
func (h How) String() string        { return howNames[h] }
func (l Leave) String() string      { return leaveNames[l] }
func (e Externals) String() string  { return externalsNames[e] }
func (h Hold) String() string       { return holdNames[h] }
func (s Suspicious) String() string { return suspiciousNames[s] }
func (v Privacy) String() string    { return privacyNames[v] }

func parse[T ~uint8](what, s string, names []string) (T, error) {
	for i, n := range names {
		if n == s {
			return T(i), nil
		}
	}
	return 0, fmt.Errorf("%s can't be %q: choose %s", what, s, strings.Join(names, ", "))
}

// ParseAudience reads an audience by its name.
func ParseAudience(s string) (Audience, error) {
	return parse[Audience]("an audience", s, audienceNames)
}

// ParseQuestion reads a question by its name.
func ParseQuestion(s string) (Question, error) {
	return parse[Question]("a question", s, questionNames)
}

// ParsePrivacy reads a privacy by its name; mixed is no choice.
func ParsePrivacy(s string) (Privacy, error) {
	return parse[Privacy]("privacy", s, privacyNames[:PrivacyMixed])
}

// Settings are the names of what a policy has beside its answers.
var Settings = []string{"join.audience", "join.how", "leave", "externals", "hold", "suspicious"}

// Set changes one answer or setting by its name and the name of its value.
func (p *Policy) Set(name, value string) (err error) {
	switch name {
	case "join.audience":
		var a Audience
		if a, err = ParseAudience(value); err == nil && a != Nobody && a < Workspace {
			err = fmt.Errorf("join.audience can't be %q: choose nobody, workspace, anyone", value)
		}
		if err == nil {
			p.JoinAudience = a
		}
	case "join.how":
		err = set(&p.JoinHow, name, value, howNames)
	case "leave":
		err = set(&p.Leave, name, value, leaveNames)
	case "externals":
		err = set(&p.Externals, name, value, externalsNames)
	case "hold":
		err = set(&p.Hold, name, value, holdNames)
	case "suspicious":
		err = set(&p.Suspicious, name, value, suspiciousNames)
	case "privacy":
		var v Privacy
		if v, err = ParsePrivacy(value); err == nil {
			*p = p.WithPrivacy(v)
		}
	default:
		var q Question
		if q, err = ParseQuestion(name); err != nil {
			return fmt.Errorf("there is no question or setting %q: choose %s, privacy, %s", name, strings.Join(questionNames, ", "), strings.Join(Settings, ", "))
		}
		err = set(&p.Answers[q], name, value, audienceNames)
	}
	return err
}

func set[T ~uint8](to *T, what, s string, names []string) error {
	v, err := parse[T](what, s, names)
	if err == nil {
		*to = v
	}
	return err
}

// Get returns the value of an answer or setting by its name, "" for no such name.
func (p Policy) Get(name string) string {
	switch name {
	case "join.audience":
		return p.JoinAudience.String()
	case "join.how":
		return p.JoinHow.String()
	case "leave":
		return p.Leave.String()
	case "externals":
		return p.Externals.String()
	case "hold":
		return p.Hold.String()
	case "suspicious":
		return p.Suspicious.String()
	case "privacy":
		return p.Privacy().String()
	}
	if q, err := ParseQuestion(name); err == nil {
		return p.Answers[q].String()
	}
	return ""
}

// A Fault is a contradiction or a doubt in a policy.
type Fault struct {
	Field string // the answer or setting to change
	Says  string // what is wrong
	Mend  string // what to choose instead
}

// Check returns the contradictions of p: choices of which one takes back the other.
func (p Policy) Check() []Fault {
	var faults []Fault
	add := func(field, says, mend string) { faults = append(faults, Fault{field, says, mend}) }
	find := p.Answers[Find]
	if p.Answers[Read] > find {
		add("read", fmt.Sprintf("%s may read the archive, but %s can find the group.", upper(p.Answers[Read].Who()), p.onlyFind()), "Let the same audience find it, or let fewer read it.")
	}
	if p.Answers[SeePeople] > find {
		add("see_people", fmt.Sprintf("%s may see who is in it, but %s can find the group.", upper(p.Answers[SeePeople].Who()), p.onlyFind()), "Let the same audience find it, or let fewer see the people.")
	}
	if p.JoinAudience > find && p.JoinHow == Freely {
		add("join.audience", fmt.Sprintf("%s may join without asking, so the group can't be confidential, but %s can find it.", upper(p.JoinAudience.Who()), p.onlyFind()), "Let the same audience find it, or let people in by invitation only.")
	} else if p.JoinAudience > find {
		add("join.audience", fmt.Sprintf("%s may ask to join, but %s can find the group.", upper(p.JoinAudience.Who()), p.onlyFind()), "Let the same audience find it, or let people in by invitation only.")
	}
	if p.JoinAudience == Anyone && p.Externals == ExternalsBarred {
		add("externals", "Anyone may join, but external members are barred.", "Let external members in, or let only the workspace join.")
	}
	for _, q := range []Question{SpeakAs, SpeakFor} {
		if p.Answers[q] == Anyone {
			add(q.String(), "A stranger could write in the group's name.", "Choose the workspace or a narrower audience.")
		}
	}
	if p.Answers[AddPeople] == Anyone {
		add("add_people", "A stranger has no account to add people with.", "Choose the workspace or a narrower audience.")
	}
	return faults
}

func (p Policy) onlyFind() string {
	if p.Answers[Find] == Nobody {
		return "nobody"
	}
	return "only " + p.Answers[Find].Who()
}

// Warnings returns what is allowed but doubtful.
func (p Policy) Warnings() []Fault {
	var faults []Fault
	add := func(field, says, mend string) { faults = append(faults, Fault{field, says, mend}) }
	if p.Answers[Post] == Anyone && p.Hold == HoldNobody {
		add("hold", "Anyone may write to it and nothing waits for approval: unwanted mail reaches everybody in it.", "Hold mail from outsiders.")
	}
	if p.Answers[Post] == Nobody {
		add("post", "Nobody can write to it.", "Let at least its owners write.")
	}
	if p.Suspicious == SuspiciousDeliver {
		add("suspicious", "Mail that only claims to come from a member is delivered as theirs.", "Hold suspicious mail.")
	}
	if p.Answers[SeePeople] == Anyone {
		add("see_people", "Everyone on the internet can see who is in it.", "Let the workspace or the members see the people.")
	}
	if p.JoinAudience == Anyone && p.JoinHow == Freely {
		add("join.how", "Everyone on the internet can join without asking.", "Let people join by asking.")
	}
	if p.Answers[AddPeople] == Workspace {
		add("add_people", "Anyone in the workspace can put people into it.", "Let owners or moderators add people.")
	}
	if p.Answers[WriteOwners] < Members {
		add("write_owners", "Its members have no way to write to its owners.", "Let at least the members write to the owners.")
	}
	return faults
}
