package apiclient

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"jugate/api"
)

// Diagnose looks at the service, or at one workstation if it is named.
func (c *Client) Diagnose(ctx context.Context, workstation string) (api.Page[api.Diagnosis], error) {
	path := "doctor"
	if workstation != "" {
		path = "workstations/" + url.PathEscape(workstation) + "/doctor"
	}
	return list[api.Diagnosis](ctx, c, path, List{})
}

// TrialChannel tells where trials of multicast are sent.
func (c *Client) TrialChannel(ctx context.Context) (api.TrialChannel, error) {
	return one[api.TrialChannel](ctx, c, http.MethodGet, "doctor/multicast", nil)
}

// SendTrial has the service multicast the packets of a trial; it returns when they are sent.
func (c *Client) SendTrial(ctx context.Context, in api.NewTrial) (api.Trial, error) {
	return one[api.Trial](ctx, c, http.MethodPost, "doctor/multicast", in)
}

// MeasureBytes fetches bytes that nobody can compress.
func (c *Client) MeasureBytes(ctx context.Context, n int64) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/api/v1/doctor/bytes?bytes=%d", n), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}
