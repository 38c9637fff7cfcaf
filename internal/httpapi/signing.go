package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// DomainName is a mail domain in a path.
type DomainName struct {
	Name string `path:"name" maxLength:"255"`
}

// KeyName is a key of a mail domain in a path.
type KeyName struct {
	DomainName
	Selector string `path:"selector" maxLength:"63"`
}

func (s *server) checkDomain(ctx context.Context, by workspace.Actor, in *DomainName) (*reply[api.DomainCheck], error) {
	return body(s.s.Signing.Check(ctx, by, in.Name))
}

func (s *server) listKeys(ctx context.Context, by workspace.Actor, in *DomainName) (*reply[api.Page[api.SigningKey]], error) {
	return body(s.s.Signing.Keys(ctx, by, in.Name))
}

func (s *server) makeKey(ctx context.Context, by workspace.Actor, in *DomainName) (*reply[api.SigningKey], error) {
	return body(s.s.Signing.Make(ctx, by, in.Name))
}

func (s *server) useKey(ctx context.Context, by workspace.Actor, in *KeyName) (*reply[api.SigningKey], error) {
	return body(s.s.Signing.Use(ctx, by, in.Name, in.Selector))
}

func (s *server) deleteKey(ctx context.Context, by workspace.Actor, in *KeyName) (*none, error) {
	return nil, s.s.Signing.Delete(ctx, by, in.Name, in.Selector)
}
