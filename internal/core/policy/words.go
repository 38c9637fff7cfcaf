package policy

// Sentence says in one line who reads the group, how one gets in, and who can
// write to it.
func (p Policy) Sentence() string {
	return p.readWords() + " " + p.joinWords() + " " + p.postWords()
}

func (p Policy) readWords() string {
	switch p[Read] {
	case Nobody:
		return "Nobody reads its archive."
	case Anyone:
		return "Anyone on the internet can read it."
	case Workspace:
		return "Everyone in the workspace can read it."
	case Members:
		return "Only members read it."
	}
	return "Only " + p[Read].Who() + " read it."
}

func (p Policy) joinWords() string {
	who := "Anyone in the workspace"
	switch p[JoinAudience] {
	case Nobody:
		return "People come in by invitation only."
	case Anyone:
		who = "Anyone on the internet"
	}
	if p[JoinHow] == Asking {
		return who + " may ask to join."
	}
	return who + " may join."
}

func (p Policy) postWords() string {
	switch a := p[Post]; {
	case a == Nobody:
		return "Nobody can write to it."
	case a < Members:
		return "Only " + a.Who() + " write to it."
	case a == Anyone && p[Holding] == HoldNobody:
		return "Strangers can write to it."
	case a == Anyone:
		return "Strangers can write to it; their mail waits for approval."
	}
	return "Strangers can't write to it."
}

// Who names an audience in a sentence.
func (v Value) Who() string {
	if names := [...]string{"nobody", "its owners", "its owners and moderators", "its members", "people of the workspace", "anyone"}; int(v) < len(names) {
		return names[v]
	}
	return "nobody"
}

// Audience returns the name of v as an audience.
func (v Value) Audience() string {
	if int(v) < len(audiences) {
		return audiences[v].name
	}
	return "nobody"
}

func upper(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return s
	}
	return string(s[0]-'a'+'A') + s[1:]
}

// StandIn says what one kind of person could do with the group.
type StandIn struct {
	Rung   Audience
	Can    []string // each reads on from "can"
	Cannot []string // each reads on from "can't"
}

// StandIns returns the four: an owner, a member, a colleague, a stranger.
func (p Policy) StandIns() []StandIn {
	var out []StandIn
	for _, rung := range []Audience{Owners, Members, Workspace, Anyone} {
		s := StandIn{Rung: rung}
		for q := range Settings {
			text := table[q].standIn
			if text == "" {
				continue
			}
			if !p[q].Includes(rung) {
				s.Cannot = append(s.Cannot, text)
				continue
			}
			if q == Post && p.holds(Author{Rung: rung, Workspace: rung != Anyone}) {
				text += ", after approval"
			}
			s.Can = append(s.Can, text)
		}
		if rung >= Workspace {
			switch {
			case !p[JoinAudience].Includes(rung):
				s.Cannot = append(s.Cannot, "join unless invited")
			case p[JoinHow] == Asking:
				s.Can = append(s.Can, "ask to join")
			default:
				s.Can = append(s.Can, "join")
			}
		} else if rung == Members {
			switch p[Leaving] {
			case LeaveFree:
				s.Can = append(s.Can, "leave")
			case LeaveAsking:
				s.Can = append(s.Can, "ask to leave")
			default:
				s.Cannot = append(s.Cannot, "leave")
			}
		}
		out = append(out, s)
	}
	return out
}
