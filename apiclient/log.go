package apiclient

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"jugate/api"
)

// Head signs the tree of records as it is now.
func (c *Client) Head(ctx context.Context) (api.LogHead, error) {
	return one[api.LogHead](ctx, c, http.MethodGet, "log/head", nil)
}

// LogKeys shows the public keys of the service.
func (c *Client) LogKeys(ctx context.Context) (api.LogKeys, error) {
	return one[api.LogKeys](ctx, c, http.MethodGet, "log/keys", nil)
}

// Growth proves that the tree of records has grown out of one of so many leaves.
func (c *Client) Growth(ctx context.Context, leaves int64) (api.LogGrowth, error) {
	return one[api.LogGrowth](ctx, c, http.MethodGet, fmt.Sprintf("log/growth?leaf_count=%d", leaves), nil)
}

// CheckLog goes through all records.
func (c *Client) CheckLog(ctx context.Context) (api.LogCheck, error) {
	return one[api.LogCheck](ctx, c, http.MethodGet, "log/check", nil)
}

// Restored says that the records were restored from a backup.
func (c *Client) Restored(ctx context.Context, why string) (api.LogHead, error) {
	return one[api.LogHead](ctx, c, http.MethodPost, "log/restored", api.Restoring{Why: why})
}

// ProveReceipt proves a receipt.
func (c *Client) ProveReceipt(ctx context.Context, id int64) (api.Proof, error) {
	return one[api.Proof](ctx, c, http.MethodGet, fmt.Sprintf("receipts/%d/proof", id), nil)
}

// ProveLine proves a line of the logbook.
func (c *Client) ProveLine(ctx context.Context, id int64) (api.Proof, error) {
	return one[api.Proof](ctx, c, http.MethodGet, fmt.Sprintf("logbook/%d/proof", id), nil)
}

// ExportLog opens the receipts of a period with their proofs, as lines of JSON; the caller closes it.
func (c *Client) ExportLog(ctx context.Context, since, until string) (io.ReadCloser, error) {
	q := url.Values{}
	setIf(q, "since", since)
	setIf(q, "until", until)
	resp, err := c.send(ctx, http.MethodGet, "/api/v1/log/export?"+q.Encode(), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Witnesses lists who countersigns the heads of the service.
func (c *Client) Witnesses(ctx context.Context) (api.Page[api.Witness], error) {
	return list[api.Witness](ctx, c, "witnesses", List{})
}

// AddWitness enters one.
func (c *Client) AddWitness(ctx context.Context, in api.NewWitness) (api.Witness, error) {
	return one[api.Witness](ctx, c, http.MethodPost, "witnesses", in)
}

// RemoveWitness removes one.
func (c *Client) RemoveWitness(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/witnesses/"+url.PathEscape(name), nil, nil)
}

// AskWitnesses has all witnesses countersign now.
func (c *Client) AskWitnesses(ctx context.Context) (api.Page[api.Witness], error) {
	return one[api.Page[api.Witness]](ctx, c, http.MethodPost, "witnesses/ask", nil)
}

// Watched lists services whose heads are countersigned there.
func (c *Client) Watched(ctx context.Context) (api.Page[api.Watched], error) {
	return list[api.Watched](ctx, c, "watched-services", List{})
}

// Watch countersigns the heads of a service.
func (c *Client) Watch(ctx context.Context, in api.NewWatched) error {
	return c.do(ctx, http.MethodPost, "/api/v1/watched-services", in, nil)
}

// Unwatch countersigns them no more.
func (c *Client) Unwatch(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/watched-services/"+url.PathEscape(name), nil, nil)
}

// ConfirmRestore confirms that a watched service was restored from a backup.
func (c *Client) ConfirmRestore(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/watched-services/"+url.PathEscape(name)+"/confirm", nil, nil)
}
