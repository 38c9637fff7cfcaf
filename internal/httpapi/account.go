package httpapi

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
)

type signedInReply struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Me
}

type signedOutReply struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *server) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.o.Secure, SameSite: http.SameSiteStrictMode}
}

func (s *server) signIn(ctx context.Context, from workspace.Actor, in *struct{ Body api.SignIn }) (*signedInReply, error) {
	by, secret, err := s.s.Account.SignIn(ctx, from.Source, in.Body)
	if err != nil {
		return nil, err
	}
	me, err := s.s.Me(ctx, by)
	return &signedInReply{s.cookie(secret, int(account.SessionLasts.Seconds())), me}, err
}

func (s *server) signOut(ctx context.Context, by workspace.Actor, _ *none) (*signedOutReply, error) {
	return &signedOutReply{s.cookie("", -1)}, s.s.Account.SignOut(ctx, by)
}

func (s *server) me(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Me], error) {
	return body(s.s.Me(ctx, by))
}

func (s *server) changePassword(ctx context.Context, by workspace.Actor, in *struct{ Body api.PasswordChange }) (*none, error) {
	return nil, s.s.Account.ChangePassword(ctx, by, in.Body)
}

func (s *server) readFactor(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.SecondFactor], error) {
	return body(s.s.Account.Factor(ctx, by))
}

func (s *server) beginFactor(ctx context.Context, by workspace.Actor, in *struct{ Body api.FactorBegin }) (*reply[api.NewFactor], error) {
	return body(s.s.Account.BeginFactor(ctx, by, in.Body.Password))
}

func (s *server) confirmFactor(ctx context.Context, by workspace.Actor, in *struct{ Body api.FactorCode }) (*reply[api.RecoveryCodes], error) {
	return body(s.s.Account.ConfirmFactor(ctx, by, in.Body.Code))
}

func (s *server) endFactor(ctx context.Context, by workspace.Actor, in *struct{ Body api.FactorEnd }) (*none, error) {
	return nil, s.s.Account.EndFactor(ctx, by, in.Body)
}

func (s *server) takeFactor(ctx context.Context, by workspace.Actor, in *Who) (*none, error) {
	return nil, s.s.Account.TakeFactor(ctx, by, in.Person)
}

func (s *server) readProtection(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Protection], error) {
	return taggedProtection(s.s.Protection.Read(ctx, by))
}

func (s *server) changeProtection(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.Protection
}) (*tagged[api.Protection], error) {
	return taggedProtection(matched(in.Match, func(v int) (api.Protection, error) { return s.s.Protection.Set(ctx, by, in.Body, v) }))
}

func taggedProtection(p api.Protection, err error) (*tagged[api.Protection], error) {
	return tag(p, p.Version, err)
}

func (s *server) listTokens(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.Token]], error) {
	return body(s.s.Account.Tokens(ctx, by, in.Cursor, in.Limit))
}

func (s *server) createToken(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewToken
}) (*reply[api.Token], error) {
	return body(s.s.Account.CreateToken(ctx, by, in.Body))
}

func (s *server) revokeToken(ctx context.Context, by workspace.Actor, in *ID) (*none, error) {
	return nil, s.s.Account.RevokeToken(ctx, by, in.ID)
}

func (s *server) askPasswordLink(ctx context.Context, _ workspace.Actor, in *struct{ Body api.PasswordLinkRequest }) (*none, error) {
	return nil, s.s.Account.AskLink(ctx, in.Body.Address)
}

func (s *server) readPasswordLink(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.PasswordLink], error) {
	return body(s.s.Account.Link(ctx, in.Secret))
}

func (s *server) choosePassword(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.NewPassword
}) (*none, error) {
	return nil, s.s.Account.Choose(ctx, by, in.Secret.Secret, in.Body.Password)
}
