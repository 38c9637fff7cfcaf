package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// traits are what a group can do beyond passing mail on.
var traits = []string{"archive", "desk", "calendar", "access"}

// builtIn are the starting points that every workspace has.
var builtIn = []api.StartingPoint{
	{Name: "team-room", Title: "Team room", About: "A team writes among themselves and keeps what was written. The workspace finds it and asks to join.",
		Policy: api.PolicyPatch{Privacy: "members", Policy: map[string]string{"post": "workspace", "add_people": "moderators"}, Join: &api.JoinPatch{Audience: "workspace", How: "asking"}, Hold: "outsiders"},
		Traits: []string{"archive", "calendar"}},
	{Name: "announcements", Title: "Announcement channel", About: "A few write, many read. Answers go to the author.",
		Policy: api.PolicyPatch{Privacy: "workspace", Policy: map[string]string{"post": "moderators", "see_people": "moderators"}, Join: &api.JoinPatch{Audience: "workspace", How: "freely"}, Hold: "nobody"},
		Traits: []string{"archive"}},
	{Name: "intake", Title: "Intake for the public", About: "Anyone writes to it, a desk of people answers. Mail from strangers waits for approval until you trust them.",
		Policy: api.PolicyPatch{Privacy: "members", Policy: map[string]string{"post": "anyone", "speak_as": "members"}, Join: &api.JoinPatch{Audience: "nobody"}, Hold: "outsiders", Suspicious: "hold"},
		Traits: []string{"archive", "desk"}},
	{Name: "open-community", Title: "Open community", About: "Everyone in the workspace reads it, joins by themselves and writes.",
		Policy: api.PolicyPatch{Privacy: "workspace", Policy: map[string]string{"post": "workspace"}, Join: &api.JoinPatch{Audience: "workspace", How: "freely"}, Hold: "outsiders"},
		Traits: []string{"archive", "calendar"}},
	{Name: "confidential", Title: "Confidential circle", About: "Only its members find it, read it and write to it. People come in by invitation.",
		Policy: api.PolicyPatch{Policy: map[string]string{"find": "members", "see_people": "members", "read": "members", "post": "members", "write_owners": "members", "add_people": "owners"},
			Join: &api.JoinPatch{Audience: "nobody"}, Externals: "barred", Hold: "outsiders", Suspicious: "refuse"},
		Traits: []string{"archive"}},
}

func (p *startBody) sentence() string {
	out, _ := applyPatch(policy.Default(), p.Policy)
	return out.Sentence()
}

// startBody is what is kept of a starting point as JSON.
type startBody struct {
	Policy   api.PolicyPatch `json:"policy"`
	Traits   []string        `json:"traits"`
	Delivery string          `json:"default_delivery,omitempty"`
	Welcome  string          `json:"welcome,omitempty"`
}

// StartingPoints lists what a group can be begun from: the built-in ones, then those
// that administrators made.
func (w *Workspace) StartingPoints(ctx context.Context, a Actor) ([]api.StartingPoint, error) {
	if err := w.allowCreate(ctx, a); err != nil && !a.readsAll() {
		return nil, err
	}
	out := make([]api.StartingPoint, 0, len(builtIn))
	for _, p := range builtIn {
		p.BuiltIn, p.Sentence = true, (&startBody{Policy: p.Policy}).sentence()
		out = append(out, p)
	}
	rows, err := w.store.StartingPoints(ctx)
	for _, r := range rows {
		p, err := shapeStart(r)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, err
}

func shapeStart(r store.StartingPoint) (api.StartingPoint, error) {
	var b startBody
	if err := json.Unmarshal(r.Body, &b); err != nil {
		return api.StartingPoint{}, fmt.Errorf("read a starting point: %w", err)
	}
	return api.StartingPoint{Name: r.Name, Title: r.Title, About: r.About, Policy: b.Policy, Traits: orEmpty(b.Traits), Delivery: b.Delivery, Welcome: b.Welcome, Sentence: b.sentence()}, nil
}

// start returns a starting point by its name.
func (w *Workspace) start(ctx context.Context, name string) (api.StartingPoint, error) {
	if i := slices.IndexFunc(builtIn, func(p api.StartingPoint) bool { return p.Name == name }); i >= 0 {
		return builtIn[i], nil
	}
	rows, err := w.store.StartingPoints(ctx)
	if err != nil {
		return api.StartingPoint{}, err
	}
	var names []string
	for _, p := range builtIn {
		names = append(names, p.Name)
	}
	for _, r := range rows {
		if r.Name == name {
			return shapeStart(r)
		}
		names = append(names, r.Name)
	}
	return api.StartingPoint{}, wrong("starting_point", name, fmt.Sprintf("There is no starting point %q: choose %s.", name, strings.Join(names, ", ")))
}

// over puts a patch over another: what the second one names goes before the first.
func over(under, patch api.PolicyPatch) api.PolicyPatch {
	out := patch
	if patch.Privacy == "" {
		out.Privacy = under.Privacy
	}
	out.Policy = map[string]string{}
	for q, v := range under.Policy {
		if filled := patch.Privacy != "" && (q == "find" || q == "see_people" || q == "read"); !filled {
			out.Policy[q] = v
		}
	}
	for q, v := range patch.Policy {
		out.Policy[q] = v
	}
	if under.Join != nil {
		j := *under.Join
		if patch.Join != nil && patch.Join.Audience != "" {
			j.Audience = patch.Join.Audience
		}
		if patch.Join != nil && patch.Join.How != "" {
			j.How = patch.Join.How
		}
		out.Join = &j
	}
	for _, f := range []struct {
		to        *string
		otherwise string
	}{{&out.Leave, under.Leave}, {&out.Externals, under.Externals}, {&out.Hold, under.Hold}, {&out.Suspicious, under.Suspicious}} {
		if *f.to == "" {
			*f.to = f.otherwise
		}
	}
	return out
}

// SaveStartingPoint makes a starting point, or changes the one of that name.
func (w *Workspace) SaveStartingPoint(ctx context.Context, a Actor, name string, n api.NewStartingPoint) (api.StartingPoint, error) {
	none := api.StartingPoint{}
	if err := allow(a, changeStarts); err != nil {
		return none, err
	}
	var p problems
	if local, err := mailaddr.Derive(name); err != nil || local != name || len(name) > 60 {
		p.add("name", name, "The name %q has to be small letters, digits and hyphens, 60 at most.", cut(name, 80))
	}
	if slices.ContainsFunc(builtIn, func(b api.StartingPoint) bool { return b.Name == name }) {
		p.add("name", name, "The starting point %s is built in and can't be changed. Choose another name.", name)
	}
	if n.Title == "" {
		n.Title = name
	}
	if bad := checkName(n.Title); bad != "" {
		p.add("title", n.Title, "%s", bad)
	}
	body := startBody{Policy: n.Policy, Traits: n.Traits, Delivery: n.Delivery, Welcome: n.Welcome}
	if n.From != "" {
		g, _, err := w.findFor(ctx, a, readGroup, n.From)
		if err != nil {
			return none, err
		}
		half := policyHalf(g.Policy())
		body = startBody{Policy: over(patchOf(half), n.Policy), Delivery: delivery(g.DefaultMail), Welcome: g.Welcome}
		if g.Traits != "" {
			body.Traits = strings.Split(g.Traits, ",")
		}
	}
	_, faults := applyPatch(policy.Default(), body.Policy)
	p = append(p, faults...)
	checkTraits(&p, body.Traits)
	checkDelivery(&p, body.Delivery)
	if err := p.err(); err != nil {
		return none, err
	}
	b, err := json.Marshal(body)
	if err != nil {
		return none, err
	}
	row := store.StartingPoint{Name: name, Title: strings.TrimSpace(n.Title), About: strings.TrimSpace(n.About), Body: b, MadeBy: a.String(), MadeAt: w.now(ctx)}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.SaveStartingPoint(ctx, row); err != nil {
			return err
		}
		return record(ctx, t, a, row.MadeAt, "start.save", nil, name, []api.FieldChange{{Field: "policy", To: body.sentence()}})
	})
	if err != nil {
		return none, err
	}
	return shapeStart(row)
}

// DeleteStartingPoint removes a starting point that an administrator made.
func (w *Workspace) DeleteStartingPoint(ctx context.Context, a Actor, name string) error {
	if err := allow(a, changeStarts); err != nil {
		return err
	}
	if slices.ContainsFunc(builtIn, func(b api.StartingPoint) bool { return b.Name == name }) {
		return fail(Conflict, "The starting point %s is built in and can't be deleted.", name)
	}
	err := w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.DeleteStartingPoint(ctx, name); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "start.delete", nil, name, nil)
	})
	if errors.Is(err, store.ErrNotFound) {
		return fail(NotFound, "There is no starting point %q.", cut(name, 80))
	}
	return err
}

// patchOf returns a whole policy as a patch.
func patchOf(h api.PolicyHalf) api.PolicyPatch {
	a := h.Policy
	return api.PolicyPatch{Policy: map[string]string{"find": a.Find, "see_people": a.SeePeople, "read": a.Read, "post": a.Post, "write_owners": a.WriteOwners,
		"add_people": a.AddPeople, "speak_as": a.SpeakAs, "speak_for": a.SpeakFor}, Join: &api.JoinPatch{Audience: h.Join.Audience, How: h.Join.How},
		Leave: h.Leave, Externals: h.Externals, Hold: h.Hold, Suspicious: h.Suspicious}
}

func checkTraits(p *problems, given []string) {
	for i, x := range given {
		if !slices.Contains(traits, x) {
			p.add("traits", x, "There is no trait %q: choose %s.", x, strings.Join(traits, ", "))
		} else if slices.Contains(given[:i], x) {
			p.add("traits", x, "The trait %s is named twice.", x)
		}
	}
}

func checkDelivery(p *problems, given string) {
	if given != "" && given != "each" && given != "none" {
		p.add("default_delivery", given, "There is no delivery %q: choose each or none.", given)
	}
}
