package apiclient

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
)

// Netboot tells how network boot stands.
func (c *Client) Netboot(ctx context.Context) (api.NetbootStatus, error) {
	return one[api.NetbootStatus](ctx, c, http.MethodGet, "netboot", nil)
}

// NetbootAdvice lists what to enter into another DHCP server.
func (c *Client) NetbootAdvice(ctx context.Context) ([]api.BootAdvice, error) {
	return one[[]api.BootAdvice](ctx, c, http.MethodGet, "netboot/advice", nil)
}

// Builds lists builds of the boot environment, the newest first.
func (c *Client) Builds(ctx context.Context, l List) (api.Page[api.Build], error) {
	return list[api.Build](ctx, c, "builds", l)
}

// Build shows one; 0 is the one that is offered.
func (c *Client) Build(ctx context.Context, number int) (api.Build, error) {
	return one[api.Build](ctx, c, http.MethodGet, fmt.Sprintf("builds/%d", number), nil)
}

// MakeBuild makes the next build.
func (c *Client) MakeBuild(ctx context.Context, in api.NewBuild) (api.Build, error) {
	return one[api.Build](ctx, c, http.MethodPost, "builds", in)
}

// OfferBuild has workstations boot a build from now on.
func (c *Client) OfferBuild(ctx context.Context, number int) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/builds/%d/offer", number), nil, nil)
}

// RemoveBuild removes a build.
func (c *Client) RemoveBuild(ctx context.Context, number int) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/api/v1/builds/%d", number), nil, nil)
}

// DiffBuilds lists the differences between two builds.
func (c *Client) DiffBuilds(ctx context.Context, a, b int) ([]api.BuildChange, error) {
	return one[[]api.BuildChange](ctx, c, http.MethodGet, fmt.Sprintf("builds/%d/diff/%d", a, b), nil)
}

// PinWorkstation has a workstation boot one build; 0 ends that.
func (c *Client) PinWorkstation(ctx context.Context, ref string, build int) error {
	return c.do(ctx, http.MethodPut, "/api/v1/workstations/"+url.PathEscape(ref)+"/build", api.Pin{Build: build}, nil)
}

// PinGroup has a group boot one build; 0 ends that.
func (c *Client) PinGroup(ctx context.Context, group string, build int) error {
	return c.do(ctx, http.MethodPut, "/api/v1/groups/"+url.PathEscape(group)+"/build", api.Pin{Build: build}, nil)
}

// FixAddress gives a workstation an IP address of its own; "" ends that.
func (c *Client) FixAddress(ctx context.Context, ref, address string) error {
	return c.do(ctx, http.MethodPut, "/api/v1/workstations/"+url.PathEscape(ref)+"/address", map[string]string{"address": address}, nil)
}

// SetMenu has a group show a menu for some seconds; 0 shows none.
func (c *Client) SetMenu(ctx context.Context, group string, seconds int) error {
	return c.do(ctx, http.MethodPut, "/api/v1/groups/"+url.PathEscape(group)+"/menu", map[string]int{"seconds": seconds}, nil)
}

// MakeMedia writes the image of a USB stick that boots a build; 0 is the one that is
// offered.
func (c *Client) MakeMedia(ctx context.Context, number int, in api.NewMedia, to io.Writer) (made api.MediaMade, err error) {
	resp, err := c.send(ctx, http.MethodPost, fmt.Sprintf("/api/v1/builds/%d/media", number), in, nil)
	if err != nil {
		return made, err
	}
	defer resp.Body.Close()
	made.Outpost = resp.Header.Get(api.MediaOutpostHeader)
	made.Delivery, _ = strconv.ParseInt(resp.Header.Get(api.MediaDeliveryHeader), 10, 64) // none is 0
	n, err := io.Copy(to, resp.Body)
	if err == nil && resp.ContentLength >= 0 && n < resp.ContentLength {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return made, fmt.Errorf("%w at %s: %w", ErrAway, c.Server(), err)
	}
	return made, nil
}

// MakeCode makes a code that people sign in with at workstations.
func (c *Client) MakeCode(ctx context.Context, hours int) (api.Code, error) {
	return one[api.Code](ctx, c, http.MethodPost, "codes", api.NewCode{Hours: hours})
}

// Wake switches workstations on over the network.
func (c *Client) Wake(ctx context.Context, in api.WakeUp) (api.Woken, error) {
	return one[api.Woken](ctx, c, http.MethodPost, "wake", in)
}

// Tell has systems that are on restart or switch off.
func (c *Client) Tell(ctx context.Context, in api.Telling) (api.Told, error) {
	return one[api.Told](ctx, c, http.MethodPost, "tell", in)
}

// Recipients shows who may receive an image.
func (c *Client) Recipients(ctx context.Context, image string) (api.Recipients, error) {
	return one[api.Recipients](ctx, c, http.MethodGet, "images/"+url.PathEscape(image)+"/recipients", nil)
}

// SetRecipients says who may receive an image.
func (c *Client) SetRecipients(ctx context.Context, image string, who api.Recipients) error {
	return c.do(ctx, http.MethodPut, "/api/v1/images/"+url.PathEscape(image)+"/recipients", who, nil)
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
