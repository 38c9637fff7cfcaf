package policy

import "fmt"

// Population is how many people stand on each rung of a group that can be counted, those who
// are in it through nested groups among them. Members are of the workspace; external ones stand apart.
// Colleagues are the people of the workspace who are not in the group.
type Population struct {
	Owners, Moderators, Members, External, Colleagues int
}

func (n Population) on(rung Audience) int {
	return [...]int{0, n.Owners, n.Moderators, n.Members, n.Colleagues, -1}[rung]
}

// AudienceChange is the people on one rung who gain or lose something. Count is -1
// where nobody can count them: strangers.
type AudienceChange struct {
	Rung     Audience
	External bool // of those on the rung, the external ones
	Count    int
}

// Change is what a change of policy does to one setting.
type Change struct {
	Setting      Setting
	From, To     string           // names of values
	Gains, Loses []AudienceChange // of a question; empty for another setting
	Says         string           // one sentence: who can now do, or no longer do, what
}

// Effect returns what changing before into after does, in the order of the settings.
// No difference gives an empty slice.
func Effect(before, after Policy, n Population) []Change {
	var out []Change
	for s := range Settings {
		from, to := before[s], after[s]
		if from == to {
			continue
		}
		c := Change{Setting: s, From: s.value(from), To: s.value(to)}
		if !s.Question() {
			c.Says = s.says(after)
			out = append(out, c)
			continue
		}
		for rung := Owners; rung <= Anyone; rung++ {
			c.add(AudienceChange{rung, false, n.on(rung)}, from, to)
			if rung == Members && s.byMail() { // they have no account: of the rest they see nothing
				c.add(AudienceChange{rung, true, n.External}, from, to)
			}
		}
		c.Says = c.words()
		out = append(out, c)
	}
	return out
}

// byMail reports whether a question is about writing, which takes no account.
func (s Setting) byMail() bool { return s == Post || s == WriteOwners }

func (c *Change) add(who AudienceChange, from, to Audience) {
	switch {
	case who.Count == 0:
	case to.Includes(who.Rung) && !from.Includes(who.Rung):
		c.Gains = append(c.Gains, who)
	case from.Includes(who.Rung) && !to.Includes(who.Rung):
		c.Loses = append(c.Loses, who)
	}
}

// says puts the value of a setting that is no question in words.
func (s Setting) says(p Policy) string {
	for _, c := range table[s].choices {
		if c.value == p[s] && c.says != "" {
			return c.says
		}
	}
	return p.joinWords()
}

func (c Change) words() string {
	can := table[c.Setting].can
	switch {
	case len(c.Gains) > 0:
		return fmt.Sprintf("%s %s from now on.", upper(sum(c.Gains)), can)
	case len(c.Loses) > 0:
		return fmt.Sprintf("%s lose this: they no longer %s.", upper(sum(c.Loses)), can[len("can "):])
	}
	return "This changes nothing for anybody at present."
}

// sum names audiences in a sentence: "12 members, 214 colleagues and all strangers".
func sum(changes []AudienceChange) string {
	text := ""
	for i, c := range changes {
		part := "all strangers"
		if c.Count >= 0 {
			noun := [...]string{"", "owner", "moderator", "member", "colleague"}[c.Rung]
			if c.External {
				noun = "external member"
			}
			part = count(c.Count, noun)
		}
		switch {
		case i == 0:
		case i == len(changes)-1:
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
