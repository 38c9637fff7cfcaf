package life

import (
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// factsOf is a group as the filter of a term rule asks about it, but for what the rule decides. Lists find the same by
// the database; this is for saying why.
func factsOf(v *workspace.View, g *store.Group) (rule.Subject, error) {
	var none rule.Subject
	extras, err := v.Read.GroupExtras(v.By.Person.ID, []store.Group{*g})
	if err != nil {
		return none, err
	}
	if err := v.Read.Size(g); err != nil {
		return none, err
	}
	waiting, err := v.Read.WaitingIn(g.ID)
	if err != nil {
		return none, err
	}
	posts, _, err := v.Read.LastActivity([]uuid.UUID{g.ID})
	if err != nil {
		return none, err
	}
	t, err := v.Terms()
	if err != nil {
		return none, err
	}
	number := func(n int) []string { return []string{fmt.Sprint(n)} }
	moment := func(t time.Time) []string { return []string{t.Format(time.RFC3339Nano)} }
	_, domain, _ := strings.Cut(g.Address, "@")
	facts := map[string][]string{
		"name": {g.Name}, "address": {g.Address}, "alias": extras[0].Aliases, "domain": {domain}, "description": {g.Description}, "starting_point": {g.StartingPoint}, "language": {g.Language},
		"owners": number(g.Owners), "moderators": number(g.Moderators), "members": number(g.Members), "people": number(g.People), "external": number(g.ExternalMembers), "nested": number(g.Nested),
		"departed": number(g.Departed), "by_rule": {fmt.Sprint(g.ByRule)}, "waiting": number(waiting), "created_at": moment(g.CreatedAt),
	}
	if g.Traits != "" {
		facts["traits"] = strings.Split(g.Traits, ",")
	}
	for _, o := range extras[0].Owners {
		facts["owner.address"], facts["owner.name"] = append(facts["owner.address"], o.Address), append(facts["owner.name"], o.Name)
	}
	for _, d := range policy.Describe() {
		facts[d.Name] = []string{g.Policy.Get(d.Name)}
	}
	quiet := g.CreatedAt
	if last, written := posts[g.ID]; written {
		quiet, facts["last_post_at"] = last, moment(last)
	}
	facts["quiet_days"] = number(t.Life.Days(quiet, v.Now()))
	return filter.Groups.NewSubject(facts), nil
}
