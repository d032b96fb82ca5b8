package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

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
