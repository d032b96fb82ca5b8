package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

func storePath(name string) string { return "stores/" + url.PathEscape(name) }

// Stores lists where slabs lie.
func (c *Client) Stores(ctx context.Context) (api.Page[api.Store], error) {
	return list[api.Store](ctx, c, "stores", List{})
}

// Store shows one.
func (c *Client) Store(ctx context.Context, name string) (api.Store, error) {
	return one[api.Store](ctx, c, http.MethodGet, storePath(name), nil)
}

// AddStore enters an object store.
func (c *Client) AddStore(ctx context.Context, in api.NewStore) (api.Store, error) {
	return one[api.Store](ctx, c, http.MethodPost, "stores", in)
}

// UseStore says where new versions go.
func (c *Client) UseStore(ctx context.Context, in api.StoreUse) (api.Store, error) {
	return one[api.Store](ctx, c, http.MethodPatch, "stores", in)
}

// CheckStore tries what is asked of one.
func (c *Client) CheckStore(ctx context.Context, name string, in api.NewStoreCheck) (api.StoreCheck, error) {
	return one[api.StoreCheck](ctx, c, http.MethodPost, storePath(name)+"/check", in)
}

// MoveToStore has versions be moved to one.
func (c *Client) MoveToStore(ctx context.Context, name string, in api.StoreMove) (api.StoreMoving, error) {
	return one[api.StoreMoving](ctx, c, http.MethodPost, storePath(name)+"/move", in)
}

// RemoveStore forgets one.
func (c *Client) RemoveStore(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/"+storePath(name), nil, nil)
}
