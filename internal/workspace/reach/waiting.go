package reach

import (
	"fmt"
	"iter"
	"maps"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/post"
)

// maxWaiting is how many posts and requests of one group a change of policy looks at.
const maxWaiting = 500

// waiting reports which posts and requests that wait in a group would be decided otherwise by another
// policy. They wait on: somebody was promised a decision.
func waiting(c *workspace.Change, g *workspace.Locked, after policy.Policy) error {
	page, err := c.Read.Waiting(store.WaitingQuery{Kinds: []string{store.WaitingPost, store.ToJoin, store.ToLeave}, Group: g.ID, Limit: maxWaiting})
	if err != nil || len(page.Items) == 0 {
		return err
	}
	d, err := readWaiting(&c.View, &g.Group, page.Items)
	if err != nil {
		return err
	}
	x, err := open(&c.View, &g.Group)
	if err != nil {
		return err
	}
	then := x
	other := g.Group
	other.Policy = after
	then.g = &other
	var through, stopped int
	for _, w := range page.Items {
		now, who, what, ok := d.decided(x, w)
		if !ok {
			continue
		}
		instead, _, _, _ := d.decided(then, w)
		if instead.Outcome == now.Outcome {
			continue
		}
		line := api.Line{Name: who.Name, Address: who.Address, Status: "waiting"}
		switch instead.Outcome {
		case policy.Allow:
			through++
			line.Says = what + " would not have to wait: " + says(instead)
		case policy.Refuse:
			stopped++
			line.Says = what + " would be refused: " + says(instead)
		default:
			continue
		}
		if len(c.Report.Sample) < member.MaxShown {
			c.Report.Sample = append(c.Report.Sample, line)
		}
		c.Report.Total++
	}
	if n := through + stopped; n > 0 {
		c.Effect(api.Effect{Field: "waiting", Count: n, Says: fmt.Sprintf("Of %s, %d would go through and %d would be refused by the new rules. They wait on until somebody decides.",
			number.Of(int(page.Total), "thing")+" that wait here", through, stopped)})
	}
	return nil
}

// held is what waits in a group, with what belongs to it.
type held struct {
	mailings map[uuid.UUID]store.Mailing
	messages map[uuid.UUID]store.Message
	requests map[uuid.UUID]store.Request
	people   map[uuid.UUID]store.Person // who asks
	authors  map[string]store.Person    // who wrote, by address
	places   map[uuid.UUID]member.Place
	settled  map[string]policy.Override
}

func readWaiting(v *workspace.View, g *workspace.Group, items []store.WaitingItem) (d held, err error) {
	of := map[string][]uuid.UUID{}
	for _, w := range items {
		of[w.Kind] = append(of[w.Kind], w.ID)
	}
	if d.mailings, err = v.Read.Mailings(of[store.WaitingPost]); err != nil {
		return d, err
	}
	var messages, askers []uuid.UUID
	for _, m := range d.mailings {
		messages = append(messages, m.MessageID)
	}
	if d.messages, err = v.Read.Messages(messages, false); err != nil {
		return d, err
	}
	if d.requests, err = v.Read.RequestsByID(append(of[store.ToJoin], of[store.ToLeave]...)); err != nil {
		return d, err
	}
	for _, r := range d.requests {
		askers = append(askers, r.PersonID)
	}
	if d.people, err = v.Read.PeopleByID(askers); err != nil {
		return d, err
	}
	if err := nameWriters(v, d.messages); err != nil {
		return d, err
	}
	var keys []string
	for _, m := range d.messages {
		if a, err := mailaddr.Parse(m.Author); err == nil {
			keys = append(keys, a.Key())
		}
	}
	if d.authors, err = v.Read.PeopleByKeys(keys); err != nil {
		return d, err
	}
	var all []store.Person
	for _, people := range []iter.Seq[store.Person]{maps.Values(d.people), maps.Values(d.authors)} {
		for p := range people {
			all, keys = append(all, p), append(keys, p.AddrKey)
		}
	}
	if d.settled, err = v.Read.OverridesOf(g.ID, keys); err != nil {
		return d, err
	}
	sight, err := member.Look(v, g)
	if err != nil {
		return d, err
	}
	d.places, err = sight.Places(all)
	return d, err
}

// nameWriters makes whoever wrote in the name of a group the author of that: by their rights it was decided.
func nameWriters(v *workspace.View, messages map[uuid.UUID]store.Message) error {
	var ids []uuid.UUID
	for _, m := range messages {
		if m.AuthorID != nil {
			ids = append(ids, *m.AuthorID)
		}
	}
	people, err := v.Read.PeopleByID(ids)
	for id, m := range messages {
		if m.AuthorID == nil {
			continue
		}
		if p, ok := people[*m.AuthorID]; ok {
			m.Author = p.Address
			messages[id] = m
		}
	}
	return err
}

// decided is what is decided about something that waits, were it to come now.
func (d held) decided(x asked, w store.WaitingItem) (told policy.Told, who store.Person, what string, ok bool) {
	if w.Kind != store.WaitingPost {
		r, is := d.requests[w.ID]
		p := d.people[r.PersonID]
		s := x.person(p, d.places[p.ID], d.settled[p.AddrKey], true)
		return x.decide(w.Kind, s), p, "The request to " + w.Kind, is
	}
	m := d.mailings[w.ID]
	message, is := d.messages[m.MessageID]
	a, err := mailaddr.Parse(message.Author)
	if !is || err != nil {
		return told, who, "", false
	}
	who = d.authors[a.Key()]
	var s somebody
	if who.Active {
		s = x.person(who, d.places[who.ID], d.settled[who.AddrKey], message.Proven)
	} else {
		s = x.address(a, d.settled[a.Key()], message.Proven)
		who.Address = message.Author
	}
	return x.decide(post.Mailbox(m.Mailbox).Question().String(), s), who, fmt.Sprintf("The post %q", workspace.Cut(message.Subject, 60)), true
}
