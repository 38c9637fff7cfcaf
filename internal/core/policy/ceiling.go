package policy

import "ivytable.example/ivytable/internal/core/fault"

// Ceilings are how far groups may go: for a setting that is answered with an audience, the widest
// that may be chosen. The zero value bounds nothing.
type Ceilings struct {
	most [Settings]Audience
	set  [Settings]bool
}

// Bounded reports whether a ceiling can bound a setting.
func (s Setting) Bounded() bool { return s < Settings && table[s].bounded }

// Bound adds a ceiling. Of several the lowest holds.
func (c *Ceilings) Bound(s Setting, most Audience) {
	if !c.set[s] || most < c.most[s] {
		c.most[s], c.set[s] = most, true
	}
}

// Of returns the ceiling of a setting.
func (c *Ceilings) Of(s Setting) (most Audience, bound bool) { return c.most[s], c.set[s] }

// Wider reports whether c lets some setting go further than d does.
func (c Ceilings) Wider(d Ceilings) bool {
	for s := range Settings {
		if d.set[s] && (!c.set[s] || c.most[s] > d.most[s]) {
			return true
		}
	}
	return false
}

// widest returns the widest value of s that is at most an audience.
func (s Setting) widest(most Audience) Value {
	out := Nobody
	for _, c := range table[s].choices {
		if c.value <= most && c.value > out {
			out = c.value
		}
	}
	return out
}

// Above returns what of p goes further than ceilings let it.
func (p Policy) Above(c Ceilings) []*fault.Fault {
	var out []*fault.Fault
	for s := range Settings {
		if !c.set[s] || p[s] <= c.most[s] {
			continue
		}
		out = append(out, fault.New(s.Path(), "Choose "+s.value(s.widest(c.most[s]))+", or a narrower audience.",
			"%s: the workspace lets this group choose %s at most.", table[s].asks, c.most[s].Audience()))
	}
	return out
}

// Under returns p brought down under ceilings. What goes with finding comes down with it, so that
// a policy without contradictions has none after.
func (p Policy) Under(c Ceilings) Policy {
	for s := range Settings {
		if c.set[s] && p[s] > c.most[s] {
			p[s] = s.widest(c.most[s])
		}
	}
	for _, s := range []Setting{SeePeople, Read, JoinAudience} {
		if p[s] > p[Find] {
			p[s] = s.widest(p[Find])
		}
	}
	return p
}
