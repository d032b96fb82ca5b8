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

// Cards lists hardware addresses with their workstations; filter: state.
func (c *Client) Cards(ctx context.Context, l List) (api.Page[api.HardwareAddress], error) {
	return list[api.HardwareAddress](ctx, c, "cards", l)
}

// AcceptCard makes a hardware address one of a workstation's own.
func (c *Client) AcceptCard(ctx context.Context, workstation, address string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/cards/"+url.PathEscape(address)+"/accept", api.CardRef{Workstation: workstation}, nil)
}

// MoveCard makes a hardware address a workstation's, whoever had it.
func (c *Client) MoveCard(ctx context.Context, workstation, address string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/cards/"+url.PathEscape(address)+"/move", api.CardRef{Workstation: workstation}, nil)
}

// RemoveCard takes a hardware address away from its workstation.
func (c *Client) RemoveCard(ctx context.Context, address string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/cards/"+url.PathEscape(address), nil, nil)
}

// ShareCard says whether a hardware address is of an adapter that several machines use.
func (c *Client) ShareCard(ctx context.Context, address string, shared bool) error {
	method := http.MethodPut
	if !shared {
		method = http.MethodDelete
	}
	return c.do(ctx, method, "/api/v1/cards/"+url.PathEscape(address)+"/shared", nil, nil)
}

// MediaKeys lists the keys of media.
func (c *Client) MediaKeys(ctx context.Context) (api.Page[api.MediaKey], error) {
	return list[api.MediaKey](ctx, c, "media-keys", List{})
}

// LimitMediaKey says for whom a key is good, and until when.
func (c *Client) LimitMediaKey(ctx context.Context, ref string, in api.KeyLimits) error {
	return c.do(ctx, http.MethodPut, "/api/v1/media-keys/"+url.PathEscape(ref), in, nil)
}

// WithdrawMediaKey ends a key.
func (c *Client) WithdrawMediaKey(ctx context.Context, ref string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/media-keys/"+url.PathEscape(ref), nil, nil)
}

// Errands lists in the order in which workstations get them; filters: workstation, open.
func (c *Client) Errands(ctx context.Context, l List) (api.Page[api.Errand], error) {
	return list[api.Errand](ctx, c, "errands", l)
}
