// Package reach answers what people may do with a group, and why: for one person or role
// (rehearsals), for everybody in one group, for one person in all groups. It asks what the real
// thing asks, so that the answers are the same.
package reach

import (
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Service is reach.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Actions are what can be rehearsed, in the order in which they are shown.
var Actions = []string{"find", "see_people", "read", "join", "leave", "add_people", "invite", "nest", "post", "write_owners", "speak_as", "speak_for"}

// Listed are the actions of which it can be listed who may do them.
var Listed = []string{"find", "see_people", "read", "join", "add_people", "post", "write_owners", "speak_as", "speak_for"}

// setting is the setting that an action goes by.
func setting(action string) policy.Setting {
	switch action {
	case "join":
		return policy.JoinAudience
	case "leave":
		return policy.Leaving
	case "invite", "nest":
		return policy.AddPeople
	}
	s, err := policy.ParseSetting(action)
	if err != nil {
		panic(err) // not one of Actions
	}
	return s
}

// somebody is who would act, as the rules of a group ask for it.
type somebody struct {
	person    store.Person // the zero value: of a role, or from outside
	subject   access.Subject
	relation  access.Relation
	author    policy.Author
	candidate admission.Candidate
	member    admission.Member
}

// decide answers whether somebody may do something with a group.
func decide(v *workspace.View, g *store.Group, ends error, action string, who somebody) policy.Told {
	s := setting(action)
	door := v.Door(g)
	switch action {
	case "find":
		return who.subject.Why(access.ReadGroup, who.relation, &g.Policy)
	case "see_people":
		return who.subject.Why(access.SeePeople, who.relation, &g.Policy)
	case "add_people", "invite", "nest":
		if told := who.subject.Why(access.AddPeople, who.relation, &g.Policy); told.Outcome != policy.Allow || !door.Ended {
			return told
		}
		return policy.Tell(policy.Refuse, "state", door.Name+" has ended.", "Restore the group.")
	case "join", "leave":
		own := action == "leave" && !who.subject.SignedIn && who.member.Role != 0 // whom each letter has a link for
		need := access.ReadGroup
		if action == "leave" {
			need = access.OwnPart
		}
		if told := who.subject.Why(need, who.relation, &g.Policy); told.Outcome != policy.Allow && !own {
			return told
		}
		if action == "leave" {
			return admission.Out(admission.Leaving, door, who.member).Told(door, s)
		}
		if who.person.ID == uuid.Nil && who.author.Workspace && who.candidate.Kind == admission.Outsider {
			return policy.Tell(policy.Refuse, "person.unknown", "Nobody has this address of the workspace.", "Put the person into the directory.")
		}
		return admission.In(admission.Joining, door, who.candidate, admission.As{Role: expand.Member, Other: true}).Told(door, s)
	case "post", "write_owners":
		if ends != nil {
			return policy.Tell(policy.Refuse, "state", workspace.Words(ends), "Restore the group.")
		}
		return g.Policy.Write(s, who.author).Told()
	}
	return g.Policy.Allows(s, who.relation.Rung).Told()
}

// asked is one group, with what is asked of it for everybody.
type asked struct {
	v        *workspace.View
	g        *workspace.Group
	ends     error // of a group that takes no mail
	domains  []string
	seasoned map[uuid.UUID]bool // who is no newcomer, since enough of their posts were let through
}

func open(v *workspace.View, g *workspace.Group) (asked, error) {
	out := asked{v: v, g: g}
	var err error
	if out.domains, err = v.Domains(); err != nil {
		return out, err
	}
	if out.seasoned, err = post.Seasoned(v, &g.Group); err != nil {
		return out, err
	}
	if out.ends = post.TakesMail(v, &g.Group); out.ends != nil && !workspace.IsKind(out.ends, workspace.Conflict) && !workspace.IsKind(out.ends, workspace.Throttled) {
		return out, out.ends
	}
	return out, nil
}

// person is somebody of the directory who stands at a place, with what is settled about them.
func (x asked) person(p store.Person, place member.Place, o policy.Override, proven bool) somebody {
	here := p.Active
	who := somebody{
		person:    p,
		subject:   x.subject(here && !p.External, p.WorkspaceRole),
		relation:  place.Relation,
		candidate: admission.Candidate{Name: p.Name, Address: p.Address, Departed: !here && !p.External, Override: o, In: place.Relation.Role != 0},
		member: admission.Member{Name: p.Name, Role: place.Relation.Role, Through: place.Relation.Role == 0 && place.Relation.Rung == policy.Members, ByRule: place.ByRule,
			LastOwner: place.Relation.Role == expand.Owner && x.g.Owners == 1, Other: true},
		author: policy.Author{Rung: policy.Anyone, Workspace: x.ours(p.AddrKey), Proven: proven, Override: o},
	}
	if p.External {
		who.candidate.Kind, who.member.Kind = admission.Outsider, admission.Outsider
	}
	if here {
		who.relation.Powers, _ = x.v.PowersOf(p, &x.g.Group) // what can't be read lets nobody do more
	}
	who.member.Staff = who.subject.May(access.ChangePeople, who.relation, &x.g.Policy)
	if here {
		who.author.Rung = place.Relation.Rung
		who.author.Newcomer = !place.Added.IsZero() && post.Newcomer(x.v.Now(), place.Added) && !x.seasoned[p.ID]
	} else {
		who.relation = access.RelationOf(0, false, true)
	}
	return who
}

// address is somebody whom the directory doesn't know.
func (x asked) address(a mailaddr.Address, o policy.Override, proven bool) somebody {
	return somebody{
		subject:   x.subject(false, ""),
		relation:  access.RelationOf(0, false, true),
		candidate: admission.Candidate{Name: a.String(), Address: a.String(), Kind: admission.Outsider, Override: o},
		member:    admission.Member{Name: a.String(), Other: true},
		author:    policy.Author{Rung: policy.Anyone, Workspace: x.ours(a.Key()), Proven: proven, Override: o},
	}
}

// subject is somebody as permission sees them.
func (x asked) subject(here bool, role string) access.Subject {
	if !here {
		return x.v.Visitor()
	}
	return access.Subject{SignedIn: true, Role: access.Role(role)}
}

func (x asked) ours(key string) bool {
	_, domain, _ := strings.Cut(key, "@")
	return slices.Contains(x.domains, domain)
}

// Roles are those as whom it can be rehearsed in place of a person.
var Roles = []string{"owner", "moderator", "member", "external_member", "colleague", "stranger", "administrator", "auditor"}

// role is somebody of whom no more is known than their role.
func (x asked) role(name string, proven bool) somebody {
	outside := name == "stranger" || name == "external_member"
	who := somebody{subject: x.subject(!outside, "")}
	own := map[string]expand.Role{"owner": expand.Owner, "moderator": expand.Moderator, "member": expand.Member, "external_member": expand.Member}[name]
	if name == "administrator" || name == "auditor" {
		who.subject.Role = access.Role(name)
	}
	who.relation = access.RelationOf(own, false, outside)
	called := strings.ReplaceAll(name, "_", " ")
	if strings.ContainsRune("aeiou", rune(called[0])) {
		called = "An " + called
	} else {
		called = "A " + called
	}
	who.candidate = admission.Candidate{Name: called, Address: called, In: own != 0}
	if outside {
		who.candidate.Kind = admission.Outsider
	}
	who.member = admission.Member{Name: called, Role: own, Staff: who.subject.May(access.ChangePeople, who.relation, &x.g.Policy), Other: true}
	who.author = policy.Author{Rung: who.relation.Rung, Workspace: !outside, Proven: proven}
	return who
}

func (x asked) decide(action string, who somebody) policy.Told {
	return decide(x.v, &x.g.Group, x.ends, action, who)
}

// shape is a decision as the interface shows it.
func shape(t policy.Told) api.Decision {
	out := api.Decision{Outcome: t.Outcome.String(), Rule: t.Rule, Reasons: make([]api.Reason, len(t.Reasons))}
	for i, r := range t.Reasons {
		out.Reasons[i] = api.Reason{Rule: r.Rule, Says: r.Says}
		if r.Mend != "" {
			out.Reasons[i].Mend = &r.Mend
		}
	}
	return out
}

// says is the sentence of the rule that settled a decision.
func says(t policy.Told) string {
	for _, r := range t.Reasons {
		if r.Rule == t.Rule {
			return r.Says
		}
	}
	return ""
}
