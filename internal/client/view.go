package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

// DescribeFilter returns what a filter of a list can ask about.
func (c *Client) DescribeFilter(ctx context.Context, list string) (api.Page[api.FilterAttribute], error) {
	return get[api.Page[api.FilterAttribute]](ctx, c, at("filters", list), nil)
}

// Views lists the views that can be used, of a list or of all.
func (c *Client) Views(ctx context.Context, list string) (api.Page[api.View], error) {
	return get[api.Page[api.View]](ctx, c, "/views", set(url.Values{}, map[string]string{"list": list}))
}

// View returns one view.
func (c *Client) View(ctx context.Context, id string) (api.View, error) {
	return get[api.View](ctx, c, at("views", id), nil)
}

// CreateView keeps a view.
func (c *Client) CreateView(ctx context.Context, n api.NewView) (api.View, error) {
	return change[api.View](ctx, c, http.MethodPost, "/views", n)
}

// ChangeView changes a view.
func (c *Client) ChangeView(ctx context.Context, id string, n api.NewView) (api.View, error) {
	return change[api.View](ctx, c, http.MethodPut, at("views", id), n)
}

// DeleteView deletes a view.
func (c *Client) DeleteView(ctx context.Context, id string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("views", id), nil, at("views", id, "removal"))
	return err
}

// ExportGroups writes all groups of a list to out, as csv or jsonl.
func (c *Client) ExportGroups(ctx context.Context, l GroupList, format string, out io.Writer) error {
	l.Paging = Paging{}
	return c.export(ctx, "/exports/groups", l.query(), format, out)
}

// ExportPeople writes all people of a list to out, as csv or jsonl.
func (c *Client) ExportPeople(ctx context.Context, q PeopleQuery, format string, out io.Writer) error {
	q.Paging = Paging{}
	return c.export(ctx, "/exports/people", q.query(), format, out)
}

// ExportHistory writes all entries of the history that a filter matches to out, as csv or
// jsonl.
func (c *Client) ExportHistory(ctx context.Context, filter, format string, out io.Writer) error {
	return c.export(ctx, "/exports/history", set(url.Values{}, map[string]string{"filter": filter}), format, out)
}

func (c *Client) export(ctx context.Context, path string, q url.Values, format string, out io.Writer) error {
	res, err := c.open(ctx, http.MethodGet, path+"?"+set(q, map[string]string{"format": format}).Encode(), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(out, res.Body)
	return err
}
