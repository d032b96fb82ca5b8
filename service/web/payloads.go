package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"jugate/api"
)

// PayloadUpload is a request whose body is a payload.
type PayloadUpload struct {
	Name string `query:"payload" required:"true" doc:"What it is called" minLength:"1" maxLength:"120" example:"scanner-tools_2.1_amd64.deb"`
	Note string `query:"note" doc:"What people should know of it" maxLength:"500" example:"for the herbarium"`
	Upload
}

func (s *Server) payloadRoutes(h huma.API) {
	const tag = "payloads"
	type payloadRef struct {
		Name string `path:"payload" doc:"Its name" maxLength:"120" example:"scanner-tools_2.1_amd64.deb"`
	}
	answers(s, h, uploaded(op("POST", "/payloads", "add-payload", tag, "Take a file that goes onto delivered systems")), func(ctx context.Context, in *PayloadUpload) (api.Payload, error) {
		return s.Stock.AddPayload(ctx, in.Name, in.Note, in.body)
	})
	lists(s, h, op("GET", "/payloads", "list-payloads", tag, "List payloads, by name"),
		func(ctx context.Context, _ *Nothing) ([]api.Payload, int, error) { return uncut(s.Stock.Payloads(ctx)) })
	answers(s, h, op("GET", "/payloads/{payload}", "get-payload", tag, "Show a payload"),
		func(ctx context.Context, in *payloadRef) (api.Payload, error) { return s.Stock.Payload(ctx, in.Name) })
	answers(s, h, op("POST", "/payload-errands", "install-payloads", tag, "Have workstations bring payloads onto the system that they have already"),
		func(ctx context.Context, in *struct{ Body api.InstallPayloads }) ([]api.Errand, error) {
			return s.Orders.InstallPayloads(ctx, in.Body)
		})
	does(s, h, op("DELETE", "/payloads/{payload}", "remove-payload", tag, "Remove a payload; systems that have it keep it"),
		func(ctx context.Context, in *payloadRef) error { return s.Stock.RemovePayload(ctx, in.Name) })
}

// getPayload gives an agent the content of a payload.
func (s *Server) getPayload(w http.ResponseWriter, r *http.Request) {
	f, err := s.Stock.PayloadContent(chi.URLParam(r, "digest"))
	s.serveFile(w, r, f, err)
}
