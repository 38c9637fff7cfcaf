// Package erasure takes what names somebody out of entries of the history, and out of nothing else: another person of the same name
// keeps it.
package erasure

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"ivytable.example/ivytable/internal/core/seal"
)

// Person is whom entries are to name no more.
type Person struct {
	ID        seal.ID
	Names     []string // that they have and had
	Addresses []string // that they have and had

	// Shared are the names and addresses, lowercased, that others have too, or that stand in longer names of others. They are taken out
	// only of what is about this person.
	Shared map[string]bool

	Name, Address string // what stands in place of them
}

// Cleaner takes a person out of entries.
type Cleaner struct {
	p         Person
	addresses map[string]bool
	near, far []word // what goes out of the texts of entries about them, and out of those of others
}

type word struct {
	r    *regexp.Regexp
	into string
}

// New returns what takes a person out of entries.
func New(p Person) *Cleaner {
	c := &Cleaner{p: p, addresses: map[string]bool{}}
	add := func(s, flags, into string) {
		w := word{regexp.MustCompile(flags + `(^|[^\pL\pN.@_+-])` + regexp.QuoteMeta(s) + `($|[^\pL\pN.@_-]|\.(?:$|[^\pL\pN]))`), "${1}" + strings.ReplaceAll(into, "$", "$$") + "${2}"}
		if c.near = append(c.near, w); !p.Shared[strings.ToLower(s)] {
			c.far = append(c.far, w)
		}
	}
	for _, a := range p.Addresses {
		c.addresses[strings.ToLower(a)] = true
		add(a, "(?i)", p.Address)
	}
	for _, n := range p.Names {
		if len(strings.Fields(n)) > 1 && !c.addresses[strings.ToLower(n)] { // one word alone may be anybody's, or no name
			add(n, "", p.Name)
		}
	}
	return c
}

// Text takes them out of a text; about says whether it is about them.
func (c *Cleaner) Text(text string, about bool) string {
	words := c.far
	if about {
		words = c.near
		for _, n := range c.p.Names {
			if text == n {
				return c.p.Name
			}
		}
	}
	for _, w := range words {
		for range 2 { // two that stand beside each other share what is between them
			text = w.r.ReplaceAllString(text, w.into)
		}
	}
	return text
}

// Entry takes them out of an entry, and reports whether there was anything. An entry is about them where they did it, or where it
// affected them.
func (c *Cleaner) Entry(e *seal.Entry) (changed bool, err error) {
	about := e.ActorID == c.p.ID
	for _, a := range e.Affected {
		about = about || a.Who == c.p.ID
	}
	data, err := c.JSON(e.Data, about)
	if err != nil {
		return false, fmt.Errorf("entry %d: %w", e.Number, err)
	}
	actor := c.Text(e.Actor, e.ActorID == c.p.ID)
	changed = actor != e.Actor || !bytes.Equal(data, e.Data)
	e.Actor, e.Data = actor, data
	for i := range e.Affected {
		a := &e.Affected[i]
		if label := c.Text(a.Label, a.Who == c.p.ID); label != a.Label {
			a.Label, changed = label, true
		}
	}
	return changed, nil
}

// JSON takes them out of the texts in a JSON value, but for the names of its fields; about says whether it is about them.
func (c *Cleaner) JSON(b []byte, about bool) ([]byte, error) {
	if len(b) == 0 {
		return b, nil
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	changed := false
	var walk func(v any) any
	walk = func(v any) any {
		switch v := v.(type) {
		case string:
			out := c.Text(v, about)
			changed = changed || out != v
			return out
		case []any:
			for i := range v {
				v[i] = walk(v[i])
			}
		case map[string]any:
			address, named := v["address"].(string)
			name, _ := v["name"].(string)
			for k := range v {
				if k != "name" || !named { // whose name it is, the address beside it says
					v[k] = walk(v[k])
				}
			}
			if key := strings.ToLower(address); name != "" && c.addresses[key] && (about || !c.p.Shared[key]) {
				v["name"], changed = c.p.Name, true
			}
		}
		return v
	}
	if v = walk(v); !changed {
		return b, nil
	}
	return json.Marshal(v)
}
