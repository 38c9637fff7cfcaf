package policy

import "fmt"

// Population is how many people stand on each rung of a group that can be
// counted. Colleagues are the people of the workspace who are not in the group.
type Population struct {
	Owners, Moderators, Members, Colleagues int
}

func (n Population) on(rung Audience) int {
	return [...]int{0, n.Owners, n.Moderators, n.Members, n.Colleagues, -1}[rung]
}

// AudienceChange is the people on one rung who gain or lose something. Count is -1
// where nobody can count them: strangers.
type AudienceChange struct {
	Rung  Audience
	Count int
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
			change := AudienceChange{rung, n.on(rung)}
			switch {
			case change.Count == 0:
			case to.Includes(rung) && !from.Includes(rung):
				c.Gains = append(c.Gains, change)
			case from.Includes(rung) && !to.Includes(rung):
				c.Loses = append(c.Loses, change)
			}
		}
		c.Says = c.words()
		out = append(out, c)
	}
	return out
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
			part = count(c.Count, [...]string{"", "owner", "moderator", "member", "colleague"}[c.Rung])
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
