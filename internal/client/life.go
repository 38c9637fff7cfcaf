package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

// Retire ends a group.
func (c *Client) Retire(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodDelete, at("groups", ref), nil, at("groups", ref, "retirement"))
}

// Renew begins a group's term again.
func (c *Client) Renew(ctx context.Context, ref string, n api.Renewal) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, at("groups", ref, "renewal"), n)
}

// Restore brings a group back.
func (c *Client) Restore(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, at("groups", ref, "restoration"), nil)
}

// Hold puts a group under hold.
func (c *Client) Hold(ctx context.Context, ref string, n api.Hold) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPut, at("groups", ref, "hold"), n)
}

// Release ends the hold on a group.
func (c *Client) Release(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodDelete, at("groups", ref, "hold"), nil, at("groups", ref, "release"))
}

// Purged lists what is left of groups that are gone.
func (c *Client) Purged(ctx context.Context, p Paging) (api.Page[api.PurgedGroup], error) {
	return get[api.Page[api.PurgedGroup]](ctx, c, "/purged-groups", p.values())
}

// Terms reads how long groups live.
func (c *Client) Terms(ctx context.Context) (api.Terms, error) {
	return get[api.Terms](ctx, c, "/terms", nil)
}

// SetTerms puts other terms in force.
func (c *Client) SetTerms(ctx context.Context, t api.Terms) (api.Terms, error) {
	return change[api.Terms](ctx, c, http.MethodPut, "/terms", t)
}

// TryTerms asks which term rule takes a group.
func (c *Client) TryTerms(ctx context.Context, n api.TermTrial) (api.TermTried, error) {
	return ask[api.TermTried](ctx, c, "/terms/trial", n)
}

// Forecast counts the groups that expire, by week and by month.
func (c *Client) Forecast(ctx context.Context, by, filter, scope string) (api.Page[api.Period], error) {
	return get[api.Page[api.Period]](ctx, c, "/terms/forecast", set(url.Values{}, map[string]string{"by": by, "filter": filter, "scope": scope}))
}

// Told reads the groups that a letter told of, by the secret of its link.
func (c *Client) Told(ctx context.Context, secret string) (api.Told, error) {
	return get[api.Told](ctx, c, at("told", secret), nil)
}

// RenewTold renews groups by the link of a letter.
func (c *Client) RenewTold(ctx context.Context, secret string, n api.ToldRenewal) (api.Told, error) {
	return change[api.Told](ctx, c, http.MethodPost, at("told", secret), n)
}

// CaretakerAsked reads what somebody outside is asked.
func (c *Client) CaretakerAsked(ctx context.Context, secret string) (api.CaretakerAsked, error) {
	return get[api.CaretakerAsked](ctx, c, at("caretaking", secret), nil)
}

// AgreeToCare agrees to take care of groups without owners.
func (c *Client) AgreeToCare(ctx context.Context, secret string) (api.CaretakerAsked, error) {
	return ask[api.CaretakerAsked](ctx, c, at("caretaking", secret), nil)
}

// MakeCalendar makes the address of a calendar of when groups expire.
func (c *Client) MakeCalendar(ctx context.Context) (api.Feed, error) {
	return change[api.Feed](ctx, c, http.MethodPost, "/me/calendar", nil)
}

// Calendar writes a calendar of when groups expire, by the secret of its address, as iCalendar.
func (c *Client) Calendar(ctx context.Context, secret string, out io.Writer) error {
	res, err := c.open(ctx, http.MethodGet, at("calendars", secret), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(out, res.Body)
	return err
}

// CallBackCalendar calls the address of the calendar back.
func (c *Client) CallBackCalendar(ctx context.Context) error {
	_, err := change[struct{}](ctx, c, http.MethodDelete, "/me/calendar", nil, "/me/calendar/call-back")
	return err
}

// MoveClock moves the time of a demo.
func (c *Client) MoveClock(ctx context.Context, days int) (api.Clock, error) {
	return ask[api.Clock](ctx, c, "/demo/clock", api.ClockMove{Days: days})
}
