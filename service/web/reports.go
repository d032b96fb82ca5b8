package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
	"jugate/service/stock"
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
	lists(s, h, op(http.MethodGet, "/reports/drivers", "report-drivers", tag, "Tell for each device of each model whether it has a driver"),
		func(ctx context.Context, in *struct {
			Image string `query:"image" doc:"Also in what this delivers: NAME or NAME@VERSION" maxLength:"80" example:"garden-desk@3"`
		}) ([]api.DriverReport, int, error) {
			c, err := s.Stock.Coverage(ctx, stock.CoverageQuery{Image: in.Image})
			return uncut(stock.Lines(c), err)
		})
	lists(s, h, op(http.MethodGet, "/reports/licences", "report-licences", tag, "Tell which workstations are given a product key, or join a domain"),
		func(ctx context.Context, _ *Nothing) ([]api.LicenceReport, int, error) {
			return uncut(s.Fleet.Licences(ctx))
		})
	lists(s, h, op(http.MethodGet, "/reports/savings", "report-savings", tag, "Tell what multicast and what was on disks already have saved, delivery by delivery"),
		func(ctx context.Context, in *Period) ([]api.SavingsReport, int, error) {
			return uncut(s.Reports.Savings(ctx, in.Since, in.Until))
		})
}
