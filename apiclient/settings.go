package apiclient

import (
	"context"
	"net/http"
	"net/url"

	"jugate/api"
)

func settingPath(name string) string { return "settings/" + url.PathEscape(name) }

// Settings lists the settings that are in force.
func (c *Client) Settings(ctx context.Context) (api.Page[api.Setting], error) {
	return list[api.Setting](ctx, c, "settings", List{})
}

// SetSetting sets a setting while the service runs.
func (c *Client) SetSetting(ctx context.Context, name string, values []string) (api.Setting, error) {
	return one[api.Setting](ctx, c, http.MethodPut, settingPath(name), api.SettingValues{Values: values})
}

// UnsetSetting has a setting be what the service was started with.
func (c *Client) UnsetSetting(ctx context.Context, name string) (api.Setting, error) {
	return one[api.Setting](ctx, c, http.MethodDelete, settingPath(name), nil)
}
