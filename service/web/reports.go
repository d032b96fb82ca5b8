package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

// Period is from when until when something is told.
type Period struct {
	Since time.Time `query:"since" doc:"From then on" example:"2026-03-01T00:00:00Z"`
	Until time.Time `query:"until" doc:"Before then; now by default" example:"2026-04-01T00:00:00Z"`
}

func (s *Server) reportRoutes(h huma.API) {
	const tag = "reports"
	lists(s, h, op(http.MethodGet, "/reports/rooms", "report-rooms", tag, "Tell which group has which versions on its disks, and who is behind"),
		func(ctx context.Context, _ *Nothing) ([]api.RoomReport, int, error) {
			return uncut(s.Reports.Rooms(ctx))
		})
	lists(s, h, op(http.MethodGet, "/reports/failures", "report-failures", tag, "Tell what the last checks of workstations did not find good"),
		func(ctx context.Context, in *Period) ([]api.FailureReport, int, error) {
			return uncut(s.Reports.Failures(ctx, in.Since, in.Until))
		})
	lists(s, h, op(http.MethodGet, "/reports/savings", "report-savings", tag, "Tell what multicast has saved, delivery by delivery"),
		func(ctx context.Context, in *Period) ([]api.SavingsReport, int, error) {
			return uncut(s.Reports.Savings(ctx, in.Since, in.Until))
		})
}
