package apiclient

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"jugate/api"
	"jugate/core/check"
	"jugate/core/slabstore"
	"jugate/core/trust"
)

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
// about 20 seconds without. An errand that is not signed by the service's authority is a
// trust.ErrUnsigned.
func (c *Client) Standing(ctx context.Context) (api.Standing, error) {
	now, err := agent[api.Standing](ctx, c, http.MethodGet, "standing", nil)
	if err == nil && now.Signed != "" {
		err = c.open(now.Signed, api.SignedErrand, &now.Errand)
	}
	return now, err
}

// open reads what the service has signed for this agent.
func (c *Client) open(signed, kind string, v any) error {
	if err := trust.OpenSigned(signed, c.authority, kind, c.token, v); err != nil {
		return fmt.Errorf("what came from %s is not taken: %w", c.Server(), err)
	}
	return nil
}

// TellActivity tells what the agent is doing.
func (c *Client) TellActivity(ctx context.Context, a api.Activity) error {
	return c.do(ctx, http.MethodPost, "/agent/v1/activity", a, nil)
}

// SignIn lets a person order at the workstation.
func (c *Client) SignIn(ctx context.Context, typed api.Typed) (api.SignedIn, error) {
	return agent[api.SignedIn](ctx, c, http.MethodPost, "sign-in", typed)
}

// Wish orders what a person at the workstation has chosen.
func (c *Client) Wish(ctx context.Context, w api.Wish) error {
	return c.do(ctx, http.MethodPost, "/agent/v1/wish", w, nil)
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

// PutFolders hands in folders of a disk that is to be erased, packed by tar and zstd.
func (c *Client) PutFolders(ctx context.Context, errand int64, content io.Reader) error {
	return c.do(ctx, http.MethodPut, fmt.Sprintf("/agent/v1/errands/%d/folders", errand), content, nil)
}

// Folders are those that go back with an errand.
func (c *Client) Folders(ctx context.Context, errand int64) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/errands/%d/folders", errand), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
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

// DeliveryBases fetches the slabs of the version before that lie where those of the version will
// (image.ParseBases).
func (c *Client) DeliveryBases(ctx context.Context, delivery int64) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/deliveries/%d/bases", delivery), nil, &b)
	return b, err
}

// TellProgress reports how far the workstation is with a delivery.
func (c *Client) TellProgress(ctx context.Context, delivery int64, p api.Progress) (api.Directions, error) {
	return agent[api.Directions](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/progress", delivery), p)
}

// HelperWish is what the helper on a delivered system is to do, once that is something else
// than it knows; or after a while. Boot names the start of its system.
func (c *Client) HelperWish(ctx context.Context, boot string, has int64) (w api.HelperWish, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/helper?boot=%s&has=%d", url.QueryEscape(boot), has), nil, &w)
	return w, err
}

// TellDisks says what is on the machine's disks now.
func (c *Client) TellDisks(ctx context.Context, disks []api.Disk) error {
	return c.do(ctx, http.MethodPut, "/agent/v1/disks", api.OnDisks{Disks: disks}, nil)
}

// TellLacking says which slabs the workstation lacks.
func (c *Client) TellLacking(ctx context.Context, delivery int64, l api.Lacking) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/deliveries/%d/lacking", delivery), l, nil)
}

// DeliverySlab fetches the frame of a slab, or of a sealed delivery its parcel. In doubt,
// after one that was damaged, the service checks it first.
func (c *Client) DeliverySlab(ctx context.Context, delivery int64, d slabstore.Digest, doubt bool) (b []byte, err error) {
	path := fmt.Sprintf("/agent/v1/deliveries/%d/slabs/%s", delivery, d)
	if doubt {
		path += "?doubt"
	}
	err = c.do(ctx, http.MethodGet, path, nil, &b)
	return b, err
}

// DeliveryPiece fetches a piece of a payload by its number in the delivery's cargo, or of a
// sealed delivery its parcel.
func (c *Client) DeliveryPiece(ctx context.Context, delivery int64, number int) (b []byte, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/deliveries/%d/pieces/%d", delivery, number), nil, &b)
	return b, err
}

// DriverFile opens a file of a driver package; the caller closes it.
func (c *Client) DriverFile(ctx context.Context, id, name string) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, "/agent/v1/drivers/"+id+"/files/"+(&url.URL{Path: name}).EscapedPath(), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// PayloadContent opens the content of a payload; the caller closes it.
func (c *Client) PayloadContent(ctx context.Context, digest string) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, "/agent/v1/payloads/"+digest, nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Installed ends an errand that put drivers in.
func (c *Client) Installed(ctx context.Context, errand int64, in api.Installed) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/put", errand), in, nil)
}

// Brought ends an errand that brought payloads.
func (c *Client) Brought(ctx context.Context, errand int64, in api.Installed) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/brought", errand), in, nil)
}

// Lacks asks for modules that this workstation's boot environment lacks, in the order
// in which they are loaded. It is signed, as an errand is.
func (c *Client) Lacks(ctx context.Context, in api.Lacks) (out api.ToInstall, err error) {
	reply, err := agent[api.Signed](ctx, c, http.MethodPost, "lacks", in)
	if err != nil {
		return out, err
	}
	return out, c.open(reply.Signed, api.SignedModules, &out)
}

// Arrive reports the first start of a delivered system; the client has the token of that.
func (c *Client) Arrive(ctx context.Context, report api.ArrivalReport) error {
	return c.do(ctx, http.MethodPost, "/agent/v1/arrival", report, nil)
}

// UnderErrand tells how far an errand is. It is a conflict if the service does not want it any more.
func (c *Client) UnderErrand(ctx context.Context, errand int64, a api.Activity) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/under", errand), a, nil)
}

// TrialBytes fetches bytes that nobody can compress, for a check of the network.
func (c *Client) TrialBytes(ctx context.Context, errand, n int64) (io.ReadCloser, error) {
	resp, err := c.send(ctx, http.MethodGet, fmt.Sprintf("/agent/v1/errands/%d/trial-bytes?n=%d", errand, n), nil, nil)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Trial has the service multicast what is listened for.
func (c *Client) Trial(ctx context.Context, errand int64) (api.Trial, error) {
	return agent[api.Trial](ctx, c, http.MethodPost, fmt.Sprintf("errands/%d/trial", errand), nil)
}

// Checked ends an errand that has checked the machine.
func (c *Client) Checked(ctx context.Context, errand int64, result check.Result) (api.Judged, error) {
	return agent[api.Judged](ctx, c, http.MethodPost, fmt.Sprintf("errands/%d/checked", errand), result)
}

// Ran ends an errand that has run a command.
func (c *Client) Ran(ctx context.Context, errand int64, ended api.CommandEnded) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/ran", errand), ended, nil)
}

// Wiped ends an errand that was to wipe a disk.
func (c *Client) Wiped(ctx context.Context, errand int64, done api.Wiped) error {
	return c.do(ctx, http.MethodPost, fmt.Sprintf("/agent/v1/errands/%d/wiped", errand), done, nil)
}
