// Code generated from the table of settings in core/policy. DO NOT EDIT.

package api

// PolicyHalf is the policy half of a group.
type PolicyHalf struct {
	Privacy    string  `json:"privacy" enum:"members,workspace,anyone,mixed" doc:"The plain summary of find, see_people and read"`
	Policy     Answers `json:"policy"`
	Join       Join    `json:"join"`
	Leave      string  `json:"leave" enum:"free,asking,fixed" doc:"How members leave"`
	Externals  string  `json:"externals" enum:"barred,owners,adders" doc:"External members"`
	Hold       string  `json:"hold" enum:"nobody,outsiders,non_members,newcomers,everyone" doc:"Whose mail waits for approval"`
	Suspicious string  `json:"suspicious" enum:"deliver,hold,refuse" doc:"Mail whose author is not proven"`
	Automatic  string  `json:"automatic" enum:"deliver,hold,refuse" doc:"Mail that a program wrote, such as an alarm"`
}

// Answers is part of the policy half of a group.
type Answers struct {
	Find        string `json:"find" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can find it"`
	SeePeople   string `json:"see_people" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can see who is in it"`
	Read        string `json:"read" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can read its archive"`
	Post        string `json:"post" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write to it"`
	WriteOwners string `json:"write_owners" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write to its owners"`
	AddPeople   string `json:"add_people" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can add people"`
	SpeakAs     string `json:"speak_as" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write as the group"`
	SpeakFor    string `json:"speak_for" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write for the group, named as the sender"`
}

// Join is part of the policy half of a group.
type Join struct {
	Audience string `json:"audience" enum:"nobody,workspace,anyone" doc:"Who can enter by themselves or by asking"`
	How      string `json:"how" enum:"freely,asking" doc:"How they enter"`
}

// PolicyPatch is any part of the policy half of a group.
type PolicyPatch struct {
	Privacy    string        `json:"privacy,omitempty" enum:"members,workspace,anyone" doc:"Fills in find, see_people and read"`
	Policy     *AnswersPatch `json:"policy,omitempty"`
	Join       *JoinPatch    `json:"join,omitempty"`
	Leave      string        `json:"leave,omitempty" enum:"free,asking,fixed" doc:"How members leave"`
	Externals  string        `json:"externals,omitempty" enum:"barred,owners,adders" doc:"External members"`
	Hold       string        `json:"hold,omitempty" enum:"nobody,outsiders,non_members,newcomers,everyone" doc:"Whose mail waits for approval"`
	Suspicious string        `json:"suspicious,omitempty" enum:"deliver,hold,refuse" doc:"Mail whose author is not proven"`
	Automatic  string        `json:"automatic,omitempty" enum:"deliver,hold,refuse" doc:"Mail that a program wrote, such as an alarm"`
}

// AnswersPatch is any part of this part of the policy half of a group.
type AnswersPatch struct {
	Find        string `json:"find,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can find it"`
	SeePeople   string `json:"see_people,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can see who is in it"`
	Read        string `json:"read,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can read its archive"`
	Post        string `json:"post,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write to it"`
	WriteOwners string `json:"write_owners,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write to its owners"`
	AddPeople   string `json:"add_people,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can add people"`
	SpeakAs     string `json:"speak_as,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write as the group"`
	SpeakFor    string `json:"speak_for,omitempty" enum:"nobody,owners,moderators,members,workspace,anyone" doc:"Who can write for the group, named as the sender"`
}

// JoinPatch is any part of this part of the policy half of a group.
type JoinPatch struct {
	Audience string `json:"audience,omitempty" enum:"nobody,workspace,anyone" doc:"Who can enter by themselves or by asking"`
	How      string `json:"how,omitempty" enum:"freely,asking" doc:"How they enter"`
}

// NewPolicyHalf makes the policy half of a group; get returns the value of a setting by
// its name, and the privacy.
func NewPolicyHalf(get func(name string) string) PolicyHalf {
	var h PolicyHalf
	h.Privacy = get("privacy")
	h.Policy.Find = get("find")
	h.Policy.SeePeople = get("see_people")
	h.Policy.Read = get("read")
	h.Policy.Post = get("post")
	h.Policy.WriteOwners = get("write_owners")
	h.Policy.AddPeople = get("add_people")
	h.Policy.SpeakAs = get("speak_as")
	h.Policy.SpeakFor = get("speak_for")
	h.Join.Audience = get("join.audience")
	h.Join.How = get("join.how")
	h.Leave = get("leave")
	h.Externals = get("externals")
	h.Hold = get("hold")
	h.Suspicious = get("suspicious")
	h.Automatic = get("automatic")
	return h
}

// Each calls f with every setting of a patch that has a value, the privacy first.
func (p PolicyPatch) Each(f func(name, value string)) {
	set := func(name, value string) {
		if value != "" {
			f(name, value)
		}
	}
	set("privacy", p.Privacy)
	set("leave", p.Leave)
	set("externals", p.Externals)
	set("hold", p.Hold)
	set("suspicious", p.Suspicious)
	set("automatic", p.Automatic)
	if p.Policy != nil {
		set("find", p.Policy.Find)
		set("see_people", p.Policy.SeePeople)
		set("read", p.Policy.Read)
		set("post", p.Policy.Post)
		set("write_owners", p.Policy.WriteOwners)
		set("add_people", p.Policy.AddPeople)
		set("speak_as", p.Policy.SpeakAs)
		set("speak_for", p.Policy.SpeakFor)
	}
	if p.Join != nil {
		set("join.audience", p.Join.Audience)
		set("join.how", p.Join.How)
	}
}

// Set gives a setting of a patch, or the privacy, a value by its name. It reports whether
// there is such a setting; whether there is such a value the service says.
func (p *PolicyPatch) Set(name, value string) bool {
	switch name {
	case "privacy":
		p.Privacy = value
	case "leave":
		p.Leave = value
	case "externals":
		p.Externals = value
	case "hold":
		p.Hold = value
	case "suspicious":
		p.Suspicious = value
	case "automatic":
		p.Automatic = value
	case "find":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.Find = value
	case "see_people":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.SeePeople = value
	case "read":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.Read = value
	case "post":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.Post = value
	case "write_owners":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.WriteOwners = value
	case "add_people":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.AddPeople = value
	case "speak_as":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.SpeakAs = value
	case "speak_for":
		if p.Policy == nil {
			p.Policy = &AnswersPatch{}
		}
		p.Policy.SpeakFor = value
	case "join.audience":
		if p.Join == nil {
			p.Join = &JoinPatch{}
		}
		p.Join.Audience = value
	case "join.how":
		if p.Join == nil {
			p.Join = &JoinPatch{}
		}
		p.Join.How = value
	default:
		return false
	}
	return true
}

// PolicyNames are the names that Set knows, in the order in which they are shown.
var PolicyNames = []string{"privacy", "find", "see_people", "read", "post", "write_owners", "add_people", "speak_as", "speak_for", "join.audience", "join.how", "leave", "externals", "hold", "suspicious", "automatic"}
