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

// BootEntries lists boot entries.
func (c *Client) BootEntries(ctx context.Context, l List) (api.Page[api.BootEntry], error) {
	return list[api.BootEntry](ctx, c, "boot-entries", l)
}

// BootEntry shows one.
func (c *Client) BootEntry(ctx context.Context, name string) (api.BootEntry, error) {
	return one[api.BootEntry](ctx, c, http.MethodGet, "boot-entries/"+url.PathEscape(name), nil)
}

// AddBootEntry takes what workstations can boot, as the next version of a boot entry. file is what it is called, and only a folder
// in it that is looked into.
func (c *Client) AddBootEntry(ctx context.Context, name, file, only string, content io.Reader) (api.BootEntry, error) {
	var out api.BootEntry
	resp, err := c.send(ctx, http.MethodPost, "/api/v1/boot-entries/"+url.PathEscape(name)+"/versions"+List{Filter: map[string]string{"file": file, "only": only}}.query(), content, nil)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

// SetBootEntry says for whom a boot entry is, and what it is told.
func (c *Client) SetBootEntry(ctx context.Context, name string, set api.BootEntrySettings) (api.BootEntry, error) {
	return one[api.BootEntry](ctx, c, http.MethodPut, "boot-entries/"+url.PathEscape(name), set)
}

// RemoveBootEntry removes a boot entry, or a version of it.
func (c *Client) RemoveBootEntry(ctx context.Context, name string, version int) error {
	path := "/api/v1/boot-entries/" + url.PathEscape(name)
	if version > 0 {
		path += "?entry_version=" + strconv.Itoa(version)
	}
	return c.do(ctx, http.MethodDelete, path, nil, nil)
}

// PreviewBootEntry shows what a workstation would be given with a boot entry.
func (c *Client) PreviewBootEntry(ctx context.Context, name string, of api.BootPreviewOf) (api.BootPreview, error) {
	return one[api.BootPreview](ctx, c, http.MethodPost, "boot-entries/"+url.PathEscape(name)+"/preview", of)
}

// ChooseBootEntry has workstations boot a boot entry in place of their disk, or not any more.
func (c *Client) ChooseBootEntry(ctx context.Context, in api.BootChoice) (api.BootChoiceMade, error) {
	return one[api.BootChoiceMade](ctx, c, http.MethodPost, "boot-choices", in)
}

// BootStarts lists starts of boot entries; filters are workstation and boot_entry.
func (c *Client) BootStarts(ctx context.Context, l List) (api.Page[api.BootStart], error) {
	return list[api.BootStart](ctx, c, "boot-starts", l)
}

// EntriesHere are the boot entries that may be started at the agent's workstation.
func (c *Client) EntriesHere(ctx context.Context) ([]api.BootEntryAt, error) {
	return agent[[]api.BootEntryAt](ctx, c, http.MethodGet, "boot-entries", nil)
}
