package apiclient

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strconv"
	"strings"

	"jugate/api"
	"jugate/core/slabstore"
	"jugate/core/stream"
)

// ErrRange says that a slab has not the length its partial has: the partial was
// made of somebody else's packets.
var ErrRange = errors.New("the service answered with another range than was asked for")

func agent[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	var reply T
	err := c.do(ctx, method, "/agent/v1/"+path, body, &reply)
	return reply, err
}

// CheckIn is an agent's first request; it needs no pass.
func (c *Client) CheckIn(ctx context.Context, in api.CheckIn) (api.CheckedIn, error) {
	return agent[api.CheckedIn](ctx, c, http.MethodPost, "check-in", in)
}

// Standing asks for an errand; the service answers when there is one, or after
// about 20 seconds without.
func (c *Client) Standing(ctx context.Context) (api.Standing, error) {
	return agent[api.Standing](ctx, c, http.MethodGet, "standing", nil)
}

// TellActivity tells what the agent is doing.
func (c *Client) TellActivity(ctx context.Context, a api.Activity) error {
	return c.do(ctx, http.MethodPost, "/agent/v1/activity", a, nil)
}

// MissingSlabs asks which slabs the store lacks.
func (c *Client) MissingSlabs(ctx context.Context, errand int64, d api.Digests) (api.Digests, error) {
	return agent[api.Digests](ctx, c, http.MethodPost, fmt.Sprintf("errands/%d/missing", errand), d)
}

// PutSlab stores the frame of a slab.
func (c *Client) PutSlab(ctx context.Context, errand int64, d slabstore.Digest, frame []byte) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/agent/v1/errands/%d/slabs/%s", errand, d), frame, nil)
}

// PutMap hands in the slab map of a capture, before Commit.
func (c *Client) PutMap(ctx context.Context, errand int64, slabs []byte) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/agent/v1/errands/%d/map", errand), slabs, nil)
}

// Commit hands in the manifest of a capture, which makes it a version.
func (c *Client) Commit(ctx context.Context, errand int64, manifest []byte) (api.Committed, error) {
	return agent[api.Committed](ctx, c, http.MethodPut, fmt.Sprintf("errands/%d/manifest", errand), manifest)
}

// FailErrand ends an errand that could not be done.
func (c *Client) FailErrand(ctx context.Context, errand int64, f api.Failure) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/fail", errand), f, nil)
}

// DeliveryManifest fetches the manifest of the version.
func (c *Client) DeliveryManifest(ctx context.Context, delivery int64) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/deliveries/%d/manifest", delivery), nil, &b)
	return b, err
}

// DeliveryMap fetches the slab map of the version.
func (c *Client) DeliveryMap(ctx context.Context, delivery int64) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/deliveries/%d/map", delivery), nil, &b)
	return b, err
}

// TellProgress reports how far the workstation is with a delivery.
func (c *Client) TellProgress(ctx context.Context, delivery int64, p api.Progress) (api.Course, error) {
	return agent[api.Course](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/progress", delivery), p)
}

// MendSlab fetches a slab's frame, or just ranges of it when partial is given
// (RFC 9110, section 14), and returns the whole frame and how many bytes of it
// were fetched.
func (c *Client) MendSlab(ctx context.Context, delivery int64, d slabstore.Digest, partial *stream.Partial) (frame []byte, fetched int64, err error) {
	header := http.Header{}
	if partial != nil {
		var ranges []string
		for r := range partial.Missing() {
			ranges = append(ranges, fmt.Sprintf("%d-%d", r.Start, r.Start+r.Length-1))
		}
		header.Set("Range", "bytes="+strings.Join(ranges, ","))
	}
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/deliveries/%d/slabs/%s", delivery, d), nil, header)
	if err != nil {
		return nil, 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusPartialContent || partial == nil {
		frame, err = io.ReadAll(io.LimitReader(resp.Body, 2*slabstore.MaxSlab))
		return frame, int64(len(frame)), c.cut(err)
	}
	frame = partial.Frame
	kind, params, _ := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	if kind != "multipart/byteranges" {
		fetched, err = fill(frame, resp.Header.Get("Content-Range"), resp.Body)
		return frame, fetched, c.cut(err)
	}
	parts := multipart.NewReader(resp.Body, params["boundary"])
	for {
		part, err := parts.NextPart()
		if err == io.EOF {
			return frame, fetched, nil
		}
		if err != nil {
			return nil, fetched, c.cut(err)
		}
		n, err := fill(frame, part.Header.Get("Content-Range"), part)
		fetched += n
		if err != nil {
			return nil, fetched, c.cut(err)
		}
	}
}

// cut marks an error in the middle of a body as one of the service being away.
func (c *Client) cut(err error) error {
	if err == nil || errors.Is(err, ErrRange) {
		return err
	}
	return fmt.Errorf("%w at %s: %w", ErrAway, c.base, err)
}

// fill reads one range into its place in the frame.
func fill(frame []byte, contentRange string, body io.Reader) (int64, error) {
	span, whole, ok := strings.Cut(strings.TrimPrefix(contentRange, "bytes "), "/")
	first, last, ok2 := strings.Cut(span, "-")
	from, err1 := strconv.ParseInt(first, 10, 64)
	to, err2 := strconv.ParseInt(last, 10, 64)
	if !ok || !ok2 || err1 != nil || err2 != nil || from < 0 || to < from || to >= int64(len(frame)) || whole != strconv.Itoa(len(frame)) {
		return 0, fmt.Errorf("%w: %q of a frame of %d bytes", ErrRange, contentRange, len(frame))
	}
	n, err := io.ReadFull(body, frame[from:to+1])
	return int64(n), err
}
