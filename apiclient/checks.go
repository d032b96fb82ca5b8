package apiclient

import (
	"context"
	"fmt"
	"net/http"

	"jugate/api"
)

// Check has workstations check themselves.
func (c *Client) Check(ctx context.Context, in api.NewCheck) ([]api.Errand, error) {
	return one[[]api.Errand](ctx, c, http.MethodPost, "checks", in)
}

// Checks lists what checks have found out, the newest first.
func (c *Client) Checks(ctx context.Context, l List) (api.Page[api.Check], error) {
	return list[api.Check](ctx, c, "checks", l)
}

// CheckNumbered is one of them, with its figures.
func (c *Client) CheckNumbered(ctx context.Context, id int64) (api.Check, error) {
	return one[api.Check](ctx, c, http.MethodGet, fmt.Sprintf("checks/%d", id), nil)
}

// Wipe has the disks of workstations wiped.
func (c *Client) Wipe(ctx context.Context, in api.NewWipe) ([]api.Errand, error) {
	return one[[]api.Errand](ctx, c, http.MethodPost, "wipes", in)
}
