package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

func (s *Server) modelRoutes(h huma.API) {
	const tag = "models"
	lists(s, h, op("GET", "/models", "list-models", tag, "List models of machines"),
		func(ctx context.Context, _ *Nothing) ([]api.Model, int, error) { return uncut(s.Fleet.Models(ctx)) })
	answers(s, h, op("GET", "/model", "get-model", tag, "Show what is known of a model"),
		func(ctx context.Context, in *struct {
			Model string `query:"model" required:"true" doc:"Maker and model" maxLength:"400" example:"Alder Works A310"`
		}) (api.Model, error) {
			return s.Fleet.Model(ctx, in.Model)
		})
	answers(s, h, op("PUT", "/model", "set-model", tag, "Say what is known of a model"),
		func(ctx context.Context, in *struct{ Body api.NewModel }) (api.Model, error) {
			return s.Fleet.SetModel(ctx, in.Body)
		})
}
