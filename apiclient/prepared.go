package apiclient

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
)

// Orders lists orders.
func (c *Client) Orders(ctx context.Context, l List) (api.Page[api.KeptOrder], error) {
	return list[api.KeptOrder](ctx, c, "orders", l)
}

// Order is one of them.
func (c *Client) Order(ctx context.Context, name string) (api.KeptOrder, error) {
	return one[api.KeptOrder](ctx, c, http.MethodGet, "orders/"+url.PathEscape(name), nil)
}

// SaveOrder keeps an order.
func (c *Client) SaveOrder(ctx context.Context, in api.Order) (api.OrderSaved, error) {
	return one[api.OrderSaved](ctx, c, http.MethodPut, "orders", in)
}

// TryOrder says what keeping an order would change.
func (c *Client) TryOrder(ctx context.Context, in api.Order) (api.OrderSaved, error) {
	return one[api.OrderSaved](ctx, c, http.MethodPost, "orders/try", in)
}

// RemoveOrder forgets an order.
func (c *Client) RemoveOrder(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/orders/"+url.PathEscape(name), nil, nil)
}

// RunOrder runs an order now.
func (c *Client) RunOrder(ctx context.Context, name string) (api.OrderRun, error) {
	return one[api.OrderRun](ctx, c, http.MethodPost, "orders/"+url.PathEscape(name)+"/run", nil)
}

// NextRuns lists when an order, or all of them, run by themselves next.
func (c *Client) NextRuns(ctx context.Context, order string, most int) (api.Page[api.OrderTime], error) {
	q := url.Values{"most": {strconv.Itoa(most)}}
	if order != "" {
		q.Set("order", order)
	}
	return one[api.Page[api.OrderTime]](ctx, c, http.MethodGet, "next-runs?"+q.Encode(), nil)
}

// Runs lists runs of orders, the newest first.
func (c *Client) Runs(ctx context.Context, l List) (api.Page[api.OrderRun], error) {
	return list[api.OrderRun](ctx, c, "runs", l)
}

// Run is a run with its parts.
func (c *Client) Run(ctx context.Context, id int64) (api.OrderRun, error) {
	return one[api.OrderRun](ctx, c, http.MethodGet, fmt.Sprintf("runs/%d", id), nil)
}

// StopRun ends a run.
func (c *Client) StopRun(ctx context.Context, id int64) (api.OrderRun, error) {
	return one[api.OrderRun](ctx, c, http.MethodPost, fmt.Sprintf("runs/%d/stop", id), nil)
}

// GoOn goes on for the workstations that a run failed for.
func (c *Client) GoOn(ctx context.Context, id int64) (api.OrderRun, error) {
	return one[api.OrderRun](ctx, c, http.MethodPost, fmt.Sprintf("runs/%d/go-on", id), nil)
}

// QuietTimes lists times in which no order runs by itself.
func (c *Client) QuietTimes(ctx context.Context, l List) (api.Page[api.QuietTime], error) {
	return list[api.QuietTime](ctx, c, "quiet-times", l)
}

// SaveQuietTime keeps one.
func (c *Client) SaveQuietTime(ctx context.Context, in api.QuietTime) (api.QuietTime, error) {
	return one[api.QuietTime](ctx, c, http.MethodPut, "quiet-times", in)
}

// RemoveQuietTime forgets one.
func (c *Client) RemoveQuietTime(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/quiet-times/"+url.PathEscape(name), nil, nil)
}
