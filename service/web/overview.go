package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

func (s *Server) overviewRoutes(h huma.API) {
	answers(s, h, op(http.MethodGet, "/overview", "get-overview", "overview", "Tell what needs somebody now, what runs, what is next, and how each part of the service is"),
		func(ctx context.Context, _ *Nothing) (api.Overview, error) { return s.Overview.Show(ctx) })
	answers(s, h, op(http.MethodPost, "/parts/restart", "restart-part", "overview", "Begin a part of the service anew"),
		func(ctx context.Context, in *struct{ Body api.PartRef }) (api.PartState, error) {
			return s.Overview.Restart(ctx, in.Body.Part)
		})
}
