package httpapi

import (
	"context"
	"io"
	"mime"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/people"
)

// export answers with what is written while it is read. An export that breaks off breaks the
// connection off, so that nobody takes a part for the whole.
func (s *server) export(write func(ctx context.Context, open func(name string) io.Writer) error) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		ctx, cancel := context.WithTimeout(hc.Context(), longWork)
		defer cancel()
		ctx, outcome := workspace.Watched(ctx)
		begun := false
		err := write(ctx, func(name string) io.Writer {
			begun = true
			kind := "text/csv; charset=utf-8"
			switch {
			case strings.HasSuffix(name, ".jsonl"):
				kind = "application/jsonl; charset=utf-8"
			case strings.HasSuffix(name, ".ics"):
				kind = "text/calendar; charset=utf-8"
			}
			hc.SetHeader("Content-Type", kind)
			hc.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
			return hc.BodyWriter()
		})
		switch err = outcome(err); {
		case err != nil && !begun:
			p := s.problem(ctx, err)
			hc.SetHeader("Content-Type", "application/problem+json")
			hc.SetStatus(p.Status)
			_ = encode(hc.BodyWriter(), p)
		case err != nil:
			s.o.Log.Error("an export broke off", "error", err)
			panic(http.ErrAbortHandler)
		}
	}}
}

// Format is how an export is written.
type Format struct {
	Format string `query:"format" enum:"csv,jsonl" default:"csv" doc:"jsonl: a line of JSON for each, as in the list"`
}

func (s *server) exportGroups(_ context.Context, by workspace.Actor, in *struct {
	Format
	GroupFilter
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Group.Export(ctx, by, in.query(), workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

func (s *server) exportPeople(_ context.Context, by workspace.Actor, in *struct {
	Format
	PeopleFilter
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.People.Export(ctx, by, in.query(), workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

func (s *server) exportHistory(_ context.Context, by workspace.Actor, in *struct {
	Format
	Filtered
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.History.Export(ctx, by, in.Filter, workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

// GroupFilter is which groups are wanted, in which order.
type GroupFilter struct {
	Q     string   `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	State []string `query:"state" maxItems:"4" enum:"active,due,lapsed,retired"`
	Scope string   `query:"scope" enum:"mine,owned,joinable" doc:"All that I can find when left out"`
	Filtered
	Sort string `query:"sort" enum:"name,address,people,owners,external,post,expires,created,renewed,quiet,-name,-address,-people,-owners,-external,-post,-expires,-created,-renewed,-quiet" doc:"A leading - for the other direction; by name when left out"`
}

func (f GroupFilter) query() group.Query {
	return group.Query{Q: f.Q, States: f.State, Filter: f.Filter, Scope: f.Scope, Sort: f.Sort}
}

// PeopleFilter is which people are wanted, in which order.
type PeopleFilter struct {
	Q     string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Kind  string `query:"kind" enum:"here,departed,external" doc:"here when left out"`
	Lacks string `query:"lacks" maxLength:"60" doc:"Only those who have no value for this field"`
	Filtered
	Sort string `query:"sort" enum:"name,address,created,signed_in,-name,-address,-created,-signed_in,match" doc:"match: those whom q may mean, the best first, on one page and not counted"`
}

func (f PeopleFilter) query() people.Query {
	return people.Query{Q: f.Q, Kind: f.Kind, Lacks: f.Lacks, Filter: f.Filter, Sort: f.Sort}
}
