package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

// Forget removes a newcomer, or a retired workstation of which nothing is recorded.
func (c *Client) Forget(ctx context.Context, ref string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/workstations/"+url.PathEscape(ref), nil, nil)
}

// Relearn takes the UUID and serial number that a workstation tells next.
func (c *Client) Relearn(ctx context.Context, ref string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPost, "workstations/"+url.PathEscape(ref)+"/relearn", nil)
}

// Refuse turns a machine away for good.
func (c *Client) Refuse(ctx context.Context, in api.NewRefusal) error {
	return c.do(ctx, http.MethodPost, "/api/v1/refusals", in, nil)
}

// Refusals lists who is turned away.
func (c *Client) Refusals(ctx context.Context, l List) (api.Page[api.Refusal], error) {
	return list[api.Refusal](ctx, c, "refusals", l)
}

// EndRefusal lets a machine come again.
func (c *Client) EndRefusal(ctx context.Context, value string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/refusals/"+url.PathEscape(value), nil, nil)
}
