package apiclient

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"jugate/api"
)

// List narrows, sorts and pages a list. The zero value asks for everything up
// to the service's limit.
type List struct {
	Search        string
	Sort          string
	Offset, Limit int
	// Filter has the further parameters of the list, such as state or group.
	Filter map[string]string
}

func (l List) query() string {
	v := url.Values{}
	for key, value := range l.Filter {
		if value != "" {
			v.Set(key, value)
		}
	}
	if l.Search != "" {
		v.Set("search", l.Search)
	}
	if l.Sort != "" {
		v.Set("sort", l.Sort)
	}
	if l.Offset > 0 {
		v.Set("offset", strconv.Itoa(l.Offset))
	}
	if l.Limit > 0 {
		v.Set("limit", strconv.Itoa(l.Limit))
	}
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

func list[T any](ctx context.Context, c *Client, path string, l List) (api.Page[T], error) {
	var page api.Page[T]
	err := c.do(ctx, http.MethodGet, "/api/v1/"+path+l.query(), nil, &page)
	return page, err
}

func one[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	var reply T
	err := c.do(ctx, method, "/api/v1/"+path, body, &reply)
	return reply, err
}

// Session tells as whom the client is signed in.
func (c *Client) Session(ctx context.Context) (api.Session, error) {
	return one[api.Session](ctx, c, http.MethodGet, "session", nil)
}

// Health asks whether the service is up.
func (c *Client) Health(ctx context.Context) (api.Health, error) {
	var h api.Health
	err := c.do(ctx, http.MethodGet, "/healthz", nil, &h)
	return h, err
}

// Workstations lists; filters: state, group.
func (c *Client) Workstations(ctx context.Context, l List) (api.Page[api.Workstation], error) {
	return list[api.Workstation](ctx, c, "workstations", l)
}

// Workstation finds one by name or hardware address.
func (c *Client) Workstation(ctx context.Context, ref string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodGet, "workstations/"+url.PathEscape(ref), nil)
}

// RenameWorkstation gives a workstation another name.
func (c *Client) RenameWorkstation(ctx context.Context, ref, name string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPost, "workstations/"+url.PathEscape(ref)+"/rename", api.NewName{Name: name})
}

// Admit takes a newcomer into the roster.
func (c *Client) Admit(ctx context.Context, ref string, a api.Admission) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPost, "workstations/"+url.PathEscape(ref)+"/admit", a)
}

// NameAll names workstations by a pattern, or tells the names that they would get.
func (c *Client) NameAll(ctx context.Context, in api.NewNames) ([]api.Named, error) {
	return one[[]api.Named](ctx, c, http.MethodPost, "roster/names", in)
}

// NoteWorkstation replaces what is said of a workstation.
func (c *Client) NoteWorkstation(ctx context.Context, ref, note string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPut, "workstations/"+url.PathEscape(ref)+"/note", api.NewNote{Note: note})
}

// SetSite says at which outpost a workstation is; empty for none.
func (c *Client) SetSite(ctx context.Context, ref, outpost string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPut, "workstations/"+url.PathEscape(ref)+"/site", api.NewSite{Site: outpost})
}

// SetFields sets fields of a workstation; an empty value removes one.
func (c *Client) SetFields(ctx context.Context, ref string, fields map[string]string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPut, "workstations/"+url.PathEscape(ref)+"/fields", api.NewFields{Fields: fields})
}

// ImportRoster takes a table of workstations (CSV) into the roster; whole enters nothing if a
// row is in doubt.
func (c *Client) ImportRoster(ctx context.Context, table []byte, dryRun, whole bool) (api.Imported, error) {
	return one[api.Imported](ctx, c, http.MethodPost, fmt.Sprintf("roster?dry_run=%t&whole=%t", dryRun, whole), table)
}

// ExportRoster is the roster as a table, of a group if one is named.
func (c *Client) ExportRoster(ctx context.Context, group string) (table []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/roster"+List{Filter: map[string]string{"group": group}}.query(), nil, &table)
	return table, err
}

// Retire puts a workstation out of service.
func (c *Client) Retire(ctx context.Context, ref string) (api.Workstation, error) {
	return one[api.Workstation](ctx, c, http.MethodPost, "workstations/"+url.PathEscape(ref)+"/retire", nil)
}

// Groups lists.
func (c *Client) Groups(ctx context.Context, l List) (api.Page[api.Group], error) {
	return list[api.Group](ctx, c, "groups", l)
}

// AddGroup makes a group.
func (c *Client) AddGroup(ctx context.Context, in api.NewGroup) (api.Group, error) {
	return one[api.Group](ctx, c, http.MethodPost, "groups", in)
}

// SetGroupImage says what the workstations of a group should have: NAME, NAME@VERSION or nothing.
func (c *Client) SetGroupImage(ctx context.Context, group, image string) (api.Group, error) {
	return one[api.Group](ctx, c, http.MethodPut, "groups/"+url.PathEscape(group)+"/image", api.GroupImage{Image: image})
}

// RemoveGroup removes a group; its workstations stay.
func (c *Client) RemoveGroup(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/groups/"+url.PathEscape(name), nil, nil)
}

// Include puts workstations into a group, all or none.
func (c *Client) Include(ctx context.Context, group string, in api.GroupMembers) (api.Group, error) {
	return one[api.Group](ctx, c, http.MethodPost, "groups/"+url.PathEscape(group)+"/include", in)
}

// Exclude takes workstations out of a group, all or none.
func (c *Client) Exclude(ctx context.Context, group string, in api.GroupMembers) (api.Group, error) {
	return one[api.Group](ctx, c, http.MethodPost, "groups/"+url.PathEscape(group)+"/exclude", in)
}

// Images lists the newest version of each image.
func (c *Client) Images(ctx context.Context, l List) (api.Page[api.Version], error) {
	return list[api.Version](ctx, c, "images", l)
}

// Versions lists all versions of one image.
func (c *Client) Versions(ctx context.Context, image string) (api.Page[api.Version], error) {
	return list[api.Version](ctx, c, "images/"+url.PathEscape(image)+"/versions", List{})
}

// Version returns one version, NAME or NAME@NUMBER, with its areas.
func (c *Client) Version(ctx context.Context, ref string) (api.Version, error) {
	return one[api.Version](ctx, c, http.MethodGet, "versions/"+url.PathEscape(ref), nil)
}

// Capture asks a workstation to capture its disk.
func (c *Client) Capture(ctx context.Context, n api.NewCapture) (api.Errand, error) {
	return one[api.Errand](ctx, c, http.MethodPost, "captures", n)
}

// Errands lists in the order in which workstations get them; filters: workstation, open.
func (c *Client) Errands(ctx context.Context, l List) (api.Page[api.Errand], error) {
	return list[api.Errand](ctx, c, "errands", l)
}

// Errand tells how far an errand is.
func (c *Client) Errand(ctx context.Context, id int64) (api.Errand, error) {
	return one[api.Errand](ctx, c, http.MethodGet, fmt.Sprintf("errands/%d", id), nil)
}

// StopErrand takes an errand back.
func (c *Client) StopErrand(ctx context.Context, id int64) (api.Errand, error) {
	return one[api.Errand](ctx, c, http.MethodPost, fmt.Sprintf("errands/%d/stop", id), nil)
}

// PlanDelivery says what a delivery would do, and why it would be refused.
func (c *Client) PlanDelivery(ctx context.Context, n api.NewDelivery) (api.DeliveryPlan, error) {
	return one[api.DeliveryPlan](ctx, c, http.MethodPost, "deliveries/plan", n)
}

// Deliver orders a delivery.
func (c *Client) Deliver(ctx context.Context, n api.NewDelivery) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPost, "deliveries", n)
}

// Deliveries lists, the newest first; filter: open.
func (c *Client) Deliveries(ctx context.Context, l List) (api.Page[api.Delivery], error) {
	return list[api.Delivery](ctx, c, "deliveries", l)
}

// Delivery tells how far a delivery is, with its workstations.
func (c *Client) Delivery(ctx context.Context, id int64) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodGet, fmt.Sprintf("deliveries/%d", id), nil)
}

// Course tells what a delivery did over time.
func (c *Client) Course(ctx context.Context, id int64) (api.DeliveryCourse, error) {
	return one[api.DeliveryCourse](ctx, c, http.MethodGet, fmt.Sprintf("deliveries/%d/course", id), nil)
}

// PauseDelivery holds the stream of a delivery.
func (c *Client) PauseDelivery(ctx context.Context, id int64) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/pause", id), nil)
}

// ResumeDelivery lets it go on.
func (c *Client) ResumeDelivery(ctx context.Context, id int64) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/resume", id), nil)
}

// SetDeliveryRate slows a delivery down or speeds it up; the rate is in bits a second.
func (c *Client) SetDeliveryRate(ctx context.Context, id, rate int64) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPut, fmt.Sprintf("deliveries/%d/rate", id), api.NewRate{Rate: rate})
}

// ExtendDelivery brings a delivery to more groups and workstations.
func (c *Client) ExtendDelivery(ctx context.Context, id int64, in api.MoreTargets) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/workstations", id), in)
}

// StopDelivery stops a delivery for everyone who is not through.
func (c *Client) StopDelivery(ctx context.Context, id int64) (api.Delivery, error) {
	return one[api.Delivery](ctx, c, http.MethodPost, fmt.Sprintf("deliveries/%d/stop", id), nil)
}

// Receipts lists, the newest first; filters: delivery, workstation, image, outcome.
func (c *Client) Receipts(ctx context.Context, l List) (api.Page[api.Receipt], error) {
	return list[api.Receipt](ctx, c, "receipts", l)
}

// Receipt fetches one.
func (c *Client) Receipt(ctx context.Context, id int64) (api.Receipt, error) {
	return one[api.Receipt](ctx, c, http.MethodGet, fmt.Sprintf("receipts/%d", id), nil)
}

// Events calls event for each server-sent event until ctx ends, the service
// ends the stream (nil is returned), or event returns an error.
func (c *Client) Events(ctx context.Context, delivery int64, event func(kind string, data []byte) error) error {
	path := "/api/v1" + api.EventStream
	if delivery != 0 {
		path += fmt.Sprintf("?deliveries=%d", delivery)
	}
	resp, err := c.send(ctx, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	kind, data := "", ""
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case lines.Text() == "" && data != "":
			if err := event(kind, []byte(data)); err != nil {
				return err
			}
			kind, data = "", ""
		case field == "event":
			kind = value
		case field == "data":
			data += value
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return lines.Err()
}
