package httpapi

import (
	"context"
	"io"
	"mime"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

const members = v1 + "/groups/{ref}/members"

// MemberFilter says which members of a group are wanted.
type MemberFilter struct {
	Q        string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Role     string `query:"role" doc:"owner, moderator or member"`
	Delivery string `query:"delivery" doc:"each or none"`
	Kind     string `query:"kind" doc:"person, external, group or departed"`
	Way      string `query:"way" doc:"rule: in because of the group's rule; hand: all others"`
	Since    string `query:"since" doc:"In since this date, such as 2026-11-23"`
}

func (f MemberFilter) list(p Paging) workspace.MemberList {
	return workspace.MemberList{Q: f.Q, Role: f.Role, Delivery: f.Delivery, Kind: f.Kind, Way: f.Way, Since: f.Since, Cursor: p.Cursor, Limit: p.Limit}
}

func (s *server) registerMembers(a huma.API) {
	w := s.w
	route(s, a, "GET", members, "list-members", "Who is in a group", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
		MemberFilter
	}) (*reply[api.Page[api.Member]], error) {
		return body(w.Members(ctx, by, in.Group, in.list(in.Paging)))
	})
	route(s, a, "GET", v1+"/groups/{ref}/member-export", "export-members", "Who is in a group, as CSV", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		MemberFilter
	}) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			begun := false
			err := w.ExportMembers(ctx, by, in.Group, in.list(Paging{}), func(name string) io.Writer {
				begun = true
				hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
				hc.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
				return hc.BodyWriter()
			})
			switch {
			case err != nil && !begun:
				p := s.problem(ctx, err)
				hc.SetHeader("Content-Type", "application/problem+json")
				hc.SetStatus(p.Status)
				_ = a.Marshal(hc.BodyWriter(), "application/json", p)
			case err != nil:
				s.o.Log.Error("an export broke off", "error", err)
			}
		}}, nil
	})
	route(s, a, "POST", members, "add-members", "Add or invite people; a result for each", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.NewMembers
	}) (*reply[api.AddedAll], error) {
		return body(w.AddMembers(ctx, by, in.Group, in.Body))
	})
	route(s, a, "PATCH", members, "change-members", "Change roles or delivery, or take people out, several at once; a result for each", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.MembersPatch
	}) (*reply[api.MembersChanged], error) {
		return body(w.ChangeMembers(ctx, by, in.Group, in.Body))
	})
	type One struct {
		Ref
		Member string `path:"member" maxLength:"400" doc:"Identifier or address"`
	}
	route(s, a, "PATCH", members+"/{member}", "change-member", "Change a role or delivery", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		One
		Body api.MemberPatch
	}) (*reply[api.Member], error) {
		return body(w.ChangeMember(ctx, by, in.Group, in.Member, in.Body))
	})
	route(s, a, "DELETE", members+"/{member}", "remove-member", "Take somebody out, or leave", 204, func(ctx context.Context, by workspace.Actor, in *One) (*none, error) {
		return nil, w.RemoveMember(ctx, by, in.Group, in.Member)
	})
	route(s, a, "POST", v1+"/rosters", "read-roster", "Who the people of a list are; nothing is done", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.RosterRequest }) (*reply[api.Roster], error) {
		return body(w.Roster(ctx, by, in.Body))
	})
	route(s, a, "GET", v1+"/groups/{ref}/reached", "list-reached", "Everybody whom a group reaches, and through which group", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
		Q string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	}) (*reply[api.Page[api.Reached]], error) {
		return body(w.Reached(ctx, by, in.Group, in.Q, in.Cursor, in.Limit))
	})
	route(s, a, "GET", v1+"/groups/{ref}/nesting", "read-nesting", "What is nested in a group and what it is nested in", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.Nesting], error) {
		return body(w.Nesting(ctx, by, in.Group))
	})
}

// Secret is what a link by mail ends in.
type Secret struct {
	Secret string `path:"secret" maxLength:"100"`
}

func (s *server) registerStaff(a huma.API) {
	w := s.w
	const group = v1 + "/groups/{ref}"
	route(s, a, "POST", group+"/joining", "join-group", "Join a group, or ask to", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.Wish
	}) (*reply[api.Wished], error) {
		return body(w.Join(ctx, by, in.Group, in.Body))
	})
	route(s, a, "POST", group+"/leaving", "leave-group", "Leave a group, or ask to", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.Wish
	}) (*reply[api.Wished], error) {
		return body(w.Leave(ctx, by, in.Group, in.Body))
	})
	route(s, a, "GET", group+"/requests", "list-group-requests", "Requests to join or leave a group", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
	}) (*reply[api.Page[api.Request]], error) {
		return body(w.Requests(ctx, by, in.Group, false, in.Cursor, in.Limit))
	})
	route(s, a, "GET", v1+"/requests", "list-requests", "Requests that wait for my decision, or that I made", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Paging
		Mine bool `query:"mine" doc:"Those that I made, in every state"`
	}) (*reply[api.Page[api.Request]], error) {
		return body(w.Requests(ctx, by, "", in.Mine, in.Cursor, in.Limit))
	})
	route(s, a, "POST", v1+"/requests/decisions", "decide-requests", "Approve or decline requests; a result for each", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.Decisions }) (*reply[[]api.Decided], error) {
		return body(w.DecideRequests(ctx, by, in.Body))
	})
	route(s, a, "DELETE", v1+"/requests/{id}", "withdraw-request", "Take back a request of mine", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		ID string `path:"id" maxLength:"100"`
	}) (*none, error) {
		return nil, w.WithdrawRequest(ctx, by, in.ID)
	})

	route(s, a, "GET", group+"/invitations", "list-invitations", "Invitations that were not answered", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
	}) (*reply[api.Page[api.Invitation]], error) {
		return body(w.Invitations(ctx, by, in.Group, in.Cursor, in.Limit))
	})
	route(s, a, "DELETE", group+"/invitations/{address}", "call-back-invitation", "Call back an invitation", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Address string `path:"address" maxLength:"320"`
	}) (*none, error) {
		return nil, w.CallBackInvitation(ctx, by, in.Group, in.Address)
	})
	route(s, a, "GET", v1+"/invitations/{secret}", "read-invitation", "What an invitation is to", 200, func(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.Offer], error) {
		return body(w.Invitation(ctx, in.Secret))
	})
	route(s, a, "POST", v1+"/invitations/{secret}", "answer-invitation", "Accept or decline an invitation", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Secret
		Body api.Answer
	}) (*reply[api.Offer], error) {
		return body(w.AnswerInvitation(ctx, by, in.Secret.Secret, in.Body))
	})
	route(s, a, "GET", group+"/join-links", "list-join-links", "Links by which people enter a group", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[[]api.JoinLink], error) {
		return body(w.JoinLinks(ctx, by, in.Group))
	})
	route(s, a, "POST", group+"/join-links", "create-join-link", "Make a link by which people enter a group", 201, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.NewJoinLink
	}) (*reply[api.JoinLink], error) {
		return body(w.CreateJoinLink(ctx, by, in.Group, in.Body))
	})
	route(s, a, "DELETE", group+"/join-links/{id}", "call-back-join-link", "Call back a link", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		ID string `path:"id" maxLength:"100"`
	}) (*none, error) {
		return nil, w.CallBackJoinLink(ctx, by, in.Group, in.ID)
	})
	route(s, a, "GET", v1+"/join-links/{secret}", "read-join-link", "What a link leads into", 200, func(ctx context.Context, by workspace.Actor, in *Secret) (*reply[api.Offer], error) {
		return body(w.ShowJoinLink(ctx, by, in.Secret))
	})
	route(s, a, "POST", v1+"/join-links/{secret}", "use-join-link", "Enter a group by a link", 200, func(ctx context.Context, by workspace.Actor, in *Secret) (*reply[api.Wished], error) {
		return body(w.UseJoinLink(ctx, by, in.Secret))
	})

	route(s, a, "GET", group+"/standings", "list-standings", "Who is barred from a group, trusted or held", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[[]api.StandingOf], error) {
		return body(w.Standings(ctx, by, in.Group))
	})
	route(s, a, "PUT", group+"/standings/{address}", "set-standing", "Bar an address, trust it, hold it, or take that back", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Address string `path:"address" maxLength:"320"`
		Body    api.NewStanding
	}) (*none, error) {
		return nil, w.SetStanding(ctx, by, in.Group, in.Address, in.Body)
	})
}
