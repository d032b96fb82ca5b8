package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// SettingRef names a setting in a path.
type SettingRef struct {
	Name string `path:"setting" doc:"Its name" maxLength:"63" example:"unknown"`
}

func (s *Server) settingRoutes(h huma.API) {
	const tag = "settings"
	lists(s, h, op("GET", "/settings", "list-settings", tag, "List the settings that are in force"),
		func(context.Context, *Nothing) ([]api.Setting, int, error) { return uncut(s.Settings.List(), nil) })
	answers(s, h, op("GET", "/settings/{setting}", "get-setting", tag, "Show a setting"),
		func(_ context.Context, in *SettingRef) (api.Setting, error) { return s.Settings.Get(in.Name) })
	answers(s, h, op("PUT", "/settings/{setting}", "set-setting", tag, "Set a setting while the service runs"),
		func(ctx context.Context, in *struct {
			SettingRef
			Body api.SettingValues
		}) (api.Setting, error) {
			return s.Settings.Set(ctx, in.Name, in.Body.Values)
		})
	answers(s, h, op("DELETE", "/settings/{setting}", "unset-setting", tag, "Have a setting be what the service was started with"),
		func(ctx context.Context, in *SettingRef) (api.Setting, error) { return s.Settings.Unset(ctx, in.Name) })
}
