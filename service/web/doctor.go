package web

import (
	"context"
	"io"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/stream"
)

func (s *Server) doctorRoutes(h huma.API) {
	const tag = "doctor"
	lists(s, h, op("GET", "/doctor", "diagnose-service", tag, "Look at the service, and tell what to do about what is wrong"),
		func(ctx context.Context, _ *Nothing) ([]api.Diagnosis, int, error) {
			return uncut(s.Doctor.Service(ctx))
		})
	lists(s, h, op("GET", "/workstations/{workstation}/doctor", "diagnose-workstation", tag, "Look why a workstation does not come up"),
		func(ctx context.Context, in *WorkstationRef) ([]api.Diagnosis, int, error) {
			return uncut(s.Doctor.Workstation(ctx, in.Ref))
		})
	answers(s, h, op("GET", "/doctor/multicast", "get-trial-channel", tag, "Tell where packets are sent that show how far multicast goes"),
		func(context.Context, *Nothing) (api.TrialChannel, error) { return s.Orders.TrialChannel(), nil })
	answers(s, h, op("POST", "/doctor/multicast", "send-trial", tag, "Send such packets, for who listens"),
		func(ctx context.Context, in *struct{ Body api.NewTrial }) (api.Trial, error) {
			return s.Orders.TrialFor(ctx, in.Body)
		})
	huma.Register(h, op("GET", "/doctor/bytes", "get-trial-bytes", tag, "Fetch bytes that nobody can compress"), func(_ context.Context, in *struct {
		Bytes int64 `query:"bytes" required:"true" minimum:"1" maximum:"1073741824" doc:"How many" example:"268435456"`
	}) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(c huma.Context) {
			c.SetHeader("Content-Type", "application/octet-stream")
			c.SetHeader("Content-Length", strconv.FormatInt(in.Bytes, 10))
			c.SetStatus(http.StatusOK)
			io.Copy(c.BodyWriter(), stream.TrialBytes(in.Bytes)) // whoever has gone has gone
		}}, nil
	})
}
