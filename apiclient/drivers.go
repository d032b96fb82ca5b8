package apiclient

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"jugate/api"
)

// AddDrivers sends an archive to the driver library.
func (c *Client) AddDrivers(ctx context.Context, name string, archive io.Reader) (api.DriversAdded, error) {
	var out api.DriversAdded
	resp, err := c.send(ctx, http.MethodPost, "/api/v1/drivers?archive="+url.QueryEscape(name), archive, nil)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

// Drivers lists driver packages; filters are class, kind and device.
func (c *Client) Drivers(ctx context.Context, l List) (api.Page[api.DriverPackage], error) {
	return list[api.DriverPackage](ctx, c, "drivers", l)
}

// Driver shows a package, by its id or name.
func (c *Client) Driver(ctx context.Context, ref string) (api.DriverPackage, error) {
	return one[api.DriverPackage](ctx, c, http.MethodGet, "drivers/"+url.PathEscape(ref), nil)
}

// RemoveDriver takes a package out of the library.
func (c *Client) RemoveDriver(ctx context.Context, ref string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/drivers/"+url.PathEscape(ref), nil, nil)
}

// ExplainDrivers shows the candidates for a workstation's devices; device and image may
// be empty.
func (c *Client) ExplainDrivers(ctx context.Context, ref, device, image string) ([]api.DriverExplained, error) {
	q := url.Values{}
	setIf(q, "device", device)
	setIf(q, "image", image)
	return one[[]api.DriverExplained](ctx, c, http.MethodGet, "workstations/"+url.PathEscape(ref)+"/drivers?"+q.Encode(), nil)
}

func setIf(q url.Values, key, value string) {
	if value != "" {
		q.Set(key, value)
	}
}

// CoverageQuery says what Coverage is about; empty fields leave it to the service.
type CoverageQuery struct {
	Group, Model, Image string
	To, Drivers         []string
	Build               int
}

// Coverage tells whether a build and an image drive the devices of workstations.
func (c *Client) Coverage(ctx context.Context, in CoverageQuery) (api.Coverage, error) {
	q := url.Values{}
	setIf(q, "group", in.Group)
	setIf(q, "model", in.Model)
	setIf(q, "image", in.Image)
	for key, values := range map[string][]string{"to": in.To, "drivers": in.Drivers} {
		for _, v := range values {
			q.Add(key, v)
		}
	}
	if in.Build > 0 {
		q.Set("build", strconv.Itoa(in.Build))
	}
	return one[api.Coverage](ctx, c, http.MethodGet, "coverage?"+q.Encode(), nil)
}

// DriverSets lists the driver sets.
func (c *Client) DriverSets(ctx context.Context) (api.Page[api.DriverSet], error) {
	return one[api.Page[api.DriverSet]](ctx, c, http.MethodGet, "driver-sets", nil)
}

// SaveDriverSet keeps a set.
func (c *Client) SaveDriverSet(ctx context.Context, in api.DriverSet) (api.DriverSet, error) {
	return one[api.DriverSet](ctx, c, http.MethodPut, "driver-sets", in)
}

// RemoveDriverSet forgets a set.
func (c *Client) RemoveDriverSet(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/driver-sets/"+url.PathEscape(name), nil, nil)
}

// TryDriverSet tells what a set would bring; model and kernel may be empty.
func (c *Client) TryDriverSet(ctx context.Context, name, model, kernel string) ([]api.DriverChoice, error) {
	q := url.Values{}
	setIf(q, "model", model)
	setIf(q, "kernel", kernel)
	return one[[]api.DriverChoice](ctx, c, http.MethodGet, "driver-sets/"+url.PathEscape(name)+"/choice?"+q.Encode(), nil)
}

// InstallDrivers has workstations add drivers to the image that they have.
func (c *Client) InstallDrivers(ctx context.Context, in api.InstallDrivers) ([]api.Errand, error) {
	return one[[]api.Errand](ctx, c, http.MethodPost, "driver-errands", in)
}
