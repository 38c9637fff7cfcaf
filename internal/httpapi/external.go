package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/go-chi/chi/v5"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
)

func (s *server) listExternals(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Q       string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Group   string `query:"group" maxLength:"400" doc:"Of this group"`
	Domain  string `query:"domain" maxLength:"253" doc:"From this domain or below it"`
	Voucher string `query:"voucher" maxLength:"400" doc:"For whom this person vouches"`
	Alone   bool   `query:"alone" doc:"For whom nobody vouches who is here"`
	Endless bool   `query:"endless" doc:"Without an end"`
	Within  int    `query:"ending_within" minimum:"0" maximum:"3650" doc:"Whose time ends within so many days"`
	Refused bool   `query:"refused" doc:"Whom the workspace would not take any more"`
}) (*reply[api.Page[api.External]], error) {
	return body(s.s.External.List(ctx, by, external.Query{Q: in.Q, Group: in.Group, Domain: in.Domain, Voucher: in.Voucher, Alone: in.Alone, Endless: in.Endless, Days: in.Within, Refused: in.Refused, Cursor: in.Cursor, Limit: in.Limit}))
}

func (s *server) changeExternals(ctx context.Context, by workspace.Actor, in *struct{ Body api.ExternalsPatch }) (*reply[api.DecidedAll], error) {
	return body(s.s.External.Change(ctx, by, in.Body))
}

func (s *server) readExternalRules(ctx context.Context, by workspace.Actor, _ *struct{}) (*tagged[api.ExternalRules], error) {
	r, err := s.s.External.Rules(ctx, by)
	return tag(r, r.Version, err)
}

func (s *server) changeExternalRules(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.ExternalRules
}) (*tagged[api.ExternalRules], error) {
	r, err := matched(in.Match, func(v int) (api.ExternalRules, error) { return s.s.External.SetRules(ctx, by, in.Body, v) })
	return tag(r, r.Version, err)
}

func (s *server) readOwnPart(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.OwnPart], error) {
	return body(s.s.External.Own(ctx, in.Secret))
}

func (s *server) changeOwnPart(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.OwnChange
}) (*reply[api.OwnPart], error) {
	return body(s.s.External.ChangeOwn(ctx, by, in.Secret.Secret, in.Body))
}

// maxForm is how many octets the form of one click may have.
const maxForm = 4 << 10

// oneClick unsubscribes whoever the secret of a link is of, as a mail program asks on one click (RFC 8058): by POST alone, so that
// whoever only looks at a link changes nothing; without an account and without cookies.
func (s *server) oneClick(rw http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(rw, r.Body, maxForm)
	if err := r.ParseMultipartForm(maxForm); err != nil && !errors.Is(err, http.ErrNotMultipart) {
		http.Error(rw, "The form can't be read.", http.StatusBadRequest)
		return
	}
	if r.PostFormValue("List-Unsubscribe") != "One-Click" {
		http.Error(rw, "Send List-Unsubscribe=One-Click as a form (RFC 8058), or open this address in a browser.", http.StatusBadRequest)
		return
	}
	ctx, outcome := workspace.Watched(r.Context())
	is, err := s.s.External.Unsubscribe(ctx, workspace.Actor{Via: "link"}, chi.URLParam(r, "secret"))
	if err = outcome(err); err != nil {
		write(rw, s.problem(r.Context(), err))
		return
	}
	rw.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if is.State == "in" {
		fmt.Fprintf(rw, "No mail of %s reaches you any more.\n", is.Group.Name)
		return
	}
	fmt.Fprintln(rw, "You are not in this group any more.")
}
