package policy

import "fmt"

// Sentence says in one line who reads the group, how one gets in, and who can
// write to it.
func (p Policy) Sentence() string {
	return p.readWords() + " " + p.joinWords() + " " + p.postWords()
}

func (p Policy) readWords() string {
	switch p.Answers[Read] {
	case Nobody:
		return "Nobody reads its archive."
	case Anyone:
		return "Anyone on the internet can read it."
	case Workspace:
		return "Everyone in the workspace can read it."
	case Members:
		return "Only members read it."
	}
	return "Only " + p.Answers[Read].Who() + " read it."
}

func (p Policy) joinWords() string {
	who := "Anyone in the workspace"
	switch {
	case p.JoinAudience == Nobody:
		return "People come in by invitation only."
	case p.JoinAudience == Anyone:
		who = "Anyone on the internet"
	}
	if p.JoinHow == Asking {
		return who + " may ask to join."
	}
	return who + " may join."
}

func (p Policy) postWords() string {
	switch a := p.Answers[Post]; {
	case a == Nobody:
		return "Nobody can write to it."
	case a < Members:
		return "Only " + a.Who() + " write to it."
	case a == Anyone && p.Hold == HoldNobody:
		return "Strangers can write to it."
	case a == Anyone:
		return "Strangers can write to it; their mail waits for approval."
	}
	return "Strangers can't write to it."
}

// StandIn says what one kind of person could do with the group.
type StandIn struct {
	Rung Audience
	Can  []string // each reads on from "can"
	Cant []string // each reads on from "can't"
}

// StandIns returns the four: an owner, a member, a colleague, a stranger.
func (p Policy) StandIns() []StandIn {
	var out []StandIn
	for _, rung := range []Audience{Owners, Members, Workspace, Anyone} {
		s := StandIn{Rung: rung}
		for _, q := range []Question{Find, Read, SeePeople, Post, WriteOwners, AddPeople} {
			text := [...]string{"find it", "see who is in it", "read it", "write to it", "write to its owners", "add people"}[q]
			if !p.Answers[q].Includes(rung) {
				s.Cant = append(s.Cant, text)
				continue
			}
			if q == Post && p.holds(Author{Rung: rung, Workspace: rung != Anyone}) {
				text += ", after approval"
			}
			s.Can = append(s.Can, text)
		}
		if rung >= Workspace {
			switch {
			case !p.JoinAudience.Includes(rung):
				s.Cant = append(s.Cant, "join unless invited")
			case p.JoinHow == Asking:
				s.Can = append(s.Can, "ask to join")
			default:
				s.Can = append(s.Can, "join")
			}
		} else if rung == Members {
			switch p.Leave {
			case LeaveFree:
				s.Can = append(s.Can, "leave")
			case LeaveAsking:
				s.Can = append(s.Can, "ask to leave")
			default:
				s.Cant = append(s.Cant, "leave")
			}
		}
		out = append(out, s)
	}
	return out
}

// Population is how many people stand on each rung of a group that can be
// counted. Colleagues are the people of the workspace who are not in the group.
type Population struct {
	Owners, Moderators, Members, Colleagues int
}

func (n Population) on(rung Audience) int {
	return [...]int{0, n.Owners, n.Moderators, n.Members, n.Colleagues, -1}[rung]
}

// Share is the people on one rung who gain or lose something. Count is -1 where
// nobody can count them: strangers.
type Share struct {
	Rung  Audience
	Count int
}

// Shift is what a change of policy does to one answer or setting.
type Shift struct {
	Field        string
	From, To     string
	Gains, Loses []Share // of an answer; empty for a setting
	Says         string  // one sentence: who can now do, or no longer do, what
}

// Effect returns what changing before into after does, in the order of the
// questions and then of the settings. No difference gives an empty slice.
func Effect(before, after Policy, n Population) []Shift {
	var out []Shift
	for q := Find; q < Questions; q++ {
		from, to := before.Answers[q], after.Answers[q]
		if from == to {
			continue
		}
		s := Shift{Field: q.String(), From: from.String(), To: to.String()}
		for rung := Owners; rung <= Anyone; rung++ {
			share := Share{rung, n.on(rung)}
			switch {
			case share.Count == 0:
			case to.Includes(rung) && !from.Includes(rung):
				s.Gains = append(s.Gains, share)
			case from.Includes(rung) && !to.Includes(rung):
				s.Loses = append(s.Loses, share)
			}
		}
		s.Says = shiftWords(q, s)
		out = append(out, s)
	}
	for _, name := range Settings {
		if from, to := before.Get(name), after.Get(name); from != to {
			out = append(out, Shift{Field: name, From: from, To: to, Says: settingWords(name, after)})
		}
	}
	return out
}

func shiftWords(q Question, s Shift) string {
	switch {
	case len(s.Gains) > 0:
		return fmt.Sprintf("%s %s from now on.", upper(sum(s.Gains)), q.verb(false))
	case len(s.Loses) > 0:
		return fmt.Sprintf("%s lose this: they no longer %s.", upper(sum(s.Loses)), q.verb(false)[len("can "):])
	}
	return "This changes nothing for anybody at present."
}

// sum names shares in a sentence: "12 members, 214 colleagues and every stranger".
func sum(shares []Share) string {
	text := ""
	for i, s := range shares {
		part := "all strangers"
		if s.Count >= 0 {
			part = count(s.Count, [...]string{"", "owner", "moderator", "member", "colleague"}[s.Rung])
		}
		switch {
		case i == 0:
		case i == len(shares)-1:
			text += " and "
		default:
			text += ", "
		}
		text += part
	}
	if text[0] >= '0' && text[0] <= '9' {
		text = "the " + text
	}
	return text
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func settingWords(name string, p Policy) string {
	switch name {
	case "join.audience", "join.how":
		return p.joinWords()
	case "leave":
		return [...]string{"Members may leave whenever they like.", "Members ask before they leave.", "Members can't leave by themselves."}[p.Leave]
	case "externals":
		return [...]string{"External members can't be added; those already in it stay.", "Owners may add external members.", "Whoever may add people may add external members."}[p.Externals]
	case "hold":
		return [...]string{"No mail waits for approval.", "Mail from outsiders who are not members waits for approval.", "Mail from people who are not members waits for approval.",
			"Mail from people who are not members, or are new in the group, waits for approval.", "All mail waits for approval, but for that of owners and moderators."}[p.Hold]
	}
	return [...]string{"Mail whose author is not proven is delivered.", "Mail whose author is not proven waits for approval.", "Mail whose author is not proven is refused."}[p.Suspicious]
}
