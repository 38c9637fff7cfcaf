package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) joinGroup(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Repeat
	Body api.JoinRequest
}) (*reply[api.JoinResult], error) {
	return body(s.s.Joining.Join(ctx, by, in.Group, in.Body))
}

func (s *server) leaveGroup(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Repeat
	Body api.JoinRequest
}) (*reply[api.JoinResult], error) {
	return body(s.s.Joining.Leave(ctx, by, in.Group, in.Body))
}

func (s *server) readMyPart(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.OwnPart], error) {
	return body(s.s.Joining.MyPart(ctx, by, in.Group))
}

func (s *server) listGroupRequests(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Request]], error) {
	return body(s.s.Joining.Requests(ctx, by, in.Group, false, in.Cursor, in.Limit))
}

func (s *server) listRequests(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Mine bool `query:"mine" doc:"Those that I made, in every state"`
}) (*reply[api.Page[api.Request]], error) {
	return body(s.s.Joining.Requests(ctx, by, "", in.Mine, in.Cursor, in.Limit))
}

func (s *server) decideRequests(ctx context.Context, by workspace.Actor, in *struct{ Body api.Decisions }) (*reply[api.DecidedAll], error) {
	return body(s.s.Joining.Decide(ctx, by, in.Body))
}

func (s *server) withdrawRequest(ctx context.Context, by workspace.Actor, in *ID) (*none, error) {
	return nil, s.s.Joining.Withdraw(ctx, by, in.ID)
}

func (s *server) listInvitations(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Invitation]], error) {
	return body(s.s.Joining.Invitations(ctx, by, in.Group, in.Cursor, in.Limit))
}

func (s *server) callBackInvitation(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Address string `path:"address" maxLength:"320"`
}) (*none, error) {
	return nil, s.s.Joining.CallBackInvitation(ctx, by, in.Group, in.Address)
}

func (s *server) readInvitation(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.LinkPreview], error) {
	return body(s.s.Joining.Invitation(ctx, in.Secret))
}

func (s *server) answerInvitation(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.Answer
}) (*reply[api.LinkPreview], error) {
	return body(s.s.Joining.Answer(ctx, by, in.Secret.Secret, in.Body))
}

func (s *server) listJoinLinks(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.JoinLink]], error) {
	return body(s.s.Joining.Links(ctx, by, in.Group, in.Cursor, in.Limit))
}

func (s *server) createJoinLink(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Repeat
	Body api.NewJoinLink
}) (*reply[api.JoinLink], error) {
	return body(s.s.Joining.CreateLink(ctx, by, in.Group, in.Body))
}

func (s *server) callBackJoinLink(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	ID
}) (*none, error) {
	return nil, s.s.Joining.CallBackLink(ctx, by, in.Group, in.ID.ID)
}

func (s *server) readJoinLink(ctx context.Context, by workspace.Actor, in *Secret) (*reply[api.LinkPreview], error) {
	return body(s.s.Joining.Link(ctx, by, in.Secret))
}

func (s *server) useJoinLink(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Repeat
}) (*reply[api.JoinResult], error) {
	return body(s.s.Joining.UseLink(ctx, by, in.Secret.Secret))
}
