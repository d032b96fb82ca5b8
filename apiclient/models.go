package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

// Models lists models of machines.
func (c *Client) Models(ctx context.Context) (api.Page[api.Model], error) {
	return list[api.Model](ctx, c, "models", List{})
}

// Model shows what is known of one.
func (c *Client) Model(ctx context.Context, model string) (api.Model, error) {
	return one[api.Model](ctx, c, http.MethodGet, "model?model="+url.QueryEscape(model), nil)
}

// SetModel says what is known of one.
func (c *Client) SetModel(ctx context.Context, in api.NewModel) (api.Model, error) {
	return one[api.Model](ctx, c, http.MethodPut, "model", in)
}
