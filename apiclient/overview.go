package apiclient

import (
	"context"
	"net/http"

	"jugate/api"
)

// Overview tells what needs somebody now, what runs, what is next, and how each part of the service is.
func (c *Client) Overview(ctx context.Context) (api.Overview, error) {
	return one[api.Overview](ctx, c, http.MethodGet, "overview", nil)
}

// RestartPart begins a part of the service anew, and tells how it is then.
func (c *Client) RestartPart(ctx context.Context, part string) (api.PartState, error) {
	return one[api.PartState](ctx, c, http.MethodPost, "parts/restart", api.PartRef{Part: part})
}
