package policy

import (
	"fmt"

	"ivytable.example/ivytable/internal/core/fault"
)

// Part says in which of three groups a setting is shown.
type Part string

// The parts.
const (
	Seeing    Part = "seeing"
	GettingIn Part = "getting_in"
	Writing   Part = "writing"
)

// row is all that there is to know of one setting. A new setting is a new row, and
// what is generated from the table.
type row struct {
	name    string
	part    Part
	asks    string // what the setting decides, as a heading
	normal  Value  // of a new group
	choices []choice
	bounded bool // a ceiling can bound it

	// Of a question: what an audience can do, reading on from who they are.
	can, may string
	short    string // the same in one or two words, also of who may come in
	standIn  string // the same in the list of what a stand-in can do; "" where it is not shown there

	check func(Policy) *fault.Fault // a contradiction with another setting
	doubt func(Policy) *fault.Fault // what is allowed but doubtful
}

// choice is one value of a setting.
type choice struct {
	value Value
	name  string
	label string // in a list of choices
	in    string // in a sentence about the group
	says  string // what it means once it is set; "" for an audience
}

var audiences = []choice{
	{Nobody, "nobody", "Nobody", Nobody.Who(), ""},
	{Owners, "owners", "Its owners", Owners.Who(), ""},
	{Moderators, "moderators", "Its owners and moderators", Moderators.Who(), ""},
	{Members, "members", "Its members", Members.Who(), ""},
	{Workspace, "workspace", "People of the workspace", Workspace.Who(), ""},
	{Anyone, "anyone", "Anyone", Anyone.Who(), ""},
}

// table is filled in when the package starts: its checks name its rows.
var table [Settings]row

func init() {
	table = [Settings]row{
		Find: {name: "find", short: "find", part: Seeing, asks: "Who can find it", normal: Workspace, choices: audiences, bounded: true,
			can: "can find the group", may: "can find the group", standIn: "find it",
			doubt: func(p Policy) *fault.Fault {
				return when(p[Find] == Nobody, "Let at least its owners find it.", "Nobody but administrators can find it, not even its owners.")
			}},
		SeePeople: {name: "see_people", short: "see people", part: Seeing, asks: "Who can see who is in it", normal: Members, choices: audiences, bounded: true,
			can: "can see who is in it", may: "can see who is in it", standIn: "see who is in it",
			check: func(p Policy) *fault.Fault {
				return when(p[SeePeople] > p[Find], "Let the same audience find it, or let fewer see the people.",
					"%s may see who is in it, but %s can find the group.", upper(p[SeePeople].Who()), p.onlyFind())
			},
			doubt: func(p Policy) *fault.Fault {
				return when(p[SeePeople] == Anyone, "Let the workspace or the members see the people.", "Everyone on the internet can see who is in it.")
			}},
		Read: {name: "read", short: "read", part: Seeing, asks: "Who can read its archive", normal: Members, choices: audiences, bounded: true,
			can: "can read its archive", may: "can read its archive", standIn: "read it",
			check: func(p Policy) *fault.Fault {
				return when(p[Read] > p[Find], "Let the same audience find it, or let fewer read it.",
					"%s may read the archive, but %s can find the group.", upper(p[Read].Who()), p.onlyFind())
			}},
		Post: {name: "post", short: "write", part: Writing, asks: "Who can write to it", normal: Members, choices: audiences, bounded: true,
			can: "can write to it", may: "may write to this group", standIn: "write to it",
			doubt: func(p Policy) *fault.Fault {
				return when(p[Post] == Nobody, "Let at least its owners write.", "Nobody can write to it.")
			}},
		WriteOwners: {name: "write_owners", short: "write to owners", part: Writing, asks: "Who can write to its owners", normal: Workspace, choices: audiences, bounded: true,
			can: "can write to its owners", may: "may write to its owners", standIn: "write to its owners",
			doubt: func(p Policy) *fault.Fault {
				return when(p[WriteOwners] < Members, "Let at least the members write to the owners.", "Its members have no way to write to its owners.")
			}},
		AddPeople: {name: "add_people", short: "add people", part: GettingIn, asks: "Who can add people", normal: Owners, choices: audiences, bounded: true,
			can: "can add people to it", may: "may add people to it", standIn: "add people",
			check: func(p Policy) *fault.Fault {
				return when(p[AddPeople] == Anyone, "Choose the workspace or a narrower audience.", "A stranger has no account to add people with.")
			},
			doubt: func(p Policy) *fault.Fault {
				return when(p[AddPeople] == Workspace, "Let owners or moderators add people.", "Anyone in the workspace can put people into it.")
			}},
		SpeakAs: {name: "speak_as", short: "write as it", part: Writing, asks: "Who can write as the group", normal: Nobody, choices: audiences, bounded: true,
			can: "can write as the group", may: "may write as the group", check: func(p Policy) *fault.Fault { return noStranger(p[SpeakAs]) }},
		SpeakFor: {name: "speak_for", short: "write for it", part: Writing, asks: "Who can write for the group, named as the sender", normal: Nobody, choices: audiences, bounded: true,
			can: "can write for the group", may: "may write for the group", check: func(p Policy) *fault.Fault { return noStranger(p[SpeakFor]) }},
		JoinAudience: {name: "join.audience", short: "come in", part: GettingIn, asks: "Who can enter by themselves or by asking", normal: Workspace, bounded: true,
			choices: []choice{{Nobody, "nobody", "Nobody: by invitation only", Nobody.Who(), ""}, audiences[Workspace], audiences[Anyone]},
			check: func(p Policy) *fault.Fault {
				if p[JoinHow] == Freely {
					return when(p[JoinAudience] > p[Find], "Let the same audience find it, or let people in by invitation only.",
						"%s may join without asking, so the group can't be confidential, but %s can find it.", upper(p[JoinAudience].Who()), p.onlyFind())
				}
				return when(p[JoinAudience] > p[Find], "Let the same audience find it, or let people in by invitation only.",
					"%s may ask to join, but %s can find the group.", upper(p[JoinAudience].Who()), p.onlyFind())
			}},
		JoinHow: {name: "join.how", part: GettingIn, asks: "How they enter", normal: Asking,
			choices: []choice{{Freely, "freely", "By themselves", "by themselves", ""}, {Asking, "asking", "By asking", "by asking", ""}},
			doubt: func(p Policy) *fault.Fault {
				return when(p[JoinAudience] == Anyone && p[JoinHow] == Freely, "Let people join by asking.", "Everyone on the internet can join without asking.")
			}},
		Leaving: {name: "leave", part: GettingIn, asks: "How members leave", normal: LeaveFree,
			choices: []choice{{LeaveFree, "free", "Whenever they like", "whenever they like", "Members may leave whenever they like."},
				{LeaveAsking, "asking", "By asking", "by asking", "Members ask before they leave."},
				{LeaveFixed, "fixed", "Not by themselves", "only when they are taken out", "Members can't leave by themselves."}},
			doubt: func(p Policy) *fault.Fault {
				return when(p[Leaving] == LeaveFixed && p[JoinAudience] != Nobody && p[JoinHow] == Freely, "Let members leave, or let people come in by asking.",
					"Whoever joins by themselves can't leave again.")
			}},
		Externals: {name: "externals", part: GettingIn, asks: "External members", normal: ExternalsBarred,
			choices: []choice{{ExternalsBarred, "barred", "None", "not taken", "External members can't be added; those already in it stay."},
				{ExternalsByOwners, "owners", "Added by its owners", "added by its owners", "Owners may add external members."},
				{ExternalsByAdders, "adders", "Added by whoever may add people", "added by whoever may add people", "Whoever may add people may add external members."}},
			check: func(p Policy) *fault.Fault {
				return when(p[JoinAudience] == Anyone && p[Externals] == ExternalsBarred, "Let external members in, or let only the workspace join.",
					"Anyone may join, but external members are barred.")
			}},
		Holding: {name: "hold", part: Writing, asks: "Whose mail waits for approval", normal: HoldOutsiders,
			choices: []choice{{HoldNobody, "nobody", "Nobody's", "nobody's mail", "No mail waits for approval."},
				{HoldOutsiders, "outsiders", "That of outsiders who are not members", "mail from outsiders not in it", "Mail from outsiders who are not members waits for approval."},
				{HoldNonMembers, "non_members", "That of people who are not members", "mail from people not in it", "Mail from people who are not members waits for approval."},
				{HoldNewcomers, "newcomers", "That of people who are not members, or new", "mail from newcomers and people not in it", "Mail from people who are not members, or are new in the group, waits for approval."},
				{HoldEveryone, "everyone", "Everyone's below moderator", "everyone's mail below moderator", "All mail waits for approval, but for that of owners and moderators."}},
			doubt: func(p Policy) *fault.Fault {
				return when(p[Post] == Anyone && p[Holding] == HoldNobody, "Hold mail from outsiders.",
					"Anyone may write to it and nothing waits for approval: unwanted mail reaches everybody in it.")
			}},
		Suspicious: {name: "suspicious", part: Writing, asks: "Mail whose author is not proven", normal: SuspiciousHold,
			choices: []choice{{SuspiciousDeliver, "deliver", "Is delivered", "is delivered", "Mail whose author is not proven is delivered."},
				{SuspiciousHold, "hold", "Waits for approval", "waits for approval", "Mail whose author is not proven waits for approval."},
				{SuspiciousRefuse, "refuse", "Is refused", "is refused", "Mail whose author is not proven is refused."}},
			doubt: func(p Policy) *fault.Fault {
				return when(p[Suspicious] == SuspiciousDeliver, "Hold suspicious mail.", "Mail that only claims to come from a member is delivered as theirs.")
			}},
		Automatic: {name: "automatic", part: Writing, asks: "Mail that a program wrote, such as an alarm", normal: AutomaticDeliver,
			choices: []choice{{AutomaticDeliver, "deliver", "Is treated like other mail", "is treated like other mail", "Mail that a program wrote is treated like other mail."},
				{AutomaticHold, "hold", "Waits for approval", "waits for approval", "Mail that a program wrote waits for approval."},
				{AutomaticRefuse, "refuse", "Is refused", "is refused", "Mail that a program wrote is refused."}}},
	}
}

func when(bad bool, mend, format string, args ...any) *fault.Fault {
	if !bad {
		return nil
	}
	return &fault.Fault{Says: fmt.Sprintf(format, args...), Mend: mend}
}

func noStranger(a Audience) *fault.Fault {
	return when(a == Anyone, "Choose the workspace or a narrower audience.", "A stranger could write in the group's name.")
}

func (p Policy) onlyFind() string {
	if p[Find] == Nobody {
		return "nobody"
	}
	return "only " + p[Find].Who()
}

// Description is a setting as it is shown and documented.
type Description struct {
	Setting  Setting
	Name     string
	Path     string // in a group's JSON
	Part     Part
	Asks     string
	Question bool
	Bounded  bool   // a ceiling can bound it
	Can      string // of a question: what those can do whom the answer includes, such as "can find the group"
	Short    string // of what is answered with an audience: the same in one or two words
	Choices  []Choice
}

// Choice is a value that a setting can have: its name, how it stands in a list, and in a sentence.
type Choice struct{ Name, Label, In string }

// Describe returns the settings in the order in which they are shown.
func Describe() []Description {
	out := make([]Description, Settings)
	for s := range Settings {
		r := &table[s]
		d := Description{Setting: s, Name: r.name, Path: s.Path(), Part: r.part, Asks: r.asks, Question: s.Question(), Bounded: r.bounded, Can: r.can, Short: r.short}
		for _, c := range r.choices {
			d.Choices = append(d.Choices, Choice{c.name, c.label, c.in})
		}
		out[s] = d
	}
	return out
}
